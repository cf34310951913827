//! The stack file: the recipe for a media.

use crate::{StickForm, keys};
use neat_answer::Dialect;
use neat_content::{Error, Result};
use neat_media::stick::Scheme;
use neat_service::SettingValue;
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::{BTreeMap, HashSet};

/// A recipe. Paths are relative to the file.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StackFile {
    /// The paths that it names, and where they stand.
    #[serde(skip)]
    #[schemars(skip)]
    pub(crate) inputs: Vec<keys::Input>,
    /// What a person calls it.
    #[serde(default)]
    pub title: String,
    /// The depot that `depot:` means: an http:// address, or a folder.
    pub depot: Option<String>,
    /// A public key: only depots and update packages that are signed with it are taken.
    pub signed_by: Option<String>,
    /// Updates that came from a depot whose index was signed, by their paths.
    #[serde(skip)]
    #[schemars(skip)]
    pub(crate) vouched_for: HashSet<String>,
    /// What it starts from; a media that only boots kernels may start from nothing.
    pub source: Option<SourceSection>,
    /// Catalogues of components, settings and profiles.
    #[serde(default)]
    pub catalogues: Vec<String>,
    /// Layouts of editions, tried before the built-in one.
    #[serde(default)]
    pub layouts: Vec<String>,
    /// Updates that go into the editions.
    #[serde(default)]
    pub update: Vec<UpdateSection>,
    /// Drivers that go into the editions and the setup environment.
    #[serde(default)]
    pub driver: Vec<DriverSection>,
    /// Components that go.
    pub remove: Option<RemoveSection>,
    /// How the system is set up.
    pub settings: Option<SettingsSection>,
    /// Applications that are installed when setup has ended.
    #[serde(default)]
    pub app: Vec<AppSection>,
    /// Files put on the media, into the editions or into the setup environment.
    #[serde(default)]
    pub place: Vec<PlaceSection>,
    /// An answer file.
    pub answer: Option<AnswerSection>,
    /// Many machines.
    #[serde(default)]
    pub variant: Vec<VariantSection>,
    /// A boot menu.
    pub menu: Option<MenuSection>,
    /// What comes out.
    pub media: MediaSection,
}

/// `[source]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SourceSection {
    /// ISO file or folder, or `depot:ID` for one from the depot.
    pub media: String,
    /// SHA-256 of the ISO file in hexadecimal, checked before anything else.
    pub sha256: Option<String>,
    /// Editions to keep, by name or number, in this order; without it all.
    #[serde(default, deserialize_with = "names_or_numbers")]
    #[schemars(with = "Vec<NameOrNumber>")]
    pub editions: Vec<String>,
    /// Another media, or an image file, whose systems this media's setup is to install.
    pub image_from: Option<String>,
}

/// Editions are named by text or by number.
#[derive(Deserialize, JsonSchema)]
#[serde(untagged)]
enum NameOrNumber {
    Name(String),
    Number(u32),
}

fn names_or_numbers<'de, D: serde::Deserializer<'de>>(
    deserializer: D,
) -> std::result::Result<Vec<String>, D::Error> {
    let values = Vec::<NameOrNumber>::deserialize(deserializer)?;
    Ok(values
        .into_iter()
        .map(|value| match value {
            NameOrNumber::Name(name) => name,
            NameOrNumber::Number(number) => number.to_string(),
        })
        .collect())
}

/// `media.compression`
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum CompressionValue {
    /// Stored as it is.
    None,
    /// Quickly.
    Fast,
    /// As small as possible.
    Max,
}

/// `media.file_limit`
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FileLimitValue {
    /// What FAT32 holds.
    Fat32,
}

/// `[[update]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct UpdateSection {
    /// A package, or a folder of them.
    pub from: String,
    /// Whether one that cannot go in does not stop the build.
    #[serde(default)]
    pub optional: bool,
}

/// `[[driver]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DriverSection {
    /// Folder, cabinet, zip file or self-extracting program.
    pub from: String,
    /// Where they go.
    #[serde(default = "into_system")]
    pub into: Vec<IntoValue>,
    /// Only these classes.
    #[serde(default)]
    pub classes: Vec<String>,
    /// Only drivers for the devices in this list.
    pub devices: Option<String>,
    /// Whether one that cannot go in does not stop the build.
    #[serde(default)]
    pub optional: bool,
}

fn into_system() -> Vec<IntoValue> {
    vec![IntoValue::System]
}

/// Where drivers go.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum IntoValue {
    /// The installed system.
    System,
    /// The setup environment.
    Setup,
}

/// `[remove]`
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RemoveSection {
    /// A profile of a catalogue.
    pub profile: Option<String>,
    /// Ids and patterns that go.
    #[serde(default)]
    pub components: Vec<String>,
    /// Ids and patterns that stay.
    #[serde(default)]
    pub keep: Vec<String>,
    /// Whether what needs a component goes with it.
    #[serde(default)]
    pub with_dependents: bool,
    /// Whether a component that must not go does not stop the build.
    #[serde(default)]
    pub optional: bool,
}

/// `[settings]`
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SettingsSection {
    /// Settings of catalogues.
    #[serde(default, rename = "use")]
    pub uses: Vec<String>,
    /// Registration texts.
    #[serde(default)]
    pub registry: Vec<String>,
    /// Single values.
    #[serde(default, rename = "value")]
    pub values: Vec<SettingValue>,
    /// Start types of services.
    #[serde(default)]
    pub services: BTreeMap<String, String>,
    /// Features that are switched on or off.
    #[serde(default)]
    pub features: BTreeMap<String, bool>,
    /// What the system says of the company.
    pub company: Option<CompanySection>,
    /// A picture for the desktop of new accounts.
    pub wallpaper: Option<String>,
    /// Languages of new accounts.
    pub languages: Option<LanguagesSection>,
}

/// `[settings.company]`
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CompanySection {
    /// Name.
    pub name: Option<String>,
    /// Model of the machine.
    pub model: Option<String>,
    /// Telephone of those who help.
    pub phone: Option<String>,
    /// When they are there.
    pub hours: Option<String>,
    /// Their page.
    pub url: Option<String>,
    /// A picture.
    pub logo: Option<String>,
}

/// `[settings.languages]`
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LanguagesSection {
    /// Language of the interface.
    #[serde(default)]
    pub interface: String,
    /// Language of regional forms.
    #[serde(default)]
    pub region: String,
    /// Keyboards, by the numbers that the registry has for them.
    #[serde(default)]
    pub keyboards: Vec<String>,
}

/// `[[app]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AppSection {
    /// The installer, a file; below `files` if that is given.
    pub installer: String,
    /// A folder that the installer needs around it.
    pub files: Option<String>,
    /// Its arguments, so that it asks nothing.
    #[serde(default)]
    pub arguments: String,
    /// When it runs.
    #[serde(default)]
    pub when: WhenValue,
}

/// When an application is installed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WhenValue {
    /// At the end of setup, before anybody signs in.
    #[default]
    SetupEnd,
    /// Once, when somebody signs in first.
    FirstSignIn,
}

/// `[[place]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PlaceSection {
    /// File or folder.
    pub from: String,
    /// `media:`, `system:` or `setup:`, and a path there.
    pub to: String,
    /// Whether files that are there may be replaced.
    #[serde(default)]
    pub replace: bool,
}

/// `[answer]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AnswerSection {
    /// An answer file in any dialect, or a model (`*.answer.toml`).
    pub file: Option<String>,
    /// The model itself.
    pub model: Option<neat_answer::Model>,
    /// Dialects that are written; without it `unattend` for a model, and its own for a file.
    #[serde(default)]
    pub dialects: Vec<Dialect>,
    /// Whether answer files that are there may be replaced.
    #[serde(default)]
    pub replace: bool,
}

/// `[[variant]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct VariantSection {
    /// A site list: a CSV with the columns `name` and any others, which `{column}` stands for in names and answers.
    pub sites: String,
    /// One media for all machines, which finds its answers by the machine's serial number (column `serial`) or, where
    /// that is empty, by nothing else.
    #[serde(default)]
    pub answers_only: bool,
}

/// `[menu]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MenuSection {
    /// Shown above the entries; without it the stack file's title.
    pub title: Option<String>,
    /// Id of the entry that is highlighted first.
    pub default: Option<String>,
    /// How long the menu waits, in seconds.
    #[serde(default = "default_timeout")]
    pub timeout_seconds: u32,
    /// `disk`, `default` or `wait`.
    #[serde(default)]
    pub on_timeout: OnTimeoutValue,
    /// Speed of the first serial port, to show the menu there too.
    pub serial_speed: Option<u32>,
    /// Folder with the BIOS loader and its modules; without it the places where Debian installs them.
    pub bios_loader: Option<String>,
    /// The UEFI loader, a `.efi` file; without it the place where Debian installs GRUB's.
    pub uefi_loader: Option<String>,
    /// Whether boot files that are there may be replaced.
    #[serde(default)]
    pub replace: bool,
    /// The entries.
    #[serde(default)]
    pub entry: Vec<EntrySection>,
}

const fn default_timeout() -> u32 {
    60
}

/// What happens when nobody chooses.
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum OnTimeoutValue {
    /// The hard disk is started.
    #[default]
    Disk,
    /// The default entry is started.
    Default,
    /// The menu waits.
    Wait,
}

/// `[[menu.entry]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct EntrySection {
    /// Short name, also of its folder on the media.
    pub id: String,
    /// What a person reads.
    pub title: String,
    /// The kernel.
    pub kernel: String,
    /// Initial RAM disks, in order.
    #[serde(default)]
    pub initrd: Vec<String>,
    /// The kernel's command line.
    #[serde(default)]
    pub options: String,
    /// An answer file for the installer that this entry starts.
    pub answer: Option<EntryAnswer>,
}

/// `answer` of a menu entry.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct EntryAnswer {
    /// The file; not needed when it is fetched by address.
    pub file: Option<String>,
    /// Where the installer finds it.
    #[serde(default)]
    pub at: AnswerPlace,
    /// Address it is fetched from, with `at = "address"`.
    pub address: Option<String>,
    /// The dialect that a model is written in.
    pub dialect: Option<Dialect>,
}

/// Where an installer finds its answers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AnswerPlace {
    /// In an initial RAM disk of its own, which every installer of its kind reads.
    #[default]
    Initrd,
    /// As a file in the system's own folder on the media.
    Media,
    /// As a file in the root of the media, by its usual name.
    Root,
    /// At an address on the kernel's command line.
    Address,
}

/// `[media]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MediaSection {
    /// The label; without it the source's.
    pub label: Option<String>,
    /// The ISO file to write.
    pub iso: Option<String>,
    /// The stick to write.
    pub stick: Option<StickSection>,
    /// Firmwares that the result is started with; the build fails when it does not come up.
    #[serde(default)]
    pub trial: Vec<TrialValue>,
    /// Who publishes it.
    pub publisher: Option<String>,
    /// Whether the file also starts as a disk.
    pub hybrid: Option<bool>,
    /// Boot code for the first block of such a disk.
    pub boot_code: Option<String>,
    /// Whether Rock Ridge attributes are written; without it, as the source has it.
    pub rock_ridge: Option<bool>,
    /// Compresses the image file with the systems anew; without it, it stays as it is.
    pub compression: Option<CompressionValue>,
    /// Splits the image file with the systems where it is larger than this file system holds.
    pub file_limit: Option<FileLimitValue>,
}

/// `media.stick`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StickSection {
    /// The image file to write.
    pub image: String,
    /// `gpt` or `mbr`.
    #[serde(default)]
    #[schemars(with = "SchemeValue")]
    pub scheme: Scheme,
    /// Its size, such as `8GB` or `7500MiB`; without it just large enough.
    pub size: Option<String>,
    /// Its label; without it the media's.
    pub label: Option<String>,
    /// How the files lie on it.
    #[serde(default)]
    pub form: StickForm,
    /// The boot manager that BIOS starts, by its name in the root.
    pub boot_manager: Option<String>,
}

/// `media.stick.scheme`
#[derive(JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[expect(dead_code, reason = "stands in the schema for the type of another crate")]
enum SchemeValue {
    /// GUID partition table.
    Gpt,
    /// Master boot record.
    Mbr,
}

/// `media.trial`
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TrialValue {
    /// SeaBIOS.
    Bios,
    /// OVMF.
    Uefi,
}

impl StackFile {
    /// Reads a stack file. Every key that is unknown or not built yet is an error that names it.
    pub fn parse(text: &str) -> Result<Self> {
        keys::check(text)?;
        let mut stack: Self = toml::from_str(text).map_err(|error| {
            let line = error.span().map_or(1, |span| keys::line_of(text, span.start));
            Error::request(
                format!("line {line}: {}", neat_content::plain_toml(error.message())),
                "`neatstack schema stack` says what may stand where, `neatstack draft MEDIA` writes an example",
            )
        })?;
        stack.inputs = keys::inputs(text);
        if stack.source.is_none() && stack.menu.is_none() {
            return Err(Error::request(
                "there is neither a [source] nor a [menu]",
                "say what the media starts from: [source] media = \"…\"",
            ));
        }
        if let Some(answer) = &stack.answer
            && answer.file.is_some() == answer.model.is_some()
        {
            return Err(Error::request(
                "[answer] needs one of `file` and `model`",
                "write file = \"bridge.answer.toml\", or the answers themselves below [answer.model]",
            ));
        }
        if stack.media.iso.is_none() && stack.media.stick.is_none() {
            return Err(Error::request(
                "[media] names neither an ISO file nor a stick",
                "write iso = \"out/media.iso\", stick = { image = \"out/media.img\" }, or both",
            ));
        }
        if stack.variant.len() > 1 {
            return Err(Error::request(
                "there are two [[variant]] sections",
                "put all machines into one site list",
            ));
        }
        Ok(stack)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_small_file_is_read_and_wrong_values_have_their_line() {
        let stack = StackFile::parse(
            "[source]\nmedia = \"a.iso\"\n[media]\niso = \"b.iso\"\n[menu]\non_timeout = \"wait\"\n",
        )
        .unwrap();
        assert_eq!(stack.menu.unwrap().timeout_seconds, 60);
        let error = StackFile::parse("[source]\nmedia = 7\n[media]\niso = \"b.iso\"\n").unwrap_err();
        assert!(error.to_string().starts_with("line 2: "), "{error}");
        let error = StackFile::parse("[media]\niso = \"b.iso\"\n").unwrap_err();
        assert!(error.to_string().contains("neither"), "{error}");
    }
}

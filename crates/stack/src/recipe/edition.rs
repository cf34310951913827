//! Sections of a stack file that change what is in editions, and files that are put somewhere.

use super::NameOrNumber;
use neat_service::SettingValue;
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;

/// `[[update]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct UpdateSection {
    /// A package, or a folder of them.
    #[schemars(extend("format" = "path"))]
    pub from: String,
    /// Whether one that cannot go in does not stop the build.
    #[serde(default)]
    pub optional: bool,
    /// Who installs a vendor's packages; without it whoever can.
    pub through: Option<ThroughValue>,
    /// Arguments of a vendor's program, so that it asks nothing; without them `/quiet /norestart`.
    pub arguments: Option<String>,
}

/// Who does what is not done to the edition itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ThroughValue {
    /// Setup, as the answer file tells it.
    Answers,
    /// The installed system, by the script at the end of setup.
    SetupEnd,
}

/// Where drivers are put.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum DriverThrough {
    /// Into the editions and the setup environment themselves.
    Edition,
    /// On the media, in a folder that the answer file names: setup itself takes them from there, and installs them.
    Answers,
}

/// `[[driver]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DriverSection {
    /// Folder, cabinet, zip file or self-extracting program.
    #[schemars(extend("format" = "path"))]
    pub from: String,
    /// Where they go.
    #[serde(default = "into_system")]
    pub into: Vec<IntoValue>,
    /// How they get there; one way or both.
    #[serde(default = "through_edition")]
    pub through: Vec<DriverThrough>,
    /// Only these classes.
    #[serde(default)]
    pub classes: Vec<String>,
    /// Only drivers for the devices in this list.
    #[schemars(extend("format" = "path"))]
    pub devices: Option<String>,
    /// Whether one that cannot go in does not stop the build.
    #[serde(default)]
    pub optional: bool,
}

fn into_system() -> Vec<IntoValue> {
    vec![IntoValue::System]
}

fn through_edition() -> Vec<DriverThrough> {
    vec![DriverThrough::Edition]
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
    #[schemars(extend("format" = "path"))]
    pub registry: Vec<String>,
    /// Single values.
    #[serde(default, rename = "value")]
    pub values: Vec<SettingValue>,
    /// Start types of services.
    #[serde(default)]
    pub services: BTreeMap<String, String>,
    /// Features that are switched on or off.
    #[serde(default)]
    pub features: BTreeMap<String, FeatureValue>,
    /// What the system says of the company.
    pub company: Option<CompanySection>,
    /// A picture for the desktop of new accounts.
    #[schemars(extend("format" = "path"))]
    pub wallpaper: Option<String>,
    /// Languages of new accounts.
    pub languages: Option<LanguagesSection>,
}

/// One of `settings.features`.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(untagged, expecting = "neither true nor false, nor { on = true, through = \"answers\" }")]
pub enum FeatureValue {
    /// It is switched in the edition.
    Switch(bool),
    /// Somebody else switches it.
    Handed(HandedFeature),
}

/// A feature that is not switched in the edition itself, because its content is not there.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HandedFeature {
    /// Whether it is on afterwards.
    pub on: bool,
    /// Who switches it.
    pub through: ThroughValue,
    /// The folder of the media with its content, such as `media:/sources/extras`; without it the system has it, or a package
    /// among `[[update]]` brings it.
    pub content: Option<String>,
}

impl FeatureValue {
    /// Whether the feature is on afterwards.
    pub const fn is_on(&self) -> bool {
        match self {
            Self::Switch(on) | Self::Handed(HandedFeature { on, .. }) => *on,
        }
    }
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
    #[schemars(extend("format" = "path"))]
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
    #[schemars(extend("format" = "path"))]
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

/// `[environment]`: the setup environment.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct EnvironmentSection {
    /// Which edition of its image file it is, by name or number, when only the environment is taken; without it the first.
    pub edition: Option<NameOrNumber>,
    /// `"prompt"`, or command lines that are run before the prompt, instead of what it starts now.
    pub start: Option<StartValue>,
    /// Room for files that are written while it runs: `32MiB` to `512MiB`.
    pub scratch: Option<String>,
    /// Keyboards, as numbers of eight digits.
    #[serde(default)]
    pub keyboards: Vec<String>,
    /// Language of the interface and of regional forms, where it has it.
    pub language: Option<String>,
    /// Its wallpaper.
    #[schemars(extend("format" = "path"))]
    pub wallpaper: Option<String>,
    /// Whether files that say what it starts may be replaced.
    #[serde(default)]
    pub replace: bool,
}

/// `environment.start`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(untagged, expecting = "neither \"prompt\" nor a list of command lines")]
pub enum StartValue {
    /// `prompt`.
    Word(String),
    /// Command lines.
    Lines(Vec<String>),
}

/// `[boot_store]`: the entries of the boot manager.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct BootStoreSection {
    /// New titles, by the former title or the number in the menu.
    #[serde(default)]
    pub titles: BTreeMap<String, String>,
    /// Entries to add.
    #[serde(default)]
    pub add: Vec<AddedEntry>,
    /// What is started when nobody chooses, by its title or its number in the menu.
    pub default: Option<NameOrNumber>,
    /// Seconds that the menu waits.
    pub timeout_seconds: Option<u32>,
    /// Whether its entries take what is signed for tests.
    pub test_signing: Option<bool>,
}

/// `[[boot_store.add]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AddedEntry {
    /// What the menu shows.
    pub title: String,
    /// The image file of a setup environment, which is put beside the media's own.
    #[schemars(extend("format" = "path"))]
    pub image: String,
    /// The entry that it is made after, by its title or its number in the menu; without it the one that is started when
    /// nobody chooses.
    pub like: Option<NameOrNumber>,
}

/// `[setup]`
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SetupSection {
    /// Whether setup asks which edition it is to install, whatever the media restricts it to; `false` brings back what an
    /// earlier build set aside for that.
    pub ask_edition: Option<bool>,
    /// Whether setup upgrades from every release; `false` brings back what an earlier build set aside for that.
    pub upgrade_any: Option<bool>,
}

/// `[[leave_out]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LeaveOutSection {
    /// `media:`, `system:` or `setup:`, and a path there; `*` and `?` stand for letters of a name, `**` for folders of any
    /// depth.
    pub paths: Vec<String>,
    /// Whether it does not matter when nothing fits.
    #[serde(default)]
    pub optional: bool,
    /// Whether also what is needed to start, or named by answers, goes.
    #[serde(default)]
    pub force: bool,
}

/// `[[place]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PlaceSection {
    /// File or folder.
    #[schemars(extend("format" = "path"))]
    pub from: String,
    /// `media:`, `system:` or `setup:`, and a path there.
    pub to: String,
    /// Whether files that are there may be replaced.
    #[serde(default)]
    pub replace: bool,
}

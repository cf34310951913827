//! Where an edition keeps its parts: data, not code.

use neat_content::{Advice, Error, Result};
use neat_image::Files;
use neat_registry::HiveRole;
use schemars::JsonSchema;
use serde::Deserialize;
use std::{collections::BTreeMap, path::Path};

/// The layout that install images have in common.
const COMMON: &str = include_str!("../layouts/common.toml");
/// Largest layout or catalogue that is read, in bytes.
pub(crate) const LARGEST_TEXT: u64 = 8 << 20;

/// A layout. Paths are from the edition's root, and `{root}` in them stands for the folder of the system. A section
/// that is not there means that such systems have nothing of the kind.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Layout {
    /// Version of this form, 1.
    pub format: u32,
    /// Name.
    pub name: String,
    /// The edition has this layout when this file is there.
    pub recognised_by: String,
    /// Files that the system does not start without; names may be patterns.
    #[serde(default)]
    pub needed: Vec<String>,
    /// Files of the hives, by the word of their role.
    #[serde(default)]
    pub hives: BTreeMap<String, String>,
    /// What the system says of itself.
    pub identity: Option<IdentityLayout>,
    /// What an installed system says of the machine it runs on.
    pub installed: Option<InstalledLayout>,
    /// Provisioned apps.
    pub apps: Option<AppsLayout>,
    /// Package records and optional features.
    pub packages: Option<PackagesLayout>,
    /// The store of what packages bring.
    pub store: Option<StoreLayout>,
    /// Driver packages.
    pub drivers: Option<DriversLayout>,
    /// Services.
    pub services: Option<KeyLayout>,
    /// Scheduled tasks.
    pub tasks: Option<TasksLayout>,
    /// Languages.
    pub languages: Option<LanguagesLayout>,
    /// Fonts.
    pub fonts: Option<FontsLayout>,
    /// Screensavers.
    pub screensavers: Option<EndingLayout>,
    /// Wallpapers.
    pub wallpapers: Option<FolderLayout>,
    /// Information about the company.
    pub company: Option<CompanyLayout>,
    /// Desktop of new accounts.
    pub desktop: Option<DesktopLayout>,
    /// Work that is done once on the installed system.
    pub run_once: Option<RunOnceLayout>,
    /// The setup environment.
    pub environment: Option<EnvironmentLayout>,
    /// The record of what builds did.
    pub record: Option<RecordLayout>,
}

/// `[environment]`: what the setup environment starts.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct EnvironmentLayout {
    /// The file that says what it starts; ours has a section `[LaunchApps]`, a program in each line.
    pub launcher: String,
    /// The program that comes first: it makes devices and the network ready.
    pub first: String,
    /// The program that shows a prompt.
    pub prompt: String,
    /// The file for the lines that are run before the prompt.
    pub script: String,
    /// The same file as the environment names it while it runs.
    pub script_when_running: String,
    /// Its wallpaper.
    pub wallpaper: String,
    /// The value with the size of its scratch space, in MiB.
    pub scratch: ValueLayout,
}

/// `[identity]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct IdentityLayout {
    /// Name of the element of the XML data that describes the system.
    pub element: String,
    /// Key with product, edition and version, in the hive of software.
    pub key: String,
    /// The architecture.
    pub architecture: ValueLayout,
}

/// `[installed]`: what tells the system of one machine from one that was made ready for many.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct InstalledLayout {
    /// The value that says in which state the system is.
    pub state: ValueLayout,
    /// What it says of one that was made ready for other machines.
    pub generalised: Vec<String>,
    /// The value that says where the system is while it runs; its letter stands for its own volume.
    pub running_root: ValueLayout,
    /// The machine's name.
    pub computer_name: ValueLayout,
    /// The domain that it belongs to.
    pub domain: ValueLayout,
    /// The number of this installation.
    pub machine_id: ValueLayout,
    /// Key with one key for each account that has signed in, in the hive of software.
    pub profiles: String,
    /// What the names of those of people begin with.
    pub of_people: String,
    /// Value with the folder of such an account.
    pub profile_path: String,
    /// Files that are there while an update is not finished.
    pub open_update_files: Vec<String>,
    /// Keys that are, in the hive of software.
    pub open_update_keys: Vec<String>,
    /// The file that memory is saved in.
    pub hibernation: String,
}

/// `[apps]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AppsLayout {
    /// Folder with one folder for each app.
    pub folder: String,
    /// Paths of manifests in an app's folder.
    pub manifests: Vec<String>,
    /// Keys with one key for each app, in the hive of software.
    pub keys: Vec<String>,
    /// Key for apps that must not come again.
    pub not_again: String,
}

/// `[store]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StoreLayout {
    /// Folder with a folder for each part: architecture, name, key, version, language and a number, with `_` between.
    pub folder: String,
    /// Folder with their manifests, which are named in the same way.
    pub manifests: String,
}

/// `[packages]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PackagesLayout {
    /// Folder of the records.
    pub folder: String,
    /// Ending of a record's name.
    pub ending: String,
    /// Key with one key for each package, in the hive of software.
    pub keys: String,
    /// Key of a package whose values are its features.
    pub features: String,
    /// Value of a feature that is on.
    pub on: u32,
    /// Value of a feature that is off.
    pub off: u32,
}

/// `[drivers]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DriversLayout {
    /// Folder with one folder for each driver package.
    pub store: String,
    /// Folder of copies of their INF files.
    pub inf: String,
    /// Folder for drivers that are put in.
    pub added: String,
    /// Key of the value with the folders in which drivers are searched, in the hive of software.
    pub search_key: String,
    /// That value.
    pub search_value: String,
    /// What it is when it is not there.
    pub search_default: String,
    /// Keys for a driver in the hive of the system; `{inf}` stands for the name of its INF file.
    pub database: Vec<String>,
}

/// A key.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct KeyLayout {
    /// Key with one key for each.
    pub keys: String,
}

/// `[tasks]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TasksLayout {
    /// Folder with the tasks' files.
    pub folder: String,
    /// Key with the same tree, in the hive of software.
    pub tree: String,
    /// Keys with one key for each task, by the id that its key in the tree says.
    pub details: Vec<String>,
}

/// `[languages]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LanguagesLayout {
    /// Folders in which folders are named after languages.
    pub folders: Vec<String>,
    /// Keys with one key for each language, in the hive of the system.
    pub keys: Vec<String>,
    /// The language of the system.
    pub system_default: ValueLayout,
    /// Values that set the language of the interface.
    pub interface: Vec<ValueLayout>,
    /// Values that set regional forms.
    pub region: Vec<ValueLayout>,
    /// Keys whose numbered values are keyboards.
    pub input: Vec<ValueLayout>,
}

impl LanguagesLayout {
    fn values(&self) -> impl Iterator<Item = &ValueLayout> {
        let lists = self.interface.iter().chain(&self.region).chain(&self.input);
        lists.chain([&self.system_default])
    }
}

/// A value of the registry.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ValueLayout {
    /// Word of the hive's role.
    pub hive: String,
    /// Key.
    pub key: String,
    /// Name of the value.
    #[serde(default)]
    pub value: String,
    /// `text`, `texts` or `number`.
    #[serde(default, rename = "type")]
    pub kind: String,
}

/// `[fonts]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct FontsLayout {
    /// Folder.
    pub folder: String,
    /// Key whose values name the files, in the hive of software.
    pub keys: String,
}

/// Files in a folder by their ending.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct EndingLayout {
    /// Folder.
    pub folder: String,
    /// Ending of the names.
    pub ending: String,
}

/// A folder.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct FolderLayout {
    /// Folder.
    pub folder: String,
}

/// `[company]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CompanyLayout {
    /// Key of its values, in the hive of software.
    pub key: String,
    /// The logo's file, without an ending.
    pub logo: String,
}

/// `[desktop]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DesktopLayout {
    /// Values that name the picture.
    pub wallpaper: Vec<ValueLayout>,
}

/// `[run_once]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RunOnceLayout {
    /// Folder on the media whose files setup copies to the root of the installed disk.
    pub media: String,
    /// That disk.
    pub disk: String,
    /// Script on the media that runs at the end of setup.
    pub setup_end: String,
    /// Key whose values run once at the first sign-in, in the hive of software.
    pub first_sign_in: String,
}

/// `[record]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RecordLayout {
    /// Path of the record.
    pub file: String,
}

impl Layout {
    /// Version of the form that is read.
    pub const FORMAT: u32 = 1;

    /// Reads a layout.
    pub fn parse(text: &str) -> Result<Self> {
        let layout: Self = parse_toml(text, Advice::LayoutSchema)?;
        if layout.format != Self::FORMAT {
            return Err(Error::Unsupported { what: format!("layout format {}", layout.format), offset: 0 });
        }
        for word in layout.hives.keys() {
            role(word)?;
        }
        let wallpaper = layout.desktop.iter().flat_map(|desktop| &desktop.wallpaper);
        for value in layout.languages.iter().flat_map(LanguagesLayout::values).chain(wallpaper) {
            role(&value.hive)?;
        }
        Ok(layout)
    }

    /// A section of this layout, which `what` needs.
    ///
    /// # Errors
    /// `Request` when the layout has no such section.
    pub fn section<'a, T>(&self, section: Option<&'a T>, word: &str, what: &str) -> Result<&'a T> {
        section.ok_or_else(|| {
            Error::request(
                format!("{what}: systems of the layout {} have nothing of the kind", self.name),
                format!("if they have, say in the layout's [{word}] where it lies"),
            )
        })
    }

    /// Reads the layout in a file.
    pub fn open(path: &Path) -> Result<Self> {
        read_text(path).and_then(|text| Self::parse(&text)).map_err(|error| error.within(path.display()))
    }

    /// The text of [`Self::common`], to begin another from.
    pub const fn common_text() -> &'static str {
        COMMON
    }

    /// The one that install images have in common.
    pub fn common() -> Result<Self> {
        Self::parse(COMMON)
    }

    /// The folder of the system in an edition of this layout; nothing if it has another layout. `said` is what the
    /// image file says that it is.
    pub fn root_in(&self, files: &Files, said: &str) -> Option<String> {
        let fits = |root: &str| files.find(&self.recognised_by.replace("{root}", root)).is_some();
        let said = said.trim_matches(['/', '\\']).replace('\\', "/");
        if !said.is_empty() && fits(&said) {
            return files.find(&said).map(|id| files.path(id));
        }
        let folders = files.entry(Files::ROOT).children().iter().map(|id| files.entry(*id).name.to_string());
        folders.into_iter().find(|name| fits(name))
    }
}

/// The role that a word means.
pub(crate) fn role(word: &str) -> Result<HiveRole> {
    HiveRole::ALL.into_iter().find(|role| role.word() == word).ok_or_else(|| {
        let words: Vec<&str> = HiveRole::ALL.iter().map(|role| role.word()).collect();
        Error::request(format!("{word:?} is no hive"), format!("the hives are {}", words.join(", ")))
    })
}

/// Text of a file of ours.
pub(crate) fn read_text(path: &Path) -> Result<String> {
    let bytes = neat_content::Content::from_path(path)?.to_vec(LARGEST_TEXT, "text")?;
    Ok(neat_content::Text::decode(&bytes).text)
}

/// Reads TOML; the error says the line, and where to see what may stand there.
pub(crate) fn parse_toml<T: serde::de::DeserializeOwned>(text: &str, schema: Advice) -> Result<T> {
    toml::from_str(text).map_err(|error| {
        let line =
            error.span().map_or(1, |span| text[..span.start.min(text.len())].matches('\n').count() + 1);
        Error::request(format!("line {line}: {}", neat_content::plain_toml(error.message())), schema)
    })
}

//! What is in an edition, found from the edition itself, with what catalogues add.

mod apps;
mod packages;
mod scan;
mod scans;
mod store;
mod weight;

pub(crate) use packages::identities;
pub(crate) use scan::{START_TYPES, boot_drivers};
pub use scans::Scans;
pub use weight::OtherFiles;
pub(crate) use weight::Together;

use crate::{Catalogue, Edition, Layout, pattern};
use neat_content::Result;
use neat_image::EntryId;
use neat_registry::HiveRole;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap, HashSet};

/// Sort of a component; its word is the first part of the component's id.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Category {
    /// App that every account gets.
    App,
    /// Optional feature.
    Feature,
    /// Package of the system.
    Package,
    /// Language.
    Language,
    /// Driver package.
    Driver,
    /// Service, or driver that is started like one.
    Service,
    /// Scheduled task.
    Task,
    /// Font.
    Font,
    /// Screensaver.
    Screensaver,
    /// Wallpaper.
    Wallpaper,
    /// What only a catalogue knows.
    Other,
}

impl Category {
    /// All of them, in the order in which they are shown.
    pub const ALL: [Self; 11] = [
        Self::App,
        Self::Feature,
        Self::Package,
        Self::Language,
        Self::Driver,
        Self::Service,
        Self::Task,
        Self::Font,
        Self::Screensaver,
        Self::Wallpaper,
        Self::Other,
    ];

    /// The word in ids.
    pub const fn word(self) -> &'static str {
        match self {
            Self::App => "app",
            Self::Feature => "feature",
            Self::Package => "package",
            Self::Language => "language",
            Self::Driver => "driver",
            Self::Service => "service",
            Self::Task => "task",
            Self::Font => "font",
            Self::Screensaver => "screensaver",
            Self::Wallpaper => "wallpaper",
            Self::Other => "other",
        }
    }

    /// The category of an id.
    pub fn of_id(id: &str) -> Self {
        let word = id.split('/').next().unwrap_or_default();
        Self::ALL.into_iter().find(|category| category.word() == word).unwrap_or(Self::Other)
    }

    /// Whether such a component cannot simply be put back once the system is installed.
    const fn is_gone_for_good(self) -> bool {
        matches!(self, Self::Feature | Self::Package | Self::Service)
    }
}

/// A component of an edition.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct Component {
    /// Id: category and name.
    pub id: String,
    /// What people call it.
    pub title: String,
    /// What it is for.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub description: String,
    /// What it is shown with.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub group: String,
    /// Version.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub version: String,
    /// How it is set: start type of a service, whether a feature is on.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub state: String,
    /// Ids that it needs.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<String>,
    /// Ids that need it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub needed_by: Vec<String>,
    /// What one should know before taking it out.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub caution: String,
    /// Why it must never go; empty if it may.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub required: String,
    /// Whether it cannot be put back after installation.
    pub gone_for_good: bool,
    /// Files.
    pub files: u64,
    /// Bytes on the installed disk that would go with it.
    pub bytes: u64,
    /// Bytes that would go from the image file.
    pub packed: u64,
    /// Files and folders that are its own.
    #[serde(skip)]
    pub(crate) entries: Vec<EntryId>,
    /// Keys that are its own.
    #[serde(skip)]
    pub(crate) keys: Vec<(HiveRole, String)>,
    /// Values that are its own.
    #[serde(skip)]
    pub(crate) values: Vec<(HiveRole, String, String)>,
}

/// What an edition holds.
#[derive(Clone, Debug, Default)]
pub struct Inventory {
    /// By id.
    pub components: BTreeMap<String, Component>,
    /// What was unusual.
    pub notes: Vec<String>,
    /// Files and folders that several components bring: they go when all of these do.
    pub(crate) held: Vec<(Vec<String>, Vec<EntryId>)>,
}

impl Inventory {
    /// Finds the components of an edition. `others` is what all editions of the image file have, this one or not: what
    /// others have at the same paths is taken to go too, and what they have elsewhere stays.
    pub fn of(edition: &Edition, catalogues: &[Catalogue], others: Option<&OtherFiles>) -> Result<Self> {
        let mut inventory = Self::unweighed(edition, catalogues)?;
        inventory.measure(edition, others);
        Ok(inventory)
    }

    /// The components of an edition without their sizes.
    pub fn unweighed(edition: &Edition, catalogues: &[Catalogue]) -> Result<Self> {
        let layout = edition.layout_for("an inventory")?;
        let mut inventory = Self::by_names(edition, &layout)?;
        scan::services(edition, &layout, &mut inventory);
        packages::scan(edition, &layout, &mut inventory)?;
        scan::drivers(edition, &layout, &mut inventory)?;
        Ok(inventory.finished(edition, catalogues))
    }

    /// The components that are known at once, by the names of files and folders: without services, packages and drivers,
    /// of which thousands of texts have to be read. Needs no hives ([`Edition::open_files`]). What needs what is not
    /// whole.
    pub fn early(edition: &Edition, catalogues: &[Catalogue]) -> Result<Self> {
        let layout = edition.layout_for("an inventory")?;
        Ok(Self::by_names(edition, &layout)?.finished(edition, catalogues))
    }

    fn by_names(edition: &Edition, layout: &Layout) -> Result<Self> {
        let mut inventory = Self::default();
        apps::scan(edition, layout, &mut inventory)?;
        scan::languages(edition, layout, &mut inventory);
        scan::tasks(edition, layout, &mut inventory);
        scan::fonts(edition, layout, &mut inventory);
        scan::screensavers(edition, layout, &mut inventory);
        scan::wallpapers(edition, layout, &mut inventory);
        Ok(inventory)
    }

    /// What was scanned, with what catalogues add and what follows from it.
    fn finished(mut self, edition: &Edition, catalogues: &[Catalogue]) -> Self {
        let system = edition.info.system.as_ref();
        let (product, language) =
            system.map_or(("", ""), |system| (&system.product, &system.default_language));
        if let Some(component) = self.components.get_mut(&format!("language/{}", slug(language))) {
            component.required = "it is the language that the edition starts with".into();
        }
        for catalogue in catalogues.iter().filter(|catalogue| catalogue.is_for(product)) {
            self.add_catalogue(edition, catalogue);
        }
        self.connect();
        self
    }

    /// The component with this id, made if it is not there.
    fn entry(&mut self, category: Category, name: &str) -> &mut Component {
        let id = format!("{}/{}", category.word(), slug(name));
        self.components.entry(id.clone()).or_insert_with(|| Component {
            id,
            title: name.to_owned(),
            gone_for_good: category.is_gone_for_good(),
            ..Component::default()
        })
    }

    fn add_catalogue(&mut self, edition: &Edition, catalogue: &Catalogue) {
        for known in &catalogue.components {
            let entries: Vec<EntryId> = known
                .files
                .iter()
                .flat_map(|path| pattern::find(&edition.files, &edition.place(path)))
                .collect();
            if !self.components.contains_key(&known.id) {
                if entries.is_empty() {
                    continue;
                }
                let component = Component {
                    id: known.id.clone(),
                    title: known.id.clone(),
                    gone_for_good: Category::of_id(&known.id).is_gone_for_good(),
                    ..Component::default()
                };
                self.components.insert(known.id.clone(), component);
            }
            let Some(component) = self.components.get_mut(&known.id) else { continue };
            let fill = |own: &mut String, text: &str| {
                if !text.is_empty() {
                    text.clone_into(own);
                }
            };
            fill(&mut component.title, &known.title);
            fill(&mut component.description, &known.description);
            fill(&mut component.group, &known.group);
            fill(&mut component.caution, &known.caution);
            fill(&mut component.required, &known.required);
            component.gone_for_good = known.gone_for_good.unwrap_or(component.gone_for_good);
            component.needs.extend(known.needs.iter().cloned());
            component.entries.extend(entries);
            for key in &known.keys {
                if let Ok((role, path)) = edition.locate(key)
                    && edition.hive(role).is_some_and(|hive| hive.find(&path).is_some())
                {
                    component.keys.push((role, path));
                }
            }
        }
    }

    /// Fills in who is needed by whom. What is needed and not there does not count.
    fn connect(&mut self) {
        let ids: HashSet<String> = self.components.keys().cloned().collect();
        let mut needed_by: HashMap<String, Vec<String>> = HashMap::new();
        for component in self.components.values_mut() {
            component.needs.retain(|need| ids.contains(need) && *need != component.id);
            component.needs.sort();
            component.needs.dedup();
            component.entries.sort();
            component.entries.dedup();
            component.keys.sort();
            component.keys.dedup();
            for need in &component.needs {
                needed_by.entry(need.clone()).or_default().push(component.id.clone());
            }
        }
        for (id, needed_by) in needed_by {
            if let Some(component) = self.components.get_mut(&id) {
                component.needed_by = needed_by;
            }
        }
    }
}

/// A name as it stands in ids: lower case, without spaces and slashes.
pub(crate) fn slug(name: &str) -> String {
    let mut out = String::new();
    for c in name.chars() {
        let c = if c.is_whitespace() || "\\/".contains(c) { '-' } else { c };
        out.extend(c.to_lowercase());
    }
    out
}

//! What goes into editions, read once however many editions get it.

use super::{
    DriverCache,
    handed::{self, VendorInput},
    version_of,
};
use crate::{
    change::Editor,
    recipe::{DriverSection, DriverThrough, IntoValue, PlaceSection, StackFile, UpdateSection},
    report::{DeviceSummary, Weight},
};
use neat_content::{Content, Error, Job, Meta, Result, Timestamp, Tree, nearest};
use neat_media::folder;
use neat_package::{Architecture, DriverSet, IfDamaged, Signing, Update, parse_devices};
use neat_registry::RegText;
use neat_service::{
    Catalogue, DriverChoice, Edition, Layout, PreparedDriver, PreparedDrivers, PreparedFiles, PreparedUpdate,
    Profile, RemovalRequest,
};
use std::{
    collections::BTreeSet,
    path::{Path, PathBuf},
    sync::Arc,
};

/// Largest list of devices or registration text, in bytes.
const LARGEST_TEXT: u64 = 64 << 20;

/// Drivers of one `[[driver]]`.
pub(super) struct DriverInput {
    pub into: Vec<IntoValue>,
    pub through: Vec<DriverThrough>,
    /// The file with the devices.
    list: Option<String>,
    set: DriverSet,
    choice: DriverChoice,
}

/// Files of one `[[place]]` that go into editions.
pub(super) struct PlaceInput {
    /// Whether they go into the systems, and not into the setup environment.
    pub in_system: bool,
    pub files: PreparedFiles,
    pub replace: bool,
    path: String,
    /// Name of the single file; nothing for a folder.
    single: Option<String>,
}

impl DriverInput {
    /// Whether its drivers are put there.
    pub(super) fn goes_into(&self, place: IntoValue) -> bool {
        self.through.contains(&DriverThrough::Edition) && self.into.contains(&place)
    }
}

impl PlaceInput {
    /// The folder that the files go into.
    pub(super) fn target(&self, edition: &Edition) -> String {
        let path = edition.place(&self.path);
        match &self.single {
            // The path of a file is its folder and its name.
            Some(_) if !self.path.is_empty() => {
                path.rsplit_once('/').map_or("", |(folder, _)| folder).to_owned()
            }
            _ => path,
        }
    }
}

/// Everything that goes into editions.
#[derive(Default)]
pub(super) struct Inputs {
    pub layouts: Vec<Arc<Layout>>,
    pub catalogues: Vec<Catalogue>,
    pub updates: Vec<PreparedUpdate>,
    /// Vendors' packages.
    pub vendors: Vec<VendorInput>,
    pub drivers: Vec<DriverInput>,
    pub remove: Option<RemovalRequest>,
    pub removal_is_optional: bool,
    pub profile_settings: Vec<String>,
    pub places: Vec<PlaceInput>,
    pub registry: Vec<(String, RegText)>,
    pub logo: Option<(String, Content)>,
    pub wallpaper: Option<(String, Content)>,
    cache: DriverCache,
}

impl Inputs {
    /// Reads what goes into the systems.
    pub(super) fn read(stack: &StackFile, editor: &mut Editor, job: &Job<'_>) -> Result<Self> {
        let mut inputs = Self::with_layouts(stack, editor)?;
        for path in &stack.catalogues {
            inputs.catalogues.push(Catalogue::open(&editor.local(path))?);
        }
        let mut updates = Vec::new();
        let mut own = |section: &UpdateSection, path: &Path, name: String| {
            // A damaged package stops the build even where it is optional: nobody can say what would be missing.
            let mut prepared = PreparedUpdate::new(Update::open(path)?, name, section.optional)?;
            prepared.from_folder = prepared.subject != section.from;
            updates.push(prepared);
            Ok(())
        };
        inputs.vendors = handed::read(stack, editor, job, &mut own)?;
        for prepared in updates.iter().filter(|prepared| !prepared.update.checked) {
            let (name, id) = (&prepared.subject, &prepared.update.section.id);
            editor.find(
                Weight::Note,
                format!("{name} ({id}) lists no digests of its files, so it cannot be checked for damage"),
                "have it made anew by its maker: packages of format 2 list them",
            );
        }
        inputs.updates = updates;
        inputs.read_drivers(stack, editor, IntoValue::System)?;
        inputs.read_places(stack, editor, true)?;
        if let Some(section) = &stack.remove {
            let mut request = RemovalRequest {
                remove: section.components.clone(),
                keep: section.keep.clone(),
                with_dependents: section.with_dependents,
            };
            if let Some(name) = &section.profile {
                let profile = inputs.profile(name)?.clone();
                request.remove.extend(profile.remove);
                request.keep.extend(profile.keep);
                inputs.profile_settings = profile.settings;
            }
            inputs.removal_is_optional = section.optional;
            inputs.remove = Some(request);
        }
        if let Some(settings) = &stack.settings {
            for name in &settings.registry {
                let bytes =
                    Content::from_path(&editor.local(name))?.to_vec(LARGEST_TEXT, "registration text")?;
                inputs
                    .registry
                    .push((name.clone(), RegText::read(&bytes).map_err(|error| error.within(name))?));
            }
            let picture = |path: &Option<String>| -> Result<Option<(String, Content)>> {
                let Some(path) = path else { return Ok(None) };
                let name = path.rsplit('/').next().unwrap_or(path).to_owned();
                Ok(Some((name, Content::from_path(&editor.local(path))?)))
            };
            inputs.logo = picture(&settings.company.as_ref().and_then(|company| company.logo.clone()))?;
            inputs.wallpaper = picture(&settings.wallpaper)?;
        }
        Ok(inputs)
    }

    /// Reads what goes into the setup environment.
    pub(super) fn for_setup(stack: &StackFile, editor: &mut Editor, _job: &Job<'_>) -> Result<Self> {
        let mut inputs = Self::with_layouts(stack, editor)?;
        inputs.read_drivers(stack, editor, IntoValue::Setup)?;
        inputs.read_places(stack, editor, false)?;
        Ok(inputs)
    }

    fn with_layouts(stack: &StackFile, editor: &Editor) -> Result<Self> {
        let mut inputs = Self::default();
        for path in &stack.layouts {
            inputs.layouts.push(Arc::new(Layout::open(&editor.local(path))?));
        }
        inputs.layouts.push(Arc::new(Layout::common()?));
        Ok(inputs)
    }

    fn profile(&self, name: &str) -> Result<&Profile> {
        let all = || self.catalogues.iter().flat_map(|catalogue| &catalogue.profiles);
        all().find(|(own, _)| *own == name).map(|(_, profile)| profile).ok_or_else(|| {
            let names: Vec<&str> = all().map(|(own, _)| own.as_str()).collect();
            let hint = match nearest(name, names.iter().copied()) {
                Some(near) => format!("did you mean {near:?}?"),
                None if names.is_empty() => "name the catalogue that has it in `catalogues`".into(),
                None => format!("the profiles are {}", names.join(", ")),
            };
            Error::request(format!("`remove.profile`: no catalogue has a profile {name:?}"), hint)
        })
    }

    pub(super) fn read_drivers(
        &mut self,
        stack: &StackFile,
        editor: &mut Editor,
        into: IntoValue,
    ) -> Result<()> {
        for section in stack.driver.iter().filter(|section| section.into.contains(&into)) {
            let DriverSection { from, into, through, classes, devices, optional } = section;
            let mut set = DriverSet::default();
            let damaged = if *optional { IfDamaged::LeaveOut } else { IfDamaged::Refuse };
            set.add(&editor.local(from), from.trim_end_matches('/'), damaged)?;
            for damage in &set.damaged {
                editor.find(
                    Weight::Problem,
                    format!("[[driver]] {from}: a pack is left out: {damage}"),
                    "get it again from its maker, or take it away",
                );
            }
            if set.drivers.is_empty() {
                let weight = if *optional { Weight::Note } else { Weight::Refused };
                editor.find(
                    weight,
                    format!("[[driver]] {from} holds no driver"),
                    "name a folder or pack with INF files",
                );
            }
            for note in &set.notes {
                editor.find(Weight::Note, note.clone(), "");
            }
            let list = devices.clone();
            let devices = match devices {
                Some(path) => {
                    let bytes =
                        Content::from_path(&editor.local(path))?.to_vec(LARGEST_TEXT, "list of devices")?;
                    let text = neat_content::Text::decode(&bytes).text;
                    Some(parse_devices(&text).map_err(|error| error.within(path))?)
                }
                None => None,
            };
            let choice =
                DriverChoice { classes: classes.clone(), devices, optional: *optional, today: editor.today };
            self.drivers.push(DriverInput {
                into: into.clone(),
                through: through.clone(),
                list,
                set,
                choice,
            });
        }
        Ok(())
    }

    fn read_places(&mut self, stack: &StackFile, editor: &Editor, in_system: bool) -> Result<()> {
        let prefix = if in_system { "system:" } else { "setup:" };
        for PlaceSection { from, to, replace } in &stack.place {
            let Some(path) = to.strip_prefix(prefix) else { continue };
            let parts: Vec<&str> = path.split(['/', '\\']).filter(|part| !part.is_empty()).collect();
            if parts.iter().any(|part| matches!(*part, "." | "..")) {
                return Err(Error::request(
                    format!("`place.to`: {to:?} leaves the edition"),
                    "write a path from the root of the disk, such as system:/Tools",
                ));
            }
            let mut path_text = parts.join("/");
            let local = editor.local(from);
            let (tree, single) = if local.is_dir() {
                (folder::read_tree(&local)?.0, None)
            } else {
                let own =
                    local.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
                let is_folder = path.ends_with(['/', '\\']) || parts.is_empty();
                if is_folder {
                    path_text =
                        if parts.is_empty() { own.clone() } else { format!("{}/{own}", parts.join("/")) };
                }
                let name = path_text.rsplit('/').next().unwrap_or(&own).to_owned();
                (single_file(&local, &name)?, Some(name))
            };
            let mut files_tree = tree;
            latest(&mut files_tree, editor);
            self.places.push(PlaceInput {
                in_system,
                files: PreparedFiles::new(&files_tree)?,
                replace: *replace,
                path: path_text,
                single,
            });
        }
        Ok(())
    }

    /// The drivers of a section for an edition.
    pub(super) fn prepared(
        &mut self,
        n: usize,
        edition: &Edition,
        job: &Job<'_>,
    ) -> Result<Arc<PreparedDrivers>> {
        self.prepared_for(n, edition.architecture(), version_of(edition), job)
    }

    /// The devices of all lists, and which driver serves each in systems of an architecture and version.
    pub(super) fn devices(
        &mut self,
        architecture: Option<Architecture>,
        version: Option<(u32, u32, u32)>,
        job: &Job<'_>,
    ) -> Result<Vec<DeviceSummary>> {
        let mut devices: Vec<DeviceSummary> = Vec::new();
        for section in &self.drivers {
            let Some(list) = section.list.as_ref().filter(|_| section.into.contains(&IntoValue::System))
            else {
                continue;
            };
            if devices.iter().any(|known| known.list == *list) {
                continue;
            }
            devices.extend(section.choice.devices.iter().flatten().map(|device| DeviceSummary {
                list: list.clone(),
                name: device.name.clone(),
                id: device.ids.first().cloned().unwrap_or_default(),
                driver: None,
            }));
        }
        // Whatever section a driver comes from, it serves the device.
        for n in 0..self.drivers.len() {
            if devices.is_empty() || !self.drivers[n].into.contains(&IntoValue::System) {
                continue;
            }
            let prepared = self.prepared_for(n, architecture, version, job)?;
            let goes_in: BTreeSet<String> = prepared.drivers.iter().map(PreparedDriver::subject).collect();
            let set = &self.drivers[n].set;
            let lists = self.drivers.iter().flat_map(|section| section.choice.devices.iter().flatten());
            for device in lists {
                let best = set.best_for(device, architecture.unwrap_or(Architecture::X64), version);
                let Some((best, _)) = best else { continue };
                let found = &set.drivers[best];
                let subject = format!("{}/{}", found.place, found.driver.path);
                let own = devices.iter_mut().filter(|own| Some(&own.id) == device.ids.first());
                for own in own.filter(|own| own.driver.is_none() && goes_in.contains(&subject)) {
                    own.driver = Some(subject.clone());
                }
            }
        }
        Ok(devices)
    }

    pub(super) fn prepared_for(
        &mut self,
        n: usize,
        architecture: Option<Architecture>,
        version: Option<(u32, u32, u32)>,
        job: &Job<'_>,
    ) -> Result<Arc<PreparedDrivers>> {
        let key = (n, architecture, version);
        if let Some(prepared) = self.cache.get(&key) {
            return Ok(Arc::clone(prepared));
        }
        let input = &self.drivers[n];
        let prepared = Arc::new(PreparedDrivers::new(&input.set, &input.choice, key.1, key.2, job)?);
        self.cache.insert(key, Arc::clone(&prepared));
        Ok(prepared)
    }

    /// Says which of the drivers that were made ready are not what was signed.
    pub(super) fn tell_altered(&self, editor: &mut Editor) {
        let drivers = self.cache.values().flat_map(|prepared| &prepared.drivers);
        let altered: BTreeSet<String> = drivers
            .filter(|driver| driver.signature().state == Signing::Altered)
            .filter_map(|driver| {
                Some(format!("driver {}: {}", driver.subject(), driver.signature().remark()?))
            })
            .collect();
        for message in altered {
            if editor.findings.iter().any(|own| own.message == message) {
                continue;
            }
            editor.find(
                Weight::Problem,
                message,
                "get it again from its maker: systems refuse what was changed",
            );
        }
    }
}

/// No file gets a time after the latest one that is allowed.
fn latest(tree: &mut Tree, editor: &Editor) {
    let ids: Vec<neat_content::NodeId> = tree.walk().map(|step| step.id).collect();
    for id in ids {
        let meta = editor.meta(tree.node(id).meta);
        tree.node_mut(id).meta = meta;
    }
}

fn single_file(path: &Path, name: &str) -> Result<Tree> {
    let metadata = std::fs::metadata(path).map_err(Error::io("examine", path))?;
    let meta = Meta::at(Timestamp::from_metadata(&metadata));
    let mut tree = Tree::new(meta);
    tree.put_file(name, Content::from_path(path)?, meta)?;
    Ok(tree)
}

/// The packages that `from` means: itself, or the files and unpacked updates in the folder, in the order of their names.
pub(crate) fn update_paths(path: &Path, name: &str) -> Result<Vec<(PathBuf, String)>> {
    if !path.is_dir() || path.join(neat_package::MANIFEST_NAME).exists() {
        return Ok(vec![(path.to_owned(), name.to_owned())]);
    }
    let entries = std::fs::read_dir(path).map_err(Error::io("list", path))?;
    let mut names = Vec::new();
    for entry in entries {
        let entry = entry.map_err(Error::io("list", path))?;
        let own = entry.file_name().to_string_lossy().into_owned();
        let full = entry.path();
        let lower = own.to_lowercase();
        let is_package = [".tar.zst", ".cab", ".msu", ".exe"].iter().any(|ending| lower.ends_with(ending));
        let is_unpacked = full.is_dir() && full.join(neat_package::MANIFEST_NAME).exists();
        if is_package || is_unpacked {
            names.push((full, format!("{}/{own}", name.trim_end_matches('/'))));
        }
    }
    if names.is_empty() {
        return Err(Error::request(
            format!("[[update]] {name} holds no update package"),
            "name a folder with packages (.update.tar.zst, .cab, .msu)",
        ));
    }
    names.sort();
    Ok(names)
}

//! Putting drivers in: which ones, and where the system and setup find them.

use crate::{Edition, Item, RecordedDriver, settings::bad_name};
use neat_content::{Content, Error, Job, NodeKind, Result, Timestamp};
use neat_image::{BlobDigest, Times, layout::ATTRIBUTE_ARCHIVE};
use neat_package::{Architecture, Driver, DriverSet, DriverSignature, FoundDriver, MachineDevice};
use neat_registry::{HiveRole, ValueKind, text_data};
use std::collections::BTreeSet;

/// Classes under the names that people use for them.
const CLASS_WORDS: [(&str, &[&str]); 8] = [
    ("storage", &["scsiadapter", "hdc", "diskdrive", "volume", "storage"]),
    ("network", &["net", "netclient", "nettrans", "netservice"]),
    ("usb", &["usb", "usbdevice"]),
    ("display", &["display", "monitor"]),
    ("sound", &["media", "audioendpoint", "audioprocessingobject"]),
    ("input", &["hidclass", "keyboard", "mouse"]),
    ("printer", &["printer", "printqueue"]),
    ("system", &["system", "processor", "firmware", "computer"]),
];

/// Which drivers of packs are wanted.
#[derive(Clone, Debug, Default)]
pub struct DriverChoice {
    /// Classes, as INF files write them or as people call them; none for all.
    pub classes: Vec<String>,
    /// Devices; none for all.
    pub devices: Option<Vec<MachineDevice>>,
    /// Whether what cannot go in does not stop the build.
    pub optional: bool,
    /// When certificates have to hold that nobody vouches for.
    pub today: Timestamp,
}

/// Whether a driver's class is one that was asked for.
pub fn is_class(wanted: &str, class: &str) -> bool {
    let (wanted, class) = (wanted.to_lowercase(), class.to_lowercase());
    let known = CLASS_WORDS.iter().find(|(word, _)| *word == wanted);
    wanted == class || known.is_some_and(|(_, classes)| classes.contains(&class.as_str()))
}

/// A file of a driver that goes in.
#[derive(Clone)]
struct DriverFile {
    /// Path in the folder of the driver.
    path: String,
    content: Content,
    digest: BlobDigest,
    times: Times,
}

/// A driver made ready to go in: its files are read once, however many editions get it.
pub struct PreparedDriver {
    found: FoundDriver,
    files: Vec<DriverFile>,
    signature: DriverSignature,
}

impl PreparedDriver {
    /// What its INF file says.
    pub fn driver(&self) -> &Driver {
        &self.found.driver
    }

    /// Where its INF file is: the pack and the path in it.
    pub fn subject(&self) -> String {
        format!("{}/{}", self.found.place, self.found.driver.path)
    }

    /// What its signature is worth, for the systems that it was sorted out for.
    pub const fn signature(&self) -> &DriverSignature {
        &self.signature
    }

    /// What a person has to know of its signature, to be added to other words; nothing where it is in order.
    pub fn signature_remark(&self) -> String {
        self.signature.remark().map_or_else(String::new, |remark| format!(", {remark}"))
    }

    /// Its files, by their paths in the folder of its INF file.
    pub fn files(&self) -> impl Iterator<Item = (&str, &Content)> {
        self.files.iter().map(|file| (file.path.as_str(), &file.content))
    }
}

/// Drivers of packs, sorted out for one architecture.
#[derive(Default)]
pub struct PreparedDrivers {
    /// Those that go in.
    pub drivers: Vec<PreparedDriver>,
    /// What was left out, and why.
    pub items: Vec<Item>,
}

impl PreparedDrivers {
    /// Sorts out the drivers of a set for systems of an architecture.
    pub fn new(
        set: &DriverSet,
        choice: &DriverChoice,
        architecture: Option<Architecture>,
        version: Option<(u32, u32, u32)>,
        job: &Job<'_>,
    ) -> Result<Self> {
        let mut prepared = Self::default();
        let superseded = set.superseded();
        let wanted: Option<BTreeSet<usize>> = choice.devices.as_ref().map(|devices| {
            let best = |device| set.best_for(device, architecture.unwrap_or(Architecture::X64), version);
            devices.iter().filter_map(best).map(|(n, _)| n).collect()
        });
        for (n, found) in set.drivers.iter().enumerate() {
            job.check()?;
            let driver = &found.driver;
            let subject = format!("{}/{}", found.place, driver.path);
            let serves = driver.architectures();
            if let Some(own) = architecture.filter(|own| !serves.is_empty() && !serves.contains(own)) {
                let list: Vec<&str> = serves.iter().map(|serves| serves.name()).collect();
                prepared.items.push(Item::skipped(
                    "driver",
                    subject,
                    format!("it is for {}, not for {}", list.join(", "), own.name()),
                ));
                continue;
            }
            if let Some(other) = superseded.get(&n) {
                let other = &set.drivers[*other];
                let same = other.driver.version == driver.version && other.driver.date == driver.date;
                let word = if same { "the same" } else { "newer" };
                prepared.items.push(Item::skipped(
                    "driver",
                    subject,
                    format!("{}/{} is {word}", other.place, other.driver.path),
                ));
                continue;
            }
            if !choice.classes.is_empty()
                && !choice.classes.iter().any(|class| is_class(class, &driver.class))
            {
                prepared.items.push(Item::skipped(
                    "driver",
                    subject,
                    format!("its class is {}", driver.class),
                ));
                continue;
            }
            if wanted.as_ref().is_some_and(|wanted| !wanted.contains(&n)) {
                prepared.items.push(Item::skipped("driver", subject, "no device of the list needs it"));
                continue;
            }
            match files_of(found, architecture)? {
                Ok(files) => {
                    let systems = architecture.map_or_else(|| driver.architectures(), |own| vec![own]);
                    let signature =
                        driver.signature(&found.pack.tree, &systems, (choice.today, None), job)?;
                    prepared.drivers.push(PreparedDriver { found: found.clone(), files, signature });
                }
                Err(why) => {
                    let item = Item { optional: choice.optional, ..Item::refused("driver", subject, why) };
                    prepared.items.push(item);
                }
            }
        }
        for (path, why) in &set.skipped {
            prepared.items.push(Item::skipped("driver", path, why));
        }
        Ok(prepared)
    }
}

/// The files of a driver, or why it cannot go in.
fn files_of(
    found: &FoundDriver,
    architecture: Option<Architecture>,
) -> Result<std::result::Result<Vec<DriverFile>, String>> {
    let driver = &found.driver;
    let tree = &found.pack.tree;
    let folder = driver.path.rsplit_once('/').map_or("", |(folder, _)| folder);
    let mut paths: BTreeSet<String> = [driver.path.clone()].into();
    for name in &driver.catalogues {
        let path = format!("{folder}/{name}");
        paths.extend(tree.find_ignoring_case(&path).map(|id| tree.path(id)));
    }
    let architectures = architecture.map_or_else(|| driver.architectures(), |own| vec![own]);
    for architecture in architectures {
        for file in driver.files(architecture, tree) {
            match file.found {
                Some(path) => drop(paths.insert(path)),
                None => {
                    return Ok(Err(format!(
                        "{} is missing, which line {} of the INF file wants",
                        file.path, file.line
                    )));
                }
            }
        }
    }
    let mut files = Vec::new();
    for path in paths {
        let Some(id) = tree.find(&path) else { continue };
        let node = tree.node(id);
        let NodeKind::File(content) = &node.kind else { continue };
        let inside = path.strip_prefix(folder).unwrap_or(&path).trim_start_matches('/').to_owned();
        let digest = digest_of(content)?;
        files.push(DriverFile {
            path: inside,
            content: content.clone(),
            digest,
            times: Times::at(node.meta.modified),
        });
    }
    Ok(Ok(files))
}

/// SHA-1 of content, as image files name it.
pub(crate) fn digest_of(content: &Content) -> Result<BlobDigest> {
    let mut hasher = neat_image::BlobHasher::default();
    content.for_each_block(1 << 20, &Job::silent(), &mut |block| {
        hasher.add(block);
        Ok(())
    })?;
    Ok(hasher.finish())
}

impl Edition {
    /// Puts drivers into the edition's folder for them, and names their folders where the system searches.
    pub fn add_drivers(&mut self, prepared: &[PreparedDriver]) -> Result<Vec<Item>> {
        let layout = self.layout_for("drivers")?;
        let layout = layout.section(layout.drivers.as_ref(), "drivers", "drivers")?;
        let mut items = Vec::new();
        let mut folders: Vec<String> = Vec::new();
        for driver in prepared {
            let info = &driver.found.driver;
            let stem = info.name().rsplit_once('.').map_or(info.name(), |(stem, _)| stem).to_lowercase();
            let subject = driver.subject();
            let known = self
                .record
                .drivers
                .iter()
                .find(|own| own.inf.eq_ignore_ascii_case(info.name()) && own.provider == info.provider);
            if let Some(known) = known
                && known.version == info.version_text()
                && known.date == info.date_text()
            {
                items.push(Item::skipped("driver", subject, "it is in the edition already"));
                continue;
            }
            // An older one of the same name makes room.
            let known = known.cloned();
            if let Some(known) = &known {
                if let Some(id) = self.files.find(&known.folder) {
                    self.remove(id);
                }
                self.record.drivers.retain(|own| own != known);
            }
            let mut folder = format!("{}/{stem}", layout.added);
            let mut count = 1;
            while self.files.find(&folder).is_some() {
                count += 1;
                folder = format!("{}/{stem}-{count}", layout.added);
            }
            let mut bytes = 0;
            for file in &driver.files {
                let id = self.put(
                    &format!("{folder}/{}", file.path),
                    &file.content,
                    file.digest,
                    Some(file.times),
                )?;
                self.files.entry_mut(id).attributes |= ATTRIBUTE_ARCHIVE;
                bytes += file.content.len() as i64;
            }
            folders.push(folder.clone());
            self.record.drivers.push(RecordedDriver {
                inf: info.name().to_owned(),
                class: info.class.clone(),
                version: info.version_text(),
                date: info.date_text(),
                provider: info.provider.clone(),
                folder,
            });
            let signed = driver.signature_remark();
            let instead = known.map_or_else(String::new, |known| format!(", instead of {}", known.version));
            items.push(Item::applied(
                "driver",
                subject,
                format!("{}, {}{instead}{signed}", info.class, info.version_text()),
                bytes,
            ));
        }
        self.search_in(&folders)?;
        Ok(items)
    }

    /// Names folders where the system searches for drivers.
    fn search_in(&mut self, folders: &[String]) -> Result<()> {
        if folders.is_empty() {
            return Ok(());
        }
        let layout = self.layout_for("drivers")?;
        let layout = layout.section(layout.drivers.as_ref(), "drivers", "drivers")?;
        let key = &layout.search_key;
        let Some(hive) = self.hive(HiveRole::Software) else {
            return Err(Error::request(
                format!(
                    "edition {} ({}) has no hive of software, in which the folders of drivers are named",
                    self.number,
                    self.name()
                ),
                "name a layout that says where it is",
            ));
        };
        let before = hive.text_at(key, &layout.search_value).filter(|text| !text.is_empty());
        let mut parts: Vec<String> =
            before.unwrap_or_else(|| layout.search_default.clone()).split(';').map(str::to_owned).collect();
        for folder in folders {
            let path = format!("%SystemDrive%\\{}", folder.replace('/', "\\"));
            if !parts.iter().any(|part| part.eq_ignore_ascii_case(&path)) {
                parts.push(path);
            }
        }
        let name = layout.search_value.clone();
        let hive = self.hive_mut(HiveRole::Software)?;
        let id = hive.create(key).map_err(|error| bad_name(key, error))?;
        hive.set(id, &name, ValueKind::EXPANDED, &text_data(&parts.join(";")))
            .map_err(|error| bad_name(key, error))?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::is_class;

    #[test]
    fn classes_have_the_names_of_people_too() {
        assert!(is_class("storage", "SCSIAdapter") && is_class("Net", "net") && is_class("network", "Net"));
        assert!(!is_class("usb", "Net") && !is_class("stor", "storage"));
    }
}

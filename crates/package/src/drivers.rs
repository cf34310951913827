//! The drivers of packs: which there are, which are skipped, which device gets which.

use crate::{Architecture, Driver, Limits, MachineDevice, Pack};
use neat_content::{Class, Content, NodeKind, Result, damage_apart};
use std::{collections::HashMap, path::Path, sync::Arc};

/// A driver and the pack it is in.
#[derive(Clone)]
pub struct FoundDriver {
    /// The driver.
    pub driver: Driver,
    /// Its pack.
    pub pack: Arc<Pack>,
    /// What the pack is called.
    pub place: String,
}

/// What packs hold.
#[derive(Default)]
pub struct DriverSet {
    /// Drivers, in the order of packs and paths.
    pub drivers: Vec<FoundDriver>,
    /// INF files that are no drivers, or cannot be read, and why.
    pub skipped: Vec<(String, String)>,
    /// What was unusual.
    pub notes: Vec<String>,
    /// Archives that are damaged, and how; only where that may be passed over.
    pub damaged: Vec<String>,
    /// How much is believed of the packs that are added.
    pub limits: Limits,
}

/// What becomes of an archive in a folder that is damaged. What the system refuses to read is an error always.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum IfDamaged {
    /// It is an error, as it is for an archive that was named itself.
    Refuse,
    /// It is left out, and said.
    LeaveOut,
}

impl DriverSet {
    /// Adds the drivers of a folder, cabinet, zip file or self-extracting program. Archives inside a folder are opened
    /// too.
    ///
    /// # Errors
    /// What the system refuses to read; a pack that is damaged, unless it may be left out.
    pub fn add(&mut self, path: &Path, name: &str, damaged: IfDamaged) -> Result<()> {
        match (damage_apart(Pack::open_with(path, &self.limits))?, damaged) {
            (Ok(pack), _) => self.add_pack(pack, name, 0, damaged),
            (Err(error), IfDamaged::LeaveOut) if error.class() != Class::BadRequest => {
                self.damaged.push(error.to_string());
                Ok(())
            }
            (Err(error), _) => Err(error),
        }
    }

    fn add_pack(&mut self, mut pack: Pack, name: &str, level: usize, damaged: IfDamaged) -> Result<()> {
        pack.expand_single(&self.limits)?;
        let pack = Arc::new(pack);
        self.notes.extend(pack.notes.iter().map(|note| format!("{name}: {note}")));
        let mut infs = Vec::new();
        let mut inner = Vec::new();
        for step in pack.tree.walk() {
            let node = pack.tree.node(step.id);
            let NodeKind::File(content) = &node.kind else { continue };
            let lower = step.path.to_lowercase();
            if lower.ends_with(".inf") && !lower.ends_with("autorun.inf") {
                infs.push((step.path, content.clone()));
            } else if level < self.limits.nested
                && [".cab", ".zip", ".exe"].iter().any(|ending| lower.ends_with(ending))
            {
                inner.push((step.path, content.clone(), node.meta.modified));
            }
        }
        let folder =
            |path: &str| path.rsplit_once('/').map_or(String::new(), |(folder, _)| format!("{folder}/"));
        let with_drivers: Vec<String> = infs.iter().map(|(path, _)| folder(path)).collect();
        for (path, content) in infs {
            let shown = format!("{name}/{path}");
            match damage_apart(read(&path, &content))? {
                Ok(driver) => {
                    let pack = Arc::clone(&pack);
                    self.drivers.push(FoundDriver { driver, pack, place: name.to_owned() });
                }
                Err(error) => self.skipped.push((shown, error.to_string())),
            }
        }
        // Beside INF files and below, archives and programs are what drivers install.
        for (path, content, modified) in inner {
            if with_drivers.iter().any(|folder| path.starts_with(folder.as_str())) {
                continue;
            }
            let place = format!("{name}/{path}");
            if !Pack::is_one(&path, &content)? {
                self.notes
                    .push(format!("{place} is an archive or program of another kind and is not looked into"));
                continue;
            }
            match (damage_apart(Pack::of_content_with(&content, modified, &self.limits))?, damaged) {
                (Ok(pack), _) => self.add_pack(pack, &place, level + 1, damaged)?,
                (Err(error), IfDamaged::LeaveOut) => self.damaged.push(error.within(&place).to_string()),
                (Err(error), IfDamaged::Refuse) => return Err(error.within(&place)),
            }
        }
        Ok(())
    }

    /// Numbers of the drivers that are older than, or the same as, another with the same INF name, class and provider,
    /// and that other's number.
    pub fn superseded(&self) -> HashMap<usize, usize> {
        let mut best: HashMap<(String, String, String, Vec<Architecture>), usize> = HashMap::new();
        let mut out = HashMap::new();
        for (n, found) in self.drivers.iter().enumerate() {
            let driver = &found.driver;
            let key = (
                driver.name().to_lowercase(),
                driver.class.to_lowercase(),
                driver.provider.to_lowercase(),
                driver.architectures(),
            );
            match best.get(&key) {
                None => {
                    best.insert(key, n);
                }
                Some(other) if driver.is_newer_than(&self.drivers[*other].driver) => {
                    out.insert(*other, n);
                    best.insert(key, n);
                }
                Some(other) => {
                    out.insert(n, *other);
                }
            }
        }
        out
    }

    /// The driver that a system of this architecture and version would take for a device: the one for its most
    /// specific id, of several the newest; and the id.
    pub fn best_for(
        &self,
        device: &MachineDevice,
        architecture: Architecture,
        version: Option<(u32, u32, u32)>,
    ) -> Option<(usize, String)> {
        let mut best: Option<(usize, usize, bool)> = None;
        for (n, found) in self.drivers.iter().enumerate() {
            for served in found.driver.devices_for(architecture, version) {
                let hardware = std::iter::once((&served.hardware_id, false));
                let compatible = served.compatible_ids.iter().map(|id| (id, true));
                for (id, is_compatible) in hardware.chain(compatible) {
                    let Some(rank) = device.ids.iter().position(|own| own.eq_ignore_ascii_case(id)) else {
                        continue;
                    };
                    let better = match best {
                        None => true,
                        Some((other, other_rank, other_compatible)) => {
                            (rank, is_compatible) < (other_rank, other_compatible)
                                || (rank, is_compatible) == (other_rank, other_compatible)
                                    && found.driver.is_newer_than(&self.drivers[other].driver)
                        }
                    };
                    if better {
                        best = Some((n, rank, is_compatible));
                    }
                }
            }
        }
        best.map(|(n, rank, _)| (n, device.ids[rank].clone()))
    }
}

fn read(path: &str, content: &Content) -> Result<Driver> {
    Driver::read(path, &content.to_vec(crate::inf::LARGEST, "INF file")?)
}

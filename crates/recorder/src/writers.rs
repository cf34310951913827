//! The writers of this machine, from sysfs.

use crate::{Disc, Unit, guard, kernel::KernelWriter, simulated::SimulatedWriter};
use neat_content::{Error, Result};
use serde::Serialize;
use std::{
    fs,
    path::{Path, PathBuf},
};

/// A writer, and what lies in it.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Writer {
    /// Where it is, as in `/dev/sr0`; the file that describes a simulated one.
    pub path: PathBuf,
    /// Maker and model.
    pub model: String,
    /// Serial number; empty where it has none.
    pub serial: String,
    /// What is to be given for writing or erasing.
    pub word: String,
    /// Where its disc is mounted.
    pub mounted: Vec<String>,
    /// The disc in it.
    pub disc: Option<Disc>,
    /// Why it could not be asked, or its disc not be used.
    pub trouble: Option<String>,
}

/// All drives for discs of the machine, in the order of their names.
///
/// # Errors
/// `Io` when the kernel does not tell.
pub fn list(sys: &Path, proc: &Path, dev: &Path) -> Result<Vec<Writer>> {
    let folder = sys.join("block");
    let entries = fs::read_dir(&folder).map_err(Error::io("read the folder", &folder))?;
    let mut names: Vec<String> =
        entries.flatten().map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
    names.retain(|name| name.starts_with("sr"));
    names.sort();
    let look = |name: &String| {
        let path = dev.join(name);
        let mounted = mounted(proc, &path);
        let writer = match KernelWriter::open(&path, false) {
            Ok(mut device) => look_at(&path, &mut Unit::new(&mut device)),
            Err(error) => Err(error),
        };
        let line = |file: &str| fs::read_to_string(sys.join("block").join(name).join("device").join(file));
        let model = || {
            let parts = ["vendor", "model"].map(|file| line(file).unwrap_or_default().trim().to_owned());
            parts.join(" ").trim().to_owned()
        };
        match writer {
            Ok(writer) => Writer { mounted, ..writer },
            Err(error) => Writer {
                path,
                model: model(),
                serial: String::new(),
                word: String::new(),
                mounted,
                disc: None,
                trouble: Some(error.to_string()),
            },
        }
    };
    Ok(names.iter().map(look).collect())
}

/// A simulated writer.
///
/// # Errors
/// Those of its description.
pub fn simulated(path: &Path) -> Result<Writer> {
    let mut device = SimulatedWriter::open(path)?;
    look_at(path, &mut Unit::new(&mut device))
}

/// Asks a writer what it is and what lies in it.
///
/// # Errors
/// What the system refuses, and for what is no drive for discs.
pub fn look_at(path: &Path, unit: &mut Unit<'_>) -> Result<Writer> {
    let identity = unit.identity()?;
    let (disc, trouble) = match Disc::in_writer(unit) {
        Ok(disc) => (disc, None),
        Err(error) => (None, Some(error.to_string())),
    };
    Ok(Writer {
        path: path.to_owned(),
        word: guard::word(&identity).to_owned(),
        model: identity.model,
        serial: identity.serial,
        mounted: Vec::new(),
        disc,
        trouble,
    })
}

/// Where a device is mounted.
pub fn mounted(proc: &Path, device: &Path) -> Vec<String> {
    let device = device.to_string_lossy();
    let mounts = fs::read_to_string(proc.join("self/mounts")).unwrap_or_default();
    let of_device = |line: &str| {
        let mut words = line.split(' ');
        (words.next() == Some(device.as_ref())).then(|| words.next().unwrap_or_default().to_owned())
    };
    mounts.lines().filter_map(of_device).collect()
}

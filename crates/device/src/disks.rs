//! The disks of this machine, from sysfs: what they are, how large, what is on them, whether they are in use.

use crate::simulated;
use neat_content::{Error, Result, Source};
use neat_media::{disk, stick};
use serde::Serialize;
use std::{
    collections::BTreeSet,
    fs,
    path::{Path, PathBuf},
};

/// Bytes of a block where nobody says otherwise; the only size that sticks of ours have.
pub const BLOCK_LEN: u64 = 512;

/// Where the kernel tells of its disks.
#[derive(Clone, Debug)]
pub struct Places {
    /// Usually `/sys`.
    pub sys: PathBuf,
    /// Usually `/proc`.
    pub proc: PathBuf,
    /// Usually `/dev`.
    pub dev: PathBuf,
    /// Usually `/run/udev/data`.
    pub udev: PathBuf,
}

impl Default for Places {
    fn default() -> Self {
        Self { sys: "/sys".into(), proc: "/proc".into(), dev: "/dev".into(), udev: "/run/udev/data".into() }
    }
}

/// A disk.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Disk {
    /// Where it is, as in `/dev/sdb`; the name of a simulated one.
    pub path: PathBuf,
    /// Maker and model.
    pub model: String,
    /// Serial number; empty where it has none.
    pub serial: String,
    /// Bytes.
    pub size: u64,
    /// Bytes of a block; what is smaller cannot be written.
    pub block_len: u64,
    /// Whether it can be taken out: removable, or at a USB port.
    pub removable: bool,
    /// How it is attached: `usb`, `mmc`, `nvme`, `sata`, …; empty where that is not known.
    pub bus: String,
    /// Where it, or part of it, is mounted.
    pub mounted: Vec<String>,
    /// What else uses it: swap, other devices made of it.
    pub used_by: Vec<String>,
    /// Whether the running system lies on it.
    pub system: bool,
    /// Whether it cannot be written.
    pub read_only: bool,
    /// What is on it, in words; empty where that could not be read.
    pub content: String,
}

fn read_line(path: &Path) -> String {
    fs::read_to_string(path).unwrap_or_default().trim().to_owned()
}

/// All disks of the machine, those that can be taken out first.
///
/// # Errors
/// `Io` when the kernel does not tell.
pub fn list(places: &Places) -> Result<Vec<Disk>> {
    let folder = places.sys.join("block");
    let entries = fs::read_dir(&folder).map_err(Error::io("read the folder", &folder))?;
    let mounts = mounts(places);
    let swaps: Vec<String> = fs::read_to_string(places.proc.join("swaps"))
        .unwrap_or_default()
        .lines()
        .skip(1)
        .filter_map(|line| line.split_whitespace().next().map(str::to_owned))
        .collect();
    let mut disks = Vec::new();
    for entry in entries.flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let is_made =
            ["loop", "ram", "zram", "dm-", "md", "sr", "fd", "nbd"].iter().any(|kind| name.starts_with(kind));
        let block = entry.path();
        let size = read_line(&block.join("size")).parse::<u64>().unwrap_or(0) * 512;
        if !is_made && size > 0 {
            disks.push(disk_of(places, &name, &block, size, &mounts, &swaps));
        }
    }
    disks.sort_by(|a, b| (!a.removable, &a.path).cmp(&(!b.removable, &b.path)));
    Ok(disks)
}

/// A mount: device number, source, place.
struct Mount {
    number: String,
    source: String,
    place: String,
}

fn mounts(places: &Places) -> Vec<Mount> {
    // proc(5): id, parent, major:minor, root, place, options, …, "-", type, source.
    let text = fs::read_to_string(places.proc.join("self/mountinfo")).unwrap_or_default();
    text.lines()
        .filter_map(|line| {
            let (front, back) = line.split_once(" - ")?;
            let mut words = front.split(' ');
            let number = words.nth(2)?.to_owned();
            let place = unescape(words.nth(1)?);
            let source = unescape(back.split(' ').nth(1)?);
            Some(Mount { number, source, place })
        })
        .collect()
}

/// Octal escapes of spaces and the like (proc(5)).
fn unescape(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some((front, back)) = rest.split_once('\\') {
        out.push_str(front);
        if let Some(byte) = back.get(..3).and_then(|digits| u8::from_str_radix(digits, 8).ok()) {
            out.push(char::from(byte));
            rest = &back[3..];
        } else {
            out.push('\\');
            rest = back;
        }
    }
    out + rest
}

/// A device, its partitions, and all that is made of them: kernel names and numbers.
fn family(block: &Path, name: &str) -> Vec<(String, String)> {
    let mut found: Vec<(String, String)> = vec![(name.to_owned(), read_line(&block.join("dev")))];
    let mut folders = vec![block.to_owned()];
    let mut seen: BTreeSet<PathBuf> = BTreeSet::new();
    while let Some(folder) = folders.pop() {
        if !seen.insert(fs::canonicalize(&folder).unwrap_or(folder.clone())) {
            continue;
        }
        for inside in [folder.clone(), folder.join("holders")] {
            for entry in fs::read_dir(&inside).into_iter().flatten().flatten() {
                let path = entry.path();
                let is_holder = inside != folder;
                if path.join("dev").is_file() && (is_holder || path.join("partition").is_file()) {
                    let name = entry.file_name().to_string_lossy().into_owned();
                    found.push((name, read_line(&path.join("dev"))));
                    folders.push(path);
                }
            }
        }
    }
    found
}

fn disk_of(places: &Places, name: &str, block: &Path, size: u64, mounts: &[Mount], swaps: &[String]) -> Disk {
    let path = places.dev.join(name);
    let family = family(block, name);
    let is_own = |number: &str, source: &str| {
        family
            .iter()
            .any(|(name, own)| !own.is_empty() && own == number || Path::new(source) == places.dev.join(name))
    };
    let mounted: BTreeSet<String> = mounts
        .iter()
        .filter(|mount| is_own(&mount.number, &mount.source))
        .map(|mount| mount.place.clone())
        .collect();
    let mut used_by: Vec<String> =
        swaps.iter().filter(|swap| is_own("", swap)).map(|swap| format!("swap {swap}")).collect();
    let partitions = |name: &String| block.join(name).join("partition").is_file();
    used_by.extend(family.iter().skip(1).map(|(name, _)| name).filter(|name| !partitions(name)).cloned());
    let device = fs::canonicalize(block.join("device")).unwrap_or_else(|_| block.join("device"));
    let usb = ancestors(&device).find(|folder| folder.join("idVendor").is_file());
    let words = [read_line(&device.join("vendor")), read_line(&device.join("model"))];
    let mut model = words.join(" ").trim().to_owned();
    if model.is_empty() {
        model = read_line(&device.join("name"));
    }
    let mut serial = usb.as_ref().map(|usb| read_line(&usb.join("serial"))).unwrap_or_default();
    if serial.is_empty() {
        serial = read_line(&device.join("serial"));
    }
    if serial.is_empty() {
        serial = udev_serial(places, &read_line(&block.join("dev")));
    }
    let bus = if usb.is_some() {
        "usb"
    } else if name.starts_with("mmcblk") {
        "mmc"
    } else if name.starts_with("nvme") {
        "nvme"
    } else if name.starts_with("vd") {
        "virtio"
    } else if name.starts_with("sd") {
        "sata"
    } else {
        ""
    };
    let system = mounted
        .iter()
        .any(|place| ["/", "/boot", "/boot/efi", "/usr", "/var", "/home"].contains(&place.as_str()));
    Disk {
        content: content(&path),
        path,
        model,
        serial,
        size,
        block_len: read_line(&block.join("queue/logical_block_size")).parse().unwrap_or(BLOCK_LEN),
        removable: read_line(&block.join("removable")) == "1" || usb.is_some(),
        bus: bus.into(),
        mounted: mounted.into_iter().collect(),
        used_by,
        system,
        read_only: read_line(&block.join("ro")) == "1",
    }
}

fn ancestors(path: &Path) -> impl Iterator<Item = PathBuf> + '_ {
    path.ancestors().map(Path::to_owned)
}

/// What udev found out, where it runs.
fn udev_serial(places: &Places, number: &str) -> String {
    let text = fs::read_to_string(places.udev.join(format!("b{number}"))).unwrap_or_default();
    let value = |key: &str| text.lines().find_map(|line| line.strip_prefix("E:")?.strip_prefix(key));
    value("ID_SERIAL_SHORT=").or_else(|| value("ID_SERIAL=")).unwrap_or_default().to_owned()
}

/// What is on a disk, in words.
fn content(path: &Path) -> String {
    let Ok(source) = Source::open(path) else { return String::new() };
    let table = match disk::read(&source, None) {
        Ok(table) => table,
        Err(error) if error.class() == neat_content::Class::Io => return String::new(),
        Err(_) => return "a damaged partition table".into(),
    };
    let volume = stick::read::volume_extent(&source).ok().flatten();
    let what = match table {
        Some(table) => {
            let kinds: Vec<&str> = table.partitions.iter().map(|partition| partition.kind.as_str()).collect();
            format!("{}: {}", if table.gpt { "GPT" } else { "MBR" }, kinds.join(", "))
        }
        None if volume.is_some() => "FAT without partitions".into(),
        None => return "nothing known".into(),
    };
    let media = neat_media::read::open(path).ok();
    match media.map(|media| media.volume.label).filter(|label| !label.is_empty()) {
        Some(label) => format!("{what}, {label}"),
        None => what,
    }
}

/// The simulated devices that a folder describes, as disks.
pub fn simulated(folder: &Path) -> Result<Vec<Disk>> {
    simulated::names(folder)?
        .into_iter()
        .map(|name| {
            let device = simulated::describe(&folder.join(format!("{name}{}", simulated::ENDING)))?;
            let bytes = simulated::bytes_path(folder, &name);
            Ok(Disk {
                content: if bytes.exists() { content(&bytes) } else { "nothing known".into() },
                path: name.into(),
                model: device.model,
                serial: device.serial,
                size: device.size,
                block_len: BLOCK_LEN,
                removable: device.removable,
                bus: "simulated".into(),
                mounted: device.mounted,
                used_by: Vec::new(),
                system: device.system,
                read_only: false,
            })
        })
        .collect()
}

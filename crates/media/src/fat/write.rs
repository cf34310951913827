//! Making FAT file systems: the result is lazy content, tables in memory and the files as extents.

use super::layout::{
    ATTR_ARCHIVE, ATTR_DIRECTORY, ATTR_HIDDEN, ATTR_LONG_NAME, ATTR_VOLUME, Bpb, Bpb32, BpbTail, DirEntry,
    FatKind, SECTOR, short_name_sum,
};
use crate::iso9660::time::civil_utc;
use jiff::civil;
use neat_content::{Content, Error, Meta, NodeId, NodeKind, Result, Timestamp, Tree};
use std::collections::{HashMap, HashSet};
use zerocopy::{FromZeros, IntoBytes};

/// How the file system is made.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// Label, at most 11 characters.
    pub label: String,
    /// Time in the directories where a file has none, and the source of the serial number.
    pub time: Timestamp,
    /// Size in bytes that the image has at least.
    pub least_len: u64,
}

/// Largest file (section 6: the length has 32 bits).
const MAX_FILE_LEN: u64 = u32::MAX as u64;
/// Entries of the root on FAT12 and FAT16, at least; a multiple of 16.
const ROOT_ENTRIES: u64 = 112;

struct Shape {
    kind: FatKind,
    cluster_len: u64,
    clusters: u64,
    reserved: u64,
    fat_sectors: u64,
    root_entries: u64,
}

/// A file system with the files of `tree`, as small as it can be (or `least_len`).
///
/// Fails for files of 4 GiB or more and for symbolic links, which FAT cannot hold.
pub fn image(tree: &Tree, options: &Options) -> Result<Content> {
    let mut folders = Folders::name(tree, options)?;
    let shape = Shape::choose(tree, &folders, options.least_len)?;
    let order = folders.place(tree, &shape);
    let mut table = vec![0_u32; shape.clusters as usize + 2];
    table[0] = 0x0FFF_FFF8;
    table[1] = 0x0FFF_FFFF;
    let mut data = Vec::new();
    for (first, len, content) in
        order.iter().map(|(id, first)| (*first, folders.len_of(tree, *id, &shape), *id))
    {
        let count = len.div_ceil(shape.cluster_len);
        for cluster in first..first + count {
            table[cluster as usize] =
                if cluster + 1 < first + count { cluster as u32 + 1 } else { 0x0FFF_FFFF };
        }
        let bytes = match tree.node(content).content() {
            Some(file) => file.clone(),
            None => Content::from_bytes(folders.bytes(tree, content, &shape, options)),
        };
        let padding = count * shape.cluster_len - bytes.len();
        data.push(bytes);
        data.push(Content::zeros(padding));
    }
    let used: u64 = data.iter().map(Content::len).sum();
    data.push(Content::zeros(shape.clusters * shape.cluster_len - used));
    let mut front = shape.boot_sectors(options, used / shape.cluster_len);
    let encoded = shape.encode_table(&table);
    front.extend(&encoded);
    front.extend(&encoded);
    if shape.kind != FatKind::Fat32 {
        let mut root = folders.bytes(tree, Tree::ROOT, &shape, options);
        root.resize((shape.root_entries * 32) as usize, 0);
        front.extend(root);
    }
    data.insert(0, Content::from_bytes(front));
    Content::joined(data)
}

impl Shape {
    /// The smallest cluster size with which everything fits into one kind of FAT.
    fn choose(tree: &Tree, folders: &Folders, least_len: u64) -> Result<Self> {
        for cluster_len in [2048, 4096, 8192, 16_384, 32_768] {
            let root_entries = folders.entries_of(Tree::ROOT).max(ROOT_ENTRIES).next_multiple_of(16);
            let needed: u64 = tree
                .walk()
                .map(|step| match tree.node(step.id).content() {
                    Some(content) => content.len().div_ceil(cluster_len),
                    None => (folders.entries_of(step.id) * 32).div_ceil(cluster_len).max(1),
                })
                .sum();
            let needed = needed.max(1);
            let least = least_len / cluster_len;
            let mut clusters = needed.max(least);
            // FAT32 begins at 65,525 clusters and keeps its root among them.
            if clusters + 1 >= 65_525 {
                clusters += (folders.entries_of(Tree::ROOT) * 32).div_ceil(cluster_len).max(1);
            }
            let kind = FatKind::of(clusters);
            // Stay clear of the borders between the kinds, which some readers count differently.
            let clusters = match clusters {
                4069..4101 => 4101,
                65_509..65_541 => 65_541,
                other => other,
            };
            let kind = if clusters >= 4101 && kind == FatKind::Fat12 {
                FatKind::Fat16
            } else {
                FatKind::of(clusters)
            };
            if clusters > 0x0FFF_FFF0
                || (kind == FatKind::Fat32 && clusters > 4_000_000 && cluster_len < 32_768)
            {
                continue;
            }
            let (reserved, root_entries) = if kind == FatKind::Fat32 { (32, 0) } else { (1, root_entries) };
            let fat_sectors = ((clusters + 2) * kind.bits()).div_ceil(8 * SECTOR);
            if root_entries > 0xFFF0 {
                break;
            }
            return Ok(Self { kind, cluster_len, clusters, reserved, fat_sectors, root_entries });
        }
        Err(Error::request("the files do not fit into a FAT file system", "take some out"))
    }

    fn total_sectors(&self) -> u64 {
        self.reserved
            + 2 * self.fat_sectors
            + self.root_entries * 32 / SECTOR
            + self.clusters * self.cluster_len / SECTOR
    }

    /// The reserved sectors: boot sector and, on FAT32, FSInfo and the copies of both.
    fn boot_sectors(&self, options: &Options, used_clusters: u64) -> Vec<u8> {
        let total = self.total_sectors();
        let small_total = u16::try_from(total).unwrap_or(0);
        let is_32 = self.kind == FatKind::Fat32;
        let bpb = Bpb {
            jump: [0xEB, if is_32 { 0x58 } else { 0x3C }, 0x90],
            oem_name: *b"NEATSTK ",
            bytes_per_sector: (SECTOR as u16).into(),
            sectors_per_cluster: (self.cluster_len / SECTOR) as u8,
            reserved_sectors: (self.reserved as u16).into(),
            fat_count: 2,
            root_entries: (self.root_entries as u16).into(),
            total_sectors_16: if is_32 { 0 } else { small_total }.into(),
            media: 0xF8,
            fat_sectors_16: if is_32 { 0 } else { self.fat_sectors as u16 }.into(),
            sectors_per_track: 32.into(),
            heads: 64.into(),
            hidden_sectors: 0.into(),
            total_sectors_32: if is_32 || small_total == 0 { total as u32 } else { 0 }.into(),
        };
        let serial = (options.time.seconds as u32).rotate_left(7) ^ total as u32;
        let kind = match self.kind {
            FatKind::Fat12 => *b"FAT12   ",
            FatKind::Fat16 => *b"FAT16   ",
            FatKind::Fat32 => *b"FAT32   ",
        };
        let tail = BpbTail {
            drive: 0x80,
            reserved: 0,
            signature: 0x29,
            serial: serial.into(),
            label: label(&options.label),
            kind,
        };
        let mut boot = bpb.as_bytes().to_vec();
        if is_32 {
            let mut block = Bpb32::new_zeroed();
            block.fat_sectors = (self.fat_sectors as u32).into();
            block.root_cluster = 2.into();
            block.fs_info = 1.into();
            block.backup_boot = 6.into();
            boot.extend(block.as_bytes());
        }
        boot.extend(tail.as_bytes());
        // Started by mistake: INT 18h hands over to the next boot device.
        boot.extend([0xCD, 0x18, 0xEB, 0xFE]);
        boot.resize(510, 0);
        boot.extend([0x55, 0xAA]);
        if !is_32 {
            return boot;
        }
        let mut info = vec![0; 512];
        info[..4].copy_from_slice(b"RRaA");
        info[484..488].copy_from_slice(b"rrAa");
        info[488..492].copy_from_slice(&((self.clusters - used_clusters) as u32).to_le_bytes());
        info[492..496].copy_from_slice(&(used_clusters as u32 + 2).to_le_bytes());
        info[508..512].copy_from_slice(&[0, 0, 0x55, 0xAA]);
        let mut third = vec![0; 512];
        third[510..].copy_from_slice(&[0x55, 0xAA]);
        let mut sectors = [boot, info, third].concat();
        let copy = sectors.clone();
        sectors.resize(6 * 512, 0);
        sectors.extend(copy);
        sectors.resize((self.reserved * SECTOR) as usize, 0);
        sectors
    }

    fn encode_table(&self, table: &[u32]) -> Vec<u8> {
        let mut bytes = Vec::with_capacity((self.fat_sectors * SECTOR) as usize);
        match self.kind {
            FatKind::Fat12 => {
                for pair in table.chunks(2) {
                    let (even, odd) = (pair[0] & 0xFFF, pair.get(1).copied().unwrap_or(0) & 0xFFF);
                    bytes.extend(&(even | odd << 12).to_le_bytes()[..3]);
                }
            }
            FatKind::Fat16 => table.iter().for_each(|entry| bytes.extend((*entry as u16).to_le_bytes())),
            FatKind::Fat32 => table.iter().for_each(|entry| bytes.extend(entry.to_le_bytes())),
        }
        bytes.resize((self.fat_sectors * SECTOR) as usize, 0);
        bytes
    }
}

/// Short names and places of everything in the tree.
struct Folders {
    short_names: HashMap<NodeId, ([u8; 11], bool)>,
    entry_counts: HashMap<NodeId, u64>,
    clusters: HashMap<NodeId, u64>,
}

impl Folders {
    fn name(tree: &Tree, options: &Options) -> Result<Self> {
        let mut folders =
            Self { short_names: HashMap::new(), entry_counts: HashMap::new(), clusters: HashMap::new() };
        let root_extra = u64::from(!options.label.is_empty());
        folders.name_children(tree, Tree::ROOT, root_extra)?;
        for step in tree.walk() {
            match &tree.node(step.id).kind {
                NodeKind::Folder(_) => folders.name_children(tree, step.id, 2)?,
                NodeKind::File(content) if content.len() > MAX_FILE_LEN => {
                    return Err(Error::request(
                        format!(
                            "{} has {} bytes, and FAT holds files of at most {MAX_FILE_LEN}",
                            step.path,
                            content.len()
                        ),
                        "split the file or leave it out",
                    ));
                }
                NodeKind::Link(_) => {
                    return Err(Error::request(
                        format!("{} is a symbolic link, which FAT cannot hold", step.path),
                        "put the file itself there",
                    ));
                }
                NodeKind::File(_) => {}
            }
        }
        Ok(folders)
    }

    fn name_children(&mut self, tree: &Tree, id: NodeId, own_entries: u64) -> Result<()> {
        let mut taken = HashSet::new();
        let mut entries = own_entries;
        for child in tree.node(id).folder().into_iter().flat_map(neat_content::Folder::children) {
            let name = tree.node(child).name();
            let forbidden = |c: char| c < ' ' || "\"*/:<>?\\|".contains(c);
            if name.encode_utf16().count() > 255 || name.contains(forbidden) {
                return Err(Error::request(
                    format!("{} is a name that FAT cannot hold", tree.path(child)),
                    "shorten it to 255 characters without \" * / : < > ? \\ |",
                ));
            }
            let (short, exact) = short_name(name, &mut taken);
            entries += 1 + if exact { 0 } else { name.encode_utf16().count().div_ceil(13) as u64 };
            self.short_names.insert(child, (short, exact));
        }
        self.entry_counts.insert(id, entries);
        Ok(())
    }

    fn entries_of(&self, id: NodeId) -> u64 {
        self.entry_counts.get(&id).copied().unwrap_or(0)
    }

    fn len_of(&self, tree: &Tree, id: NodeId, shape: &Shape) -> u64 {
        match tree.node(id).content() {
            Some(content) => content.len(),
            None => (self.entries_of(id) * 32).max(1).next_multiple_of(shape.cluster_len),
        }
    }

    /// Gives each folder and file its first cluster, in the order they are written.
    fn place(&mut self, tree: &Tree, shape: &Shape) -> Vec<(NodeId, u64)> {
        let root = (shape.kind == FatKind::Fat32).then_some(Tree::ROOT);
        let mut next = 2;
        let mut order = Vec::new();
        for id in root.into_iter().chain(tree.walk().map(|step| step.id)) {
            let count = self.len_of(tree, id, shape).div_ceil(shape.cluster_len);
            if count > 0 {
                self.clusters.insert(id, next);
                order.push((id, next));
                next += count;
            }
        }
        order
    }

    fn bytes(&self, tree: &Tree, id: NodeId, shape: &Shape, options: &Options) -> Vec<u8> {
        let mut bytes = Vec::new();
        let node = tree.node(id);
        if id == Tree::ROOT {
            if !options.label.is_empty() {
                bytes.extend(entry(label(&options.label), ATTR_VOLUME, 0, 0, options.time).as_bytes());
            }
        } else {
            // The parent's cluster stands as 0 when it is the root (section 6.5).
            let parent = if node.parent() == Tree::ROOT {
                0
            } else {
                self.clusters.get(&node.parent()).copied().unwrap_or(0)
            };
            let own = self.clusters.get(&id).copied().unwrap_or(0);
            bytes.extend(entry(*b".          ", ATTR_DIRECTORY, own, 0, node.meta.modified).as_bytes());
            bytes.extend(entry(*b"..         ", ATTR_DIRECTORY, parent, 0, node.meta.modified).as_bytes());
        }
        for child in node.folder().into_iter().flat_map(neat_content::Folder::children) {
            let Some((short, exact)) = self.short_names.get(&child) else { continue };
            let node = tree.node(child);
            if !exact {
                bytes.extend(long_entries(node.name(), short_name_sum(short)));
            }
            let (attribute, len) =
                node.content().map_or((ATTR_DIRECTORY, 0), |content| (ATTR_ARCHIVE, content.len()));
            let Meta { hidden, modified, .. } = node.meta;
            let attributes = attribute | if hidden { ATTR_HIDDEN } else { 0 };
            bytes.extend(
                entry(
                    *short,
                    attributes,
                    self.clusters.get(&child).copied().unwrap_or(0),
                    len as u32,
                    modified,
                )
                .as_bytes(),
            );
        }
        debug_assert!(
            shape.root_entries == 0 || id != Tree::ROOT || bytes.len() as u64 <= shape.root_entries * 32
        );
        bytes
    }
}

fn entry(name: [u8; 11], attributes: u8, cluster: u64, len: u32, time: Timestamp) -> DirEntry {
    let earliest = civil::date(1980, 1, 1).at(0, 0, 0, 0);
    let civil = civil_utc(time).clamp(earliest, civil::date(2107, 12, 31).at(23, 59, 58, 0));
    let date = ((civil.year() - 1980) as u16) << 9 | (civil.month() as u16) << 5 | civil.day() as u16;
    let clock = (civil.hour() as u16) << 11 | (civil.minute() as u16) << 5 | (civil.second() as u16 / 2);
    DirEntry {
        name,
        attributes,
        reserved: 0,
        created_hundredths: 0,
        created_time: clock.into(),
        created_date: date.into(),
        accessed_date: date.into(),
        cluster_high: ((cluster >> 16) as u16).into(),
        modified_time: clock.into(),
        modified_date: date.into(),
        cluster_low: (cluster as u16).into(),
        len: len.into(),
    }
}

fn label(text: &str) -> [u8; 11] {
    let mut field = [b' '; 11];
    let usable = text
        .to_uppercase()
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() || " _-".contains(c) { c as u8 } else { b'_' })
        .collect::<Vec<_>>();
    let len = usable.len().min(11);
    field[..len].copy_from_slice(&usable[..len]);
    field
}

/// A short name for `name` that is not `taken`, and whether it says it all so that no long name is needed.
fn short_name(name: &str, taken: &mut HashSet<[u8; 11]>) -> ([u8; 11], bool) {
    let allowed = |c: char| c.is_ascii_uppercase() || c.is_ascii_digit() || "!#$%&'()-@^_`{}~".contains(c);
    let (base, extension) = match name.rsplit_once('.') {
        Some((base, extension)) if !base.is_empty() => (base, extension),
        _ => (name, ""),
    };
    let clean = |part: &str| {
        part.chars()
            .flat_map(char::to_uppercase)
            .filter(|c| *c != ' ' && *c != '.')
            .map(|c| if allowed(c) { c as u8 } else { b'_' })
            .collect::<Vec<u8>>()
    };
    let (short_base, short_extension) = (clean(base), clean(extension));
    let exact = name == name.to_uppercase()
        && name.chars().all(|c| allowed(c) || c == '.')
        && (1..=8).contains(&base.len())
        && extension.len() <= 3
        && short_base.len() == base.len()
        && (name.len() == base.len() || !extension.is_empty());
    let build = |base: &[u8]| {
        let mut field = [b' '; 11];
        field[..base.len()].copy_from_slice(base);
        let len = short_extension.len().min(3);
        field[8..8 + len].copy_from_slice(&short_extension[..len]);
        field
    };
    if exact {
        let field = build(&short_base);
        if taken.insert(field) {
            return (field, true);
        }
    }
    let mut number = 1_u64;
    loop {
        let tail = format!("~{number}");
        let keep = short_base.len().min(8 - tail.len().min(8));
        let field = build(&[&short_base[..keep], tail.as_bytes()].concat());
        if taken.insert(field) {
            return (field, false);
        }
        number += 1;
    }
}

/// The entries of a long name, last piece first (section 7.1).
fn long_entries(name: &str, sum: u8) -> Vec<u8> {
    let units: Vec<u16> = name.encode_utf16().collect();
    let count = units.len().div_ceil(13);
    let mut bytes = Vec::with_capacity(count * 32);
    for (index, piece) in units.chunks(13).enumerate().rev() {
        let mut slots = [0xFFFF_u16; 13];
        slots[..piece.len()].copy_from_slice(piece);
        if let Some(end) = slots.get_mut(piece.len()) {
            *end = 0;
        }
        let last = if index + 1 == count { 0x40 } else { 0 };
        let mut raw = [0_u8; 32];
        raw[0] = (index as u8 + 1) | last;
        raw[11] = ATTR_LONG_NAME;
        raw[13] = sum;
        let places = (1..11).step_by(2).chain((14..26).step_by(2)).chain((28..32).step_by(2));
        for (place, unit) in places.zip(slots) {
            raw[place..place + 2].copy_from_slice(&unit.to_le_bytes());
        }
        bytes.extend(raw);
    }
    bytes
}

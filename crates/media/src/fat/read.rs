//! Reading FAT file systems.

use super::layout::{
    ATTR_DIRECTORY, ATTR_HIDDEN, ATTR_LONG_NAME, ATTR_VOLUME, Bpb, Bpb32, DirEntry, FatKind,
};
use crate::{Limits, iso9660::time::from_civil, units::Cluster};
use neat_content::{
    Content, Error, Folder, Meta, NodeId, NodeKind, ReadAt, Result, Tree, check_name, damage_apart, read_vec,
};
use std::collections::HashSet;
use zerocopy::FromBytes;

/// Largest directory (section 6.1 allows 65,536 entries), in bytes.
const MAX_DIRECTORY_LEN: u64 = 65_536 * 32;

/// Where the parts of a file system lie, in bytes from its start.
pub(super) struct Geometry {
    pub kind: FatKind,
    pub cluster_len: u64,
    pub clusters: u64,
    pub fat_start: u64,
    /// Bytes of one table.
    pub fat_len: u64,
    pub fat_count: u8,
    root_start: u64,
    root_len: u64,
    pub root_cluster: Cluster,
    pub data_start: u64,
    total_len: u64,
}

pub(super) fn geometry<R: ReadAt + ?Sized>(reader: &R) -> Result<Geometry> {
    let bytes = read_vec(reader, 0, 512, 512, "boot sector")?;
    let bad = |field, at, expected: &str, found: u64| {
        Error::bad_field("Bpb", field, at, expected, format!("{found:#x}"))
    };
    let (bpb, rest) = Bpb::read_from_prefix(&bytes).map_err(|_| bad("size", 0, "36 bytes", 512))?;
    let (bpb32, _) = Bpb32::read_from_prefix(rest).map_err(|_| bad("size", 36, "28 bytes", 476))?;
    if bytes[510..] != [0x55, 0xAA] {
        return Err(bad("signature", 510, "55 AA", u16::from_be_bytes([bytes[510], bytes[511]]).into()));
    }
    let sector = u64::from(bpb.bytes_per_sector.get());
    if ![512, 1024, 2048, 4096].contains(&sector) {
        return Err(bad("bytes_per_sector", 11, "512, 1024, 2048 or 4096", sector));
    }
    let per_cluster = u64::from(bpb.sectors_per_cluster);
    if !per_cluster.is_power_of_two() {
        return Err(bad("sectors_per_cluster", 13, "a power of two", per_cluster));
    }
    if bpb.fat_count == 0 {
        return Err(bad("fat_count", 16, "1 or 2", 0));
    }
    let pick = |small: u16, large: u32| if small == 0 { u64::from(large) } else { u64::from(small) };
    let fat_sectors = pick(bpb.fat_sectors_16.get(), bpb32.fat_sectors.get());
    let total = pick(bpb.total_sectors_16.get(), bpb.total_sectors_32.get());
    let reserved = u64::from(bpb.reserved_sectors.get());
    let root_len = u64::from(bpb.root_entries.get()) * 32;
    let root_start = reserved + fat_sectors * u64::from(bpb.fat_count);
    let data_start = root_start + root_len.div_ceil(sector);
    if reserved == 0 || fat_sectors == 0 || total <= data_start {
        return Err(bad("total_sectors", 19, "room for the tables and data", total));
    }
    let clusters = (total - data_start) / per_cluster;
    let kind = FatKind::of(clusters);
    let table_len = fat_sectors * sector;
    if (clusters + 2) * kind.bits() > table_len * 8 {
        return Err(bad("fat_sectors", 22, "an entry for every cluster", fat_sectors));
    }
    Ok(Geometry {
        kind,
        cluster_len: per_cluster * sector,
        clusters,
        fat_start: reserved * sector,
        fat_len: table_len,
        fat_count: bpb.fat_count,
        root_start: root_start * sector,
        root_len,
        root_cluster: Cluster(bpb32.root_cluster.get()),
        data_start: data_start * sector,
        total_len: total * sector,
    })
}

/// Length in bytes of the file system that `reader` begins with; `None` if it is not FAT.
///
/// # Errors
/// `Corrupt` with the field and the offset, where it begins as one and goes on as none; `Io`.
pub fn volume_len<R: ReadAt + ?Sized>(reader: &R) -> Result<Option<u64>> {
    Ok(damage_apart(geometry(reader))?.ok().map(|geometry| geometry.total_len))
}

/// Compares the copies of the file allocation table of `image`, which lies at `base` of its disk; says where they differ.
///
/// # Errors
/// `BadField` for a boot sector that makes no sense, `Io`.
pub(crate) fn compare_tables(image: &Content, base: u64) -> Result<Vec<String>> {
    const STEP: u64 = 1 << 20;
    let geometry = geometry(image)?;
    let mut found = Vec::new();
    for copy in 1..u64::from(geometry.fat_count) {
        let (first, other) = (geometry.fat_start, geometry.fat_start + copy * geometry.fat_len);
        let mut at = 0;
        while at < geometry.fat_len {
            let len = STEP.min(geometry.fat_len - at);
            let own = read_vec(image, first + at, len, STEP, "file allocation table")?;
            let its = read_vec(image, other + at, len, STEP, "file allocation table")?;
            if let Some(place) = own.iter().zip(&its).position(|(own, its)| own != its) {
                let place = base + other + at + place as u64;
                found.push(format!(
                    "copy {} of the file allocation table differs at byte {place:#x}",
                    copy + 1
                ));
                break;
            }
            at += len;
        }
    }
    Ok(found)
}

/// Reads the tree of the FAT file system in `image`.
///
/// # Errors
/// `Corrupt` with the field and the offset, `LimitExceeded` for too many entries, `Io`.
pub fn read(image: &Content) -> Result<Tree> {
    read_labelled(image).map(|(tree, _)| tree)
}

/// Reads the tree and the label of the FAT file system in `image`.
///
/// # Errors
/// As [`read`].
pub fn read_labelled(image: &Content) -> Result<(Tree, String)> {
    read_with(image, &Limits::default())
}

/// As [`read_labelled`], with limits of the caller's.
///
/// # Errors
/// As [`read`].
pub fn read_with(image: &Content, limits: &Limits) -> Result<(Tree, String)> {
    let geometry = geometry(image)?;
    let table_len = ((geometry.clusters + 2) * geometry.kind.bits()).div_ceil(8);
    let table =
        read_vec(image, geometry.fat_start, table_len, limits.allocation_table, "file allocation table")?;
    let volume = Volume { image, geometry, table, limits };
    let mut tree = Tree::default();
    let mut visited = HashSet::new();
    let mut root_label = String::new();
    let root = match volume.geometry.kind {
        FatKind::Fat32 => volume.chain(volume.geometry.root_cluster, None)?,
        _ => image.part(volume.geometry.root_start, volume.geometry.root_len)?,
    };
    let mut pending = vec![(Tree::ROOT, root)];
    while let Some((node, directory)) = pending.pop() {
        let label = volume.read_folder(&mut tree, node, &directory, &mut pending, &mut visited)?;
        if node == Tree::ROOT {
            root_label = label;
        }
    }
    Ok((tree, root_label))
}

struct Volume<'a> {
    image: &'a Content,
    geometry: Geometry,
    table: Vec<u8>,
    limits: &'a Limits,
}

impl Volume<'_> {
    fn next_cluster(&self, cluster: Cluster) -> Cluster {
        let word = |at: usize, len: usize| {
            self.table
                .get(at..at + len)
                .unwrap_or_default()
                .iter()
                .rev()
                .fold(0_u32, |value, byte| value << 8 | u32::from(*byte))
        };
        let index = cluster.0 as usize;
        Cluster(match self.geometry.kind {
            FatKind::Fat12 => word(index * 3 / 2, 2) >> (4 * (index % 2)) & 0xFFF,
            FatKind::Fat16 => word(index * 2, 2),
            FatKind::Fat32 => word(index * 4, 4) & 0x0FFF_FFFF,
        })
    }

    /// Content of a chain of clusters, cut to `len` when given.
    fn chain(&self, first: Cluster, len: Option<u64>) -> Result<Content> {
        let g = &self.geometry;
        let mut parts = Vec::new();
        // Neighbouring clusters are one part.
        let (mut start, mut run_len) = (0, 0);
        let (mut cluster, mut gathered) = (first, 0);
        while len.is_none_or(|len| gathered < len) {
            let at = g.fat_start + u64::from(cluster.0) * g.kind.bits() / 8;
            let is_behind = u64::from(cluster.0) >= g.clusters + 2;
            let Some(into_data) = cluster.into_data(g.cluster_len).filter(|_| !is_behind) else {
                // The end marks and the bad-cluster mark all lie above the last cluster.
                if len.is_none() && is_behind {
                    break;
                }
                return Err(Error::bad_field(
                    "Fat",
                    "cluster",
                    at,
                    format!("2 to {}", g.clusters + 1),
                    cluster.0,
                ));
            };
            if gathered > g.clusters * g.cluster_len {
                return Err(Error::Loop { what: "cluster chain".into(), offset: at });
            }
            let take = len.map_or(g.cluster_len, |len| g.cluster_len.min(len - gathered));
            let position = g.data_start + into_data;
            if run_len > 0 && start + run_len == position {
                run_len += take;
            } else {
                if run_len > 0 {
                    parts.push(self.image.part(start, run_len)?);
                }
                (start, run_len) = (position, take);
            }
            gathered += g.cluster_len;
            cluster = self.next_cluster(cluster);
        }
        if run_len > 0 {
            parts.push(self.image.part(start, run_len)?);
        }
        Content::joined(parts)
    }

    fn read_folder(
        &self,
        tree: &mut Tree,
        node: NodeId,
        directory: &Content,
        pending: &mut Vec<(NodeId, Content)>,
        visited: &mut HashSet<Cluster>,
    ) -> Result<String> {
        let mut label = String::new();
        let bytes = directory.to_vec(MAX_DIRECTORY_LEN, "directory")?;
        let mut long: Vec<(u8, Vec<u16>)> = Vec::new();
        for raw in bytes.chunks_exact(32) {
            let Ok(entry) = DirEntry::read_from_bytes(raw) else { break };
            match entry.name[0] {
                0 => break,
                0xE5 => {
                    long.clear();
                    continue;
                }
                _ => {}
            }
            if entry.attributes & 0x3F == ATTR_LONG_NAME {
                let units = [1..11, 14..26, 28..32]
                    .into_iter()
                    .flat_map(|range| raw[range].chunks_exact(2))
                    .map(|pair| u16::from_le_bytes([pair[0], pair[1]]));
                long.push((raw[0] & 0x3F, units.take_while(|unit| *unit != 0).collect()));
                continue;
            }
            let name = full_name(&entry, std::mem::take(&mut long));
            if entry.attributes & ATTR_VOLUME != 0 {
                let text: String = entry.name.iter().copied().map(char::from).collect();
                text.trim_end().clone_into(&mut label);
                continue;
            }
            if name == "." || name == ".." {
                continue;
            }
            check_name(&name)
                .map_err(|expected| Error::bad_field("DirEntry", "name", 0, expected, format!("{name:?}")))?;
            self.limits.check_entries(tree.capacity(), 0)?;
            let meta =
                Meta { modified: modified(&entry), mode: None, hidden: entry.attributes & ATTR_HIDDEN != 0 };
            let cluster =
                Cluster(u32::from(entry.cluster_high.get()) << 16 | u32::from(entry.cluster_low.get()));
            if entry.attributes & ATTR_DIRECTORY == 0 {
                let content = self
                    .chain(cluster, Some(u64::from(entry.len.get())))
                    .map_err(|error| error.within(&name))?;
                tree.add(node, &name, meta, NodeKind::File(content))?;
                continue;
            }
            if !visited.insert(cluster) {
                return Err(Error::Loop {
                    what: format!("directory {name}"),
                    offset: self.geometry.data_start
                        + cluster.into_data(self.geometry.cluster_len).unwrap_or(0),
                });
            }
            let folder = tree.add(node, &name, meta, NodeKind::Folder(Folder::default()))?;
            pending.push((folder, self.chain(cluster, None)?));
        }
        Ok(label)
    }
}

fn full_name(entry: &DirEntry, mut long: Vec<(u8, Vec<u16>)>) -> String {
    if !long.is_empty() {
        long.sort_by_key(|(order, _)| *order);
        let units = long.into_iter().flat_map(|(_, units)| units);
        return char::decode_utf16(units).map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER)).collect();
    }
    let text = |bytes: &[u8]| bytes.iter().copied().map(char::from).collect::<String>().trim_end().to_owned();
    let (base, extension) = (text(&entry.name[..8]), text(&entry.name[8..]));
    if extension.is_empty() { base } else { format!("{base}.{extension}") }
}

fn modified(entry: &DirEntry) -> neat_content::Timestamp {
    let (date, time) = (i64::from(entry.modified_date.get()), i64::from(entry.modified_time.get()));
    let civil = [1980 + (date >> 9), date >> 5 & 15, date & 31, time >> 11, time >> 5 & 63, (time & 31) * 2];
    from_civil(civil, 0, 0).unwrap_or_default()
}

//! A FAT32 file system of a given size, for sticks: written from its start to its end, every file in one piece.

use super::folders::Folders;
use super::layout::{FatKind, SECTOR};
use super::ours::{self, OurFiles};
use super::shape::{BootRecord, BootSector, RESERVED_32, Shape};
use super::table::{END_OF_CHAIN, Run, Table};
use crate::units::Cluster;
use neat_content::{Content, Error, NodeId, Result, Timestamp, Tree};
use std::{collections::HashMap, sync::Arc};

/// Clusters by the size of the volume: up to so many bytes, so many bytes in a cluster (section 3.5, the table for
/// FAT32).
const CLUSTER_SIZES: [(u64, u64); 5] = [
    (260 << 20, 512),
    (8 << 30, 4096),
    (16 << 30, 8192),
    (32 << 30, 16_384),
    (u32::MAX as u64 * SECTOR, 32_768),
];
/// Fewer clusters are another kind of FAT; a few more, because some readers count differently.
const LEAST_CLUSTERS: u64 = 65_541;
/// The first cluster begins at a multiple of this many sectors: 1 MiB, as flash memory likes it.
const DATA_ALIGNMENT: u64 = 2048;
const MIB: u64 = 1 << 20;

/// How the file system is made.
#[derive(Clone, Debug)]
pub struct Options<'a> {
    /// Label, at most 11 characters.
    pub label: &'a str,
    /// Time in the directories where a file has none.
    pub time: Timestamp,
    /// Bytes of the file system, a multiple of 1 MiB; without it just large enough.
    pub len: Option<u64>,
    /// Bytes before it on the disk.
    pub start: u64,
    /// Serial number of the volume.
    pub serial: u32,
    /// Code in its boot sector.
    pub record: Option<&'a BootRecord>,
}

/// What a piece of the file system is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Part {
    /// The reserved sectors: parameters, boot record, FSInfo.
    Reserved,
    /// A file allocation table.
    Table,
    /// A folder's directory.
    Folder(NodeId),
    /// A file.
    File(NodeId),
}

/// A piece with its place, in bytes from the start of the file system.
#[derive(Clone, Debug)]
pub struct Placed {
    /// First byte.
    pub offset: u64,
    /// The bytes.
    pub content: Content,
    /// What it is.
    pub part: Part,
}

/// A file system with a place for everything.
#[derive(Clone, Debug)]
pub struct Volume {
    /// Bytes in all.
    pub len: u64,
    /// Bytes of a cluster.
    pub cluster_len: u64,
    /// Bytes of free clusters.
    pub free: u64,
    /// Everything that is not zero, in the order of its place.
    pub pieces: Vec<Placed>,
}

impl Volume {
    /// Lays out the files of `tree`; those in `order` come in that order, then the others.
    ///
    /// Fails for what FAT cannot hold, and with the missing bytes where `len` is too small.
    ///
    /// # Errors
    /// `BadRequest` for what FAT cannot hold, and with the missing bytes where `len` is too small.
    pub fn plan(tree: &Tree, order: &[NodeId], options: &Options<'_>) -> Result<Self> {
        let folders = Folders::name(tree, options.label, options.time)?;
        let shape = match options.len {
            Some(len) => shape_for(len)?,
            None => smallest(tree, &folders)?,
        };
        let needed = needed_clusters(tree, &folders, shape.cluster_len);
        if needed > shape.clusters {
            let missing = (needed - shape.clusters) * shape.cluster_len;
            return Err(Error::request(
                format!(
                    "the files need {needed} clusters of {} bytes, and {} fit: {} MiB are missing",
                    shape.cluster_len,
                    shape.clusters,
                    missing.div_ceil(MIB)
                ),
                "use a larger stick or size, or take something out",
            ));
        }
        let mut next = Cluster::FIRST;
        let mut runs = Vec::new();
        let mut clusters: HashMap<NodeId, Cluster> = HashMap::new();
        let mut placed = Vec::new();
        let is_folder = |id: &NodeId| tree.node(*id).folder().is_some();
        let all: Vec<NodeId> = std::iter::once(Tree::ROOT).chain(tree.walk().map(|step| step.id)).collect();
        let directories = all.iter().copied().filter(is_folder);
        let others = all.iter().copied().filter(|id| !is_folder(id));
        for id in directories.chain(order.iter().copied()).chain(others) {
            let count = folders.clusters_of(id, shape.cluster_len);
            if count == 0 || clusters.contains_key(&id) {
                continue;
            }
            clusters.insert(id, next);
            runs.push(Run { first: next, count: count as u32, then: END_OF_CHAIN });
            placed.push((id, next, count));
            next = next.after(count as u32);
        }
        let first = |id| clusters.get(&id).copied().unwrap_or(Cluster::NONE);
        let free = shape.clusters - u64::from(next.0 - Cluster::FIRST.0);
        let boot = BootSector {
            label: options.label,
            serial: options.serial,
            hidden_sectors: (options.start / SECTOR) as u32,
            record: options.record,
            root_cluster: Cluster::FIRST,
        };
        let table = Arc::new(Table { kind: FatKind::Fat32, runs, len: shape.fat_sectors * SECTOR });
        let piece = |offset, content, part| Placed { offset, content, part };
        let mut reserved = shape.reserved_bytes(&boot, free, next);
        let record = OurFiles::of(tree).to_bytes();
        let at = ours::OFFSET as usize;
        // A boot record that is longer than any known one keeps its place.
        if let Some(place) = reserved.get_mut(at..at + record.len())
            && place.iter().all(|byte| *byte == 0)
        {
            place.copy_from_slice(&record);
        }
        let mut pieces = vec![piece(0, Content::from_bytes(reserved), Part::Reserved)];
        for copy in 0..2 {
            let offset = shape.fat_start() + copy * shape.fat_sectors * SECTOR;
            pieces.push(piece(offset, Content::deferred(Arc::<Table>::clone(&table)), Part::Table));
        }
        for (id, cluster, count) in placed {
            let offset = shape.data_start() + cluster.into_data(shape.cluster_len).unwrap_or(0);
            pieces.push(if let Some(content) = tree.node(id).content() {
                piece(offset, content.clone(), Part::File(id))
            } else {
                let bytes = folders.clusters(id, &first, count * shape.cluster_len);
                piece(offset, bytes, Part::Folder(id))
            });
        }
        let len = shape.total_sectors * SECTOR;
        Ok(Self { len, cluster_len: shape.cluster_len, free: free * shape.cluster_len, pieces })
    }
}

fn needed_clusters(tree: &Tree, folders: &Folders<'_>, cluster_len: u64) -> u64 {
    let nodes = tree.walk().map(|step| step.id).chain([Tree::ROOT]);
    nodes.map(|id| folders.clusters_of(id, cluster_len)).sum()
}

/// The parts of a file system of `len` bytes.
pub(super) fn shape_for(len: u64) -> Result<Shape> {
    let too_large = || {
        Error::request(
            format!("a FAT32 file system of {len} bytes cannot be"),
            "FAT32 ends at 2 TiB; use a smaller size",
        )
    };
    let (_, cluster_len) = CLUSTER_SIZES.iter().find(|(most, _)| len <= *most).ok_or_else(too_large)?;
    let shape = shape_with(len, *cluster_len);
    if shape.clusters < LEAST_CLUSTERS {
        let least = (LEAST_CLUSTERS * 512 + 2 * MIB).div_ceil(MIB);
        return Err(Error::request(
            format!(
                "{} MiB are too few for FAT32, which needs {least} MiB: {} MiB are missing",
                len / MIB,
                least - len / MIB
            ),
            "use a larger size or a larger stick",
        ));
    }
    Ok(shape)
}

fn shape_with(len: u64, cluster_len: u64) -> Shape {
    let total_sectors = len / SECTOR;
    let per_cluster = cluster_len / SECTOR;
    // With room for an entry for every sector after the reserved ones; a little more than is needed in the end.
    let most = total_sectors.saturating_sub(RESERVED_32) / per_cluster;
    let fat_sectors = ((most + 2) * 4).div_ceil(SECTOR);
    let data = (RESERVED_32 + 2 * fat_sectors).next_multiple_of(DATA_ALIGNMENT);
    Shape {
        kind: FatKind::Fat32,
        cluster_len,
        clusters: total_sectors.saturating_sub(data) / per_cluster,
        reserved: data - 2 * fat_sectors,
        fat_sectors,
        root_entries: 0,
        total_sectors,
    }
}

/// The smallest file system that holds everything.
fn smallest(tree: &Tree, folders: &Folders<'_>) -> Result<Shape> {
    let mut least = 0;
    for (most, cluster_len) in CLUSTER_SIZES {
        let needed = needed_clusters(tree, folders, cluster_len).max(LEAST_CLUSTERS);
        let mut len = (needed * cluster_len).next_multiple_of(MIB).max(least);
        while len <= most {
            let shape = shape_with(len, cluster_len);
            if shape.clusters >= needed {
                return Ok(shape);
            }
            len += ((needed - shape.clusters) * cluster_len).next_multiple_of(MIB);
        }
        least = most + MIB;
    }
    Err(Error::request("the files do not fit into a FAT32 file system of 2 TiB", "take some out"))
}

//! Making FAT file systems: the result is lazy content, tables in memory and the files as extents.

use super::folders::Folders;
use super::layout::{FatKind, SECTOR};
use super::shape::{BootSector, Shape};
use super::table::{END_OF_CHAIN, Run, Table};
use crate::units::Cluster;
use neat_content::{Content, Error, Result, Timestamp, Tree};
use std::collections::HashMap;

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

/// Entries of the root on FAT12 and FAT16, at least; a multiple of 16.
const ROOT_ENTRIES: u64 = 112;

/// A file system with the files of `tree`, as small as it can be (or `least_len`).
///
/// Fails for files of 4 GiB or more and for symbolic links, which FAT cannot hold.
///
/// # Errors
/// `BadRequest` for files and names that FAT cannot hold.
pub fn image(tree: &Tree, options: &Options) -> Result<Content> {
    let folders = Folders::name(tree, &options.label, options.time)?;
    let shape = choose(tree, &folders, options.least_len)?;
    let root = (shape.kind == FatKind::Fat32).then_some(Tree::ROOT);
    let mut next = Cluster::FIRST;
    let mut runs = Vec::new();
    let mut order = Vec::new();
    let mut clusters = HashMap::new();
    for id in root.into_iter().chain(tree.walk().map(|step| step.id)) {
        let count = folders.clusters_of(id, shape.cluster_len);
        if count > 0 {
            clusters.insert(id, next);
            runs.push(Run { first: next, count: count as u32, then: END_OF_CHAIN });
            order.push((id, count));
            next = next.after(count as u32);
        }
    }
    let first = |id| clusters.get(&id).copied().unwrap_or(Cluster::NONE);
    let used = u64::from(next.0 - Cluster::FIRST.0);
    let serial = (options.time.seconds as u32).rotate_left(7) ^ shape.total_sectors as u32;
    let boot =
        BootSector { label: &options.label, serial, root_cluster: Cluster::FIRST, ..BootSector::default() };
    let mut front = shape.reserved_bytes(&boot, shape.clusters - used, next);
    let table = Table { kind: shape.kind, runs, len: shape.fat_sectors * SECTOR }.to_bytes()?;
    front.extend(&table);
    front.extend(&table);
    if shape.kind != FatKind::Fat32 {
        let mut root = folders.bytes(Tree::ROOT, &first);
        root.resize((shape.root_entries * 32) as usize, 0);
        front.extend(root);
    }
    let mut data = vec![Content::from_bytes(front)];
    for (id, count) in order {
        let bytes = match tree.node(id).content() {
            Some(file) => file.clone(),
            None => Content::from_bytes(folders.bytes(id, &first)),
        };
        let padding = count * shape.cluster_len - bytes.len();
        data.push(bytes);
        data.push(Content::zeros(padding));
    }
    data.push(Content::zeros((shape.clusters - used) * shape.cluster_len));
    Content::joined(data)
}

/// The smallest cluster size with which everything fits into one kind of FAT.
fn choose(tree: &Tree, folders: &Folders<'_>, least_len: u64) -> Result<Shape> {
    for cluster_len in [2048, 4096, 8192, 16_384, 32_768] {
        let root_entries = folders.entries_of(Tree::ROOT).max(ROOT_ENTRIES).next_multiple_of(16);
        let needed: u64 = tree.walk().map(|step| folders.clusters_of(step.id, cluster_len)).sum();
        let needed = needed.max(1);
        let least = least_len / cluster_len;
        let mut clusters = needed.max(least);
        // FAT32 begins at 65,525 clusters and keeps its root among them.
        if clusters + 1 >= 65_525 {
            clusters += folders.clusters_of(Tree::ROOT, cluster_len);
        }
        let kind = FatKind::of(clusters);
        // Stay clear of the borders between the kinds, which some readers count differently.
        let clusters = match clusters {
            4069..4101 => 4101,
            65_509..65_541 => 65_541,
            other => other,
        };
        let kind =
            if clusters >= 4101 && kind == FatKind::Fat12 { FatKind::Fat16 } else { FatKind::of(clusters) };
        if clusters > 0x0FFF_FFF0 || (kind == FatKind::Fat32 && clusters > 4_000_000 && cluster_len < 32_768)
        {
            continue;
        }
        let (reserved, root_entries) = if kind == FatKind::Fat32 { (32, 0) } else { (1, root_entries) };
        let fat_sectors = ((clusters + 2) * kind.bits()).div_ceil(8 * SECTOR);
        if root_entries > 0xFFF0 {
            break;
        }
        let total_sectors =
            reserved + 2 * fat_sectors + root_entries * 32 / SECTOR + clusters * cluster_len / SECTOR;
        return Ok(Shape { kind, cluster_len, clusters, reserved, fat_sectors, root_entries, total_sectors });
    }
    Err(Error::request("the files do not fit into a FAT file system", "take some out"))
}

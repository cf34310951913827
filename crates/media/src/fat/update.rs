//! Other files in a FAT32 file system that was made here, written so that it is the old or the new one at every moment.
//!
//! 1. New files and all directories go into clusters that the old tree does not use.
//! 2. The tables get the chains of both trees.
//! 3. The boot sector leads to the new root: one sector, and the change is made.
//! 4. The tables get the chains of the new tree alone.

use super::folders::Folders;
use super::layout::{FatKind, SECTOR};
use super::ours::{self, OurFiles};
use super::read::{Geometry, geometry, read_labelled};
use super::shape::{OEM_NAME, fs_info};
use super::table::{END_OF_CHAIN, Run, Table};
use crate::units::Cluster;
use neat_content::{Advice, Content, Error, Job, NodeId, Piece, ReadAt, Result, Timestamp, Tree, read_vec};
use std::collections::HashMap;

/// Tables are compared and written in pieces of this many bytes.
const TABLE_STEP: usize = 4096;
/// Where the first cluster of the root stands in the boot sector (section 3.3).
const ROOT_AT: usize = 44;
/// Largest table that is changed, in bytes.
const MAX_TABLE_LEN: u64 = 256 << 20;

/// Bytes that are written, by their place in the file system.
#[derive(Clone, Debug)]
pub struct Write {
    /// First byte.
    pub offset: u64,
    /// The bytes.
    pub content: Content,
    /// What they belong to, for errors.
    pub name: String,
}

/// What is written, in this order, with a flush behind each group.
#[derive(Clone, Debug)]
pub struct Update {
    /// The groups.
    pub groups: Vec<Vec<Write>>,
    /// Files that stay as they are.
    pub kept: u64,
    /// Paths of files that are written.
    pub written: Vec<String>,
    /// Paths of files that are no longer there.
    pub removed: Vec<String>,
    /// Paths of files that somebody else put there, and that stay.
    pub others: Vec<String>,
    /// Whether the stick says which files were written to it; else everything that is not wanted counts as somebody else's.
    pub has_record: bool,
    /// Bytes of files and directories that are written.
    pub bytes: u64,
    /// Label of the file system.
    pub label: String,
    /// Whether folders, names and times are what they were too.
    pub names_are_same: bool,
}

impl Update {
    /// Whether the stick holds everything already.
    pub const fn is_nothing(&self) -> bool {
        self.written.is_empty() && self.removed.is_empty() && self.names_are_same
    }
}

/// Neighbouring clusters.
#[derive(Clone, Copy, Debug)]
struct Extent {
    first: Cluster,
    count: u32,
}

impl Extent {
    /// Gives the first `count` clusters and keeps the others.
    fn split_off(&mut self, count: u32) -> Self {
        let taken = Self { first: self.first, count };
        *self = Self { first: self.first.after(count), count: self.count - count };
        taken
    }
}

/// What is there.
struct Old {
    geometry: Geometry,
    tree: Tree,
    label: String,
    /// The clusters of each file of the tree.
    runs: HashMap<NodeId, Vec<Extent>>,
    /// The first table.
    table: Vec<u8>,
}

/// How a file system is brought up to date.
#[derive(Clone, Copy, Debug, Default)]
pub struct Options {
    /// Time in the directories where a file has none.
    pub time: Timestamp,
    /// Files of the same size and time count as the same without being read.
    pub quick: bool,
    /// What somebody else put there goes too.
    pub remove_others: bool,
}

/// Works out what has to be written so that the file system in `volume` holds `tree`, and what somebody else put there.
///
/// # Errors
/// `Request` when it was not made here, has too little room for what is new beside what is old, or somebody else's file is
/// in the way.
pub fn plan(volume: &Content, tree: &Tree, options: Options, job: &Job<'_>) -> Result<Update> {
    let Options { time, quick, remove_others } = options;
    let old = Old::read(volume)?;
    let ours = OurFiles::of(tree);
    let before = OurFiles::read(volume, old.geometry.fat_start)?;
    let (mut whole, mut others) = (tree.clone(), HashMap::new());
    if !remove_others {
        old.keep_others(before.as_ref(), &mut whole, &mut others)?;
    }
    let tree = &whole;
    let folders = Folders::name(tree, &old.label, time)?;
    let cluster_len = old.geometry.cluster_len;
    let mut places: HashMap<NodeId, Vec<Extent>> = HashMap::new();
    let mut update = Update {
        groups: Vec::new(),
        kept: 0,
        written: Vec::new(),
        removed: Vec::new(),
        others: others.keys().map(|id| tree.path(*id)).collect(),
        has_record: before.is_some(),
        bytes: 0,
        label: old.label.clone(),
        names_are_same: names(&old.tree) == names(tree),
    };
    let mut fresh: Vec<NodeId> = vec![Tree::ROOT];
    for step in tree.walk() {
        let Some(content) = tree.node(step.id).content() else {
            fresh.push(step.id);
            continue;
        };
        if let Some(id) = others.get(&step.id) {
            places.insert(step.id, old.runs.get(id).cloned().unwrap_or_default());
            continue;
        }
        let modified = tree.node(step.id).meta.modified;
        if let Some(id) = old.same(&step.path, content, modified, quick, job)? {
            places.insert(step.id, old.runs.get(&id).cloned().unwrap_or_default());
            update.kept += 1;
        } else {
            update.written.push(step.path);
            fresh.push(step.id);
        }
    }
    for step in old.tree.walk() {
        if old.tree.node(step.id).content().is_some() && tree.find_ignoring_case(&step.path).is_none() {
            update.removed.push(step.path);
        }
    }
    update.others.sort();
    let mut free = old.free();
    let wanted: u64 = fresh.iter().map(|id| folders.clusters_of(*id, cluster_len)).sum();
    let there: u64 = free.iter().map(|run| u64::from(run.count)).sum();
    if wanted > there {
        let missing = ((wanted - there) * cluster_len).div_ceil(1 << 20);
        return Err(Error::request(
            format!(
                "the stick has too little room for what is new beside what is old: {missing} MiB are missing"
            ),
            Advice::WriteStick,
        ));
    }
    for id in &fresh {
        let count = folders.clusters_of(*id, cluster_len);
        places.insert(*id, take(&mut free, count));
    }
    old.compose(&mut update, tree, &folders, &places, &fresh, volume)?;
    // Last, so that nothing counts as ours before it is there.
    if old.geometry.fat_start >= ours::OFFSET + ours::SECTORS * SECTOR && before.as_ref() != Some(&ours) {
        let content = Content::from_bytes(ours.to_bytes());
        update.groups.push(vec![Write { offset: ours::OFFSET, content, name: "the record of files".into() }]);
    }
    Ok(update)
}

/// What the directories of a tree say besides where files lie.
fn names(tree: &Tree) -> Vec<(String, i64, bool)> {
    let step = |step: neat_content::Step| {
        let meta = tree.node(step.id).meta;
        // From 1980 on, in even seconds, is what FAT can say.
        (step.path, meta.modified.seconds.max(315_532_800) / 2 * 2, meta.hidden)
    };
    tree.walk().map(step).collect()
}

/// Takes clusters, in one run where there is one.
fn take(free: &mut Vec<Extent>, count: u64) -> Vec<Extent> {
    let mut wanted = count as u32;
    let mut runs = Vec::new();
    if let Some(run) = free.iter_mut().find(|run| run.count >= wanted).filter(|_| wanted > 0) {
        runs.push(run.split_off(wanted));
        wanted = 0;
    }
    while wanted > 0 {
        let Some(run) = free.iter_mut().find(|run| run.count > 0) else { break };
        let step = wanted.min(run.count);
        runs.push(run.split_off(step));
        wanted -= step;
    }
    free.retain(|run| run.count > 0);
    runs
}

impl Old {
    fn read(volume: &Content) -> Result<Self> {
        let geometry = geometry(volume)?;
        let first = read_vec(volume, 0, 512, 512, "boot sector")?;
        if geometry.kind != FatKind::Fat32 || first[3..11] != OEM_NAME || geometry.fat_count != 2 {
            return Err(Error::request(
                "this stick was not written as FAT32 by Neat Stack",
                Advice::WriteStick,
            ));
        }
        let (tree, label) = read_labelled(volume)?;
        let mut runs = HashMap::new();
        for step in tree.walk() {
            if let Some(content) = tree.node(step.id).content() {
                runs.insert(step.id, Self::runs_of(&geometry, volume, content)?);
            }
        }
        let len = (geometry.fat_start, geometry.fat_len);
        let table = read_vec(volume, len.0, len.1, MAX_TABLE_LEN, "file allocation table")?;
        Ok(Self { geometry, tree, label, runs, table })
    }

    /// Takes what somebody else put there into the new tree; which file of the old one each is.
    fn keep_others(
        &self,
        ours: Option<&OurFiles>,
        tree: &mut Tree,
        others: &mut HashMap<NodeId, NodeId>,
    ) -> Result<()> {
        for step in self.tree.walk() {
            let node = self.tree.node(step.id);
            let is_folder = node.folder().is_some();
            if ours.is_some_and(|ours| ours.has(&step.path, is_folder))
                || tree.find_ignoring_case(&step.path).is_some()
            {
                continue;
            }
            let in_the_way = |error: Error| {
                Error::request(
                    format!("{} on the stick is somebody else's, and cannot stay: {error}", step.path),
                    "move it elsewhere, or let it go with --remove-others",
                )
            };
            if let Some(content) = node.content() {
                let id = tree.put_file(&step.path, content.clone(), node.meta).map_err(in_the_way)?;
                others.insert(id, step.id);
            } else if is_folder {
                tree.make_folder(&step.path, node.meta).map_err(in_the_way)?;
            }
        }
        Ok(())
    }

    /// The clusters behind a content that lies in the file system.
    fn runs_of(geometry: &Geometry, volume: &Content, content: &Content) -> Result<Vec<Extent>> {
        let lost = || {
            let expected = "files in extents of the stick";
            Error::bad_field("Fat", "chain", geometry.fat_start, expected, "something else")
        };
        let Some(Piece::Extent { source: whole, offset: base, .. }) = volume.pieces().first() else {
            return if content.is_empty() { Ok(Vec::new()) } else { Err(lost()) };
        };
        let run = |piece: &Piece| match piece {
            Piece::Extent { source, offset, len } if std::sync::Arc::ptr_eq(source, whole) => {
                let at = offset.checked_sub(base + geometry.data_start).ok_or_else(lost)?;
                let first = Cluster::FIRST.after((at / geometry.cluster_len) as u32);
                Ok(Extent { first, count: len.div_ceil(geometry.cluster_len) as u32 })
            }
            _ => Err(lost()),
        };
        content.pieces().iter().map(run).collect()
    }

    /// The file of the old tree that is the same as a new one.
    fn same(
        &self,
        path: &str,
        content: &Content,
        modified: Timestamp,
        quick: bool,
        job: &Job<'_>,
    ) -> Result<Option<NodeId>> {
        let Some(id) = self.tree.find_ignoring_case(path) else { return Ok(None) };
        let node = self.tree.node(id);
        let Some(own) = node.content().filter(|own| own.len() == content.len()) else { return Ok(None) };
        // Times on FAT are even seconds.
        if quick {
            return Ok((node.meta.modified.seconds == modified.seconds / 2 * 2).then_some(id));
        }
        let equal = digest(own, job)? == digest(content, job)?;
        Ok(equal.then_some(id))
    }

    /// Runs of clusters that nothing uses.
    fn free(&self) -> Vec<Extent> {
        let mut free: Vec<Extent> = Vec::new();
        let entries =
            self.table.chunks_exact(4).take(self.geometry.clusters as usize + 2).enumerate().skip(2);
        for (cluster, entry) in entries {
            if entry[..3] != [0; 3] || entry[3] & 0x0F != 0 {
                continue;
            }
            let first = Cluster(cluster as u32);
            match free.last_mut() {
                Some(run) if run.first.after(run.count) == first => run.count += 1,
                _ => free.push(Extent { first, count: 1 }),
            }
        }
        free
    }

    fn compose(
        &self,
        update: &mut Update,
        tree: &Tree,
        folders: &Folders<'_>,
        places: &HashMap<NodeId, Vec<Extent>>,
        fresh: &[NodeId],
        volume: &Content,
    ) -> Result<()> {
        let geometry = &self.geometry;
        let first = |id| places.get(&id).and_then(|runs| runs.first()).map_or(Cluster::NONE, |run| run.first);
        let mut data = Vec::new();
        for id in fresh {
            let (bytes, name) = if let Some(content) = tree.node(*id).content() {
                (content.clone(), tree.path(*id))
            } else {
                let count = folders.clusters_of(*id, geometry.cluster_len);
                let bytes = folders.clusters(*id, &first, count * geometry.cluster_len);
                (bytes, format!("the folder {}", tree.path(*id)))
            };
            update.bytes += bytes.len();
            let mut done = 0;
            for run in places.get(id).into_iter().flatten() {
                let len = (u64::from(run.count) * geometry.cluster_len).min(bytes.len() - done);
                let offset = geometry.data_start + run.first.into_data(geometry.cluster_len).unwrap_or(0);
                data.push(Write { offset, content: bytes.part(done, len)?, name: name.clone() });
                done += len;
            }
        }
        let new: Vec<&Vec<Extent>> = places.values().collect();
        let fresh_runs: Vec<&Vec<Extent>> = fresh.iter().filter_map(|id| places.get(id)).collect();
        // The old entries as they are, the new chains over clusters that nobody uses.
        let mut both = self.table.clone();
        for run in chains(&fresh_runs) {
            let behind = run.first.after(run.count).0;
            for cluster in run.first.0..behind {
                let next = if cluster + 1 < behind { cluster + 1 } else { run.then };
                if let Some(slot) = both.get_mut(cluster as usize * 4..cluster as usize * 4 + 4) {
                    slot.copy_from_slice(&next.to_le_bytes());
                }
            }
        }
        let mut runs = chains(&new);
        runs.sort_unstable();
        let used: u64 = runs.iter().map(|run| u64::from(run.count)).sum();
        let next_free = runs.last().map_or(Cluster::FIRST, |run| run.first.after(run.count));
        let last = Table { kind: FatKind::Fat32, runs, len: geometry.fat_len }.to_bytes()?;
        let mut boot = read_vec(volume, 0, 512, 512, "boot sector")?;
        boot[ROOT_AT..ROOT_AT + 4].copy_from_slice(&first(Tree::ROOT).0.to_le_bytes());
        let sector = |offset, bytes: Vec<u8>, name: &str| Write {
            offset,
            content: Content::from_bytes(bytes),
            name: name.into(),
        };
        let info = fs_info(geometry.clusters - used, next_free);
        let mut after = self.table_writes(&both, &last);
        after.push(sector(512, info.clone(), "FSInfo"));
        after.push(sector(7 * 512, info, "FSInfo"));
        update.groups = vec![
            data,
            self.table_writes(&self.table, &both),
            vec![sector(0, boot.clone(), "the boot sector")],
            vec![sector(6 * 512, boot, "the copy of the boot sector")],
            after,
        ];
        Ok(())
    }

    /// The pieces in which two tables differ, for both copies.
    fn table_writes(&self, before: &[u8], after: &[u8]) -> Vec<Write> {
        let mut writes = Vec::new();
        for copy in [1, 0] {
            let start = self.geometry.fat_start + copy * self.geometry.fat_len;
            let pieces = before.chunks(TABLE_STEP).zip(after.chunks(TABLE_STEP)).enumerate();
            for (number, (old, new)) in pieces {
                if old != new {
                    writes.push(Write {
                        offset: start + (number * TABLE_STEP) as u64,
                        content: Content::from_bytes(new),
                        name: "the file allocation table".into(),
                    });
                }
            }
        }
        writes
    }
}

/// The runs of chains, each leading to the next.
fn chains(all: &[&Vec<Extent>]) -> Vec<Run> {
    let mut runs = Vec::new();
    for chain in all {
        for (index, run) in chain.iter().enumerate() {
            let then = chain.get(index + 1).map_or(END_OF_CHAIN, |next| next.first.0);
            runs.push(Run { first: run.first, count: run.count, then });
        }
    }
    runs
}

fn digest(content: &Content, job: &Job<'_>) -> Result<[u8; 32]> {
    let mut hasher = blake3::Hasher::new();
    content.for_each_block(1 << 20, job, &mut |block| {
        hasher.update(block);
        job.event(neat_content::Event::BytesDone(block.len() as u64));
        Ok(())
    })?;
    Ok(*hasher.finalize().as_bytes())
}

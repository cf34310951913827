//! What would go with a component: files, bytes on the installed disk, bytes of the image file.

use super::Inventory;
use crate::Edition;
use neat_image::{BlobDigest, EntryId, Files, Name};
use std::{
    collections::{HashMap, HashSet, hash_map::DefaultHasher},
    hash::Hasher,
    sync::Arc,
};

/// What another edition of the image file has: which content, and where.
pub struct OtherFiles {
    counts: HashMap<BlobDigest, u32>,
    by_path: HashMap<PathKey, BlobDigest>,
}

/// A path without regard to case, by two hashes that know nothing of each other: no two paths of an image file have the
/// same, and a million of them fit into little memory.
type PathKey = (u64, u64);

impl OtherFiles {
    /// Reads the tree of an edition.
    pub fn of(files: &Files) -> Self {
        let counts = references(files, files.ids());
        let keys = path_keys(files);
        let named = files.ids().filter(|id| !files.entry(*id).content().is_none());
        let by_path = named.map(|id| (keys[id.index()], files.entry(id).content())).collect();
        Self { counts, by_path }
    }
}

/// The key of each entry, by its number.
fn path_keys(files: &Files) -> Vec<PathKey> {
    let mut keys = vec![(0, 0); files.len()];
    // A folder comes before what it holds.
    for id in files.ids().skip(1) {
        let entry = files.entry(id);
        keys[id.index()] = key_of(keys[entry.parent().index()], &entry.name);
    }
    keys
}

fn key_of(folder: PathKey, name: &Name) -> PathKey {
    let half = |first: u64, second: u64| {
        let mut hasher = DefaultHasher::new();
        hasher.write_u64(first);
        hasher.write_u64(second);
        for unit in name.units() {
            hasher.write_u16(neat_content::fold_unit(*unit));
        }
        hasher.finish()
    };
    (half(folder.0, folder.1), half(!folder.1, folder.0))
}

/// How many names each content has among these entries.
fn references(files: &Files, ids: impl Iterator<Item = EntryId>) -> HashMap<BlobDigest, u32> {
    let mut counts = HashMap::new();
    for digest in ids.flat_map(|id| files.entry(id).digests()) {
        *counts.entry(digest).or_default() += 1;
    }
    counts
}

/// Entries and everything below them, each once.
fn below(files: &Files, entries: &[EntryId]) -> HashSet<EntryId> {
    let mut all = HashSet::new();
    let mut pending = entries.to_vec();
    while let Some(id) = pending.pop() {
        if all.insert(id) {
            pending.extend(files.entry(id).children());
        }
    }
    all
}

impl Inventory {
    /// Sizes: content that nothing else uses. In each of the other editions a content goes too from the paths that the
    /// component has here; where it has another, it stays.
    pub(super) fn measure(&mut self, edition: &Edition, others: &[Arc<OtherFiles>]) {
        let files = &edition.files;
        let all = references(files, files.ids());
        let keys = if others.is_empty() { Vec::new() } else { path_keys(files) };
        for component in self.components.values_mut() {
            let ids = below(files, &component.entries);
            component.files = ids.iter().filter(|id| !files.entry(**id).is_folder()).count() as u64;
            let mut own = references(files, ids.iter().copied());
            own.retain(|digest, count| all.get(digest) == Some(count));
            let same: Vec<HashMap<BlobDigest, u32>> = others
                .iter()
                .map(|other| {
                    let mut same = HashMap::new();
                    let there = ids.iter().filter_map(|id| other.by_path.get(&keys[id.index()]));
                    for digest in there.filter(|digest| own.contains_key(digest)) {
                        *same.entry(*digest).or_default() += 1;
                    }
                    same
                })
                .collect();
            for digest in own.keys() {
                component.bytes += edition.len_of(*digest);
                let count = |counts: &HashMap<BlobDigest, u32>| counts.get(digest).copied().unwrap_or(0);
                if !others.iter().zip(&same).any(|(other, same)| count(&other.counts) > count(same)) {
                    component.packed += edition.packed_len(*digest);
                }
            }
        }
    }
}

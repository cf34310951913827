//! What would go with a component: files, bytes on the installed disk, bytes of the image file.

use super::Inventory;
use crate::Edition;
use neat_content::Result;
use neat_image::{BlobDigest, EntryId, Files, Name};
use std::{
    borrow::Borrow,
    collections::{HashMap, HashSet, hash_map::DefaultHasher},
    hash::Hasher,
};

/// What all editions of an image file have: which content, and where. A name takes 32 bytes, however long its path.
#[derive(Default)]
pub struct OtherFiles {
    /// By content.
    names: Vec<NameOf>,
}

/// A name of a content.
#[derive(Clone, Copy)]
struct NameOf {
    digest: BlobDigest,
    edition: u32,
    /// The path without regard to case, hashed. Another path with the same would make a size a little wrong, nothing else.
    path: u64,
}

impl OtherFiles {
    /// Reads the trees of all editions, one after another, each with its number.
    ///
    /// # Errors
    /// Those of reading a tree.
    pub fn of<F: Borrow<Files>>(editions: impl Iterator<Item = Result<(usize, F)>>) -> Result<Self> {
        let mut names = Vec::new();
        for item in editions {
            let (number, files) = item?;
            let files = files.borrow();
            let keys = path_keys(files);
            for id in files.ids() {
                let (edition, path) = (number as u32, keys[id.index()]);
                names.extend(files.entry(id).digests().map(|digest| NameOf { digest, edition, path }));
            }
        }
        names.sort_unstable_by_key(|own| own.digest);
        Ok(Self { names })
    }

    /// Whether an edition other than this one has a content at another path than these.
    fn has_elsewhere(&self, digest: BlobDigest, edition: usize, paths: &HashSet<u64>) -> bool {
        let first = self.names.partition_point(|own| own.digest < digest);
        let own = self.names[first..].iter().take_while(|own| own.digest == digest);
        own.into_iter().any(|own| own.edition as usize != edition && !paths.contains(&own.path))
    }
}

/// The key of each entry's path, by its number.
fn path_keys(files: &Files) -> Vec<u64> {
    let mut keys = vec![0; files.len()];
    // A folder comes before what it holds.
    for id in files.ids().skip(1) {
        let entry = files.entry(id);
        keys[id.index()] = key_of(keys[entry.parent().index()], &entry.name);
    }
    keys
}

fn key_of(folder: u64, name: &Name) -> u64 {
    let mut hasher = DefaultHasher::new();
    hasher.write_u64(folder);
    for unit in name.units() {
        hasher.write_u16(neat_content::fold_unit(*unit));
    }
    hasher.finish()
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
    pub(super) fn measure(&mut self, edition: &Edition, others: Option<&OtherFiles>) {
        let files = &edition.files;
        let all = references(files, files.ids());
        let keys = if others.is_some() { path_keys(files) } else { Vec::new() };
        for component in self.components.values_mut() {
            let ids = below(files, &component.entries);
            component.files = ids.iter().filter(|id| !files.entry(**id).is_folder()).count() as u64;
            let paths: HashSet<u64> = ids.iter().filter_map(|id| keys.get(id.index()).copied()).collect();
            for (digest, count) in references(files, ids.iter().copied()) {
                if all.get(&digest) != Some(&count) {
                    continue;
                }
                component.bytes += edition.len_of(digest);
                if !others.is_some_and(|others| others.has_elsewhere(digest, edition.number, &paths)) {
                    component.packed += edition.packed_len(digest);
                }
            }
        }
    }
}

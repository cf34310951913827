//! What would go with a component: files, bytes on the installed disk, bytes of the image file.

use super::{Component, Inventory};
use crate::Edition;
use neat_content::Result;
use neat_image::{BlobDigest, EntryId, Files, ImageDraft};
use rayon::iter::{IntoParallelRefIterator, IntoParallelRefMutIterator, ParallelIterator};
use std::{
    collections::{HashMap, HashSet, hash_map::DefaultHasher},
    hash::Hasher,
};

/// What all editions of an image file have: which content, and where. A name takes 32 bytes, however long its path and in
/// however many editions.
#[derive(Default)]
pub struct OtherFiles {
    /// By content and path, each once.
    names: Vec<NameOf>,
}

/// A name of a content.
#[derive(Clone, Copy)]
struct NameOf {
    digest: BlobDigest,
    /// The one edition that has it there, or [`SEVERAL`].
    edition: u32,
    /// The path without regard to case, hashed. Another path with the same would make a size a little wrong, nothing else.
    path: u64,
}

/// Stands for the editions of a name that more than one has.
const SEVERAL: u32 = u32::MAX;

impl OtherFiles {
    /// Reads the trees of editions of `draft`, by their numbers, one after another.
    ///
    /// # Errors
    /// Those of reading a tree.
    pub fn of(draft: &ImageDraft, numbers: impl IntoIterator<Item = usize>) -> Result<Self> {
        let mut names: Vec<NameOf> = Vec::new();
        let numbers: Vec<usize> = numbers.into_iter().collect();
        // A few at a time: each holds all its names until they are put among the others.
        for some in numbers.chunks(rayon::current_num_threads().min(4)) {
            let read: Vec<_> = some.par_iter().map(|number| names_of(draft, *number)).collect();
            for own in read {
                names.append(&mut own?);
            }
            // Those of each edition are sorted already.
            names.sort_by_key(|own| (own.digest, own.path));
            names.dedup_by(|next, first| {
                let is_same = next.digest == first.digest && next.path == first.path;
                if is_same && next.edition != first.edition {
                    first.edition = SEVERAL;
                }
                is_same
            });
        }
        Ok(Self { names })
    }

    /// Whether an edition other than this one has a content at another path than these.
    fn has_elsewhere(&self, digest: BlobDigest, edition: usize, paths: &HashSet<u64>) -> bool {
        let first = self.names.partition_point(|own| own.digest < digest);
        let own = self.names[first..].iter().take_while(|own| own.digest == digest);
        own.into_iter().any(|own| own.edition != edition as u32 && !paths.contains(&own.path))
    }
}

/// What an edition has and where, sorted by content and path.
fn names_of(draft: &ImageDraft, number: usize) -> Result<Vec<NameOf>> {
    let (mut names, mut keys) = (Vec::new(), Vec::<u64>::new());
    let edition = number as u32;
    draft.walk(number, &mut |_, parent, seen| {
        // The root is in itself and has no name.
        let path = keys.get(parent as usize).map_or(0, |folder| key_of(*folder, seen.name_units()));
        keys.push(path);
        names.extend(seen.digests().map(|digest| NameOf { digest, edition, path }));
    })?;
    names.sort_unstable_by_key(|own| (own.digest, own.path));
    Ok(names)
}

/// The key of each entry's path, by its number.
fn path_keys(files: &Files) -> Vec<u64> {
    let mut keys = vec![0; files.len()];
    // A folder comes before what it holds.
    for id in files.ids().skip(1) {
        let entry = files.entry(id);
        let units = entry.name.units().iter().copied();
        keys[id.index()] = key_of(keys[entry.parent().index()], units);
    }
    keys
}

fn key_of(folder: u64, name: impl Iterator<Item = u16>) -> u64 {
    let mut hasher = DefaultHasher::new();
    hasher.write_u64(folder);
    for unit in name {
        hasher.write_u16(neat_content::fold_unit(unit));
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
pub(super) fn below(files: &Files, entries: &[EntryId]) -> HashSet<EntryId> {
    let mut all = HashSet::new();
    let mut pending = entries.to_vec();
    while let Some(id) = pending.pop() {
        if all.insert(id) {
            pending.extend(files.entry(id).children());
        }
    }
    all
}

/// What all that goes together frees.
pub(crate) struct Together {
    /// Bytes that go from the image file.
    pub packed: u64,
    /// How many names each content loses.
    lost: HashMap<BlobDigest, u32>,
    /// How many names each of those has.
    all: HashMap<BlobDigest, u32>,
}

impl Together {
    /// Weighs entries, with everything below them.
    pub(crate) fn of(edition: &Edition, entries: &[EntryId], others: Option<&OtherFiles>) -> Self {
        let files = &edition.files;
        let mut all = Inventory::default();
        let one = Component { entries: entries.to_vec(), ..Component::default() };
        all.components.insert(String::new(), one);
        all.measure(edition, others);
        let packed = all.components.values().map(|own| own.packed).sum();
        let lost = references(files, below(files, entries).into_iter());
        let mut names = references(files, files.ids());
        names.retain(|digest, _| lost.contains_key(digest));
        Self { packed, lost, all: names }
    }

    /// Bytes of a component's files that stay, because files that stay are the same.
    pub(crate) fn stays_of(&self, edition: &Edition, component: &Component) -> u64 {
        let own = references(&edition.files, below(&edition.files, &component.entries).into_iter());
        let stays = own.keys().filter(|digest| self.lost.get(digest) != self.all.get(digest));
        stays.map(|digest| edition.len_of(*digest)).sum()
    }
}

impl Inventory {
    /// Sizes: content that nothing else uses. In each of the other editions a content goes too from the paths that the
    /// component has here; where it has another, it stays.
    pub fn measure(&mut self, edition: &Edition, others: Option<&OtherFiles>) {
        let files = &edition.files;
        let all = references(files, files.ids());
        let keys = if others.is_some() { path_keys(files) } else { Vec::new() };
        let mut components: Vec<_> = self.components.values_mut().collect();
        components.par_iter_mut().for_each(|component| {
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
        });
    }
}

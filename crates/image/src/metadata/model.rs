//! A tree of files as an edition has it.

use super::Name;
use crate::{
    BlobDigest,
    layout::{ATTRIBUTE_DIRECTORY, ATTRIBUTE_REPARSE, NO_SECURITY},
};
use neat_content::{Error, Result, Timestamp};

/// Number of an entry in its [`Files`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct EntryId(pub(crate) u32);

impl EntryId {
    /// Its place in a list that has one item for each entry, [`Files::len`] of them.
    pub const fn index(self) -> usize {
        self.0 as usize
    }
}

/// Times of a file, each in units of 100 ns since 1601-01-01 UTC.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Times {
    /// When it was made.
    pub created: u64,
    /// When it was last read.
    pub accessed: u64,
    /// When it was last changed.
    pub written: u64,
}

/// Seconds from 1601 to 1970.
const EPOCH_GAP: i64 = 11_644_473_600;

impl Times {
    /// All at one moment.
    pub fn at(moment: Timestamp) -> Self {
        let time = Self::from_timestamp(moment);
        Self { created: time, accessed: time, written: time }
    }

    /// A moment in these units; what lies before 1601 becomes 0.
    pub fn from_timestamp(moment: Timestamp) -> u64 {
        let units = i128::from(moment.seconds.saturating_add(EPOCH_GAP)) * 10_000_000
            + i128::from(moment.nanoseconds / 100);
        u64::try_from(units.max(0)).unwrap_or(u64::MAX)
    }

    /// These units as a moment.
    pub const fn to_timestamp(units: u64) -> Timestamp {
        Timestamp {
            seconds: (units / 10_000_000) as i64 - EPOCH_GAP,
            nanoseconds: (units % 10_000_000) as u32 * 100,
        }
    }
}

/// A stream listed after the directory entry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stream {
    /// Its name; empty for the file's ordinary content.
    pub name: Name,
    /// Its content.
    pub digest: BlobDigest,
    /// Bytes that the description leaves unused.
    pub unused: [u8; 8],
}

/// What makes a file a reparse point; its data is the blob of the ordinary content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Reparse {
    /// What kind of reparse point.
    pub tag: u32,
    /// A reserved word.
    pub reserved: u16,
    /// Whether the target was left as it was, and not made relative to the edition's root.
    pub not_fixed: u16,
}

/// A file, a folder or a reparse point.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The name; empty for the root.
    pub name: Name,
    /// Attributes, see the constants `ATTRIBUTE_…` in [`crate::layout`].
    pub attributes: u32,
    /// Number of the security descriptor, [`NO_SECURITY`] for none.
    pub security: u32,
    /// Times.
    pub times: Times,
    /// Content named in the directory entry itself.
    pub digest: BlobDigest,
    pub(crate) parent: EntryId,
    /// Number of the group of hard links, 0 for none; of a reparse point its raw fields.
    pub(crate) link: [u8; 8],
    /// What most entries do not have.
    pub(super) rare: Option<Box<Rare>>,
    pub(super) inside: Option<Box<Inside>>,
    /// Whether a folder had a list of entries; an empty one may have none.
    pub(crate) had_list: bool,
}

// An edition has a hundred thousand of them.
const _: () = assert!(size_of::<Entry>() <= 112);

/// What only few entries have.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Rare {
    /// A second, short name.
    pub short_name: Name,
    /// Further streams.
    pub streams: Vec<Stream>,
    /// What follows the names, such as object ids, as it was.
    pub extra: Box<[u8]>,
    /// Fields that the description leaves unused, before the times.
    pub unused: [u8; 16],
    /// Another, behind the digest.
    pub unknown: [u8; 4],
}

/// What is inside a folder.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Inside {
    children: Vec<EntryId>,
    /// Whether the names do not rise, so that one is not found by halving.
    is_unsorted: bool,
}

impl Entry {
    /// A folder.
    pub fn folder(name: impl Into<Name>, times: Times) -> Self {
        Self { attributes: ATTRIBUTE_DIRECTORY, times, ..Self::bare(name.into()) }
    }

    /// A file with this content.
    pub fn file(name: impl Into<Name>, attributes: u32, times: Times, digest: BlobDigest) -> Self {
        Self { attributes: attributes & !ATTRIBUTE_DIRECTORY, times, digest, ..Self::bare(name.into()) }
    }

    /// One that has a name and nothing else.
    pub(super) fn bare(name: Name) -> Self {
        Self {
            name,
            attributes: 0,
            security: NO_SECURITY,
            times: Times::default(),
            digest: BlobDigest::NONE,
            parent: Files::ROOT,
            link: [0; 8],
            rare: None,
            inside: None,
            had_list: true,
        }
    }

    /// The units of a second, short name; mostly none.
    pub fn short_name(&self) -> &[u16] {
        self.rare.as_ref().map_or(&[], |rare| rare.short_name.units())
    }

    /// Further streams than [`Entry::digest`].
    pub fn streams(&self) -> &[Stream] {
        self.rare.as_ref().map_or(&[], |rare| &rare.streams)
    }

    /// What follows the names, such as object ids, as it was.
    pub fn extra(&self) -> &[u8] {
        self.rare.as_ref().map_or(&[], |rare| &rare.extra)
    }

    /// Fields that the description leaves unused, before the times and behind the digest.
    pub(super) fn unused(&self) -> ([u8; 16], [u8; 4]) {
        self.rare.as_ref().map_or_else(Default::default, |rare| (rare.unused, rare.unknown))
    }

    /// Gives it what most entries do not have.
    pub fn set_rare(&mut self, rare: Rare) {
        self.rare = (rare != Rare::default()).then(|| rare.into());
    }

    /// Changes the content of one of [`Entry::streams`], by its place there.
    pub fn set_stream(&mut self, place: usize, digest: BlobDigest) {
        if let Some(stream) = self.rare.as_mut().and_then(|rare| rare.streams.get_mut(place)) {
            stream.digest = digest;
        }
    }

    /// Whether it is a folder; a folder may be a reparse point too.
    pub const fn is_folder(&self) -> bool {
        self.attributes & ATTRIBUTE_DIRECTORY != 0
    }

    /// Whether it is a reparse point.
    pub const fn is_reparse(&self) -> bool {
        self.attributes & ATTRIBUTE_REPARSE != 0
    }

    /// What makes it a reparse point, if it is one.
    pub fn reparse(&self) -> Option<Reparse> {
        let raw = u64::from_le_bytes(self.link);
        self.is_reparse().then_some(Reparse {
            tag: raw as u32,
            reserved: (raw >> 32) as u16,
            not_fixed: (raw >> 48) as u16,
        })
    }

    /// Makes it a reparse point; its data is the blob of the ordinary content.
    pub fn set_reparse(&mut self, reparse: Reparse) {
        self.attributes |= ATTRIBUTE_REPARSE;
        self.link[..4].copy_from_slice(&reparse.tag.to_le_bytes());
        self.link[4..6].copy_from_slice(&reparse.reserved.to_le_bytes());
        self.link[6..].copy_from_slice(&reparse.not_fixed.to_le_bytes());
    }

    /// The group of hard links it belongs to; 0 for none.
    pub const fn hard_link(&self) -> u64 {
        if self.is_reparse() { 0 } else { u64::from_le_bytes(self.link) }
    }

    /// Puts it into a group of hard links.
    pub fn set_hard_link(&mut self, group: u64) {
        if !self.is_reparse() {
            self.link = group.to_le_bytes();
        }
    }

    /// The ordinary content, wherever it is listed: in the entry itself, or among the streams when there are named ones.
    pub fn content(&self) -> BlobDigest {
        if !self.digest.is_none() || self.streams().is_empty() {
            return self.digest;
        }
        let plain = self.streams().iter().find(|stream| stream.name.is_empty() && !stream.digest.is_none());
        plain.map_or(BlobDigest::NONE, |stream| stream.digest)
    }

    /// Changes the ordinary content where it is listed.
    pub fn set_content(&mut self, digest: BlobDigest) {
        let streams = self.rare.iter_mut().flat_map(|rare| &mut rare.streams);
        let plain = streams.into_iter().find(|stream| stream.name.is_empty());
        match plain {
            Some(stream) if self.digest.is_none() => stream.digest = digest,
            _ => self.digest = digest,
        }
    }

    /// All content it names, with repetitions.
    pub fn digests(&self) -> impl Iterator<Item = BlobDigest> + '_ {
        let all = std::iter::once(self.digest).chain(self.streams().iter().map(|stream| stream.digest));
        all.filter(|digest| !digest.is_none())
    }

    /// What is inside, if it is a folder.
    pub fn children(&self) -> &[EntryId] {
        self.inside.as_ref().map_or(&[], |inside| &inside.children)
    }

    /// What is inside, to be changed.
    pub(super) fn children_mut(&mut self) -> &mut Vec<EntryId> {
        &mut self.inside.get_or_insert_default().children
    }

    /// Whether the names of what is inside do not rise, so that one is not found by halving.
    fn is_unsorted(&self) -> bool {
        self.inside.as_ref().is_some_and(|inside| inside.is_unsorted)
    }

    /// The folder it is in; the root is in itself.
    pub const fn parent(&self) -> EntryId {
        self.parent
    }
}

/// The files of an edition and their security descriptors.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Files {
    pub(crate) entries: Vec<Entry>,
    /// Security descriptors, in the order of their numbers.
    pub security: Vec<Box<[u8]>>,
}

/// A step of [`Files::walk`].
#[derive(Clone, Debug)]
pub struct Step {
    /// The entry.
    pub id: EntryId,
    /// Its path from the root, parts joined with `/`.
    pub path: String,
}

impl Files {
    /// The root folder.
    pub const ROOT: EntryId = EntryId(0);

    /// Nothing but a root folder.
    pub fn new(times: Times) -> Self {
        Self { entries: vec![Entry::folder("", times)], security: Vec::new() }
    }

    /// How many entries were ever added, the root and what was taken out included.
    #[expect(clippy::len_without_is_empty, reason = "the root is always there")]
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// The entry with this number.
    pub fn entry(&self, id: EntryId) -> &Entry {
        &self.entries[id.0 as usize]
    }

    /// The entry with this number, to change it.
    pub fn entry_mut(&mut self, id: EntryId) -> &mut Entry {
        &mut self.entries[id.0 as usize]
    }

    /// Adds an entry to a folder, at the place that its name has among the others. Fails if the name is taken or the
    /// parent is not a folder.
    ///
    /// # Errors
    /// `BadRequest` for both.
    pub fn add(&mut self, parent: EntryId, entry: Entry) -> Result<EntryId> {
        if !self.entry(parent).is_folder() {
            return Err(Error::request(format!("{} is not a folder", self.path(parent)), "name a folder"));
        }
        let id = EntryId(self.entries.len() as u32);
        let Err(place) = self.place_of(parent, entry.name.units()) else {
            return Err(Error::Mismatch {
                expected: format!("one entry of each name in /{}", self.path(parent)),
                found: format!("{} twice, or in two cases", entry.name),
                hint: "rename one of the two".into(),
            });
        };
        self.entry_mut(parent).children_mut().insert(place, id);
        self.entries.push(Entry { parent, ..entry });
        Ok(id)
    }

    /// Takes an entry and all below it out of the tree. The root stays.
    pub fn remove(&mut self, id: EntryId) {
        let parent = self.entry(id).parent;
        if id != Self::ROOT {
            self.entry_mut(parent).children_mut().retain(|child| *child != id);
        }
    }

    /// The child of a folder with this name, in any case.
    pub fn child(&self, parent: EntryId, name: &str) -> Option<EntryId> {
        let units: Vec<u16> = name.encode_utf16().collect();
        let place = self.place_of(parent, &units).ok()?;
        self.entry(parent).children().get(place).copied()
    }

    /// Where a folder has a name, in any case, or else where it would stand.
    fn place_of(&self, parent: EntryId, units: &[u16]) -> std::result::Result<usize, usize> {
        let folder = self.entry(parent);
        let name = |child: &EntryId| &self.entry(*child).name;
        // Mostly a new name is the last.
        if folder.children().last().is_none_or(|last| name(last).compare_ignoring_case(units).is_lt())
            && !folder.is_unsorted()
        {
            return Err(folder.children().len());
        }
        if !folder.is_unsorted() {
            return folder.children().binary_search_by(|child| name(child).compare_ignoring_case(units));
        }
        let found = folder.children().iter().position(|child| name(child).equals_ignoring_case(units));
        found.ok_or(folder.children().len())
    }

    /// Notes of every folder whether its names rise, once they are all there.
    pub(crate) fn note_order(&mut self) {
        for at in 0..self.entries.len() {
            let children = self.entries[at].children();
            let rises = |pair: &[EntryId]| {
                let [first, second] = pair else { return true };
                let second = &self.entry(*second).name;
                self.entry(*first).name.compare_ignoring_case(second.units()).is_lt()
            };
            let is_unsorted = !children.windows(2).all(rises);
            if let Some(inside) = &mut self.entries[at].inside {
                inside.is_unsorted = is_unsorted;
                inside.children.shrink_to_fit();
            }
        }
    }

    /// The entry at a path, parts joined with `/` or `\`, in any case.
    pub fn find(&self, path: &str) -> Option<EntryId> {
        let parts = path.split(['/', '\\']).filter(|part| !part.is_empty());
        parts.into_iter().try_fold(Self::ROOT, |id, name| self.child(id, name))
    }

    /// The path from the root, parts joined with `/`.
    pub fn path(&self, id: EntryId) -> String {
        let mut names = Vec::new();
        let mut at = id;
        while at != Self::ROOT {
            names.push(self.entry(at).name.to_string());
            at = self.entry(at).parent;
        }
        names.reverse();
        names.join("/")
    }

    /// Every entry below the root, each folder before what it holds, in the order of the file.
    pub fn walk(&self) -> impl Iterator<Item = Step> + '_ {
        self.walk_from(Self::ROOT)
    }

    /// Every entry below `start`, with paths that begin there.
    pub fn walk_from(&self, start: EntryId) -> impl Iterator<Item = Step> + '_ {
        let steps = |id: EntryId, path: &str| -> Vec<Step> {
            let children = self.entry(id).children().iter().rev();
            let joined =
                |name: &Name| if path.is_empty() { name.to_string() } else { format!("{path}/{name}") };
            children.map(|child| Step { id: *child, path: joined(&self.entry(*child).name) }).collect()
        };
        let mut stack = steps(start, "");
        std::iter::from_fn(move || {
            let step = stack.pop()?;
            stack.extend(steps(step.id, &step.path));
            Some(step)
        })
    }

    /// The numbers of every entry, the root first, without the cost of paths.
    pub fn ids(&self) -> impl Iterator<Item = EntryId> + '_ {
        let mut stack = vec![Self::ROOT];
        std::iter::from_fn(move || {
            let id = stack.pop()?;
            stack.extend(self.entry(id).children().iter().rev());
            Some(id)
        })
    }
}

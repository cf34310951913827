//! What a touch-up asks of a tree of directories, whatever its format is.
//!
//! A format implements [`Format`]; ways through it are found by the methods that all have in common. The work on a
//! disc holds each of its trees as a [`DiscTree`], which every format is.

use super::commit::Ending;
use super::draft::Draft;
use super::{Mark, Target, Trail};
use crate::{TreeKind, units::BlockNumber};
use neat_content::{Error, Result, Timestamp};
use std::ops::Range;

/// Where bytes begin on the disc, and how many there are.
pub(super) type Extent = (u64, u64);

/// What a directory is known by while a touch-up works: the block where it was first found, or in UDF its file entry.
/// It stays when the directory moves.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) struct Key(pub BlockNumber);

/// One entry of a directory.
pub(super) trait Item: Clone {
    fn name(&self) -> &str;
    fn is_folder(&self) -> bool;
}

/// A tree in one format.
pub(super) trait Format {
    type Item: Item;

    /// What people call it.
    fn kind(&self) -> TreeKind;

    /// The root directory's key.
    fn root(&self) -> Key;

    /// What a directory shows.
    fn items(&mut self, draft: &Draft, key: Key) -> Result<Vec<Self::Item>>;

    /// The item called `name`, by its name or by what `target` says of it.
    fn find(&mut self, draft: &Draft, key: Key, name: &str, target: &Target) -> Result<Option<Self::Item>>;

    /// The key of the folder that `item` of directory `parent` is.
    fn enter(&mut self, draft: &Draft, parent: Key, item: &Self::Item) -> Result<Key>;

    /// Where a file's bytes begin, and how many there are in one piece; `None` of an empty file.
    fn extent(&self, draft: &Draft, item: &Self::Item) -> Result<Option<Extent>>;

    /// Bytes of a file; `None` of a link.
    fn file_len(&self, draft: &Draft, item: &Self::Item) -> Result<Option<u64>>;

    /// An empty folder `name` in directory `parent`; gives its key.
    fn make_folder(&mut self, draft: &mut Draft, parent: Key, name: &str, time: Timestamp) -> Result<Key>;

    /// Makes `name` in directory `key` a file with the bytes of `extent`. What else is known of one that is there
    /// already stays.
    fn put(
        &mut self,
        draft: &mut Draft,
        key: Key,
        name: &str,
        existing: Option<&Self::Item>,
        extent: Extent,
        time: Timestamp,
    ) -> Result<()>;

    /// Takes `item` out of directory `key`; gives what brings it back.
    fn remove(&mut self, draft: &Draft, key: Key, item: &Self::Item) -> Result<Vec<Vec<u8>>>;

    /// Brings back what [`Format::remove`] gave.
    fn bring_back(&mut self, draft: &mut Draft, key: Key, entries: Vec<Vec<u8>>) -> Result<()>;

    /// Lets the draft have all changes to directories.
    fn flush(&mut self, draft: &mut Draft) -> Result<()>;

    /// Lets the descriptors say how long the disc is, and `ending` what has to stand at its end for this tree.
    fn set_len(&self, draft: &mut Draft, len: u64, ending: &mut Ending) -> Result<()>;

    /// Where the descriptors begin that make the change.
    fn descriptors_at(&self) -> Option<u64>;

    /// Changes in place are confined to `range`, which is written at once, as there are other trees beside this one.
    fn confine(&mut self, range: &Range<u64>);

    /// What the first entries in and below a folder are.
    fn mark(&mut self, draft: &Draft, key: Key) -> Result<Mark> {
        let mut mark = Mark::default();
        let mut folders = vec![key];
        let mut next = 0;
        while let Some(key) = folders.get(next).copied() {
            next += 1;
            for item in self.items(draft, key)? {
                let goes_on = if item.is_folder() {
                    folders.push(self.enter(draft, key, &item)?);
                    mark.add_folder()
                } else if let Some(len) = self.file_len(draft, &item)? {
                    let first = self.extent(draft, &item)?.map(|(offset, _)| offset);
                    mark.add_file(first, len)
                } else {
                    true
                };
                if !goes_on {
                    return Ok(mark);
                }
            }
        }
        Ok(mark)
    }
}

/// A tree whose format does not matter.
pub(super) trait DiscTree {
    /// What people call it.
    fn kind(&self) -> TreeKind;

    /// How many entries the root directory has.
    fn root_entries(&mut self, draft: &Draft) -> Result<usize>;

    /// What stands along the way to `path`, to find the same way in another tree.
    fn trail(&mut self, draft: &Draft, path: &[&str]) -> Result<Trail>;

    /// Follows `folders` as far as they are there: the last one's key, and how many were found.
    fn follow(&mut self, draft: &Draft, folders: &[&str], trail: &Trail) -> Result<(Key, usize)>;

    /// See [`Format::make_folder`].
    fn make_folder(&mut self, draft: &mut Draft, parent: Key, name: &str, time: Timestamp) -> Result<Key>;

    /// Makes `name` in directory `key`, or the file there that `target` tells of, a file with the bytes of `extent`.
    /// Gives where the former bytes are.
    fn put(
        &mut self,
        draft: &mut Draft,
        key: Key,
        name: &str,
        target: &Target,
        extent: Extent,
        time: Timestamp,
    ) -> Result<Option<Extent>>;

    /// Takes `name` out of directory `key`; gives what brings it back, or `None` if it was not there.
    fn remove(
        &mut self,
        draft: &Draft,
        key: Key,
        name: &str,
        target: &Target,
    ) -> Result<Option<Vec<Vec<u8>>>>;

    /// See [`Format::bring_back`].
    fn bring_back(&mut self, draft: &mut Draft, key: Key, entries: Vec<Vec<u8>>) -> Result<()>;

    /// See [`Format::flush`].
    fn flush(&mut self, draft: &mut Draft) -> Result<()>;

    /// See [`Format::set_len`].
    fn set_len(&self, draft: &mut Draft, len: u64, ending: &mut Ending) -> Result<()>;

    /// See [`Format::descriptors_at`].
    fn descriptors_at(&self) -> Option<u64>;

    /// See [`Format::confine`].
    fn confine(&mut self, range: &Range<u64>);
}

impl<F: Format> DiscTree for F {
    fn kind(&self) -> TreeKind {
        Format::kind(self)
    }

    fn root_entries(&mut self, draft: &Draft) -> Result<usize> {
        let root = self.root();
        Ok(self.items(draft, root)?.len())
    }

    fn trail(&mut self, draft: &Draft, path: &[&str]) -> Result<Trail> {
        let mut trail = Trail::default();
        let mut key = self.root();
        for name in path {
            let Some(item) = self.find(draft, key, name, &Target::Unknown)? else { break };
            trail.names.push(item.name().to_owned());
            if !item.is_folder() {
                let extent = self.extent(draft, &item)?;
                trail.targets.push(extent.map_or(Target::Empty, |(offset, _)| Target::File(offset)));
                break;
            }
            key = self.enter(draft, key, &item)?;
            trail.targets.push(Target::Folder(self.mark(draft, key)?));
        }
        Ok(trail)
    }

    fn follow(&mut self, draft: &Draft, folders: &[&str], trail: &Trail) -> Result<(Key, usize)> {
        let mut key = self.root();
        for (depth, name) in folders.iter().enumerate() {
            match self.find(draft, key, name, trail.target(depth))? {
                Some(item) if item.is_folder() => key = self.enter(draft, key, &item)?,
                Some(item) => {
                    let (found, kind) = (item.name(), Format::kind(self).name());
                    return Err(Error::request(
                        format!("{found} is a file in the {kind} tree, and {name} shall be a folder"),
                        "name another path",
                    ));
                }
                None => return Ok((key, depth)),
            }
        }
        Ok((key, folders.len()))
    }

    fn make_folder(&mut self, draft: &mut Draft, parent: Key, name: &str, time: Timestamp) -> Result<Key> {
        Format::make_folder(self, draft, parent, name, time)
    }

    fn put(
        &mut self,
        draft: &mut Draft,
        key: Key,
        name: &str,
        target: &Target,
        extent: Extent,
        time: Timestamp,
    ) -> Result<Option<Extent>> {
        let existing = self.find(draft, key, name, target)?;
        if existing.as_ref().is_some_and(Item::is_folder) {
            let kind = Format::kind(self).name();
            return Err(Error::request(
                format!("{name} is a folder in the {kind} tree"),
                "name another path",
            ));
        }
        let former = existing.as_ref().map_or(Ok(None), |item| self.extent(draft, item))?;
        Format::put(self, draft, key, name, existing.as_ref(), extent, time)?;
        Ok(former)
    }

    fn remove(
        &mut self,
        draft: &Draft,
        key: Key,
        name: &str,
        target: &Target,
    ) -> Result<Option<Vec<Vec<u8>>>> {
        let item = self.find(draft, key, name, target)?;
        item.map(|item| Format::remove(self, draft, key, &item)).transpose()
    }

    fn bring_back(&mut self, draft: &mut Draft, key: Key, entries: Vec<Vec<u8>>) -> Result<()> {
        Format::bring_back(self, draft, key, entries)
    }

    fn flush(&mut self, draft: &mut Draft) -> Result<()> {
        Format::flush(self, draft)
    }

    fn set_len(&self, draft: &mut Draft, len: u64, ending: &mut Ending) -> Result<()> {
        Format::set_len(self, draft, len, ending)
    }

    fn descriptors_at(&self) -> Option<u64> {
        Format::descriptors_at(self)
    }

    fn confine(&mut self, range: &Range<u64>) {
        Format::confine(self, range);
    }
}

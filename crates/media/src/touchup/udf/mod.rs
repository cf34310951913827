//! Changing a UDF volume.
//!
//! Directories are changed in memory. [`Format::flush`] writes each changed directory, all above it and their file
//! entries into fresh space, up to the file set, so that the logical volume descriptor makes the change. What is changed
//! in place before that is only the way back: the identifiers in which subfolders say where their parent is.

mod entry;
mod flush;

use super::commit::Ending;
use super::draft::Draft;
use super::tree::{self, Extent, Format, Key};
use super::{SECTOR, Target};
use crate::udf::address::{Map, check_tag, locate};
use crate::udf::allocation::IcbFile;
use crate::udf::cs0;
use crate::udf::layout::{
    FID_DELETED, FID_DIRECTORY, FID_PARENT, FILE_TYPE_DIRECTORY, FILE_TYPE_LINK, FileIdentifier, LbAddr,
    TAG_FILE_IDENTIFIER, Tag,
};
use crate::udf::volume::{Frame, Volume, is_announced};
use crate::units::BlockNumber;
use crate::{Limits, TreeKind};
use neat_content::{Error, ReadAt, Result, Timestamp, fold_case, read_vec};
use std::{
    collections::{BTreeMap, HashSet},
    ops::Range,
};
use zerocopy::FromBytes;

/// Largest directory that is changed, in bytes.
const MAX_DIRECTORY_LEN: u64 = 256 << 20;
/// Longest name in compressed form.
const MAX_NAME_LEN: usize = 255;
/// Entries of a folder that are counted before giving up.
const MAX_ENTRIES: usize = 4_000_000;
/// Descriptors of one sequence that are looked at.
const MAX_DESCRIPTORS: u64 = 256;
/// Blocks of a file set's descriptors that are copied.
const MAX_FILE_SET: u64 = 16;
/// Unique ids below this are reserved (UDF 3.2.1.1).
const FIRST_UNIQUE_ID: u64 = 16;

/// One entry of a directory.
#[derive(Clone, Debug)]
pub(super) struct Item {
    name: String,
    is_folder: bool,
    /// Block of the file entry.
    icb: BlockNumber,
    /// The whole descriptor with its padding.
    raw: Vec<u8>,
}

impl tree::Item for Item {
    fn name(&self) -> &str {
        &self.name
    }

    fn is_folder(&self) -> bool {
        self.is_folder
    }
}

impl Item {
    fn is_shown(&self) -> bool {
        self.characteristics() & (FID_PARENT | FID_DELETED) == 0
    }
    fn lead_to(&mut self, icb: BlockNumber) {
        self.icb = icb;
        if let Ok((fid, _)) = FileIdentifier::mut_from_prefix(&mut self.raw) {
            fid.icb.location.block = icb.0.into();
        }
    }
    fn characteristics(&self) -> u8 {
        self.raw.get(18).copied().unwrap_or(0)
    }
}

/// A directory in memory.
struct Directory {
    /// The parent's key; the root is its own.
    parent: Key,
    items: Vec<Item>,
    changed: bool,
    /// How many folders more or fewer it has than its file entry's count of names says.
    more_folders: i32,
}

/// The volume.
pub(super) struct UdfTree {
    block: u64,
    start: u64,
    maps: Vec<Map>,
    root: Key,
    frame: Frame,
    /// Version and serial number of descriptor tags.
    tag: (u16, u16),
    directories: BTreeMap<Key, Directory>,
    next_unique: u64,
    more_files: i64,
    more_folders: i64,
}

/// Opens the volume if the disc has one.
pub(super) fn open(draft: &Draft) -> Result<Option<UdfTree>> {
    if !is_announced(draft)? {
        return Ok(None);
    }
    let volume = Volume::open(draft)?;
    let [Map::Physical { start, .. }] = volume.maps.as_slice() else {
        let what = "a UDF volume whose files lie in more than one partition or in a metadata file";
        return Err(Error::Unsupported { what: what.into(), offset: volume.frame.anchor_at });
    };
    let start = *start;
    // What is put into fresh space lies past the partition's end until that is moved there.
    let maps = vec![Map::Physical { start, blocks: u32::MAX.into() }];
    let mut tree = UdfTree {
        block: volume.block_size,
        start,
        maps,
        root: Key(BlockNumber(volume.root.block.get())),
        frame: volume.frame,
        tag: (2, 0),
        directories: BTreeMap::new(),
        next_unique: FIRST_UNIQUE_ID,
        more_files: 0,
        more_folders: 0,
    };
    let (raw, _) = tree.entry(draft, tree.root.0)?;
    if let Ok((tag, _)) = Tag::read_from_prefix(&raw) {
        tree.tag = (tag.descriptor_version.get(), tag.serial_number.get());
    }
    if let Some((_, integrity)) = tree.integrity(draft)? {
        let word: [u8; 8] = integrity.get(40..48).and_then(|word| word.try_into().ok()).unwrap_or_default();
        tree.next_unique = u64::from_le_bytes(word).max(FIRST_UNIQUE_ID);
    }
    Ok(Some(tree))
}

impl UdfTree {
    fn icb(&self, draft: &Draft, block: BlockNumber) -> Result<IcbFile> {
        let address = LbAddr { block: block.0.into(), partition: 0.into() };
        IcbFile::read(draft, &self.maps, self.block, address, 0)
    }

    /// A file entry's block and where it lies.
    fn entry(&self, draft: &Draft, block: BlockNumber) -> Result<(Vec<u8>, u64)> {
        let address = LbAddr { block: block.0.into(), partition: 0.into() };
        let at = locate(&self.maps, self.block, address, self.block, 0, draft.len())?;
        let raw = read_vec(draft, at, self.block, 4096, "file entry")?;
        check_tag(&raw, at, None)?;
        Ok((raw, at))
    }

    fn block_of(&self, offset: u64) -> Result<BlockNumber> {
        let block = (offset / self.block).saturating_sub(self.start);
        u32::try_from(block).map(BlockNumber).map_err(|_| Error::Limit {
            what: "size in blocks of a UDF partition".into(),
            offset,
            limit: u32::MAX.into(),
            found: block,
        })
    }

    fn alignment(&self) -> u64 {
        self.block.max(SECTOR)
    }

    fn load(&mut self, draft: &Draft, key: Key) -> Result<&mut Directory> {
        let at = key.0.byte_offset(self.block);
        if !self.directories.contains_key(&key) {
            let file = self.icb(draft, key.0)?;
            if file.file_type != FILE_TYPE_DIRECTORY {
                return Err(Error::bad_field("IcbTag", "file_type", at, "a directory", file.file_type));
            }
            if file.len > MAX_DIRECTORY_LEN {
                let (limit, found) = (MAX_DIRECTORY_LEN, file.len);
                return Err(Error::Limit {
                    what: "size in bytes of a directory".into(),
                    offset: 0,
                    limit,
                    found,
                });
            }
            let mut bytes = Vec::new();
            for extent in file.extents(draft, &self.maps, self.block, Limits::default().extents)? {
                match extent.offset {
                    Some(at) => {
                        bytes.extend(read_vec(draft, at, extent.len, MAX_DIRECTORY_LEN, "directory")?);
                    }
                    None => bytes.resize(bytes.len() + extent.len as usize, 0),
                }
            }
            let items = parse(&bytes)?;
            let parent = items.iter().find(|item| item.characteristics() & FID_PARENT != 0);
            let parent = parent.map_or(self.root, |item| Key(item.icb));
            self.directories.insert(key, Directory { parent, items, changed: false, more_folders: 0 });
        }
        self.directories
            .get_mut(&key)
            .ok_or_else(|| Error::bad_field("FileEntry", "block", at, "a directory", "none"))
    }

    fn first_byte(&self, draft: &Draft, item: &Item) -> Result<Option<u64>> {
        let file = self.icb(draft, item.icb)?;
        let extents = if file.len == 0 {
            Vec::new()
        } else {
            file.extents(draft, &self.maps, self.block, Limits::default().extents)?
        };
        Ok(extents.first().and_then(|extent| extent.offset))
    }

    fn add_item(
        &mut self,
        draft: &Draft,
        key: Key,
        name: &str,
        is_folder: bool,
        icb: BlockNumber,
    ) -> Result<()> {
        let characteristics = if is_folder { FID_DIRECTORY } else { 0 };
        let raw = self.identifier(name, characteristics, icb, self.next_unique - 1);
        let directory = self.load(draft, key)?;
        directory.items.push(Item { name: name.to_owned(), is_folder, icb, raw });
        directory.changed = true;
        directory.more_folders += i32::from(is_folder);
        Ok(())
    }

    /// Files and folders that an item and all below it are.
    fn count(&mut self, draft: &Draft, item: &Item) -> Result<(i64, i64)> {
        if !item.is_folder {
            return Ok((1, 0));
        }
        let (mut files, mut folders) = (0, 0);
        let mut seen = HashSet::from([item.icb]);
        let mut pending = vec![item.icb];
        while let Some(key) = pending.pop() {
            folders += 1;
            for child in self.items(draft, Key(key))? {
                if !child.is_folder {
                    files += 1;
                } else if seen.insert(child.icb) {
                    pending.push(child.icb);
                }
            }
            if seen.len() + files as usize > MAX_ENTRIES {
                let (limit, found) = (MAX_ENTRIES as u64, seen.len() as u64 + files as u64);
                return Err(Error::Limit { what: "entries of a folder".into(), offset: 0, limit, found });
            }
        }
        Ok((files, folders))
    }
}

impl Format for UdfTree {
    type Item = Item;

    fn kind(&self) -> TreeKind {
        TreeKind::Udf
    }

    fn root(&self) -> Key {
        self.root
    }

    /// What the directory shows.
    fn items(&mut self, draft: &Draft, key: Key) -> Result<Vec<Item>> {
        Ok(self.load(draft, key)?.items.iter().filter(|item| item.is_shown()).cloned().collect())
    }

    /// The item called `name`, or called so in another case.
    fn find(&mut self, draft: &Draft, key: Key, name: &str, _: &Target) -> Result<Option<Item>> {
        let items = self.items(draft, key)?;
        let folded = fold_case(name);
        let exact = items.iter().find(|item| item.name == name);
        Ok(exact.or_else(|| items.iter().find(|item| fold_case(&item.name) == folded)).cloned())
    }

    fn enter(&mut self, _: &Draft, _: Key, item: &Item) -> Result<Key> {
        Ok(Key(item.icb))
    }

    fn extent(&self, draft: &Draft, item: &Item) -> Result<Option<Extent>> {
        let len = self.icb(draft, item.icb)?.len;
        Ok(self.first_byte(draft, item)?.map(|offset| (offset, len)))
    }

    fn file_len(&self, draft: &Draft, item: &Item) -> Result<Option<u64>> {
        let file = self.icb(draft, item.icb)?;
        Ok((file.file_type != FILE_TYPE_LINK).then_some(file.len))
    }

    /// An empty folder `name` in directory `parent`; gives its key.
    fn make_folder(&mut self, draft: &mut Draft, parent: Key, name: &str, time: Timestamp) -> Result<Key> {
        let icb = self.add_entry(draft, true, time)?;
        let key = Key(icb);
        self.add_item(draft, parent, name, true, icb)?;
        let raw = self.identifier("", FID_DIRECTORY | FID_PARENT, parent.0, 0);
        let items = vec![Item { name: String::new(), is_folder: true, icb: parent.0, raw }];
        self.directories.insert(key, Directory { parent, items, changed: true, more_folders: 0 });
        self.more_folders += 1;
        Ok(key)
    }

    /// Makes `name` in directory `key` a file of `len` bytes at byte `offset` of the disc.
    fn put(
        &mut self,
        draft: &mut Draft,
        key: Key,
        name: &str,
        existing: Option<&Item>,
        extent: Extent,
        time: Timestamp,
    ) -> Result<()> {
        if let Some(item) = existing {
            if self.names_of(draft, item.icb)? <= 1 {
                // A copy of the entry keeps what else it says; the old one stays as it is.
                let icb = self.copy_entry(draft, item.icb)?;
                self.set_content(draft, icb, extent, Some(time), 0)?;
                let directory = self.load(draft, key)?;
                directory.changed = true;
                directory
                    .items
                    .iter_mut()
                    .filter(|other| other.raw == item.raw)
                    .for_each(|item| item.lead_to(icb));
                return Ok(());
            }
            // The other names of the file keep its bytes; this one gets an entry of its own.
            self.set_names(draft, item.icb, -1)?;
            self.load(draft, key)?.items.retain(|other| other.raw != item.raw);
            self.more_files -= 1;
        }
        let icb = self.add_entry(draft, false, time)?;
        self.set_content(draft, icb, extent, Some(time), 0)?;
        self.more_files += 1;
        self.add_item(draft, key, existing.map_or(name, |item| item.name.as_str()), false, icb)
    }

    /// Takes `item` out of directory `key`; gives its descriptor.
    fn remove(&mut self, draft: &Draft, key: Key, item: &Item) -> Result<Vec<Vec<u8>>> {
        let (files, folders) = self.count(draft, item)?;
        let directory = self.load(draft, key)?;
        directory.items.retain(|other| other.raw != item.raw);
        directory.changed = true;
        directory.more_folders -= i32::from(item.is_folder);
        self.more_files -= files;
        self.more_folders -= folders;
        // One that was made in this run has no tag yet.
        let mut raw = item.raw.clone();
        let covered = raw.len() - 16;
        self.seal(&mut raw, TAG_FILE_IDENTIFIER, BlockNumber::default(), covered);
        Ok(vec![raw])
    }

    /// Brings descriptors back that [`Format::remove`] gave.
    fn bring_back(&mut self, draft: &mut Draft, key: Key, entries: Vec<Vec<u8>>) -> Result<()> {
        for item in parse(&entries.concat())? {
            let (files, folders) = self.count(draft, &item)?;
            self.more_files += files;
            self.more_folders += folders;
            let directory = self.load(draft, key)?;
            directory.more_folders += i32::from(item.is_folder);
            directory.items.push(item);
            directory.changed = true;
        }
        Ok(())
    }

    fn flush(&mut self, draft: &mut Draft) -> Result<()> {
        self.write_directories(draft)
    }

    fn set_len(&self, draft: &mut Draft, len: u64, ending: &mut Ending) -> Result<()> {
        let anchor = self.write_len(draft, len)?;
        match self.block {
            SECTOR => ending.anchor = Some(anchor),
            512 => ending.last_block = Some(anchor),
            // The first anchor has to do where the last block does not begin with our last sector.
            _ => {}
        }
        Ok(())
    }

    fn descriptors_at(&self) -> Option<u64> {
        Some(self.first_sequence())
    }

    /// All changes are made in fresh space anyway.
    fn confine(&mut self, _: &Range<u64>) {}
}

fn short(at: u64) -> Error {
    Error::bad_field("FileEntry", "size", at, "a whole file entry", "less")
}

/// The entries of a directory.
fn parse(bytes: &[u8]) -> Result<Vec<Item>> {
    let mut items = Vec::new();
    let mut at = 0;
    while bytes.len() - at >= size_of::<FileIdentifier>() {
        check_tag(&bytes[at..], at as u64, Some(TAG_FILE_IDENTIFIER))?;
        let Ok((fid, _)) = FileIdentifier::read_from_prefix(&bytes[at..]) else { break };
        let (skip, name_len) =
            (usize::from(fid.implementation_use_length.get()), usize::from(fid.identifier_length));
        let name_at = at + size_of::<FileIdentifier>() + skip;
        let name = bytes.get(name_at..name_at + name_len).ok_or_else(|| {
            let most = bytes.len().saturating_sub(name_at);
            Error::bad_field(
                "FileIdentifier",
                "identifier_length",
                at as u64 + 19,
                format!("at most {most}"),
                name_len,
            )
        })?;
        let end = (at + (size_of::<FileIdentifier>() + skip + name_len).next_multiple_of(4)).min(bytes.len());
        items.push(Item {
            name: cs0::decode(name).unwrap_or_default(),
            is_folder: fid.characteristics & FID_DIRECTORY != 0,
            icb: BlockNumber(fid.icb.location.block.get()),
            raw: bytes[at..end].to_vec(),
        });
        at = end;
    }
    Ok(items)
}

//! Changing a UDF volume.
//!
//! Directories are changed in memory. [`UdfTree::flush`] writes each changed directory, all above it and their file
//! entries into fresh space, up to the file set, so that the logical volume descriptor makes the change. What is changed
//! in place before that is only the way back: the identifiers in which subfolders say where their parent is.

use super::{
    Mark, SECTOR, Target, Trail,
    draft::{Draft, Fresh},
};
use crate::udf::{
    allocation::IcbFile,
    cs0,
    layout::{
        ALLOCATION_SHORT, Anchor, ExtendedFileEntry, FID_DELETED, FID_DIRECTORY, FID_PARENT, FILE_TYPE_BYTES,
        FILE_TYPE_DIRECTORY, FILE_TYPE_LINK, FileEntry, FileIdentifier, FileSet, IcbTag, LbAddr,
        LogicalVolume, LongAd, Partition, TAG_EXTENDED_FILE_ENTRY, TAG_FILE_ENTRY, TAG_FILE_IDENTIFIER,
        TAG_FILE_SET, TAG_INTEGRITY, TAG_LOGICAL_VOLUME, TAG_PARTITION, TAG_TERMINATING, Tag, UdfTime,
    },
    volume::{Frame, Map, Volume, check_tag, is_announced, locate},
    write::{implementation, long_ad, permissions, short_ads},
};
use neat_content::{Error, Meta, ReadAt, Result, Timestamp, fold_case, read_vec};
use std::collections::{BTreeMap, BTreeSet, HashSet};
use zerocopy::{FromBytes, FromZeros, IntoBytes};

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
    pub name: String,
    pub is_folder: bool,
    /// Block of the file entry.
    icb: u32,
    /// The whole descriptor with its padding.
    raw: Vec<u8>,
}

impl Item {
    fn is_shown(&self) -> bool {
        self.characteristics() & (FID_PARENT | FID_DELETED) == 0
    }
    fn lead_to(&mut self, icb: u32) {
        self.icb = icb;
        if let Ok((fid, _)) = FileIdentifier::mut_from_prefix(&mut self.raw) {
            fid.icb.location.block = icb.into();
        }
    }
    fn characteristics(&self) -> u8 {
        self.raw.get(18).copied().unwrap_or(0)
    }
}

/// A directory in memory.
struct Directory {
    /// The parent's key; the root is its own.
    parent: u32,
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
    root: u32,
    frame: Frame,
    /// Version and serial number of descriptor tags.
    tag: (u16, u16),
    /// By the block of the file entry.
    directories: BTreeMap<u32, Directory>,
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
        root: volume.root.block.get(),
        frame: volume.frame,
        tag: (2, 0),
        directories: BTreeMap::new(),
        next_unique: FIRST_UNIQUE_ID,
        more_files: 0,
        more_folders: 0,
    };
    let (raw, _) = tree.entry(draft, tree.root)?;
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
    pub(super) const fn root(&self) -> u32 {
        self.root
    }

    fn icb(&self, draft: &Draft, block: u32) -> Result<IcbFile> {
        let address = LbAddr { block: block.into(), partition: 0.into() };
        IcbFile::read(draft, &self.maps, self.block, address, 0)
    }

    /// A file entry's block and where it lies.
    fn entry(&self, draft: &Draft, block: u32) -> Result<(Vec<u8>, u64)> {
        let address = LbAddr { block: block.into(), partition: 0.into() };
        let at = locate(&self.maps, self.block, address, self.block, 0, draft.len())?;
        let raw = read_vec(draft, at, self.block, 4096, "file entry")?;
        check_tag(&raw, at, None)?;
        Ok((raw, at))
    }

    fn block_of(&self, offset: u64) -> Result<u32> {
        let block = (offset / self.block).saturating_sub(self.start);
        u32::try_from(block).map_err(|_| Error::Limit {
            what: "size in blocks of a UDF partition".into(),
            offset,
            limit: u32::MAX.into(),
            found: block,
        })
    }

    fn alignment(&self) -> u64 {
        self.block.max(SECTOR)
    }

    fn load(&mut self, draft: &Draft, block: u32) -> Result<&mut Directory> {
        if !self.directories.contains_key(&block) {
            let file = self.icb(draft, block)?;
            if file.file_type != FILE_TYPE_DIRECTORY {
                return Err(Error::bad_field(
                    "IcbTag",
                    "file_type",
                    u64::from(block) * self.block,
                    "a directory",
                    file.file_type,
                ));
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
            for extent in file.extents(draft, &self.maps, self.block)? {
                match extent.offset {
                    Some(at) => {
                        bytes.extend(read_vec(draft, at, extent.len, MAX_DIRECTORY_LEN, "directory")?)
                    }
                    None => bytes.resize(bytes.len() + extent.len as usize, 0),
                }
            }
            let items = parse(&bytes)?;
            let parent = items.iter().find(|item| item.characteristics() & FID_PARENT != 0);
            let parent = parent.map_or(self.root, |item| item.icb);
            self.directories.insert(block, Directory { parent, items, changed: false, more_folders: 0 });
        }
        let at = u64::from(block) * self.block;
        self.directories
            .get_mut(&block)
            .ok_or_else(|| Error::bad_field("FileEntry", "block", at, "a directory", "none"))
    }

    /// What the directory shows.
    pub(super) fn items(&mut self, draft: &Draft, key: u32) -> Result<Vec<Item>> {
        Ok(self.load(draft, key)?.items.iter().filter(|item| item.is_shown()).cloned().collect())
    }

    /// The item called `name`, or called so in another case.
    pub(super) fn find(&mut self, draft: &Draft, key: u32, name: &str) -> Result<Option<Item>> {
        let items = self.items(draft, key)?;
        let folded = fold_case(name);
        let exact = items.iter().find(|item| item.name == name);
        Ok(exact.or_else(|| items.iter().find(|item| fold_case(&item.name) == folded)).cloned())
    }

    /// The key of the folder that `item` is.
    pub(super) const fn enter(item: &Item) -> u32 {
        item.icb
    }

    fn first_byte(&self, draft: &Draft, item: &Item) -> Result<Option<u64>> {
        let file = self.icb(draft, item.icb)?;
        let extents = if file.len == 0 { Vec::new() } else { file.extents(draft, &self.maps, self.block)? };
        Ok(extents.first().and_then(|extent| extent.offset))
    }

    /// Where the bytes of a file begin, and how many there are.
    pub(super) fn extent(&self, draft: &Draft, item: &Item) -> Result<Option<(u64, u64)>> {
        let len = self.icb(draft, item.icb)?.len;
        Ok(self.first_byte(draft, item)?.map(|offset| (offset, len)))
    }

    /// What stands along the way to `path`, to find the same way in another tree.
    pub(super) fn trail(&mut self, draft: &Draft, path: &[&str]) -> Result<Trail> {
        let mut trail = Trail::default();
        let mut key = self.root;
        for name in path {
            let Some(item) = self.find(draft, key, name)? else { break };
            trail.names.push(item.name.clone());
            if !item.is_folder {
                let offset = self.first_byte(draft, &item)?;
                trail.targets.push(offset.map_or(Target::Empty, Target::File));
                break;
            }
            key = Self::enter(&item);
            trail.targets.push(Target::Folder(self.mark(draft, key)?));
        }
        Ok(trail)
    }

    fn mark(&mut self, draft: &Draft, key: u32) -> Result<Mark> {
        let mut mark = Mark::default();
        let mut folders = vec![key];
        let mut next = 0;
        while let Some(key) = folders.get(next).copied() {
            next += 1;
            for item in self.items(draft, key)? {
                let goes_on = if item.is_folder {
                    folders.push(item.icb);
                    mark.add_folder()
                } else {
                    let file = self.icb(draft, item.icb)?;
                    if file.file_type == FILE_TYPE_LINK {
                        continue;
                    }
                    let first = self.first_byte(draft, &item)?;
                    mark.add_file(first, file.len)
                };
                if !goes_on {
                    return Ok(mark);
                }
            }
        }
        Ok(mark)
    }

    /// Follows `folders` as far as they are there: the last one's key, and how many were found.
    pub(super) fn follow(&mut self, draft: &Draft, folders: &[&str]) -> Result<(u32, usize)> {
        let mut key = self.root;
        for (depth, name) in folders.iter().enumerate() {
            match self.find(draft, key, name)? {
                Some(item) if item.is_folder => key = Self::enter(&item),
                Some(item) => {
                    return Err(Error::request(
                        format!("{} is a file, and a folder is wanted there", item.name),
                        "name another path",
                    ));
                }
                None => return Ok((key, depth)),
            }
        }
        Ok((key, folders.len()))
    }

    fn take_unique(&mut self) -> u64 {
        self.next_unique += 1;
        self.next_unique - 1
    }

    /// A new file entry in fresh space, and its block.
    fn add_entry(&mut self, draft: &mut Draft, folder: bool, time: Timestamp) -> Result<u32> {
        let own = self.block_of(draft.end().next_multiple_of(self.alignment()))?;
        let mut entry = FileEntry::new_zeroed();
        let file_type = if folder { FILE_TYPE_DIRECTORY } else { FILE_TYPE_BYTES };
        entry.icb_tag = IcbTag {
            strategy: 4.into(),
            maximum_entries: 1.into(),
            file_type,
            flags: ALLOCATION_SHORT.into(),
            ..IcbTag::default()
        };
        (entry.uid, entry.gid) = (u32::MAX.into(), u32::MAX.into());
        entry.permissions = permissions(Meta::at(time), folder).into();
        entry.link_count = 1.into();
        let time = UdfTime::from_timestamp(time);
        (entry.accessed, entry.modified, entry.attributes_changed) = (time, time, time);
        entry.checkpoint = 1.into();
        entry.implementation = implementation();
        entry.unique_id = self.take_unique().into();
        let mut raw = entry.as_bytes().to_vec();
        raw.resize(self.block as usize, 0);
        self.seal(&mut raw, TAG_FILE_ENTRY, own, size_of::<FileEntry>() - 16);
        draft.append(Fresh::Bytes(raw), self.alignment());
        Ok(own)
    }

    /// Writes tag, CRC and checksum over the first 16 bytes; `covered` bytes after them count.
    fn seal(&self, raw: &mut [u8], identifier: u16, location: u32, covered: usize) {
        let mut tag = Tag {
            identifier: identifier.into(),
            descriptor_version: self.tag.0.into(),
            serial_number: self.tag.1.into(),
            crc: cs0::crc(&raw[16..16 + covered]).into(),
            crc_length: (covered as u16).into(),
            location: location.into(),
            ..Tag::default()
        };
        tag.checksum = tag.as_bytes().iter().fold(0, |sum, byte| sum.wrapping_add(*byte));
        raw[..16].copy_from_slice(tag.as_bytes());
    }

    /// Lets a file entry describe `len` bytes at byte `offset`, and one name more or fewer for each of `more_names`.
    fn set_content(
        &self,
        draft: &mut Draft,
        block: u32,
        (offset, len): (u64, u64),
        time: Option<Timestamp>,
        more_names: i32,
    ) -> Result<()> {
        let (mut raw, at) = self.entry(draft, block)?;
        let ads = short_ads(if len == 0 { 0 } else { self.block_of(offset)? }, len);
        let recorded = len.div_ceil(self.block);
        let time = time.map(UdfTime::from_timestamp);
        let names = |count: u16| u16::try_from(i32::from(count) + more_names).unwrap_or(count);
        let identifier = u16::from_le_bytes([raw[0], raw[1]]);
        let attributes = match identifier {
            TAG_EXTENDED_FILE_ENTRY => {
                let (entry, _) = ExtendedFileEntry::mut_from_prefix(&mut raw).map_err(|_| short(at))?;
                // Named streams of the file count into its size as an object.
                let streams = entry.object_size.get().saturating_sub(entry.information_length.get());
                entry.object_size = (len + streams).into();
                entry.information_length = len.into();
                entry.blocks_recorded = recorded.into();
                if let Some(time) = time {
                    (entry.modified, entry.attributes_changed) = (time, time);
                }
                entry.icb_tag.flags = (entry.icb_tag.flags.get() & !7 | ALLOCATION_SHORT).into();
                entry.link_count = names(entry.link_count.get()).into();
                entry.allocation_descriptors_length = (ads.len() as u32).into();
                216 + entry.extended_attributes_length.get() as usize
            }
            _ => {
                let (entry, _) = FileEntry::mut_from_prefix(&mut raw).map_err(|_| short(at))?;
                entry.information_length = len.into();
                entry.blocks_recorded = recorded.into();
                if let Some(time) = time {
                    (entry.modified, entry.attributes_changed) = (time, time);
                }
                entry.icb_tag.flags = (entry.icb_tag.flags.get() & !7 | ALLOCATION_SHORT).into();
                entry.link_count = names(entry.link_count.get()).into();
                entry.allocation_descriptors_length = (ads.len() as u32).into();
                176 + entry.extended_attributes_length.get() as usize
            }
        };
        let end = attributes + ads.len();
        if end > raw.len() {
            return Err(Error::request(
                format!("{len} bytes do not fit into the UDF file entry at byte {at:#x}"),
                "split the file",
            ));
        }
        raw[attributes..end].copy_from_slice(&ads);
        raw[end..].fill(0);
        self.seal(&mut raw, identifier, block, end - 16);
        draft.write(at, &raw)
    }

    fn names_of(&self, draft: &Draft, block: u32) -> Result<u16> {
        // The count stands at the same place in both kinds of file entry (ECMA-167 4/14.9, 4/14.17).
        let (raw, _) = self.entry(draft, block)?;
        Ok(u16::from_le_bytes([raw[48], raw[49]]))
    }

    fn identifier(&self, name: &str, characteristics: u8, icb: u32, unique: u64) -> Vec<u8> {
        let name = if characteristics & FID_PARENT != 0 {
            Vec::new()
        } else {
            cs0::encode_within(name, MAX_NAME_LEN)
        };
        let mut fid = FileIdentifier::new_zeroed();
        fid.file_version = 1.into();
        fid.characteristics = characteristics;
        fid.identifier_length = name.len() as u8;
        fid.icb = long_ad(icb, self.block as u32);
        // From UDF 2.00 on the low half of the unique id stands here (UDF 2.3.4.3); our tags of 1.02 have version 2.
        if self.tag.0 >= 3 && characteristics & FID_PARENT == 0 {
            fid.icb.implementation_use[2..].copy_from_slice(&(unique as u32).to_le_bytes());
        }
        let mut raw = [fid.as_bytes(), &name].concat();
        raw.resize(raw.len().next_multiple_of(4), 0);
        raw
    }

    fn add_item(&mut self, draft: &Draft, key: u32, name: &str, is_folder: bool, icb: u32) -> Result<()> {
        let characteristics = if is_folder { FID_DIRECTORY } else { 0 };
        let raw = self.identifier(name, characteristics, icb, self.next_unique - 1);
        let directory = self.load(draft, key)?;
        directory.items.push(Item { name: name.to_owned(), is_folder, icb, raw });
        directory.changed = true;
        directory.more_folders += i32::from(is_folder);
        Ok(())
    }

    /// An empty folder `name` in directory `parent`; gives its key.
    pub(super) fn make_folder(
        &mut self,
        draft: &mut Draft,
        parent: u32,
        name: &str,
        time: Timestamp,
    ) -> Result<u32> {
        let key = self.add_entry(draft, true, time)?;
        self.add_item(draft, parent, name, true, key)?;
        let raw = self.identifier("", FID_DIRECTORY | FID_PARENT, parent, 0);
        let items = vec![Item { name: String::new(), is_folder: true, icb: parent, raw }];
        self.directories.insert(key, Directory { parent, items, changed: true, more_folders: 0 });
        self.more_folders += 1;
        Ok(key)
    }

    /// Makes `name` in directory `key` a file of `len` bytes at byte `offset` of the disc.
    pub(super) fn put(
        &mut self,
        draft: &mut Draft,
        key: u32,
        name: &str,
        existing: Option<&Item>,
        extent: (u64, u64),
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

    fn set_names(&self, draft: &mut Draft, block: u32, more: i32) -> Result<()> {
        let (mut raw, at) = self.entry(draft, block)?;
        let count = u16::from_le_bytes([raw[48], raw[49]]);
        let count = u16::try_from(i32::from(count) + more).unwrap_or(count);
        raw[48..50].copy_from_slice(&count.to_le_bytes());
        let (identifier, covered) =
            (u16::from_le_bytes([raw[0], raw[1]]), u16::from_le_bytes([raw[10], raw[11]]));
        self.seal(&mut raw, identifier, block, usize::from(covered));
        draft.write(at, &raw)
    }

    /// Takes `item` out of directory `key`; gives its descriptor.
    pub(super) fn remove(&mut self, draft: &Draft, key: u32, item: &Item) -> Result<Vec<u8>> {
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
        self.seal(&mut raw, TAG_FILE_IDENTIFIER, 0, covered);
        Ok(raw)
    }

    /// Brings a descriptor back that [`UdfTree::remove`] gave.
    pub(super) fn bring_back(&mut self, draft: &Draft, key: u32, raw: &[u8]) -> Result<()> {
        for item in parse(raw)? {
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
            for child in self.items(draft, key)? {
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

    /// A copy of a file entry in fresh space; gives its block.
    fn copy_entry(&self, draft: &mut Draft, block: u32) -> Result<u32> {
        let (raw, _) = self.entry(draft, block)?;
        let own = self.block_of(draft.end().next_multiple_of(self.alignment()))?;
        draft.append(Fresh::Bytes(raw), self.alignment());
        Ok(own)
    }

    /// Writes what changed into the draft.
    pub(super) fn flush(&mut self, draft: &mut Draft) -> Result<()> {
        let mut moving: BTreeSet<u32> = BTreeSet::new();
        let changed: Vec<u32> =
            self.directories.iter().filter(|(_, directory)| directory.changed).map(|(key, _)| *key).collect();
        for mut key in changed {
            // Up to the root, or to a directory whose way is known already.
            while moving.insert(key) && key != self.root {
                key = self.load(draft, key)?.parent;
            }
        }
        // Every file entry gets its place before any directory is written, as each names its parent and its children.
        let mut places: BTreeMap<u32, u32> = BTreeMap::new();
        for key in &moving {
            let is_new = draft.is_fresh((self.start + u64::from(*key)) * self.block);
            places.insert(*key, if is_new { *key } else { self.copy_entry(draft, *key)? });
        }
        for (key, place) in &places {
            let directory = self.load(draft, *key)?;
            let mut staying = Vec::new();
            let folders = |item: &&mut Item| item.is_folder && item.characteristics() & FID_DELETED == 0;
            for item in directory.items.iter_mut().filter(folders) {
                match places.get(&item.icb) {
                    Some(block) => item.lead_to(*block),
                    None => staying.push(item.icb),
                }
            }
            for child in staying {
                self.set_parent(draft, child, *place)?;
            }
            self.write_directory(draft, *key, *place)?;
        }
        if let Some(root) = places.get(&self.root).copied() {
            self.move_file_set(draft, root)?;
            self.rewrite_integrity(draft, None)?;
            // Whatever is read from now on is read from its new place.
            self.root = root;
            self.directories.clear();
        }
        (self.more_files, self.more_folders) = (0, 0);
        Ok(())
    }

    fn write_directory(&mut self, draft: &mut Draft, key: u32, place: u32) -> Result<()> {
        let offset = draft.end().next_multiple_of(self.alignment());
        let first = self.block_of(offset)?;
        let directory = self.load(draft, key)?;
        let more_folders = std::mem::take(&mut directory.more_folders);
        let items: Vec<Vec<u8>> = directory.items.iter().map(|item| item.raw.clone()).collect();
        let mut bytes = Vec::new();
        for mut raw in items {
            let at = first + (bytes.len() as u64 / self.block) as u32;
            let covered = raw.len() - 16;
            self.seal(&mut raw, TAG_FILE_IDENTIFIER, at, covered);
            bytes.extend(raw);
        }
        let len = bytes.len() as u64;
        draft.append(Fresh::Bytes(bytes), self.alignment());
        self.set_content(draft, place, (offset, len), None, more_folders)
    }

    /// Lets the directory at `child`, which stays where it is, say where its parent is.
    fn set_parent(&self, draft: &mut Draft, child: u32, parent: u32) -> Result<()> {
        let file = self.icb(draft, child)?;
        let Some(at) = file.extents(draft, &self.maps, self.block)?.first().and_then(|extent| extent.offset)
        else {
            return Ok(());
        };
        let len = (draft.len() - at).min(self.block);
        let mut raw = read_vec(draft, at, len, 4096, "file identifier")?;
        let tag = check_tag(&raw, at, Some(TAG_FILE_IDENTIFIER))?;
        let Ok((fid, _)) = FileIdentifier::mut_from_prefix(&mut raw) else { return Ok(()) };
        if fid.characteristics & FID_PARENT == 0 || fid.identifier_length != 0 {
            return Ok(());
        }
        fid.icb.location.block = parent.into();
        Self::seal_as(&mut raw, &tag);
        draft.write(at, &raw[..size_of::<FileIdentifier>()])?;
        // Where the directory's bytes stand in its file entry, the entry's own checksum covers them.
        let (mut entry, entry_at) = self.entry(draft, child)?;
        if at >= entry_at && at < entry_at + self.block {
            let tag = Tag::read_from_prefix(&entry).map(|(tag, _)| tag).map_err(|_| short(entry_at))?;
            Self::seal_as(&mut entry, &tag);
            draft.write(entry_at, &entry)?;
        }
        Ok(())
    }

    /// Copies the file set's descriptors into fresh space, lets them begin with the root at block `root`, and lets
    /// the logical volume begin with them.
    fn move_file_set(&self, draft: &mut Draft, root: u32) -> Result<()> {
        let mut place = None;
        self.for_each_descriptor(draft, TAG_LOGICAL_VOLUME, &mut |draft, raw| {
            let Ok((volume, _)) = LogicalVolume::mut_from_prefix(raw) else { return Ok(()) };
            let at = match place {
                Some(at) => at,
                None => self.copy_file_set(draft, volume.contents_use, root)?,
            };
            place = Some(at);
            volume.contents_use.location.block = at.into();
            Ok(())
        })
    }

    fn copy_file_set(&self, draft: &mut Draft, extent: LongAd, root: u32) -> Result<u32> {
        let blocks = u64::from(extent.length.get() & 0x3FFF_FFFF).div_ceil(self.block).clamp(1, MAX_FILE_SET);
        let at = locate(&self.maps, self.block, extent.location, blocks * self.block, 0, draft.len())?;
        let mut bytes = read_vec(draft, at, blocks * self.block, 1 << 20, "file set")?;
        let place = draft.end().next_multiple_of(self.alignment());
        for (number, raw) in bytes.chunks_mut(self.block as usize).enumerate() {
            let Ok(tag) = check_tag(raw, at, None) else { break };
            if tag.identifier.get() == TAG_FILE_SET
                && let Ok((set, _)) = FileSet::mut_from_prefix(raw)
            {
                set.root.location.block = root.into();
            }
            let location = self.block_of(place)? + number as u32;
            Self::seal_as(raw, &Tag { location: location.into(), ..tag });
        }
        draft.append(Fresh::Bytes(bytes), self.alignment());
        self.block_of(place)
    }

    /// Where the first sequence of volume descriptors is.
    pub(super) fn descriptors_at(&self) -> u64 {
        let [main, reserve] =
            self.frame.sequences.map(|extent| u64::from(extent.location.get()) * self.block);
        main.min(reserve)
    }

    /// Lets `change` work on the descriptors of one kind in both sequences.
    fn for_each_descriptor(
        &self,
        draft: &mut Draft,
        kind: u16,
        change: &mut dyn FnMut(&mut Draft, &mut [u8]) -> Result<()>,
    ) -> Result<()> {
        for sequence in self.frame.sequences {
            for number in 0..u64::from(sequence.length.get() / self.block as u32).min(MAX_DESCRIPTORS) {
                let at = (u64::from(sequence.location.get()) + number) * self.block;
                if at + self.block > draft.old_len() {
                    break;
                }
                let mut raw = read_vec(draft, at, self.block, 4096, "volume descriptor")?;
                let Ok(tag) = check_tag(&raw, at, None) else { break };
                if tag.identifier.get() == TAG_TERMINATING {
                    break;
                }
                if tag.identifier.get() == kind {
                    change(draft, &mut raw)?;
                    Self::seal_as(&mut raw, &tag);
                    draft.write(at, &raw)?;
                }
            }
        }
        Ok(())
    }

    fn rewrite_integrity(&self, draft: &mut Draft, blocks: Option<u32>) -> Result<()> {
        if let Some((at, mut raw)) = self.integrity(draft)? {
            let tag = check_tag(&raw, at, None)?;
            self.update_integrity(&mut raw, blocks);
            Self::seal_as(&mut raw, &tag);
            draft.write(at, &raw)?;
        }
        Ok(())
    }

    fn integrity(&self, draft: &Draft) -> Result<Option<(u64, Vec<u8>)>> {
        let extent = self.frame.integrity;
        let mut latest = None;
        // The last descriptor of the sequence counts (ECMA-167 3/8.8.2).
        for number in 0..u64::from(extent.length.get() / self.block as u32).min(64) {
            let at = (u64::from(extent.location.get()) + number) * self.block;
            if at + self.block > draft.len() {
                break;
            }
            let raw = read_vec(draft, at, self.block, 4096, "integrity descriptor")?;
            match check_tag(&raw, at, Some(TAG_INTEGRITY)) {
                Ok(_) => latest = Some((at, raw)),
                Err(_) => break,
            }
        }
        Ok(latest)
    }

    /// Lets the descriptors say that the partition reaches to byte `len` of the file, and how many files there are.
    /// Gives the anchor for the last block.
    pub(super) fn set_len(&self, draft: &mut Draft, len: u64) -> Result<Vec<u8>> {
        let blocks = self.block_of(len)?;
        self.for_each_descriptor(draft, TAG_PARTITION, &mut |_, raw| {
            if let Ok((partition, _)) = Partition::mut_from_prefix(raw) {
                partition.length = blocks.into();
                // A finished disc: nothing shall write to it by tables of free space that end too early.
                partition.access_type = 1.into();
                partition.contents_use = [0; 128];
            }
            Ok(())
        })?;
        self.rewrite_integrity(draft, Some(blocks))?;
        let mut anchor = read_vec(draft, self.frame.anchor_at, 512, 512, "anchor")?;
        let tag = check_tag(&anchor, self.frame.anchor_at, None)?;
        let last = u32::try_from(len / self.block - 1).unwrap_or(u32::MAX);
        let (anchor_bytes, _) =
            Anchor::mut_from_prefix(&mut anchor).map_err(|_| short(self.frame.anchor_at))?;
        anchor_bytes.tag.location = last.into();
        Self::seal_as(&mut anchor, &Tag { location: last.into(), ..tag });
        Ok(anchor)
    }

    /// Bytes of a block.
    pub(super) const fn block_len(&self) -> u64 {
        self.block
    }

    /// Puts the size of the partition, or the numbers of files, into an integrity descriptor (ECMA-167 3/10.10).
    fn update_integrity(&self, raw: &mut [u8], blocks: Option<u32>) {
        let word = |raw: &[u8], at: usize| {
            raw.get(at..at + 4).and_then(|word| word.try_into().ok()).map_or(0, u32::from_le_bytes)
        };
        let set = |raw: &mut [u8], at: usize, value: u32| {
            if let Some(slot) = raw.get_mut(at..at + 4) {
                slot.copy_from_slice(&value.to_le_bytes());
            }
        };
        // Partitions at 72, then for each its free space and its size.
        let partitions = word(raw, 72) as usize;
        if let Some(blocks) = blocks {
            if partitions == 1 {
                set(raw, 80, 0);
                set(raw, 84, blocks);
            }
            return;
        }
        if let Some(slot) = raw.get_mut(40..48) {
            slot.copy_from_slice(&self.next_unique.to_le_bytes());
        }
        // UDF 2.2.6.4: an identifier of 32 bytes, then the counts.
        let counts = 80 + partitions.saturating_mul(8) + 32;
        if counts + 8 <= raw.len() {
            let add = |value: u32, more: i64| u32::try_from(i64::from(value) + more).unwrap_or(value);
            let (files, folders) = (word(raw, counts), word(raw, counts + 4));
            set(raw, counts, add(files, self.more_files));
            set(raw, counts + 4, add(folders, self.more_folders));
        }
    }

    /// Seals a descriptor with the tag that it had.
    fn seal_as(raw: &mut [u8], tag: &Tag) {
        let covered = usize::from(tag.crc_length.get()).min(raw.len() - 16);
        let mut tag = Tag { checksum: 0, crc: cs0::crc(&raw[16..16 + covered]).into(), ..*tag };
        tag.checksum = tag.as_bytes().iter().fold(0, |sum, byte| sum.wrapping_add(*byte));
        raw[..16].copy_from_slice(tag.as_bytes());
    }
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
            icb: fid.icb.location.block.get(),
            raw: bytes[at..end].to_vec(),
        });
        at = end;
    }
    Ok(items)
}

//! Changing one ECMA-119 tree: plain, Rock Ridge or Joliet.
//!
//! Directories are changed in memory. [`Format::flush`] writes a directory in place when only one of its sectors
//! differs, so that it changes over at once, and beside other trees only where it is written together with them. Else it gets a new place in fresh space, and with it all directories below,
//! as many readers look for those behind it; the record in its parent, for the root the descriptors, makes the change.

mod flush;

use super::commit::Ending;
use super::directory::{Directory, Raw, fixed, identifier, is_special, set_extent};
use super::draft::{Draft, Fresh};
use super::tree::{self, Extent, Format, Key};
use super::{SECTOR, Target};
use crate::TreeKind;
use crate::iso9660::layout::{
    DirectoryRecord, FIRST_DESCRIPTOR, FLAG_ASSOCIATED, FLAG_DIRECTORY, FLAG_MULTI_EXTENT, JOLIET_ESCAPES,
    MAX_SECTION_LEN, STANDARD_IDENTIFIER, TYPE_PRIMARY, TYPE_SUPPLEMENTARY, TYPE_TERMINATOR,
    VolumeDescriptor,
};
use crate::iso9660::names::{Flavor, Identifier, Namer};
use crate::iso9660::read::{latin_or_utf8, next_record, utf16_be, without_version};
use crate::iso9660::rock_ridge;
use crate::iso9660::rock_ridge::{Attributes, Entry};
use crate::iso9660::write::{DirectoryBytes, record};
use crate::units::{BlockNumber, Sector};
use neat_content::{Error, Meta, Result, Timestamp, fold_case, read_vec};
use std::{collections::BTreeMap, ops::Range};
use zerocopy::{FromBytes, IntoBytes};

/// Largest directory that is changed, in bytes.
const MAX_DIRECTORY_LEN: u64 = 64 << 20;
/// Names on Joliet, in UTF-16 units.
const JOLIET_LIMIT: usize = 64;

/// A tree that one or more volume descriptors begin.
pub(super) struct IsoTree {
    /// Positions of the descriptors.
    pub descriptors: Vec<u64>,
    /// What people call it.
    kind: TreeKind,
    /// Bytes of a logical block.
    pub block: u64,
    flavor: Flavor,
    /// Bytes in front of every system use area.
    skip: usize,
    root: Key,
    directories: BTreeMap<Key, Directory>,
    /// Whether there are other directories than before, or in other places.
    tables_changed: bool,
    /// Where directories may change in place: what is written at once. `None` when this is the only tree, which
    /// then changes over with one sector wherever that is.
    at_once: Option<Range<u64>>,
}

/// What a directory shows under one name.
#[derive(Clone, Debug)]
pub(super) struct Item {
    name: String,
    identifier: Vec<u8>,
    /// Its records, one for each section.
    records: Vec<Raw>,
    is_folder: bool,
    is_link: bool,
    /// Where Rock Ridge says that the folder lies in truth.
    child_location: Option<BlockNumber>,
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
    /// First block and bytes of the first record.
    fn extent(&self) -> (BlockNumber, u32) {
        let raw = self.records.first().map(|raw| fixed(raw)).unwrap_or_default();
        let location = start_of(&raw);
        (self.child_location.unwrap_or(location), raw.data_length.little.get())
    }
}

/// Finds the trees of a disc, the primary first.
pub(super) fn open_all(draft: &Draft) -> Result<Vec<IsoTree>> {
    let mut trees: Vec<IsoTree> = Vec::new();
    for number in FIRST_DESCRIPTOR..FIRST_DESCRIPTOR + 64 {
        let at = number * SECTOR;
        if at + SECTOR > draft.old_len() {
            break;
        }
        let bytes = read_vec(draft, at, SECTOR, SECTOR, "volume descriptor")?;
        if bytes[1..6] != STANDARD_IDENTIFIER || bytes[0] == TYPE_TERMINATOR {
            break;
        }
        if ![TYPE_PRIMARY, TYPE_SUPPLEMENTARY].contains(&bytes[0]) {
            continue;
        }
        let Ok(descriptor) = VolumeDescriptor::read_from_bytes(&bytes) else { continue };
        let location = start_of(&descriptor.root);
        let root = Key(location);
        if let Some(tree) = trees.iter_mut().find(|tree| tree.root == root) {
            tree.descriptors.push(at);
            continue;
        }
        let joliet = JOLIET_ESCAPES.iter().any(|escape| descriptor.escape_sequences.starts_with(*escape));
        let block = u64::from(descriptor.logical_block_size.little.get());
        if ![512, 1024, 2048].contains(&block) {
            let expected = "512, 1024 or 2048";
            return Err(Error::bad_field(
                "VolumeDescriptor",
                "logical_block_size",
                at + 128,
                expected,
                block,
            ));
        }
        let mut tree = IsoTree {
            descriptors: vec![at],
            kind: if joliet { TreeKind::Joliet } else { TreeKind::Iso9660 },
            block,
            flavor: if joliet { Flavor::Joliet { limit: JOLIET_LIMIT } } else { Flavor::Primary },
            skip: 0,
            root,
            directories: BTreeMap::new(),
            tables_changed: false,
            at_once: None,
        };
        tree.load(draft, location, descriptor.root.data_length.little.get(), None)?;
        tree.detect_rock_ridge(draft)?;
        trees.push(tree);
    }
    Ok(trees)
}

impl IsoTree {
    fn offset(&self, location: BlockNumber) -> u64 {
        location.byte_offset(self.block)
    }

    /// Reads the directory at `location`, unless it is there already, and gives its key.
    fn load(&mut self, draft: &Draft, location: BlockNumber, len: u32, parent: Option<Key>) -> Result<Key> {
        // A directory may have moved since the record that led here was read.
        let key = Key(location);
        if self.directories.contains_key(&key) {
            return Ok(key);
        }
        if let Some((key, _)) = self.directories.iter().find(|(_, known)| known.location == location) {
            return Ok(*key);
        }
        let offset = self.offset(location);
        let bytes = read_vec(draft, offset, len.into(), MAX_DIRECTORY_LEN, "directory")?;
        self.directories.insert(key, Directory::parse(bytes, offset, location, parent)?);
        Ok(key)
    }

    fn directory(&mut self, key: Key) -> Result<&mut Directory> {
        let at = self.offset(key.0);
        self.directories
            .get_mut(&key)
            .ok_or_else(|| Error::bad_field("DirectoryRecord", "location", at, "a directory", "none"))
    }

    fn detect_rock_ridge(&mut self, draft: &Draft) -> Result<()> {
        let offset = self.offset(self.root.0);
        let Some(own) = self.directory(self.root)?.records().next().cloned() else { return Ok(()) };
        if self.kind == TreeKind::Joliet {
            return Ok(());
        }
        if let Some(record) = next_record(&own, 0, offset)?
            && record.system_use.starts_with(b"SP")
        {
            let found = rock_ridge::parse(draft, record.system_use, record.system_use_offset, self.block)?;
            if found.rock_ridge || found.mode.is_some() {
                self.kind = TreeKind::RockRidge;
                self.skip = usize::from(found.skip.unwrap_or(0));
            }
        }
        Ok(())
    }

    fn attributes(&self, draft: &Draft, raw: &[u8]) -> Result<Attributes> {
        let record = next_record(raw, 0, 0)?.filter(|_| self.kind == TreeKind::RockRidge);
        let area = record.and_then(|record| record.system_use.get(self.skip..));
        area.map_or_else(|| Ok(Attributes::default()), |area| rock_ridge::parse(draft, area, 0, self.block))
    }

    fn name(&self, raw: &[u8], attributes: &Attributes) -> String {
        if let Some(name) = &attributes.name {
            return latin_or_utf8(name);
        }
        let recorded = identifier(raw);
        if self.kind == TreeKind::Joliet {
            return without_version(&utf16_be(recorded)).to_owned();
        }
        let name = latin_or_utf8(recorded);
        let name = without_version(&name);
        name.strip_suffix('.').unwrap_or(name).to_owned()
    }

    /// Whether an item of directory `key` holds what `target` says.
    fn is_target(&mut self, draft: &Draft, key: Key, item: &Item, target: &Target) -> Result<bool> {
        let extent = self.extent(draft, item)?.filter(|_| !item.is_folder);
        Ok(match target {
            Target::File(offset) => extent.is_some_and(|(at, _)| at == *offset),
            Target::Empty => !item.is_folder && extent.is_none(),
            Target::Folder(mark) if item.is_folder => {
                let child = self.enter(draft, key, item)?;
                self.mark(draft, child)?.fits(mark)
            }
            Target::Folder(_) | Target::Unknown | Target::Absent => false,
        })
    }

    fn block_of(&self, offset: u64) -> Result<BlockNumber> {
        u32::try_from(offset / self.block).map(BlockNumber).map_err(|_| Error::Limit {
            what: "size in blocks of an ISO 9660 volume".into(),
            offset,
            limit: u32::MAX.into(),
            found: offset / self.block,
        })
    }

    fn bytes_at(&self, draft: &Draft) -> Result<DirectoryBytes> {
        let continuation_sector = Sector(self.block_of(draft.end())?.0);
        Ok(DirectoryBytes { records: Vec::new(), continuations: Vec::new(), continuation_sector })
    }

    /// The record `raw` with an identifier that is still free in the directory, and for Rock Ridge its name.
    fn named(
        &mut self,
        draft: &mut Draft,
        parent: Key,
        raw: DirectoryRecord,
        name: &str,
        mode: u32,
        time: Timestamp,
    ) -> Result<Raw> {
        let is_folder = raw.flags & FLAG_DIRECTORY != 0;
        let mut namer = Namer::new(self.flavor);
        for other in self.directory(parent)?.records().filter(|other| !is_special(other)) {
            namer.reserve(identifier(other), fixed(other).flags & FLAG_DIRECTORY != 0);
        }
        let identifier: Identifier = namer.identifier(name, is_folder);
        let mut bytes = self.bytes_at(draft)?;
        let entry = Entry { name: Some(name), mode, modified: time, link: None, root: false };
        let entry = (self.kind == TreeKind::RockRidge).then_some(entry);
        if entry.is_some() && self.skip > 0 {
            let what = format!("Rock Ridge behind {} other bytes in each record", self.skip);
            return Err(Error::Unsupported { what, offset: self.offset(self.root.0) });
        }
        bytes.add(raw, &identifier.recorded(), entry);
        if !bytes.continuations.is_empty() {
            draft.append(Fresh::Bytes(bytes.continuations), SECTOR);
        }
        Ok(bytes.records)
    }
}

impl Format for IsoTree {
    type Item = Item;

    fn kind(&self) -> TreeKind {
        self.kind
    }

    fn root(&self) -> Key {
        self.root
    }

    /// What the directory shows, in the order of its records.
    fn items(&mut self, draft: &Draft, key: Key) -> Result<Vec<Item>> {
        let records: Vec<Raw> = self.directory(key)?.records().cloned().collect();
        let mut items: Vec<Item> = Vec::new();
        for raw in records.into_iter().filter(|raw| !is_special(raw)) {
            let flags = fixed(&raw).flags;
            let own = identifier(&raw).to_vec();
            if let Some(last) = items.last_mut().filter(|last| last.identifier == own) {
                // Further sections, and older versions or second contents, which only stay in company.
                last.records.push(raw);
                continue;
            }
            let attributes = self.attributes(draft, &raw)?;
            if attributes.relocated {
                continue;
            }
            items.push(Item {
                name: self.name(&raw, &attributes),
                identifier: own,
                is_folder: flags & FLAG_DIRECTORY != 0 || attributes.child_location.is_some(),
                is_link: attributes.link.is_some(),
                child_location: attributes.child_location.map(BlockNumber),
                records: vec![raw],
            });
        }
        Ok(items)
    }

    /// The item called `name`: by its name, by its name in another case, or by what `target` says of it.
    fn find(&mut self, draft: &Draft, key: Key, name: &str, target: &Target) -> Result<Option<Item>> {
        if *target == Target::Absent {
            return Ok(None);
        }
        let items = self.items(draft, key)?;
        let folded = fold_case(name);
        let mut namer = Namer::new(self.flavor);
        let [file_name, folder_name] = [false, true].map(|folder| namer.identifier(name, folder).recorded());
        // Most of all the right content, then the name; of several that hold the same the one most alike.
        let mut found: Option<((bool, usize), &Item)> = None;
        for item in &items {
            let made = if item.is_folder { &folder_name } else { &file_name };
            let alike = if item.name == name {
                usize::MAX
            } else if fold_case(&item.name) == folded {
                usize::MAX - 1
            } else {
                item.identifier.iter().zip(made).take_while(|(a, b)| a == b).count()
            };
            let rank = (self.is_target(draft, key, item, target)?, alike);
            // With other content only the name itself tells: trees need not share their files' bytes.
            if (rank.0 || alike >= usize::MAX - 1) && found.is_none_or(|(best, _)| rank > best) {
                found = Some((rank, item));
            }
        }
        Ok(found.map(|(_, item)| item.clone()))
    }

    /// The key of the folder that `item` of directory `parent` is.
    fn enter(&mut self, draft: &Draft, parent: Key, item: &Item) -> Result<Key> {
        let (location, len) = item.extent();
        if item.child_location.is_none() {
            return self.load(draft, location, len, Some(parent));
        }
        // A folder that lies elsewhere says itself how long it is.
        let offset = self.offset(location);
        let own = read_vec(draft, offset, self.block, SECTOR, "relocated directory")?;
        let len = next_record(&own, 0, offset)?.map_or(0, |record| record.raw.data_length.little.get());
        let key = self.load(draft, location, len, Some(parent))?;
        // Both what leads here and where this really lies would have to follow.
        self.directory(parent)?.is_pinned = true;
        self.directory(key)?.is_pinned = true;
        Ok(key)
    }

    /// Of a file in several sections the first.
    fn extent(&self, _: &Draft, item: &Item) -> Result<Option<Extent>> {
        let (location, len) = item.extent();
        Ok((len > 0).then(|| (self.offset(location), u64::from(len))))
    }

    fn file_len(&self, _: &Draft, item: &Item) -> Result<Option<u64>> {
        let sections = item.records.iter().map(|raw| fixed(raw));
        let sections = sections.filter(|raw| raw.flags & FLAG_ASSOCIATED == 0);
        let len = sections.map(|raw| u64::from(raw.data_length.little.get())).sum();
        Ok((!item.is_link).then_some(len))
    }

    /// An empty folder `name` in directory `parent`; gives its key.
    fn make_folder(&mut self, draft: &mut Draft, parent: Key, name: &str, time: Timestamp) -> Result<Key> {
        let location = self.block_of(draft.end())?;
        let above = self.directory(parent)?;
        let (parent_location, parent_len) = (above.location, above.len() as u32);
        let meta = Meta::at(time);
        let mut bytes = self.bytes_at(draft)?;
        let entry = || {
            let mode = 0o040_555;
            (self.kind == TreeKind::RockRidge).then_some(Entry {
                name: None,
                mode,
                modified: time,
                link: None,
                root: false,
            })
        };
        bytes.add(record((Sector(location.0), SECTOR as u32), meta, FLAG_DIRECTORY), &[0], entry());
        bytes.add(record((Sector(parent_location.0), parent_len), meta, FLAG_DIRECTORY), &[1], entry());
        bytes.records.resize(SECTOR as usize, 0);
        let offset = draft.append(Fresh::Bytes(bytes.records.clone()), SECTOR);
        self.directories
            .insert(Key(location), Directory::parse(bytes.records, offset, location, Some(parent))?);
        let raw = record((Sector(location.0), SECTOR as u32), meta, FLAG_DIRECTORY);
        let raw = self.named(draft, parent, raw, name, 0o040_555, time)?;
        let flavor = self.flavor;
        self.directory(parent)?.insert(raw, flavor);
        self.tables_changed = true;
        Ok(Key(location))
    }

    /// Makes `name` in directory `key` a file of `len` bytes at byte `offset` of the disc. Attributes of a file that
    /// is there already stay.
    fn put(
        &mut self,
        draft: &mut Draft,
        key: Key,
        name: &str,
        existing: Option<&Item>,
        (offset, len): Extent,
        time: Timestamp,
    ) -> Result<()> {
        let first = if len == 0 {
            BlockNumber::default()
        } else {
            self.block_of(offset + len - 1).and(self.block_of(offset))?
        };
        let template = match existing.and_then(|item| item.records.first()) {
            Some(raw) => raw.clone(),
            None => self.named(
                draft,
                key,
                record((Sector::default(), 0), Meta::at(time), 0),
                name,
                0o100_444,
                time,
            )?,
        };
        let count = len.div_ceil(MAX_SECTION_LEN).max(1);
        let sections: Vec<Raw> = (0..count)
            .map(|number| {
                let start = number * MAX_SECTION_LEN;
                let mut raw = template.clone();
                let location = first.after((start / self.block) as u32);
                set_extent(&mut raw, location, (len - start).min(MAX_SECTION_LEN) as u32);
                set_time(&mut raw, time, self.kind == TreeKind::RockRidge);
                if let Ok((fixed, _)) = DirectoryRecord::mut_from_prefix(&mut raw) {
                    fixed.flags &= !(FLAG_MULTI_EXTENT | FLAG_ASSOCIATED);
                    if number + 1 < count {
                        fixed.flags |= FLAG_MULTI_EXTENT;
                    }
                }
                raw
            })
            .collect();
        let flavor = self.flavor;
        let directory = self.directory(key)?;
        if let [only] = sections.as_slice()
            && existing.is_some()
            && directory.replace(only)
        {
            return Ok(());
        }
        if let Some(item) = existing {
            directory.remove(&item.identifier);
        }
        sections.into_iter().for_each(|raw| directory.insert(raw, flavor));
        Ok(())
    }

    /// Takes `item` out of directory `key`; gives its records.
    fn remove(&mut self, _: &Draft, key: Key, item: &Item) -> Result<Vec<Raw>> {
        self.tables_changed |= item.is_folder;
        Ok(self.directory(key)?.remove(&item.identifier))
    }

    /// Brings records back that [`Format::remove`] gave.
    fn bring_back(&mut self, draft: &mut Draft, key: Key, records: Vec<Raw>) -> Result<()> {
        let flavor = self.flavor;
        for raw in records {
            let extent = fixed(&raw);
            if extent.flags & FLAG_DIRECTORY != 0 {
                self.tables_changed = true;
                // The folder may have moved above while this one was not in it.
                let above = self.directory(key)?;
                let (location, len) = (above.location, above.len() as u32);
                self.set_parent(draft, start_of(&extent), location, len)?;
            }
            self.directory(key)?.insert(raw, flavor);
        }
        Ok(())
    }

    fn flush(&mut self, draft: &mut Draft) -> Result<()> {
        self.write_directories(draft)
    }

    fn set_len(&self, draft: &mut Draft, len: u64, _: &mut Ending) -> Result<()> {
        self.write_len(draft, len)
    }

    fn descriptors_at(&self) -> Option<u64> {
        self.descriptors.first().copied()
    }

    fn confine(&mut self, range: &Range<u64>) {
        self.at_once = Some(range.clone());
    }
}

/// Where the bytes of a record's first section begin, behind its extended attributes (ECMA-119 9.1.3).
fn start_of(record: &DirectoryRecord) -> BlockNumber {
    BlockNumber(record.location.little.get()).after(record.extended_attribute_length.into())
}

/// Puts a time into a record, and into its `TF` entry when that stands in the record itself.
fn set_time(raw: &mut Raw, time: Timestamp, rock_ridge: bool) {
    let recorded = crate::iso9660::layout::RecordingTime::from_timestamp(time);
    if let Ok((fixed, _)) = DirectoryRecord::mut_from_prefix(raw) {
        fixed.recorded = recorded;
    }
    if !rock_ridge {
        return;
    }
    let mut at = (33 + usize::from(fixed(raw).identifier_length)).next_multiple_of(2);
    while let Some([first, second, len, _, flags]) =
        raw.get(at..at + 5).and_then(|head| <[u8; 5]>::try_from(head).ok())
    {
        if len < 4 {
            break;
        }
        // Seven bytes for each time; the modification comes after a creation (RRIP 4.1.6).
        if [first, second] == *b"TF" && flags & 0x80 == 0 && flags & 2 != 0 {
            let start = at + 5 + if flags & 1 != 0 { 7 } else { 0 };
            if let Some(slot) = raw.get_mut(start..start + 7) {
                slot.copy_from_slice(recorded.as_bytes());
            }
        }
        at += usize::from(len);
    }
}

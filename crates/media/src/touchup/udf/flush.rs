//! Writing changed directories, and the descriptors that lead to them.

use super::super::draft::{Draft, Fresh};
use super::super::tree::Key;
use super::{Item, MAX_DESCRIPTORS, MAX_FILE_SET, UdfTree, short};
use crate::Limits;
use crate::udf::address::{check_tag, locate};
use crate::udf::cs0;
use crate::udf::layout::{
    Anchor, FID_DELETED, FID_PARENT, FileIdentifier, FileSet, LogicalVolume, LongAd, Partition,
    TAG_FILE_IDENTIFIER, TAG_FILE_SET, TAG_INTEGRITY, TAG_LOGICAL_VOLUME, TAG_PARTITION, TAG_TERMINATING,
    Tag,
};
use crate::units::BlockNumber;
use neat_content::{ReadAt, Result, read_vec};
use std::collections::{BTreeMap, BTreeSet};
use zerocopy::{FromBytes, IntoBytes};

impl UdfTree {
    /// A copy of a file entry in fresh space; gives its block.
    pub(in crate::touchup) fn copy_entry(
        &self,
        draft: &mut Draft,
        block: BlockNumber,
    ) -> Result<BlockNumber> {
        let (raw, _) = self.entry(draft, block)?;
        let own = self.block_of(draft.end().next_multiple_of(self.alignment()))?;
        draft.append(Fresh::Bytes(raw), self.alignment());
        Ok(own)
    }

    /// Writes what changed into the draft.
    pub(super) fn write_directories(&mut self, draft: &mut Draft) -> Result<()> {
        let mut moving: BTreeSet<Key> = BTreeSet::new();
        let changed: Vec<Key> =
            self.directories.iter().filter(|(_, directory)| directory.changed).map(|(key, _)| *key).collect();
        for mut key in changed {
            // Up to the root, or to a directory whose way is known already.
            while moving.insert(key) && key != self.root {
                key = self.load(draft, key)?.parent;
            }
        }
        // Every file entry gets its place before any directory is written, as each names its parent and its children.
        let mut places: BTreeMap<Key, BlockNumber> = BTreeMap::new();
        for key in &moving {
            let is_new = draft.is_fresh(self.start * self.block + key.0.byte_offset(self.block));
            places.insert(*key, if is_new { key.0 } else { self.copy_entry(draft, key.0)? });
        }
        for (key, place) in &places {
            let directory = self.load(draft, *key)?;
            let mut staying = Vec::new();
            let folders = |item: &&mut Item| item.is_folder && item.characteristics() & FID_DELETED == 0;
            for item in directory.items.iter_mut().filter(folders) {
                match places.get(&Key(item.icb)) {
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
            self.root = Key(root);
            self.directories.clear();
        }
        (self.more_files, self.more_folders) = (0, 0);
        Ok(())
    }

    pub(in crate::touchup) fn write_directory(
        &mut self,
        draft: &mut Draft,
        key: Key,
        place: BlockNumber,
    ) -> Result<()> {
        let offset = draft.end().next_multiple_of(self.alignment());
        let first = self.block_of(offset)?;
        let directory = self.load(draft, key)?;
        let more_folders = std::mem::take(&mut directory.more_folders);
        let items: Vec<Vec<u8>> = directory.items.iter().map(|item| item.raw.clone()).collect();
        let mut bytes = Vec::new();
        for mut raw in items {
            let at = first.after((bytes.len() as u64 / self.block) as u32);
            let covered = raw.len() - 16;
            self.seal(&mut raw, TAG_FILE_IDENTIFIER, at, covered);
            bytes.extend(raw);
        }
        let len = bytes.len() as u64;
        draft.append(Fresh::Bytes(bytes), self.alignment());
        self.set_content(draft, place, (offset, len), None, more_folders)
    }

    /// Lets the directory at `child`, which stays where it is, say where its parent is.
    pub(in crate::touchup) fn set_parent(
        &self,
        draft: &mut Draft,
        child: BlockNumber,
        parent: BlockNumber,
    ) -> Result<()> {
        let file = self.icb(draft, child)?;
        let Some(at) = file
            .extents(draft, &self.maps, self.block, Limits::default().extents)?
            .first()
            .and_then(|extent| extent.offset)
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
        fid.icb.location.block = parent.0.into();
        Self::seal_as(&mut raw, &tag);
        draft.write_early(at, &raw[..size_of::<FileIdentifier>()])?;
        // Where the directory's bytes stand in its file entry, the entry's own checksum covers them.
        let (mut entry, entry_at) = self.entry(draft, child)?;
        if at >= entry_at && at < entry_at + self.block {
            let tag = Tag::read_from_prefix(&entry).map(|(tag, _)| tag).map_err(|_| short(entry_at))?;
            Self::seal_as(&mut entry, &tag);
            draft.write_early(entry_at, &entry)?;
        }
        Ok(())
    }

    /// Copies the file set's descriptors into fresh space, lets them begin with the root at block `root`, and lets
    /// the logical volume begin with them.
    pub(in crate::touchup) fn move_file_set(&self, draft: &mut Draft, root: BlockNumber) -> Result<()> {
        let mut place = None;
        self.for_each_descriptor(draft, TAG_LOGICAL_VOLUME, &mut |draft, raw| {
            let Ok((volume, _)) = LogicalVolume::mut_from_prefix(raw) else { return Ok(()) };
            let at = match place {
                Some(at) => at,
                None => self.copy_file_set(draft, volume.contents_use, root)?,
            };
            place = Some(at);
            volume.contents_use.location.block = at.0.into();
            Ok(())
        })
    }

    pub(in crate::touchup) fn copy_file_set(
        &self,
        draft: &mut Draft,
        extent: LongAd,
        root: BlockNumber,
    ) -> Result<BlockNumber> {
        let blocks = u64::from(extent.length.get() & 0x3FFF_FFFF).div_ceil(self.block).clamp(1, MAX_FILE_SET);
        let at = locate(&self.maps, self.block, extent.location, blocks * self.block, 0, draft.len())?;
        let mut bytes = read_vec(draft, at, blocks * self.block, 1 << 20, "file set")?;
        let place = draft.end().next_multiple_of(self.alignment());
        for (number, raw) in bytes.chunks_mut(self.block as usize).enumerate() {
            let Ok(tag) = check_tag(raw, at, None) else { break };
            if tag.identifier.get() == TAG_FILE_SET
                && let Ok((set, _)) = FileSet::mut_from_prefix(raw)
            {
                set.root.location.block = root.0.into();
            }
            let location = self.block_of(place)?.after(number as u32);
            Self::seal_as(raw, &Tag { location: location.0.into(), ..tag });
        }
        draft.append(Fresh::Bytes(bytes), self.alignment());
        self.block_of(place)
    }

    /// Where the first sequence of volume descriptors is.
    pub(super) fn first_sequence(&self) -> u64 {
        let [main, reserve] =
            self.frame.sequences.map(|extent| u64::from(extent.location.get()) * self.block);
        main.min(reserve)
    }

    /// Lets `change` work on the descriptors of one kind in both sequences.
    pub(in crate::touchup) fn for_each_descriptor(
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

    pub(in crate::touchup) fn rewrite_integrity(&self, draft: &mut Draft, blocks: Option<u32>) -> Result<()> {
        if let Some((at, mut raw)) = self.integrity(draft)? {
            let tag = check_tag(&raw, at, None)?;
            self.update_integrity(&mut raw, blocks);
            Self::seal_as(&mut raw, &tag);
            draft.write(at, &raw)?;
        }
        Ok(())
    }

    pub(in crate::touchup) fn integrity(&self, draft: &Draft) -> Result<Option<(u64, Vec<u8>)>> {
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
    pub(super) fn write_len(&self, draft: &mut Draft, len: u64) -> Result<Vec<u8>> {
        let blocks = self.block_of(len)?;
        self.for_each_descriptor(draft, TAG_PARTITION, &mut |_, raw| {
            if let Ok((partition, _)) = Partition::mut_from_prefix(raw) {
                partition.length = blocks.0.into();
                // A finished disc: nothing shall write to it by tables of free space that end too early.
                partition.access_type = 1.into();
                partition.contents_use = [0; 128];
            }
            Ok(())
        })?;
        self.rewrite_integrity(draft, Some(blocks.0))?;
        let mut anchor = read_vec(draft, self.frame.anchor_at, 512, 512, "anchor")?;
        let tag = check_tag(&anchor, self.frame.anchor_at, None)?;
        let last = u32::try_from(len / self.block - 1).unwrap_or(u32::MAX);
        let (anchor_bytes, _) =
            Anchor::mut_from_prefix(&mut anchor).map_err(|_| short(self.frame.anchor_at))?;
        anchor_bytes.tag.location = last.into();
        Self::seal_as(&mut anchor, &Tag { location: last.into(), ..tag });
        Ok(anchor)
    }

    /// Puts the size of the partition, or the numbers of files, into an integrity descriptor (ECMA-167 3/10.10).
    pub(in crate::touchup) fn update_integrity(&self, raw: &mut [u8], blocks: Option<u32>) {
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
    pub(in crate::touchup) fn seal_as(raw: &mut [u8], tag: &Tag) {
        let covered = usize::from(tag.crc_length.get()).min(raw.len() - 16);
        let mut tag = Tag { checksum: 0, crc: cs0::crc(&raw[16..16 + covered]).into(), ..*tag };
        tag.checksum = tag.as_bytes().iter().fold(0, |sum, byte| sum.wrapping_add(*byte));
        raw[..16].copy_from_slice(tag.as_bytes());
    }
}

//! File entries and identifiers of a changed volume.

use super::super::draft::{Draft, Fresh};
use super::{MAX_NAME_LEN, UdfTree, short};
use crate::udf::cs0;
use crate::udf::layout::{
    ALLOCATION_SHORT, ExtendedFileEntry, FID_PARENT, FILE_TYPE_BYTES, FILE_TYPE_DIRECTORY, FileEntry,
    FileIdentifier, IcbTag, TAG_EXTENDED_FILE_ENTRY, TAG_FILE_ENTRY, Tag, UdfTime,
};
use crate::udf::write::{implementation, long_ad, permissions, short_ads};
use crate::units::BlockNumber;
use neat_content::{Error, Meta, Result, Timestamp};
use zerocopy::{FromBytes, FromZeros, IntoBytes};

impl UdfTree {
    pub(in crate::touchup) fn take_unique(&mut self) -> u64 {
        self.next_unique += 1;
        self.next_unique - 1
    }

    /// A new file entry in fresh space, and its block.
    pub(in crate::touchup) fn add_entry(
        &mut self,
        draft: &mut Draft,
        folder: bool,
        time: Timestamp,
    ) -> Result<BlockNumber> {
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
    pub(in crate::touchup) fn seal(
        &self,
        raw: &mut [u8],
        identifier: u16,
        location: BlockNumber,
        covered: usize,
    ) {
        let mut tag = Tag {
            identifier: identifier.into(),
            descriptor_version: self.tag.0.into(),
            serial_number: self.tag.1.into(),
            crc: cs0::crc(&raw[16..16 + covered]).into(),
            crc_length: (covered as u16).into(),
            location: location.0.into(),
            ..Tag::default()
        };
        tag.checksum = tag.as_bytes().iter().fold(0, |sum, byte| sum.wrapping_add(*byte));
        raw[..16].copy_from_slice(tag.as_bytes());
    }

    /// Lets a file entry describe `len` bytes at byte `offset`, and one name more or fewer for each of `more_names`.
    pub(in crate::touchup) fn set_content(
        &self,
        draft: &mut Draft,
        block: BlockNumber,
        (offset, len): (u64, u64),
        time: Option<Timestamp>,
        more_names: i32,
    ) -> Result<()> {
        let (mut raw, at) = self.entry(draft, block)?;
        let ads = short_ads(if len == 0 { BlockNumber::default() } else { self.block_of(offset)? }, len);
        let recorded = len.div_ceil(self.block);
        let time = time.map(UdfTime::from_timestamp);
        let names = |count: u16| u16::try_from(i32::from(count) + more_names).unwrap_or(count);
        let identifier = u16::from_le_bytes([raw[0], raw[1]]);
        let attributes = if identifier == TAG_EXTENDED_FILE_ENTRY {
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
        } else {
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

    pub(in crate::touchup) fn names_of(&self, draft: &Draft, block: BlockNumber) -> Result<u16> {
        // The count stands at the same place in both kinds of file entry (ECMA-167 4/14.9, 4/14.17).
        let (raw, _) = self.entry(draft, block)?;
        Ok(u16::from_le_bytes([raw[48], raw[49]]))
    }

    pub(in crate::touchup) fn identifier(
        &self,
        name: &str,
        characteristics: u8,
        icb: BlockNumber,
        unique: u64,
    ) -> Vec<u8> {
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

    pub(in crate::touchup) fn set_names(
        &self,
        draft: &mut Draft,
        block: BlockNumber,
        more: i32,
    ) -> Result<()> {
        let (mut raw, at) = self.entry(draft, block)?;
        let count = u16::from_le_bytes([raw[48], raw[49]]);
        let count = u16::try_from(i32::from(count) + more).unwrap_or(count);
        raw[48..50].copy_from_slice(&count.to_le_bytes());
        let (identifier, covered) =
            (u16::from_le_bytes([raw[0], raw[1]]), u16::from_le_bytes([raw[10], raw[11]]));
        self.seal(&mut raw, identifier, block, usize::from(covered));
        draft.write(at, &raw)
    }
}

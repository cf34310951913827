//! Reading partition tables.

use super::layout::{
    ATTRIBUTE_BIOS, BLOCK, GptEntry, GptHeader, KIND_BASIC_DATA, KIND_EFI_SYSTEM, KIND_LINUX, KIND_RECOVERY,
    KIND_RESERVED, Mbr, TYPE_PROTECTIVE,
};
use crate::{BootCode, PartitionInfo, PartitionTable};
use neat_content::{Error, ReadAt, Result, read_vec};
use std::fmt::Write as _;
use zerocopy::FromBytes;

/// Entries of a GPT that are read.
const MAX_ENTRIES: u64 = 1024;

pub(super) fn read_mbr<R: ReadAt + ?Sized>(reader: &R) -> Result<Option<Mbr>> {
    if reader.len() < BLOCK {
        return Ok(None);
    }
    let bytes = read_vec(reader, 0, BLOCK, BLOCK, "master boot record")?;
    Ok(Mbr::read_from_bytes(&bytes).ok().filter(|mbr| mbr.signature == [0x55, 0xAA]))
}

/// Reads the partition table at the start of `reader`, if there is one that holds partitions. A GPT whose
/// checksums are wrong is an error. `bios_image` is the first sector of the BIOS boot image, if there is one.
///
/// # Errors
/// `Corrupt` with the field and the offset, `Io`.
pub fn read<R: ReadAt + ?Sized>(reader: &R, bios_image: Option<u32>) -> Result<Option<PartitionTable>> {
    let Some(mbr) = read_mbr(reader)? else { return Ok(None) };
    let boot_code = boot_code(&mbr, bios_image);
    if mbr.records.iter().any(|record| record.kind == TYPE_PROTECTIVE)
        && let Some(partitions) = read_gpt(reader, BLOCK)?
    {
        let partitions = partitions.into_iter().map(|(_, own)| own).collect();
        return Ok(Some(PartitionTable { gpt: true, boot_code, partitions }));
    }
    let partitions: Vec<_> = mbr
        .records
        .iter()
        .filter(|record| record.count.get() > 0 && record.kind != 0)
        .map(|record| PartitionInfo {
            kind: mbr_kind(record.kind),
            name: String::new(),
            start: u64::from(record.start.get()) * BLOCK,
            len: u64::from(record.count.get()) * BLOCK,
            active: record.status == 0x80,
        })
        .collect();
    Ok((!partitions.is_empty()).then_some(PartitionTable { gpt: false, boot_code, partitions }))
}

pub(super) fn mbr_kind(kind: u8) -> String {
    match kind {
        0x01 | 0x04 | 0x06 | 0x0E => "FAT".into(),
        0x07 => "NTFS or exFAT".into(),
        0x0B | 0x0C => "FAT32".into(),
        0x17 | 0xCD => "ISO 9660".into(),
        0x83 => "Linux".into(),
        0xEE => "protective".into(),
        0xEF => "EFI system".into(),
        other => format!("type {other:#04x}"),
    }
}

/// The partitions of a GPT on a disk whose blocks have `block` bytes, with their numbers.
pub(super) fn read_gpt<R: ReadAt + ?Sized>(
    reader: &R,
    block: u64,
) -> Result<Option<Vec<(u32, PartitionInfo)>>> {
    if reader.len() < 2 * block {
        return Ok(None);
    }
    let bytes = read_vec(reader, block, BLOCK, BLOCK, "GPT header")?;
    let Ok((header, _)) = GptHeader::read_from_prefix(&bytes) else { return Ok(None) };
    if header.signature != *b"EFI PART" {
        return Ok(None);
    }
    let bad = |field, at: u64, expected: String, found: String| {
        Error::bad_field("GptHeader", field, block + at, expected, found)
    };
    let header_size = header.header_size.get() as usize;
    let mut covered = bytes
        .get(..header_size)
        .filter(|_| header_size >= 92)
        .ok_or_else(|| bad("header_size", 12, "92 to 512".into(), header_size.to_string()))?
        .to_vec();
    covered[16..20].fill(0);
    let crc = crc32fast::hash(&covered);
    if crc != header.header_crc.get() {
        return Err(bad(
            "header_crc",
            16,
            format!("{crc:#010x}"),
            format!("{:#010x}", header.header_crc.get()),
        ));
    }
    let (count, size) = (u64::from(header.entry_count.get()), u64::from(header.entry_size.get()));
    if count > MAX_ENTRIES || !(128..=4096).contains(&size) {
        return Err(bad(
            "entry_count",
            80,
            format!("at most {MAX_ENTRIES} entries of 128 to 4096 bytes"),
            format!("{count} of {size}"),
        ));
    }
    let start = header.entries_lba.get().checked_mul(block).ok_or_else(|| {
        bad("entries_lba", 72, "a block of the disk".into(), header.entries_lba.get().to_string())
    })?;
    let entries = read_vec(reader, start, count * size, MAX_ENTRIES * 4096, "GPT entries")?;
    if crc32fast::hash(&entries) != header.entries_crc.get() {
        return Err(bad(
            "entries_crc",
            88,
            format!("{:#010x}", crc32fast::hash(&entries)),
            format!("{:#010x}", header.entries_crc.get()),
        ));
    }
    let all = entries.chunks_exact(size as usize).zip(1..);
    let used = all.filter_map(|(bytes, number)| Some((number, GptEntry::read_from_prefix(bytes).ok()?.0)));
    let partitions = used.filter(|(_, entry)| entry.kind != [0; 16]).map(|(number, entry)| {
        let info = PartitionInfo {
            kind: gpt_kind(entry.kind),
            name: char::decode_utf16(entry.name.iter().map(|unit| unit.get()).take_while(|unit| *unit != 0))
                .map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER))
                .collect(),
            start: entry.first_lba.get().saturating_mul(block),
            len: entry
                .last_lba
                .get()
                .saturating_add(1)
                .saturating_sub(entry.first_lba.get())
                .saturating_mul(block),
            active: entry.attributes.get() & ATTRIBUTE_BIOS != 0,
        };
        (number, info)
    });
    Ok(Some(partitions.collect()))
}

fn gpt_kind(kind: [u8; 16]) -> String {
    match kind {
        KIND_EFI_SYSTEM => "EFI system".into(),
        KIND_BASIC_DATA => "basic data".into(),
        KIND_RESERVED => "reserved by the system".into(),
        KIND_RECOVERY => "recovery".into(),
        KIND_LINUX => "Linux".into(),
        other => {
            // The first three fields of a GUID are stored little-endian (UEFI appendix A).
            let order = [3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15];
            order.iter().enumerate().fold(String::new(), |mut text, (index, position)| {
                if [4, 6, 8, 10].contains(&index) {
                    text.push('-');
                }
                let _ = write!(text, "{:02X}", other[*position]);
                text
            })
        }
    }
}

/// Bytes up to the end of the last partition of an MBR; `None` without one.
pub(crate) fn mbr_extent<R: ReadAt + ?Sized>(reader: &R) -> Result<Option<u64>> {
    let table = read_mbr(reader)?;
    let ends = table.iter().flat_map(|mbr| mbr.records).filter(|record| record.kind != 0);
    Ok(ends.map(|record| (u64::from(record.start.get()) + u64::from(record.count.get())) * BLOCK).max())
}

/// Boot code of `mbr`. `bios_image` is the first sector of the BIOS boot image, which the code may point at.
fn boot_code(mbr: &Mbr, bios_image: Option<u32>) -> Option<BootCode> {
    if mbr.boot_code.iter().all(|byte| *byte == 0) {
        return None;
    }
    let at = BootCode::POINTER_AT;
    let pointer =
        mbr.boot_code[at..at + 8].iter().rev().fold(0_u64, |value, byte| value << 8 | u64::from(*byte));
    // Loaders in use point at their image's first block or at the one after its first 2,048 bytes.
    let skip = |image: u32| pointer.checked_sub(u64::from(image) * 4).filter(|skip| [0, 4].contains(skip));
    Some(BootCode { bytes: mbr.boot_code.to_vec(), pointer_skip: bios_image.and_then(skip) })
}

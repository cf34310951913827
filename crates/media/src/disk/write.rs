//! Making GUID partition tables with a protective MBR.

use super::layout::{
    BLOCK, BOOT_CODE_LEN, ENTRY_COUNT, GptEntry, GptHeader, Mbr, MbrRecord, TYPE_PROTECTIVE,
};
use crate::BootCode;
use neat_content::{Error, Result};
use zerocopy::{FromZeros, IntoBytes, little_endian as le};

/// Bytes of the backup table at the end: the entries and the header.
const BACKUP_LEN: u64 = ENTRY_COUNT as u64 * 128 + BLOCK;

/// A partition to be written.
#[derive(Clone, Debug)]
pub(crate) struct GptPartition {
    /// Name, at most 36 UTF-16 units.
    pub name: &'static str,
    /// What kind it is, as stored.
    pub kind: [u8; 16],
    /// Attributes (UEFI 5.3.3, table 5-8).
    pub attributes: u64,
    /// First byte; a multiple of 512.
    pub start: u64,
    /// Bytes; rounded up to 512.
    pub len: u64,
}

/// The first block of a disk with an MBR and one partition, which BIOS is to start. `start` and `len` in bytes.
pub(crate) fn mbr(code: &[u8], signature: u32, kind: u8, start: u64, len: u64) -> Vec<u8> {
    let mut mbr = Mbr::new_zeroed();
    let code_len = code.len().min(BOOT_CODE_LEN);
    mbr.boot_code[..code_len].copy_from_slice(&code[..code_len]);
    mbr.disk_signature = signature.into();
    let (first, count) = (start / BLOCK, len / BLOCK);
    mbr.records[0] = MbrRecord {
        status: 0x80,
        first_chs: chs(first),
        kind,
        last_chs: chs(first + count - 1),
        start: (first as u32).into(),
        count: u32::try_from(count).unwrap_or(u32::MAX).into(),
    };
    mbr.signature = [0x55, 0xAA];
    mbr.as_bytes().to_vec()
}

/// A block as cylinder, head and sector of 255 heads and 63 sectors; the largest address where it does not reach.
fn chs(block: u64) -> [u8; 3] {
    let (cylinder, rest) = (block / (255 * 63), block % (255 * 63));
    if cylinder > 1023 {
        return [254, 0xFF, 0xFF];
    }
    let (head, sector) = (rest / 63, rest % 63 + 1);
    [head as u8, (sector | cylinder >> 8 << 6) as u8, cylinder as u8]
}

/// A GPT around a disc image: EFI system partitions and boot code.
#[derive(Clone, Debug)]
pub(crate) struct Gpt {
    /// Bytes of the whole file; a multiple of 512.
    pub total_len: u64,
    /// Code for BIOS.
    pub boot_code: Option<BootCode>,
    /// First byte of the BIOS boot image.
    pub image_start: Option<u64>,
    /// The partitions.
    pub partitions: Vec<GptPartition>,
    /// What the identifiers are derived from, so that equal inputs give equal bytes.
    pub seed: [u8; 32],
}

impl Gpt {
    /// Bytes that [`Gpt::backup`] needs at the end of the file.
    pub(crate) const fn backup_len() -> u64 {
        BACKUP_LEN
    }

    /// Bytes from the start of the file: protective MBR, header, entries.
    pub(crate) fn primary(&self) -> Result<Vec<u8>> {
        let mut bytes = self.mbr()?.as_bytes().to_vec();
        let entries = self.entries();
        let mut header = self.header(&entries, 1, self.last_block(), 2).as_bytes().to_vec();
        header.resize(BLOCK as usize, 0);
        bytes.extend(header);
        bytes.extend(entries);
        Ok(bytes)
    }

    /// Bytes for the end of the file: entries, header.
    pub(crate) fn backup(&self) -> Vec<u8> {
        let mut bytes = self.entries();
        let last = self.last_block();
        let mut header = self.header(&bytes, last, 1, last - bytes.len() as u64 / BLOCK).as_bytes().to_vec();
        header.resize(BLOCK as usize, 0);
        bytes.extend(header);
        bytes
    }

    const fn last_block(&self) -> u64 {
        self.total_len / BLOCK - 1
    }

    fn mbr(&self) -> Result<Mbr> {
        let mut mbr = Mbr::new_zeroed();
        if let Some(code) = &self.boot_code {
            if code.bytes.len() > BLOCK as usize {
                return Err(Error::request(
                    format!(
                        "the boot code has {} bytes, and the first block has room for {BOOT_CODE_LEN}",
                        code.bytes.len()
                    ),
                    "give the code of a master boot record (440 or 512 bytes)",
                ));
            }
            // A first block dumped whole is welcome too: what stands behind the code is ours.
            let len = code.bytes.len().min(BOOT_CODE_LEN);
            mbr.boot_code[..len].copy_from_slice(&code.bytes[..len]);
            if let (Some(start), Some(skip)) = (self.image_start, code.pointer_skip) {
                let pointer = (start / BLOCK + skip).to_le_bytes();
                mbr.boot_code[BootCode::POINTER_AT..BootCode::POINTER_AT + 8].copy_from_slice(&pointer);
            }
        }
        mbr.records[0] = MbrRecord {
            status: 0,
            first_chs: [0, 2, 0],
            kind: TYPE_PROTECTIVE,
            last_chs: [0xFF, 0xFF, 0xFF],
            start: 1.into(),
            count: u32::try_from(self.last_block()).unwrap_or(u32::MAX).into(),
        };
        mbr.signature = [0x55, 0xAA];
        Ok(mbr)
    }

    fn entries(&self) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(ENTRY_COUNT as usize * 128);
        for (index, partition) in self.partitions.iter().enumerate() {
            let mut name = [le::U16::new(0); 36];
            for (slot, unit) in name.iter_mut().zip(partition.name.encode_utf16()) {
                *slot = unit.into();
            }
            let first = partition.start / BLOCK;
            let entry = GptEntry {
                kind: partition.kind,
                guid: self.guid(index as u8 + 1),
                first_lba: first.into(),
                last_lba: (first + partition.len.div_ceil(BLOCK) - 1).into(),
                attributes: partition.attributes.into(),
                name,
            };
            bytes.extend(entry.as_bytes());
        }
        bytes.resize(ENTRY_COUNT as usize * 128, 0);
        bytes
    }

    fn header(&self, entries: &[u8], own: u64, other: u64, entries_at: u64) -> GptHeader {
        let table_blocks = BACKUP_LEN / BLOCK;
        let mut header = GptHeader {
            signature: *b"EFI PART",
            revision: 0x0001_0000.into(),
            header_size: 92.into(),
            header_crc: 0.into(),
            reserved: 0.into(),
            my_lba: own.into(),
            alternate_lba: other.into(),
            first_usable_lba: (1 + table_blocks).into(),
            last_usable_lba: (self.last_block() - table_blocks).into(),
            disk_guid: self.guid(0),
            entries_lba: entries_at.into(),
            entry_count: ENTRY_COUNT.into(),
            entry_size: 128.into(),
            entries_crc: crc32fast::hash(entries).into(),
        };
        header.header_crc = crc32fast::hash(header.as_bytes()).into();
        header
    }

    /// An identifier from the seed, marked as a version 8 (made by its owner's rule) UUID of RFC 9562.
    fn guid(&self, number: u8) -> [u8; 16] {
        let mut guid = [0; 16];
        guid.copy_from_slice(&self.seed[..16]);
        guid[15] ^= number;
        // The third field is stored little-endian, so its high byte, with the version, is the eighth.
        guid[7] = guid[7] & 0x0F | 0x80;
        guid[8] = guid[8] & 0x3F | 0x80;
        guid
    }
}

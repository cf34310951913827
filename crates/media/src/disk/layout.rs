//! On-disk structures of partition tables (UEFI specification 5.2 and 5.3).

use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned, little_endian as le};

/// Bytes of a logical block of a disk.
pub(crate) const BLOCK: u64 = 512;
/// Bytes of boot code in the first block.
pub(crate) const BOOT_CODE_LEN: usize = 440;
/// Partition type of a protective MBR (UEFI 5.2.3).
pub(crate) const TYPE_PROTECTIVE: u8 = 0xEE;
/// Partition type of FAT32 that is read by block number.
pub(crate) const TYPE_FAT32_LBA: u8 = 0x0C;
/// Attribute of a GPT partition that BIOS is to start (UEFI 5.3.3, table 5-8).
pub(crate) const ATTRIBUTE_BIOS: u64 = 1 << 2;
/// Entries that we write, the usual number and the least that UEFI 5.3.1 asks room for.
pub(crate) const ENTRY_COUNT: u32 = 128;

/// One record of the MBR's table.
#[derive(Clone, Copy, Debug, Default, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(crate) struct MbrRecord {
    /// 0x80: BIOS boot code starts it.
    pub status: u8,
    /// First block as cylinder, head and sector.
    pub first_chs: [u8; 3],
    /// Kind.
    pub kind: u8,
    /// Last block as cylinder, head and sector.
    pub last_chs: [u8; 3],
    /// First block.
    pub start: le::U32,
    /// Blocks.
    pub count: le::U32,
}

/// Master boot record.
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(crate) struct Mbr {
    /// Code that BIOS starts.
    pub boot_code: [u8; BOOT_CODE_LEN],
    /// Identifies the disk.
    pub disk_signature: le::U32,
    /// Zero.
    pub unknown: le::U16,
    /// The partitions.
    pub records: [MbrRecord; 4],
    /// 0x55, 0xAA.
    pub signature: [u8; 2],
}
const _: () = assert!(size_of::<Mbr>() == 512);

/// GPT header (UEFI 5.3.2).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(crate) struct GptHeader {
    /// `EFI PART`.
    pub signature: [u8; 8],
    /// 0x0001_0000.
    pub revision: le::U32,
    /// 92.
    pub header_size: le::U32,
    /// CRC-32 of the header with this field zero.
    pub header_crc: le::U32,
    /// Zero.
    pub reserved: le::U32,
    /// Block of this header.
    pub my_lba: le::U64,
    /// Block of the other one.
    pub alternate_lba: le::U64,
    /// First block that partitions may use.
    pub first_usable_lba: le::U64,
    /// Last one.
    pub last_usable_lba: le::U64,
    /// Identifies the disk.
    pub disk_guid: [u8; 16],
    /// First block of the entries.
    pub entries_lba: le::U64,
    /// Number of entries.
    pub entry_count: le::U32,
    /// Bytes of an entry.
    pub entry_size: le::U32,
    /// CRC-32 of all entries.
    pub entries_crc: le::U32,
}
const _: () = assert!(size_of::<GptHeader>() == 92);

/// GPT partition entry (UEFI 5.3.3).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(crate) struct GptEntry {
    /// Kind; zero when unused.
    pub kind: [u8; 16],
    /// Identifies the partition.
    pub guid: [u8; 16],
    /// First block.
    pub first_lba: le::U64,
    /// Last block, part of it.
    pub last_lba: le::U64,
    /// Attributes (UEFI 5.3.3, table 5-8).
    pub attributes: le::U64,
    /// Name, UTF-16.
    pub name: [le::U16; 36],
}
const _: () = assert!(size_of::<GptEntry>() == 128);

/// EFI system partition, C12A7328-F81F-11D2-BA4B-00A0C93EC93B, as stored.
pub(crate) const KIND_EFI_SYSTEM: [u8; 16] =
    [0x28, 0x73, 0x2A, 0xC1, 0x1F, 0xF8, 0xD2, 0x11, 0xBA, 0x4B, 0x00, 0xA0, 0xC9, 0x3E, 0xC9, 0x3B];
/// Basic data, EBD0A0A2-B9E5-4433-87C0-68B6B72699C7, as stored.
pub(crate) const KIND_BASIC_DATA: [u8; 16] =
    [0xA2, 0xA0, 0xD0, 0xEB, 0xE5, 0xB9, 0x33, 0x44, 0x87, 0xC0, 0x68, 0xB6, 0xB7, 0x26, 0x99, 0xC7];
/// Reserved by the system, E3C9E316-0B5C-4DB8-817D-F92DF00215AE, as stored.
pub(crate) const KIND_RESERVED: [u8; 16] =
    [0x16, 0xE3, 0xC9, 0xE3, 0x5C, 0x0B, 0xB8, 0x4D, 0x81, 0x7D, 0xF9, 0x2D, 0xF0, 0x02, 0x15, 0xAE];
/// Recovery, DE94BBA4-06D1-4D40-A16A-BFD50179D6AC, as stored.
pub(crate) const KIND_RECOVERY: [u8; 16] =
    [0xA4, 0xBB, 0x94, 0xDE, 0xD1, 0x06, 0x40, 0x4D, 0xA1, 0x6A, 0xBF, 0xD5, 0x01, 0x79, 0xD6, 0xAC];
/// Linux, 0FC63DAF-8483-4772-8E79-3D69D8477DE4, as stored.
pub(crate) const KIND_LINUX: [u8; 16] =
    [0xAF, 0x3D, 0xC6, 0x0F, 0x83, 0x84, 0x72, 0x47, 0x8E, 0x79, 0x3D, 0x69, 0xD8, 0x47, 0x7D, 0xE4];

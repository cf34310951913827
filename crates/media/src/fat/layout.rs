//! On-disk structures of FAT file systems (FAT specification 1.03, sections 3 to 7).

use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned, little_endian as le};

/// Bytes of a sector on what we write.
pub(super) const SECTOR: u64 = 512;

/// BIOS parameter block with the jump before it (section 3.1).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Bpb {
    /// Jump over the block.
    pub jump: [u8; 3],
    /// Who formatted it.
    pub oem_name: [u8; 8],
    /// 512 on what we write.
    pub bytes_per_sector: le::U16,
    /// A power of two.
    pub sectors_per_cluster: u8,
    /// Sectors before the first table.
    pub reserved_sectors: le::U16,
    /// Copies of the table.
    pub fat_count: u8,
    /// Entries of the root; 0 on FAT32.
    pub root_entries: le::U16,
    /// Sectors in all, where 16 bits hold them.
    pub total_sectors_16: le::U16,
    /// 0xF8.
    pub media: u8,
    /// Sectors of one table; 0 on FAT32.
    pub fat_sectors_16: le::U16,
    /// For BIOS.
    pub sectors_per_track: le::U16,
    /// For BIOS.
    pub heads: le::U16,
    /// Sectors before the volume.
    pub hidden_sectors: le::U32,
    /// Sectors in all, where 16 bits do not hold them.
    pub total_sectors_32: le::U32,
}
const _: () = assert!(size_of::<Bpb>() == 36);

/// What follows on FAT32 (section 3.3).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Bpb32 {
    /// Sectors of one table.
    pub fat_sectors: le::U32,
    /// 0: the tables are copies.
    pub flags: le::U16,
    /// 0.
    pub version: le::U16,
    /// First cluster of the root.
    pub root_cluster: le::U32,
    /// Sector of the FSInfo structure.
    pub fs_info: le::U16,
    /// Sector of the copy of the boot sector.
    pub backup_boot: le::U16,
    /// Zero.
    pub reserved: [u8; 12],
}
const _: () = assert!(size_of::<Bpb32>() == 28);

/// End of both kinds of block (sections 3.2, 3.3).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct BpbTail {
    /// 0x80.
    pub drive: u8,
    /// 0.
    pub reserved: u8,
    /// 0x29: the next three are there.
    pub signature: u8,
    /// Volume serial number.
    pub serial: le::U32,
    /// Label, padded with spaces.
    pub label: [u8; 11],
    /// `FAT12   ` and the like; means nothing.
    pub kind: [u8; 8],
}
const _: () = assert!(size_of::<BpbTail>() == 26);

/// Directory entry (section 6).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct DirEntry {
    /// Name and extension, padded with spaces.
    pub name: [u8; 11],
    /// See the `ATTR_…` constants.
    pub attributes: u8,
    /// 0.
    pub reserved: u8,
    /// Hundredths of a second of the creation.
    pub created_hundredths: u8,
    /// Creation.
    pub created_time: le::U16,
    /// Creation.
    pub created_date: le::U16,
    /// Last access.
    pub accessed_date: le::U16,
    /// First cluster, high half; 0 on FAT12 and FAT16.
    pub cluster_high: le::U16,
    /// Last change.
    pub modified_time: le::U16,
    /// Last change.
    pub modified_date: le::U16,
    /// First cluster, low half.
    pub cluster_low: le::U16,
    /// Bytes; 0 for directories.
    pub len: le::U32,
}
const _: () = assert!(size_of::<DirEntry>() == 32);

/// Need not be shown.
pub(super) const ATTR_HIDDEN: u8 = 0x02;
/// The entry is the label.
pub(super) const ATTR_VOLUME: u8 = 0x08;
/// The entry is a directory.
pub(super) const ATTR_DIRECTORY: u8 = 0x10;
/// The entry is a file.
pub(super) const ATTR_ARCHIVE: u8 = 0x20;
/// The entry is a piece of a long name (section 7).
pub(super) const ATTR_LONG_NAME: u8 = 0x0F;

/// Which kind of FAT, which follows from the number of clusters alone (section 3.5).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum FatKind {
    Fat12,
    Fat16,
    Fat32,
}

impl FatKind {
    pub(super) const fn of(clusters: u64) -> Self {
        match clusters {
            0..4085 => Self::Fat12,
            4085..65525 => Self::Fat16,
            _ => Self::Fat32,
        }
    }

    /// Bits of a table entry.
    pub(super) const fn bits(self) -> u64 {
        match self {
            Self::Fat12 => 12,
            Self::Fat16 => 16,
            Self::Fat32 => 32,
        }
    }
}

/// Sum that ties long-name entries to their short name (section 7.2).
pub(super) fn short_name_sum(name: &[u8; 11]) -> u8 {
    name.iter().fold(0, |sum: u8, byte| sum.rotate_right(1).wrapping_add(*byte))
}

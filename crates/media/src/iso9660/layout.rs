//! On-disk structures of ECMA-119 (ISO 9660), with the escape sequences of Joliet.
//!
//! Field names follow the standard. Nothing here reads or writes files.

use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned, big_endian as be, little_endian as le,
};

/// Bytes of a logical sector (ECMA-119 6.1.2) and, on every media we write, of a logical block (6.2.2).
pub const SECTOR_SIZE: u64 = 2048;
/// First sector after the system area (ECMA-119 6.2.1).
pub const FIRST_DESCRIPTOR: u64 = 16;
/// Largest number of directories: their numbers in the path table have 16 bits (ECMA-119 9.4.4).
pub const MAX_DIRECTORIES: usize = 65_535;
/// Largest whole number of sectors that one file section's length field holds, in bytes.
pub const MAX_SECTION_LEN: u64 = 0xFFFF_F800;

/// Standard identifier of volume descriptors (ECMA-119 8.1.2).
pub const STANDARD_IDENTIFIER: [u8; 5] = *b"CD001";
/// Volume descriptor type of a boot record (ECMA-119 8.1.1).
pub const TYPE_BOOT_RECORD: u8 = 0;
/// Volume descriptor type of the primary descriptor.
pub const TYPE_PRIMARY: u8 = 1;
/// Volume descriptor type of a supplementary descriptor.
pub const TYPE_SUPPLEMENTARY: u8 = 2;
/// Volume descriptor type of the set terminator.
pub const TYPE_TERMINATOR: u8 = 255;

/// Escape sequences that mark a supplementary descriptor as Joliet, UCS-2 levels 1 to 3 (Joliet, "SVD Escape
/// Sequences Field").
pub const JOLIET_ESCAPES: [&[u8; 3]; 3] = [b"%/@", b"%/C", b"%/E"];

/// A 32-bit number in both byte orders (ECMA-119 7.3.3).
#[derive(Clone, Copy, Debug, Default, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct BothU32 {
    /// Least significant byte first.
    pub little: le::U32,
    /// Most significant byte first.
    pub big: be::U32,
}

impl From<u32> for BothU32 {
    fn from(value: u32) -> Self {
        Self { little: value.into(), big: value.into() }
    }
}

/// A 16-bit number in both byte orders (ECMA-119 7.2.3).
#[derive(Clone, Copy, Debug, Default, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct BothU16 {
    /// Least significant byte first.
    pub little: le::U16,
    /// Most significant byte first.
    pub big: be::U16,
}

impl From<u16> for BothU16 {
    fn from(value: u16) -> Self {
        Self { little: value.into(), big: value.into() }
    }
}

/// Date and time of a directory record (ECMA-119 9.1.5).
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned,
)]
#[repr(C)]
pub struct RecordingTime {
    /// Years since 1900.
    pub year: u8,
    /// Month, 1 to 12.
    pub month: u8,
    /// Day, 1 to 31.
    pub day: u8,
    /// Hour, 0 to 23.
    pub hour: u8,
    /// Minute, 0 to 59.
    pub minute: u8,
    /// Second, 0 to 59.
    pub second: u8,
    /// Offset from Greenwich mean time in quarters of an hour, −48 to +52.
    pub offset: i8,
}

/// Date and time of a volume descriptor (ECMA-119 8.4.26.1): sixteen digits and an offset.
#[derive(Clone, Copy, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct VolumeTime {
    /// `YYYYMMDDhhmmsscc` in digits; all `0` when not specified.
    pub digits: [u8; 16],
    /// Offset from Greenwich mean time in quarters of an hour, −48 to +52.
    pub offset: i8,
}

/// Fixed part of a directory record (ECMA-119 9.1); the file identifier and the system use area follow.
#[derive(Clone, Copy, Debug, Default, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct DirectoryRecord {
    /// Length of the whole record in bytes; 0 fills the rest of a sector.
    pub length: u8,
    /// Length of the extended attribute record in logical blocks; the data come after it.
    pub extended_attribute_length: u8,
    /// First logical block of the extent.
    pub location: BothU32,
    /// Bytes of data in this section.
    pub data_length: BothU32,
    /// When the extent was recorded.
    pub recorded: RecordingTime,
    /// See [`FLAG_HIDDEN`] and the others.
    pub flags: u8,
    /// Logical blocks of a unit of an interleaved file; 0 otherwise.
    pub file_unit_size: u8,
    /// Logical blocks between the units of an interleaved file; 0 otherwise.
    pub interleave_gap_size: u8,
    /// Volume of the set that holds the extent, from 1.
    pub volume_sequence_number: BothU16,
    /// Bytes of the identifier that follows.
    pub identifier_length: u8,
}
const _: () = assert!(size_of::<DirectoryRecord>() == 33);

/// The record need not be shown (ECMA-119 9.1.6, bit 0).
pub const FLAG_HIDDEN: u8 = 0x01;
/// The record is a directory (bit 1).
pub const FLAG_DIRECTORY: u8 = 0x02;
/// The record is an associated file, a second content of the file of the same name (bit 2).
pub const FLAG_ASSOCIATED: u8 = 0x04;
/// More sections of the same file follow in the next record (bit 7).
pub const FLAG_MULTI_EXTENT: u8 = 0x80;

/// Primary or supplementary volume descriptor (ECMA-119 8.4, 8.5).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct VolumeDescriptor {
    /// [`TYPE_PRIMARY`] or [`TYPE_SUPPLEMENTARY`].
    pub descriptor_type: u8,
    /// [`STANDARD_IDENTIFIER`].
    pub standard_identifier: [u8; 5],
    /// 1; 2 in an enhanced descriptor (ISO 9660:1999).
    pub version: u8,
    /// 0 in a primary descriptor.
    pub volume_flags: u8,
    /// System that may use the system area.
    pub system_identifier: [u8; 32],
    /// The label.
    pub volume_identifier: [u8; 32],
    /// Zero.
    pub unused_72: [u8; 8],
    /// Logical blocks in the volume, the system area included.
    pub volume_space_size: BothU32,
    /// Character set of a supplementary descriptor; zero in a primary one.
    pub escape_sequences: [u8; 32],
    /// Volumes in the set.
    pub volume_set_size: BothU16,
    /// Number of this volume in the set.
    pub volume_sequence_number: BothU16,
    /// Bytes in a logical block.
    pub logical_block_size: BothU16,
    /// Bytes in the path table.
    pub path_table_size: BothU32,
    /// First block of the little-endian path table.
    pub type_l_path_table: le::U32,
    /// First block of its copy, or 0.
    pub optional_type_l_path_table: le::U32,
    /// First block of the big-endian path table.
    pub type_m_path_table: be::U32,
    /// First block of its copy, or 0.
    pub optional_type_m_path_table: be::U32,
    /// Directory record of the root, with an identifier of one zero byte.
    pub root: DirectoryRecord,
    /// The identifier of the root's record: 0.
    pub root_identifier: u8,
    /// Name of the set.
    pub volume_set_identifier: [u8; 128],
    /// Who published it.
    pub publisher_identifier: [u8; 128],
    /// Who prepared the data.
    pub data_preparer_identifier: [u8; 128],
    /// How the data are recorded.
    pub application_identifier: [u8; 128],
    /// Name of a file in the root with a copyright statement.
    pub copyright_file_identifier: [u8; 37],
    /// Name of a file in the root with an abstract.
    pub abstract_file_identifier: [u8; 37],
    /// Name of a file in the root with bibliographic records.
    pub bibliographic_file_identifier: [u8; 37],
    /// When the volume was made.
    pub created: VolumeTime,
    /// When it was last changed.
    pub modified: VolumeTime,
    /// When it becomes obsolete.
    pub expires: VolumeTime,
    /// When it may be used.
    pub effective: VolumeTime,
    /// 1.
    pub file_structure_version: u8,
    /// Zero.
    pub reserved_883: u8,
    /// Free for the application.
    pub application_use: [u8; 512],
    /// Zero.
    pub reserved_1396: [u8; 653],
}
const _: () = assert!(size_of::<VolumeDescriptor>() == 2048);

/// Fixed part of a path table record (ECMA-119 9.4) in little-endian form; the identifier follows, padded to an
/// even length.
#[derive(Clone, Copy, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct PathTableRecordL {
    /// Bytes of the identifier.
    pub identifier_length: u8,
    /// Extended attribute record length in blocks.
    pub extended_attribute_length: u8,
    /// First block of the directory.
    pub location: le::U32,
    /// Number of the parent directory in this table, from 1.
    pub parent: le::U16,
}

/// The same in big-endian form.
#[derive(Clone, Copy, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct PathTableRecordM {
    /// Bytes of the identifier.
    pub identifier_length: u8,
    /// Extended attribute record length in blocks.
    pub extended_attribute_length: u8,
    /// First block of the directory.
    pub location: be::U32,
    /// Number of the parent directory in this table, from 1.
    pub parent: be::U16,
}

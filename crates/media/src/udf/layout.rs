//! On-disk structures of ECMA-167 (3rd edition) as OSTA UDF 1.02 to 2.50 uses them.
//!
//! Field names follow the standard. Nothing here reads or writes files.

use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned, little_endian as le};

/// Sector where the first anchor is (ECMA-167 3/8.4.2.1, UDF 2.2.3).
pub const ANCHOR_SECTOR: u64 = 256;

/// Descriptor tag (ECMA-167 3/7.2, 4/7.2).
#[derive(Clone, Copy, Debug, Default, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct Tag {
    /// Which descriptor follows; see the `TAG_…` constants.
    pub identifier: le::U16,
    /// 2 (or 3 from UDF 2.00 on).
    pub descriptor_version: le::U16,
    /// Sum of the other 15 bytes, modulo 256.
    pub checksum: u8,
    /// Zero.
    pub reserved: u8,
    /// Tells apart descriptors left from an earlier use of the medium.
    pub serial_number: le::U16,
    /// CRC of the bytes after the tag.
    pub crc: le::U16,
    /// How many bytes the CRC covers.
    pub crc_length: le::U16,
    /// Block where the descriptor lies; inside a partition counted from its start.
    pub location: le::U32,
}
const _: () = assert!(size_of::<Tag>() == 16);

/// Primary volume descriptor (ECMA-167 3/10.1).
pub const TAG_PRIMARY: u16 = 1;
/// Anchor volume descriptor pointer (3/10.2).
pub const TAG_ANCHOR: u16 = 2;
/// Volume descriptor pointer (3/10.3).
pub const TAG_POINTER: u16 = 3;
/// Implementation use volume descriptor (3/10.4).
pub const TAG_IMPLEMENTATION: u16 = 4;
/// Partition descriptor (3/10.5).
pub const TAG_PARTITION: u16 = 5;
/// Logical volume descriptor (3/10.6).
pub const TAG_LOGICAL_VOLUME: u16 = 6;
/// Unallocated space descriptor (3/10.8).
pub const TAG_UNALLOCATED: u16 = 7;
/// Terminating descriptor (3/10.9, 4/14.2).
pub const TAG_TERMINATING: u16 = 8;
/// Logical volume integrity descriptor (3/10.10).
pub const TAG_INTEGRITY: u16 = 9;
/// File set descriptor (4/14.1).
pub const TAG_FILE_SET: u16 = 256;
/// File identifier descriptor (4/14.4).
pub const TAG_FILE_IDENTIFIER: u16 = 257;
/// Allocation extent descriptor (4/14.5).
pub const TAG_ALLOCATION_EXTENT: u16 = 258;
/// File entry (4/14.9).
pub const TAG_FILE_ENTRY: u16 = 261;
/// Extended file entry (4/14.17).
pub const TAG_EXTENDED_FILE_ENTRY: u16 = 266;

/// Extent descriptor (ECMA-167 3/7.1): sectors of the volume.
#[derive(Clone, Copy, Debug, Default, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct ExtentAd {
    /// Bytes.
    pub length: le::U32,
    /// First sector.
    pub location: le::U32,
}

/// Block address inside a partition (ECMA-167 4/7.1).
#[derive(Clone, Copy, Debug, Default, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct LbAddr {
    /// Block from the start of the partition.
    pub block: le::U32,
    /// Which partition map of the logical volume.
    pub partition: le::U16,
}

/// Short allocation descriptor (ECMA-167 4/14.14.1). The two top bits of the length are the extent's type.
#[derive(Clone, Copy, Debug, Default, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct ShortAd {
    /// Type in bits 30–31, bytes in the others.
    pub length: le::U32,
    /// Block in the partition that holds the descriptor.
    pub position: le::U32,
}

/// Long allocation descriptor (ECMA-167 4/14.14.2).
#[derive(Clone, Copy, Debug, Default, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct LongAd {
    /// Type in bits 30–31, bytes in the others.
    pub length: le::U32,
    /// Where.
    pub location: LbAddr,
    /// UDF 2.3.10.1: flags and, in file identifiers, the low half of the unique id.
    pub implementation_use: [u8; 6],
}
const _: () = assert!(size_of::<LongAd>() == 16);

/// Date and time (ECMA-167 1/7.3).
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned,
)]
#[repr(C)]
pub struct UdfTime {
    /// Type in bits 12–15 (1: local), offset in minutes in the others, as a signed 12-bit number.
    pub type_and_zone: le::U16,
    /// Year.
    pub year: le::I16,
    /// Month, 1 to 12.
    pub month: u8,
    /// Day, 1 to 31.
    pub day: u8,
    /// Hour.
    pub hour: u8,
    /// Minute.
    pub minute: u8,
    /// Second.
    pub second: u8,
    /// Hundredths of a second.
    pub centiseconds: u8,
    /// Hundreds of microseconds.
    pub hundreds_of_microseconds: u8,
    /// Microseconds.
    pub microseconds: u8,
}
const _: () = assert!(size_of::<UdfTime>() == 12);

/// Entity identifier (ECMA-167 1/7.4).
#[derive(Clone, Copy, Debug, Default, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct EntityId {
    /// Zero on what we write.
    pub flags: u8,
    /// Who or what.
    pub identifier: [u8; 23],
    /// Meaning depends on the place (UDF 2.1.5).
    pub suffix: [u8; 8],
}

/// Character set specification (ECMA-167 1/7.2.1); UDF allows only CS0.
#[derive(Clone, Copy, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct CharSpec {
    /// 0.
    pub set_type: u8,
    /// `OSTA Compressed Unicode`.
    pub information: [u8; 63],
}

impl CharSpec {
    /// The only one that UDF allows (UDF 2.1.2).
    pub const OSTA: Self = {
        let mut information = [0; 63];
        let text = b"OSTA Compressed Unicode";
        let mut index = 0;
        while index < text.len() {
            information[index] = text[index];
            index += 1;
        }
        Self { set_type: 0, information }
    };
}

/// Primary volume descriptor (ECMA-167 3/10.1).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct PrimaryVolume {
    /// [`TAG_PRIMARY`].
    pub tag: Tag,
    /// Order among descriptors of the same kind.
    pub sequence: le::U32,
    /// 0.
    pub number: le::U32,
    /// Label of the volume, 8- or 16-bit `dstring`.
    pub volume_identifier: [u8; 32],
    /// Number in the set.
    pub volume_sequence_number: le::U16,
    /// Largest number in the set.
    pub maximum_volume_sequence_number: le::U16,
    /// 2 or 3.
    pub interchange_level: le::U16,
    /// 3.
    pub maximum_interchange_level: le::U16,
    /// Character sets used.
    pub character_sets: le::U32,
    /// Character sets allowed.
    pub maximum_character_sets: le::U32,
    /// Unique name of the set, `dstring`.
    pub volume_set_identifier: [u8; 128],
    /// CS0.
    pub descriptor_charset: CharSpec,
    /// CS0.
    pub explanatory_charset: CharSpec,
    /// None.
    pub volume_abstract: ExtentAd,
    /// None.
    pub copyright: ExtentAd,
    /// What made the content.
    pub application: EntityId,
    /// When the volume was made.
    pub recorded: UdfTime,
    /// What made the volume.
    pub implementation: EntityId,
    /// Free.
    pub implementation_use: [u8; 64],
    /// 0.
    pub predecessor: le::U32,
    /// 0.
    pub flags: le::U16,
    /// Zero.
    pub reserved: [u8; 22],
}
const _: () = assert!(size_of::<PrimaryVolume>() == 512);

/// Anchor volume descriptor pointer (ECMA-167 3/10.2).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct Anchor {
    /// [`TAG_ANCHOR`].
    pub tag: Tag,
    /// Where the descriptors are.
    pub main: ExtentAd,
    /// Where their copies are.
    pub reserve: ExtentAd,
    /// Zero.
    pub reserved: [u8; 480],
}
const _: () = assert!(size_of::<Anchor>() == 512);

/// Partition descriptor (ECMA-167 3/10.5).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct Partition {
    /// [`TAG_PARTITION`].
    pub tag: Tag,
    /// Order among descriptors of the same kind.
    pub sequence: le::U32,
    /// Bit 0: space is allocated.
    pub flags: le::U16,
    /// Number that partition maps refer to.
    pub number: le::U16,
    /// `+NSR02` or `+NSR03`.
    pub contents: EntityId,
    /// Partition header descriptor; zero on read-only media.
    pub contents_use: [u8; 128],
    /// 1: read-only.
    pub access_type: le::U32,
    /// First sector.
    pub start: le::U32,
    /// Sectors.
    pub length: le::U32,
    /// What made it.
    pub implementation: EntityId,
    /// Free.
    pub implementation_use: [u8; 128],
    /// Zero.
    pub reserved: [u8; 156],
}
const _: () = assert!(size_of::<Partition>() == 512);

/// Logical volume descriptor without its partition maps (ECMA-167 3/10.6).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct LogicalVolume {
    /// [`TAG_LOGICAL_VOLUME`].
    pub tag: Tag,
    /// Order among descriptors of the same kind.
    pub sequence: le::U32,
    /// CS0.
    pub descriptor_charset: CharSpec,
    /// The label, `dstring`.
    pub logical_volume_identifier: [u8; 128],
    /// Bytes in a block.
    pub logical_block_size: le::U32,
    /// `*OSTA UDF Compliant`; the suffix begins with the revision.
    pub domain: EntityId,
    /// Where the file set descriptor is.
    pub contents_use: LongAd,
    /// Bytes of partition maps.
    pub map_table_length: le::U32,
    /// Number of partition maps.
    pub partition_maps: le::U32,
    /// What made it.
    pub implementation: EntityId,
    /// Free.
    pub implementation_use: [u8; 128],
    /// Where the integrity descriptors are.
    pub integrity_sequence: ExtentAd,
}
const _: () = assert!(size_of::<LogicalVolume>() == 440);

/// Partition map of type 1 (ECMA-167 3/10.7.2).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct PartitionMap1 {
    /// 1.
    pub map_type: u8,
    /// 6.
    pub map_length: u8,
    /// 1.
    pub volume_sequence_number: le::U16,
    /// Number of the partition descriptor.
    pub partition_number: le::U16,
}
const _: () = assert!(size_of::<PartitionMap1>() == 6);

/// File set descriptor (ECMA-167 4/14.1).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct FileSet {
    /// [`TAG_FILE_SET`].
    pub tag: Tag,
    /// When it was made.
    pub recorded: UdfTime,
    /// 3.
    pub interchange_level: le::U16,
    /// 3.
    pub maximum_interchange_level: le::U16,
    /// 1.
    pub character_sets: le::U32,
    /// 1.
    pub maximum_character_sets: le::U32,
    /// 0.
    pub file_set_number: le::U32,
    /// 0.
    pub file_set_descriptor_number: le::U32,
    /// CS0.
    pub logical_volume_charset: CharSpec,
    /// The label again.
    pub logical_volume_identifier: [u8; 128],
    /// CS0.
    pub file_set_charset: CharSpec,
    /// Name of the file set.
    pub file_set_identifier: [u8; 32],
    /// None.
    pub copyright_file: [u8; 32],
    /// None.
    pub abstract_file: [u8; 32],
    /// File entry of the root directory.
    pub root: LongAd,
    /// `*OSTA UDF Compliant`.
    pub domain: EntityId,
    /// None.
    pub next_extent: LongAd,
    /// Zero.
    pub reserved: [u8; 48],
}
const _: () = assert!(size_of::<FileSet>() == 512);

/// ICB tag (ECMA-167 4/14.6).
#[derive(Clone, Copy, Debug, Default, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct IcbTag {
    /// 0.
    pub prior_direct_entries: le::U32,
    /// 4: one entry.
    pub strategy: le::U16,
    /// 0 for strategy 4.
    pub strategy_parameter: le::U16,
    /// 1 for strategy 4.
    pub maximum_entries: le::U16,
    /// Zero.
    pub reserved: u8,
    /// See the `FILE_TYPE_…` constants.
    pub file_type: u8,
    /// 0.
    pub parent: LbAddr,
    /// Kind of allocation descriptors in bits 0–2.
    pub flags: le::U16,
}
const _: () = assert!(size_of::<IcbTag>() == 20);

/// Directory (ECMA-167 4/14.6.6).
pub const FILE_TYPE_DIRECTORY: u8 = 4;
/// File of bytes.
pub const FILE_TYPE_BYTES: u8 = 5;
/// Symbolic link.
pub const FILE_TYPE_LINK: u8 = 12;
/// Metadata file of UDF 2.50 (UDF 2.2.13).
pub const FILE_TYPE_METADATA: u8 = 250;

/// File entry without its extended attributes and allocation descriptors (ECMA-167 4/14.9).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct FileEntry {
    /// [`TAG_FILE_ENTRY`].
    pub tag: Tag,
    /// Type and kind of allocation.
    pub icb_tag: IcbTag,
    /// Owner; 0xFFFFFFFF for none (UDF 2.3.6.1).
    pub uid: le::U32,
    /// Group.
    pub gid: le::U32,
    /// Five bits each for others, group and owner.
    pub permissions: le::U32,
    /// Number of names.
    pub link_count: le::U16,
    /// 0.
    pub record_format: u8,
    /// 0.
    pub record_display_attributes: u8,
    /// 0.
    pub record_length: le::U32,
    /// Bytes of content.
    pub information_length: le::U64,
    /// Blocks of content.
    pub blocks_recorded: le::U64,
    /// Last read.
    pub accessed: UdfTime,
    /// Last change of content.
    pub modified: UdfTime,
    /// Last change of attributes.
    pub attributes_changed: UdfTime,
    /// 1.
    pub checkpoint: le::U32,
    /// None.
    pub extended_attribute_icb: LongAd,
    /// What made it.
    pub implementation: EntityId,
    /// Unique in the volume; 0 for the root.
    pub unique_id: le::U64,
    /// Bytes of extended attributes that follow.
    pub extended_attributes_length: le::U32,
    /// Bytes of allocation descriptors after them.
    pub allocation_descriptors_length: le::U32,
}
const _: () = assert!(size_of::<FileEntry>() == 176);

/// Extended file entry without its extended attributes and allocation descriptors (ECMA-167 4/14.17).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct ExtendedFileEntry {
    /// [`TAG_EXTENDED_FILE_ENTRY`].
    pub tag: Tag,
    /// Type and kind of allocation.
    pub icb_tag: IcbTag,
    /// Owner.
    pub uid: le::U32,
    /// Group.
    pub gid: le::U32,
    /// Five bits each for others, group and owner.
    pub permissions: le::U32,
    /// Number of names.
    pub link_count: le::U16,
    /// 0.
    pub record_format: u8,
    /// 0.
    pub record_display_attributes: u8,
    /// 0.
    pub record_length: le::U32,
    /// Bytes of content.
    pub information_length: le::U64,
    /// Bytes of content and named streams.
    pub object_size: le::U64,
    /// Blocks of content.
    pub blocks_recorded: le::U64,
    /// Last read.
    pub accessed: UdfTime,
    /// Last change of content.
    pub modified: UdfTime,
    /// When it was made.
    pub created: UdfTime,
    /// Last change of attributes.
    pub attributes_changed: UdfTime,
    /// 1.
    pub checkpoint: le::U32,
    /// Zero.
    pub reserved: le::U32,
    /// None.
    pub extended_attribute_icb: LongAd,
    /// Named streams.
    pub stream_directory_icb: LongAd,
    /// What made it.
    pub implementation: EntityId,
    /// Unique in the volume.
    pub unique_id: le::U64,
    /// Bytes of extended attributes that follow.
    pub extended_attributes_length: le::U32,
    /// Bytes of allocation descriptors after them.
    pub allocation_descriptors_length: le::U32,
}
const _: () = assert!(size_of::<ExtendedFileEntry>() == 216);

/// File identifier descriptor without its variable parts (ECMA-167 4/14.4).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct FileIdentifier {
    /// [`TAG_FILE_IDENTIFIER`].
    pub tag: Tag,
    /// 1.
    pub file_version: le::U16,
    /// See the `FID_…` constants.
    pub characteristics: u8,
    /// Bytes of the name, its compression id included.
    pub identifier_length: u8,
    /// File entry.
    pub icb: LongAd,
    /// Bytes of implementation use before the name.
    pub implementation_use_length: le::U16,
}
const _: () = assert!(size_of::<FileIdentifier>() == 38);

/// The name need not be shown (ECMA-167 4/14.4.3).
pub const FID_HIDDEN: u8 = 0x01;
/// The name is a directory's.
pub const FID_DIRECTORY: u8 = 0x02;
/// The name is deleted.
pub const FID_DELETED: u8 = 0x04;
/// The entry is the parent directory.
pub const FID_PARENT: u8 = 0x08;

/// Allocation extent descriptor (ECMA-167 4/14.5); allocation descriptors follow.
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct AllocationExtent {
    /// [`TAG_ALLOCATION_EXTENT`].
    pub tag: Tag,
    /// 0.
    pub previous: le::U32,
    /// Bytes of allocation descriptors.
    pub length: le::U32,
}
const _: () = assert!(size_of::<AllocationExtent>() == 24);

/// Largest extent of an allocation descriptor that is a whole number of blocks of 2048 bytes (30 bits).
pub const MAX_EXTENT_LEN: u64 = (1 << 30) - 2048;
/// Allocation descriptors in the file entry are short.
pub const ALLOCATION_SHORT: u16 = 0;
/// Long.
pub const ALLOCATION_LONG: u16 = 1;
/// Extended.
pub const ALLOCATION_EXTENDED: u16 = 2;
/// The content itself stands in their place.
pub const ALLOCATION_EMBEDDED: u16 = 3;

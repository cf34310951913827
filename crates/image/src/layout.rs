//! The structures of an image file as they lie in it (WIM layout, version 1.13), all little-endian.
//!
//! The layout's published description calls a blob's place in the file its *resource header*; the same 24 bytes point
//! at the tables. Numbers in field docs are byte offsets.

use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    little_endian::{U16, U32, U64},
};

/// The first bytes of every image file.
pub const MAGIC: [u8; 8] = *b"MSWIM\0\0\0";
/// Version of ordinary image files.
pub const VERSION: u32 = 0x1_0D00;
/// Version of image files with solid resources.
pub const VERSION_SOLID: u32 = 0xE00;
/// Version that older writers used for the same layout.
pub const VERSION_OLD: u32 = 0x1_0C00;

/// Where a resource lies.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned,
)]
#[repr(C)]
pub struct RawPlace {
    /// 0: bytes in the file, 56 bits; the top byte has the resource's flags.
    pub size_and_flags: U64,
    /// 8: position in the file, in bytes from its start.
    pub offset: U64,
    /// 16: bytes after decompression.
    pub original_size: U64,
}
const _: () = assert!(size_of::<RawPlace>() == 24);

impl RawPlace {
    /// A place with its parts.
    pub fn new(size: u64, flags: u8, offset: u64, original_size: u64) -> Self {
        Self {
            size_and_flags: (size & SIZE_MASK | u64::from(flags) << 56).into(),
            offset: offset.into(),
            original_size: original_size.into(),
        }
    }
    /// Bytes in the file.
    pub fn size(self) -> u64 {
        self.size_and_flags.get() & SIZE_MASK
    }
    /// Flags, see the constants `RESOURCE_…`.
    pub fn flags(self) -> u8 {
        (self.size_and_flags.get() >> 56) as u8
    }
}

/// Sizes have 56 bits.
pub const SIZE_MASK: u64 = (1 << 56) - 1;
/// The table entry is unused.
pub const RESOURCE_FREE: u8 = 0x01;
/// The resource holds the tree of an edition, or is a table.
pub const RESOURCE_METADATA: u8 = 0x02;
/// The resource is compressed in chunks.
pub const RESOURCE_COMPRESSED: u8 = 0x04;
/// The resource is continued in another part.
pub const RESOURCE_SPANNED: u8 = 0x08;
/// The resource is solid, or the blob lies in one.
pub const RESOURCE_SOLID: u8 = 0x10;
/// The original size that marks the entry of a solid resource itself among those of its blobs.
pub const SOLID_MARK: u64 = 1 << 32;

/// The header.
#[derive(Clone, Copy, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct RawHeader {
    /// 0: [`MAGIC`].
    pub magic: [u8; 8],
    /// 8: bytes of the header, 208.
    pub header_size: U32,
    /// 12: version of the layout.
    pub version: U32,
    /// 16: see the constants `FLAG_…`.
    pub flags: U32,
    /// 20: bytes of a chunk before compression; 0 in an uncompressed file.
    pub chunk_size: U32,
    /// 24: the same in all parts of a split file.
    pub guid: [u8; 16],
    /// 40: number of this part, from 1.
    pub part_number: U16,
    /// 42: number of parts.
    pub total_parts: U16,
    /// 44: number of editions.
    pub image_count: U32,
    /// 48: the table of resources.
    pub resource_table: RawPlace,
    /// 72: the XML data.
    pub xml: RawPlace,
    /// 96: the tree of the edition that boots.
    pub boot_metadata: RawPlace,
    /// 120: number of the edition that boots, from 1; 0 for none.
    pub boot_index: U32,
    /// 124: the integrity table.
    pub integrity: RawPlace,
    /// 148: zeros.
    pub unused: [u8; 60],
}
/// Bytes of the header.
pub const HEADER_LEN: u64 = 208;
const _: () = assert!(size_of::<RawHeader>() == HEADER_LEN as usize);

/// Resources may be compressed.
pub const FLAG_COMPRESSION: u32 = 0x2;
/// The file is not to be changed.
pub const FLAG_READONLY: u32 = 0x4;
/// The file is split into parts.
pub const FLAG_SPANNED: u32 = 0x8;
/// The file holds only resources, no trees.
pub const FLAG_RESOURCE_ONLY: u32 = 0x10;
/// The file holds only trees.
pub const FLAG_METADATA_ONLY: u32 = 0x20;
/// Somebody was writing to the file.
pub const FLAG_WRITE_IN_PROGRESS: u32 = 0x40;
/// Targets of links were made relative to the edition's root.
pub const FLAG_REPARSE_FIX: u32 = 0x80;
/// The method is XPRESS.
pub const FLAG_XPRESS: u32 = 0x2_0000;
/// The method is LZX.
pub const FLAG_LZX: u32 = 0x4_0000;
/// The method is LZMS.
pub const FLAG_LZMS: u32 = 0x8_0000;
/// All flags that name a method.
pub const FLAGS_METHOD: u32 = FLAG_COMPRESSION | FLAG_XPRESS | FLAG_LZX | FLAG_LZMS;

/// An entry of the resource table.
#[derive(Clone, Copy, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct RawTableEntry {
    /// 0: where the resource lies. In a solid resource: the blob's size and its position before compression.
    pub place: RawPlace,
    /// 24: number of the part that holds it.
    pub part_number: U16,
    /// 26: how many names the blob has in all editions.
    pub reference_count: U32,
    /// 30: SHA-1 of the content.
    pub digest: [u8; 20],
}
/// Bytes of a table entry.
pub const TABLE_ENTRY_LEN: usize = 50;
const _: () = assert!(size_of::<RawTableEntry>() == TABLE_ENTRY_LEN);

/// What stands in front of the chunks of a solid resource. A table of the chunks' sizes in the file follows, four bytes
/// for each.
#[derive(Clone, Copy, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct RawSolidHeader {
    /// 0: bytes of all its blobs together.
    pub original_size: U64,
    /// 8: bytes of a chunk before compression.
    pub chunk_size: U32,
    /// 12: 0 none, 1 XPRESS, 2 LZX, 3 LZMS.
    pub method: U32,
}
/// Bytes of the header of a solid resource.
pub const SOLID_HEADER_LEN: u64 = 16;
const _: () = assert!(size_of::<RawSolidHeader>() == SOLID_HEADER_LEN as usize);

/// A directory entry. The name, the short name and what else there is follow; the next entry begins at a multiple of 8
/// bytes, after the entries of named streams.
#[derive(Clone, Copy, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct RawEntry {
    /// 0: bytes of the entry without its streams; 0 ends a folder.
    pub length: U64,
    /// 8: attributes of the file.
    pub attributes: U32,
    /// 12: number of its security descriptor, −1 for none.
    pub security_id: U32,
    /// 16: where the list of the folder's entries begins in the metadata, 0 for none.
    pub subdir_offset: U64,
    /// 24: not used, kept.
    pub unused: [u8; 16],
    /// 40: when it was made, in 100 ns since 1601.
    pub creation_time: U64,
    /// 48: when it was last read.
    pub last_access_time: U64,
    /// 56: when it was last changed.
    pub last_write_time: U64,
    /// 64: SHA-1 of the content, zeros for none.
    pub digest: [u8; 20],
    /// 84: not used, kept.
    pub unknown: [u8; 4],
    /// 88: number of the group of hard links, or of a reparse point its tag, a reserved word, and a word that is 1 when
    /// its target was left as it is.
    pub link_or_reparse: [u8; 8],
    /// 96: number of stream entries that follow.
    pub stream_count: U16,
    /// 98: bytes of the short name.
    pub short_name_len: U16,
    /// 100: bytes of the name.
    pub name_len: U16,
}
/// Bytes of a directory entry without its names.
pub const ENTRY_LEN: usize = 102;
const _: () = assert!(size_of::<RawEntry>() == ENTRY_LEN);

/// A stream of a file besides the one in its directory entry. The name follows.
#[derive(Clone, Copy, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct RawStream {
    /// 0: bytes of the entry.
    pub length: U64,
    /// 8: not used, kept.
    pub unused: [u8; 8],
    /// 16: SHA-1 of the content, zeros for none.
    pub digest: [u8; 20],
    /// 36: bytes of the name; 0 for the file's ordinary content.
    pub name_len: U16,
}
/// Bytes of a stream entry without its name.
pub const STREAM_LEN: usize = 38;
const _: () = assert!(size_of::<RawStream>() == STREAM_LEN);

/// Attribute: read-only.
pub const ATTRIBUTE_READONLY: u32 = 0x1;
/// Attribute: hidden.
pub const ATTRIBUTE_HIDDEN: u32 = 0x2;
/// Attribute: a folder.
pub const ATTRIBUTE_DIRECTORY: u32 = 0x10;
/// Attribute: to be archived, the usual one of a changed file.
pub const ATTRIBUTE_ARCHIVE: u32 = 0x20;
/// Attribute: nothing else is set.
pub const ATTRIBUTE_NORMAL: u32 = 0x80;
/// Attribute: a sparse file.
pub const ATTRIBUTE_SPARSE: u32 = 0x200;
/// Attribute: a reparse point, such as a symbolic link.
pub const ATTRIBUTE_REPARSE: u32 = 0x400;
/// Tag of a symbolic link.
pub const TAG_SYMLINK: u32 = 0xA000_000C;
/// Tag of a mount point, also called a junction.
pub const TAG_MOUNT_POINT: u32 = 0xA000_0003;
/// Security number of an entry that has none.
pub const NO_SECURITY: u32 = u32::MAX;

/// Bytes that each digest of the integrity table stands for, as writers usually have it.
pub const INTEGRITY_CHUNK: u32 = 10 << 20;

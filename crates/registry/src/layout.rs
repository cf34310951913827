//! The structures of a hive file as they lie in it (format `regf`, versions 1.3 to 1.6), all little-endian.
//!
//! There is no standard; the structures follow the publicly described layout. A hive file is a base block of 4096
//! bytes and then bins, each a multiple of 4096 bytes, which hold cells. A cell begins with its size, negative while it
//! is in use, and is a multiple of 8 bytes. Cells are named by their offset from the first bin.

use zerocopy::{
    FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned,
    little_endian::{U16, U32, U64},
};

/// Bytes before the first bin; bins are a multiple of this.
pub const BLOCK: usize = 4096;
/// Bytes before the first cell of a bin.
pub const BIN_HEADER: usize = 32;
/// No cell.
pub const NONE: u32 = u32::MAX;
/// Oldest version that is read.
pub const OLDEST_MINOR: u32 = 3;
/// Newest version that is known.
pub const NEWEST_MINOR: u32 = 6;

/// The first 512 bytes of a hive file.
#[derive(Clone, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct RawBase {
    /// 0: `regf`.
    pub signature: [u8; 4],
    /// 4: raised when a write begins.
    pub primary_sequence: U32,
    /// 8: raised when a write is complete; differs from the primary one while it is not.
    pub secondary_sequence: U32,
    /// 12: last change, in units of 100 ns since 1601-01-01 UTC.
    pub written: U64,
    /// 20: major version, 1.
    pub major: U32,
    /// 24: minor version.
    pub minor: U32,
    /// 28: 0 for a hive, others for its transaction logs.
    pub file_type: U32,
    /// 32: 1, loaded as it lies in the file.
    pub file_format: U32,
    /// 36: cell of the root key.
    pub root: U32,
    /// 40: bytes of all bins.
    pub bins_len: U32,
    /// 44: sector size divided by 512.
    pub clustering: U32,
    /// 48: end of the path of the file, in UTF-16.
    pub name: [u8; 64],
    /// 112: identifiers and flags of the transaction manager, then unused.
    pub transactions: [u8; 396],
    /// 508: exclusive or of the 127 numbers before it; never 0 or all ones.
    pub checksum: U32,
}
const _: () = assert!(size_of::<RawBase>() == 512);

impl RawBase {
    /// The checksum of these fields.
    pub fn computed_checksum(&self) -> u32 {
        let words = self.as_bytes()[..508].chunks_exact(4);
        let sum = words.fold(0, |sum, word| sum ^ u32::from_le_bytes([word[0], word[1], word[2], word[3]]));
        match sum {
            0 => 1,
            u32::MAX => u32::MAX - 1,
            sum => sum,
        }
    }
}

/// The beginning of a bin.
#[derive(Clone, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct RawBin {
    /// 0: `hbin`.
    pub signature: [u8; 4],
    /// 4: its own offset from the first bin.
    pub offset: U32,
    /// 8: its bytes.
    pub len: U32,
    /// 12: unused.
    pub reserved: U64,
    /// 20: only in the first bin, last change.
    pub written: U64,
    /// 28: used only in memory.
    pub spare: U32,
}
const _: () = assert!(size_of::<RawBin>() == BIN_HEADER);

/// A key. The name follows.
#[derive(Clone, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct RawKey {
    /// 0: `nk`.
    pub signature: [u8; 2],
    /// 2: flags, see the constants `KEY_…`.
    pub flags: U16,
    /// 4: last change, in units of 100 ns since 1601-01-01 UTC.
    pub written: U64,
    /// 12: in which states of the machine it was read.
    pub access: U32,
    /// 16: cell of the key it is in.
    pub parent: U32,
    /// 20: number of keys in it.
    pub subkeys: U32,
    /// 24: number of keys that exist only in memory.
    pub volatile_subkeys: U32,
    /// 28: cell of the list of keys in it.
    pub subkey_list: U32,
    /// 32: the same for those in memory, meaningless in a file.
    pub volatile_list: U32,
    /// 36: number of values.
    pub values: U32,
    /// 40: cell of the list of values.
    pub value_list: U32,
    /// 44: cell of the security descriptor.
    pub security: U32,
    /// 48: cell of the class name.
    pub class: U32,
    /// 52: bytes of the longest name of a key in it, in UTF-16.
    pub longest_subkey: U16,
    /// 54: bits of virtualization and debugging.
    pub user_bits: U16,
    /// 56: bytes of the longest class name of a key in it.
    pub longest_class: U32,
    /// 60: bytes of the longest name of a value, in UTF-16.
    pub longest_value_name: U32,
    /// 64: bytes of the longest value.
    pub longest_value: U32,
    /// 68: unused.
    pub work: U32,
    /// 72: bytes of the name.
    pub name_len: U16,
    /// 74: bytes of the class name.
    pub class_len: U16,
}
const _: () = assert!(size_of::<RawKey>() == 76);

/// The key exists only in memory.
pub const KEY_VOLATILE: u16 = 0x01;
/// The key is the root of a hive.
pub const KEY_ROOT: u16 = 0x04;
/// The key must not be deleted.
pub const KEY_NO_DELETE: u16 = 0x08;
/// The name has one byte for each character, which is in ISO 8859-1.
pub const KEY_NARROW_NAME: u16 = 0x20;

/// A value. The name follows.
#[derive(Clone, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct RawValue {
    /// 0: `vk`.
    pub signature: [u8; 2],
    /// 2: bytes of the name, 0 for the key's default value.
    pub name_len: U16,
    /// 4: bytes of the data; the top bit says that they stand in the next field.
    pub data_len: U32,
    /// 8: cell of the data.
    pub data: U32,
    /// 12: type.
    pub kind: U32,
    /// 16: bit 0: the name has one byte for each character.
    pub flags: U16,
    /// 18: unused.
    pub spare: U16,
}
const _: () = assert!(size_of::<RawValue>() == 20);

/// The name of the value has one byte for each character.
pub const VALUE_NARROW_NAME: u16 = 0x01;
/// In [`RawValue::data_len`]: the data stand in the value itself.
pub const DATA_INLINE: u32 = 1 << 31;

/// A security descriptor, which follows. All of a hive form a ring.
#[derive(Clone, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct RawSecurity {
    /// 0: `sk`.
    pub signature: [u8; 2],
    /// 2: unused.
    pub reserved: U16,
    /// 4: next cell of the ring.
    pub next: U32,
    /// 8: previous cell of the ring.
    pub previous: U32,
    /// 12: number of keys that have it.
    pub references: U32,
    /// 16: bytes of the descriptor.
    pub len: U32,
}
const _: () = assert!(size_of::<RawSecurity>() == 20);

/// Largest data in one cell; larger ones are cut into segments, from version 1.4 on.
pub const SEGMENT: usize = 16_344;
/// First version with such segments.
pub const BIG_DATA_MINOR: u32 = 4;
/// First version whose lists have hashes of whole names.
pub const HASH_MINOR: u32 = 5;
/// Most entries of one list of keys, so that it fits into a bin of 4096 bytes.
pub const LIST_ENTRIES: usize = 507;
/// Longest name of a key, in UTF-16 units.
pub const LONGEST_KEY_NAME: usize = 255;
/// Longest name of a value, in UTF-16 units.
pub const LONGEST_VALUE_NAME: usize = 16_383;
/// Most levels of keys.
pub const DEEPEST: usize = 512;

/// The hash of a name in a list of keys (`lh`).
pub fn name_hash(units: impl Iterator<Item = u16>) -> u32 {
    units.fold(0, |hash: u32, unit| {
        hash.wrapping_mul(37).wrapping_add(u32::from(neat_content::fold_unit(unit)))
    })
}

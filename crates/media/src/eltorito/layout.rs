//! On-disk structures of the El Torito specification 1.0.

use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned, little_endian as le};

/// Validation entry (El Torito 2.1), the first of a boot catalog.
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(crate) struct ValidationEntry {
    /// 1.
    pub header_id: u8,
    /// Platform of the default entry.
    pub platform: u8,
    /// Zero.
    pub reserved: le::U16,
    /// Who made the disc.
    pub id: [u8; 24],
    /// Makes the sum of the entry's 16-bit words zero.
    pub checksum: le::U16,
    /// 0x55, 0xAA.
    pub key: [u8; 2],
}
const _: () = assert!(size_of::<ValidationEntry>() == 32);

/// Default entry (El Torito 2.2) and section entry (2.4), which differ only in their last bytes.
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(crate) struct RawEntry {
    /// 0x88 bootable, 0 not.
    pub indicator: u8,
    /// Emulation in bits 0–3; flags in the others of section entries.
    pub media_type: u8,
    /// Segment; 0 means 0x7C0.
    pub load_segment: le::U16,
    /// Partition type of an emulated hard disk.
    pub system_type: u8,
    /// Zero.
    pub unused: u8,
    /// Virtual sectors of 512 bytes to load.
    pub sector_count: le::U16,
    /// First sector of 2048 bytes.
    pub load_rba: le::U32,
    /// Zero, or selection criteria.
    pub rest: [u8; 20],
}
const _: () = assert!(size_of::<RawEntry>() == 32);

/// Section header (El Torito 2.3).
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(crate) struct SectionHeader {
    /// [`MORE_SECTIONS`] or [`LAST_SECTION`].
    pub indicator: u8,
    /// Platform of the section's entries.
    pub platform: u8,
    /// How many follow.
    pub entries: le::U16,
    /// Name of the section.
    pub id: [u8; 28],
}
const _: () = assert!(size_of::<SectionHeader>() == 32);

/// A section header that others follow.
pub(crate) const MORE_SECTIONS: u8 = 0x90;
/// The last section header.
pub(crate) const LAST_SECTION: u8 = 0x91;
/// Section entry extension (El Torito 2.5).
pub(crate) const EXTENSION: u8 = 0x44;
/// Boot indicator of an entry that may be started.
pub(crate) const BOOTABLE: u8 = 0x88;

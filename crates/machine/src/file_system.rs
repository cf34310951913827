//! What a partition holds, by how it begins.

use neat_content::{Content, ReadAt, Result};
use neat_media::{exfat, fat};
use schemars::JsonSchema;
use serde::Serialize;
use std::fmt;

/// A file system.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FileSystem {
    /// NTFS.
    Ntfs,
    /// FAT12, FAT16 or FAT32.
    Fat,
    /// exFAT.
    Exfat,
    /// A volume that is encrypted as a whole.
    Encrypted,
    /// A file system of Linux (ext2 to ext4); its files are not read.
    Ext,
    /// XFS; its files are not read.
    Xfs,
    /// Btrfs; its files are not read.
    Btrfs,
    /// Swap space of Linux.
    Swap,
    /// A volume encrypted as Linux does it.
    Luks,
    /// A file system of newer servers; its files are not read.
    Refs,
    /// Zeros, as far as its start tells.
    Empty,
    /// Something else.
    Unknown,
}

impl FileSystem {
    /// What `volume` holds.
    ///
    /// # Errors
    /// `Io`.
    pub fn of(volume: &Content) -> Result<Self> {
        const KNOWN: u64 = 0x1_1000;
        let len = volume.len().min(KNOWN);
        let mut start = vec![0; len as usize];
        volume.read_exact_at(0, &mut start)?;
        let at = |place: usize, word: &[u8]| start.get(place..place + word.len()) == Some(word);
        Ok(if neat_ntfs::is_ntfs(&start) {
            Self::Ntfs
        } else if neat_ntfs::is_encrypted(&start) {
            Self::Encrypted
        } else if exfat::is_exfat(&start) {
            Self::Exfat
        } else if at(3, b"ReFS\0") {
            Self::Refs
        } else if at(0x438, &[0x53, 0xEF]) {
            Self::Ext
        } else if at(0, b"XFSB") {
            Self::Xfs
        } else if at(0x1_0040, b"_BHRfS_M") {
            Self::Btrfs
        } else if at(0, b"LUKS\xBA\xBE") {
            Self::Luks
        } else if at(4086, b"SWAPSPACE2") {
            Self::Swap
        } else if at(510, &[0x55, 0xAA]) && fat::read::volume_len(volume)?.is_some() {
            Self::Fat
        } else if start.iter().all(|byte| *byte == 0) {
            Self::Empty
        } else {
            Self::Unknown
        })
    }

    /// Whether files are read from it.
    pub const fn is_read(self) -> bool {
        matches!(self, Self::Ntfs | Self::Fat | Self::Exfat)
    }
}

impl fmt::Display for FileSystem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Ntfs => "NTFS",
            Self::Fat => "FAT",
            Self::Exfat => "exFAT",
            Self::Encrypted => "encrypted",
            Self::Ext => "ext",
            Self::Xfs => "XFS",
            Self::Btrfs => "Btrfs",
            Self::Swap => "swap",
            Self::Luks => "LUKS",
            Self::Refs => "ReFS",
            Self::Empty => "empty",
            Self::Unknown => "unknown",
        })
    }
}

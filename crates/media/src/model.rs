//! A media as everything here knows it, whatever file system it came from.

use neat_content::{Content, Timestamp, Tree};
use serde::{Deserialize, Serialize};

/// A media: a tree of names, how it is labelled and how it boots.
#[derive(Clone, Debug, Default)]
pub struct Media {
    /// In which form it is there.
    pub form: MediaForm,
    /// The files.
    pub tree: Tree,
    /// Labels and times of the volume.
    pub volume: VolumeIdentity,
    /// Which file systems were found and which one the tree is from.
    pub trees: TreesFound,
    /// How firmware starts it as a disc.
    pub boot: Option<BootCatalog>,
    /// How firmware starts it as a disk.
    pub partitions: Option<PartitionTable>,
    /// Size in bytes of the file it was read from; 0 for a folder.
    pub size: u64,
    /// What was unusual but not wrong enough to stop.
    pub warnings: Vec<String>,
    /// Whether only its owner may read what it was read from; what is made of it should be no more readable.
    pub private: bool,
}

/// Labels and times of a volume.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct VolumeIdentity {
    /// The label that a person sees.
    pub label: String,
    /// System identifier (ECMA-119 8.4.5).
    pub system: String,
    /// Volume set identifier (ECMA-119 8.4.19).
    pub volume_set: String,
    /// Publisher (ECMA-119 8.4.20).
    pub publisher: String,
    /// Data preparer (ECMA-119 8.4.21).
    pub preparer: String,
    /// Application (ECMA-119 8.4.22).
    pub application: String,
    /// When the volume was made.
    pub created: Option<Timestamp>,
    /// When it was last changed.
    pub modified: Option<Timestamp>,
}

/// In which form a media is there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum MediaForm {
    /// A folder of this machine.
    #[default]
    Folder,
    /// A disc: sectors of 2,048 bytes.
    #[serde(rename = "iso")]
    Disc,
    /// A stick: a disk with FAT.
    Stick,
}

/// A kind of tree that a media can carry.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum TreeKind {
    /// A folder of this machine.
    #[default]
    Folder,
    /// The primary tree of ECMA-119.
    Iso9660,
    /// The same with Rock Ridge names and attributes.
    RockRidge,
    /// The supplementary tree of Joliet.
    Joliet,
    /// UDF.
    Udf,
    /// FAT, on a stick.
    Fat,
}

impl TreeKind {
    /// What people call it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Folder => "folder",
            Self::Iso9660 => "ISO 9660",
            Self::RockRidge => "Rock Ridge",
            Self::Joliet => "Joliet",
            Self::Udf => "UDF",
            Self::Fat => "FAT",
        }
    }
}

/// The file systems found on a media; for a folder those of the media that it was unpacked from, none otherwise.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct TreesFound {
    /// A primary volume descriptor is there.
    pub iso9660: bool,
    /// A Joliet descriptor is there.
    pub joliet: bool,
    /// Rock Ridge entries are in the primary tree.
    pub rock_ridge: bool,
    /// UDF revision as recorded, e.g. `0x0102`.
    pub udf: Option<u16>,
    /// The one that the tree was read from.
    pub chosen: TreeKind,
}

/// Which firmware an El Torito entry is for (El Torito 1.0, 2.1; 0xEF from the UEFI specification 13.3.2.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Platform(pub u8);

impl Platform {
    /// 80x86 BIOS.
    pub const BIOS: Self = Self(0);
    /// UEFI.
    pub const UEFI: Self = Self(0xEF);

    /// What people call it.
    pub const fn name(self) -> &'static str {
        match self.0 {
            0 => "BIOS",
            1 => "PowerPC",
            2 => "Mac",
            0xEF => "UEFI",
            _ => "unknown platform",
        }
    }
}

/// What the firmware shall present a boot image as (El Torito 1.0, 2.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Emulation {
    /// Loaded as it is.
    None,
    /// A 1.2 MB diskette.
    Floppy1200,
    /// A 1.44 MB diskette.
    Floppy1440,
    /// A 2.88 MB diskette.
    Floppy2880,
    /// A hard disk with one partition.
    HardDisk,
}

impl Emulation {
    /// The value in a boot catalog.
    pub const fn code(self) -> u8 {
        match self {
            Self::None => 0,
            Self::Floppy1200 => 1,
            Self::Floppy1440 => 2,
            Self::Floppy2880 => 3,
            Self::HardDisk => 4,
        }
    }

    /// What a boot catalog's value means; the upper four bits are flags and not looked at.
    pub const fn from_code(code: u8) -> Option<Self> {
        Some(match code & 0x0F {
            0 => Self::None,
            1 => Self::Floppy1200,
            2 => Self::Floppy1440,
            3 => Self::Floppy2880,
            4 => Self::HardDisk,
            _ => return None,
        })
    }

    /// Bytes of a diskette of this kind.
    pub const fn floppy_len(self) -> Option<u64> {
        match self {
            Self::Floppy1200 => Some(1200 * 1024),
            Self::Floppy1440 => Some(1440 * 1024),
            Self::Floppy2880 => Some(2880 * 1024),
            Self::None | Self::HardDisk => None,
        }
    }
}

/// The bytes that firmware loads.
#[derive(Clone, Debug)]
pub enum BootImage {
    /// A file of the media's tree, by its path.
    File(String),
    /// Bytes that no file of the tree holds.
    Hidden(Content),
}

/// What is written into a boot image's copy on the disc.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ImagePatch {
    /// The boot-info table at byte 8: where the primary descriptor and the image lie, length and checksum.
    pub boot_info_table: bool,
    /// A 64-bit block address at byte 2548 that points past the image's first 2,048 bytes in blocks of 512, as
    /// loaders want that are started through a partition table too.
    pub block_pointer: bool,
}

/// One entry of a boot catalog.
#[derive(Clone, Debug)]
pub struct BootEntry {
    /// Which firmware it is for.
    pub platform: Platform,
    /// Whether the firmware may start it.
    pub bootable: bool,
    /// What it is presented as.
    pub emulation: Emulation,
    /// Segment it is loaded to; 0 means 0x7C0.
    pub load_segment: u16,
    /// Partition type of an emulated hard disk.
    pub system_type: u8,
    /// How many sectors of 512 bytes are loaded at first.
    pub load_sectors: u16,
    /// The image.
    pub image: BootImage,
    /// First sector of 2048 bytes, as found; `None` before it is written.
    pub location: Option<u32>,
    /// What is written into the copy on the disc.
    pub patch: ImagePatch,
}

/// All boot entries of a disc, the default one first.
#[derive(Clone, Debug, Default)]
pub struct BootCatalog {
    /// The entries.
    pub entries: Vec<BootEntry>,
    /// Who made it, from the validation entry (24 bytes at most).
    pub id: String,
    /// Path of the file that shows the catalog itself, where the source has one.
    pub catalog_path: Option<String>,
}

/// One partition, in bytes from the start of the file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PartitionInfo {
    /// What kind it is, for people.
    pub kind: String,
    /// Name, where the table has one.
    pub name: String,
    /// First byte.
    pub start: u64,
    /// Number of bytes.
    pub len: u64,
    /// Whether BIOS boot code is told to start it.
    pub active: bool,
}

/// Code in the first block of a disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BootCode {
    /// At most 440 bytes.
    pub bytes: Vec<u8>,
    /// For code that finds its image by a 64-bit block address at byte 432: how many blocks of 512 bytes behind the
    /// start of the BIOS boot image that address points. `None` for code that does not.
    pub pointer_skip: Option<u64>,
}

impl BootCode {
    /// Where the block address stands in the code.
    pub const POINTER_AT: usize = 432;

    /// Code from a file: it wants the address of the image when it leaves room for one.
    pub fn from_file(bytes: Vec<u8>) -> Self {
        let room = bytes.get(Self::POINTER_AT..Self::POINTER_AT + 8);
        let pointer_skip = room.is_none_or(|room| room.iter().all(|byte| *byte == 0)).then_some(0);
        Self { bytes, pointer_skip }
    }
}

/// A partition table found at the start of a media.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PartitionTable {
    /// Whether it is a GPT (else MBR).
    pub gpt: bool,
    /// What BIOS starts from the first block.
    pub boot_code: Option<BootCode>,
    /// The partitions in the order of the table.
    pub partitions: Vec<PartitionInfo>,
}

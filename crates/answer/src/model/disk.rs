//! Disks and their partitions.

use super::is_default;
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error as _};
use std::fmt;

/// `[[disk]]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Disk {
    /// Which one, by number from 0, where installers number disks.
    #[serde(default, skip_serializing_if = "is_default")]
    pub number: Option<u32>,
    /// Which one, by the name that the system has for it, such as `sda` or `nvme0n1`, where installers name disks.
    #[serde(default, skip_serializing_if = "is_default")]
    pub device: String,
    /// Whether everything on it is erased first.
    #[serde(default, skip_serializing_if = "is_default")]
    pub wipe: bool,
    /// Kind of partition table; without it as it is.
    #[serde(default, skip_serializing_if = "is_default")]
    pub scheme: Option<Scheme>,
    /// Go on only when the machine has no other disk.
    #[serde(default, skip_serializing_if = "is_default")]
    pub only_disk: bool,
    /// Go on only when it is at least as large.
    #[serde(default, skip_serializing_if = "is_default")]
    pub at_least: Option<Size>,
    /// Go on only when it is at most as large.
    #[serde(default, skip_serializing_if = "is_default")]
    pub at_most: Option<Size>,
    /// Partitions that are made, in order. Without any, and wiped, the installer lays it out as it sees fit.
    #[serde(default, skip_serializing_if = "is_default")]
    pub partition: Vec<Partition>,
}

impl Disk {
    /// Whether it is laid out only under conditions.
    pub fn is_guarded(&self) -> bool {
        self.only_disk || self.at_least.is_some() || self.at_most.is_some()
    }

    /// How people call it.
    pub fn name(&self) -> String {
        match (self.number, self.device.as_str()) {
            (Some(number), "") => format!("disk {number}"),
            (_, "") => "disk 0".into(),
            (_, device) => device.to_owned(),
        }
    }
}

/// Kind of partition table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Scheme {
    /// GUID partition table.
    Gpt,
    /// Master boot record.
    Mbr,
}

/// `[[disk.partition]]`
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Partition {
    /// What it is for.
    pub kind: PartitionKind,
    /// How large, such as `300MiB`, or `rest`.
    pub size: Size,
    /// File system; without it what is usual for its kind.
    #[serde(default, skip_serializing_if = "is_default")]
    pub file_system: Option<FileSystem>,
    /// Label.
    #[serde(default, skip_serializing_if = "is_default")]
    pub label: String,
    /// Drive letter.
    #[serde(default, skip_serializing_if = "is_default")]
    pub letter: Option<char>,
    /// Where it is mounted; without it what is usual for its kind.
    #[serde(default, skip_serializing_if = "is_default")]
    pub mount: String,
}

/// What a partition is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PartitionKind {
    /// What UEFI starts from.
    Efi,
    /// Kept free for the system's own use.
    Reserved,
    /// What a BIOS, or the boot loader, starts from.
    Boot,
    /// The system is installed here.
    System,
    /// Tools to repair the system.
    Recovery,
    /// Memory that is not in use.
    Swap,
    /// Anything else.
    Data,
}

/// A file system.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FileSystem {
    /// NTFS
    Ntfs,
    /// FAT32
    Fat32,
    /// ext4
    Ext4,
    /// XFS
    Xfs,
    /// Btrfs
    Btrfs,
    /// Swap space
    Swap,
}

impl FileSystem {
    /// As Linux calls it.
    pub(crate) const fn linux_name(self) -> &'static str {
        match self {
            Self::Ntfs => "ntfs",
            Self::Fat32 => "fat32",
            Self::Ext4 => "ext4",
            Self::Xfs => "xfs",
            Self::Btrfs => "btrfs",
            Self::Swap => "swap",
        }
    }

    pub(crate) fn of_name(name: &str) -> Option<Self> {
        Some(match name.to_ascii_lowercase().as_str() {
            "ntfs" => Self::Ntfs,
            "fat32" | "vfat" | "efi" => Self::Fat32,
            "ext4" => Self::Ext4,
            "xfs" => Self::Xfs,
            "btrfs" => Self::Btrfs,
            "swap" | "linux-swap" => Self::Swap,
            _ => return None,
        })
    }
}

impl Partition {
    /// A partition with nothing but its kind and size.
    pub fn new(kind: PartitionKind, size: Size) -> Self {
        Self { kind, size, file_system: None, label: String::new(), letter: None, mount: String::new() }
    }
}

/// A size in MiB, or what is left.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Size {
    /// So many MiB.
    Mib(u64),
    /// Whatever is left.
    Rest,
}

impl Size {
    /// MiB; none for the rest.
    pub fn mib(self) -> Option<u64> {
        match self {
            Self::Mib(mib) => Some(mib),
            Self::Rest => None,
        }
    }
}

impl fmt::Display for Size {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Rest => f.write_str("rest"),
            Self::Mib(mib) if *mib > 0 && mib.is_multiple_of(1 << 20) => write!(f, "{}TiB", mib >> 20),
            Self::Mib(mib) if *mib > 0 && mib.is_multiple_of(1 << 10) => write!(f, "{}GiB", mib >> 10),
            Self::Mib(mib) => write!(f, "{mib}MiB"),
        }
    }
}

impl Serialize for Size {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Size {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> std::result::Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        if text == "rest" {
            return Ok(Self::Rest);
        }
        let bytes = neat_content::parse_size(&text)
            .map_err(|error| D::Error::custom(format!("{error}: {}, or \"rest\"", error.hint())))?;
        Ok(Self::Mib(bytes >> 20))
    }
}

impl JsonSchema for Size {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Size".into()
    }
    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "type": "string",
            "pattern": "^(rest|[0-9]+(\\.[0-9]+)? ?([KkMmGgTt]([Ii]?[Bb])?|[Bb])?)$",
            "description": "A size such as 300MiB or 60GB, or rest"
        })
    }
}

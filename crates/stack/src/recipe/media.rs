//! `[media]`: what comes out.

use neat_media::stick::Scheme;
use neat_trial::Firmware;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// `[media]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MediaSection {
    /// The label; without it the source's.
    pub label: Option<String>,
    /// The ISO file to write.
    pub iso: Option<String>,
    /// The stick to write.
    pub stick: Option<StickSection>,
    /// Firmwares that the result is started with; the build fails when it does not come up.
    #[serde(default)]
    pub trial: Vec<TrialValue>,
    /// Who publishes it.
    pub publisher: Option<String>,
    /// Whether the file also starts as a disk.
    pub hybrid: Option<bool>,
    /// Boot code for the first block of such a disk.
    #[schemars(extend("format" = "path"))]
    pub boot_code: Option<String>,
    /// Whether Rock Ridge attributes are written; without it, as the source has it.
    pub rock_ridge: Option<bool>,
    /// Compresses the image file with the systems anew; without it, it stays as it is.
    pub compression: Option<CompressionValue>,
    /// Splits the image file with the systems where it is larger than this file system holds.
    pub file_limit: Option<FileLimitValue>,
}

/// `media.stick`
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StickSection {
    /// The image file to write.
    pub image: String,
    /// `gpt` or `mbr`.
    #[serde(default)]
    #[schemars(with = "SchemeValue")]
    pub scheme: Scheme,
    /// Its size, such as `64M`, `7500MiB` or `8GB`; without it just large enough.
    pub size: Option<String>,
    /// Its label; without it the media's.
    pub label: Option<String>,
    /// How the files lie on it.
    #[serde(default)]
    pub form: StickForm,
    /// The boot manager that BIOS starts, by its name in the root.
    pub boot_manager: Option<String>,
}

/// `media.stick.scheme`
#[derive(JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[expect(dead_code, reason = "stands in the schema for the type of another crate")]
enum SchemeValue {
    /// GUID partition table.
    Gpt,
    /// Master boot record.
    Mbr,
}

/// `media.trial`
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TrialValue {
    /// SeaBIOS.
    Bios,
    /// OVMF.
    Uefi,
}

/// How the files lie on the stick.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StickForm {
    /// A disc for media whose BIOS loader only starts from one, else FAT32.
    #[default]
    Auto,
    /// A partition table and FAT32.
    Fat32,
    /// The disc itself, which also starts as a disk.
    Disc,
}

/// `media.compression`
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum CompressionValue {
    /// Stored as it is.
    None,
    /// Quickly.
    Fast,
    /// Nearly as small as can be.
    Good,
    /// As small as possible.
    Max,
    /// In solid resources: smallest, slow to write and to change.
    Solid,
}

/// `media.file_limit`
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FileLimitValue {
    /// What FAT32 holds.
    Fat32,
}

impl TrialValue {
    /// The firmware that is meant.
    pub const fn firmware(self) -> Firmware {
        match self {
            Self::Bios => Firmware::Bios,
            Self::Uefi => Firmware::Uefi,
        }
    }
}

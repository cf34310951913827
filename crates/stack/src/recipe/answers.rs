//! Sections of a stack file that make a media ask less, and show a menu.

use neat_answer::{Dialect, Topic};
use schemars::JsonSchema;
use serde::Deserialize;

/// `[answer]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AnswerSection {
    /// An answer file in any dialect, or a model (`*.answer.toml`).
    #[schemars(extend("format" = "path"))]
    pub file: Option<String>,
    /// The model itself.
    pub model: Option<neat_answer::Model>,
    /// Dialects that are written; without it `unattend` for a model, and its own for a file.
    #[serde(default)]
    pub dialects: Vec<Dialect>,
    /// What would stop the build and is meant, by its topic, such as `no-password`; a model may say it itself.
    #[serde(default)]
    pub accept: Vec<Topic>,
    /// Whether answer files that are there may be replaced.
    #[serde(default)]
    pub replace: bool,
}

impl AnswerSection {
    /// The dialects that are written, where `usual` is that of the answers.
    pub(crate) fn dialects_of(&self, usual: Dialect) -> Vec<Dialect> {
        if self.dialects.is_empty() { vec![usual] } else { self.dialects.clone() }
    }
}

/// `[[variant]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct VariantSection {
    /// A site list: a CSV with the columns `name` and any others, which `{column}` stands for in names and answers.
    #[schemars(extend("format" = "path"))]
    pub sites: String,
    /// One media for all machines, which finds its answers by the machine's serial number (column `serial`) or, where
    /// that is empty, by nothing else.
    #[serde(default)]
    pub answers_only: bool,
}

/// `[menu]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MenuSection {
    /// Shown above the entries; without it the stack file's title.
    pub title: Option<String>,
    /// Id of the entry that is highlighted first.
    pub default: Option<String>,
    /// How long the menu waits, in seconds.
    #[serde(default = "default_timeout")]
    pub timeout_seconds: u32,
    /// `disk`, `default` or `wait`.
    #[serde(default)]
    pub on_timeout: OnTimeoutValue,
    /// Speed of the first serial port, to show the menu there too.
    pub serial_speed: Option<u32>,
    /// Folder with the BIOS loader and its modules; without it the places where Debian installs them.
    pub bios_loader: Option<String>,
    /// The UEFI loader, a `.efi` file; without it the place where Debian installs GRUB's.
    pub uefi_loader: Option<String>,
    /// Whether boot files that are there may be replaced.
    #[serde(default)]
    pub replace: bool,
    /// The entries.
    #[serde(default)]
    pub entry: Vec<EntrySection>,
}

const fn default_timeout() -> u32 {
    60
}

/// What happens when nobody chooses.
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum OnTimeoutValue {
    /// The hard disk is started.
    #[default]
    Disk,
    /// The default entry is started.
    Default,
    /// The menu waits.
    Wait,
}

/// `[[menu.entry]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct EntrySection {
    /// Short name, also of its folder on the media.
    pub id: String,
    /// What a person reads.
    pub title: String,
    /// The kernel.
    pub kernel: Option<String>,
    /// Instead of a kernel the boot image of a setup on the media, which BIOS starts: `source`, or the folder of a
    /// `[[beside]]`.
    pub boot_of: Option<String>,
    /// Initial RAM disks, in order.
    #[serde(default)]
    pub initrd: Vec<String>,
    /// The kernel's command line.
    #[serde(default)]
    pub options: String,
    /// An answer file for the installer that this entry starts.
    pub answer: Option<EntryAnswer>,
}

/// `answer` of a menu entry.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct EntryAnswer {
    /// The file; not needed when it is fetched by address.
    pub file: Option<String>,
    /// Where the installer finds it.
    #[serde(default)]
    pub at: AnswerPlace,
    /// Where the installer finds what it installs, as an address, where it is told on the kernel's command line.
    pub source: Option<String>,
    /// What would stop the build and is meant, as in `[answer]`.
    #[serde(default)]
    pub accept: Vec<Topic>,
    /// Address it is fetched from, with `at = "address"`.
    pub address: Option<String>,
    /// The dialect that a model is written in.
    pub dialect: Option<Dialect>,
}

/// Where an installer finds its answers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AnswerPlace {
    /// In an initial RAM disk of its own, which every installer of its kind reads.
    #[default]
    Initrd,
    /// As a file in the system's own folder on the media.
    Media,
    /// As a file in the root of the media, by its usual name.
    Root,
    /// At an address on the kernel's command line.
    Address,
}

//! The way that firmware would go through a media, by reading alone: what it would find, and what only a start can tell.

mod bios;
mod pe;
mod uefi;

pub use pe::{Machine, loader_machine};

use crate::{Media, MediaForm, Platform, read};
use neat_content::{Content, Result, Source};
use serde::{Deserialize, Serialize};
use std::{path::Path, sync::Arc};

/// Which firmware starts the media.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Firmware {
    /// The older one.
    Bios,
    /// The newer one.
    Uefi,
}

impl Firmware {
    /// What people call it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Bios => "BIOS",
            Self::Uefi => "UEFI",
        }
    }
}

/// What the media is to the machine.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Attachment {
    /// In an optical drive.
    Disc,
    /// As a stick or a disk.
    Disk,
}

impl Attachment {
    /// What people call it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Disc => "disc",
            Self::Disk => "disk",
        }
    }
}

/// One thing that firmware or a loader looks for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Step {
    /// Whether it is there and right.
    pub good: bool,
    /// What was found, or what is missing.
    pub text: String,
}

/// The way of one firmware.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Walk {
    /// Whose way.
    pub firmware: Firmware,
    /// How the media is attached.
    pub attached: Attachment,
    /// Whether the media is made to be started so: there is an entry, code or a loader for it.
    pub claimed: bool,
    /// What is looked for, in order.
    pub steps: Vec<Step>,
    /// What reading cannot tell.
    pub unknown: Vec<String>,
}

impl Walk {
    const fn new(firmware: Firmware, attached: Attachment) -> Self {
        Self { firmware, attached, claimed: false, steps: Vec::new(), unknown: Vec::new() }
    }

    /// Whether nothing on the way is missing.
    pub fn is_good(&self) -> bool {
        self.claimed && self.steps.iter().all(|step| step.good)
    }

    fn good(&mut self, text: impl Into<String>) {
        self.steps.push(Step { good: true, text: text.into() });
    }

    fn bad(&mut self, text: impl Into<String>) {
        self.steps.push(Step { good: false, text: text.into() });
    }

    fn step(&mut self, good: bool, yes: impl Into<String>, no: impl Into<String>) {
        if good { self.good(yes) } else { self.bad(no) }
    }

    fn unknown(&mut self, text: impl Into<String>) {
        self.unknown.push(text.into());
    }
}

/// The ways through the media in the file at `path`.
///
/// # Errors
/// What reading the media gives.
pub fn walk(path: &Path) -> Result<Vec<Walk>> {
    let media = read::open(path)?;
    let source = Source::open(path)?;
    Ok(walk_media(&media, &source))
}

/// The ways through a media that is open already.
pub fn walk_media(media: &Media, source: &Arc<Source>) -> Vec<Walk> {
    let mut walks = Vec::new();
    if media.form != MediaForm::Stick {
        walks.push(bios::disc(media));
        walks.push(uefi::disc(media));
    }
    walks.push(bios::disk(media, source));
    walks.push(uefi::disk(media, source));
    walks
}

/// The UEFI applications that firmware would start on the media in the file at `path`, each with its path.
///
/// # Errors
/// What reading the media gives.
pub fn loaders(path: &Path) -> Result<Vec<(String, Content)>> {
    Ok(uefi::loader_files(&read::open(path)?, &Source::open(path)?))
}

/// The firmwares that the media claims to be started by when it is attached so.
pub fn claims(walks: &[Walk], attached: Attachment) -> Vec<Firmware> {
    walks.iter().filter(|walk| walk.attached == attached && walk.claimed).map(|walk| walk.firmware).collect()
}

/// The entries of the boot catalogue for a platform.
fn entries(media: &Media, platform: Platform) -> impl Iterator<Item = &crate::BootEntry> {
    let all = media.boot.iter().flat_map(|catalog| &catalog.entries);
    all.filter(move |entry| entry.platform == platform)
}

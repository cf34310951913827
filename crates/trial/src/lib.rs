//! Starting a media in a virtual machine, and saying how far it got.
//!
//! [`Tools::find`] looks for the machine's own virtual-machine program, [`run`] starts the media with one firmware or
//! with both side by side, without network and with a blank scratch disk, follows serial port and screen, and gives an
//! [`Outcome`] for each. What texts mean is data: `signs.toml`.

#![forbid(unsafe_code)]

mod machine;
mod monitor;
mod screen;
mod signs;
mod terminal;
mod tools;
mod watch;

pub use signs::Stage;
pub use tools::Tools;
pub use watch::{End, Outcome};

pub use neat_media::bootwalk::Firmware;

use neat_media::bootwalk::Attachment;
use serde::{Deserialize, Serialize};

use neat_content::{Job, Result};
use std::{path::Path, thread, time::Duration};

/// How a media is attached to the machine.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Attached {
    /// In an optical drive.
    Disc,
    /// As a disk inside the machine.
    Disk,
    /// As a disk at a USB port, which firmware reads by another driver.
    Stick,
}

impl Attached {
    /// What people call it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Disc => "disc",
            Self::Disk => "disk",
            Self::Stick => "stick",
        }
    }

    /// The way on which firmware looks for what it starts.
    pub const fn way(self) -> Attachment {
        match self {
            Self::Disc => Attachment::Disc,
            Self::Disk | Self::Stick => Attachment::Disk,
        }
    }
}

/// How a media is tried.
#[derive(Clone, Debug)]
pub struct Options<'a> {
    /// How the media is attached.
    pub attached: Attached,
    /// Stop, and be content, when this text shows on the serial port or the screen.
    pub expect: Option<&'a str>,
    /// Stop after so long.
    pub limit: Duration,
    /// Stop when neither serial port nor screen changes for so long.
    pub quiet: Duration,
    /// Memory of the machine in MiB.
    pub memory: u32,
    /// Bytes of the scratch disk.
    pub disk: u64,
    /// Whether the media may install to the scratch disk, which is then started by itself.
    pub unattended: bool,
}

impl Default for Options<'_> {
    fn default() -> Self {
        Self {
            attached: Attached::Disc,
            expect: None,
            limit: Duration::from_secs(300),
            quiet: Duration::from_secs(60),
            memory: 1024,
            disk: 1 << 30,
            unattended: false,
        }
    }
}

/// Starts `media` once with each of `firmwares`, side by side. The media is never written.
///
/// # Errors
/// `Request` when something is missing on this machine, `Cancelled` when a stop was asked for.
pub fn run(
    tools: &Tools,
    media: &Path,
    firmwares: &[Firmware],
    options: &Options<'_>,
    job: &Job<'_>,
) -> Result<Vec<Outcome>> {
    for firmware in firmwares {
        tools.check(*firmware)?;
    }
    thread::scope(|scope| {
        let started: Vec<_> = firmwares
            .iter()
            .map(|firmware| scope.spawn(move || watch::watch(tools, media, *firmware, options, job)))
            .collect();
        started
            .into_iter()
            .map(|one| {
                one.join().unwrap_or_else(|_| {
                    Err(neat_content::Error::internal("the thread that watches the machine gave up"))
                })
            })
            .collect()
    })
}

//! Arguments of `trial`.

use super::common::parse_size;
use clap::{Args, ValueEnum};
use std::path::PathBuf;

/// Start a media in a virtual machine and say how far it gets
#[derive(Debug, Args)]
#[command(after_help = "\
The media is never written. The machine has no network and a blank disk. It runs until the expected text shows, it \
switches itself off, nothing changes any more, or the time is over. Exit code 1 when a firmware that the media is made \
for does not start it, or when the expected text does not show.

Examples:
  neatstack trial quay-os-7.iso
  neatstack trial quay.img --firmware bios --shot booted.png
  neatstack trial lab.iso --expect \"Select a language\" --limit 600
  neatstack trial lab.iso --unattended 20GiB --limit 3600")]
pub(crate) struct TrialArgs {
    /// An ISO file or the image file of a stick
    pub media: PathBuf,
    /// Which firmware; without it those that the media is made for, side by side
    #[arg(long, value_name = "FIRMWARE")]
    pub firmware: Option<FirmwareName>,
    /// How the media is attached; without it an ISO file as a disc and a stick as a stick
    #[arg(long = "as", value_name = "KIND")]
    pub attached: Option<AttachedName>,
    /// Write a PNG picture of the last screen; with several firmwares one each, NAME-bios.png and NAME-uefi.png
    #[arg(long, value_name = "PNG")]
    pub shot: Option<PathBuf>,
    /// Write what came over the serial port; with several firmwares one file each
    #[arg(long, value_name = "FILE")]
    pub log: Option<PathBuf>,
    /// Stop when this text shows on the serial port or the screen
    #[arg(long, value_name = "TEXT")]
    pub expect: Option<String>,
    /// Stop after so many seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 300, value_parser = clap::value_parser!(u64).range(1..=86_400))]
    pub limit: u64,
    /// Stop when nothing changes for so many seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 60, value_parser = clap::value_parser!(u64).range(1..=86_400))]
    pub quiet_after: u64,
    /// Let an answer file install to a disk of this size, then start that disk
    #[arg(long, value_name = "SIZE", value_parser = parse_size)]
    pub unattended: Option<u64>,
    /// Memory of the machine
    #[arg(long, value_name = "SIZE", value_parser = parse_size, default_value = "1GiB")]
    pub memory: u64,
}

/// Which firmware.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum FirmwareName {
    /// SeaBIOS
    Bios,
    /// OVMF
    Uefi,
    /// Both, side by side
    Both,
}

/// How the media is attached.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum AttachedName {
    /// In an optical drive
    Disc,
    /// As a disk inside the machine
    Disk,
    /// As a disk at a USB port
    Stick,
}

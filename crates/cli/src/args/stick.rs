//! Arguments of `stick`.

use super::common::parse_size;
use clap::{Args, Subcommand, ValueEnum};
use neat_stack::StickForm;
use std::path::PathBuf;

/// Write a bootable stick, into a device or an image file
#[derive(Debug, Args)]
#[command(
    args_conflicts_with_subcommands = true,
    subcommand_negates_reqs = true,
    after_help = "\
A GPT or MBR and one FAT32 file system, in one pass from the source. BIOS starts it by boot code of our own, which loads \
the boot manager in the media's root; UEFI starts EFI/BOOT/BOOT*.EFI. An image file with systems that is too large for \
FAT32 is split on the way. Media whose BIOS loader only reads discs become a disc that also starts as a disk.

A device is erased only when its serial number is given, or typed on a terminal; never the disk that the system runs on, \
never one that is mounted. It is read back and compared, and its partition table is written last.

Examples:
  neatstack stick --list
  neatstack stick quay-os-7.iso --to quay.img --scheme mbr
  neatstack stick quay-os-7.iso --to /dev/sdb --yes-erase AA00012345
  neatstack stick update quay-os-7.iso --to /dev/sdb"
)]
pub(crate) struct StickArgs {
    /// An ISO file, a folder or another stick
    #[arg(required_unless_present = "list")]
    pub source: Option<PathBuf>,
    #[command(subcommand)]
    pub action: Option<StickAction>,
    /// Show the disks of this machine that can be taken out, and what is on them
    #[arg(long, conflicts_with_all = ["source", "to"])]
    pub list: bool,
    /// The device, or the image file to write
    #[arg(long, value_name = "FILE|DEVICE", required_unless_present = "list")]
    pub to: Option<PathBuf>,
    /// How it is partitioned
    #[arg(long, value_name = "SCHEME", default_value = "gpt")]
    pub scheme: SchemeName,
    /// How the files lie on it
    #[arg(long, value_name = "FORM", default_value = "auto")]
    pub form: FormName,
    /// Size; without it all of a device, and an image file as large as it must be
    #[arg(long, value_name = "SIZE", value_parser = parse_size)]
    pub size: Option<u64>,
    /// Label, at most 11 characters; without it the media's
    #[arg(long, value_name = "TEXT")]
    pub label: Option<String>,
    /// The boot manager that BIOS starts, by its name in the root; without it one that is known
    #[arg(long, value_name = "NAME")]
    pub boot_manager: Option<String>,
    /// Code for the first block, for BIOS; only with the form `disc`
    #[arg(long, value_name = "FILE")]
    pub boot_code: Option<PathBuf>,
    /// Make ids from what is on the stick, so that the same source gives the same bytes; also with SOURCE_DATE_EPOCH
    #[arg(long)]
    pub reproducible: bool,
    /// Overwrite the image file if it is there
    #[arg(long)]
    pub replace: bool,
    /// Let others read the image file although it holds a password or key
    #[arg(long)]
    pub readable: bool,
    #[command(flatten)]
    pub device: DeviceArgs,
}

/// How devices are treated.
#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Devices")]
pub(crate) struct DeviceArgs {
    /// Erase the device if this is its serial number (or its model, where it has none)
    #[arg(long, value_name = "SERIAL")]
    pub yes_erase: Option<String>,
    /// Do not read back what was written
    #[arg(long)]
    pub no_verify: bool,
    /// Also a disk that cannot be taken out
    #[arg(long)]
    pub fixed: bool,
    /// Rehearse: devices are those that NAME.device.toml files in this folder describe
    #[arg(long, value_name = "DIR")]
    pub simulated: Option<PathBuf>,
}

/// Other work with sticks.
#[derive(Debug, Subcommand)]
pub(crate) enum StickAction {
    /// Bring a stick up to date: only what differs is written
    #[command(after_help = "\
Files are compared by digest, which reads the stick; what stays is not written again. The stick is the old one or the new \
one at every moment; what is new needs room beside what it replaces. What was written to the stick before and is no longer \
on the media goes; what somebody else put there stays.

Examples:
  neatstack stick update quay-os-7.iso --to /dev/sdb --dry-run
  neatstack stick update quay-os-7.iso --to /dev/sdb --yes-change 4C530001")]
    Update(StickUpdateArgs),
}

/// `stick update`
#[derive(Debug, Args)]
pub(crate) struct StickUpdateArgs {
    /// An ISO file, a folder or another stick
    pub source: PathBuf,
    /// The device, or the image file, that Neat Stack wrote
    #[arg(long, value_name = "FILE|DEVICE")]
    pub to: PathBuf,
    /// Take away also what somebody else put on the stick
    #[arg(long)]
    pub remove_others: bool,
    /// Change the device if this is its serial number (or its model, where it has none)
    #[arg(long, value_name = "SERIAL", help_heading = "Devices")]
    pub yes_change: Option<String>,
    /// Say what would be written and taken away, and write nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Take files of the same size and time for the same, without reading them
    #[arg(long)]
    pub quick: bool,
    #[command(flatten)]
    pub device: DeviceArgs,
}

/// How a stick is partitioned.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum SchemeName {
    /// GUID partition table, for UEFI and BIOS
    Gpt,
    /// Master boot record, for machines that know nothing else
    Mbr,
}

/// How the files lie on a stick.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum FormName {
    /// FAT32, or a disc where only that starts
    Auto,
    /// A partition table and FAT32
    Fat32,
    /// A disc that also starts as a disk
    Disc,
}

impl FormName {
    pub(crate) const fn form(self) -> StickForm {
        match self {
            Self::Auto => StickForm::Auto,
            Self::Fat32 => StickForm::Fat32,
            Self::Disc => StickForm::Disc,
        }
    }
}

//! Arguments of `master`.

use super::common::{Wanted, parse_hex};
use clap::{Args, ValueEnum};
use std::path::PathBuf;

/// Write a folder as a bootable ISO file
#[derive(Debug, Args)]
#[command(after_help = "\
Boot images are found where media usually keep them; a UEFI image is made from EFI/BOOT/BOOT*.EFI when there is \
none. A folder that `unpack` made keeps its labels, times and boot entries.

Example:
  neatstack master quay/ -o quay.iso --label QUAY_OS_7 --hybrid")]
pub(crate) struct MasterArgs {
    /// The folder
    pub dir: PathBuf,
    /// The ISO file to write
    #[arg(short, long, value_name = "OUT.iso")]
    pub output: PathBuf,
    /// Overwrite the ISO file if it is there
    #[arg(long)]
    pub replace: bool,
    /// Let others read what is written although it holds a password or key
    #[arg(long)]
    pub readable: bool,
    /// The label, at most 32 characters
    #[arg(long, value_name = "TEXT")]
    pub label: Option<String>,
    /// Who publishes it
    #[arg(long, value_name = "TEXT")]
    pub publisher: Option<String>,
    /// What it is for
    #[arg(long, value_name = "TEXT")]
    pub application: Option<String>,
    #[command(flatten)]
    pub boot: BootArgs,
    #[command(flatten)]
    pub trees: TreeArgs,
    /// Compute the SHA-256 of the ISO file while writing it
    #[arg(long)]
    pub digest: bool,
}

/// How the media boots.
#[derive(Debug, Args)]
#[command(next_help_heading = "Booting")]
pub(crate) struct BootArgs {
    /// Boot image for BIOS: a path in the folder, or a file elsewhere
    #[arg(long, value_name = "FILE")]
    pub bios: Option<String>,
    /// Boot image for UEFI (a FAT file system): a path in the folder, or a file elsewhere
    #[arg(long, value_name = "FILE")]
    pub uefi: Option<String>,
    /// Sectors of 512 bytes that BIOS loads
    #[arg(long, value_name = "N")]
    pub load_sectors: Option<u16>,
    /// Segment that BIOS loads the image to, in hexadecimal; 0 is 7C0
    #[arg(long, value_name = "HEX", value_parser = parse_hex)]
    pub load_segment: Option<u16>,
    /// What BIOS presents the image as
    #[arg(long, value_name = "KIND")]
    pub emulation: Option<EmulationKind>,
    /// Write a boot-info table into the copy of the BIOS image on the disc
    #[arg(long)]
    pub boot_info_table: bool,
    /// Make the file start as a disk too, with a GPT
    #[arg(long)]
    pub hybrid: bool,
    /// Code for the first block of such a disk, for BIOS
    #[arg(long, value_name = "FILE")]
    pub boot_code: Option<PathBuf>,
}

/// Which trees of names the media has.
#[derive(Debug, Args)]
#[command(next_help_heading = "Trees of names")]
pub(crate) struct TreeArgs {
    /// Whether there is a UDF tree; `auto` means yes, or as on the media that was unpacked
    #[arg(long, value_name = "WHEN", default_value = "auto")]
    pub udf: Wanted,
    /// Longest names in the Joliet tree, in UTF-16 units; `auto` also leaves it out as on the media that was unpacked
    #[arg(long, value_name = "LIMIT", default_value = "auto")]
    pub joliet: JolietLimit,
    /// Whether the ISO 9660 tree has Rock Ridge names, modes and links; `auto` means no, or as on the media that was
    /// unpacked
    #[arg(long, value_name = "WHEN", default_value = "auto")]
    pub rock_ridge: Wanted,
}

/// Longest names in the Joliet tree.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum JolietLimit {
    /// 64 while all names fit, else 103
    Auto,
    /// As the description says
    #[value(name = "64")]
    Strict,
    /// As readers accept
    #[value(name = "103")]
    Relaxed,
    /// No Joliet tree
    Off,
}

/// What BIOS presents a boot image as.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum EmulationKind {
    /// Loaded as it is
    None,
    /// A diskette of 1.2 MB
    #[value(name = "floppy-1200")]
    Floppy1200,
    /// A diskette of 1.44 MB
    #[value(name = "floppy-1440")]
    Floppy1440,
    /// A diskette of 2.88 MB
    #[value(name = "floppy-2880")]
    Floppy2880,
    /// A hard disk with one partition
    HardDisk,
}

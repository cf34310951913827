//! The command line. Parsed arguments only record; the commands check and touch the disk.

use clap::{Args, Parser, Subcommand, ValueEnum};
use std::path::PathBuf;

/// Service installation images: look at media, change what is on them, write bootable ones
#[derive(Debug, Parser)]
#[command(name = "neatstack", version, max_term_width = 100, disable_help_subcommand = true, after_help = FIRST_STEPS)]
pub(crate) struct Cli {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

const FIRST_STEPS: &str = "\
First steps:
  neatstack demo                     make demo data and run the whole example on it
  neatstack look MEDIA.iso           what is it, how does it boot, what is on it?
  neatstack draft MEDIA.iso > my.stack.toml
  neatstack plan my.stack.toml       what would a build do?
  neatstack build my.stack.toml      do it

Exit codes: 0 done · 1 the work failed · 2 wrong usage · 3 the input is damaged or not what it says ·
4 refused for safety · 130 stopped";

/// Options of every command.
#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Output")]
pub(crate) struct Global {
    /// Print one JSON document on standard output
    #[arg(long, global = true)]
    pub json: bool,
    /// Print nothing but results and errors
    #[arg(long, short, global = true)]
    pub quiet: bool,
    /// Print how long each step took
    #[arg(short, long, global = true)]
    pub verbose: bool,
    /// Use colours
    #[arg(long, value_name = "WHEN", default_value = "auto", global = true)]
    pub color: ColorWhen,
}

/// When colours are used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ColorWhen {
    /// On a terminal
    Auto,
    /// Also in files and pipes
    Always,
    /// Nowhere
    Never,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Look(LookArgs),
    Files(FilesArgs),
    Take(TakeArgs),
    Unpack(UnpackArgs),
    Master(MasterArgs),
    Draft(DraftArgs),
    Plan(PlanArgs),
    Build(BuildArgs),
    Demo(DemoArgs),
}

/// Say what a file or folder is and what a technician wants to know of it
#[derive(Debug, Args)]
#[command(after_help = "Example:\n  neatstack look quay-os-7.iso")]
pub(crate) struct LookArgs {
    /// An ISO file, a folder, a stack file, a ledger or an answer file
    pub path: PathBuf,
    /// Also compute the file's digest, which reads all of it
    #[arg(long, value_name = "KIND")]
    pub digest: Option<Digest>,
}

/// List the files of a media: digest, size, path
#[derive(Debug, Args)]
#[command(after_help = "Example:\n  neatstack files quay-os-7.iso --digest sha256")]
pub(crate) struct FilesArgs {
    /// An ISO file or a folder
    pub path: PathBuf,
    /// Compute each file's digest
    #[arg(long, value_name = "KIND")]
    pub digest: Option<Digest>,
}

/// Copy files out of a media
#[derive(Debug, Args)]
#[command(after_help = "Example:\n  neatstack take quay-os-7.iso sources/products.toml support --to here/")]
pub(crate) struct TakeArgs {
    /// An ISO file or a folder
    pub path: PathBuf,
    /// Files or folders on it, in any case
    #[arg(required = true)]
    pub what: Vec<String>,
    /// The folder they go into
    #[arg(long, value_name = "DIR")]
    pub to: PathBuf,
    /// Overwrite files that are there
    #[arg(long)]
    pub replace: bool,
}

/// Copy a whole media into a folder, with all that is needed to master an equal one
#[derive(Debug, Args)]
#[command(
    after_help = "Labels, times and boot entries are kept in DIR/.neatstack/media.toml.\n\nExample:\n  neatstack unpack quay-os-7.iso quay/"
)]
pub(crate) struct UnpackArgs {
    /// An ISO file or a folder
    pub media: PathBuf,
    /// A folder that does not exist or is empty
    pub dir: PathBuf,
}

/// Write a folder as a bootable ISO file
#[derive(Debug, Args)]
#[command(after_help = "\
Boot images are found where media usually keep them; a UEFI image is made from EFI/BOOT/BOOT*.EFI when there is
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

/// Whether something is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Wanted {
    /// As usual, or as on the media that was unpacked
    Auto,
    /// Yes
    On,
    /// No
    Off,
}

impl Wanted {
    /// The answer, with what `auto` stands for.
    pub(crate) const fn or(self, auto: bool) -> bool {
        match self {
            Self::Auto => auto,
            Self::On => true,
            Self::Off => false,
        }
    }
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

/// Which digest.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Digest {
    /// SHA-1
    Sha1,
    /// SHA-256
    Sha256,
}

/// Print a commented stack file for a media
#[derive(Debug, Args)]
#[command(after_help = "Example:\n  neatstack draft quay-os-7.iso > bridge.stack.toml")]
pub(crate) struct DraftArgs {
    /// An ISO file or a folder
    pub media: PathBuf,
}

/// Show what a stack file would do, without writing anything
#[derive(Debug, Args)]
#[command(after_help = "Example:\n  neatstack plan bridge.stack.toml")]
pub(crate) struct PlanArgs {
    /// The stack file
    pub stack: PathBuf,
}

/// Do what a stack file says
#[derive(Debug, Args)]
#[command(
    after_help = "A ledger with everything that was done is written beside the ISO file.\n\nExample:\n  neatstack build bridge.stack.toml"
)]
pub(crate) struct BuildArgs {
    /// The stack file
    pub stack: PathBuf,
    /// Work everything out and write nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Overwrite an output that no earlier build left
    #[arg(long)]
    pub replace: bool,
    /// Compute the SHA-256 of the ISO file while writing it, for the ledger
    #[arg(long)]
    pub digest: bool,
}

/// Make the demo data and run the whole example on it
#[derive(Debug, Args)]
#[command(after_help = "Example:\n  neatstack demo ferries/")]
pub(crate) struct DemoArgs {
    /// The folder to make it in
    #[arg(default_value = "neatstack-demo")]
    pub dir: PathBuf,
}

fn parse_hex(text: &str) -> Result<u16, String> {
    let digits = text.trim_start_matches("0x").trim_start_matches("0X");
    u16::from_str_radix(digits, 16).map_err(|_| "a hexadecimal number up to FFFF is wanted".into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn the_definition_is_sound() {
        Cli::command().debug_assert();
    }

    #[test]
    fn command_lines_that_must_parse_and_that_must_not() {
        let parses = |line: &str| Cli::try_parse_from(line.split(' ')).is_ok();
        for line in [
            "neatstack look a.iso",
            "neatstack --json look a.iso --digest sha256",
            "neatstack files a.iso --digest sha1 --json",
            "neatstack take a.iso x y --to d",
            "neatstack unpack a.iso d",
            "neatstack master d -o a.iso --label X --bios b --uefi u --load-sectors 8 --load-segment 0x7c0 --emulation hard-disk --boot-info-table --hybrid",
            "neatstack master d -o a.iso --udf off --joliet 103 --rock-ridge on",
            "neatstack build s.toml --dry-run -q",
            "neatstack demo",
        ] {
            assert!(parses(line), "{line}");
        }
        for line in [
            "neatstack",
            "neatstack look",
            "neatstack take a.iso --to d",
            "neatstack take a.iso x",
            "neatstack master d",
            "neatstack master d -o a.iso --load-segment zz",
            "neatstack build s.toml --color blue",
        ] {
            assert!(!parses(line), "{line}");
        }
    }
}

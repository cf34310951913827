//! The command line. Parsed arguments only record; the commands check and touch the disk.

mod answer;
mod media;
mod service;
mod stick;
mod trial;

pub(crate) use answer::{
    AnswerAction, AnswerArgs, CheckArgs, InsertArgs, IntoArgs, MoveArgs, NewArgs, OutputArgs, ReadArgs,
    RemoveArgs, WriteArgs,
};
pub(crate) use media::{DepotAction, DepotArgs, DepotKind, DepotWhere, TouchupAction, TouchupArgs};
pub(crate) use service::{
    CompareArgs, DriversArgs, InventoryArgs, SchemaArgs, SchemaForm, UpdateAction, UpdateArgs, UpdateNewArgs,
};
pub(crate) use stick::{DeviceArgs, FormName, SchemeName, StickAction, StickArgs, StickUpdateArgs};
pub(crate) use trial::{AttachedName, FirmwareName, TrialArgs};

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

Exit codes: 0 done · 1 the work failed · 2 wrong usage · 3 the input is damaged or not what it says · \
4 refused for safety · 70 a fault of the program · 130 stopped";

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
    /// Threads that compress and check; 0 stands for as many as there are cores
    #[arg(long, value_name = "N", default_value_t = 0, global = true, help_heading = "Work")]
    pub threads: usize,
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
    Check(CheckAllArgs),
    Files(FilesArgs),
    Take(TakeArgs),
    Unpack(UnpackArgs),
    Master(MasterArgs),
    Editions(EditionsArgs),
    Capture(CaptureArgs),
    Repack(RepackArgs),
    Split(SplitArgs),
    Join(JoinArgs),
    Inventory(InventoryArgs),
    Drivers(DriversArgs),
    Update(UpdateArgs),
    Compare(CompareArgs),
    Answer(AnswerArgs),
    Touchup(TouchupArgs),
    Stick(StickArgs),
    Trial(TrialArgs),
    Depot(DepotArgs),
    Draft(DraftArgs),
    Plan(PlanArgs),
    Build(BuildArgs),
    Schema(SchemaArgs),
    Demo(DemoArgs),
}

/// Read everything of a media, stick or image file, digests included, and say what is damaged and which files that hits
#[derive(Debug, Args)]
#[command(
    after_help = "Exit code 3 when something is damaged.\n\nExamples:\n  neatstack check quay-os-7.iso\n  neatstack check out/bridge.iso --ledger out/bridge.ledger.json"
)]
pub(crate) struct CheckAllArgs {
    /// An ISO file, a stick or its image, a folder, or an image file with all its parts
    pub path: PathBuf,
    /// Also say whether it is still what this build wrote
    #[arg(long, value_name = "LEDGER")]
    pub ledger: Option<PathBuf>,
}

/// Say what a file or folder is and what a technician wants to know of it
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  neatstack look quay-os-7.iso\n  neatstack look quay-os-7.iso --known digests.txt\n  neatstack look quay-os-7.iso --boot"
)]
pub(crate) struct LookArgs {
    /// An ISO file, a stick or its image, a folder, an image file, a registry hive or text, drivers, an update, a stack file, a ledger or an
    /// answer file
    pub path: PathBuf,
    /// Also compute the file's digest, which reads all of it; an image file is also checked against its integrity table
    #[arg(long, value_name = "KIND")]
    pub digest: Option<Digest>,
    /// A list of digests as vendors publish them: say whether the file is one of those, untouched. Exit code 1 if not
    #[arg(long, value_name = "digests.txt")]
    pub known: Option<PathBuf>,
    /// Go through it as firmware would, by reading alone: what would be found, what is missing, what only a start can tell
    #[arg(long, conflicts_with_all = ["digest", "known"])]
    pub boot: bool,
}

/// Which edition of an image file is meant.
#[derive(Debug, Args)]
#[command(next_help_heading = "Inside an image file")]
pub(crate) struct InsideArgs {
    /// The edition, by name or number
    #[arg(long, value_name = "EDITION")]
    pub edition: Option<String>,
    /// Which image file of the media, by its path there; without it the one with the systems to install
    #[arg(long, value_name = "PATH", requires = "edition")]
    pub image: Option<String>,
}

/// List the files of a media or of an edition: digest, size, path
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  neatstack files quay-os-7.iso --digest sha256\n  neatstack files quay-os-7.iso --edition \"Quay OS 7 Bridge\""
)]
pub(crate) struct FilesArgs {
    /// An ISO file, a folder or an image file
    pub path: PathBuf,
    #[command(flatten)]
    pub inside: InsideArgs,
    /// Compute each file's digest
    #[arg(long, value_name = "KIND")]
    pub digest: Option<Digest>,
}

/// Copy files out of a media or an edition
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  neatstack take quay-os-7.iso readme.txt support --to here/\n  neatstack take install.wim Quay/Config --edition 2 --to here/"
)]
pub(crate) struct TakeArgs {
    /// An ISO file, a folder or an image file
    pub path: PathBuf,
    #[command(flatten)]
    pub inside: InsideArgs,
    /// Files or folders on it, in any case
    #[arg(required = true)]
    pub what: Vec<String>,
    /// The folder they go into
    #[arg(long, value_name = "DIR")]
    pub to: PathBuf,
    /// Overwrite files that are there
    #[arg(long)]
    pub replace: bool,
    /// Let others read what is written although it holds a password or key
    #[arg(long)]
    pub readable: bool,
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
    /// Let others read what is written although it holds a password or key
    #[arg(long)]
    pub readable: bool,
}

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

/// Say which editions an image file holds, or write one with other editions
#[derive(Debug, Args)]
#[command(
    args_conflicts_with_subcommands = false,
    after_help = "\
The image file itself is never changed; a new one is written. What stays is copied as it is, not compressed anew. \
Editions are given by name or number.

Examples:
  neatstack editions install.wim
  neatstack editions install.wim keep 2 -o bridge.wim
  neatstack editions install.wim rename 2 --name \"Bridge console\" -o renamed.wim
  neatstack editions install.wim combine other.wim -o both.wim"
)]
pub(crate) struct EditionsArgs {
    /// An image file or any one part of a split one; for the list also a media
    pub path: PathBuf,
    #[command(subcommand)]
    pub action: Option<EditionsAction>,
}

/// What becomes of the editions.
#[derive(Debug, Subcommand)]
pub(crate) enum EditionsAction {
    /// Keep only these
    Keep {
        /// Editions, by name or number
        #[arg(required = true)]
        which: Vec<String>,
        #[command(flatten)]
        output: ImageOutput,
    },
    /// Leave these out
    Drop {
        /// Editions, by name or number
        #[arg(required = true)]
        which: Vec<String>,
        #[command(flatten)]
        output: ImageOutput,
    },
    /// Put these first, in this order; the others follow
    Order {
        /// Editions, by name or number
        #[arg(required = true)]
        which: Vec<String>,
        #[command(flatten)]
        output: ImageOutput,
    },
    /// Give one other names
    Rename {
        /// The edition, by name or number
        which: String,
        /// Its name, unique in the file
        #[arg(long, value_name = "TEXT")]
        name: Option<String>,
        /// Its description
        #[arg(long, value_name = "TEXT")]
        description: Option<String>,
        /// The name that setup shows
        #[arg(long, value_name = "TEXT")]
        display_name: Option<String>,
        /// The description that setup shows
        #[arg(long, value_name = "TEXT")]
        display_description: Option<String>,
        /// The word that setup knows it by
        #[arg(long, value_name = "WORD")]
        flags: Option<String>,
        #[command(flatten)]
        output: ImageOutput,
    },
    /// Add the editions of other image files; what they share is stored once
    Combine {
        /// Other image files
        #[arg(required = true)]
        others: Vec<PathBuf>,
        #[command(flatten)]
        output: ImageOutput,
    },
    /// Mark the one that boots
    Boot {
        /// The edition, by name or number; `none` for none
        which: String,
        #[command(flatten)]
        output: ImageOutput,
    },
}

/// An image file to write.
#[derive(Debug, Args)]
pub(crate) struct ImageOutput {
    /// The image file to write
    #[arg(short, long, value_name = "OUT.wim")]
    pub output: PathBuf,
    /// Overwrite it if it is there
    #[arg(long)]
    pub replace: bool,
    /// Unpack and digest what is copied as it is before anything is written; `check` does so without writing
    #[arg(long)]
    pub verify: bool,
}

/// How an image file is compressed.
#[derive(Debug, Args)]
#[command(next_help_heading = "Compression")]
pub(crate) struct CompressionArgs {
    /// How hard to try
    #[arg(long, value_name = "LEVEL", default_value = "fast")]
    pub level: LevelName,
    /// The method; without it the one that the file has, else lzx
    #[arg(long, value_name = "METHOD")]
    pub method: Option<MethodName>,
    /// Bytes compressed on their own, such as 32KiB; larger is smaller and slower to read
    #[arg(long, value_name = "SIZE", value_parser = parse_size)]
    pub chunk: Option<u64>,
}

/// How hard to try.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum LevelName {
    /// Store as it is
    None,
    /// Quickly
    Fast,
    /// As small as possible
    Max,
}

/// A method of compression.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum MethodName {
    /// Quick to read
    Xpress,
    /// Smaller
    Lzx,
}

/// Write a folder as an image file with one edition
#[derive(Debug, Args)]
#[command(
    after_help = "Times, attributes, symbolic and hard links are kept. To put the edition beside others: `editions combine`.\n\nExample:\n  neatstack capture system/ -o system.wim --name \"Ticket kiosk\" --exclude '*.tmp'"
)]
pub(crate) struct CaptureArgs {
    /// The folder
    pub dir: PathBuf,
    #[command(flatten)]
    pub output: ImageOutput,
    /// Name of the edition
    #[arg(long, value_name = "TEXT")]
    pub name: String,
    /// Its description
    #[arg(long, value_name = "TEXT", default_value = "")]
    pub description: String,
    /// Names to leave out, or with a `/` paths from the folder; `*` and `?` stand for anything
    #[arg(long, value_name = "PATTERN")]
    pub exclude: Vec<String>,
    /// Leave out names that the target systems cannot hold, instead of refusing
    #[arg(long)]
    pub skip_bad_names: bool,
    #[command(flatten)]
    pub compression: CompressionArgs,
}

/// Write an image file anew with another compression
#[derive(Debug, Args)]
#[command(
    after_help = "A solid image file becomes an ordinary one.\n\nExample:\n  neatstack repack install.esd --level max -o install.wim"
)]
pub(crate) struct RepackArgs {
    /// An image file, or any one part of a split one
    pub path: PathBuf,
    #[command(flatten)]
    pub output: ImageOutput,
    #[command(flatten)]
    pub compression: CompressionArgs,
    /// Whether there is an integrity table; `auto` means as in the source
    #[arg(long, value_name = "WHEN", default_value = "auto")]
    pub integrity: Wanted,
}

/// Split an image file into parts that file systems with small files hold
#[derive(Debug, Args)]
#[command(
    after_help = "The parts are called OUT.swm, OUT2.swm and so on.\n\nExample:\n  neatstack split install.wim --limit 3800MiB -o sources/install.swm"
)]
pub(crate) struct SplitArgs {
    /// The image file
    pub path: PathBuf,
    /// Largest part; the default fits FAT32
    #[arg(long, value_name = "SIZE", value_parser = parse_size, default_value = "3800MiB")]
    pub limit: u64,
    /// The first part to write
    #[arg(short, long, value_name = "OUT.swm")]
    pub output: PathBuf,
    /// Overwrite parts that are there
    #[arg(long)]
    pub replace: bool,
    /// Unpack and digest what is copied before anything is written
    #[arg(long)]
    pub verify: bool,
}

/// Join the parts of a split image file
#[derive(Debug, Args)]
#[command(after_help = "Example:\n  neatstack join install.swm install2.swm -o install.wim")]
pub(crate) struct JoinArgs {
    /// The parts, in any order; one alone stands for all that lie beside it
    #[arg(required = true)]
    pub parts: Vec<PathBuf>,
    #[command(flatten)]
    pub output: ImageOutput,
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
    /// Fetch what is taken from a depot, so that all of the plan can be shown
    #[arg(long)]
    pub fetch: bool,
    #[command(flatten)]
    pub depot: DepotWhere,
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
    /// Let others read what is written although it holds a password or key
    #[arg(long)]
    pub readable: bool,
    /// Unpack and digest what is copied out of image files before anything is written
    #[arg(long)]
    pub verify: bool,
    /// With a site list, only this machine; may be given several times
    #[arg(long, value_name = "MACHINE")]
    pub only: Vec<String>,
    /// Compute the SHA-256 of what is written, for the ledger; builds with a stick or a trial do so anyway
    #[arg(long)]
    pub digest: bool,
    /// Do not, which is quicker on machines without instructions for it
    #[arg(long, conflicts_with = "digest")]
    pub no_digest: bool,
    #[command(flatten)]
    pub depot: DepotWhere,
}

/// Make the demo data and run the whole example on it
#[derive(Debug, Args)]
#[command(after_help = "Example:\n  neatstack demo ferries/")]
pub(crate) struct DemoArgs {
    /// The folder to make it in
    #[arg(default_value = "neatstack-demo")]
    pub dir: PathBuf,
    /// How much the made-up systems hold
    #[arg(long, value_name = "SIZE", default_value = "small")]
    pub size: DemoSize,
}

/// How much the made-up systems hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum DemoSize {
    /// A few MB
    Small,
    /// A few hundred MB
    Full,
}

/// A number of bytes, with a unit if any: `32KiB`, `3800MiB`, `4GB`.
fn parse_size(text: &str) -> Result<u64, String> {
    let digits = text.trim_end_matches(|c: char| !c.is_ascii_digit());
    let unit: u64 = match text[digits.len()..].trim().to_ascii_lowercase().as_str() {
        "" | "b" => 1,
        "k" | "kib" => 1 << 10,
        "m" | "mib" => 1 << 20,
        "g" | "gib" => 1 << 30,
        "kb" => 1000,
        "mb" => 1_000_000,
        "gb" => 1_000_000_000,
        _ => return Err("a size such as 32KiB, 3800MiB or 4GB is wanted".into()),
    };
    let number: u64 = digits.trim().parse().map_err(|_| "a size begins with a whole number")?;
    number.checked_mul(unit).ok_or_else(|| "that is more bytes than there can be".into())
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

    /// The terminal's width decides where a paragraph breaks.
    #[test]
    fn paragraphs_of_help_are_one_line_each() {
        fn check(command: &clap::Command) {
            let help = command.get_after_help().map(ToString::to_string).unwrap_or_default();
            for paragraph in help.split("\n\n") {
                let mut lines = paragraph.lines();
                let title = lines.next().is_some_and(|first| first.ends_with(':'));
                assert!(
                    lines.all(|line| title && line.starts_with("  ")),
                    "{}: {paragraph}",
                    command.get_name()
                );
            }
            command.get_subcommands().for_each(check);
        }
        check(&Cli::command());
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
            "neatstack editions a.wim",
            "neatstack editions a.wim keep 1 2 -o b.wim",
            "neatstack editions a.wim rename 1 --name x -o b.wim --replace",
            "neatstack repack a.wim -o b.wim --level max --method lzx --chunk 32KiB --threads 2",
            "neatstack split a.wim --limit 3800MiB -o a.swm",
            "neatstack files a.iso --edition 1 --image sources/boot.wim",
            "neatstack capture d -o a.wim --name x --exclude *.tmp",
            "neatstack answer new --language da-DK -o a.answer.toml",
            "neatstack answer read a.xml --json",
            "neatstack answer write a.answer.toml --dialect preseed --sites m.csv -o out",
            "neatstack answer insert a.xml --stage first-sign-in --command x --at 2 --hidden",
            "neatstack answer move a.xml --stage setup-start --from 1 --to 2",
            "neatstack answer remove a.xml --stage setup-start --number 1",
            "neatstack answer check a.xml --media a.iso",
            "neatstack build s.toml --only LAB-01 --only LAB-02",
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
            "neatstack editions a.wim keep -o b.wim",
            "neatstack editions a.wim keep 1",
            "neatstack repack a.wim -o b.wim --chunk 32KiX",
            "neatstack files a.iso --image sources/boot.wim",
            "neatstack answer",
            "neatstack answer write a.answer.toml --dialect xml",
            "neatstack answer write a.answer.toml --dialect preseed --sites m.csv",
            "neatstack answer insert a.xml --stage later --command x",
        ] {
            assert!(!parses(line), "{line}");
        }
    }
}

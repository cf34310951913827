//! Arguments that several commands have.

use clap::{Args, ValueEnum};
use std::path::PathBuf;

/// Which edition of an image file, or which partition of a machine's disk, is meant.
#[derive(Debug, Args)]
#[command(next_help_heading = "Inside an image file")]
pub(crate) struct InsideArgs {
    /// The edition, by name or number
    #[arg(long, value_name = "EDITION")]
    pub edition: Option<String>,
    /// Which image file of the media, by its path there; without it the one with the systems to install
    #[arg(long, value_name = "PATH", requires = "edition")]
    pub image: Option<String>,
    /// The partition of a machine's disk, by the number that `look` shows; without it the one with a system
    #[arg(long, value_name = "NUMBER", conflicts_with_all = ["edition", "image"], help_heading = "On a machine's disk")]
    pub partition: Option<u32>,
}

/// Which digest.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Digest {
    /// SHA-1
    Sha1,
    /// SHA-256
    Sha256,
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
    /// How hard to try; without it fast, and good for solid resources
    #[arg(long, value_name = "LEVEL")]
    pub level: Option<LevelName>,
    /// The method; without it the one that the file has, else lzx
    #[arg(long, value_name = "METHOD", conflicts_with = "solid")]
    pub method: Option<MethodName>,
    /// Bytes compressed on their own, such as 32KiB; larger is smaller and slower to read
    #[arg(long, value_name = "SIZE", value_parser = parse_size)]
    pub chunk: Option<u64>,
    #[command(flatten)]
    pub solid: SolidArgs,
}

/// Whether content is put into solid resources.
#[derive(Debug, Args)]
#[command(next_help_heading = "Compression")]
pub(crate) struct SolidArgs {
    /// Put all content into solid resources with LZMS: smallest, slow to write and to change. Not confirmed yet by
    /// another maker's reader; try it with yours before you rely on it
    #[arg(long)]
    pub solid: bool,
    /// Memory that writing solid resources may take; it decides how many threads work on chunks of 64 MiB, of which each
    /// takes about 725 MiB [default: 2GiB]
    #[arg(long, value_name = "SIZE", value_parser = parse_size, requires = "solid")]
    pub memory: Option<u64>,
}

/// How hard to try.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum LevelName {
    /// Store as it is
    None,
    /// Quickly
    Fast,
    /// Nearly as small as can be
    Good,
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

/// Which depot.
#[derive(Debug, Args)]
#[command(next_help_heading = "The depot")]
pub(crate) struct DepotWhere {
    /// An http:// address or a folder; without it $NEATSTACK_DEPOT, the configured one, or the loopback address
    #[arg(long = "depot", value_name = "WHERE")]
    pub location: Option<String>,
    /// Seconds that an answer may take, and each connection before it is begun anew
    #[arg(long, value_name = "SECONDS", default_value_t = 30, value_parser = clap::value_parser!(u64).range(1..=86_400))]
    pub patience: u64,
}

/// A number of bytes, with a unit if any: `32KiB`, `3800MiB`, `4GB`.
pub(super) fn parse_size(text: &str) -> Result<u64, String> {
    neat_content::parse_size(text).map_err(|error| format!("{}: {}", error, error.hint()))
}

pub(super) fn parse_hex(text: &str) -> Result<u16, String> {
    let digits = text.trim_start_matches("0x").trim_start_matches("0X");
    u16::from_str_radix(digits, 16).map_err(|_| "a hexadecimal number up to FFFF is wanted".into())
}

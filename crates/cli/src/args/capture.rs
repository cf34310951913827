//! Arguments of `capture`.

use super::common::{CompressionArgs, ImageOutput};
use clap::Args;
use std::path::PathBuf;

/// Write a folder, or the system on a machine's disk, as an edition of an image file
#[derive(Debug, Args)]
#[command(
    after_help = "Times, attributes, symbolic and hard links are kept. Architecture, version, languages and the edition's word are taken from the system's own registry, where there is one. Of a disk also short names, named streams, security descriptors and reparse points are; memory put aside or saved, what the file system keeps for itself and what was thrown away stay out.\n\nExamples:\n  neatstack capture system/ -o system.wim --name \"Ticket kiosk\" --leave-out '*.tmp'\n  neatstack capture reference.vmdk -o system.wim --name \"Bridge console\" --anyway\n  neatstack capture /dev/sdb -o both.wim --update system.wim --name \"Engine room\""
)]
pub(crate) struct CaptureArgs {
    /// The folder, or a machine's disk or its image
    pub dir: PathBuf,
    #[command(flatten)]
    pub output: ImageOutput,
    /// Name of the edition
    #[arg(long, value_name = "TEXT")]
    pub name: String,
    /// Its description
    #[arg(long, value_name = "TEXT", default_value = "")]
    pub description: String,
    /// Describe the system as an edition of this media or image file does; without it as its own registry does
    #[arg(long, value_name = "MEDIA")]
    pub like: Option<PathBuf>,
    /// The edition of that media, by name or number; without it the first
    #[arg(long, value_name = "EDITION", requires = "like")]
    pub like_edition: Option<String>,
    /// Names to leave out, or with a `/` paths from the folder or the root of the partition; `*` and `?` stand for
    /// anything
    #[arg(long, value_name = "PATTERN", alias = "exclude")]
    pub leave_out: Vec<String>,
    /// Put the edition behind those of this image file, which stays as it is; content that both have is stored once
    #[arg(long, value_name = "OLD.wim")]
    pub update: Option<PathBuf>,
    /// The partition of the disk, by the number that `look` shows; without it the one with a system
    #[arg(long, value_name = "NUMBER", help_heading = "On a machine's disk")]
    pub partition: Option<u32>,
    /// Go on although the system was not made ready for other machines, sleeps, has an unfinished update, or files of the
    /// disk are damaged; those stay out and are named
    #[arg(long, help_heading = "On a machine's disk")]
    pub anyway: bool,
    /// Leave out names that the target systems cannot hold, instead of refusing
    #[arg(long)]
    pub skip_bad_names: bool,
    #[command(flatten)]
    pub compression: CompressionArgs,
}

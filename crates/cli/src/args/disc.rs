//! Arguments of `disc`.

use clap::{Args, Subcommand};
use std::path::PathBuf;

/// Write an ISO file to a disc, and read it back
#[derive(Debug, Args)]
#[command(
    args_conflicts_with_subcommands = true,
    subcommand_negates_reqs = true,
    after_help = "\
The writer is told what to do by the commands of the published MMC standard, through the kernel. A disc that can be written \
again is erased first, quickly; one that is written once must be empty. The whole of the disc is written and closed, so that \
every drive reads it, then read back and compared, and put out.

A disc is written only when the writer's serial number is given, or typed on a terminal; never one that is mounted. \
--simulated rehearses all of it with a writer that a file describes.

Examples:
  neatstack disc --list
  neatstack disc quay-os-7.iso --to /dev/sr0 --yes-write LW12-0001
  neatstack disc quay-os-7.iso --to /dev/sr0 --yes-erase LW12-0001 --speed 4
  neatstack disc erase --to /dev/sr0 --yes-erase LW12-0001
  neatstack disc quay-os-7.iso --simulated writers/lantern.writer.toml --yes-write LW12-0001"
)]
pub(crate) struct DiscArgs {
    /// An ISO file
    #[arg(required_unless_present = "list")]
    pub source: Option<PathBuf>,
    #[command(subcommand)]
    pub action: Option<DiscAction>,
    /// Show the writers of this machine, and what lies in them
    #[arg(long, conflicts_with_all = ["source", "to"])]
    pub list: bool,
    #[command(flatten)]
    pub writer: WriterArgs,
    /// How fast, in times of the slowest speed of the disc's kind; without it as fast as the writer likes
    #[arg(long, value_name = "TIMES")]
    pub speed: Option<f64>,
    /// Do not read back what was written
    #[arg(long)]
    pub no_verify: bool,
    /// Leave the disc in the writer
    #[arg(long)]
    pub no_eject: bool,
    /// Write the empty disc in the writer with this serial number (or model, where it has none)
    #[arg(long, value_name = "SERIAL")]
    pub yes_write: Option<String>,
    /// The same, and erase what is on its disc
    #[arg(long, value_name = "SERIAL")]
    pub yes_erase: Option<String>,
}

/// Which writer.
#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Writer")]
pub(crate) struct WriterArgs {
    /// The writer, such as /dev/sr0
    #[arg(long, value_name = "DEVICE", conflicts_with = "simulated")]
    pub to: Option<PathBuf>,
    /// Rehearse: the writer, and the disc in it, that this file describes
    #[arg(long, value_name = "FILE")]
    pub simulated: Option<PathBuf>,
}

/// Other work with discs.
#[derive(Debug, Subcommand)]
pub(crate) enum DiscAction {
    /// Erase a disc that can be written again
    #[command(after_help = "\
What says what is on it is erased, which takes a minute; with --whole everything, which may take an hour. Discs that are \
overwritten as they are (DVD+RW, DVD-RAM, BD-RE) are formatted.

Examples:
  neatstack disc erase --to /dev/sr0 --yes-erase LW12-0001
  neatstack disc erase --to /dev/sr0 --yes-erase LW12-0001 --whole")]
    Erase(DiscEraseArgs),
}

/// `disc erase`
#[derive(Debug, Args)]
pub(crate) struct DiscEraseArgs {
    #[command(flatten)]
    pub writer: WriterArgs,
    /// Everything, not only what says what is on it
    #[arg(long)]
    pub whole: bool,
    /// Erase the disc in the writer with this serial number (or model, where it has none)
    #[arg(long, value_name = "SERIAL")]
    pub yes_erase: Option<String>,
}

//! Arguments of `touchup`.

use clap::{Args, Subcommand};
use std::path::PathBuf;

/// Change a finished ISO file in place, and take it back
#[derive(Debug, Args)]
#[command(after_help = "\
The same change is made in every tree that the disc has (ISO 9660, Rock Ridge, Joliet, UDF). Boot entries, boot-info \
tables and partition tables are kept right. Only new bytes and a few sectors are written; what was there before is kept \
inside the file, so that `undo` gives it back byte for byte. A run that is cut off leaves the old disc or the new one.

Examples:
  neatstack touchup quay.iso put autounattend.xml
  neatstack touchup quay.iso put my.cfg=sources/product.cfg tools/=support/tools
  neatstack touchup quay.iso hide support/notes.txt
  neatstack touchup quay.iso list
  neatstack touchup quay.iso undo")]
pub(crate) struct TouchupArgs {
    /// The ISO file, from whatever program
    pub iso: PathBuf,
    #[command(subcommand)]
    pub action: TouchupAction,
    /// Leave the ISO file as it is and change a copy of it
    #[arg(long, value_name = "OUT.iso", global = true, help_heading = "Output")]
    pub copy_to: Option<PathBuf>,
    /// Say what would be done, and write nothing
    #[arg(long, global = true, conflicts_with = "copy_to", help_heading = "Output")]
    pub dry_run: bool,
    /// Overwrite the copy if it is there
    #[arg(long, global = true, requires = "copy_to", help_heading = "Output")]
    pub replace: bool,
    /// Let others read the copy although it holds a password or key
    #[arg(long, global = true, requires = "copy_to", help_heading = "Output")]
    pub readable: bool,
    /// Print the SHA-256 of the file afterwards, which reads all of it
    #[arg(long, global = true, help_heading = "Output")]
    pub digest: bool,
}

/// What to do with the ISO file.
#[derive(Debug, Subcommand)]
pub(crate) enum TouchupAction {
    /// Put files in: new ones, or other bytes for those that are there
    #[command(after_help = "\
A name that is on the disc in another case is that file. Folders on the way are made.

Example:
  neatstack touchup quay.iso put autounattend.xml my.cfg=sources/product.cfg")]
    Put {
        /// A file or folder, and its path on the disc; without one its own name in the root
        #[arg(required = true, value_name = "FILE[=PATH]")]
        files: Vec<String>,
    },
    /// Take files or folders out of the directories; their bytes stay
    #[command(after_help = "Example:\n  neatstack touchup quay.iso hide support/notes.txt")]
    Hide {
        /// Paths on the disc, in any case
        #[arg(required = true, value_name = "PATH")]
        paths: Vec<String>,
    },
    /// Bring back what `hide` took out
    #[command(after_help = "Example:\n  neatstack touchup quay.iso show support/notes.txt")]
    Show {
        /// Paths on the disc, in any case
        #[arg(required = true, value_name = "PATH")]
        paths: Vec<String>,
    },
    /// Take back the latest touch-up, byte for byte
    #[command(after_help = "Example:\n  neatstack touchup quay.iso undo --all")]
    Undo {
        /// How many
        #[arg(value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u16).range(1..))]
        count: u16,
        /// All of them
        #[arg(long, conflicts_with = "count")]
        all: bool,
    },
    /// List what was done to the disc and what is hidden on it
    #[command(after_help = "Example:\n  neatstack touchup quay.iso list")]
    List,
}

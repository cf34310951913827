//! Arguments of `editions`.

use super::common::{ImageOutput, SolidArgs};
use clap::{Args, Subcommand};
use std::path::PathBuf;

/// Say which editions an image file holds, or write one with other editions
#[derive(Debug, Args)]
#[command(
    args_conflicts_with_subcommands = false,
    after_help = "\
The image file itself is never changed; a new one is written. What stays is copied as it is, not compressed anew; \
solid resources are copied whole, also where an edition that is dropped had content in them, unless --solid writes such \
ones anew. Editions are given by name or number.

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

/// The image file to write, and in which form.
#[derive(Debug, Args)]
pub(crate) struct EditionsOutput {
    #[command(flatten)]
    pub file: ImageOutput,
    #[command(flatten)]
    pub solid: SolidArgs,
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
        output: EditionsOutput,
    },
    /// Leave these out
    Drop {
        /// Editions, by name or number
        #[arg(required = true)]
        which: Vec<String>,
        #[command(flatten)]
        output: EditionsOutput,
    },
    /// Put these first, in this order; the others follow
    Order {
        /// Editions, by name or number
        #[arg(required = true)]
        which: Vec<String>,
        #[command(flatten)]
        output: EditionsOutput,
    },
    /// Give one other names
    Rename {
        /// The edition, by name or number
        which: String,
        /// Its name, unique in the file; also the one that setup shows, unless that is given
        #[arg(long, value_name = "TEXT")]
        name: Option<String>,
        /// Its description; also the one that setup shows, unless that is given
        #[arg(long, value_name = "TEXT")]
        description: Option<String>,
        /// The name that setup shows
        #[arg(long, value_name = "TEXT")]
        display_name: Option<String>,
        /// The description that setup shows
        #[arg(long, value_name = "TEXT")]
        display_description: Option<String>,
        /// The word that setup knows it by
        #[arg(long, value_name = "WORD", alias = "flags")]
        edition_id: Option<String>,
        #[command(flatten)]
        output: EditionsOutput,
    },
    /// Add the editions of other image files; what they share is stored once
    Combine {
        /// Other image files
        #[arg(required = true)]
        others: Vec<PathBuf>,
        #[command(flatten)]
        output: EditionsOutput,
    },
    /// Mark the one that boots
    Boot {
        /// The edition, by name or number; `none` for none
        which: String,
        #[command(flatten)]
        output: EditionsOutput,
    },
}

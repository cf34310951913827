//! Arguments of `join`.

use super::common::ImageOutput;
use clap::Args;
use std::path::PathBuf;

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

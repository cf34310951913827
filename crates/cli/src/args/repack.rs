//! Arguments of `repack`.

use super::common::{CompressionArgs, ImageOutput, Wanted};
use clap::Args;
use std::path::PathBuf;

/// Write an image file anew with another compression
#[derive(Debug, Args)]
#[command(
    after_help = "Without --solid, a solid image file becomes an ordinary one.\n\nExamples:\n  neatstack repack install.esd --level good -o install.wim\n  neatstack repack install.wim --solid -o install.esd"
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

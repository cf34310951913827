//! Arguments of `draft`.

use clap::Args;
use std::path::PathBuf;

/// Print a commented stack file for a media
#[derive(Debug, Args)]
#[command(after_help = "Example:\n  neatstack draft quay-os-7.iso > bridge.stack.toml")]
pub(crate) struct DraftArgs {
    /// An ISO file or a folder
    pub media: PathBuf,
}

//! Arguments of `unpack`.

use clap::Args;
use std::path::PathBuf;

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

//! Arguments of `check`.

use clap::Args;
use std::path::PathBuf;

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

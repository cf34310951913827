//! Arguments of `draft`.

use clap::Args;
use std::path::PathBuf;

/// Print or write a commented stack file for a media
#[derive(Debug, Args)]
#[command(
    after_help = "Paths in a file that is written are right wherever it lies; what is printed is to lie in this folder.\n\nExamples:\n  neatstack draft quay-os-7.iso -o bridge.stack.toml\n  neatstack draft quay-os-7.iso > bridge.stack.toml"
)]
pub(crate) struct DraftArgs {
    /// An ISO file or a folder
    pub media: PathBuf,
    /// The stack file to write; without it the text is printed
    #[arg(short, long, value_name = "FILE.stack.toml")]
    pub output: Option<PathBuf>,
    /// Overwrite it if it is there
    #[arg(long, requires = "output")]
    pub replace: bool,
}

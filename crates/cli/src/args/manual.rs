//! Arguments of `manual`.

use clap::Args;
use std::path::PathBuf;

/// Write the manual pages and the completions for shells into a folder of shared data
#[derive(Debug, Args)]
#[command(after_help = "\
What packages install below /usr/share. Completions know commands and options, and editions and components from the media \
that was named before.

Example:
  neatstack manual ~/.local/share")]
pub(crate) struct ManualArgs {
    /// The folder: pages go into man/man1, completions where bash, zsh and fish look for them
    pub dir: PathBuf,
    /// Overwrite what is there
    #[arg(long)]
    pub replace: bool,
}

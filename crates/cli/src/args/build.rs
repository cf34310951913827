//! Arguments of `build`.

use super::common::DepotWhere;
use clap::Args;
use std::path::PathBuf;

/// Do what a stack file says
#[derive(Debug, Args)]
#[command(
    after_help = "A ledger with everything that was done is written beside the ISO file.\n\nExample:\n  neatstack build bridge.stack.toml"
)]
pub(crate) struct BuildArgs {
    /// The stack file
    pub stack: PathBuf,
    /// Work everything out and write nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Build only if everything is still as the lock beside the stack file says, which `plan --lock` wrote
    #[arg(long)]
    pub locked: bool,
    /// Overwrite an output that no earlier build left
    #[arg(long)]
    pub replace: bool,
    /// Let others read what is written although it holds a password or key
    #[arg(long)]
    pub readable: bool,
    /// Unpack and digest what is copied out of image files before anything is written
    #[arg(long)]
    pub verify: bool,
    /// With a site list, only this machine; may be given several times
    #[arg(long, value_name = "MACHINE")]
    pub only: Vec<String>,
    /// Compute the SHA-256 of what is written, for the ledger; builds with a stick or a trial do so anyway
    #[arg(long)]
    pub digest: bool,
    /// Do not, which is quicker on machines without instructions for it
    #[arg(long, conflicts_with = "digest")]
    pub no_digest: bool,
    #[command(flatten)]
    pub depot: DepotWhere,
}

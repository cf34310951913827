//! Arguments of `plan`.

use super::common::DepotWhere;
use clap::Args;
use std::path::PathBuf;

/// Show what a stack file would do, without writing anything
#[derive(Debug, Args)]
#[command(after_help = "Example:\n  neatstack plan bridge.stack.toml")]
pub(crate) struct PlanArgs {
    /// The stack file
    pub stack: PathBuf,
    /// Fetch what is taken from a depot, so that all of the plan can be shown
    #[arg(long)]
    pub fetch: bool,
    #[command(flatten)]
    pub depot: DepotWhere,
}

//! Arguments of `plan`.

use super::common::DepotWhere;
use clap::Args;
use std::path::PathBuf;

/// Show what a stack file would do, without writing anything
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  neatstack plan bridge.stack.toml\n  neatstack plan bridge.stack.toml --since out/bridge.ledger.json"
)]
pub(crate) struct PlanArgs {
    /// The stack file
    pub stack: PathBuf,
    /// Show every item, every step's reason and every note
    #[arg(long)]
    pub all: bool,
    /// Write digests of everything that the stack file names into a lock beside it, for `build --locked`
    #[arg(long)]
    pub lock: bool,
    /// Say what differs from an earlier build, by its ledger: what no longer fits, what is contained now, what is new
    #[arg(long, value_name = "LEDGER")]
    pub since: Option<PathBuf>,
    /// With a site list, only this machine; may be given several times
    #[arg(long, value_name = "MACHINE")]
    pub only: Vec<String>,
    /// Fetch what is taken from a depot, so that all of the plan can be shown
    #[arg(long)]
    pub fetch: bool,
    #[command(flatten)]
    pub depot: DepotWhere,
}

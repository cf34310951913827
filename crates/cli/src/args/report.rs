//! Arguments of `report`.

use super::common::DepotWhere;
use clap::Args;
use std::path::PathBuf;

/// Write a page that shows a build, a plan or an image file: what went in and out and why, and where the megabytes are
#[derive(Debug, Args)]
#[command(
    after_help = "The page is one HTML file that needs no network: to be read on a screen, printed, or handed on.\n\nExamples:\n  neatstack report out/bridge.ledger.json -o bridge.html\n  neatstack report bridge.stack.toml -o plan.html\n  neatstack report quay-os-7.iso -o media.html"
)]
pub(crate) struct ReportArgs {
    /// The ledger of a build, a stack file, or an image file or a media with one
    pub path: PathBuf,
    /// The page to write
    #[arg(short, long, value_name = "PAGE.html")]
    pub output: PathBuf,
    /// Overwrite it if it is there
    #[arg(long)]
    pub replace: bool,
    /// Only this edition of an image file, by name or number; may be given several times
    #[arg(long, value_name = "EDITION")]
    pub edition: Vec<String>,
    /// A catalogue that knows more of components; may be given several times
    #[arg(long, value_name = "FILE")]
    pub catalogue: Vec<PathBuf>,
    #[command(flatten)]
    pub depot: DepotWhere,
}

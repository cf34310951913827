//! Arguments of `inventory`.

use super::common::{InsideArgs, parse_size};
use clap::Args;
use std::path::PathBuf;

/// Say what is in an edition: components by category, with sizes and what needs what
#[derive(Debug, Args)]
#[command(after_help = "\
Sizes are those of what nothing else in the edition uses; the second one is what would go from the image file when all \
its editions lose the component. A ! marks what cannot be put back after installation.

Examples:
  neatstack inventory quay-os-7.iso --edition \"Quay OS 7 Bridge\" --catalogue quay.catalogue.toml
  neatstack inventory install.wim --edition 2 --category app --least 100KiB
  neatstack inventory install.wim --edition 2 --match \"feature/fax*\" --json")]
pub(crate) struct InventoryArgs {
    /// An ISO file, a folder, an image file or a machine's disk
    pub path: PathBuf,
    #[command(flatten)]
    pub inside: InsideArgs,
    /// A catalogue that says more of components; may be given several times
    #[arg(long, value_name = "FILE")]
    pub catalogue: Vec<PathBuf>,
    /// A layout that says where the edition keeps its parts
    #[arg(long, value_name = "FILE")]
    pub layout: Vec<PathBuf>,
    /// Only this category, such as app or feature; may be given several times
    #[arg(long, value_name = "CATEGORY", help_heading = "Which components")]
    pub category: Vec<String>,
    /// Only ids that fit a pattern with * and ?
    #[arg(long = "match", value_name = "PATTERN", help_heading = "Which components")]
    pub pattern: Option<String>,
    /// Only components of at least this size, such as 500KiB or 2MiB
    #[arg(long, value_name = "SIZE", value_parser = parse_size, help_heading = "Which components")]
    pub least: Option<u64>,
}

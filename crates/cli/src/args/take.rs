//! Arguments of `take`.

use super::common::InsideArgs;
use clap::Args;
use std::path::PathBuf;

/// Copy files out of a media or an edition
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  neatstack take quay-os-7.iso readme.txt support --to here/\n  neatstack take install.wim Quay/Config --edition 2 --to here/\n  neatstack take reference.vmdk Users/purser --to here/"
)]
pub(crate) struct TakeArgs {
    /// An ISO file, a folder, an image file or a machine's disk
    pub path: PathBuf,
    #[command(flatten)]
    pub inside: InsideArgs,
    /// Files or folders on it, in any case
    #[arg(required = true)]
    pub what: Vec<String>,
    /// The folder they go into
    #[arg(long, value_name = "DIR")]
    pub to: PathBuf,
    /// Overwrite files that are there
    #[arg(long)]
    pub replace: bool,
    /// Let others read what is written although it holds a password or key
    #[arg(long)]
    pub readable: bool,
}

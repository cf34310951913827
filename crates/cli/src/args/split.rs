//! Arguments of `split`.

use super::common::parse_size;
use clap::Args;
use std::path::PathBuf;

/// Split an image file into parts that file systems with small files hold
#[derive(Debug, Args)]
#[command(
    after_help = "The parts are called OUT.swm, OUT2.swm and so on.\n\nExample:\n  neatstack split install.wim --limit 3800MiB -o sources/install.swm"
)]
pub(crate) struct SplitArgs {
    /// The image file
    pub path: PathBuf,
    /// Largest part; the default fits FAT32
    #[arg(long, value_name = "SIZE", value_parser = parse_size, default_value = "3800MiB")]
    pub limit: u64,
    /// The first part to write
    #[arg(short, long, value_name = "OUT.swm")]
    pub output: PathBuf,
    /// Overwrite parts that are there
    #[arg(long)]
    pub replace: bool,
    /// Unpack and digest what is copied before anything is written
    #[arg(long)]
    pub verify: bool,
}

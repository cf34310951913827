//! Arguments of `demo`.

use clap::{Args, ValueEnum};
use std::path::PathBuf;

/// Make the demo data and run the whole example on it
#[derive(Debug, Args)]
#[command(after_help = "Example:\n  neatstack demo ferries/")]
pub(crate) struct DemoArgs {
    /// The folder to make it in
    #[arg(default_value = "neatstack-demo")]
    pub dir: PathBuf,
    /// Show every result of the example whole
    #[arg(long)]
    pub all: bool,
    /// How much the made-up systems hold
    #[arg(long, value_name = "SIZE", default_value = "small")]
    pub size: DemoSize,
}

/// How much the made-up systems hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum DemoSize {
    /// A few MB
    Small,
    /// A few hundred MB
    Full,
}

//! Arguments of `update`.

use clap::{Args, Subcommand};
use std::path::PathBuf;

/// Make an update package
#[derive(Debug, Args)]
pub(crate) struct UpdateArgs {
    #[command(subcommand)]
    pub action: UpdateAction,
}

/// What is done with an update package.
#[derive(Debug, Subcommand)]
pub(crate) enum UpdateAction {
    /// Make a package from a folder
    #[command(after_help = "\
With an update.toml in it, FOLDER is an unpacked package: its files lie below files/ by their paths in the edition. \
Without one, FOLDER holds the files themselves, and --id and --version say what the update is. What update.toml may \
hold: `neatstack schema update`.

Examples:
  neatstack update new radio-fix/ -o radio-fix.update.tar.zst
  neatstack update new files/ --id radio-fix --version 7.0.7092 --arch x64 -o radio-fix.update.tar.zst")]
    New(UpdateNewArgs),
}

/// A new update package.
#[derive(Debug, Args)]
pub(crate) struct UpdateNewArgs {
    /// The folder
    pub folder: PathBuf,
    /// The package to write
    #[arg(short, long, value_name = "OUT")]
    pub output: PathBuf,
    /// Overwrite the package if it is there
    #[arg(long)]
    pub replace: bool,
    /// Id: lower-case letters, digits, '-' and '.'
    #[arg(long, value_name = "ID", help_heading = "Without update.toml")]
    pub id: Option<String>,
    /// Version
    #[arg(long, value_name = "VERSION", help_heading = "Without update.toml")]
    pub version: Option<String>,
    /// Title
    #[arg(long, value_name = "TEXT", help_heading = "Without update.toml")]
    pub title: Option<String>,
    /// Architecture: x86, x64 or arm64
    #[arg(long, value_name = "ARCH", help_heading = "Without update.toml")]
    pub arch: Option<String>,
}

//! Arguments of `capture`.

use super::common::{CompressionArgs, ImageOutput};
use clap::Args;
use std::path::PathBuf;

/// Write a folder as an image file with one edition
#[derive(Debug, Args)]
#[command(
    after_help = "Times, attributes, symbolic and hard links are kept. To put the edition beside others: `editions combine`.\n\nExample:\n  neatstack capture system/ -o system.wim --name \"Ticket kiosk\" --exclude '*.tmp'"
)]
pub(crate) struct CaptureArgs {
    /// The folder
    pub dir: PathBuf,
    #[command(flatten)]
    pub output: ImageOutput,
    /// Name of the edition
    #[arg(long, value_name = "TEXT")]
    pub name: String,
    /// Its description
    #[arg(long, value_name = "TEXT", default_value = "")]
    pub description: String,
    /// Names to leave out, or with a `/` paths from the folder; `*` and `?` stand for anything
    #[arg(long, value_name = "PATTERN")]
    pub exclude: Vec<String>,
    /// Leave out names that the target systems cannot hold, instead of refusing
    #[arg(long)]
    pub skip_bad_names: bool,
    #[command(flatten)]
    pub compression: CompressionArgs,
}

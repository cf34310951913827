//! Arguments of `capture`.

use super::common::{CompressionArgs, ImageOutput};
use clap::Args;
use std::path::PathBuf;

/// Write a folder as an image file with one edition
#[derive(Debug, Args)]
#[command(
    after_help = "Times, attributes, symbolic and hard links are kept. Architecture, version, languages and the edition's word are taken from the system's own registry, where there is one. To put the edition beside others: `editions combine`.\n\nExample:\n  neatstack capture system/ -o system.wim --name \"Ticket kiosk\" --exclude '*.tmp'"
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
    /// Describe the system as an edition of this media or image file does; without it as its own registry does
    #[arg(long, value_name = "MEDIA")]
    pub like: Option<PathBuf>,
    /// The edition of that media, by name or number; without it the first
    #[arg(long, value_name = "EDITION", requires = "like")]
    pub like_edition: Option<String>,
    /// Names to leave out, or with a `/` paths from the folder; `*` and `?` stand for anything
    #[arg(long, value_name = "PATTERN")]
    pub exclude: Vec<String>,
    /// Leave out names that the target systems cannot hold, instead of refusing
    #[arg(long)]
    pub skip_bad_names: bool,
    #[command(flatten)]
    pub compression: CompressionArgs,
}

//! Arguments of `files`.

use super::common::{Digest, InsideArgs};
use clap::Args;
use std::path::PathBuf;

/// List the files of a media or of an edition: digest, size, path
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  neatstack files quay-os-7.iso --digest sha256\n  neatstack files quay-os-7.iso --edition \"Quay OS 7 Bridge\"\n  neatstack files reference.vmdk --partition 3"
)]
pub(crate) struct FilesArgs {
    /// An ISO file, a folder, an image file or a machine's disk
    pub path: PathBuf,
    #[command(flatten)]
    pub inside: InsideArgs,
    /// Also list the named streams of an edition's files, as PATH:NAME
    #[arg(long)]
    pub streams: bool,
    /// Compute each file's digest
    #[arg(long, value_name = "KIND")]
    pub digest: Option<Digest>,
}

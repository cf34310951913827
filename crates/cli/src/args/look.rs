//! Arguments of `look`.

use super::common::Digest;
use clap::Args;
use std::path::PathBuf;

/// Say what a file or folder is and what a technician wants to know of it
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  neatstack look quay-os-7.iso\n  neatstack look quay-os-7.iso --known digests.txt\n  neatstack look quay-os-7.iso --boot\n  neatstack look reference.vmdk"
)]
pub(crate) struct LookArgs {
    /// An ISO file, a stick or its image, a machine's disk or its image, a folder, an image file, a registry hive or text, drivers, an update, a stack file, a ledger or an
    /// answer file
    pub path: PathBuf,
    /// Also compute the file's digest, which reads all of it; an image file is also checked against its integrity table
    #[arg(long, value_name = "KIND")]
    pub digest: Option<Digest>,
    /// A list of digests as vendors publish them: say whether the file is one of those, untouched. Exit code 1 if not
    #[arg(long, value_name = "digests.txt")]
    pub known: Option<PathBuf>,
    /// Go through it as firmware would, by reading alone: what would be found, what is missing, who signed the loaders,
    /// what only a start can tell
    #[arg(long, conflicts_with_all = ["digest", "known"])]
    pub boot: bool,
    /// A list of what was taken back, as firmware keeps it: say whether a loader is on it
    #[arg(long, value_name = "FILE", requires = "boot")]
    pub revoked: Option<PathBuf>,
}

//! Arguments of `compare`.

use clap::Args;
use std::path::PathBuf;

/// Say what differs between two media, image files, editions, machines' disks, registry hives or ledgers
#[derive(Debug, Args)]
#[command(after_help = "\
Image files are compared edition by edition, their registries value by value: old and new stand side by side. Of a \
machine's disk, the files of one partition are read and compared with an edition or another disk, without what a capture \
leaves out.

Examples:
  neatstack compare quay-os-7.iso out/bridge.iso
  neatstack compare out/september.ledger.json out/october.ledger.json
  neatstack compare reference.vmdk captured.wim
  neatstack compare before.wim after.wim --edition \"Quay OS 7 Bridge\"
  neatstack compare quay-os-7.iso out/bridge.iso -o changes.html
  neatstack compare SOFTWARE.before SOFTWARE.after --reg > changes.reg")]
pub(crate) struct CompareArgs {
    /// The first
    pub before: PathBuf,
    /// The second
    pub after: PathBuf,
    /// Write a page instead: one HTML file that needs no network
    #[arg(short, long, value_name = "PAGE.html")]
    pub output: Option<PathBuf>,
    /// Overwrite the page if it is there
    #[arg(long, requires = "output")]
    pub replace: bool,
    /// Only this edition
    #[arg(long, value_name = "EDITION")]
    pub edition: Option<String>,
    /// Of machines' disks, this partition; otherwise the one with a system
    #[arg(long, value_name = "NUMBER")]
    pub partition: Option<u32>,
    /// Show what differs between registries as registration text, which makes the first the second
    #[arg(long)]
    pub reg: bool,
}

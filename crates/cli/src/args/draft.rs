//! Arguments of `draft`.

use clap::{Args, ValueEnum};
use std::path::PathBuf;

/// Begin a stack file for a media: on a terminal by a few questions, else with what the options say
#[derive(Debug, Args)]
#[command(after_help = "\
On a terminal it asks for what no option says, in the order in which people work; Esc skips a question, and what was not \
answered stands in the file as comments. With --plain, and where there is no terminal, nothing is asked. Paths in a file \
that is written are right wherever it lies; what is printed is to lie in this folder.

Examples:
  neatstack draft quay-os-7.iso
  neatstack draft quay-os-7.iso --plain -o bridge.stack.toml
  neatstack draft quay-os-7.iso --edition \"Quay OS 7 Bridge\" --updates updates/ --drivers drivers/ -o bridge.stack.toml")]
pub(crate) struct DraftArgs {
    /// An ISO file or a folder
    pub media: PathBuf,
    /// The stack file to write; without it the text is printed
    #[arg(short, long, value_name = "FILE.stack.toml")]
    pub output: Option<PathBuf>,
    /// Overwrite it if it is there
    #[arg(long)]
    pub replace: bool,
    /// Ask nothing
    #[arg(long)]
    pub plain: bool,
    /// Keep this edition, by name or number; may be given several times
    #[arg(long, value_name = "EDITION", help_heading = "What is filled in")]
    pub edition: Vec<String>,
    /// A package, or a folder of updates; may be given several times
    #[arg(long, value_name = "PATH", help_heading = "What is filled in")]
    pub updates: Vec<PathBuf>,
    /// A folder or pack of drivers, also for the setup environment; may be given several times
    #[arg(long, value_name = "PATH", help_heading = "What is filled in")]
    pub drivers: Vec<PathBuf>,
    /// The devices that drivers are for: the output of `lspci -nn` and `lsusb`
    #[arg(long, value_name = "FILE", requires = "drivers", help_heading = "What is filled in")]
    pub devices: Option<PathBuf>,
    /// A catalogue that says more of components; may be given several times
    #[arg(long, value_name = "FILE", help_heading = "What is filled in")]
    pub catalogue: Vec<PathBuf>,
    /// An answer file, or answers in the neutral form
    #[arg(long, value_name = "FILE", help_heading = "What is filled in")]
    pub answer: Option<PathBuf>,
    /// A list of machines, for a media for each
    #[arg(long, value_name = "CSV", help_heading = "What is filled in")]
    pub sites: Option<PathBuf>,
    /// What a build writes
    #[arg(long, value_name = "FORM", help_heading = "What is filled in")]
    pub form: Option<DraftForm>,
}

/// What a build of a draft writes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum DraftForm {
    /// A disc
    Disc,
    /// A stick
    Stick,
    /// Both
    Both,
}

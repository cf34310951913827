//! Arguments of `pick`.

use super::common::DepotWhere;
use clap::Args;
use std::path::PathBuf;

/// Choose on a full screen what goes and what stays, and write it into a stack file
#[derive(Debug, Args)]
#[command(after_help = "\
Without a terminal, and with any option under \"Without the screen\", nothing is shown in full screen: the choice is \
changed as the options say. Ids are written, never patterns, and every other byte of the stack file stays as it is.

Examples:
  neatstack pick bridge.stack.toml
  neatstack pick quay-os-7.iso --edition \"Quay OS 7 Bridge\" --catalogue quay.catalogue.toml -o bridge.stack.toml
  neatstack pick bridge.stack.toml --remove app/harbour-chess --dry-run")]
pub(crate) struct PickArgs {
    /// A stack file; or an ISO file, a folder or an image file to begin one from
    pub path: PathBuf,
    /// The edition whose components are chosen, by name or number; without it the first that is kept
    #[arg(long, value_name = "EDITION")]
    pub edition: Option<String>,
    /// The stack file to write; without it the one that was named, and for a media the text is printed
    #[arg(short, long, value_name = "FILE.stack.toml")]
    pub output: Option<PathBuf>,
    /// Overwrite it if it is there
    #[arg(long, requires = "output")]
    pub replace: bool,
    /// A catalogue that says more of components; may be given several times
    #[arg(long, value_name = "FILE")]
    pub catalogue: Vec<PathBuf>,
    /// A layout that says where the edition keeps its parts
    #[arg(long, value_name = "FILE")]
    pub layout: Vec<PathBuf>,
    /// Show what differs from what an earlier build took out
    #[arg(long, value_name = "LEDGER")]
    pub since: Option<PathBuf>,
    #[command(flatten)]
    pub depot: DepotWhere,
    /// Take these out, by id or pattern, with all that needs them; may be given several times
    #[arg(long, value_name = "ID", help_heading = "Without the screen")]
    pub remove: Vec<String>,
    /// Put these back, by id or pattern, with all that they need; may be given several times
    #[arg(long, value_name = "ID", help_heading = "Without the screen")]
    pub put_back: Vec<String>,
    /// Start from this profile of a catalogue; `none` puts everything back first
    #[arg(long, value_name = "NAME", help_heading = "Without the screen")]
    pub profile: Option<String>,
    /// Say what the choice amounts to, and write nothing
    #[arg(long, help_heading = "Without the screen")]
    pub dry_run: bool,
}

impl PickArgs {
    /// Those of a stack file alone.
    pub(crate) fn of(stack: &std::path::Path) -> Self {
        let depot = DepotWhere { location: None, patience: 30 };
        Self {
            path: stack.to_owned(),
            edition: None,
            output: None,
            replace: false,
            catalogue: Vec::new(),
            layout: Vec::new(),
            since: None,
            depot,
            remove: Vec::new(),
            put_back: Vec::new(),
            profile: None,
            dry_run: false,
        }
    }

    /// Whether the options say what to do, so that no screen is needed.
    pub(crate) fn says_all(&self) -> bool {
        self.dry_run || self.profile.is_some() || !self.remove.is_empty() || !self.put_back.is_empty()
    }
}

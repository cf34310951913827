//! What a plan, a ledger and `--json` show: types that every later floor fills, and what differs between two of them.

mod depot;
mod editions;
mod ledger;
mod outputs;
mod since;

pub use depot::{DepotState, DepotUse};
pub use editions::{EditionInside, EditionSummary, EditionWork, LedgerComponents, LedgerItem};
pub use ledger::{LEDGER_KIND, Ledger, LedgerFile, LedgerOutput, LedgerSource, LedgerTrial};
pub use outputs::{BootSummary, MediaSummary, OutputSummary, VariantSummary};
pub use since::{ItemChange, NewComponents, Since, SizeChange};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How much a finding weighs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Weight {
    /// Good to know.
    Note,
    /// The media will do something to a machine that cannot be taken back.
    Danger,
    /// Setup will stop, ask, or do something else than was meant.
    Problem,
    /// `build` refuses until the stack file says that it is meant.
    Refused,
}

impl Weight {
    /// Place in lists, the heaviest first.
    pub const fn rank(self) -> u8 {
        match self {
            Self::Refused => 0,
            Self::Danger => 1,
            Self::Problem => 2,
            Self::Note => 3,
        }
    }
}

/// Something that a person should see before building.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct Finding {
    /// How much it weighs.
    pub weight: Weight,
    /// What was found.
    pub message: String,
    /// What to do about it; empty when nothing needs doing.
    pub hint: String,
}

impl Finding {
    /// What is good to know, and asks for nothing.
    pub fn note(message: impl AsRef<str>) -> Self {
        Self { weight: Weight::Note, message: message.as_ref().to_owned(), hint: String::new() }
    }
}

/// One thing that the build will do.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct PlanStep {
    /// What, as a command.
    pub action: String,
    /// To what.
    pub subject: String,
    /// Why it comes here.
    pub reason: String,
    /// Bytes that it adds to the media; negative when it takes some away.
    pub bytes: i64,
}

/// A device of a machine's list, and what serves it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct DeviceSummary {
    /// The list.
    pub list: String,
    /// What the list calls the device.
    pub name: String,
    /// Its most specific id.
    pub id: String,
    /// The driver that goes in, or is in, for it; nothing when none of the named packs has one that can go in. The
    /// system may have one of its own.
    pub driver: Option<String>,
}

/// What answers on the media will do to a machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AnswersSummary {
    /// Where they come from, as the stack file names it.
    pub name: String,
    /// The kind of answer file.
    pub dialect: String,
    /// Whether they erase what is on a disk.
    pub erases: bool,
    /// What they do, in words, the dangerous first.
    pub does: Vec<String>,
}

/// The media that the build starts from.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct SourceSummary {
    /// Where it is.
    pub path: String,
    /// Bytes of the ISO file; 0 for a folder.
    pub size: u64,
    /// Its label.
    pub label: String,
    /// Number of files.
    pub files: u64,
    /// Bytes in them.
    pub content: u64,
    /// SHA-256, when the stack file asks for it to be checked.
    pub sha256: Option<String>,
    /// What the media allows setup to do, in words: which edition it offers, from which release it upgrades.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub restrictions: Vec<String>,
}

/// A plan for people and programs.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct PlanReport {
    /// Title of the stack file.
    pub title: String,
    /// What is taken from a depot.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub depot: Vec<DepotUse>,
    /// What it starts from.
    pub source: Option<SourceSummary>,
    /// Editions of the image file that the systems come from.
    pub editions: Vec<EditionSummary>,
    /// What is done, in order.
    pub steps: Vec<PlanStep>,
    /// What is done inside each edition, item for item.
    pub editions_work: Vec<EditionWork>,
    /// The devices of the lists that drivers are chosen by, and what serves them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub devices: Vec<DeviceSummary>,
    /// What the answers on the media will do; with a site list those of the first machine.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub answers: Vec<AnswersSummary>,
    /// What a person should see first.
    pub findings: Vec<Finding>,
    /// What is on the media that comes out; with a site list on the first.
    pub output: MediaSummary,
    /// The files that come out, in the order in which they are written; with a site list those of the first machine.
    pub outputs: Vec<OutputSummary>,
    /// Media for the machines of a site list.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub variants: Vec<VariantSummary>,
    /// What differs from an earlier build, where one was named.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub since: Option<Since>,
}

impl PlanReport {
    /// Whether `build` would refuse.
    pub fn is_refused(&self) -> bool {
        self.findings.iter().any(|finding| finding.weight == Weight::Refused)
    }
}

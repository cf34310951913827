//! The ledger: the record that a build leaves.

use crate::{DepotUse, LedgerItem};
use neat_content::{Error, Result};
use neat_trial::{Attached, Firmware, Stage};
use serde::{Deserialize, Serialize};

/// What `kind` in a ledger says, so that the file is known without its name.
pub const LEDGER_KIND: &str = "neatstack-ledger";
const VERSION: u32 = 1;

/// What was done, with digests. The same stack file and inputs give the same ledger.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Ledger {
    /// [`LEDGER_KIND`].
    pub kind: String,
    /// Version of this form.
    pub version: u32,
    /// Version of the program.
    pub program: String,
    /// Title of the stack file.
    pub title: String,
    /// SHA-256 of the stack file.
    pub stack_sha256: String,
    /// What was taken from a depot.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub depot: Vec<DepotUse>,
    /// What it started from.
    pub source: Option<LedgerSource>,
    /// What was done, in order, as the plan says it.
    pub steps: Vec<String>,
    /// What became of each item inside the editions.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub items: Vec<LedgerItem>,
    /// Files that were put on the media.
    pub files: Vec<LedgerFile>,
    /// What there was to say.
    pub findings: Vec<String>,
    /// What came out: the ISO file, or the stick where there is no ISO file.
    pub output: LedgerOutput,
    /// The stick beside an ISO file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stick: Option<LedgerOutput>,
    /// What virtual machines made of it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub trials: Vec<LedgerTrial>,
}

/// A start in a virtual machine.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct LedgerTrial {
    /// The file that was started.
    pub path: String,
    /// As a disc or as a disk.
    pub attached: Attached,
    /// With which firmware.
    pub firmware: Firmware,
    /// How far it got.
    pub stage: Stage,
    /// The line that shows it.
    pub evidence: String,
    /// Picture of the last screen.
    pub picture: Option<String>,
}

/// Source of a build.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct LedgerSource {
    /// Where it was.
    pub path: String,
    /// Bytes of the ISO file; 0 for a folder.
    pub size: u64,
    /// Its label.
    pub label: String,
    /// SHA-256, when it was checked.
    pub sha256: Option<String>,
}

/// A file that was put on the media.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct LedgerFile {
    /// Path on the media.
    pub path: String,
    /// Bytes.
    pub size: u64,
    /// SHA-256.
    pub sha256: String,
}

/// Result of a build.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct LedgerOutput {
    /// The file.
    pub path: String,
    /// Its size in bytes.
    pub size: u64,
    /// Its label.
    pub label: String,
    /// How it boots.
    pub boot: Vec<String>,
    /// SHA-256, when it was asked for.
    pub sha256: Option<String>,
}

impl Ledger {
    pub(crate) const VERSION: u32 = VERSION;

    /// Reads a ledger.
    pub fn parse(text: &str) -> Result<Self> {
        let hint = "give the file that `neatstack build` wrote beside its output";
        let ledger: Self = serde_json::from_str(text)
            .map_err(|error| Error::request(format!("not a ledger: {error}"), hint))?;
        if ledger.kind != LEDGER_KIND || ledger.version != VERSION {
            return Err(Error::request(
                format!("a ledger of version {}, and this program reads {VERSION}", ledger.version),
                hint,
            ));
        }
        Ok(ledger)
    }

    /// The text of the ledger.
    pub fn to_text(&self) -> Result<String> {
        serde_json::to_string_pretty(self)
            .map(|text| text + "\n")
            .map_err(|error| Error::internal(format!("the ledger cannot be written: {error}")))
    }
}

//! The ledger: the record that a build leaves.

use super::{AnswersSummary, DepotUse, Finding, LedgerComponents, LedgerItem};
use neat_content::{Error, Result};
use neat_trial::{Attached, Firmware, Stage};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What `kind` in a ledger says, so that the file is known without its name.
pub const LEDGER_KIND: &str = "neatstack-ledger";
const VERSION: u32 = 1;

/// What was done, with digests. The same stack file and inputs give the same ledger.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
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
    /// What editions had of the categories of which some were taken out; none in ledgers of version 0.1 of the program.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub components: Vec<LedgerComponents>,
    /// Files that were put on the media.
    pub files: Vec<LedgerFile>,
    /// What there was to say.
    pub findings: Vec<String>,
    /// The same with their weights; none in ledgers of version 0.1 of the program.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub remarks: Vec<Finding>,
    /// What the answers on the media will do; none in ledgers of version 0.1 of the program.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub answers: Vec<AnswersSummary>,
    /// What came out, in the order in which it was written.
    #[serde(default)]
    pub outputs: Vec<LedgerOutput>,
    /// The first of them, for programs that know only this key, as version 0.1 did.
    pub(crate) output: Option<LedgerOutput>,
    /// The second, likewise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) stick: Option<LedgerOutput>,
    /// What virtual machines made of it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub trials: Vec<LedgerTrial>,
}

/// A start in a virtual machine.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
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
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
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
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct LedgerFile {
    /// Path on the media.
    pub path: String,
    /// Bytes.
    pub size: u64,
    /// SHA-256.
    pub sha256: String,
}

/// Result of a build.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct LedgerOutput {
    /// In which form the media is in it; empty in ledgers of version 0.1 of the program.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub form: String,
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
        let mut ledger: Self = serde_json::from_str(text)
            .map_err(|error| Error::request(format!("not a ledger: {error}"), hint))?;
        if ledger.kind != LEDGER_KIND || ledger.version != VERSION {
            return Err(Error::request(
                format!("a ledger of version {}, and this program reads {VERSION}", ledger.version),
                hint,
            ));
        }
        if ledger.outputs.is_empty() {
            // Version 0.1 said the form by the key; alone, the first could be either.
            let named =
                |output: &LedgerOutput, form: &str| LedgerOutput { form: form.into(), ..output.clone() };
            let first = if ledger.stick.is_some() { "disc" } else { "" };
            let first = ledger.output.iter().map(|output| named(output, first));
            let second = ledger.stick.iter().map(|output| named(output, "stick"));
            ledger.outputs = first.chain(second).collect();
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

#[cfg(test)]
mod tests {
    use super::*;

    /// A ledger as version 0.1 of the program wrote it.
    const FORMER: &str = r#"{
        "kind": "neatstack-ledger", "version": 1, "program": "0.1.0", "title": "Bridge", "stack_sha256": "00",
        "source": null, "steps": [], "files": [], "findings": [],
        "output": { "path": "out/a.iso", "size": 2, "label": "A", "boot": [], "sha256": "11" },
        "stick": { "path": "out/a.img", "size": 3, "label": "B", "boot": [], "sha256": null }
    }"#;

    #[test]
    fn former_ledgers_are_read_and_former_readers_served() {
        let ledger = Ledger::parse(FORMER).unwrap();
        let paths = |ledger: &Ledger| -> Vec<String> {
            ledger.outputs.iter().map(|output| output.path.clone()).collect()
        };
        assert_eq!(paths(&ledger), ["out/a.iso", "out/a.img"]);
        let forms: Vec<&str> = ledger.outputs.iter().map(|output| output.form.as_str()).collect();
        assert_eq!(forms, ["disc", "stick"]);
        let text = ledger.to_text().unwrap();
        assert_eq!(paths(&Ledger::parse(&text).unwrap()), paths(&ledger));
        let value: serde_json::Value = serde_json::from_str(&text).unwrap();
        assert_eq!(value["output"]["sha256"], "11");
        assert_eq!(value["stick"]["path"], "out/a.img");
        assert_eq!(value["outputs"][1]["path"], value["stick"]["path"]);
    }

    #[test]
    fn what_is_no_ledger_is_said() {
        for text in ["", "{}", "[]", &FORMER.replace("neatstack-ledger", "x")] {
            assert!(Ledger::parse(text).is_err(), "{text}");
        }
        let error = Ledger::parse(&FORMER.replace("\"version\": 1", "\"version\": 7")).unwrap_err();
        assert!(error.to_string().contains("version 7"), "{error}");
    }
}

//! What builds did to an edition: a small JSON file inside it.

use neat_content::{Error, Result};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What `kind` in a record says.
pub const RECORD_KIND: &str = "neatstack-edition";
const FORMAT: u32 = 1;

/// What builds did to an edition.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct EditionRecord {
    /// [`RECORD_KIND`].
    pub kind: String,
    /// Version of this form.
    pub format: u32,
    /// Updates, in the order in which they went in.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub updates: Vec<RecordedUpdate>,
    /// Drivers.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub drivers: Vec<RecordedDriver>,
    /// Ids of components that were taken out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub removed: Vec<String>,
    /// Ids of settings of catalogues that were applied.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub settings: Vec<String>,
    /// Applications that run once, in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub apps: Vec<String>,
}

impl Default for EditionRecord {
    fn default() -> Self {
        Self {
            kind: RECORD_KIND.into(),
            format: FORMAT,
            updates: Vec::new(),
            drivers: Vec::new(),
            removed: Vec::new(),
            settings: Vec::new(),
            apps: Vec::new(),
        }
    }
}

/// An update that went in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RecordedUpdate {
    /// Id.
    pub id: String,
    /// Version.
    pub version: String,
    /// What people read.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub title: String,
    /// Ids that it replaces.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub replaces: Vec<String>,
}

/// A driver that went in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RecordedDriver {
    /// Name of the INF file.
    pub inf: String,
    /// Class.
    pub class: String,
    /// Version.
    pub version: String,
    /// Date.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub date: String,
    /// Who made it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub provider: String,
    /// Folder in the edition.
    pub folder: String,
}

impl EditionRecord {
    /// Whether nothing was done.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// Reads a record.
    pub fn parse(text: &str) -> Result<Self> {
        let bad = |found: String| Error::Mismatch {
            expected: format!("a record of kind {RECORD_KIND}, format {FORMAT}"),
            found,
            hint: "use a version of Neat Stack that is as new as the one that made it".into(),
        };
        let record: Self = serde_json::from_str(text).map_err(|error| bad(error.to_string()))?;
        if record.kind != RECORD_KIND || record.format != FORMAT {
            return Err(bad(format!("{} format {}", record.kind, record.format)));
        }
        Ok(record)
    }

    /// The text of the file.
    pub fn to_text(&self) -> Result<String> {
        let text = serde_json::to_string_pretty(self);
        text.map(|text| text + "\n").map_err(|error| Error::request(format!("the record: {error}"), ""))
    }
}

//! JSON forms of the demo, of drafts and of errors.

use neat_stack::Ledger;
use schemars::JsonSchema;
use serde::Serialize;

/// JSON form of `demo`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DemoView {
    pub media: String,
    pub stack: String,
    pub ledger: Ledger,
}

/// JSON form of `report`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct PageView {
    /// The page.
    pub page: String,
    /// Its bytes.
    pub size: u64,
}

/// JSON form of `manual`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ManualView {
    pub dir: String,
    /// Paths in it.
    pub files: Vec<String>,
}

/// JSON form of `draft`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DraftView {
    /// The text.
    pub stack: String,
    /// Where it was written, if it was.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
}

/// JSON form of an error.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ErrorView {
    pub error: String,
    /// What to do.
    pub hint: String,
    pub exit_code: u8,
}

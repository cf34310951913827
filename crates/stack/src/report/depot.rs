//! What a stack file takes from a depot.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How a stack file's `depot:` is met.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum DepotState {
    /// The depot is a folder of this machine; its file is used where it lies.
    Here,
    /// An earlier run has fetched it.
    Kept,
    /// It was fetched now.
    Fetched,
    /// It must be fetched first.
    ToFetch,
}

/// A file that a stack file takes from a depot.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct DepotUse {
    /// What the stack file says, without `depot:`.
    pub reference: String,
    /// What that is: id and version.
    pub id: String,
    /// What a person calls it.
    pub title: String,
    /// Bytes.
    pub size: u64,
    /// SHA-256.
    pub sha256: String,
    /// Where the depot is.
    pub depot: String,
    /// Where the file is, or will be, on this machine.
    pub path: String,
    /// Whether it is there.
    pub state: DepotState,
}

//! What `update new` says.

use neat_package::UpdateSection;
use schemars::JsonSchema;
use serde::Serialize;

/// JSON form of `update new`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct UpdateWrittenView {
    pub path: String,
    pub size: u64,
    pub files: usize,
    /// As in `update.toml`.
    pub update: UpdateSection,
}

//! What `config` says.

use super::{Sheet, heading_line};
use crate::config::Config;
use schemars::JsonSchema;
use serde::Serialize;

/// JSON form of `config`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ConfigView {
    /// Where the file is, or would be.
    pub path: Option<String>,
    /// Whether it is there.
    pub is_there: bool,
    /// The depot that the environment names, which goes before.
    pub environment: Option<String>,
    /// What the file says.
    pub config: Config,
}

/// Each thing, and where it comes from.
pub(crate) fn config(view: &ConfigView) -> String {
    let mut sheet = Sheet::default();
    let Config { depot, language, publisher, output_folder } = &view.config;
    let depot = view
        .environment
        .as_ref()
        .map(|depot| format!("{depot} ($NEATSTACK_DEPOT)"))
        .or_else(|| depot.clone());
    let rows = [
        ("depot", depot.as_ref(), "the loopback address"),
        ("language", language.as_ref(), "en-GB"),
        ("publisher", publisher.as_ref(), "the source's"),
        ("output_folder", output_folder.as_ref(), "out"),
    ];
    for (name, value, otherwise) in rows {
        sheet.row(name, value.cloned().unwrap_or_else(|| format!("not set: {otherwise}")));
    }
    let path = view.path.as_deref().unwrap_or("no home folder");
    heading_line(path, if view.is_there { "" } else { "is not there" }) + &sheet.text()
}

//! What `pick` says.

use super::{count, heading_line, outside, size, style, table};
use neat_service::{Choice, ChoiceText, ChoiceTotals};
use schemars::JsonSchema;
use serde::Serialize;

/// JSON form of `pick`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct PickView {
    /// The edition that was chosen from.
    pub edition: String,
    pub number: usize,
    /// The profile that it starts from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub profile: Option<String>,
    /// What is written as `components`.
    pub components: Vec<String>,
    /// What is written as `keep`.
    pub keep: Vec<String>,
    /// All ids that go from this edition.
    pub removed: Vec<String>,
    /// Ids and patterns of the stack file that fit nothing in it.
    pub unknown: Vec<String>,
    /// What goes now and did not in the earlier build.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub goes_now: Option<Vec<String>>,
    /// What went in the earlier build and stays now.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stays_now: Option<Vec<String>>,
    /// Bytes on the installed disk that go.
    pub bytes: u64,
    /// Bytes that go from the image file.
    pub packed: u64,
    /// Editions that are kept.
    pub editions: Vec<String>,
    /// The stack file, if it was written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
}

impl PickView {
    /// What was chosen in an edition.
    pub(crate) fn new(
        edition: &str,
        number: usize,
        choice: &Choice,
        earlier: Option<&std::collections::BTreeSet<String>>,
    ) -> Self {
        let ChoiceText { profile, components, keep } = choice.text();
        let ChoiceTotals { bytes, packed, .. } = choice.totals();
        let taken = choice.taken();
        Self {
            edition: edition.to_owned(),
            number,
            profile,
            components,
            keep,
            removed: taken.iter().cloned().collect(),
            unknown: choice.unknown().to_vec(),
            goes_now: earlier.map(|earlier| taken.difference(earlier).cloned().collect()),
            stays_now: earlier.map(|earlier| earlier.difference(taken).cloned().collect()),
            bytes,
            packed,
            editions: Vec::new(),
            path: None,
        }
    }
}

/// What goes, and what it amounts to.
pub(crate) fn pick(view: &PickView, choice: &Choice) -> String {
    let mut text = heading_line(
        &view.edition,
        &format!(
            "{} out, {} installed, {} of the image file",
            count(view.removed.len() as u64, "component", "components"),
            size(view.bytes),
            size(view.packed)
        ),
    );
    if let Some(profile) = &view.profile {
        text.push_str(&format!("  from the profile {}\n", outside::line(profile)));
    }
    let rows: Vec<Vec<String>> = choice
        .taken()
        .iter()
        .filter_map(|id| choice.component(id))
        .map(|own| {
            let lasting = if own.gone_for_good { "!" } else { "" };
            let bytes = if own.bytes > 0 { size(own.bytes) } else { String::new() };
            vec![lasting.to_owned(), own.id.clone(), own.title.clone(), bytes]
        })
        .collect();
    table(&rows, &[3]).into_iter().for_each(|line| text.push_str(&format!("  {line}\n")));
    for (name, ids) in [("goes now, and did not", &view.goes_now), ("went, and stays now", &view.stays_now)] {
        for id in ids.iter().flatten() {
            text.push_str(&format!("  {}{name}:{:#} {}\n", style::CARE, style::CARE, outside::line(id)));
        }
    }
    for unknown in &view.unknown {
        text.push_str(&format!(
            "  {}not in this edition:{:#} {}\n",
            style::CARE,
            style::CARE,
            outside::line(unknown)
        ));
    }
    text
}

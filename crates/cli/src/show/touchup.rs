//! What `touchup` says.

use super::{Sheet, count, heading_line, in_command, outside, size, style, time};
use neat_media::{
    TreeKind,
    touchup::{Change, History, Outcome, Verb},
};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

/// JSON form of `touchup ISO put`, `hide` and `show`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DoneView {
    kind: &'static str,
    path: String,
    changes: Vec<ChangeView>,
    size_before: u64,
    size: u64,
    written: u64,
    unfinished_taken_back: bool,
    sha256: Option<String>,
}

/// One change.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ChangeView {
    verb: Verb,
    path: String,
    /// Of the file that was put.
    bytes: Option<u64>,
    replaced: bool,
    trees: Vec<TreeKind>,
    notes: Vec<String>,
}

/// JSON form of `touchup ISO list`, and of `undo`: what was taken back.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct HistoryView {
    kind: &'static str,
    path: String,
    size: u64,
    unfinished: bool,
    touchups: Vec<TouchupView>,
    hidden: Vec<String>,
    sha256: Option<String>,
}

/// A touch-up that a disc has.
#[derive(Debug, Serialize, JsonSchema)]
struct TouchupView {
    time: i64,
    /// Bytes by which it made the file longer.
    added: u64,
    changes: Vec<ChangeView>,
}

impl DoneView {
    pub(crate) fn new(path: &Path, outcome: &Outcome, sha256: Option<String>) -> Self {
        Self {
            kind: "touchup",
            path: path.display().to_string(),
            changes: changes(&outcome.changes),
            size_before: outcome.old_len,
            size: outcome.new_len,
            written: outcome.written,
            unfinished_taken_back: outcome.settled,
            sha256,
        }
    }

    /// Of what would be done.
    pub(crate) fn rehearsed(path: &Path, outcome: &Outcome) -> Self {
        Self { written: 0, ..Self::new(path, outcome, None) }
    }
}

fn changes(changes: &[Change]) -> Vec<ChangeView> {
    let view = |change: &Change| ChangeView {
        verb: change.verb,
        path: change.path.clone(),
        bytes: change.bytes,
        replaced: change.replaced,
        trees: change.trees.clone(),
        notes: change.notes.clone(),
    };
    changes.iter().map(view).collect()
}

impl HistoryView {
    pub(crate) fn new(kind: &'static str, path: &Path, history: &History, sha256: Option<String>) -> Self {
        let touchups = history.touchups.iter().map(|touchup| TouchupView {
            time: touchup.time.seconds,
            added: touchup.added,
            changes: changes(&touchup.changes),
        });
        Self {
            kind,
            path: path.display().to_string(),
            size: history.len,
            unfinished: history.unfinished,
            touchups: touchups.collect(),
            hidden: history.hidden.clone(),
            sha256,
        }
    }
}

fn trees(trees: &[TreeKind]) -> String {
    let names: Vec<&str> = trees.iter().map(|kind| kind.name()).collect();
    match names.split_last() {
        None => "no tree".into(),
        Some((last, [])) => (*last).into(),
        Some((last, front)) => format!("{} and {last}", front.join(", ")),
    }
}

fn verb(change: &Change) -> &'static str {
    match change.verb {
        Verb::Put => "put",
        Verb::Hide => "hid",
        Verb::Show => "brought back",
    }
}

fn details(change: &Change) -> String {
    match change.bytes {
        Some(bytes) if change.replaced => format!("  {}, in place of the one that was there", size(bytes)),
        Some(bytes) => format!("  {}, new", size(bytes)),
        None => String::new(),
    }
}

fn heading(path: &Path, text: &str) -> String {
    heading_line(&path.display().to_string(), text)
}

/// What a touch-up did.
pub(crate) fn outcome(path: &Path, outcome: &Outcome, sha256: Option<&str>) -> String {
    let mut sheet = done(outcome);
    let more = size(outcome.new_len - outcome.old_len);
    let written = size(outcome.written);
    sheet.row("size", format!("{}, {more} more than before; {written} written", size(outcome.new_len)));
    sheet.row_if("sha256", sha256.unwrap_or_default());
    sheet.row("back", format!("neatstack touchup {} undo", in_command(path)));
    format!("{}{}", heading(path, "touched up"), sheet.text())
}

/// What a touch-up would do.
pub(crate) fn rehearsed(path: &Path, outcome: &Outcome) -> String {
    let mut sheet = done(outcome);
    let more = size(outcome.new_len - outcome.old_len);
    let written = size(outcome.written);
    sheet.row("size", format!("{}, {more} more than now; {written} to write", size(outcome.new_len)));
    format!("{}{}", heading(path, "would be touched up; nothing was written"), sheet.text())
}

/// Touch-ups that would be taken back.
pub(crate) fn would_undo(path: &Path, history: &History) -> String {
    format!("{}{}", heading(path, "would take back; nothing was written"), lines(history))
}

/// Changes with the trees that they are made in.
fn done(outcome: &Outcome) -> Sheet {
    let mut sheet = Sheet::default();
    if outcome.settled {
        sheet.row("first", "took back a touch-up that was cut off");
    }
    for change in &outcome.changes {
        sheet.row(verb(change), format!("{}{}", change.path, details(change)));
    }
    let same = outcome.changes.iter().all(|change| change.trees == outcome.changes[0].trees);
    for change in &outcome.changes {
        if !same || std::ptr::eq(change, &raw const outcome.changes[0]) {
            let whose = if same { String::new() } else { format!("{}: ", change.path) };
            sheet.row("in", format!("{whose}{}", trees(&change.trees)));
        }
    }
    for note in outcome.changes.iter().flat_map(|change| &change.notes) {
        sheet.row("note", note);
    }
    sheet
}

fn lines(history: &History) -> String {
    let mut text = String::new();
    for (number, touchup) in history.touchups.iter().enumerate() {
        let head = format!("{:>3}  {}", number + 1, time(touchup.time));
        let added = size(touchup.added);
        for (index, change) in touchup.changes.iter().enumerate() {
            let front = if index == 0 { head.clone() } else { " ".repeat(head.chars().count()) };
            text += &format!(
                "{front}  {}{:<12}{:#}  {}{}\n",
                style::QUIET,
                verb(change),
                style::QUIET,
                outside::line(&change.path),
                details(change)
            );
        }
        let indent = " ".repeat(head.chars().count() + 2);
        text += &format!("{}{indent}{:<12}  {added}{:#}\n", style::REASON, "longer by", style::REASON);
    }
    text
}

fn ending(history: &History, sha256: Option<&str>) -> String {
    let mut sheet = Sheet::default();
    for (number, path) in history.hidden.iter().enumerate() {
        sheet.row(if number == 0 { "hidden" } else { "" }, path);
    }
    sheet.row("size", size(history.len));
    sheet.row_if("sha256", sha256.unwrap_or_default());
    sheet.text()
}

/// What was done to a disc.
pub(crate) fn list(path: &Path, history: &History, sha256: Option<&str>) -> String {
    if history.unfinished {
        let care = style::CARE;
        return format!(
            "{}  {care}cut off{care:#}  a touch-up did not get to its end\n  {}what to do:{:#} neatstack touchup {} undo\n",
            heading(path, "touched up"),
            style::GOOD,
            style::GOOD,
            outside::line(&in_command(path))
        );
    }
    let what = match history.touchups.len() {
        0 => "never touched up".to_owned(),
        number => count(number as u64, "touch-up", "touch-ups"),
    };
    format!("{}{}{}", heading(path, &what), lines(history), ending(history, sha256))
}

/// What was taken back.
pub(crate) fn undone(path: &Path, history: &History, sha256: Option<&str>) -> String {
    let what = match (history.unfinished, history.touchups.len()) {
        (true, 0) => "took back a touch-up that was cut off".to_owned(),
        (true, number) => {
            format!("took back one that was cut off and {}", count(number as u64, "touch-up", "touch-ups"))
        }
        (false, number) => format!("took back {}", count(number as u64, "touch-up", "touch-ups")),
    };
    format!("{}{}{}", heading(path, &what), lines(history), ending(history, sha256))
}

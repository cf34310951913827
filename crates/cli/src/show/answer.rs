//! What `answer` says.

use super::{heading_line, style, wrapped};
use neat_answer::{Dialect, Finding, Gravity, Model, Report};
use schemars::JsonSchema;
use serde::Serialize;

/// JSON form of `answer check`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct CheckedView {
    pub checked: Vec<CheckedFile>,
    /// 0, 1 with problems, 4 when something would be erased that nobody said is meant.
    pub exit_code: u8,
}

/// An answer file, or a model in one dialect.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct CheckedFile {
    pub file: String,
    pub report: Report,
    /// What is erased, in one line.
    pub erases: String,
}

/// JSON form of `answer read`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ReadView {
    pub dialect: &'static str,
    pub model: Model,
    /// What the neutral form cannot say.
    pub findings: Vec<Finding>,
}

/// JSON form of `answer insert`, `move` and `remove`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ChangedView {
    pub file: String,
    pub done: String,
}

/// Findings under a heading.
pub(crate) fn findings(heading: &str, findings: &[Finding]) -> String {
    let mut text = format!("{}{heading}{:#}\n", style::HEADING, style::HEADING);
    for finding in findings {
        text.push_str(&line(finding));
    }
    text.trim_end().to_owned()
}

/// Column at which texts begin.
const TEXT_AT: usize = 11;

fn line(finding: &Finding) -> String {
    let (name, style) = match finding.gravity {
        Gravity::Danger => ("DANGER", style::BAD),
        Gravity::Problem => ("problem", style::BAD),
        Gravity::Note => ("note", style::QUIET),
    };
    let place = finding.line.map_or_else(String::new, |line| format!("line {line}: "));
    let message = wrapped(&format!("{place}{}: {}", finding.field, finding.message), TEXT_AT);
    let mut text = format!("  {style}{name:>7}{style:#}  {message}\n");
    if !finding.hint.is_empty() {
        let hint = wrapped(&finding.hint, TEXT_AT);
        text.push_str(&format!("           {}{hint}{:#}\n", style::GOOD, style::GOOD));
    }
    text
}

/// A check for a person: the danger first, then what is wrong, then what it does.
pub(crate) fn report(name: &str, report: &Report) -> String {
    let dialect = report.dialect.map_or("model", Dialect::name);
    let mut text = heading_line(name, dialect);
    let erases = report.erasure.line();
    let (word, style) = match (report.erasure.is_some(), report.erasing_is_meant) {
        (false, _) => ("safe", style::GOOD),
        (true, true) => ("erases", style::CARE),
        (true, false) => ("DANGER", style::BAD),
    };
    let erases = wrapped(&format!("it {erases}"), TEXT_AT);
    text.push_str(&format!("  {style}{word:>7}{style:#}  {erases}\n"));
    if report.is_dangerous() {
        let hint = if report.dialect.is_none() {
            "write erases = \"yes\" in it if that is meant"
        } else {
            "if that is meant: `neatstack answer read` it, write erases = \"yes\" there, `answer write` it again"
        };
        let hint = wrapped(hint, TEXT_AT);
        text.push_str(&format!("           {}{hint}{:#}\n", style::GOOD, style::GOOD));
    } else if report.erasure.is_some() {
        text.push_str("           the model says that this is meant\n");
    }
    for finding in &report.findings {
        text.push_str(&line(finding));
    }
    let is_wrong = report.findings.iter().any(|own| own.gravity == Gravity::Problem);
    if !report.has_problems() {
        let (word, meaning) = if is_wrong {
            ("accepted", "what is wrong with it is meant")
        } else {
            ("clean", "nothing is wrong with it")
        };
        text.push_str(&format!("  {}{word:>7}{:#}  {meaning}\n", style::GOOD, style::GOOD));
    }
    if report.does.len() > 1 {
        text.push_str(&format!("\n{}What it does to a machine{:#}\n", style::HEADING, style::HEADING));
        for does in report.does.iter().skip(1) {
            text.push_str(&format!("  {}\n", wrapped(does, 2)));
        }
    }
    text
}

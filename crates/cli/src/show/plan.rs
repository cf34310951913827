//! What `plan` and `build` say.

use super::{Sheet, count, heading_line, image::editions, outside, size, style, table};
use neat_stack::{
    BootSummary, DepotUse, Finding, Ledger, LedgerOutput, LedgerTrial, PlanReport, VariantSummary, Weight,
};
use schemars::JsonSchema;
use serde::Serialize;

/// JSON form of a plan that needs files from a depot first.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct WaitingView {
    pub title: String,
    pub depot: Vec<DepotUse>,
    /// `false`.
    pub complete: bool,
}

/// The plan for a person.
pub(crate) fn plan(report: &PlanReport) -> String {
    let title = if report.title.is_empty() { "Plan" } else { &report.title };
    let mut text = format!("{}{}{:#}\n", style::HEADING, outside::line(title), style::HEADING);
    let mut sheet = Sheet::default();
    match &report.source {
        Some(source) => {
            let kind = if source.size > 0 { size(source.size) } else { "a folder".into() };
            let checked = if source.sha256.is_some() { ", digest checked" } else { "" };
            sheet.row("from", format!("{} ({kind}, label {}){checked}", source.path, label(&source.label)));
        }
        None => sheet.row("from", "nothing: the media holds what is put on it"),
    }
    let output = &report.output;
    for (number, own) in report.outputs.iter().enumerate() {
        let what = if own.what.is_empty() { String::new() } else { format!(", {}", own.what) };
        let text = format!("{} ({}{what}, label {})", own.path, size(own.size), label(&own.label));
        sheet.row(if number == 0 { "to" } else { "" }, text);
    }
    sheet.row("holds", count(output.files, "file", "files"));
    if output.shared > 0 {
        sheet.row("saved", format!("{}, because identical files are stored once", size(output.shared)));
    }
    let ways = report.outputs.iter().flat_map(|own| -> Vec<String> {
        if own.form == "disc" {
            return output.boot.iter().map(boot).collect();
        }
        own.boot.iter().map(|way| format!("{way}, from the {}", own.form)).collect()
    });
    for (number, way) in ways.enumerate() {
        sheet.row(if number == 0 { "boots" } else { "" }, way);
    }
    if output.hybrid && output.iso.is_some() {
        sheet.row("", "also as a disk, by a GPT");
    }
    let answers =
        if output.answer_files.is_empty() { "none".to_owned() } else { output.answer_files.join(", ") };
    sheet.row("answers", answers);
    text.push_str(&sheet.text());
    text.push_str(&super::depot::uses(&report.depot));
    if !report.editions.is_empty() {
        text.push_str(&format!(
            "\n{}Editions{:#}\n{}",
            style::HEADING,
            style::HEADING,
            editions(&report.editions)
        ));
    }
    text.push_str(&format!("\n{}Steps{:#}\n", style::HEADING, style::HEADING));
    let width = report.steps.iter().map(|step| step.action.len()).max().unwrap_or(0);
    for (number, step) in report.steps.iter().enumerate() {
        let bytes = match step.bytes {
            0 => String::new(),
            bytes => format!("  {}{}", if bytes > 0 { "+" } else { "−" }, size(bytes.unsigned_abs())),
        };
        let column = width + 8;
        let subject = super::wrapped(&format!("{}{bytes}", step.subject), column);
        text.push_str(&format!("  {:>2}  {:width$}  {subject}\n", number + 1, step.action));
        let reason = super::wrapped(&step.reason, column);
        text.push_str(&format!("      {:width$}  {}{reason}{:#}\n", "", style::REASON, style::REASON));
    }
    text.push_str(&super::items::work(&report.editions_work));
    if !report.variants.is_empty() {
        text.push_str(&variants(&report.variants));
    }
    text.push_str(&findings("Before you build", &report.findings));
    text
}

fn label(label: &str) -> &str {
    if label.is_empty() { "(none)" } else { label }
}

fn boot(entry: &BootSummary) -> String {
    let load = match (entry.platform.as_str(), entry.load_sectors) {
        ("BIOS", sectors) => format!(", loads {}", count(sectors.into(), "sector", "sectors")),
        _ => String::new(),
    };
    let table = if entry.boot_info_table { ", boot-info table" } else { "" };
    format!("{}: {}, {}{load}{table}", entry.platform, entry.image, size(entry.size))
}

/// Findings for a person under a heading, the heaviest first; empty when there are none.
pub(crate) fn findings(heading: &str, findings: &[Finding]) -> String {
    if findings.is_empty() {
        return String::new();
    }
    let mut text = format!("\n{}{heading}{:#}\n", style::HEADING, style::HEADING);
    for finding in findings {
        let (name, style) = match finding.weight {
            Weight::Refused => ("refused", style::BAD),
            Weight::Danger => ("danger", style::CARE),
            Weight::Problem => ("problem", style::BAD),
            Weight::Note => ("note", style::QUIET),
        };
        text.push_str(&format!("  {style}{name:>7}{style:#}  {}\n", super::wrapped(&finding.message, 11)));
        if !finding.hint.is_empty() {
            text.push_str(&format!("           {}\n", super::wrapped(&finding.hint, 11)));
        }
    }
    text
}

/// Media for the machines of a site list.
fn variants(variants: &[VariantSummary]) -> String {
    /// Machines that are shown; more only make the plan unreadable.
    const SHOWN: usize = 20;
    let columns: Vec<&String> = variants
        .first()
        .map(|first| first.cells.keys().filter(|name| *name != "name").collect())
        .unwrap_or_default();
    let has_iso = variants.iter().any(|own| !own.iso.is_empty());
    let mut heads = vec!["row".to_owned(), "machine".to_owned()];
    heads.extend(columns.iter().map(|name| (*name).clone()));
    if has_iso {
        heads.push("media".into());
    }
    let mut rows = vec![heads];
    for own in variants.iter().take(SHOWN) {
        let mut row = vec![own.row.to_string(), own.machine.clone()];
        row.extend(
            columns.iter().map(|name| {
                own.cells.get(*name).and_then(|cell| cell.as_str()).unwrap_or_default().to_owned()
            }),
        );
        if has_iso {
            row.push(own.iso.clone());
        }
        rows.push(row);
    }
    let machines = super::count(variants.len() as u64, "machine", "machines");
    let mut text = format!("\n{}{machines}{:#}\n", style::HEADING, style::HEADING);
    for (index, line) in table(&rows, &[]).into_iter().enumerate() {
        let style = if index == 0 { style::QUIET } else { style::PLAIN };
        text.push_str(&format!("  {style}{line}{style:#}\n"));
    }
    if variants.len() > SHOWN {
        text.push_str(&format!("  … and {} more; --json has all\n", variants.len() - SHOWN));
    }
    text
}

/// The result of a build of several media for a person.
pub(crate) fn built_several(ledgers: &[&Ledger]) -> String {
    let outputs = || ledgers.iter().flat_map(|ledger| &ledger.outputs);
    let total: u64 = outputs().map(|output| output.size).sum();
    let count = super::count(outputs().count() as u64, "media", "media");
    let mut text = format!("{}{count}{:#}  {}\n", style::HEADING, style::HEADING, size(total));
    for output in outputs() {
        text.push_str(&format!("  {}  {}\n", outside::line(&output.path), size(output.size)));
    }
    text.push_str("  each has its ledger beside it\n");
    text
}

/// The result of a build for a person.
pub(crate) fn built(ledger: &Ledger, path: &str) -> String {
    let last = ledger.outputs.len().saturating_sub(1);
    let text = |(number, own): (usize, &LedgerOutput)| {
        let trials = ledger.trials.iter().filter(|trial| trial.path == own.path).collect();
        output(own, trials, (number == last).then_some(path))
    };
    ledger.outputs.iter().enumerate().map(text).collect()
}

fn output(output: &LedgerOutput, trials: Vec<&LedgerTrial>, ledger: Option<&str>) -> String {
    let mut sheet = Sheet::default();
    sheet.row("label", label(&output.label));
    for (number, entry) in output.boot.iter().enumerate() {
        sheet.row(if number == 0 { "boots" } else { "" }, entry);
    }
    if let Some(sha256) = &output.sha256 {
        sheet.row("sha256", sha256);
    }
    for (number, trial) in trials.into_iter().enumerate() {
        let text = format!("{}: {}", trial.firmware.name(), trial.evidence);
        sheet.row(if number == 0 { "came up" } else { "" }, text);
    }
    sheet.row_if("ledger", ledger.unwrap_or_default());
    heading_line(&output.path, &size(output.size)) + &sheet.text()
}

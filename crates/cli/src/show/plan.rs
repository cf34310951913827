//! What `plan` and `build` say.

use super::{Sheet, count, heading, heading_line, image::editions, outside, size, style, table};
use neat_stack::{
    BootSummary, DepotUse, DeviceSummary, Finding, Ledger, LedgerOutput, LedgerTrial, PlanReport,
    VariantSummary, Weight,
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

/// Title of a plan.
pub(super) fn title(report: &PlanReport) -> String {
    let title = if report.title.is_empty() { "Plan" } else { &report.title };
    format!("{}{}{:#}\n", style::HEADING, outside::line(title), style::HEADING)
}

/// Says in `sheet` where a plan begins and what comes out.
pub(super) fn ends(report: &PlanReport, sheet: &mut Sheet) {
    match &report.source {
        Some(source) => {
            let kind = if source.size > 0 { size(source.size) } else { "a folder".into() };
            let checked = if source.sha256.is_some() { ", digest checked" } else { "" };
            sheet.row("from", format!("{} ({kind}, label {}){checked}", source.path, label(&source.label)));
        }
        None => sheet.row("from", "nothing: the media holds what is put on it"),
    }
    for (number, own) in report.outputs.iter().enumerate() {
        let what = if own.what.is_empty() { String::new() } else { format!(", {}", own.what) };
        let text = format!("{} ({}{what}, label {})", own.path, size(own.size), label(&own.label));
        sheet.row(if number == 0 { "to" } else { "" }, text);
    }
}

/// What a media allows setup to do.
pub(crate) fn restrictions(all: &[String], sheet: &mut Sheet) {
    for (number, own) in all.iter().enumerate() {
        let name = if number == 0 { "setup" } else { "" };
        sheet.row(name, own.strip_prefix("setup ").unwrap_or(own));
    }
}

/// The answer files of the media that comes out.
pub(super) fn answers(report: &PlanReport) -> String {
    let files = &report.output.answer_files;
    if files.is_empty() { "none".to_owned() } else { files.join(", ") }
}

/// The plan for a person, item for item.
pub(crate) fn plan(report: &PlanReport) -> String {
    let mut sheet = Sheet::default();
    let mut text = title(report);
    ends(report, &mut sheet);
    let output = &report.output;
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
    sheet.row("answers", answers(report));
    report.source.iter().for_each(|own| restrictions(&own.restrictions, &mut sheet));
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
    if let Some(since) = &report.since {
        text.push_str(&super::since::since(since, "Since the earlier build"));
    }
    text.push_str(&devices(&report.devices));
    if !report.variants.is_empty() {
        text.push_str(&variants(&report.variants, None));
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

/// The devices of the lists, and what serves each.
fn devices(devices: &[DeviceSummary]) -> String {
    if devices.is_empty() {
        return String::new();
    }
    let mut text = heading("Devices of the lists");
    let row = |own: &DeviceSummary| {
        let sign = if own.driver.is_some() { "+" } else { "✗" };
        let name = if own.name.is_empty() { &own.id } else { &own.name };
        let driver = own.driver.as_deref().unwrap_or("no driver from these packs");
        vec![sign.to_owned(), name.clone(), driver.to_owned()]
    };
    let rows: Vec<Vec<String>> = devices.iter().map(row).collect();
    for (line, own) in table(&rows, &[]).into_iter().zip(devices) {
        let style = if own.driver.is_some() { style::PLAIN } else { style::CARE };
        text.push_str(&format!("  {style}{line}{style:#}\n"));
    }
    text
}

/// Media for the machines of a site list, at most `shown` of them.
pub(super) fn variants(variants: &[VariantSummary], shown: Option<usize>) -> String {
    let shown = shown.unwrap_or(usize::MAX);
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
    for own in variants.iter().take(shown) {
        let mut row = vec![own.row.to_string(), own.machine.clone()];
        row.extend(
            columns.iter().map(|name| {
                own.cells.get(*name).and_then(|cell| cell.as_str()).unwrap_or_default().to_owned()
            }),
        );
        if has_iso {
            row.push(own.outputs.join(", "));
        }
        rows.push(row);
    }
    let machines = super::count(variants.len() as u64, "machine", "machines");
    let first = variants.first().map_or("", |own| own.machine.as_str());
    let mut text = heading(&format!("{machines}; what is said above is of {first}"));
    for (index, line) in table(&rows, &[]).into_iter().enumerate() {
        let style = if index == 0 { style::QUIET } else { style::PLAIN };
        text.push_str(&format!("  {style}{line}{style:#}\n"));
    }
    if variants.len() > shown {
        text.push_str(&format!("  … and {} more; --all shows them\n", variants.len() - shown));
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

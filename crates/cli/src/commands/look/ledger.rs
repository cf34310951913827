//! `look` at the ledger of a build.

use super::heading;
use crate::{
    context::Context,
    show::{
        self, Sheet,
        known::{LedgerView, OutputNow},
    },
};
use neat_content::{Content, DigestKind, Result, digest_of};
use neat_stack::{Ledger, LedgerOutput};
use std::path::Path;

pub(super) fn ledger(path: &Path, text: &str, context: &Context) -> Result<()> {
    let ledger = Ledger::parse(text).map_err(|error| error.within(path.display()))?;
    let now: Vec<OutputNow> =
        ledger.outputs.iter().map(|output| output_now(path, output, context)).collect::<Result<_>>()?;
    context.clear_progress();
    if context.json {
        return context.print_json(&LedgerView { ledger, now });
    }
    let mut text = ledger_text(path, &ledger);
    for own in now.iter().filter(|own| own.state != "as built") {
        text.push_str(&show::note(&format!("{} is {}", own.path, own.state)));
    }
    context.print(&text)
}

/// Compares an output with its ledger: a build that was killed while names were given leaves files that do not belong
/// together. It is looked for where it was written, and beside the ledger.
pub(super) fn output_now(ledger: &Path, output: &LedgerOutput, context: &Context) -> Result<OutputNow> {
    let written = Path::new(&output.path);
    let beside = written.file_name().map(|name| ledger.with_file_name(name));
    let found = std::iter::once(written.to_owned()).chain(beside).find(|path| path.is_file());
    let now = |path: &Path, state| Ok(OutputNow { path: path.display().to_string(), state });
    let Some(found) = found else { return now(written, "not there any more") };
    let content = Content::from_path(&found)?;
    if content.len() != output.size {
        return now(&found, "not what this build wrote: it has another size");
    }
    match &output.sha256 {
        None => now(&found, "as built"),
        Some(sha256) if digest_of(&content, DigestKind::Sha256, &context.job())? == *sha256 => {
            now(&found, "as built")
        }
        Some(_) => now(&found, "not what this build wrote: it has another digest"),
    }
}

/// A ledger for a person.
pub(in crate::commands) fn ledger_text(path: &Path, ledger: &Ledger) -> String {
    let mut sheet = Sheet::default();
    sheet.row_if("title", &ledger.title);
    for (number, output) in ledger.outputs.iter().enumerate() {
        if number == 0 {
            sheet.row("built", &output.path);
            sheet.row("label", &output.label);
            sheet.row("size", show::size(output.size));
        } else {
            sheet.row(&output.form, format!("{}, {}", output.path, show::size(output.size)));
        }
        sheet.row_if("sha256", output.sha256.as_deref().unwrap_or_default());
    }
    for (number, trial) in ledger.trials.iter().enumerate() {
        let text = format!("{} as a {}: {}", trial.firmware.name(), trial.attached.name(), trial.evidence);
        sheet.row(if number == 0 { "came up" } else { "" }, text);
    }
    if let Some(source) = &ledger.source {
        sheet.row("from", &source.path);
    }
    for (number, step) in ledger.steps.iter().enumerate() {
        sheet.row(if number == 0 { "done" } else { "" }, step);
    }
    for (number, finding) in ledger.findings.iter().enumerate() {
        sheet.row(if number == 0 { "said" } else { "" }, finding);
    }
    let inside = show::items::done(&ledger.items);
    format!("{}{}{inside}", heading(path, "ledger of a build"), sheet.text())
}

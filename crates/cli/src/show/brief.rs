//! A plan on one screen: what comes out, what to mind, what is done, and what is left out.

use super::{
    Sheet, count, heading, outside,
    plan::{answers, ends, findings, restrictions, title, variants},
    size, style, wrapped,
};
use neat_service::Verdict;
use neat_stack::{EditionWork, Finding, PlanReport, PlanStep, Weight};
use std::path::Path;

/// Lines that a list has at most; what is left over is counted.
const SHOWN: usize = 6;
/// Steps with files of one folder that are told as one.
const ALIKE: usize = 3;

/// The plan of the stack file at `stack` for a person, in short.
pub(crate) fn plan(report: &PlanReport, stack: &Path) -> String {
    let mut sheet = Sheet::default();
    let mut text = title(report);
    ends(report, &mut sheet);
    sheet.row("boots", boots(report));
    sheet.row("answers", answers(report));
    report.source.iter().for_each(|own| restrictions(&own.restrictions, &mut sheet));
    let kept: Vec<&str> =
        report.editions.iter().filter(|own| own.kept).map(|own| own.name.as_str()).collect();
    if kept.len() < report.editions.len() {
        let all = report.editions.len();
        sheet.row("keeps", format!("{} of {all} editions: {}", kept.len(), kept.join(", ")));
    } else if !kept.is_empty() {
        sheet.row("editions", kept.join(", "));
    }
    text.push_str(&sheet.text());
    text.push_str(&super::depot::uses(&report.depot));
    text.push_str(&heavy(&report.findings));
    if let Some(since) = &report.since {
        text.push_str(&super::since::since(since, "Since the earlier build"));
    }
    text.push_str(&devices(report));
    text.push_str(&heading("Steps"));
    text.push_str(&steps(&report.steps));
    text.push_str(&left_out(&report.editions_work));
    if !report.variants.is_empty() {
        text.push_str(&variants(&report.variants, Some(SHOWN)));
    }
    let notes = match report.findings.iter().filter(|own| own.weight == Weight::Note).count() {
        0 => String::new(),
        notes => format!(" and {}", count(notes as u64, "note", "notes")),
    };
    let all = format!("neatstack plan {} --all", super::in_command(stack));
    text.push_str(&format!(
        "\n  {}{}{:#}\n",
        style::QUIET,
        wrapped(&format!("`{all}` shows every item with its reason{notes}."), 2),
        style::QUIET
    ));
    text
}

/// Findings that are more than notes, under a heading; empty when there are none.
pub(crate) fn heavy(all: &[Finding]) -> String {
    let heavy: Vec<Finding> = all.iter().filter(|own| own.weight != Weight::Note).cloned().collect();
    findings("Before you build", &heavy)
}

/// What the media starts on.
fn boots(report: &PlanReport) -> String {
    let mut ways: Vec<&str> = Vec::new();
    for entry in &report.output.boot {
        if !ways.contains(&entry.platform.as_str()) {
            ways.push(&entry.platform);
        }
    }
    match ways.as_slice() {
        [] => "nothing: it will not start a machine".to_owned(),
        ways if report.output.hybrid && report.output.iso.is_some() => {
            format!("{}; also as a disk", ways.join(", "))
        }
        ways => ways.join(", "),
    }
}

/// Devices of the lists that nothing serves.
fn devices(report: &PlanReport) -> String {
    let without: Vec<_> = report.devices.iter().filter(|device| device.driver.is_none()).collect();
    if without.is_empty() {
        return String::new();
    }
    let all = report.devices.len() as u64;
    let mut text = heading(&format!(
        "Without a driver from these packs: {} of {}",
        without.len(),
        count(all, "device", "devices")
    ));
    for device in without.iter().take(SHOWN) {
        let name = if device.name.is_empty() { &device.id } else { &device.name };
        text.push_str(&format!("  {}·{:#}  {}\n", style::CARE, style::CARE, wrapped(name, 5)));
    }
    text.push_str(&rest(without.len()));
    text
}

/// Says how many lines are not shown.
fn rest(all: usize) -> String {
    if all > SHOWN { format!("     … and {} more\n", all - SHOWN) } else { String::new() }
}

/// One line for each step; files of one folder are one step, and so is what is set one after another in one place.
pub(crate) fn steps(steps: &[PlanStep]) -> String {
    let mut told: Vec<(String, String, i64)> = Vec::new();
    let mut at = 0;
    while at < steps.len() {
        let (count, subject) = one_line(&steps[at..]);
        let bytes = steps[at..at + count].iter().map(|step| step.bytes).sum();
        told.push((steps[at].action.clone(), subject, bytes));
        at += count;
    }
    let width = told.iter().map(|(action, ..)| action.len()).max().unwrap_or(0);
    let line = |(n, (action, subject, bytes)): (usize, &(String, String, i64))| {
        let bytes = match bytes {
            0 => String::new(),
            bytes => {
                let sign = if *bytes > 0 { "+" } else { "−" };
                format!("  {sign}{}", size(bytes.unsigned_abs()).replace(' ', super::TOGETHER))
            }
        };
        let subject = wrapped(&format!("{subject}{bytes}"), width + 8);
        format!("  {:>2}  {:width$}  {subject}\n", n + 1, outside::line(action))
    };
    told.iter().enumerate().map(line).collect()
}

/// How many of the first steps stand in one line, and what it says.
fn one_line(steps: &[PlanStep]) -> (usize, String) {
    let count = alike(steps);
    if count > 1 {
        return (count, format!("{count} files under {}", common_folder(&steps[..count])));
    }
    let first = &steps[0];
    let Some((what, place)) = set_in(first) else { return (1, first.subject.clone()) };
    let mut all = vec![what];
    all.extend(
        steps[1..].iter().map_while(|step| set_in(step).filter(|own| own.1 == place)).map(|own| own.0),
    );
    (all.len(), format!("{} in {place}", all.join(", ")))
}

/// What a step sets or switches, and where.
fn set_in(step: &PlanStep) -> Option<(&str, &str)> {
    let is_set = matches!(step.action.as_str(), "set" | "switch");
    step.subject.split_once(" in ").filter(|_| is_set && step.bytes == 0)
}

/// How many of the first steps put single files into one folder of the media; 1 unless they are several.
fn alike(steps: &[PlanStep]) -> usize {
    let top = |step: &PlanStep| {
        let path = step.subject.strip_prefix("media:/").filter(|_| step.action == "put")?;
        path.split_once('/').map(|(top, _)| top.to_owned())
    };
    let Some(first) = steps.first().and_then(top) else { return 1 };
    let group = steps.iter().take_while(|step| top(step).as_deref() == Some(first.as_str())).count();
    if group >= ALIKE { group } else { 1 }
}

/// The longest folder that all of these files lie in.
fn common_folder(steps: &[PlanStep]) -> String {
    let folder = |step: &PlanStep| -> Vec<String> {
        let path = step.subject.rsplit_once('/').map_or("", |(folder, _)| folder);
        path.split('/').map(str::to_owned).collect()
    };
    let mut common = steps.first().map(folder).unwrap_or_default();
    for step in steps {
        let own = folder(step);
        let same = common.iter().zip(&own).take_while(|(a, b)| a == b).count();
        common.truncate(same);
    }
    common.join("/")
}

/// Items that were not done, equal ones of several editions once, and those with the same reason together.
fn left_out(all: &[EditionWork]) -> String {
    let mut seen: Vec<(&str, &str, &str)> = Vec::new();
    let mut groups: Vec<(Verdict, &str, &str, Vec<&str>)> = Vec::new();
    for item in all.iter().flat_map(|work| &work.items).filter(|item| item.verdict != Verdict::Applied) {
        let key = (item.kind, item.subject.as_str(), item.detail.as_str());
        if seen.contains(&key) {
            continue;
        }
        seen.push(key);
        let group = groups.iter_mut().find(|(verdict, kind, detail, _)| {
            (*verdict, *kind, *detail) == (item.verdict, item.kind, item.detail.as_str())
        });
        match group {
            Some((.., subjects)) => subjects.push(&item.subject),
            None => groups.push((item.verdict, item.kind, &item.detail, vec![&item.subject])),
        }
    }
    if groups.is_empty() {
        return String::new();
    }
    // What somebody may have counted on comes first.
    groups.sort_by_key(|(verdict, ..)| std::cmp::Reverse(*verdict));
    let mut text = heading("Left out");
    for (verdict, kind, detail, subjects) in groups.iter().take(SHOWN) {
        let (sign, style) =
            if *verdict == Verdict::Refused { ("✗", style::CARE) } else { ("·", style::REASON) };
        let what = match subjects.as_slice() {
            [one] => (*one).to_owned(),
            several => format!("{} × {kind}, such as {}", several.len(), several[0]),
        };
        text.push_str(&format!("  {style}{sign}{style:#}  {}\n", wrapped(&format!("{what}: {detail}"), 5)));
    }
    text.push_str(&rest(groups.len()));
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_of_one_folder_are_one_step() {
        let step = |action: &str, subject: &str| PlanStep {
            action: action.into(),
            subject: subject.into(),
            reason: String::new(),
            bytes: 1024,
        };
        let all = [
            step("put", "media:/a/b/1"),
            step("put", "media:/a/b/c/2"),
            step("put", "media:/a/b/3"),
            step("put", "media:/d/4"),
            step("put", "media:/d/5"),
            step("put", "media:/6"),
            step("master", "the disc"),
        ];
        let text = steps(&all);
        let lines: Vec<&str> = text.lines().collect();
        assert_eq!(lines.len(), 5, "{text}");
        assert_eq!(lines[0], "   1  put     3 files under media:/a/b  +3.0 KiB");
        assert!(lines[1].ends_with("media:/d/4  +1.0 KiB"));
        assert!(lines[4].contains("the disc"));
    }
}

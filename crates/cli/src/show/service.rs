//! What `inventory`, `drivers` and `compare` say, and the items of a plan.

use super::{count, heading, outside, size, style, table};
use neat_content::and_more;
use neat_package::UpdateSection;
use neat_service::{Category, Component, EditionRecord, Item};
use neat_stack::{Comparison, EditionWork, FileChange, LedgerItem};
use schemars::JsonSchema;
use serde::Serialize;

/// JSON form of `inventory`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct InventoryView {
    pub edition: String,
    pub number: usize,
    pub components: Vec<Component>,
    /// What builds put in.
    pub integrated: EditionRecord,
}

/// JSON form of `drivers`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DriversView {
    pub architecture: &'static str,
    pub drivers: Vec<DriverRow>,
    pub devices: Vec<DeviceRow>,
}

/// JSON form of `update new`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct UpdateWrittenView {
    pub path: String,
    pub size: u64,
    pub files: usize,
    /// As in `update.toml`.
    pub update: UpdateSection,
}

/// A driver of a pack.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DriverRow {
    pub path: String,
    pub class: String,
    pub provider: String,
    pub version: String,
    pub date: String,
    pub architectures: Vec<&'static str>,
    /// Devices that it serves on the architecture asked for.
    pub devices: usize,
    pub signed: bool,
    pub missing: Vec<String>,
    pub superseded_by: Option<String>,
}

/// A device of a machine.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DeviceRow {
    pub name: String,
    pub id: String,
    pub driver: Option<String>,
    /// The id that the driver serves it by.
    pub by: Option<String>,
    /// Whether that driver has all its files.
    pub complete: bool,
}

/// Components of an edition, by category and group.
pub(crate) fn inventory(edition: &str, components: &[&Component], record: &EditionRecord) -> String {
    let mut text = format!("{}{}{:#}\n", style::HEADING, outside::line(edition), style::HEADING);
    for category in Category::ALL {
        let mut own: Vec<&&Component> =
            components.iter().filter(|component| Category::of_id(&component.id) == category).collect();
        if own.is_empty() {
            continue;
        }
        own.sort_by(|a, b| (&a.group, &a.id).cmp(&(&b.group, &b.id)));
        let bytes: u64 = own.iter().map(|component| component.bytes).sum();
        text.push_str(&format!(
            "\n{}{}{:#}  {}, {}\n",
            style::HEADING,
            category.word(),
            style::HEADING,
            count(own.len() as u64, "component", "components"),
            size(bytes)
        ));
        let mut rows: Vec<Vec<String>> =
            vec![["", "", "", "", "", "installed", "image file"].map(str::to_owned).to_vec()];
        rows.extend(own.iter().map(|component| {
            let title = if component.title.eq_ignore_ascii_case(component.id.rsplit('/').next().unwrap_or(""))
            {
                String::new()
            } else {
                component.title.clone()
            };
            vec![
                if component.gone_for_good { "!".into() } else { String::new() },
                component.id.clone(),
                title,
                component.state.clone(),
                component.group.clone(),
                if component.bytes > 0 { size(component.bytes) } else { String::new() },
                if component.packed > 0 { size(component.packed) } else { String::new() },
            ]
        }));
        let mut lines = table(&rows, &[5, 6]).into_iter();
        if let Some(line) = lines.next() {
            text.push_str(&format!("  {}{line}{:#}\n", style::QUIET, style::QUIET));
        }
        for (line, component) in lines.zip(own) {
            text.push_str(&format!("  {line}\n"));
            let list = |name: &str, ids: &[String]| {
                const SHOWN: usize = 6;
                if ids.is_empty() {
                    return String::new();
                }
                let more = and_more(ids.len().saturating_sub(SHOWN));
                format!(
                    "      {}{name} {}{more}{:#}\n",
                    style::REASON,
                    outside::line(&ids[..ids.len().min(SHOWN)].join(", ")),
                    style::REASON
                )
            };
            text.push_str(&list("needs", &component.needs));
            text.push_str(&list("needed by", &component.needed_by));
            if !component.description.is_empty() {
                text.push_str(&format!(
                    "      {}{}{:#}\n",
                    style::REASON,
                    outside::line(&component.description),
                    style::REASON
                ));
            }
            if !component.caution.is_empty() {
                text.push_str(&format!(
                    "      {}{}{:#}\n",
                    style::CARE,
                    outside::line(&component.caution),
                    style::CARE
                ));
            }
            if !component.required.is_empty() {
                text.push_str(&format!(
                    "      {}stays: {}{:#}\n",
                    style::CARE,
                    outside::line(&component.required),
                    style::CARE
                ));
            }
        }
    }
    text.push_str(&integrated(record));
    text
}

/// What builds did to an edition.
pub(crate) fn integrated(record: &EditionRecord) -> String {
    if record.is_empty() {
        return String::new();
    }
    let mut text = heading("By earlier builds");
    let mut rows: Vec<Vec<String>> = Vec::new();
    for update in &record.updates {
        rows.push(vec!["update".into(), update.id.clone(), update.version.clone(), update.title.clone()]);
    }
    for driver in &record.drivers {
        rows.push(vec!["driver".into(), driver.inf.clone(), driver.version.clone(), driver.provider.clone()]);
    }
    rows.extend(record.removed.iter().map(|id| vec!["taken out".into(), id.clone()]));
    rows.extend(record.settings.iter().map(|id| vec!["setting".into(), id.clone()]));
    rows.extend(record.apps.iter().map(|app| vec!["app".into(), app.clone()]));
    table(&rows, &[]).into_iter().for_each(|line| text.push_str(&format!("  {line}\n")));
    text
}

/// Drivers, and the devices that they serve.
pub(crate) fn drivers(rows: &[DriverRow], devices: &[DeviceRow], arch: &str, asked: bool) -> String {
    let mut cells =
        vec![["driver", "class", "version", "date", "for", "devices", ""].map(str::to_owned).to_vec()];
    let mut remarks = vec![String::new()];
    for row in rows {
        let mut notes = Vec::new();
        if !row.signed {
            notes.push("not signed".to_owned());
        }
        if !row.missing.is_empty() {
            notes.push(format!("lacks {}", row.missing.join(", ")));
        }
        if let Some(other) = &row.superseded_by {
            notes.push(format!("older than {other}"));
        }
        cells.push(vec![
            row.path.clone(),
            row.class.clone(),
            row.version.clone(),
            row.date.clone(),
            row.architectures.join(" "),
            row.devices.to_string(),
        ]);
        remarks.push(notes.join("; "));
    }
    let mut text = String::new();
    for (n, (line, remark)) in table(&cells, &[5]).into_iter().zip(remarks).enumerate() {
        let style = if n == 0 { style::QUIET } else { style::PLAIN };
        text.push_str(&format!("{style}{line}{style:#}\n"));
        if !remark.is_empty() {
            text.push_str(&format!("    {}{}{:#}\n", style::CARE, outside::line(&remark), style::CARE));
        }
    }
    if !asked {
        return text;
    }
    let served = devices.iter().filter(|device| device.driver.is_some() && device.complete).count();
    text.push_str(&heading(&format!(
        "{served} of {} devices have a driver for {arch} in there",
        devices.len()
    )));
    let mut cells = Vec::new();
    for device in devices {
        let (state, detail) = match (&device.driver, device.complete) {
            (Some(driver), true) => ("ok", driver.clone()),
            (Some(driver), false) => ("lacks", format!("{driver} is not complete")),
            (None, _) => ("none", device.id.clone()),
        };
        cells.push(vec![state.to_owned(), device.name.clone(), detail]);
    }
    for (line, device) in table(&cells, &[]).into_iter().zip(devices) {
        let style = match (&device.driver, device.complete) {
            (Some(_), true) => style::PLAIN,
            (Some(_), false) => style::CARE,
            (None, _) => style::BAD,
        };
        text.push_str(&format!("  {style}{line}{style:#}\n"));
    }
    text
}

/// Words of the sorts of items, in the order in which they are done.
const KINDS: [(&str, &str); 9] = [
    ("update", "Updates"),
    ("remove", "Taken out"),
    ("driver", "Drivers"),
    ("file", "Files"),
    ("app", "Applications"),
    ("language", "Languages"),
    ("setting", "Settings"),
    ("service", "Services"),
    ("feature", "Features"),
];

/// An item of a plan or of a ledger.
struct Line<'a> {
    kind: &'a str,
    subject: &'a str,
    verdict: &'a str,
    detail: &'a str,
    bytes: i64,
    optional: bool,
}

impl<'a> Line<'a> {
    fn of(item: &'a Item) -> Self {
        let Item { kind, subject, verdict, detail, bytes, optional } = item;
        Self { kind, subject, verdict: verdict.word(), detail, bytes: *bytes, optional: *optional }
    }
}

/// What is done inside each edition.
pub(crate) fn work(all: &[EditionWork]) -> String {
    let mut text = String::new();
    for work in all {
        let place = if work.setup {
            format!("the setup environment, {}", work.edition)
        } else {
            work.edition.clone()
        };
        let lines: Vec<Line<'_>> = work.items.iter().map(Line::of).collect();
        text.push_str(&inside(&place, &lines));
    }
    text
}

/// What was done inside each edition, from a ledger.
pub(crate) fn done(items: &[LedgerItem]) -> String {
    let mut editions: Vec<&str> = items.iter().map(|item| item.edition.as_str()).collect();
    editions.dedup();
    let mut text = String::new();
    for edition in editions {
        let own = items.iter().filter(|item| item.edition == edition);
        let lines: Vec<Line<'_>> = own
            .map(|item| Line {
                kind: &item.kind,
                subject: &item.subject,
                verdict: &item.verdict,
                detail: &item.detail,
                bytes: item.bytes,
                // A media was built, so what was refused did not matter.
                optional: true,
            })
            .collect();
        text.push_str(&inside(edition, &lines));
    }
    text
}

/// Items under a heading, by their sort.
fn inside(place: &str, lines: &[Line<'_>]) -> String {
    if lines.is_empty() {
        return String::new();
    }
    let mut text = heading(&format!("Inside {place}"));
    for (kind, title) in KINDS {
        let own: Vec<&Line<'_>> = lines.iter().filter(|line| line.kind == kind).collect();
        if own.is_empty() {
            continue;
        }
        text.push_str(&format!("  {}{title}{:#}\n", style::QUIET, style::QUIET));
        if matches!(kind, "setting" | "language") {
            text.push_str(&values(&own));
            continue;
        }
        let rows: Vec<Vec<String>> = own
            .iter()
            .map(|line| {
                let mut row = row(line);
                // A reason has a line of its own: it is a sentence.
                if has_own_line(line) {
                    row.truncate(3);
                }
                row
            })
            .collect();
        for (text_line, own) in table(&rows, &[2]).into_iter().zip(own) {
            let style = match (own.verdict, own.optional) {
                ("applied", _) => style::PLAIN,
                ("skipped", _) => style::REASON,
                (_, true) => style::CARE,
                (_, false) => style::BAD,
            };
            text.push_str(&format!("    {style}{text_line}{style:#}\n"));
            if has_own_line(own) && !own.detail.is_empty() {
                let detail = outside::line(own.detail);
                text.push_str(&format!("         {}{detail}{:#}\n", style::REASON, style::REASON));
            }
        }
    }
    text
}

/// Whether the detail of an item is too long to stand beside it.
fn has_own_line(line: &Line<'_>) -> bool {
    line.verdict != "applied" || line.kind == "update" || line.detail.chars().count() > 45
}

/// Values of the registry: below whose they are, and below their keys.
fn values(lines: &[&Line<'_>]) -> String {
    let mut text = String::new();
    let (mut subject, mut key) = ("", String::new());
    for line in lines {
        if line.subject != subject {
            subject = line.subject;
            key.clear();
            let sign = row(line).swap_remove(0);
            let why = if line.verdict == "applied" { String::new() } else { format!("  {}", line.detail) };
            let style = match (line.verdict, line.optional) {
                ("applied", _) => style::PLAIN,
                ("skipped", _) => style::REASON,
                (_, true) => style::CARE,
                (_, false) => style::BAD,
            };
            text.push_str(&format!(
                "    {style}{sign}  {}{style:#}\n",
                outside::line(&format!("{subject}{why}"))
            ));
        }
        if line.verdict != "applied" {
            continue;
        }
        let split = line.detail.split_once(": ").and_then(|(path, change)| {
            let (key, name) = path.rsplit_once('\\')?;
            Some((key, format!("{name}: {change}")))
        });
        let (own, change) = split.unwrap_or(("", line.detail.to_owned()));
        let short = own
            .replacen("HKEY_LOCAL_MACHINE", "HKLM", 1)
            .replacen("HKEY_CURRENT_USER", "HKCU", 1)
            .replacen("HKEY_USERS", "HKU", 1);
        if short != key {
            text.push_str(&format!("       {}{}{:#}\n", style::REASON, outside::line(&short), style::REASON));
            key = short;
        }
        text.push_str(&format!("         {}\n", outside::line(&change)));
    }
    text
}

fn row(line: &Line<'_>) -> Vec<String> {
    let sign = match (line.verdict, line.kind) {
        ("applied", "remove") => "−",
        ("applied", "setting" | "service" | "feature" | "language") => "=",
        ("applied", _) => "+",
        ("skipped", _) => "·",
        _ => "✗",
    };
    let bytes = match line.bytes {
        0 => String::new(),
        bytes => format!("{}{}", if bytes > 0 { "+" } else { "−" }, size(bytes.unsigned_abs())),
    };
    vec![sign.into(), line.subject.into(), bytes, line.detail.into()]
}

fn file_lines(files: &[FileChange]) -> String {
    let rows: Vec<Vec<String>> = files
        .iter()
        .map(|file| match (file.before, file.after) {
            (Some(before), None) => vec!["−".into(), file.path.clone(), size(before)],
            (None, Some(after)) => vec!["+".into(), file.path.clone(), size(after)],
            (Some(before), Some(after)) if before == after => {
                vec!["~".into(), file.path.clone(), size(after), "other bytes".into()]
            }
            (before, after) => {
                vec![
                    "~".into(),
                    file.path.clone(),
                    size(after.unwrap_or(0)),
                    format!("was {}", size(before.unwrap_or(0))),
                ]
            }
        })
        .collect();
    table(&rows, &[2]).into_iter().map(|line| format!("  {line}\n")).collect()
}

/// Words with commas between, in lines that fit.
fn wrapped(words: &[String]) -> String {
    const WIDTH: usize = 90;
    let mut lines = vec![String::new()];
    for (n, word) in words.iter().enumerate() {
        let word = if n + 1 < words.len() { format!("{word}, ") } else { word.clone() };
        let is_full = lines
            .last()
            .is_some_and(|line| !line.is_empty() && line.chars().count() + word.chars().count() > WIDTH);
        if is_full {
            lines.push(String::new());
        }
        if let Some(line) = lines.last_mut() {
            line.push_str(&word);
        }
    }
    lines.iter().map(|line| format!("    {}\n", outside::line(line.trim_end()))).collect()
}

/// Registration text in lines of ours.
fn registry(text: &str) -> String {
    text.replace("\r\n", "\n")
}

/// What differs.
pub(crate) fn comparison(comparison: &Comparison) -> String {
    if comparison.kind == "hive" {
        return if comparison.registry.is_empty() {
            "no key and no value differs\n".into()
        } else {
            registry(&comparison.registry)
        };
    }
    if comparison.is_same() {
        return "nothing differs\n".into();
    }
    let mut text = String::new();
    let list = |name: &str, ids: &[String]| {
        if ids.is_empty() {
            String::new()
        } else {
            format!("  {}{name}{:#}\n{}", style::QUIET, style::QUIET, wrapped(ids))
        }
    };
    let editions = list("editions gone:", &comparison.gone) + &list("editions new:", &comparison.new);
    if !comparison.files.is_empty() || !editions.is_empty() {
        let (before, after) = comparison.bytes;
        let what = if comparison.kind == "media" { "On the media" } else { "The image file" };
        text.push_str(&heading(&format!("{what}: {} → {}", size(before), size(after))));
        text.push_str(&editions);
        text.push_str(&file_lines(&comparison.files));
    }
    for edition in comparison.editions.iter().filter(|edition| !edition.is_same()) {
        let (before, after) = edition.bytes;
        text.push_str(&heading(&format!("{}: {} → {}", edition.after, size(before), size(after))));
        if let Some((before, after)) = &edition.version {
            text.push_str(&format!(
                "  {}version{:#} {}\n",
                style::QUIET,
                style::QUIET,
                outside::line(&format!("{before} → {after}"))
            ));
        }
        text.push_str(&list("components gone:", &edition.gone));
        text.push_str(&list("components new:", &edition.new));
        text.push_str(&file_lines(&edition.files));
        if !edition.registry.is_empty() {
            text.push_str(&format!("\n{}", registry(&edition.registry)));
        }
    }
    text.trim_start_matches('\n').to_owned()
}

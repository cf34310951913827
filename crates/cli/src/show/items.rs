//! What becomes of each item inside the editions, in plans and ledgers.

use super::{heading, outside, size, style, table};
use neat_service::Item;
use neat_stack::{EditionWork, LedgerItem};

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
    for (kind, title) in Item::KINDS {
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
                let detail = super::wrapped(own.detail, 9);
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

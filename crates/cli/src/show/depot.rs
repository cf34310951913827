//! What `depot` says.

use super::{Sheet, count, size, style};
use neat_depot::{Fetched, Index, Item, Request};
use neat_stack::{DepotState, DepotUse};
use std::path::Path;

fn heading(name: &str, text: &str) -> String {
    format!("{}{name}{:#}  {text}\n", style::HEADING, style::HEADING)
}

/// What a server says when it begins.
pub(crate) fn serving(url: &str, items: usize) -> String {
    let mut sheet = Sheet::default();
    sheet.row("search", format!("neatstack depot search --depot {url}"));
    sheet.row("ends", "with Ctrl-C");
    let files = count(items as u64, "file", "files");
    format!("{}{}", heading(url, &format!("a depot of {files}")), sheet.text())
}

/// A request that was answered.
pub(crate) fn request(request: &Request) -> String {
    let Request { from, path, status, bytes } = request;
    format!("{from}  {status}  {}  {path}", size(*bytes))
}

/// Items in a table.
pub(crate) fn search(location: &str, index: &Index, found: &[&Item]) -> String {
    let name =
        if index.title.is_empty() { location.to_owned() } else { format!("{} ({location})", index.title) };
    let all = count(index.items.len() as u64, "file", "files");
    let what = if found.len() == index.items.len() { all } else { format!("{} of {all}", found.len()) };
    let mut rows = vec![["id", "version", "for", "languages", "date", "size"].map(str::to_owned)];
    for item in found {
        let languages = if item.languages.is_empty() { "any".to_owned() } else { item.languages.join(" ") };
        let architecture = if item.architecture.is_empty() { "any" } else { &item.architecture };
        let cells = [&item.id, &item.version, architecture, &languages, &item.date, &size(item.size)];
        rows.push(cells.map(str::to_owned));
    }
    let mut widths = [0; 6];
    for row in &rows {
        for (width, cell) in widths.iter_mut().zip(row) {
            *width = cell.chars().count().max(*width);
        }
    }
    let line = |row: &[String; 6]| {
        let cells = row.iter().zip(widths).enumerate().map(|(column, (cell, width))| {
            let padding = " ".repeat(width - cell.chars().count());
            // Sizes stand at the right.
            if column == 5 { format!("{padding}{cell}") } else { format!("{cell}{padding}") }
        });
        cells.collect::<Vec<_>>().join("  ")
    };
    let mut text = heading(&name, &what);
    if let Some((head, rows)) = rows.split_first().filter(|(_, rows)| !rows.is_empty()) {
        text += &format!("  {}{}{:#}\n", style::QUIET, line(head), style::QUIET);
        for (row, item) in rows.iter().zip(found) {
            text += &format!("  {}\n", line(row));
            if !item.title.is_empty() {
                text += &format!("    {}{}{:#}\n", style::REASON, item.title, style::REASON);
            }
        }
    }
    text
}

/// What a fetch came to.
pub(crate) fn fetched(item: &Item, path: &Path, fetched: Option<&Fetched>) -> String {
    let mut sheet = Sheet::default();
    sheet.row("file", path.display().to_string());
    sheet.row("size", size(item.size));
    let digest = if item.blake3.is_empty() { "SHA-256" } else { "BLAKE3" };
    match fetched {
        None => sheet.row("fetched", "nothing: it is there already, with the right SHA-256"),
        Some(fetched) => {
            let resumed = match fetched.resumed {
                0 => String::new(),
                bytes => format!(" after {} of an earlier run", size(bytes)),
            };
            let broken = match fetched.interruptions {
                0 => String::new(),
                number => format!(
                    ", {} gone on with",
                    count(number.into(), "broken connection", "broken connections")
                ),
            };
            sheet.row("fetched", format!("{}{resumed}{broken}", size(fetched.transferred)));
            sheet.row("checked", format!("{digest} is that of the index"));
        }
    }
    sheet.row("sha256", &item.sha256);
    format!("{}{}", heading(&item.full_id(), &item.title), sheet.text())
}

/// What a stack file takes from a depot, as a part of its plan.
pub(crate) fn uses(uses: &[DepotUse]) -> String {
    if uses.is_empty() {
        return String::new();
    }
    let mut text = format!("\n{}From the depot{:#} {}\n", style::HEADING, style::HEADING, uses[0].depot);
    let width = uses.iter().map(|item| item.id.chars().count()).max().unwrap_or(0);
    for item in uses {
        let state = match item.state {
            DepotState::Here => "used where it lies, digest checked",
            DepotState::Kept => "fetched before",
            DepotState::Fetched => "fetched",
            DepotState::ToFetch => "to be fetched",
        };
        let padding = " ".repeat(width - item.id.chars().count());
        text += &format!("  {}{padding}  {:>10}  {state}  {}\n", item.id, size(item.size), item.title);
    }
    text
}

/// A plan that needs files that are not here yet.
pub(crate) fn waiting(title: &str, all: &[DepotUse], stack: &Path) -> String {
    let bytes = all.iter().filter(|item| item.state == DepotState::ToFetch).map(|item| item.size).sum();
    let title = if title.is_empty() { "Plan" } else { title };
    let stack = stack.display();
    format!(
        "{}{title}{:#}\n  would fetch {} first; the rest of the plan depends on what comes\n{}  {}what to do:{:#} neatstack plan {stack} --fetch, or neatstack build {stack}\n",
        style::HEADING,
        style::HEADING,
        size(bytes),
        uses(all),
        style::GOOD,
        style::GOOD,
    )
}

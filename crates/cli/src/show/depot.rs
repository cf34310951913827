//! What `depot` says.

use super::{Sheet, count, heading_line, in_command, outside, size, style, table};
use neat_depot::{Fetched, Index, Item, Request};
use neat_stack::{DepotState, DepotUse};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

/// JSON form of `depot index`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct IndexView {
    pub kind: &'static str,
    pub path: String,
    pub items: Vec<Item>,
    /// What was not taken in, and why.
    pub passed_over: Vec<String>,
}

/// JSON form of `depot key`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct KeyView {
    pub kind: &'static str,
    /// Where the public key is.
    pub public: String,
    /// Where the secret key is.
    pub secret: String,
    /// The word for `signed_by`.
    pub key: String,
}

/// JSON form of `depot sign`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct SignView {
    pub kind: &'static str,
    /// Where the signatures are.
    pub signatures: Vec<String>,
}

/// JSON form of `depot serve`, printed when it can be asked.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ServeView {
    pub kind: &'static str,
    pub url: String,
    /// How many items it has.
    pub items: usize,
    /// Under which address answers are given out.
    pub answers: Option<String>,
}

/// JSON form of `depot search`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct SearchView {
    pub kind: &'static str,
    pub depot: String,
    pub title: String,
    pub items: Vec<Item>,
}

/// JSON form of `depot fetch`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct FetchView {
    pub kind: &'static str,
    pub id: String,
    pub path: String,
    pub size: u64,
    pub sha256: String,
    /// Bytes that came over the network; 0 when the file was there.
    pub transferred: u64,
    /// Bytes that an earlier run had fetched.
    pub resumed: u64,
    pub interruptions: u32,
}

/// What a server says when it begins.
pub(crate) fn serving(url: &str, items: usize, answers: Option<&str>) -> String {
    let mut sheet = Sheet::default();
    sheet.row("search", format!("neatstack depot search --depot {}", in_command(Path::new(url))));
    if let Some(answers) = answers {
        sheet.row("answers", format!("{answers}MACHINE/FILE, or {answers}FILE"));
    }
    sheet.row("ends", "with Ctrl-C");
    let files = count(items as u64, "file", "files");
    format!("{}{}", heading_line(url, &format!("a depot of {files}")), sheet.text())
}

/// A new pair of keys.
pub(crate) fn keys(public: &Path, secret: &Path, word: &str) -> String {
    let mut sheet = Sheet::default();
    sheet.row("secret", format!("{}, for you alone: it has no password", secret.display()));
    sheet.row("stack files", format!("signed_by = \"{word}\""));
    sheet.row("depots", format!("http://…#key={word}"));
    heading_line(&public.display().to_string(), "public key") + &sheet.text()
}

/// A request that was answered.
pub(crate) fn request(request: &Request) -> String {
    let Request { from, path, status, bytes } = request;
    outside::line(&format!("{from}  {status}  {}  {path}", size(*bytes))).into_owned()
}

/// Items in a table.
pub(crate) fn search(location: &str, index: &Index, found: &[&Item]) -> String {
    let name =
        if index.title.is_empty() { location.to_owned() } else { format!("{} ({location})", index.title) };
    let all = count(index.items.len() as u64, "file", "files");
    let what = if found.len() == index.items.len() { all } else { format!("{} of {all}", found.len()) };
    let mut rows = vec![["id", "version", "for", "languages", "date", "size"].map(str::to_owned).to_vec()];
    for item in found {
        let languages = if item.languages.is_empty() { "any".to_owned() } else { item.languages.join(" ") };
        let architecture = if item.architecture.is_empty() { "any" } else { &item.architecture };
        let cells = [&item.id, &item.version, architecture, &languages, &item.date, &size(item.size)];
        rows.push(cells.map(str::to_owned).to_vec());
    }
    let mut text = heading_line(&name, &what);
    if found.is_empty() {
        return text;
    }
    // Sizes stand at the right.
    let mut lines = table(&rows, &[5]).into_iter();
    let head = lines.next().unwrap_or_default();
    text += &format!("  {}{head}{:#}\n", style::QUIET, style::QUIET);
    for (line, item) in lines.zip(found) {
        text += &format!("  {line}\n");
        if !item.title.is_empty() {
            text += &format!("    {}{}{:#}\n", style::REASON, outside::line(&item.title), style::REASON);
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
    format!("{}{}", heading_line(&item.full_id(), &item.title), sheet.text())
}

/// What a stack file takes from a depot, as a part of its plan.
pub(crate) fn uses(uses: &[DepotUse]) -> String {
    if uses.is_empty() {
        return String::new();
    }
    let from = outside::line(&uses[0].depot);
    let mut text = format!("\n{}From the depot{:#} {from}\n", style::HEADING, style::HEADING);
    let row = |item: &DepotUse| {
        let state = match item.state {
            DepotState::Here => "used where it lies, digest checked",
            DepotState::Kept => "fetched before",
            DepotState::Fetched => "fetched",
            DepotState::ToFetch => "to be fetched",
        };
        vec![item.id.clone(), size(item.size), state.to_owned(), item.title.clone()]
    };
    let rows: Vec<Vec<String>> = uses.iter().map(row).collect();
    table(&rows, &[1]).iter().for_each(|line| text += &format!("  {line}\n"));
    text
}

/// A plan that needs files that are not here yet.
pub(crate) fn waiting(title: &str, all: &[DepotUse], stack: &Path) -> String {
    let bytes = all.iter().filter(|item| item.state == DepotState::ToFetch).map(|item| item.size).sum();
    let title = if title.is_empty() { "Plan" } else { title };
    let (title, stack) = (outside::line(title), in_command(stack));
    let stack = outside::line(&stack);
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

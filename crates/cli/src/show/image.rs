//! What `look` and `editions` say of an image file.

use super::{Sheet, count, heading_line, note, size, style, table};
use neat_image::{ImageFile, layout};
use neat_stack::{EditionInside, EditionSummary};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

/// JSON form of what writes an image file.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct WrittenView {
    pub image: String,
    pub size: u64,
    /// Names of the editions.
    pub editions: Vec<String>,
}

/// JSON form of `join`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct JoinedView {
    pub image: String,
    pub size: u64,
    /// How many parts it was.
    pub parts: usize,
}

/// JSON form of `split`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct SplitView {
    pub parts: Vec<SplitPart>,
}

/// A part that was written.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct SplitPart {
    pub path: String,
    pub size: u64,
}

/// A file of a media or an edition, in the JSON form of `files`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct FileView {
    pub path: String,
    /// `file`, `link` or `stream`.
    pub kind: &'static str,
    pub size: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
    /// Where a link leads.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    pub modified: i64,
}

/// What a capture of a disk came to, for a person.
pub(crate) fn captured(
    path: &str,
    len: u64,
    (entries, bytes): (usize, u64),
    left_out: &[String],
    editions: &[String],
) -> String {
    let mut sheet = Sheet::default();
    sheet.row("captured", format!("{}, {}", count(entries as u64, "entry", "entries"), size(bytes)));
    if !left_out.is_empty() {
        sheet.row("left out", super::outside::shown(&left_out.join(", ")));
    }
    sheet.row(
        if editions.len() == 1 { "edition" } else { "editions" },
        super::outside::shown(&editions.join(", ")),
    );
    format!("{}{}", heading_line(path, &size(len)), sheet.text())
}

/// JSON form of `look` at an image file.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ImageView {
    kind: &'static str,
    path: String,
    size: u64,
    digest: Option<String>,
    method: &'static str,
    chunk_size: u32,
    solid: bool,
    solid_resources: u64,
    solid_chunk_size: u32,
    guid: String,
    parts: Vec<PartView>,
    boot_edition: u32,
    integrity_table: bool,
    integrity_checked: bool,
    read_only: bool,
    unfinished: bool,
    stored_contents: u64,
    editions: Vec<EditionSummary>,
    inside: Vec<EditionInside>,
    warnings: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct PartView {
    path: String,
    number: u16,
    size: u64,
}

impl ImageView {
    /// Gathers what is shown of `image`.
    pub(crate) fn new(image: &ImageFile, path: &Path, digest: Option<String>) -> neat_content::Result<Self> {
        let header = image.header();
        Ok(Self {
            kind: "image-file",
            path: path.display().to_string(),
            size: image.len(),
            integrity_checked: digest.is_some() && header.has_integrity(),
            digest,
            method: header.compression.map_or("none", |(method, _)| method.name()),
            chunk_size: header.compression.map_or(0, |(_, chunk_len)| chunk_len),
            solid: image.solid_count() > 0,
            solid_resources: image.solid_count() as u64,
            solid_chunk_size: image.solid_chunk_len().unwrap_or(0),
            guid: guid_text(header.guid),
            parts: image
                .parts()
                .iter()
                .map(|part| PartView {
                    path: part.name.clone(),
                    number: part.header.part,
                    size: part.content.len(),
                })
                .collect(),
            boot_edition: header.boot,
            integrity_table: header.has_integrity(),
            read_only: header.flags & layout::FLAG_READONLY != 0,
            unfinished: header.is_unfinished(),
            stored_contents: image.blob_count() as u64,
            editions: neat_stack::edition_summaries(image)?,
            inside: neat_stack::edition_insides(image)?,
            warnings: image.warnings().to_vec(),
        })
    }

    /// The same for a person.
    pub(crate) fn text(&self) -> String {
        let mut sheet = Sheet::default();
        let chunks = if self.chunk_size > 0 {
            format!(", {} chunks", size(self.chunk_size.into()))
        } else {
            String::new()
        };
        if self.solid {
            let chunk = size(self.solid_chunk_size.into());
            let resources = count(self.solid_resources, "solid resource", "solid resources");
            let method =
                format!("{resources} with chunks of up to {chunk}; the trees: {}{chunks}", self.method);
            sheet.row("compression", method);
        } else {
            sheet.row("compression", format!("{}{chunks}", self.method));
        }
        sheet.row(
            "holds",
            format!(
                "{}, {}",
                count(self.editions.len() as u64, "edition", "editions"),
                count(self.stored_contents, "stored content", "stored contents")
            ),
        );
        if self.parts.len() > 1 {
            for (n, part) in self.parts.iter().enumerate() {
                let name = if n == 0 { "parts" } else { "" };
                sheet.row(name, format!("{} {}, {}", part.number, part.path, size(part.size)));
            }
        }
        if self.boot_edition > 0 {
            sheet.row("boots", format!("edition {}", self.boot_edition));
        }
        sheet.row(
            "integrity table",
            match (self.integrity_table, self.integrity_checked) {
                (false, _) => "no",
                (true, false) => "yes",
                (true, true) => "yes, and everything is as it says",
            },
        );
        if self.read_only {
            sheet.row("marked", "not to be changed");
        }
        sheet.row("guid", self.guid.as_str());
        sheet.row_if("digest", self.digest.as_deref().unwrap_or_default());
        let mut text = format!(
            "{}{}\n{}",
            heading_line(&self.path, &format!("image file, {}", size(self.size))),
            sheet.text(),
            editions(&self.editions)
        );
        text.push_str(&insides(&self.inside));
        for warning in &self.warnings {
            text.push_str(&note(warning));
        }
        text
    }
}

/// A GUID as it is usually written: the first three fields are stored little-endian.
fn guid_text(guid: [u8; 16]) -> String {
    let hex = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>();
    let turned = |range: std::ops::Range<usize>| hex(&guid[range].iter().rev().copied().collect::<Vec<_>>());
    format!("{}-{}-{}-{}-{}", turned(0..4), turned(4..6), turned(6..8), hex(&guid[8..10]), hex(&guid[10..]))
}

/// The name, and the one that setup shows where it is another.
fn name(edition: &EditionSummary) -> String {
    if edition.display_name.is_empty() || edition.display_name == edition.name {
        return edition.name.clone();
    }
    format!("{} (shown as {})", edition.name, edition.display_name)
}

/// The first languages, and how many more.
fn languages(all: &[String]) -> String {
    const SHOWN: usize = 3;
    let more = if all.len() > SHOWN { format!(" +{}", all.len() - SHOWN) } else { String::new() };
    format!("{}{more}", all[..all.len().min(SHOWN)].join(" "))
}

/// What is inside each edition, in short.
pub(crate) fn insides(all: &[EditionInside]) -> String {
    let mut text = String::new();
    for (n, inside) in all.iter().enumerate() {
        let mut line = |name: &str, parts: Vec<String>| {
            if !parts.is_empty() {
                let number = (n + 1).to_string();
                // What goes on stands below what was said first.
                let column = number.len() + name.len() + 5;
                text.push_str(&format!(
                    "  {}{number}  {name}{:#} {}\n",
                    style::QUIET,
                    style::QUIET,
                    super::wrapped(&parts.join(", "), column)
                ));
            }
        };
        let many = |word: &str, number: usize| match word.strip_suffix('y') {
            _ if number == 1 => format!("1 {word}"),
            Some(stem) => format!("{number} {stem}ies"),
            None => format!("{number} {word}s"),
        };
        line("holds", inside.components.iter().map(|(word, number)| many(word, *number)).collect());
        let record = &inside.integrated;
        let done = [
            ("update", record.updates.len()),
            ("driver", record.drivers.len()),
            ("setting", record.settings.len()),
            ("app", record.apps.len()),
        ];
        let mut parts: Vec<String> =
            done.iter().filter(|(_, number)| *number > 0).map(|(word, number)| many(word, *number)).collect();
        if !record.removed.is_empty() {
            parts.push(format!("{} taken out", many("component", record.removed.len())));
        }
        line("by earlier builds", parts);
        line("note", inside.notes.clone());
    }
    text
}

/// A table of editions for a person.
pub(crate) fn editions(editions: &[EditionSummary]) -> String {
    let heading = ["", "edition", "for", "version", "languages", "files", "size", "only here"];
    let mut rows: Vec<Vec<String>> = vec![heading.map(str::to_owned).into()];
    for edition in editions {
        rows.push(vec![
            edition.number.to_string(),
            name(edition),
            edition.architecture.clone(),
            edition.version.clone(),
            languages(&edition.languages),
            edition.files.to_string(),
            size(edition.bytes),
            edition.only_here.map(size).unwrap_or_default(),
        ]);
    }
    // A column that nothing stands in is not shown.
    for column in 1..heading.len() {
        if rows[1..].iter().all(|row| row[column].is_empty()) {
            rows[0][column].clear();
        }
    }
    let mut text = String::new();
    for (n, line) in table(&rows, &[0, 5, 6, 7]).into_iter().enumerate() {
        let kept = n == 0 || editions[n - 1].kept;
        let style = match (n, kept) {
            (0, _) => style::QUIET,
            (_, false) => style::REASON,
            _ => style::PLAIN,
        };
        let dropped = if kept { "" } else { "  dropped" };
        text.push_str(&format!("{style}  {line}{dropped}{style:#}\n"));
    }
    text
}

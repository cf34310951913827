//! A kickstart file: lines of commands, and sections from `%name` to `%end`.

use crate::pieces::Part;
use neat_content::{Error, Result};
use std::ops::Range;

/// A command or a section.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Block {
    /// Name of the command, or of the section with its `%`.
    pub name: String,
    /// Words after the name, taken apart as a shell does.
    pub words: Vec<String>,
    /// Lines of a section.
    pub body: Vec<String>,
    /// Where it stands, without the last line end.
    pub span: Range<usize>,
    /// Its line, from 1.
    pub line: usize,
    /// Whether a section ends.
    pub is_closed: bool,
}

const MAX_LINES: usize = 100_000;

impl Block {
    pub fn is_section(&self) -> bool {
        self.name.starts_with('%') && self.name != "%include" && self.name != "%ksappend"
    }

    /// The value of an option such as `--timezone=UTC` or `--timezone UTC`.
    pub fn option(&self, name: &str) -> Option<&str> {
        let mut words = self.words.iter();
        while let Some(word) = words.next() {
            if let Some(rest) = word.strip_prefix(name) {
                if let Some(value) = rest.strip_prefix('=') {
                    return Some(value);
                }
                if rest.is_empty() {
                    return words.next().map(String::as_str);
                }
            }
        }
        None
    }

    pub fn has(&self, name: &str) -> bool {
        self.words
            .iter()
            .any(|word| word == name || word.strip_prefix(name).is_some_and(|rest| rest.starts_with('=')))
    }

    /// Words that are no options and no values of the options that are named.
    pub fn plain(&self, with_value: &[&str]) -> Vec<&str> {
        let mut out = Vec::new();
        let mut words = self.words.iter();
        while let Some(word) = words.next() {
            if with_value.contains(&word.as_str()) {
                words.next();
            } else if !word.starts_with("--") {
                out.push(word.as_str());
            }
        }
        out
    }

    /// The key by which it is found again.
    pub fn key(&self) -> String {
        match self.name.as_str() {
            "user" => format!("user:{}", self.option("--name").unwrap_or_default()),
            "part" | "partition" => {
                format!("part:{}", self.plain(&OPTIONS).first().copied().unwrap_or_default())
            }
            "network" if self.has("--hostname") && self.words.len() == 1 => "hostname".into(),
            "reboot" | "poweroff" | "halt" | "shutdown" => "end".into(),
            name => name.to_owned(),
        }
    }
}

/// Options of `part` and others that have a value after a space.
pub(super) const OPTIONS: [&str; 8] =
    ["--size", "--fstype", "--ondisk", "--ondrive", "--label", "--maxsize", "--fsoptions", "--asprimary"];

pub(super) fn parse(text: &str) -> Result<Vec<Block>> {
    let mut blocks: Vec<Block> = Vec::new();
    let mut open: Option<Block> = None;
    let mut at = 0;
    for (index, raw) in text.split('\n').enumerate() {
        if index >= MAX_LINES {
            return Err(Error::Limit {
                what: "lines of a kickstart file".into(),
                offset: at as u64,
                limit: MAX_LINES as u64,
                found: index as u64,
            });
        }
        let start = at;
        at += raw.len() + 1;
        let line = raw.trim_end_matches('\r');
        let end = start + line.len();
        if let Some(mut section) = open.take() {
            section.span.end = end;
            if line.trim() == "%end" {
                section.is_closed = true;
                blocks.push(section);
            } else {
                section.body.push(line.to_owned());
                open = Some(section);
            }
            continue;
        }
        let trimmed = line.trim();
        if trimmed.is_empty() || trimmed.starts_with('#') {
            continue;
        }
        let mut words = words(trimmed);
        let name = if words.is_empty() { String::new() } else { words.remove(0) };
        let block =
            Block { name, words, body: Vec::new(), span: start..end, line: index + 1, is_closed: false };
        if block.is_section() {
            open = Some(block);
        } else {
            blocks.push(block);
        }
    }
    blocks.extend(open);
    Ok(blocks)
}

/// Parts with their keys; sections of one kind are counted.
pub(super) fn parts(blocks: &[Block]) -> Vec<Part> {
    blocks
        .iter()
        .enumerate()
        .map(|(index, block)| {
            let key = if block.is_section() { section_key(blocks, index) } else { block.key() };
            Part { key, span: block.span.clone() }
        })
        .collect()
}

/// Key of the section at `index`.
pub(super) fn section_key(blocks: &[Block], index: usize) -> String {
    let Some(block) = blocks.get(index) else { return String::new() };
    if let Some(mark) = block.body.first().and_then(|line| line.strip_prefix(MARK)) {
        return format!("{}:{mark}", block.name);
    }
    let before = blocks.iter().take(index).filter(|own| own.name == block.name).count();
    if block.name == "%packages" { "%packages".into() } else { format!("{}:#{before}", block.name) }
}

/// First line of our own sections.
pub(super) const MARK: &str = "# Neat Stack: ";

/// Words of a line: quotes group, a backslash takes the next character as it is, `#` begins a comment.
fn words(line: &str) -> Vec<String> {
    let mut out = Vec::new();
    let (mut word, mut started, mut quote) = (String::new(), false, None);
    let mut chars = line.chars();
    while let Some(c) = chars.next() {
        match (quote, c) {
            (None, '#') if !started => break,
            (None, c) if c.is_whitespace() => {
                if started {
                    out.push(std::mem::take(&mut word));
                }
                started = false;
            }
            (None, '"' | '\'') => {
                quote = Some(c);
                started = true;
            }
            (Some(own), c) if c == own => quote = None,
            (None | Some('"'), '\\') => {
                word.extend(chars.next());
                started = true;
            }
            (_, c) => {
                word.push(c);
                started = true;
            }
        }
    }
    if started {
        out.push(word);
    }
    out
}

/// A value as it stands in a line.
pub(super) fn quoted(text: &str) -> String {
    let is_plain = |c: char| c.is_alphanumeric() || "-_./:@%+=,~$".contains(c);
    if !text.is_empty() && text.chars().all(is_plain) {
        return text.to_owned();
    }
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

//! The lines of a preseed file: owner, question, type, value.

use crate::{pieces::Part, xml::line_of};
use neat_content::{Error, Result};
use std::ops::Range;

/// An answer in the file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Entry {
    pub owner: String,
    pub question: String,
    pub kind: String,
    pub value: String,
    pub span: Range<usize>,
    /// Whether it says that a question was seen, which is no answer.
    pub is_flag: bool,
}

/// A file's text and its answers.
pub(super) struct Document<'a> {
    pub text: &'a str,
    pub entries: Vec<Entry>,
    /// Lines that are no answer, with their number.
    pub odd: Vec<(usize, String)>,
}

const MAX_LINES: usize = 100_000;

impl<'a> Document<'a> {
    pub fn parse(text: &'a str) -> Result<Self> {
        let mut entries = Vec::new();
        let mut odd = Vec::new();
        let mut at = 0;
        let mut count = 0;
        while at < text.len() {
            count += 1;
            if count > MAX_LINES {
                return Err(Error::Limit {
                    what: "lines of a preseed file".into(),
                    offset: at as u64,
                    limit: MAX_LINES as u64,
                    found: count as u64,
                });
            }
            let (line, end) = logical_line(text, at);
            let start = at;
            at = text.get(end..).and_then(|rest| rest.find('\n')).map_or(text.len(), |next| end + next + 1);
            let trimmed = line.trim();
            if trimmed.is_empty() || trimmed.starts_with('#') {
                continue;
            }
            match entry(trimmed, start..end) {
                Some(entry) => entries.push(entry),
                None => odd.push((line_of(text, start), trimmed.to_owned())),
            }
        }
        Ok(Self { text, entries, odd })
    }

    /// The answer to a question; the last one counts.
    pub fn get(&self, question: &str) -> Option<&Entry> {
        self.entries.iter().rfind(|entry| entry.question == question && !entry.is_flag)
    }

    pub fn value(&self, question: &str) -> Option<&str> {
        self.get(question).map(|entry| entry.value.as_str())
    }

    pub fn is_true(&self, question: &str) -> bool {
        self.value(question) == Some("true")
    }

    pub fn line(&self, entry: &Entry) -> usize {
        line_of(self.text, entry.span.start)
    }

    pub fn parts(&self) -> Vec<Part> {
        let part = |entry: &Entry| Part { key: entry.question.clone(), span: entry.span.clone() };
        self.entries.iter().filter(|entry| !entry.is_flag).map(part).collect()
    }
}

/// A line with those that continue it, and where it ends, without its line end.
fn logical_line(text: &str, start: usize) -> (String, usize) {
    let mut line = String::new();
    let mut at = start;
    loop {
        let rest = text.get(at..).unwrap_or_default();
        let end = rest.find('\n').unwrap_or(rest.len());
        let raw = rest[..end].trim_end_matches('\r');
        let is_comment = line.is_empty() && raw.trim_start().starts_with('#');
        if let Some(part) = raw.strip_suffix('\\').filter(|_| !is_comment && end < rest.len()) {
            line.push_str(part);
            at += end + 1;
        } else {
            line.push_str(raw);
            return (line, at + raw.len());
        }
    }
}

/// Types of questions, and the mark that one was seen.
const TYPES: [&str; 10] =
    ["string", "boolean", "select", "multiselect", "password", "note", "text", "error", "title", "seen"];

fn entry(line: &str, span: Range<usize>) -> Option<Entry> {
    let (owner, rest) = line.split_once(char::is_whitespace)?;
    let rest = rest.trim_start();
    let (question, rest) = rest.split_once(char::is_whitespace)?;
    let rest = rest.trim_start();
    let (kind, value) = rest.split_once(char::is_whitespace).unwrap_or((rest, ""));
    TYPES.contains(&kind).then(|| Entry {
        owner: owner.into(),
        question: question.into(),
        kind: kind.into(),
        value: value.trim().into(),
        span,
        is_flag: kind == "seen",
    })
}

//! The sections and keys of an answer file in INI form, and changing some of them.
//!
//! Sections and keys have no case. A value may stand in quotes, where two quotes are one; what follows `;` is a comment
//! outside quotes.

use neat_content::{Error, Result};
use std::{
    collections::{BTreeMap, HashMap, HashSet},
    ops::Range,
};

/// Most lines of a file.
const MAX_LINES: usize = 100_000;

/// A line with a value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Entry {
    /// Section, as it is written.
    pub section: String,
    /// Key, as it is written; empty for a value alone.
    pub key: String,
    /// The value, without quotes around it.
    pub value: String,
    /// The value as it is written, with its comment.
    pub raw: String,
    /// Number of its line, from 0.
    pub number: usize,
}

/// How a value is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum Form {
    /// In quotes only where it needs them: words, numbers, lists with commas.
    Word,
    /// In quotes.
    Text,
    /// As it is.
    Raw,
}

/// A value that is said: its section and its key.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) struct Said {
    pub section: String,
    pub key: String,
    pub value: String,
    pub form: Form,
}

impl Said {
    fn line(&self) -> String {
        let has_sign = self.value.contains([';', '=', '"']) || self.value.trim() != self.value;
        if self.form == Form::Text || self.form == Form::Word && has_sign {
            format!("{}=\"{}\"", self.key, self.value.replace('"', "\"\""))
        } else {
            format!("{}={}", self.key, self.value)
        }
    }

    /// Whether it is one line with one key.
    pub fn fits(&self) -> bool {
        let is_line = |text: &str| !text.contains(['\r', '\n', '\0']);
        let is_name =
            |text: &str| is_line(text) && text.trim() == text && !text.contains(['=', ';', '"', '[', ']']);
        is_line(&self.value) && is_name(&self.key) && is_name(&self.section) && !self.key.is_empty()
    }

    /// What a value is found by.
    pub fn place(&self) -> (String, String) {
        (self.section.to_ascii_lowercase(), self.key.to_ascii_lowercase())
    }
}

/// A file's text and what stands in it.
pub(super) struct Document<'a> {
    text: &'a str,
    /// Where each line stands, without its end.
    lines: Vec<Range<usize>>,
    pub entries: Vec<Entry>,
    /// Numbers of lines before the first section, which mean nothing.
    pub stray: Vec<usize>,
    /// Names of sections in lower case, with the number of their last line that says something.
    ends: HashMap<String, usize>,
    first: HashMap<(String, String), usize>,
}

impl<'a> Document<'a> {
    pub fn parse(text: &'a str) -> Result<Self> {
        let mut own = Self {
            text,
            lines: Vec::new(),
            entries: Vec::new(),
            stray: Vec::new(),
            ends: HashMap::new(),
            first: HashMap::new(),
        };
        let mut section: Option<String> = None;
        let mut at = 0;
        for (number, raw) in text.split_inclusive('\n').enumerate() {
            if number >= MAX_LINES {
                return Err(Error::Limit {
                    what: "lines of an answer file".into(),
                    offset: at as u64,
                    limit: MAX_LINES as u64,
                    found: number as u64 + 1,
                });
            }
            let line = raw.trim_end_matches(['\r', '\n']);
            own.lines.push(at..at + line.len());
            at += raw.len();
            let trimmed = line.trim();
            if trimmed.is_empty() || trimmed.starts_with(';') {
                continue;
            }
            if let Some(name) = trimmed.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
                let name = name.0.trim().to_owned();
                // A section that comes again goes on where it was.
                own.ends.entry(name.to_ascii_lowercase()).or_insert(number);
                section = Some(name);
                continue;
            }
            let Some(section) = &section else {
                own.stray.push(number);
                continue;
            };
            if let Some(end) = own.ends.get_mut(&section.to_ascii_lowercase()) {
                *end = number;
            }
            let (key, value) = parts(trimmed);
            let place = (section.to_ascii_lowercase(), key.to_ascii_lowercase());
            own.first.entry(place).or_insert(own.entries.len());
            own.entries.push(Entry {
                section: section.clone(),
                key: key.to_owned(),
                value: unquoted(value),
                raw: value.to_owned(),
                number,
            });
        }
        Ok(own)
    }

    /// A key of a section; the first one counts.
    pub fn get(&self, section: &str, key: &str) -> Option<&Entry> {
        let place = (section.to_ascii_lowercase(), key.to_ascii_lowercase());
        self.first.get(&place).and_then(|index| self.entries.get(*index))
    }

    /// The value of a key; none where it is empty.
    pub fn value(&self, section: &str, key: &str) -> Option<&str> {
        self.get(section, key).map(|own| own.value.as_str()).filter(|value| !value.is_empty())
    }

    /// Whether a key says yes.
    pub fn is_yes(&self, section: &str, key: &str) -> bool {
        self.value(section, key).is_some_and(|value| value.eq_ignore_ascii_case("yes") || value == "1")
    }

    /// Whether a section is there.
    pub fn has_section(&self, section: &str) -> bool {
        self.ends.contains_key(&section.to_ascii_lowercase())
    }

    /// Lines of a section, in order.
    pub fn section<'b>(&'b self, section: &'b str) -> impl Iterator<Item = &'b Entry> {
        self.entries.iter().filter(move |own| own.section.eq_ignore_ascii_case(section))
    }

    /// The text without the lines of a section; its heading stays.
    pub fn without(&self, section: &str) -> String {
        let gone: HashSet<usize> = self.section(section).map(|own| own.number).collect();
        let lines = self.text.split_inclusive('\n').enumerate();
        lines.filter(|(number, _)| !gone.contains(number)).map(|(_, line)| line).collect()
    }

    /// The text with what differs between `before` and `after`; everything else stays as it is.
    pub fn rewritten(&self, before: &[Said], after: &[Said]) -> String {
        let places =
            |all: &[Said]| all.iter().map(|own| (own.place(), own.clone())).collect::<HashMap<_, _>>();
        let (was, is) = (places(before), places(after));
        // By the number of a line: what stands in its place, nothing where it goes.
        let mut changed: HashMap<usize, Option<String>> = HashMap::new();
        // By the number of a line: what comes behind it; and what comes in new sections at the end.
        let mut behind: BTreeMap<usize, Vec<String>> = BTreeMap::new();
        let mut fresh: Vec<(&str, Vec<String>)> = Vec::new();
        for own in &self.entries {
            let place = (own.section.to_ascii_lowercase(), own.key.to_ascii_lowercase());
            if was.contains_key(&place) && !is.contains_key(&place) {
                changed.insert(own.number, None);
            }
        }
        for own in after.iter().filter(|own| was.get(&own.place()) != Some(own)) {
            if let Some(there) = self.get(&own.section, &own.key) {
                let line = &self.text[self.lines[there.number].clone()];
                let indent: String = line.chars().take_while(|c| c.is_whitespace()).collect();
                changed.insert(there.number, Some(format!("{indent}{}", own.line())));
            } else if let Some(end) = self.ends.get(&own.section.to_ascii_lowercase()) {
                behind.entry(*end).or_default().push(own.line());
            } else if let Some((_, lines)) =
                fresh.iter_mut().find(|(section, _)| section.eq_ignore_ascii_case(&own.section))
            {
                lines.push(own.line());
            } else {
                fresh.push((&own.section, vec![own.line()]));
            }
        }
        let end = if self.text.contains("\r\n") || self.text.is_empty() { "\r\n" } else { "\n" };
        let mut out = String::with_capacity(self.text.len() + 256);
        for (number, range) in self.lines.iter().enumerate() {
            let next = self.lines.get(number + 1).map_or(self.text.len(), |next| next.start);
            match changed.get(&number) {
                Some(None) => {}
                Some(Some(line)) => {
                    out.push_str(line);
                    out.push_str(&self.text[range.end..next]);
                }
                None => out.push_str(&self.text[range.start..next]),
            }
            for line in behind.get(&number).into_iter().flatten() {
                close(&mut out, end);
                out.push_str(line);
                out.push_str(end);
            }
        }
        for (section, lines) in fresh {
            if !out.is_empty() {
                close(&mut out, end);
                out.push_str(end);
            }
            out.push_str(&format!("[{section}]{end}"));
            for line in lines {
                out.push_str(&line);
                out.push_str(end);
            }
        }
        out
    }
}

/// Ends the last line of a text that has none.
fn close(text: &mut String, end: &str) {
    if !text.is_empty() && !text.ends_with('\n') {
        text.push_str(end);
    }
}

/// Key and value of a line: parted by the first `=` outside quotes.
fn parts(line: &str) -> (&str, &str) {
    let mut is_quoted = false;
    let sign = line.char_indices().find(|(_, c)| {
        is_quoted ^= *c == '"';
        *c == '=' && !is_quoted
    });
    sign.map_or(("", line), |(at, _)| (line[..at].trim(), line[at + 1..].trim()))
}

/// A value without its comment, and without quotes where all of it stands in them.
fn unquoted(value: &str) -> String {
    if let Some(rest) = value.strip_prefix('"') {
        let mut out = String::new();
        let mut chars = rest.char_indices().peekable();
        while let Some((at, c)) = chars.next() {
            if c != '"' {
                out.push(c);
            } else if chars.peek().is_some_and(|(_, next)| *next == '"') {
                out.push('"');
                chars.next();
            } else {
                let after = rest[at + 1..].trim_start();
                if after.is_empty() || after.starts_with(';') {
                    return out;
                }
                // More than one: it is a list, and stays as it is written.
                break;
            }
        }
    }
    uncommented(value).to_owned()
}

/// A value without what follows a `;` that stands behind a blank, outside quotes.
fn uncommented(value: &str) -> &str {
    let (mut is_quoted, mut last) = (false, ' ');
    for (at, c) in value.char_indices() {
        is_quoted ^= c == '"';
        if c == ';' && !is_quoted && last.is_whitespace() {
            return value[..at].trim_end();
        }
        last = c;
    }
    value
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
    use super::*;
    use proptest::prelude::*;

    fn said(section: &str, key: &str, value: &str, is_quoted: bool) -> Said {
        let form = if is_quoted { Form::Text } else { Form::Word };
        Said { section: section.into(), key: key.into(), value: value.into(), form }
    }

    #[test]
    fn values_are_read_as_setups_read_them() {
        let text = "stray\n[ Unattended ]\nOemSkipEula = Yes ; said\nTargetPath=\\QUAY\n\
            OemPnPDriversPath=a\\b;c\\d\n[GuiRunOnce]\n\"cmd /c set a=b\"\nCommand1=\"\"\"C:\\a b\"\" /x\" ; y\n\
            [x]\nlist=\"a\",\"b\" ; z\n[unattended]\nTARGETPATH=again\n";
        let document = Document::parse(text).unwrap();
        assert_eq!(document.stray, [0]);
        assert!(document.is_yes("unattended", "oemskipeula"));
        assert_eq!(document.value("UNATTENDED", "TargetPath"), Some("\\QUAY"), "the first counts");
        assert_eq!(document.value("Unattended", "OemPnPDriversPath"), Some("a\\b;c\\d"));
        let run: Vec<&str> = document.section("GuiRunOnce").map(|own| own.value.as_str()).collect();
        assert_eq!(run, ["cmd /c set a=b", "\"C:\\a b\" /x"]);
        assert_eq!(document.value("x", "list"), Some("\"a\",\"b\""));
    }

    #[test]
    fn only_what_differs_is_touched() {
        let text = "; head\n[A]\n  x = 1 ; why\ny=2\n\n[B]\nz=3";
        let document = Document::parse(text).unwrap();
        let before = [said("A", "x", "1", false), said("B", "z", "3", false)];
        assert_eq!(document.rewritten(&before, &before), text);
        let after =
            [said("a", "X", "5", false), said("A", "n", "a;b", false), said("C", "q", "say \"x\"", true)];
        assert_eq!(
            document.rewritten(&before, &after),
            "; head\n[A]\n  X=5\ny=2\nn=\"a;b\"\n\n[B]\n\n[C]\nq=\"say \"\"x\"\"\"\n"
        );
        let none = Document::parse("").unwrap();
        assert_eq!(none.rewritten(&[], &after[..1]), "[a]\r\nX=5\r\n");
    }

    proptest! {
        #[test]
        fn what_is_said_is_read(value in "[ -~é漢]{0,24}", is_quoted: bool) {
            let all = [said("Section", "Key", &value, is_quoted), said("Section", "Other", "x", false)];
            let text = Document::parse("").unwrap().rewritten(&[], &all);
            let document = Document::parse(&text).unwrap();
            prop_assert_eq!(&document.get("section", "key").unwrap().value, &value);
            // Said again, and taken out again, nothing is left of it.
            let gone = document.rewritten(&all, &all[1..]);
            prop_assert_eq!(gone, "[Section]\r\nOther=x\r\n");
        }
    }
}

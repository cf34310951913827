//! The text of an INF file: sections of lines, each `key = value, value, …`.

use neat_content::{Error, Result, Text};
use std::collections::HashMap;

/// Largest INF file that is read, in bytes.
pub(crate) const LARGEST: u64 = 16 << 20;
/// Language of the texts that are shown: English (United States), as in the names of sections such as `Strings.0409`.
const LANGUAGE: &str = "0409";

/// A line of a section.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct InfLine {
    /// What stands before the equals sign, if there is one.
    pub key: Option<String>,
    /// What stands after it, or on the whole line, between commas.
    pub values: Vec<String>,
    /// Number of the line in the file, from 1.
    pub number: usize,
}

impl InfLine {
    /// The value at this place; empty if there is none.
    pub fn value(&self, n: usize) -> &str {
        self.values.get(n).map_or("", String::as_str)
    }

    /// Whether the key is this one, in any case.
    pub fn is(&self, key: &str) -> bool {
        self.key.as_deref().is_some_and(|own| own.eq_ignore_ascii_case(key))
    }
}

/// A read INF file. Names of sections and keys are found in any case; sections of one name are one.
#[derive(Clone, Debug, Default)]
pub struct Inf {
    /// Names as written, in the order of the file.
    names: Vec<String>,
    sections: HashMap<String, Vec<InfLine>>,
    strings: HashMap<String, String>,
}

impl Inf {
    /// Reads the bytes of an INF file in UTF-16, UTF-8 or a code page.
    ///
    /// # Errors
    /// `Corrupt` with the line, `LimitExceeded` for too many lines.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        if bytes.len() as u64 > LARGEST {
            return Err(Error::Limit {
                what: "bytes of an INF file".into(),
                offset: 0,
                limit: LARGEST,
                found: bytes.len() as u64,
            });
        }
        Ok(Self::parse(&Text::decode(bytes).text))
    }

    /// Reads the text of an INF file. Lines that mean nothing are passed over, as systems do it.
    pub fn parse(text: &str) -> Self {
        let mut inf = Self::default();
        let mut section: Option<String> = None;
        let mut lines = text.lines().enumerate();
        while let Some((n, line)) = lines.next() {
            let mut tokens = Tokens::default();
            let mut continues = tokens.add(line);
            while continues {
                let Some((_, next)) = lines.next() else { break };
                continues = tokens.add(next);
            }
            if let Some(name) = tokens.section() {
                let folded = name.to_lowercase();
                if !inf.sections.contains_key(&folded) {
                    inf.names.push(name);
                    inf.sections.insert(folded.clone(), Vec::new());
                }
                section = Some(folded);
                continue;
            }
            if let (Some(line), Some(section)) = (tokens.finish(n + 1), &section)
                && let Some(lines) = inf.sections.get_mut(section)
            {
                lines.push(line);
            }
        }
        inf.collect_strings();
        inf
    }

    /// Texts of the language that is shown come first, then those without a language, then any other.
    fn collect_strings(&mut self) {
        let with_language = format!("strings.{LANGUAGE}");
        let others =
            self.names.iter().map(|name| name.to_lowercase()).filter(|name| name.starts_with("strings."));
        let order: Vec<String> = [with_language, "strings".to_owned()].into_iter().chain(others).collect();
        for section in order {
            for line in self.sections.get(&section).map_or(&[][..], Vec::as_slice) {
                if let Some(key) = &line.key {
                    let text = line.values.join(",");
                    self.strings.entry(key.to_lowercase()).or_insert(text);
                }
            }
        }
    }

    /// Names of all sections, as written.
    pub fn sections(&self) -> impl Iterator<Item = &str> {
        self.names.iter().map(String::as_str)
    }

    /// Whether there is such a section.
    pub fn has(&self, section: &str) -> bool {
        self.sections.contains_key(&section.to_lowercase())
    }

    /// The lines of a section; none if it is not there.
    pub fn lines(&self, section: &str) -> &[InfLine] {
        self.sections.get(&section.to_lowercase()).map_or(&[], Vec::as_slice)
    }

    /// The first line of a section with this key.
    pub fn line(&self, section: &str, key: &str) -> Option<&InfLine> {
        self.lines(section).iter().find(|line| line.is(key))
    }

    /// The first value of a key, with its texts filled in.
    pub fn text(&self, section: &str, key: &str) -> Option<String> {
        self.line(section, key).map(|line| self.expand(line.value(0)))
    }

    /// A value with `%name%` replaced by the text of that name, and `%%` by `%`. What has no text stays as it is.
    pub fn expand(&self, value: &str) -> String {
        let mut out = String::new();
        let mut rest = value;
        while let Some(start) = rest.find('%') {
            out.push_str(&rest[..start]);
            let after = &rest[start + 1..];
            let Some(end) = after.find('%') else {
                out.push_str(&rest[start..]);
                return out;
            };
            let name = &after[..end];
            match self.strings.get(&name.to_lowercase()) {
                _ if name.is_empty() => out.push('%'),
                Some(text) => out.push_str(text),
                None => out.push_str(&rest[start..start + end + 2]),
            }
            rest = &after[end + 1..];
        }
        out.push_str(rest);
        out
    }
}

/// What a line and those that continue it hold.
#[derive(Default)]
struct Tokens {
    key: Option<String>,
    values: Vec<String>,
    /// The value being read, and whether any of it stood in quotation marks.
    value: String,
    was_quoted: bool,
    section: Option<String>,
}

impl Tokens {
    /// Takes a line; returns whether the next one belongs to it.
    fn add(&mut self, line: &str) -> bool {
        let mut in_quotes = false;
        let trimmed = line.trim();
        if self.is_empty() && trimmed.starts_with('[') {
            let end = trimmed.find(']').unwrap_or(trimmed.len());
            self.section = Some(trimmed[1..end].trim().trim_matches('"').to_owned());
            return false;
        }
        let mut chars = trimmed.chars().peekable();
        while let Some(c) = chars.next() {
            match c {
                '"' if in_quotes && chars.peek() == Some(&'"') => {
                    chars.next();
                    self.value.push('"');
                }
                '"' => {
                    if !in_quotes && self.value.trim().is_empty() {
                        self.value.clear();
                    }
                    in_quotes = !in_quotes;
                    self.was_quoted = true;
                }
                ';' if !in_quotes => break,
                '=' if !in_quotes && self.key.is_none() && self.values.is_empty() => {
                    self.key = Some(self.take());
                }
                ',' if !in_quotes => {
                    let value = self.take();
                    self.values.push(value);
                }
                '\\' if !in_quotes && rest_is_comment(&chars) => return true,
                c => self.value.push(c),
            }
        }
        false
    }

    fn take(&mut self) -> String {
        let value = std::mem::take(&mut self.value);
        self.was_quoted = false;
        value.trim().to_owned()
    }

    fn is_empty(&self) -> bool {
        self.key.is_none() && self.values.is_empty() && self.value.is_empty() && !self.was_quoted
    }

    fn section(&mut self) -> Option<String> {
        self.section.take()
    }

    fn finish(mut self, number: usize) -> Option<InfLine> {
        if self.is_empty() || self.key.is_none() && self.values.is_empty() && self.value.trim().is_empty() {
            return None;
        }
        if !self.value.trim().is_empty() || self.was_quoted || !self.values.is_empty() {
            let value = self.take();
            self.values.push(value);
        }
        Some(InfLine { key: self.key, values: self.values, number })
    }
}

/// Whether nothing but a comment follows.
fn rest_is_comment(chars: &std::iter::Peekable<std::str::Chars<'_>>) -> bool {
    let mut rest = chars.clone().skip_while(|c| c.is_whitespace());
    matches!(rest.next(), None | Some(';'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_cut_as_systems_cut_them() {
        let inf = Inf::parse(
            "; top\r\nlost = before any section\n[ Version ] ; x\nSignature=\"$Quay$\"\nList = a, \"b, c\" ,,d ; tail\n\
             Long = one, \\\n  two, \\ ; why\n three\n\"q;k\" = \"say \"\"hi\"\"\"\n[Files]\nalone.sys\nx.dll,y.dl_,,2\n[version]\nMore=%A%-%b%-%none%-100%%\n\
             Path=\"C:\\dir\\\"\nempty=\n[Strings]\na=\"Ä\"\nB = two words ; c\n[Strings.0409]\nb=english\n[Strings.0414]\nnone2=x\n",
        );
        let values = |section: &str, key: &str| inf.line(section, key).map(|line| line.values.clone());
        assert_eq!(values("VERSION", "signature").unwrap(), ["$Quay$"]);
        assert_eq!(values("Version", "list").unwrap(), ["a", "b, c", "", "d"]);
        assert_eq!(values("Version", "Long").unwrap(), ["one", "two", "three"]);
        assert_eq!(values("Version", "q;k").unwrap(), ["say \"hi\""]);
        assert_eq!(inf.lines("files")[0].values, ["alone.sys"]);
        assert_eq!(inf.lines("files")[1].values, ["x.dll", "y.dl_", "", "2"]);
        assert_eq!(inf.text("version", "more").unwrap(), "Ä-english-%none%-100%");
        assert_eq!(values("Version", "empty").unwrap(), Vec::<String>::new());
        assert_eq!(inf.expand("%none2%"), "x");
        assert_eq!(
            inf.sections().collect::<Vec<_>>(),
            ["Version", "Files", "Strings", "Strings.0409", "Strings.0414"]
        );
        assert!(!inf.has("lost"));
    }
}

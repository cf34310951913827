//! Scripts for `cmd`.
//!
//! Two things take a line apart: `cmd` itself, for which `% & | < > ^ ( )` and quotes mean something, and then the program.
//! What is written here arrives at the program as it was given; a redirection always stands first, as a digit before one
//! would become its handle.

use std::fmt::Write as _;

/// A part of a line.
#[derive(Clone, Copy, Debug)]
pub enum Part<'a> {
    /// A text of our own, which `cmd` shall understand.
    Own(&'static str),
    /// A text from outside, for a person to read.
    Text(&'a str),
    /// A path from outside, in quotes. A quote cannot stand in a path and is left out.
    Path(&'a str),
    /// The rest of a command line as its author wrote it, for the program that is run.
    Tail(&'a str),
    /// The same, where variables are still filled in: what stands between two signs and can be the name of one.
    Line(&'a str),
}

/// A script as it grows.
#[derive(Clone, Debug)]
pub struct Script {
    text: String,
}

impl Default for Script {
    fn default() -> Self {
        Self::new()
    }
}

impl Script {
    /// A script that does not show its lines.
    #[must_use]
    pub fn new() -> Self {
        Self { text: "@echo off\r\n".to_owned() }
    }

    /// Appends a line.
    pub fn line(&mut self, parts: &[Part<'_>]) {
        for part in parts {
            match part {
                Part::Own(text) => self.text.push_str(text),
                Part::Text(text) => self.text.push_str(&shown(text)),
                Part::Path(path) => {
                    let path: String = path.chars().filter(|c| *c != '"' && !is_line_end(*c)).collect();
                    let _ = write!(self.text, "\"{}\"", path.replace('%', "%%"));
                }
                Part::Tail(text) => self.text.push_str(&tail(text)),
                Part::Line(text) => self.text.push_str(&line(text)),
            }
        }
        self.text.push_str("\r\n");
    }

    /// The script's bytes: ASCII as it is, anything else as UTF-8, which the script then says first.
    #[must_use]
    pub fn into_bytes(self) -> Vec<u8> {
        if self.text.is_ascii() {
            return self.text.into_bytes();
        }
        self.text.replacen("@echo off\r\n", "@echo off\r\nchcp 65001 >nul\r\n", 1).into_bytes()
    }
}

const fn is_line_end(c: char) -> bool {
    matches!(c, '\r' | '\n' | '\0')
}

const fn is_special(c: char) -> bool {
    matches!(c, '&' | '|' | '<' | '>' | '^' | '(' | ')')
}

/// A text as `echo` shows it. Quotes lose their meaning too, so that one that stays open takes nothing with it.
fn shown(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            '%' => out.push_str("%%"),
            c if is_line_end(c) => out.push(' '),
            c if is_special(c) || c == '"' => out.extend(['^', c]),
            c => out.push(c),
        }
    }
    out
}

/// The rest of a command line so that the program gets it as it is: what `cmd` would understand outside quotes is
/// escaped, and inside them only the sign of variables.
fn tail(text: &str) -> String {
    let mut out = String::new();
    let mut is_quoted = false;
    for c in text.chars() {
        match c {
            '%' => out.push_str("%%"),
            c if is_line_end(c) => out.push(' '),
            '"' => {
                is_quoted = !is_quoted;
                out.push(c);
            }
            c if is_special(c) && !is_quoted => out.extend(['^', c]),
            c => out.push(c),
        }
    }
    out
}

/// The same, with variables as they are.
fn line(text: &str) -> String {
    let is_name = |name: &str| {
        name.starts_with(|c: char| c.is_ascii_alphabetic())
            && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '(' | ')'))
    };
    let mut out = String::new();
    let mut rest = text;
    let mut is_quoted = false;
    while let Some(c) = rest.chars().next() {
        let variable = rest.strip_prefix('%').and_then(|own| own.split_once('%'));
        if let Some((name, after)) = variable.filter(|(name, _)| is_name(name)) {
            out.push_str(&format!("%{name}%"));
            rest = after;
            continue;
        }
        match c {
            '%' => out.push_str("%%"),
            c if is_line_end(c) => out.push(' '),
            c if is_special(c) && !is_quoted => out.extend(['^', c]),
            c => {
                is_quoted ^= c == '"';
                out.push(c);
            }
        }
        rest = &rest[c.len_utf8()..];
    }
    out
}

/// A command line inside the line of another `cmd`, which gives it on as it is. Variables are still its own.
pub(crate) fn in_line(text: &str) -> String {
    let mut out = String::new();
    let mut is_quoted = false;
    for c in text.chars() {
        is_quoted ^= c == '"';
        if is_special(c) && !is_quoted {
            out.push('^');
        }
        out.push(c);
    }
    out
}

/// What [`in_line`] was given.
pub(crate) fn of_line(text: &str) -> String {
    let mut out = String::new();
    let (mut is_quoted, mut is_escaped) = (false, false);
    for c in text.chars() {
        if c == '^' && !is_quoted && !is_escaped {
            is_escaped = true;
            continue;
        }
        is_quoted ^= c == '"';
        is_escaped = false;
        out.push(c);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(parts: &[Part<'_>]) -> String {
        let mut script = Script::new();
        script.line(parts);
        String::from_utf8(script.into_bytes()).unwrap()
    }

    #[test]
    fn texts_and_tails_are_escaped_where_it_counts() {
        let line = |part| {
            let whole = text(&[Part::Own("x "), part]);
            whole.strip_prefix("@echo off\r\nx ").unwrap().trim_end().to_owned()
        };
        assert_eq!(line(Part::Text("a & \"b\" 100%")), "a ^& ^\"b^\" 100%%");
        assert_eq!(line(Part::Tail("/a \"b & c\" & d %x%")), "/a \"b & c\" ^& d %%x%%");
        assert_eq!(line(Part::Path("C:\\a%b\\\"c\" & d.exe")), "\"C:\\a%%b\\c & d.exe\"");
        assert_eq!(line(Part::Tail("two\r\nlines")), "two  lines");
        assert_eq!(
            line(Part::Line("\"%SystemDrive%\\a & b\" & 100% of %d in 50%")),
            "\"%SystemDrive%\\a & b\" ^& 100%% of %%d in 50%%"
        );
    }

    #[test]
    fn a_line_inside_a_line_is_read_as_it_is_written() {
        for text in ["a \"b c\" & d", "a & b", "\"a ^ b\" ^ c | \"d", "^^", "plain", "(a) > \"b > c\""] {
            assert_eq!(of_line(&in_line(text)), text);
        }
        assert_eq!(in_line("cmd /c \"a \"b & c\" & d\""), "cmd /c \"a \"b ^& c\" & d\"");
    }

    #[test]
    fn what_is_not_ascii_says_its_encoding() {
        assert!(!text(&[Part::Text("plain")]).contains("chcp"));
        assert!(text(&[Part::Text("Fähre")]).starts_with("@echo off\r\nchcp 65001 >nul\r\nFähre"));
    }
}

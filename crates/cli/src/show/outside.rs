//! The one way of text to a terminal.
//!
//! Labels, names, titles and messages come from media, packages and the network, and may hold escape sequences, line
//! ends that print a line of their own, or marks that turn the order of letters. [`line()`] makes of each what takes one
//! line and moves nothing; the helpers that lay out sheets, tables, headings, notes and errors call it. [`shown`] is
//! the gate at the end: whatever it gets, only our own colours and line ends come out as such.

use super::style;
use std::{borrow::Cow, fmt::Write};

/// Whether a character does something else than take a place: controls of both sets, marks of direction, separators of
/// lines, and what is no character.
fn moves(c: char) -> bool {
    matches!(c,
        '\0'..='\u{1f}' | '\u{7f}'..='\u{9f}'
        | '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}'
        | '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{fdd0}'..='\u{fdef}' | '\u{e0000}'..='\u{e007f}')
}

fn push_escaped(out: &mut String, c: char) {
    match c {
        '\n' => out.push_str("\\n"),
        '\r' => out.push_str("\\r"),
        '\t' => out.push_str("\\t"),
        // Writing to a string cannot fail.
        _ => drop(write!(out, "\\u{{{:x}}}", u32::from(c))),
    }
}

/// Text in one line: what would move or end it is written as an escape. Our own marks of colour stay.
pub(crate) fn line(text: &str) -> Cow<'_, str> {
    if !text.chars().any(moves) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        if moves(c) { push_escaped(&mut out, c) } else { out.push(c) }
    }
    Cow::Owned(out)
}

/// Laid-out text as it goes to a terminal or a file: marks of colour become colours, line ends stay, and nothing else
/// that moves is left.
pub(crate) fn shown(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + text.len() / 8);
    for c in text.chars() {
        if let Some(colour) = style::of_mark(c) {
            out.push_str(&colour);
        } else if c != '\n' && moves(c) {
            push_escaped(&mut out, c);
        } else {
            out.push(c);
        }
    }
    out
}

/// Longest word that is shown whole where people read; names and keys may have thousands of letters.
const LONGEST_WORD: usize = 400;

/// A message whose overlong words have a mark in place of their middle.
pub(crate) fn shortened(message: &str) -> Cow<'_, str> {
    const KEPT: usize = LONGEST_WORD / 2 - 2;
    if message.split(' ').all(|word| word.chars().count() <= LONGEST_WORD) {
        return Cow::Borrowed(message);
    }
    let short = |word: &str| {
        let letters: Vec<char> = word.chars().collect();
        if letters.len() <= LONGEST_WORD {
            return word.to_owned();
        }
        let (front, back) = (&letters[..KEPT], &letters[letters.len() - KEPT..]);
        front.iter().chain(&['…']).chain(back).collect()
    };
    Cow::Owned(message.split(' ').map(short).collect::<Vec<_>>().join(" "))
}

/// JSON text in which such characters are written as escapes, which say the same.
pub(crate) fn json(text: &str) -> Cow<'_, str> {
    let raw = |c: char| c != '\n' && moves(c);
    if !text.chars().any(raw) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 64);
    for c in text.chars() {
        if raw(c) {
            // Outside of texts, JSON of ours has no such characters; inside, this is the escape for each.
            for unit in c.encode_utf16(&mut [0; 2]) {
                let _ = write!(out, "\\u{unit:04x}");
            }
        } else {
            out.push(c);
        }
    }
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOSTILE: &str =
        "a\u{1b}[2J\u{1b}]0;x\u{7}\r\nok: done\t\u{9b}31m\u{202e}gpj\u{2066}\u{85}\u{2028}\u{7f}";

    #[test]
    fn nothing_moves_and_nothing_is_lost() {
        let one = line(HOSTILE);
        assert!(!one.chars().any(moves), "{one:?}");
        assert!(
            one.starts_with("a\\u{1b}[2J\\u{1b}]0;x\\u{7}\\r\\nok: done\\t\\u{9b}31m\\u{202e}gpj"),
            "{one}"
        );
        assert!(matches!(line("Fähre 日本 👩‍🔧 العربية"), Cow::Borrowed(_)));
    }

    #[test]
    fn the_gate_lets_only_our_colours_and_line_ends_through() {
        let text = shown(&format!("{}head{:#}\n{HOSTILE}", style::HEADING, style::HEADING));
        let plain = text.replacen("\u{1b}[1m", "", 1).replacen("\u{1b}[0m", "", 1);
        assert!(plain.starts_with("head\n"), "{plain:?}");
        assert!(!plain.chars().any(|c| c != '\n' && moves(c)), "{plain:?}");
    }

    #[test]
    fn long_names_lose_their_middle() {
        let long = format!("{}{}", "a".repeat(5000), "z".repeat(5000));
        let short = shortened(&long).into_owned();
        assert!(short.starts_with("aaa") && short.ends_with("zzz") && short.chars().count() <= LONGEST_WORD);
        assert!(matches!(shortened("a short message"), Cow::Borrowed(_)));
    }

    #[test]
    fn json_says_the_same_without_them() {
        let value = serde_json::json!({ "name": HOSTILE, "tag": "\u{e0041}" });
        let text = serde_json::to_string_pretty(&value).unwrap();
        let safe = json(&text);
        assert!(!safe.chars().any(|c| c != '\n' && moves(c)), "{safe:?}");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&safe).unwrap(), value);
    }
}

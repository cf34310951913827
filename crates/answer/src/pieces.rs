//! Text made of pieces with keys: what the neutral form says is a list of them, and a file that is there is changed
//! piece by piece.

use std::ops::Range;

/// A piece that is said.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Piece {
    /// By which it is found in a file.
    pub key: String,
    /// Its text, without the last line end.
    pub text: String,
}

impl Piece {
    pub fn new(key: impl Into<String>, text: impl Into<String>) -> Self {
        Self { key: key.into(), text: text.into() }
    }
}

/// A piece of a file: its key and where it stands, without the last line end.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Part {
    pub key: String,
    pub span: Range<usize>,
}

/// A file's text with the pieces that differ between `before` and `after`. What comes new stands after what comes
/// before it in `after`, or at `end`.
pub(crate) fn rewrite(text: &str, parts: &[Part], before: &[Piece], after: &[Piece], end: usize) -> String {
    let line_end = if text.contains("\r\n") { "\r\n" } else { "\n" };
    let native = |text: &str| text.replace('\n', line_end);
    // Where, what goes there, what is taken away; several at one place keep their order.
    let mut edits: Vec<(Range<usize>, String)> = Vec::new();
    for piece in before.iter().filter(|piece| !after.iter().any(|own| own.key == piece.key)) {
        for part in parts.iter().filter(|part| part.key == piece.key) {
            let rest = text.get(part.span.end..).unwrap_or_default();
            let gone = if rest.starts_with("\r\n") { 2 } else { usize::from(rest.starts_with('\n')) };
            edits.push((part.span.start..part.span.end + gone, String::new()));
        }
    }
    let mut place: Option<usize> = None;
    for piece in after {
        let mut own = parts.iter().filter(|part| part.key == piece.key);
        let found = own.next_back();
        let is_same = before.iter().any(|was| was == piece);
        if let Some(part) = found {
            if !is_same {
                edits.push((part.span.clone(), native(&piece.text)));
            }
            place = Some(part.span.end);
        } else if !is_same {
            let at = place.unwrap_or(end);
            let is_line_start = at == 0 || text.get(..at).is_some_and(|text| text.ends_with('\n'));
            let new = if is_line_start {
                format!("{}{line_end}", native(&piece.text))
            } else {
                format!("{line_end}{}", native(&piece.text))
            };
            edits.push((at..at, new));
        }
    }
    edits.sort_by_key(|(range, _)| (range.start, range.end));
    let mut out = String::with_capacity(text.len() + 256);
    let mut done = 0;
    for (range, new) in edits {
        if range.start > done {
            out.push_str(text.get(done..range.start).unwrap_or_default());
        }
        out.push_str(&new);
        done = done.max(range.end);
    }
    out.push_str(text.get(done..).unwrap_or_default());
    out
}

/// A new text of pieces.
pub(crate) fn fresh(head: &str, pieces: &[Piece]) -> String {
    let mut text = head.to_owned();
    for piece in pieces {
        text.push_str(&piece.text);
        text.push('\n');
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_differs_is_touched() {
        let text = "# head\r\na 1\r\n# about b\r\nb 2\r\nunknown\r\nc 3";
        let part = |key: &str, what: &str| {
            let at = text.find(what).unwrap();
            Part { key: key.into(), span: at..at + what.len() }
        };
        let parts = [part("a", "a 1"), part("b", "b 2"), part("c", "c 3")];
        let piece = |key: &str, value: &str| Piece::new(key, format!("{key} {value}"));
        let before = [piece("a", "1"), piece("b", "2"), piece("c", "3")];
        assert_eq!(rewrite(text, &parts, &before, &before, text.len()), text);
        let after =
            [piece("z", "0"), piece("a", "1"), piece("n", "9\nmore"), piece("c", "4"), piece("d", "5")];
        let expected = "# head\r\na 1\r\nn 9\r\nmore\r\n# about b\r\nunknown\r\nc 4\r\nz 0\r\nd 5";
        let got = rewrite(text, &parts, &before, &after, text.len());
        // What has nothing before it goes to the end.
        assert_eq!(
            got.split("\r\n").collect::<std::collections::BTreeSet<_>>(),
            expected.split("\r\n").collect()
        );
        assert!(got.starts_with("# head\r\na 1\r\nn 9\r\nmore\r\n# about b\r\nunknown\r\nc 4"), "{got}");
    }
}

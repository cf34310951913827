//! Words that people write and read: sizes, names that were probably meant, lists that are cut short.

use crate::{Error, Result};
use std::borrow::Cow;

/// Units of sizes and the bytes that each stands for; a letter alone means a power of two, as in most programs.
const UNITS: [(&str, u64); 14] = [
    ("", 1),
    ("b", 1),
    ("k", 1 << 10),
    ("kib", 1 << 10),
    ("m", 1 << 20),
    ("mib", 1 << 20),
    ("g", 1 << 30),
    ("gib", 1 << 30),
    ("t", 1 << 40),
    ("tib", 1 << 40),
    ("kb", 1_000),
    ("mb", 1_000_000),
    ("gb", 1_000_000_000),
    ("tb", 1_000_000_000_000),
];
/// Largest size that anything here is asked for, in bytes.
const LARGEST: u128 = 1 << 60;
/// Digits of a number, before and after its point, that are read.
const MOST_DIGITS: usize = 20;

/// Bytes of a size as people write it: `64M`, `300 MiB`, `1.5GB`, `4096`. The case of units does not matter.
///
/// # Errors
/// `Request` for what is no size.
pub fn parse_size(text: &str) -> Result<u64> {
    let size = || -> Option<u64> {
        let text = text.trim();
        let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
        let (number, unit) = text.split_at(end);
        let unit = unit.trim().to_ascii_lowercase();
        let (_, factor) = UNITS.iter().find(|(name, _)| *name == unit)?;
        let (whole, part) = number.split_once('.').unwrap_or((number, "0"));
        if whole.len() > MOST_DIGITS || part.len() > MOST_DIGITS {
            return None;
        }
        // In whole numbers, so that 0.1 of a unit is what it says.
        let factor = u128::from(*factor);
        let below = 10_u128.checked_pow(u32::try_from(part.len()).ok()?)?;
        let bytes = whole.parse::<u128>().ok()?.checked_mul(factor)?
            + part.parse::<u128>().ok()?.checked_mul(factor)? / below;
        u64::try_from(bytes).ok().filter(|bytes| u128::from(*bytes) <= LARGEST)
    };
    size().ok_or_else(|| {
        Error::request(format!("{text:?} is not a size"), "write it such as 64M, 300MiB or 8GB")
    })
}

/// How alike two names must be, from 0 to 1, before one is taken for a slip of the other.
const ALIKE: f64 = 0.8;

/// The candidate that `word` was probably meant to be.
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    nearest_by(word, candidates, |name| name).into_iter().next()
}

/// The candidates that `word` was probably meant to be, the nearest first, at most three; compared by the part of
/// either that `part` gives.
pub fn nearest_by<'a>(
    word: &str,
    candidates: impl IntoIterator<Item = &'a str>,
    part: fn(&str) -> &str,
) -> Vec<&'a str> {
    let word = part(word).to_lowercase();
    let score = |candidate: &str| strsim::jaro_winkler(&word, &part(candidate).to_lowercase());
    let scored = candidates.into_iter().map(|candidate| (score(candidate), candidate));
    let mut near: Vec<(f64, &str)> = scored.filter(|(score, _)| *score > ALIKE).collect();
    near.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(b.1)));
    near.into_iter().take(3).map(|(_, candidate)| candidate).collect()
}

/// A number with its noun, such as `1 file` and `2 files`.
pub fn counted(number: u64, one: &str, many: &str) -> String {
    if number == 1 { format!("1 {one}") } else { format!("{number} {many}") }
}

/// ` and 3 more`, for a list of which so many are not shown; nothing for none.
pub fn and_more(count: usize) -> Cow<'static, str> {
    if count == 0 { "".into() } else { format!(" and {count} more").into() }
}

/// A text as a string of TOML, in one line.
pub fn toml_string(text: &str) -> String {
    let mut quoted = String::with_capacity(text.len() + 2);
    quoted.push('"');
    for c in text.chars() {
        match c {
            '"' => quoted.push_str("\\\""),
            '\\' => quoted.push_str("\\\\"),
            '\n' => quoted.push_str("\\n"),
            '\t' => quoted.push_str("\\t"),
            c if c.is_control() => quoted.push_str(&format!("\\u{:04X}", u32::from(c))),
            c => quoted.push(c),
        }
    }
    quoted.push('"');
    quoted
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
    use super::*;

    #[test]
    fn sizes_are_read_in_every_spelling() {
        for (text, bytes) in [
            ("0", 0),
            ("4096", 4096),
            ("64M", 64 << 20),
            ("64 mib", 64 << 20),
            ("300MiB", 300 << 20),
            ("8GB", 8_000_000_000),
            ("1.5KiB", 1536),
            ("0.1GB", 100_000_000),
            ("2t", 2 << 40),
            (" 7 B ", 7),
        ] {
            assert_eq!(parse_size(text).unwrap(), bytes, "{text}");
        }
        for text in ["", "M", "-1", "1,5G", "1.2.3", "64X", "1e9", "99999999999999999999TB", "1.", ".5"] {
            assert!(parse_size(text).is_err(), "{text}");
        }
        assert!(parse_size(&format!("1.{}", "0".repeat(21))).is_err());
    }

    fn last(id: &str) -> &str {
        id.rsplit('/').next().unwrap_or(id)
    }

    #[test]
    fn slips_are_taken_for_what_was_meant() {
        assert_eq!(nearest("medai", ["label", "media", "menu"]), Some("media"));
        assert_eq!(nearest("qqq", ["label", "media"]), None);
        let ids = ["app/Chart-Viewer", "app/Chat", "service/chart-viewer", "tool/x"];
        assert_eq!(nearest_by("chart-viwer", ids, last)[..2], ["app/Chart-Viewer", "service/chart-viewer"]);
    }

    #[test]
    fn one_thing_is_not_said_as_many() {
        assert_eq!(
            [0, 1, 2].map(|number| counted(number, "entry", "entries")),
            ["0 entries", "1 entry", "2 entries"]
        );
    }

    #[test]
    fn lists_say_how_many_are_left() {
        assert_eq!(and_more(0), "");
        assert_eq!(and_more(3), " and 3 more");
    }

    #[test]
    fn strings_of_toml_stay_in_their_line() {
        assert_eq!(toml_string("a \"b\" \\ c\n\u{1b}ü"), r#""a \"b\" \\ c\n\u001Bü""#);
    }
}

//! Numbers of time zones and of groups of languages.

use crate::tables;

static NUMBERS: &str = include_str!("../../data/zone-numbers.txt");

fn rows() -> impl Iterator<Item = (u32, &'static str)> {
    let row = |line: &'static str| {
        let (number, name) = line.split_once('\t')?;
        Some((number.parse().ok()?, name))
    };
    NUMBERS.lines().filter(|line| !line.starts_with('#')).filter_map(row)
}

/// The number of an IANA time zone.
pub(super) fn number(iana: &str) -> Option<u32> {
    let name = tables::zone_name(iana)?;
    rows().find(|(_, own)| *own == name).map(|(number, _)| number)
}

/// The IANA time zone of a number.
pub(super) fn zone(number: u32) -> Option<&'static str> {
    let (_, name) = rows().find(|(own, _)| *own == number)?;
    tables::zone_of_name(name)
}

/// Whether there is a time zone with a number.
pub(super) fn is_number(number: u32) -> bool {
    rows().any(|(own, _)| own == number)
}

/// Groups of languages beyond that of western Europe, which is always there: the number, and the tags that begin so.
const GROUPS: [(u8, &[&str]); 16] = [
    (2, &["cs", "hr", "hu", "pl", "ro", "sk", "sl", "sq", "bs", "sr-Latn"]),
    (3, &["et", "lt", "lv"]),
    (4, &["el"]),
    (5, &["be", "bg", "kk", "ky", "mk", "mn", "ru", "sr", "tt", "uk"]),
    (6, &["az", "tr", "uz"]),
    (7, &["ja"]),
    (8, &["ko"]),
    (9, &["zh-TW", "zh-HK", "zh-Hant", "zh-MO"]),
    (10, &["zh"]),
    (11, &["th"]),
    (12, &["he"]),
    (13, &["ar", "dv", "fa", "syr", "ur"]),
    (14, &["vi"]),
    (15, &["gu", "hi", "kn", "kok", "mr", "pa", "sa", "ta", "te"]),
    (16, &["ka"]),
    (17, &["hy"]),
];

/// The group of a language.
pub(super) fn group(tag: &str) -> u8 {
    let begins = |own: &&str| {
        tag.len() >= own.len()
            && tag.as_bytes()[..own.len()].eq_ignore_ascii_case(own.as_bytes())
            && matches!(tag.as_bytes().get(own.len()), None | Some(b'-'))
    };
    // The longest that fits: a script or a country makes a difference.
    let all = GROUPS.iter().flat_map(|(number, tags)| tags.iter().map(move |own| (own, *number)));
    all.filter(|(own, _)| begins(own)).max_by_key(|(own, _)| own.len()).map_or(1, |(_, number)| number)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
    use super::*;

    #[test]
    fn numbers_go_there_and_back() {
        assert_eq!((number("Europe/Copenhagen"), zone(85)), (Some(105), Some("Europe/London")));
        assert_eq!((number("Europe/Nowhere"), zone(7)), (None, None));
        for (own, name) in rows() {
            let iana = zone(own).unwrap_or_else(|| panic!("{name} has no zone"));
            assert_eq!(number(iana), Some(own), "{name}");
        }
    }

    #[test]
    fn languages_are_in_their_groups() {
        let tags =
            ["en-GB", "da-DK", "cs-CZ", "sr-Cyrl-RS", "sr-Latn-RS", "zh-CN", "zh-TW", "ar-EG", "el", ""];
        assert_eq!(tags.map(group), [1, 1, 2, 5, 2, 10, 9, 13, 4, 1]);
    }
}

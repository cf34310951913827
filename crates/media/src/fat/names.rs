//! Names and directory entries (FAT specification 6 and 7).

use super::layout::{ATTR_LONG_NAME, DirEntry};
use crate::iso9660::time::civil_utc;
use crate::units::Cluster;
use jiff::civil;
use neat_content::Timestamp;
use std::collections::{HashMap, HashSet};

pub(super) fn entry(name: [u8; 11], attributes: u8, cluster: Cluster, len: u32, time: Timestamp) -> DirEntry {
    let earliest = civil::date(1980, 1, 1).at(0, 0, 0, 0);
    let civil = civil_utc(time).clamp(earliest, civil::date(2107, 12, 31).at(23, 59, 58, 0));
    let date = ((civil.year() - 1980) as u16) << 9 | (civil.month() as u16) << 5 | civil.day() as u16;
    let clock = (civil.hour() as u16) << 11 | (civil.minute() as u16) << 5 | (civil.second() as u16 / 2);
    DirEntry {
        name,
        attributes,
        reserved: 0,
        created_hundredths: 0,
        created_time: clock.into(),
        created_date: date.into(),
        accessed_date: date.into(),
        cluster_high: ((cluster.0 >> 16) as u16).into(),
        modified_time: clock.into(),
        modified_date: date.into(),
        cluster_low: (cluster.0 as u16).into(),
        len: len.into(),
    }
}

pub(super) fn label(text: &str) -> [u8; 11] {
    let mut field = [b' '; 11];
    let usable = text
        .to_uppercase()
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() || " _-".contains(c) { c as u8 } else { b'_' })
        .collect::<Vec<_>>();
    let len = usable.len().min(11);
    field[..len].copy_from_slice(&usable[..len]);
    field
}

/// The short names of a directory.
#[derive(Debug, Default)]
pub(super) struct ShortNames {
    taken: HashSet<[u8; 11]>,
    /// The next number for a beginning and an extension, so that many like names are not tried one by one.
    numbers: HashMap<Vec<u8>, u64>,
}

/// A short name for `name` that is not taken, and whether it says it all so that no long name is needed.
pub(super) fn short_name(name: &str, names: &mut ShortNames) -> ([u8; 11], bool) {
    let ShortNames { taken, numbers } = names;
    let allowed = |c: char| c.is_ascii_uppercase() || c.is_ascii_digit() || "!#$%&'()-@^_`{}~".contains(c);
    let (base, extension) = match name.rsplit_once('.') {
        Some((base, extension)) if !base.is_empty() => (base, extension),
        _ => (name, ""),
    };
    let clean = |part: &str| {
        part.chars()
            .flat_map(char::to_uppercase)
            .filter(|c| *c != ' ' && *c != '.')
            .map(|c| if allowed(c) { c as u8 } else { b'_' })
            .collect::<Vec<u8>>()
    };
    let (short_base, short_extension) = (clean(base), clean(extension));
    // Letters of either case are one name here, so a name that is short enough needs no number (section 7.4); the long
    // name only keeps the case.
    let upper = name.to_uppercase();
    let fits = upper.chars().all(|c| allowed(c) || c == '.')
        && (1..=8).contains(&short_base.len())
        && short_extension.len() <= 3
        && short_base.len() == base.len()
        && short_extension.len() == extension.len()
        && (name.len() == base.len() || !extension.is_empty());
    let build = |base: &[u8]| {
        let mut field = [b' '; 11];
        field[..base.len()].copy_from_slice(base);
        let len = short_extension.len().min(3);
        field[8..8 + len].copy_from_slice(&short_extension[..len]);
        field
    };
    if fits {
        let field = build(&short_base);
        if taken.insert(field) {
            return (field, name == upper);
        }
    }
    let beginning = [&short_base[..short_base.len().min(6)], b".", &short_extension].concat();
    let next = numbers.entry(beginning).or_insert(1);
    let mut number = *next;
    loop {
        let tail = format!("~{number}");
        let keep = short_base.len().min(8 - tail.len().min(8));
        let field = build(&[&short_base[..keep], tail.as_bytes()].concat());
        if taken.insert(field) {
            *next = number + 1;
            return (field, false);
        }
        number += 1;
    }
}

/// The entries of a long name, last piece first (section 7.1).
pub(super) fn long_entries(name: &str, sum: u8) -> Vec<u8> {
    let units: Vec<u16> = name.encode_utf16().collect();
    let count = units.len().div_ceil(13);
    let mut bytes = Vec::with_capacity(count * 32);
    for (index, piece) in units.chunks(13).enumerate().rev() {
        let mut slots = [0xFFFF_u16; 13];
        slots[..piece.len()].copy_from_slice(piece);
        if let Some(end) = slots.get_mut(piece.len()) {
            *end = 0;
        }
        let last = if index + 1 == count { 0x40 } else { 0 };
        let mut raw = [0_u8; 32];
        raw[0] = (index as u8 + 1) | last;
        raw[11] = ATTR_LONG_NAME;
        raw[13] = sum;
        let places = (1..11).step_by(2).chain((14..26).step_by(2)).chain((28..32).step_by(2));
        for (place, unit) in places.zip(slots) {
            raw[place..place + 2].copy_from_slice(&unit.to_le_bytes());
        }
        bytes.extend(raw);
    }
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shorts(names: &[&str]) -> Vec<(String, bool)> {
        let mut known = ShortNames::default();
        let name = |name: &&str| {
            let (short, exact) = short_name(name, &mut known);
            (short.iter().map(|byte| char::from(*byte)).collect(), exact)
        };
        names.iter().map(name).collect()
    }

    #[test]
    fn short_names_follow_the_rules() {
        for (name, short, exact) in [
            ("README.TXT", "README  TXT", true),
            ("A", "A          ", true),
            ("NO_DOT", "NO_DOT     ", true),
            // Only the case is lost, so no number is needed.
            ("readme.txt", "README  TXT", false),
            ("BOOTX64.efi", "BOOTX64 EFI", false),
            ("quayboot", "QUAYBOOT   ", false),
            // Too long, more than one dot, characters that have no place.
            ("install.swm2", "INSTAL~1SWM", false),
            ("autounattend.xml", "AUTOUN~1XML", false),
            ("a.b.c", "AB~1    C  ", false),
            ("with space", "WITHSP~1   ", false),
            (".hidden", "HIDDEN~1   ", false),
            ("a+b.txt", "A_B~1   TXT", false),
            ("Übersicht.txt", "_BERSI~1TXT", false),
            ("航路図", "___~1      ", false),
            ("ends.", "ENDS~1     ", false),
        ] {
            assert_eq!(shorts(&[name]), [(short.to_owned(), exact)], "{name}");
        }
    }

    #[test]
    fn like_names_are_numbered_and_never_the_same() {
        let names: Vec<String> = (0..1200).map(|number| format!("a long name {number}.text")).collect();
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        let found = shorts(&names);
        assert_eq!((found[0].0.as_str(), found[9].0.as_str()), ("ALONGN~1TEX", "ALONG~10TEX"));
        assert_eq!((found[99].0.as_str(), found[999].0.as_str()), ("ALON~100TEX", "ALO~1000TEX"));
        let distinct: HashSet<&String> = found.iter().map(|(short, _)| short).collect();
        assert_eq!(distinct.len(), names.len());
        // A name that looks like one that was given out.
        assert_eq!(
            shorts(&["long name here", "LONGNA~1"]),
            [("LONGNA~1   ".to_owned(), false), ("LONGNA~2   ".to_owned(), false)]
        );
    }

    #[test]
    fn long_names_end_as_the_description_says() {
        // 13 units fill a piece to the last; 14 need a second one with an end and padding.
        let (full, more) = (long_entries("thirteen char", 7), long_entries("fourteen chars", 7));
        assert_eq!((full.len(), more.len()), (32, 64));
        assert_eq!((full[0], full[11], full[13]), (0x41, 0x0F, 7));
        assert_eq!((more[0], more[32]), (0x42, 0x01));
        assert_eq!(&more[1..7], [b's', 0, 0, 0, 0xFF, 0xFF]);
    }

    #[test]
    fn times_that_fat_cannot_say_become_the_nearest() {
        let written = |seconds| {
            let raw = entry([b' '; 11], 0, Cluster(0x12_3456), 9, Timestamp::from_seconds(seconds));
            assert_eq!((raw.cluster_high.get(), raw.cluster_low.get(), raw.len.get()), (0x12, 0x3456, 9));
            (raw.modified_date.get(), raw.modified_time.get())
        };
        // 2026-03-02 08:00:01 UTC; the second is lost.
        assert_eq!(written(1_772_438_401), (46 << 9 | 3 << 5 | 2, 8 << 11));
        assert_eq!(written(0), (1 << 5 | 1, 0));
        assert_eq!(written(9_000_000_000), (127 << 9 | 12 << 5 | 31, 23 << 11 | 59 << 5 | 29));
    }
}

//! Names and directory entries (FAT specification 6 and 7).

use super::layout::{ATTR_LONG_NAME, DirEntry};
use crate::iso9660::time::civil_utc;
use jiff::civil;
use neat_content::Timestamp;
use std::collections::{HashMap, HashSet};

pub(super) fn entry(name: [u8; 11], attributes: u8, cluster: u64, len: u32, time: Timestamp) -> DirEntry {
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
        cluster_high: ((cluster >> 16) as u16).into(),
        modified_time: clock.into(),
        modified_date: date.into(),
        cluster_low: (cluster as u16).into(),
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

//! Files that are compressed each by itself, read by us, by a second reading, and by the library for cabinets.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

use neat_content::{Content, Timestamp};
use neat_package::{SingleForm, compress_single, expand_single, is_single_name, single_name};
use neat_testing::single::expand_older;
use proptest::prelude::*;
use std::io::{Cursor, Read};

/// 2026-02-03 04:05:06.
const WHEN: Timestamp = Timestamp::from_seconds(1_770_091_506);

fn older(bytes: &[u8]) -> Vec<u8> {
    compress_single("keel.sys", bytes, SingleForm::Older, WHEN).unwrap()
}

fn ours(name: &str, packed: &[u8]) -> (String, Vec<u8>, SingleForm) {
    let own =
        expand_single(name, &Content::from_bytes(packed), 1 << 30).unwrap().expect("one of these files");
    (own.name, own.content.to_vec(1 << 30, "").unwrap(), own.form)
}

/// Some bytes with much and with little that comes again.
fn mixed() -> impl Strategy<Value = Vec<u8>> {
    let piece = prop_oneof![
        proptest::collection::vec(any::<u8>(), 0..40),
        (any::<u8>(), 1_usize..60).prop_map(|(byte, len)| vec![byte; len]),
        (0_usize..4, 1_usize..400).prop_map(|(n, len)| b"all aboard the ferry "[n..]
            .iter()
            .copied()
            .cycle()
            .take(len)
            .collect()),
        Just(vec![b' '; 20]),
    ];
    proptest::collection::vec(piece, 0..60).prop_map(|pieces| pieces.concat())
}

proptest! {
    #[test]
    fn what_is_compressed_comes_back_by_both_readings(bytes in mixed()) {
        let packed = older(&bytes);
        prop_assert_eq!(expand_older(&packed), Some(bytes.clone()));
        let (name, content, form) = ours("KEEL.SY_", &packed);
        prop_assert_eq!((name.as_str(), form), ("KEEL.SYs", SingleForm::Older));
        prop_assert_eq!(content, bytes.clone());
        // At worst a bit more for each byte.
        prop_assert!(packed.len() <= 14 + bytes.len() + bytes.len().div_ceil(8));
    }

    #[test]
    fn both_readings_say_the_same_of_anything(bytes in proptest::collection::vec(any::<u8>(), 0..300), len in 0_u32..700) {
        let whole = [&b"SZDD\x88\xF0\x27\x33As"[..], &len.to_le_bytes(), &bytes].concat();
        let own = expand_single("keel.sy_", &Content::from_bytes(whole.clone()), 1 << 20);
        let second = expand_older(&whole).filter(|_| u64::from(len) <= whole.len() as u64 * 9);
        prop_assert_eq!(own.ok().flatten().map(|own| own.content.to_vec(1 << 20, "").unwrap()), second);
    }
}

#[test]
fn long_files_and_every_distance_come_back() {
    // Matches of all lengths at all distances, over the bounds of what is looked at together.
    let mut bytes: Vec<u8> = Vec::new();
    let mut state = 7_u32;
    while bytes.len() < (2 << 20) + 4_321 {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        let (distance, len) = ((state >> 8) as usize % 4_200 + 1, (state >> 22) as usize % 25);
        if distance <= bytes.len() {
            for _ in 0..len {
                bytes.push(bytes[bytes.len() - distance]);
            }
        }
        bytes.push((state >> 16) as u8);
    }
    let packed = older(&bytes);
    assert!(packed.len() < bytes.len() * 3 / 5, "{}", packed.len());
    assert!(expand_older(&packed).unwrap() == bytes);
    assert!(ours("a.sy_", &packed).1 == bytes);
    for len in [0, 1, 2, 3, 17, 18, 19, 4_095, 4_096, 4_097] {
        let zeros = vec![0; len];
        assert!(
            expand_older(&older(&zeros)).unwrap() == zeros && ours("a.sy_", &older(&zeros)).1 == zeros,
            "{len}"
        );
    }
}

/// Bits of the items of a compressed file.
fn bits_of(packed: &[u8]) -> usize {
    let (mut at, mut bits) = (14, 0);
    while at < packed.len() {
        let group = packed[at];
        at += 1;
        for n in 0..8 {
            if at < packed.len() {
                let is_byte = group >> n & 1 == 1;
                bits += if is_byte { 9 } else { 17 };
                at += if is_byte { 1 } else { 2 };
            }
        }
    }
    bits
}

/// The fewest bits that content can have, by trying every match of every place.
fn fewest_bits(bytes: &[u8]) -> usize {
    let mut bits = vec![0; bytes.len() + 1];
    for at in (0..bytes.len()).rev() {
        bits[at] = bits[at + 1] + 9;
        for from in 0..at {
            let longest =
                (at..bytes.len()).take(18).take_while(|n| bytes[from + n - at] == bytes[*n]).count();
            for len in 3..=longest {
                bits[at] = bits[at].min(bits[at + len] + 17);
            }
        }
    }
    bits[0]
}

proptest! {
    #[test]
    fn there_is_no_way_with_fewer_bits(letters in proptest::collection::vec(0_u8..4, 0..400)) {
        prop_assert_eq!(bits_of(&older(&letters)), fewest_bits(&letters));
    }
}

#[test]
fn cabinets_with_one_file_keep_its_name_and_time() {
    let bytes: Vec<u8> = (0..100_000_u32).map(|n| (n / 7) as u8).collect();
    let packed = compress_single("Keel.Sys", &bytes, SingleForm::Cabinet, WHEN).unwrap();
    let mut cabinet = cab::Cabinet::new(Cursor::new(&packed)).unwrap();
    let entry = cabinet.get_file_entry("Keel.Sys").unwrap();
    assert_eq!(entry.datetime().unwrap().assume_utc().unix_timestamp(), WHEN.seconds);
    let mut content = Vec::new();
    cabinet.read_file("Keel.Sys").unwrap().read_to_end(&mut content).unwrap();
    assert!(content == bytes && packed.len() < bytes.len() / 20);
    let (name, content, form) = ours("keel.sy_", &packed);
    assert!(name == "Keel.Sys" && content == bytes && form == SingleForm::Cabinet);
    let other = expand_single("other.sy_", &Content::from_bytes(packed), 1 << 30).unwrap();
    assert!(other.is_none(), "it is another file's");
}

#[test]
fn names_say_what_can_be_compressed_by_itself() {
    for (name, packed) in [
        ("keel.sys", Some("keel.sy_")),
        ("A.B.EXE", Some("A.B.EX_")),
        ("keel", None),
        ("keel.so", None),
        ("keel.conf", None),
        (".sys", None),
        ("keel.sy_", None),
        ("keel.äöü", None),
    ] {
        assert_eq!(single_name(name).as_deref(), packed, "{name}");
        if let Some(packed) = packed {
            assert!(is_single_name(packed));
        } else {
            let error = compress_single(name, b"", SingleForm::Older, WHEN).unwrap_err();
            assert!(error.to_string().contains("three letters"), "{error}");
        }
    }
}

//! Applications signed by another program, as they are and with bytes changed.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "tests say what they expect by failing"
)]

use neat_content::{Content, Timestamp};
use neat_signature::{LoaderSignatures, Revoked, of_loader};
use std::{fs, path::Path};

fn sample(name: &str) -> Vec<u8> {
    fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/samples").join(name)).unwrap()
}

fn read(bytes: &[u8]) -> LoaderSignatures {
    of_loader(&Content::from_bytes(bytes), None).unwrap()
}

#[test]
fn who_signed_is_said_and_that_it_fits() {
    let read = read(&sample("signed.efi"));
    assert!(read.is_sound() && read.damage.is_none(), "{read:?}");
    let [signature] = read.signatures.as_slice() else { panic!("{read:?}") };
    let names: Vec<&str> = signature.authorities.iter().map(|own| own.name.as_str()).collect();
    assert_eq!(names, ["Quay OS Loaders", "Brackwater Loaders Authority"]);
    assert_eq!(signature.root(), Some("Brackwater Loaders Authority"));
    assert_eq!(signature.authorities[0].number, "4d");
    // The root signed itself.
    assert!(signature.authorities.iter().all(|own| own.fits == Some(true)));
    let own = &signature.authorities[0];
    assert!(!own.is_expired(Timestamp::from_seconds(own.from + 1)));
    assert!(own.is_expired(Timestamp::from_seconds(own.until + 1)));
    let (_, kind) = (read.versions, read.sha256);
    assert_eq!(kind.len(), 64);
}

#[test]
fn an_authority_that_is_not_in_the_file_is_named() {
    let read = read(&sample("signed-alone.efi"));
    let [signature] = read.signatures.as_slice() else { panic!("{read:?}") };
    assert!(signature.is_sound());
    assert_eq!((signature.authorities.len(), signature.root()), (1, Some("Brackwater Loaders Authority")));
    assert_eq!(signature.authorities[0].fits, None);
}

#[test]
fn an_application_without_a_signature_has_none() {
    let read = read(include_bytes!("../../demo/boot/uefi.bin"));
    assert!(read.signatures.is_empty() && !read.is_sound() && read.damage.is_none());
    assert!(of_loader(&Content::from_bytes(b"MZ and no more".as_slice()), None).is_err());
}

/// No byte of a signed application can be changed without its being seen, but those that are outside of the signature by
/// design: the checksum and what fills up.
#[test]
fn every_changed_byte_is_seen() {
    let sound = sample("signed.efi");
    let start = u32::from_le_bytes(sound[0x3C..0x40].try_into().unwrap()) as usize;
    let checksum = start + 24 + 64..start + 24 + 68;
    let table = start + 24 + 112 + 32;
    let place = u32::from_le_bytes(sound[table..table + 4].try_into().unwrap()) as usize;
    let mut unseen = Vec::new();
    for at in (0..place).step_by(3).chain((place..sound.len()).step_by(5)) {
        let mut bytes = sound.clone();
        bytes[at] ^= 0x41;
        let is_sound = of_loader(&Content::from_bytes(bytes), None).is_ok_and(|read| read.is_sound());
        if is_sound && !checksum.contains(&at) {
            unseen.push(at);
        }
    }
    // In the signature's own bytes some are of no account: how it is wrapped, and who issued the root.
    let before: Vec<&usize> = unseen.iter().filter(|at| **at < place).collect();
    assert!(before.is_empty(), "{before:?}");
    assert!(unseen.len() < 40, "{unseen:?}");
}

#[test]
fn what_was_taken_back_is_not_sound() {
    let bytes = sample("signed.efi");
    let digest = read(&bytes).sha256;
    let digest: Vec<u8> =
        (0..32).map(|n| u8::from_str_radix(&digest[2 * n..2 * n + 2], 16).unwrap()).collect();
    let list = |digest: &[u8]| {
        let kind =
            [0x26, 0x16, 0xC4, 0xC1, 0x4C, 0x50, 0x92, 0x40, 0xAC, 0xA9, 0x41, 0xF9, 0x36, 0x93, 0x43, 0x28];
        let numbers: Vec<u8> = [76_u32, 0, 48].iter().flat_map(|number| number.to_le_bytes()).collect();
        Revoked::read(&[&kind[..], &numbers, &[0; 16], digest].concat()).unwrap()
    };
    let with = |list: &Revoked| of_loader(&Content::from_bytes(bytes.as_slice()), Some(list)).unwrap();
    let taken_back = with(&list(&digest));
    assert!(taken_back.revoked == Some(true) && !taken_back.is_sound());
    let other = with(&list(&[7; 32]));
    assert!(other.revoked == Some(false) && other.is_sound());
}

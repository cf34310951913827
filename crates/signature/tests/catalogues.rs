//! Catalogues that other programs signed, as they are and with bytes changed.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "tests say what they expect by failing"
)]

use neat_content::{Content, Job, Timestamp};
use neat_signature::{Catalogue, Standing, Trusted};
use std::{fs, path::Path};

/// 2026-12-01, when the signer's certificate has ended.
const NOW: Timestamp = Timestamp::from_seconds(1_796_083_200);

fn bytes(name: &str) -> Vec<u8> {
    let place = Path::new(env!("CARGO_MANIFEST_DIR"));
    let name = if name.starts_with("keelson") {
        format!("../demo/drivers/{name}")
    } else {
        format!("tests/samples/{name}")
    };
    fs::read(place.join(name)).unwrap()
}

fn read(bytes: &[u8]) -> Catalogue {
    Catalogue::read(&Content::from_bytes(bytes)).unwrap()
}

fn trusted() -> Trusted {
    Trusted::read(&bytes("authority.pem")).unwrap()
}

#[test]
fn an_application_is_covered_whatever_its_own_signatures_are() {
    let catalogue = read(&bytes("application.cat"));
    let covers = |bytes: &[u8]| catalogue.covers(&Content::from_bytes(bytes), &Job::silent()).unwrap();
    let application = bytes("signed.efi");
    assert!(covers(&application));
    // Without its signature it is the same, but for the place of the signature, which does not count.
    let start = u32::from_le_bytes(application[0x3C..0x40].try_into().unwrap()) as usize;
    let table = start + 24 + 112 + 32;
    let place = u32::from_le_bytes(application[table..table + 4].try_into().unwrap()) as usize;
    let mut unsigned = application[..place].to_vec();
    unsigned[table..table + 8].fill(0);
    assert!(covers(&unsigned));
    for at in [2, start + 30, place - 1] {
        let mut changed = application.clone();
        changed[at] ^= 1;
        assert!(!covers(&changed), "{at}");
    }
    assert!(!covers(b"") && !covers(b"MZ"));
}

#[test]
fn the_word_of_another_says_when_it_was_signed() {
    for (name, seconds) in [("keelson.cat", 1_772_323_200), ("countersigned.cat", 1_748_779_200)] {
        let catalogue = read(&bytes(name));
        let witness = catalogue.countersigned.as_ref().unwrap();
        assert_eq!(witness.seconds, seconds, "{name}");
        assert_eq!(witness.signature.authorities[0].name, "Quay Hardware Time");
        assert_eq!(catalogue.standing(NOW, None), Standing::Sound, "{name}");
        assert_eq!(catalogue.standing(NOW, Some(&trusted())), Standing::Sound, "{name}");
        assert!(trusted().reach_catalogue(&catalogue), "{name}");
    }
}

#[test]
fn without_one_the_certificate_has_to_hold_now() {
    let catalogue = read(&bytes("keelson-old.cat"));
    assert!(catalogue.countersigned.is_none());
    assert_eq!(catalogue.standing(NOW, None), Standing::Expired);
    assert_eq!(catalogue.standing(Timestamp::from_seconds(1_750_000_000), None), Standing::Sound);
    assert_eq!(catalogue.standing(Timestamp::from_seconds(1_500_000_000), None), Standing::Expired);
}

/// Who is not trusted is not believed about the time either.
#[test]
fn other_authorities_are_not_trusted() {
    let other = {
        let signed = bytes("signed.efi");
        let own = neat_signature::of_loader(&Content::from_bytes(signed.as_slice()), None).unwrap();
        assert_eq!(own.signatures[0].authorities.len(), 2);
        // The certificate of that authority, by where its bytes lie in the signature.
        let name = b"Brackwater Loaders Authority";
        let mut starts = (0..signed.len() - 4).filter(|at| signed[*at..].starts_with(&[0x30, 0x82]));
        starts
            .find_map(|at| {
                let len = usize::from(signed[at + 2]) << 8 | usize::from(signed[at + 3]);
                let der = signed.get(at..at + 4 + len)?;
                let count = der.windows(name.len()).filter(|own| *own == name).count();
                (count == 2).then(|| Trusted::read(der).ok()).flatten()
            })
            .unwrap()
    };
    let catalogue = read(&bytes("keelson.cat"));
    assert!(!other.reach_catalogue(&catalogue));
    assert_eq!(catalogue.standing(NOW, Some(&other)), Standing::Expired);
    assert!(Trusted::read(b"").is_err() && Trusted::read(b"-----BEGIN").is_err());
}

/// A certificate that is for telling the time is not one for signing drivers, though the same authority issued it.
#[test]
fn a_certificate_is_trusted_for_what_it_is_for() {
    let mut catalogue = read(&bytes("keelson.cat"));
    assert!(trusted().reach_catalogue(&catalogue));
    catalogue.signature = catalogue.countersigned.take().map(|witness| witness.signature);
    assert!(!trusted().reach_catalogue(&catalogue));
}

#[test]
fn every_changed_byte_is_seen() {
    for name in ["keelson-old.cat", "application.cat"] {
        let sound = bytes(name);
        let now = Timestamp::from_seconds(1_750_000_000);
        let digests = read(&sound).members();
        let mut unseen = Vec::new();
        for at in (0..sound.len()).step_by(3) {
            let mut changed = sound.clone();
            changed[at] ^= 0x41;
            let read = Catalogue::read(&Content::from_bytes(changed));
            let stands =
                read.is_ok_and(|own| own.standing(now, None) == Standing::Sound && own.members() == digests);
            if stands {
                unseen.push(at);
            }
        }
        // What the signer did not sign: how it is wrapped, the certificate of the root, and the word about the time.
        let signed = sound.windows(5).position(|own| own == b"Quay ").unwrap();
        assert!(
            unseen.iter().filter(|at| (60..signed - 200).contains(*at)).count() == 0,
            "{name}: {unseen:?}"
        );
    }
}

#[test]
fn others_are_no_catalogues() {
    let not_signed: &[u8] = &[];
    for bytes in [not_signed, b"MZ", &bytes("signed.efi"), &[0x30, 0x80, 0, 0]] {
        assert!(Catalogue::read(&Content::from_bytes(bytes)).is_err());
    }
    let short = bytes("keelson.cat");
    for len in (0..short.len()).step_by(7) {
        assert!(Catalogue::read(&Content::from_bytes(&short[..len])).is_err(), "{len}");
    }
}

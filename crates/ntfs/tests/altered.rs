//! Volumes in which bytes were changed: reading ends, within bounds, and says what is wrong.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "tests say what they expect by failing"
)]

mod support;

use neat_content::{Content, Job};
use neat_ntfs::Volume;
use std::sync::Arc;
use support::image;

/// Rounds for each volume; `NEATSTACK_ROUNDS` for a long campaign by hand.
fn rounds() -> u64 {
    std::env::var("NEATSTACK_ROUNDS").ok().and_then(|text| text.parse().ok()).unwrap_or(60)
}

struct Chance(u64);

impl Chance {
    const fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    fn below(&mut self, end: u64) -> u64 {
        self.next() % end
    }
}

/// Reads everything; returns whether something was told.
fn read_all(content: Content) -> bool {
    let Ok(volume) = Volume::open(content) else { return true };
    let told = volume.info().is_err();
    let Ok(files) = Arc::new(volume).files(&Job::silent()) else { return true };
    let mut told = told || !files.damaged.is_empty() || files.lost > 0;
    for held in &files.held {
        if held.len() < 4 << 20 {
            told |= held.content(&files.volume).to_vec(4 << 20, "file").is_err();
        }
    }
    assert!(files.files.walk().count() < 100_000);
    neat_image::metadata::write(&files.files).unwrap();
    told
}

#[test]
fn reading_an_altered_volume_ends() {
    let mut told = 0;
    for (seed, name) in [(1, "basic"), (2, "wof"), (3, "cluster64k"), (4, "damaged-none")] {
        let base = Content::from_bytes(image(name));
        let volume = Volume::open(base.clone()).unwrap();
        let geometry = *volume.geometry();
        let table = geometry.table * geometry.cluster;
        let mut chance = Chance(0x9E37_79B9_7F4A_7C15 ^ seed);
        for _ in 0..rounds() {
            let mut content = base.clone();
            for _ in 0..=chance.below(4) {
                // Mostly in records, in the first bytes of which everything is said.
                let at = match chance.below(8) {
                    0 => chance.below(512),
                    1 => chance.below(base.len()),
                    _ => table + chance.below(240) * geometry.record + chance.below(400),
                };
                let value = match chance.below(4) {
                    0 => vec![0xFF; 1 + chance.below(8) as usize],
                    1 => vec![0; 1 + chance.below(8) as usize],
                    _ => chance.next().to_le_bytes()[..=chance.below(7) as usize].to_vec(),
                };
                if at + (value.len() as u64) < base.len() {
                    content = content.patched(at, &value).unwrap();
                }
            }
            told += u64::from(read_all(content));
        }
    }
    assert!(told > rounds(), "{told} of {} were told", 4 * rounds());
}

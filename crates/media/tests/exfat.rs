//! An exFAT volume that another program made and filled.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "tests say what they expect by failing"
)]

use neat_content::Content;
use neat_media::{Limits, exfat};
use std::{fs, io::Read, path::Path};

fn sample() -> Vec<u8> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/samples/exfat.img.zst");
    let mut bytes = Vec::new();
    let packed = fs::File::open(path).unwrap();
    ruzstd::decoding::StreamingDecoder::new(packed).unwrap().read_to_end(&mut bytes).unwrap();
    bytes
}

fn read(bytes: &[u8]) -> neat_content::Result<(neat_content::Tree, String)> {
    exfat::read(&Content::from_bytes(bytes), &Limits::default())
}

#[test]
fn files_and_folders_are_as_they_were_written() {
    let (tree, label) = read(&sample()).unwrap();
    assert_eq!(label, "HARBOUR");
    let content = |path: &str| tree.file(path).unwrap().to_vec(1 << 20, "file").unwrap();
    assert_eq!(content("tides/long name of a table of tides.txt"), b"high water\n".repeat(5000));
    assert_eq!(content("tides/deep/ü.bin"), (0..100_000_u32).map(|n| (n * 7) as u8).collect::<Vec<u8>>());
    assert!(content("empty").is_empty());
    // The two were written by turns, so that their clusters lie between each other.
    for (name, first) in [("a.bin", 0), ("b.bin", 10)] {
        let expected: Vec<u8> = (0..4).flat_map(|n| vec![first + n; 20_000]).collect();
        assert!(content(name) == expected, "{name}");
    }
    let counts = tree.counts();
    assert_eq!((counts.files, counts.folders), (5, 2));
    let day = tree.node(tree.find("tides").unwrap()).meta.modified.seconds / 86_400;
    assert_eq!(day, 20_788, "1 December 2026");
}

/// Whatever a byte is changed to, reading ends.
#[test]
fn altered_volumes_end() {
    let sound = sample();
    let heap = 0x20_0000.min(sound.len() / 2);
    let mut told = 0;
    for at in (0..128).chain((0x1_0000..0x1_0200).step_by(3)).chain((heap..heap + 4096).step_by(7)) {
        for bit in [0x01, 0x80] {
            let mut bytes = sound.clone();
            bytes[at] ^= bit;
            match read(&bytes) {
                Ok((tree, _)) => {
                    for step in tree.walk() {
                        if let Some(content) = tree.node(step.id).content().filter(|own| own.len() < 1 << 20)
                        {
                            let _ended = content.to_vec(1 << 20, "file");
                        }
                    }
                }
                Err(error) => {
                    told += 1;
                    assert!(!error.to_string().is_empty());
                }
            }
        }
    }
    assert!(told > 20, "{told}");
}

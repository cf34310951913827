//! Damage to a sound disc: what the fuzzer makes up is a list of changes to a small media, because bytes made from
//! nothing would never get past the first descriptor.

use neat_content::{Content, Job, Meta, Output, Timestamp, Tree};
use neat_media::{BootCatalog, BootImage, Platform, eltorito::find::plain, master, read};
use std::{collections::BTreeMap, os::unix::fs::FileExt, sync::OnceLock};

/// Which trees the sound disc has.
#[derive(Clone, Copy, PartialEq, Eq)]
#[allow(dead_code)]
pub enum Kind {
    IsoOnly,
    Udf,
}

fn sound(kind: Kind) -> Vec<u8> {
    let time = Timestamp::from_seconds(1_700_000_000);
    let mut tree = Tree::new(Meta::at(time));
    for n in 0..6_u8 {
        let path = format!("folder{}/file number {n}", n % 3);
        let _ = tree.put_file(&path, Content::from_bytes(vec![n; 100 * usize::from(n)]), Meta::at(time));
    }
    let boot = BootCatalog { entries: vec![plain(Platform::BIOS, BootImage::File("folder1/file number 1".into())), plain(Platform::UEFI, BootImage::Hidden(Content::zeros(4096)))], ..BootCatalog::default() };
    let options = master::Options { udf: kind == Kind::Udf, rock_ridge: true, boot: Some(boot), hybrid: Some(master::Hybrid::default()), ..master::Options::default() };
    let job = Job::silent();
    let plan = master::Plan::new(&std::sync::Arc::new(tree), options, &job).unwrap();
    let path = std::env::temp_dir().join(format!("neat-fuzz-sound-{}", std::process::id()));
    let mut output = Output::new(std::fs::File::create(&path).unwrap(), &path, None);
    plan.write(&mut output, &job).unwrap();
    output.finish().unwrap();
    let bytes = std::fs::read(&path).unwrap();
    let _ = std::fs::remove_file(path);
    bytes
}

/// Reads a damaged disc.
#[allow(dead_code)]
pub fn run(kind: Kind, ranges: &[std::ops::Range<usize>], fix_tags: bool, data: &[u8]) {
    damage(kind, ranges, fix_tags, data, &read_all);
}

fn read_all(path: &std::path::Path) {
    if let Ok(media) = read::open(path) {
        for step in media.tree.walk().take(1000) {
            if let Some(content) = media.tree.node(step.id).content() {
                let _ = content.to_vec(1 << 16, "file");
            }
        }
    }
}

/// Applies `data` as changes (three bytes of place, one of value) within `ranges` of the sound disc and lets `check`
/// work on it; what that changes in these ranges or behind the end is put back.
pub fn damage(kind: Kind, ranges: &[std::ops::Range<usize>], fix_tags: bool, data: &[u8], check: &dyn Fn(&std::path::Path)) {
    static SOUND: OnceLock<Vec<u8>> = OnceLock::new();
    static FILE: OnceLock<(std::fs::File, std::path::PathBuf)> = OnceLock::new();
    let sound = SOUND.get_or_init(|| sound(kind));
    let (file, path) = FILE.get_or_init(|| {
        let path = std::env::temp_dir().join(format!("neat-fuzz-{}", std::process::id()));
        let file = std::fs::File::create(&path).unwrap();
        file.write_all_at(sound, 0).unwrap();
        (file, path)
    });
    let total: usize = ranges.iter().map(|range| range.end.min(sound.len()).saturating_sub(range.start)).sum();
    // Only the sectors that change are copied: cloning the whole disc each time would be most of the work.
    let mut sectors: BTreeMap<usize, Vec<u8>> = BTreeMap::new();
    let sector_of = |start: usize| sound[start..(start + 2048).min(sound.len())].to_vec();
    for change in data.chunks_exact(4).take(64) {
        let mut place = (usize::from(change[0]) << 16 | usize::from(change[1]) << 8 | usize::from(change[2])) % total.max(1);
        for range in ranges {
            let len = range.end.min(sound.len()).saturating_sub(range.start);
            if place < len {
                let at = range.start + place;
                let start = at / 2048 * 2048;
                sectors.entry(start).or_insert_with(|| sector_of(start))[at - start] = change[3];
                break;
            }
            place -= len;
        }
    }
    for (start, bytes) in &mut sectors {
        if fix_tags && bytes.len() == 2048 {
            fix_tag(bytes, 0);
        }
        file.write_all_at(bytes, *start as u64).unwrap();
    }
    check(path);
    file.set_len(sound.len() as u64).unwrap();
    for start in sectors.keys() {
        file.write_all_at(&sector_of(*start), *start as u64).unwrap();
    }
}

/// Makes checksum and CRC of a UDF descriptor right again, so that the damage is read and not just refused.
fn fix_tag(bytes: &mut [u8], at: usize) {
    let len = usize::from(u16::from_le_bytes([bytes[at + 10], bytes[at + 11]])).min(2032);
    let crc = bytes[at + 16..at + 16 + len].iter().fold(0_u16, |crc, byte| {
        (0..8).rev().fold(crc, |crc, bit| {
            let top = (crc >> 15) ^ u16::from(byte >> bit & 1);
            (crc << 1) ^ if top & 1 == 1 { 0x1021 } else { 0 }
        })
    });
    bytes[at + 8..at + 10].copy_from_slice(&crc.to_le_bytes());
    bytes[at + 4] = 0;
    bytes[at + 4] = bytes[at..at + 16].iter().fold(0, |sum: u8, byte| sum.wrapping_add(*byte));
}

#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_content::{Content, Job};
use neat_ntfs::Volume;
use std::sync::{Arc, OnceLock};

#[allow(dead_code, reason = "for disks")]
mod patched;

static SAMPLES: OnceLock<[Content; 2]> = OnceLock::new();

// A volume with changes in it: its files, and what they hold.
fuzz_target!(|data: &[u8]| {
    let samples = SAMPLES.get_or_init(|| {
        [
            patched::sample(include_bytes!("../../crates/ntfs/tests/samples/basic.img.zst")),
            patched::sample(include_bytes!("../../crates/ntfs/tests/samples/wof.img.zst")),
        ]
    });
    let Some((first, rest)) = data.split_first() else { return };
    let base = &samples[usize::from(*first % 2)];
    let content = patched::patched(base, rest, &u64::from);
    let Ok(volume) = Volume::open(content) else { return };
    let _ = volume.info();
    let Ok(files) = Arc::new(volume).files(&Job::silent()) else { return };
    for held in files.held.iter().filter(|held| held.len() < 4 << 20) {
        let _ = held.content(&files.volume).to_vec(4 << 20, "file");
    }
    // Every path can be put together, and all can be written into an edition.
    assert!(files.files.walk().count() < 1_000_000);
    let _ = neat_image::metadata::write(&files.files);
});

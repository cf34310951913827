#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_content::Content;
use std::sync::OnceLock;

mod patched;

static SAMPLES: OnceLock<[Content; 2]> = OnceLock::new();

// A disk in this form with changes in it, or bytes that begin as one.
fuzz_target!(|data: &[u8]| {
    let samples = SAMPLES.get_or_init(|| {
        [
            patched::sample(include_bytes!("../../crates/drive/tests/samples/grows.vhdx.zst")),
            patched::sample(include_bytes!("../../crates/drive/tests/samples/fixed.vhdx.zst")),
        ]
    });
    let Some((first, rest)) = data.split_first() else { return };
    let content = match first % 3 {
        2 => Content::from_bytes(rest),
        n => patched::patched(&samples[usize::from(n)], rest, &u64::from),
    };
    if let Ok(disk) = neat_drive::open_content(content) {
        patched::read_ends(&disk.content);
    }
});

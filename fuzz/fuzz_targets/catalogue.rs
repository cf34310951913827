#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_content::{Content, Job, Timestamp};
use neat_signature::{Catalogue, Trusted};

const SIGNED: [&[u8]; 2] = [
    include_bytes!("../../crates/signature/tests/samples/application.cat"),
    include_bytes!("../../crates/signature/tests/samples/countersigned.cat"),
];

// A catalogue, a signed one with changes in it, and certificates.
fuzz_target!(|data: &[u8]| {
    let roots = Trusted::read(data).ok();
    let read = |bytes: &[u8]| {
        if let Ok(catalogue) = Catalogue::read(&Content::from_bytes(bytes)) {
            let _ = catalogue.standing(Timestamp::from_seconds(1_750_000_000), roots.as_ref());
            let _ = catalogue.covers(&Content::from_bytes(data), &Job::silent());
        }
    };
    read(data);
    for signed in SIGNED {
        let mut changed = signed.to_vec();
        for four in data.chunks_exact(4).take(16) {
            let at = usize::from(u16::from_le_bytes([four[0], four[1]])) % changed.len();
            changed[at] = four[2];
        }
        read(&changed);
    }
});

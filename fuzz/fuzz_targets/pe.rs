#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_content::Content;
use neat_signature::{Revoked, of_loader};

const SIGNED: &[u8] = include_bytes!("../../crates/signature/tests/samples/signed.efi");

// An application with its signatures, a signed one with changes in it, and a list of what was taken back.
fuzz_target!(|data: &[u8]| {
    let list = Revoked::read(data).ok();
    let _ = of_loader(&Content::from_bytes(data), list.as_ref());
    let mut changed = SIGNED.to_vec();
    for four in data.chunks_exact(4).take(16) {
        let at = usize::from(u16::from_le_bytes([four[0], four[1]])) % changed.len();
        changed[at] = four[2];
    }
    let _ = of_loader(&Content::from_bytes(changed), None);
});

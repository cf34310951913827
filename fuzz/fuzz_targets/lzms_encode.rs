#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_image::codec::{Level, lzms};
use std::cell::RefCell;

const LONGEST: usize = 1 << 16;

type Tools = (lzms::Encoder, lzms::Encoder, lzms::Decoder, Vec<u8>, Vec<u8>);

thread_local! {
    static TOOLS: RefCell<Tools> = RefCell::new((
        lzms::Encoder::new(LONGEST, Level::Good),
        lzms::Encoder::with_deltas(LONGEST, Level::Fast, true),
        lzms::Decoder::default(),
        vec![0; 2 * LONGEST + 512],
        vec![0; LONGEST],
    ));
}

// Two bytes say how much room the result has; the rest is encoded, with and without delta matches, and must come back.
// So that short inputs make long chunks, each byte above 0xF0 repeats what is there so far.
fuzz_target!(|data: &[u8]| {
    let Some((head, data)) = data.split_first_chunk::<2>() else { return };
    let mut raw: Vec<u8> = Vec::new();
    for byte in data {
        let from = raw.len().saturating_sub(usize::from(byte & 0x0F) << 7);
        match byte {
            0xF0.. if !raw.is_empty() => raw.extend_from_within(from..),
            byte => raw.push(*byte),
        }
        raw.truncate(LONGEST);
    }
    TOOLS.with_borrow_mut(|(plain, deltas, decoder, packed, again)| {
        for encoder in [plain, deltas] {
            let Some(len) = encoder.encode(&raw, packed) else {
                assert!(raw.is_empty(), "there was room");
                continue;
            };
            assert_eq!(len % 2, 0);
            decoder.decode(&packed[..len], &mut again[..raw.len()]).unwrap();
            assert!(again[..raw.len()] == raw);
            let room = usize::from(u16::from_le_bytes(*head));
            let tight = encoder.encode(&raw, &mut packed[..room]);
            assert_eq!(tight, (len <= room & !1).then_some(len));
        }
    });
});

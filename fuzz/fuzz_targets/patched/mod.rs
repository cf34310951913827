//! A large sound file with small changes: an input says where and what.

use neat_content::Content;
use std::io::Read;

/// Unpacks a sample.
pub fn sample(packed: &[u8]) -> Content {
    let mut bytes = Vec::new();
    ruzstd::decoding::StreamingDecoder::new(packed).unwrap().read_to_end(&mut bytes).unwrap();
    Content::from_bytes(bytes)
}

/// Changes a sample: each eight bytes of the input are a place, in units that `place` knows, and four bytes for it.
pub fn patched(base: &Content, data: &[u8], place: &dyn Fn(u32) -> u64) -> Content {
    let mut content = base.clone();
    for eight in data.chunks_exact(8).take(32) {
        let at = place(u32::from_le_bytes([eight[0], eight[1], eight[2], eight[3]])) % (base.len() - 4);
        content = content.patched(at, &eight[4..]).unwrap();
    }
    content
}

/// Reads all of a disk that is small, and the start and the end of a large one.
pub fn read_ends(content: &Content) {
    const PART: u64 = 8 << 20;
    let len = content.len().min(PART);
    let _ = content.part(0, len).and_then(|part| part.to_vec(PART, "start"));
    let _ = content.part(content.len() - len, len).and_then(|part| part.to_vec(PART, "end"));
}

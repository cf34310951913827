//! Decoding what the file system itself compresses: LZNT1 ([MS-XCA] 2.5).

use neat_content::{Error, Result};

/// Bytes that a chunk stands for.
pub(crate) const CHUNK: usize = 4096;

/// Decodes `packed` until `raw` is full; `at` is where the packed bytes lie, in bytes from the start of the volume.
pub(crate) fn decode(packed: &[u8], raw: &mut [u8], at: u64) -> Result<()> {
    let (mut from, mut to) = (0, 0);
    while to < raw.len() {
        let place = at + from as u64;
        let bad = |field: &'static str, expected: &str, found: String| {
            Error::bad_field("CompressedChunk", field, place, expected, found)
        };
        let head = match packed.get(from..from + 2) {
            Some([low, high]) => u16::from_le_bytes([*low, *high]),
            _ => 0,
        };
        if head == 0 {
            return Err(bad("length", "more chunks", format!("the end after {to} of {} bytes", raw.len())));
        }
        if head >> 12 & 7 != 3 {
            return Err(bad("signature", "3", (head >> 12 & 7).to_string()));
        }
        let len = usize::from(head & 0xFFF) + 1;
        let Some(data) = packed.get(from + 2..from + 2 + len) else {
            return Err(bad("length", "a chunk within its clusters", format!("{len} bytes")));
        };
        let room = CHUNK.min(raw.len() - to);
        let target = &mut raw[to..to + room];
        let done = if head & 0x8000 == 0 {
            let done = data.len().min(room);
            target[..done].copy_from_slice(&data[..done]);
            done
        } else {
            decode_chunk(data, target).map_err(|found| bad("data", "matches within the chunk", found))?
        };
        // A chunk that says less than it stands for is filled with zeros.
        target[done..].fill(0);
        from += 2 + len;
        to += room;
    }
    Ok(())
}

/// Decodes one chunk; returns how many bytes came of it.
fn decode_chunk(data: &[u8], raw: &mut [u8]) -> std::result::Result<usize, String> {
    let (mut from, mut to) = (0, 0);
    while from < data.len() && to < raw.len() {
        let flags = data[from];
        from += 1;
        for bit in 0..8 {
            if from >= data.len() || to >= raw.len() {
                break;
            }
            if flags >> bit & 1 == 0 {
                raw[to] = data[from];
                (from, to) = (from + 1, to + 1);
                continue;
            }
            let Some(&[low, high]) = data.get(from..from + 2) else {
                return Err(format!("a match cut off at byte {from}"));
            };
            let word = usize::from(u16::from_le_bytes([low, high]));
            from += 2;
            // The further on, the more bits say how far back, and the fewer how much.
            let far_bits = (usize::BITS - to.saturating_sub(1).leading_zeros()).max(4);
            let len_bits = 16 - far_bits;
            let (back, len) = ((word >> len_bits) + 1, (word & ((1 << len_bits) - 1)) + 3);
            if back > to {
                return Err(format!("{back} bytes back at byte {to}"));
            }
            // At the end of a value its last chunk may say more than is wanted of it.
            for _ in 0..len.min(raw.len() - to) {
                raw[to] = raw[to - back];
                to += 1;
            }
        }
    }
    Ok(to)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The example of [MS-XCA] 3.3.
    #[test]
    fn the_published_example_decodes() {
        let packed: &[u8] = &[
            0x38, 0xb0, 0x88, 0x46, 0x23, 0x20, 0x00, 0x20, 0x47, 0x20, 0x41, 0x00, 0x10, 0xa2, 0x47, 0x01,
            0xa0, 0x45, 0x20, 0x44, 0x00, 0x08, 0x45, 0x01, 0x50, 0x79, 0x00, 0xc0, 0x45, 0x20, 0x05, 0x24,
            0x13, 0x88, 0x05, 0xb4, 0x02, 0x4a, 0x44, 0xef, 0x03, 0x58, 0x02, 0x8c, 0x09, 0x16, 0x01, 0x48,
            0x45, 0x00, 0xbe, 0x00, 0x9e, 0x00, 0x04, 0x01, 0x18, 0x90, 0x00,
        ];
        let expected: &[u8] = b"F# F# G A A G F# E D D E F# F# E E F# F# G A A G F# E D D E F# E D D E E F# D E F# G F# D E F# G F# E D E A F# F# G A A G F# E D D E F# E D D\0";
        let mut raw = vec![0; expected.len()];
        decode(packed, &mut raw, 0).unwrap();
        assert_eq!(String::from_utf8_lossy(&raw), String::from_utf8_lossy(expected));
    }

    #[test]
    fn what_is_damaged_is_an_error() {
        let mut raw = [0; 64];
        for (packed, word) in [
            (&[0x02, 0x90, 0, 0, 0][..], "signature"),
            (&[0x05, 0xB0, 0, 0], "length"),
            (&[], "length"),
            (&[0x02, 0xB0, 1, 0, 0], "data"),
        ] {
            let error = decode(packed, &mut raw, 0x40).unwrap_err().to_string();
            assert!(error.contains(word) && error.contains("0x40"), "{packed:x?}: {error}");
        }
    }
}

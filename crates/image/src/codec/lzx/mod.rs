//! LZX ([MS-PATCH] 2, [MS-CAB]) as image files use it.
//!
//! It differs from the form in cabinets: every chunk stands alone, with fresh code lengths and the recent offsets
//! 1, 1, 1; a block has one bit for "32,768 bytes" before an explicit size; there is no header for the translation of
//! x86 calls, which is always on, with the file size `TRANSLATION_SIZE`, over each chunk by itself.

mod block;
mod cheapest;
mod decode;
mod encode;
mod search;
mod translate;

pub use decode::Decoder;
pub use encode::Encoder;

/// Smallest window, which is also the usual chunk, in bytes.
pub const MIN_WINDOW: usize = 1 << 15;
/// Largest window in bytes.
pub const MAX_WINDOW: usize = 1 << 21;

/// The size of an executable that calls are translated for.
const TRANSLATION_SIZE: i32 = 12_000_000;
/// Bytes of a block whose size is not written.
const DEFAULT_BLOCK_LEN: usize = 32768;

const LITERALS: usize = 256;
/// Lengths that the main symbol itself can say; the last one stands for "more".
const LENGTH_HEADERS: usize = 8;
const MAX_SLOTS: usize = 50;
const MAX_MAIN_SYMBOLS: usize = LITERALS + LENGTH_HEADERS * MAX_SLOTS;
const LENGTH_SYMBOLS: usize = 249;
const ALIGNED_SYMBOLS: usize = 8;
const PRE_SYMBOLS: usize = 20;
/// Longest words in bits.
const LONGEST_WORD: usize = 16;
const LONGEST_PRE_WORD: usize = 15;
const LONGEST_ALIGNED_WORD: usize = 7;

const MIN_MATCH: usize = 2;
/// The longest match: what the length header and the length symbol say together.
const MAX_MATCH: usize = MIN_MATCH + LENGTH_HEADERS - 1 + LENGTH_SYMBOLS - 1;
/// A written offset is this much larger than the distance: 0, 1 and 2 stand for the recent ones.
const OFFSET_BIAS: u32 = 2;

const VERBATIM: u32 = 1;
const ALIGNED: u32 = 2;
const UNCOMPRESSED: u32 = 3;

/// Bits that follow a position slot ([MS-PATCH] 2.6, table of position slots).
const EXTRA_BITS: [u8; MAX_SLOTS] = {
    let mut bits = [0; MAX_SLOTS];
    let mut slot = 4;
    while slot < MAX_SLOTS {
        bits[slot] = if slot < 36 { slot as u8 / 2 - 1 } else { 17 };
        slot += 1;
    }
    bits
};

/// The first written offset of each position slot; the last entry ends the last slot.
const SLOT_BASES: [u32; MAX_SLOTS + 1] = {
    let mut bases = [0; MAX_SLOTS + 1];
    let mut slot = 0;
    while slot < MAX_SLOTS {
        bases[slot + 1] = bases[slot] + (1 << EXTRA_BITS[slot]);
        slot += 1;
    }
    bases
};

/// Position slots that a window of `window` bytes has. The last one ends at the window's size, and what is written is
/// larger than the distance, so the two largest distances of a window cannot be written.
fn slots_for(window: usize) -> usize {
    SLOT_BASES.iter().position(|base| *base as usize >= window).unwrap_or(MAX_SLOTS)
}

/// The window that chunks of `chunk_len` bytes need: the next power of two, in the range that there is.
fn window_for(chunk_len: usize) -> usize {
    chunk_len.next_power_of_two().clamp(MIN_WINDOW, MAX_WINDOW)
}

/// The code lengths of a block. The next block of the chunk says how its own differ.
#[derive(Clone)]
struct CodeLengths {
    main: [u8; MAX_MAIN_SYMBOLS],
    length: [u8; LENGTH_SYMBOLS],
    aligned: [u8; ALIGNED_SYMBOLS],
}

impl CodeLengths {
    const fn new() -> Self {
        Self { main: [0; MAX_MAIN_SYMBOLS], length: [0; LENGTH_SYMBOLS], aligned: [0; ALIGNED_SYMBOLS] }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slots_are_those_of_the_description() {
        // [MS-PATCH] 2.6: number of position slots for each window size.
        for (order, slots) in [(15, 30), (16, 32), (17, 34), (18, 36), (19, 38), (20, 42), (21, 50)] {
            assert_eq!(slots_for(1 << order), slots, "window 2^{order}");
        }
        assert_eq!(&SLOT_BASES[..10], &[0, 1, 2, 3, 4, 6, 8, 12, 16, 24]);
        assert_eq!(SLOT_BASES[49], 2_097_152 - 131_072);
    }
}

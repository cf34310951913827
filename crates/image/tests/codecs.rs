//! The codecs against slow decoders, published examples, streams assembled by hand, and another crate.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    clippy::precedence,
    missing_docs,
    reason = "tests say what they expect by failing"
)]

use neat_image::codec::{Fault, Level, lzms, lzx, xpress};
use neat_testing::image::{
    bits::BitPen,
    data::{SHAPES, Shape, bytes},
    lzms::Item,
};
use proptest::prelude::*;

const LEVELS: [Level; 3] = [Level::Fast, Level::Good, Level::Max];

fn lengths_around(chunk_len: usize) -> [usize; 8] {
    [1, 2, 3, 11, 255, 4097, chunk_len - 1, chunk_len]
}

#[test]
fn xpress_gives_back_every_shape_and_the_slow_decoder_agrees() {
    let mut decoder = xpress::Decoder::default();
    for chunk_len in [4096, 32768, 65536] {
        for level in LEVELS {
            let mut encoder = xpress::Encoder::new(chunk_len, level);
            for shape in SHAPES {
                for len in lengths_around(chunk_len).into_iter().filter(|len| *len <= chunk_len) {
                    let raw = bytes(shape, len, len as u64);
                    let mut packed = vec![0; len + 400];
                    let size = encoder.encode(&raw, &mut packed).unwrap();
                    let packed = &packed[..size];
                    let mut again = vec![0xAA; len];
                    decoder.decode(packed, &mut again).unwrap();
                    assert!(again == raw, "{chunk_len} {level:?} {shape:?} {len}");
                    assert!(
                        neat_testing::image::xpress::decode(packed, len).unwrap() == raw,
                        "{chunk_len} {level:?} {shape:?} {len}"
                    );
                    let mut tight = vec![0; size - 1];
                    assert_eq!(encoder.encode(&raw, &mut tight), None);
                    assert_eq!(
                        encoder.encode(&raw, &mut vec![0; size]),
                        Some(size),
                        "the same bytes every time"
                    );
                }
            }
        }
    }
}

#[test]
fn lzx_gives_back_every_shape_and_the_slow_decoder_agrees() {
    for chunk_len in [32768, 65536, 1 << 18, 1 << 21] {
        let mut decoder = lzx::Decoder::new(chunk_len);
        for level in LEVELS {
            let mut encoder = lzx::Encoder::new(chunk_len, level);
            for shape in SHAPES {
                for len in lengths_around(chunk_len) {
                    // The slow decoder is really slow; one long chunk of each kind is enough.
                    if len > 300_000 && (level == Level::Max || shape == Shape::Random || len % 2 == 1) {
                        continue;
                    }
                    let raw = bytes(shape, len, len as u64 + 7);
                    let mut packed = vec![0; len + len / 8 + 400];
                    let size = encoder.encode(&raw, &mut packed).unwrap();
                    let packed = &packed[..size];
                    let mut again = vec![0xAA; len];
                    decoder.decode(packed, &mut again).unwrap();
                    assert!(again == raw, "{chunk_len} {level:?} {shape:?} {len}");
                    let slow = neat_testing::image::lzx::decode(packed, len, chunk_len).unwrap();
                    assert!(slow == raw, "{chunk_len} {level:?} {shape:?} {len}");
                }
            }
        }
    }
}

#[test]
fn max_is_smaller_than_fast() {
    for shape in [Shape::Text, Shape::Program] {
        let raw = bytes(shape, 32768, 3);
        let mut packed = vec![0; 40_000];
        let mut sizes =
            LEVELS.map(|level| lzx::Encoder::new(32768, level).encode(&raw, &mut packed).unwrap());
        assert!(sizes[2] <= sizes[1] && sizes[1] < sizes[0], "{shape:?} {sizes:?}");
        sizes = LEVELS.map(|level| xpress::Encoder::new(32768, level).encode(&raw, &mut packed).unwrap());
        assert!(sizes[2] <= sizes[1] && sizes[1] < sizes[0], "{shape:?} {sizes:?}");
    }
}

#[test]
fn a_full_window_uses_no_distance_that_cannot_be_written() {
    // The last bytes repeat the first ones; the two largest distances of a window have no slot.
    for gap in 0..6 {
        let mut raw = bytes(Shape::Random, 32768, 99);
        let head: Vec<u8> = raw[..40].to_vec();
        let at = 32768 - 40 + gap;
        raw[at..].copy_from_slice(&head[..40 - gap]);
        let mut tail = bytes(Shape::Random, 32768, 98);
        tail[32765..].copy_from_slice(&[1, 2, 3]);
        tail[..3].copy_from_slice(&[1, 2, 3]);
        for raw in [raw, tail] {
            for level in LEVELS {
                let mut packed = vec![0; 40_000];
                let size = lzx::Encoder::new(32768, level).encode(&raw, &mut packed).unwrap();
                assert!(neat_testing::image::lzx::decode(&packed[..size], 32768, 32768).unwrap() == raw);
            }
        }
    }
}

#[test]
fn the_published_example_of_xpress_decodes() {
    // [MS-XCA] 3.2: "abcdefghijklmnopqrstuvwxyz".
    let mut packed = vec![0_u8; 256];
    packed[48] = 0x50;
    packed[49..59].fill(0x55);
    packed[59] = 0x45;
    packed[60] = 0x44;
    packed[61] = 0x04;
    packed[128] = 0x04;
    packed.extend([
        0xD8, 0x52, 0x3E, 0xD7, 0x94, 0x11, 0x5B, 0xE9, 0x19, 0x5F, 0xF9, 0xD6, 0x7C, 0xDF, 0x8D, 0x04, 0, 0,
        0, 0,
    ]);
    let expected: Vec<u8> = (b'a'..=b'z').collect();
    let mut raw = vec![0; 26];
    xpress::Decoder::default().decode(&packed, &mut raw).unwrap();
    assert_eq!(raw, expected);
    assert_eq!(neat_testing::image::xpress::decode(&packed, 26).unwrap(), expected);

    // [MS-XCA] 3.2: "abc" a hundred times.
    let mut packed = vec![0_u8; 256];
    packed[48] = 0x30;
    packed[49] = 0x23;
    packed[128] = 0x02;
    packed[143] = 0x20;
    packed.extend([0xA8, 0xDC, 0, 0, 0xFF, 0x26, 0x01]);
    let expected = b"abc".repeat(100);
    let mut raw = vec![0; 300];
    xpress::Decoder::default().decode(&packed, &mut raw).unwrap();
    assert_eq!(raw, expected);
    assert_eq!(neat_testing::image::xpress::decode(&packed, 300).unwrap(), expected);
}

/// A pre-tree with words of four bits for the symbols 0 to 15: each code length (0, or 2 and more) is written as its
/// difference to 0.
fn plain_lengths(pen: &mut BitPen, lengths: &[u32]) {
    (0..20).for_each(|symbol| {
        pen.put(if symbol < 16 { 4 } else { 0 }, 4);
    });
    for length in lengths {
        assert_ne!(*length, 1);
        pen.put((17 - length) % 17, 4);
    }
}

#[test]
fn lzx_streams_assembled_by_hand_decode() {
    let decode = |packed: &[u8], len: usize| {
        let mut raw = vec![0; len];
        lzx::Decoder::new(32768).decode(packed, &mut raw).map(|()| raw)
    };
    // Uncompressed blocks: an odd one, then one that begins with a whole word of padding.
    let mut pen = BitPen::default();
    pen.put(3, 3).put(0, 1).put(3, 16).align();
    pen.raw(&[1, 0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0]).raw(b"abc\0");
    pen.put(3, 3).put(0, 1).put(2, 16).align().raw(&[9, 0, 0, 0, 8, 0, 0, 0, 7, 0, 0, 0]).raw(b"de");
    assert_eq!(decode(&pen.bytes, 5).unwrap(), b"abcde");
    assert_eq!(neat_testing::image::lzx::decode(&pen.bytes, 5, 32768).unwrap(), b"abcde");

    // A verbatim block whose main code has two literals and two matches: 'a' = 00, 'b' = 01, symbol 256 (the newest
    // distance, two bytes) = 10, and 256 + 8 * 3 + 7 (written offset 3, a long match) = 11.
    let mut main = vec![0; 256 + 240];
    for symbol in [usize::from(b'a'), usize::from(b'b'), 256, 256 + 8 * 3 + 7] {
        main[symbol] = 2;
    }
    let mut lengths = vec![0; 249];
    for symbol in [0, 5, 6, 7] {
        lengths[symbol] = 2;
    }
    let mut pen = BitPen::default();
    pen.put(1, 3).put(0, 1).put(2 + 2 + 14, 16);
    plain_lengths(&mut pen, &main[..256]);
    plain_lengths(&mut pen, &main[256..]);
    plain_lengths(&mut pen, &lengths);
    // a b, two bytes at distance 1, then 2 + 7 + 5 bytes at distance 3 - 2 = 1.
    pen.text("00 01 10 11 01").align();
    let expected = b"abbbbbbbbbbbbbbbbb";
    assert_eq!(neat_testing::image::lzx::decode(&pen.bytes, 18, 32768).unwrap(), expected);
    assert_eq!(decode(&pen.bytes, 18).unwrap(), expected);

    // Nothing but a block of a kind that there is not, a block that is too long, and one of no bytes.
    for (kind, len) in [(0, 3), (4, 3), (1, 4000), (3, 0)] {
        let mut pen = BitPen::default();
        pen.put(kind, 3).put(0, 1).put(len, 16).align().raw(&[0; 40]);
        assert!(decode(&pen.bytes, 3).is_err(), "{kind} {len}");
    }
}

/// Wraps blocks of an image file's chunk as the stream that the other crate reads: its chunks have no "32,768 bytes"
/// bit and name the size in 24 bits.
#[test]
fn lzx_agrees_with_another_crate_where_the_forms_overlap() {
    for (shape, seed) in [(Shape::Text, 1), (Shape::Runs, 2), (Shape::Random, 3)] {
        // Without the byte E8 there is no call to translate; the other form has a header for that, here off.
        let raw: Vec<u8> = bytes(shape, 32768, seed)
            .into_iter()
            .map(|byte| if byte == 0xE8 { 0xE9 } else { byte })
            .collect();
        let mut packed = vec![0; 40_000];
        let size = lzx::Encoder::new(32768, Level::Fast).encode(&raw, &mut packed).unwrap();
        let mut bits = neat_testing::image::bits::Bits::new(&packed[..size]);
        let kind = bits.bits(3).unwrap();
        assert_eq!(bits.bit(), Some(1), "a block of the default size");
        let mut pen = BitPen::default();
        // No translation, then kind and size of the block.
        pen.put(0, 1).put(kind, 3).put(32768, 24);
        while let Some(bit) = bits.bit() {
            pen.put(bit, 1);
        }
        pen.align();
        let mut other = lzxd::Lzxd::new(lzxd::WindowSize::KB32);
        assert!(other.decompress_next(&pen.bytes, 32768).unwrap() == raw, "{shape:?}");
    }
}

#[test]
fn lzms_decodes_what_an_encoder_by_the_book_wrote() {
    // Items and the bytes they stand for, by a walk of its own.
    let mut numbers = neat_testing::image::data::Numbers(5);
    let mut items = Vec::new();
    let mut raw: Vec<u8> = Vec::new();
    let mut recent = [1_u32, 2, 3, 4];
    let mut before_match = false;
    let repeat = |raw: &mut Vec<u8>, distance: u32, len: u32| {
        (0..len).for_each(|_| raw.push(raw[raw.len() - distance as usize]));
    };
    while raw.len() < 60_000 {
        let number = numbers.next() >> 16;
        match number % 8 {
            0..=3 => {
                // Bytes below the opcodes that are translated.
                let byte = (number >> 8) as u8 & 0x3F;
                items.push(Item::Literal(byte));
                raw.push(byte);
                before_match = false;
            }
            4 | 5 if raw.len() > 300 => {
                let distance = 1 + (number >> 8) as u32 % (raw.len() as u32 - 1);
                let len = 1 + (number >> 40) as u32 % 400;
                items.push(Item::Match { distance, len });
                repeat(&mut raw, distance, len);
                recent = [distance, recent[0], recent[1], recent[2]];
                before_match = true;
            }
            6 if raw.len() > 300 => {
                let index = (number >> 8) as usize % 3;
                let at = index + usize::from(before_match);
                let (distance, len) = (recent[at], 1 + (number >> 40) as u32 % 40);
                items.push(Item::Repeat { index, len });
                repeat(&mut raw, distance, len);
                recent[..=at].rotate_right(1);
                before_match = true;
            }
            7 if raw.len() > 300 => {
                let (power, offset, len) =
                    ((number >> 8) as u32 % 4, 1 + (number >> 16) as u32 % 9, 3 + (number >> 24) as u32 % 9);
                items.push(Item::Delta { power, offset, len });
                let (span, distance) = (1 << power, (offset as usize) << power);
                for _ in 0..len {
                    let at = raw.len();
                    let byte = raw[at - distance]
                        .wrapping_add(raw[at - span])
                        .wrapping_sub(raw[at - distance - span]);
                    raw.push(byte);
                }
                before_match = false;
            }
            _ => {}
        }
    }
    // Delta matches make any byte; this stream must hold none that begins a translated instruction.
    let opcodes = raw.iter().filter(|byte| matches!(byte, 0x48 | 0x4C | 0xE8 | 0xE9 | 0xF0 | 0xFF)).count();
    let packed = neat_testing::image::lzms::encode(&items, raw.len());
    let mut again = vec![0; raw.len()];
    lzms::Decoder::default().decode(&packed, &mut again).unwrap();
    let first = again.iter().zip(&raw).position(|(a, b)| a != b);
    assert!(first.is_none() || opcodes > 0, "byte {first:?} differs");
    assert_eq!(first, None);
}

/// Encodes, and decodes with both decoders.
fn lzms_there_and_back(
    encoder: &mut lzms::Encoder,
    raw: &[u8],
    what: &str,
) -> neat_testing::image::lzms::Seen {
    let mut packed = vec![0; raw.len() + raw.len() / 2 + 400];
    let size = encoder.encode(raw, &mut packed).unwrap();
    assert_eq!(size % 2, 0, "{what}");
    let packed = &packed[..size];
    let mut again = vec![0xAA; raw.len()];
    lzms::Decoder::default().decode(packed, &mut again).unwrap();
    assert!(again == raw, "{what}");
    let (slow, seen) = neat_testing::image::lzms::decode(packed, raw.len()).unwrap();
    assert!(slow == raw, "{what}");
    assert_eq!(encoder.encode(raw, &mut vec![0; size - 1]), None, "{what}");
    assert_eq!(encoder.encode(raw, &mut vec![0; size]), Some(size), "{what}");
    seen
}

#[test]
fn lzms_gives_back_every_shape_and_the_slow_decoder_agrees() {
    for level in LEVELS {
        for deltas in [false, true] {
            let mut encoder = lzms::Encoder::with_deltas(40_000, level, deltas);
            for shape in SHAPES {
                for len in [1, 2, 3, 4, 11, 17, 255, 4097, 40_000] {
                    let raw = bytes(shape, len, len as u64 + 9);
                    let what = format!("{level:?} {deltas} {shape:?} {len}");
                    let seen = lzms_there_and_back(&mut encoder, &raw, &what);
                    assert!(deltas || seen.deltas == [0; 8] && seen.delta_repeats == [0; 3], "{what}");
                }
            }
            assert_eq!(encoder.encode(&[], &mut [0; 100]), None);
            assert_eq!(encoder.encode(&vec![0; 40_001], &mut vec![0; 60_000]), None);
        }
    }
}

#[test]
fn lzms_writes_every_kind_of_item() {
    let mut numbers = neat_testing::image::data::Numbers(77);
    let mut encoder = lzms::Encoder::with_deltas(1 << 17, Level::Max, true);
    // Columns of numbers that grow by steps: bytes that differ alike, for all powers.
    let mut deltas = [0; 8];
    let mut delta_repeats = [0; 3];
    for power in 0..8_u32 {
        let span = 1_usize << power;
        let mut raw: Vec<u8> = (0..span * 2).map(|_| numbers.next() as u8).collect();
        while raw.len() < 60 * span.max(64) {
            // A piece of steps that was there before, from another value on.
            let pieces = [1, 3, 7, 20].map(|n| n * span);
            let back = pieces[(numbers.next() >> 40) as usize % 4].min(raw.len() - span) / span * span;
            for _ in 0..8 + (numbers.next() >> 50) as usize % 40 {
                let at = raw.len();
                if at < back + span {
                    raw.push(numbers.next() as u8);
                } else {
                    raw.push(raw[at - back].wrapping_add(raw[at - span]).wrapping_sub(raw[at - back - span]));
                }
            }
            (0..span).for_each(|_| raw.push((numbers.next() >> 33) as u8));
        }
        let seen = lzms_there_and_back(&mut encoder, &raw, &format!("power {power}"));
        deltas.iter_mut().zip(seen.deltas).for_each(|(all, own)| *all += own);
        delta_repeats.iter_mut().zip(seen.delta_repeats).for_each(|(all, own)| *all += own);
    }
    assert!(deltas.iter().all(|count| *count > 0), "{deltas:?}");
    assert!(delta_repeats.iter().all(|count| *count > 0), "{delta_repeats:?}");
    // Records that change in one place: matches that repeat distances, straight after a match too.
    let mut raw: Vec<u8> = bytes(Shape::Random, 500, 5);
    while raw.len() < 100_000 {
        let number = numbers.next();
        let back = [37, 90, 220, 401][(number >> 40) as usize % 4];
        (0..4 + (number >> 50) as usize % 20).for_each(|_| raw.push(raw[raw.len() - back]));
        if number.is_multiple_of(3) {
            raw.push((number >> 33) as u8);
        }
    }
    let seen = lzms_there_and_back(&mut encoder, &raw, "records");
    assert!(seen.repeats.iter().chain(&seen.repeats_after_match).all(|count| *count > 0), "{seen:?}");
    assert!(seen.rebuilt > 10, "{seen:?}");
    // The longest runs, and every slot limit of short chunks.
    let mut encoder = lzms::Encoder::new(1 << 21, Level::Good);
    let raw = vec![7; 1 << 21];
    let mut packed = vec![0; 4096];
    let size = encoder.encode(&raw, &mut packed).unwrap();
    assert!(size < 64, "{size}");
    let (slow, seen) = neat_testing::image::lzms::decode(&packed[..size], raw.len()).unwrap();
    assert!(slow == raw && seen.longest > 1 << 20);
    for len in (1..80).chain([233, 234, 235, 1000, 1001]) {
        let mut raw = bytes(Shape::Random, len, 3);
        if len > 8 {
            // The farthest match that there is room for.
            raw.copy_within(..4, len - 4);
        }
        lzms_there_and_back(&mut encoder, &raw, &format!("{len} bytes"));
    }
}

#[test]
fn lzms_translates_calls_in_programs() {
    let mut numbers = neat_testing::image::data::Numbers(4);
    let mut raw = Vec::new();
    while raw.len() < 60_000 {
        let number = numbers.next() >> 20;
        let opcodes: [&[u8]; 8] = [
            &[0xE8],
            &[0xE9],
            &[0x48, 0x8B, 0x05],
            &[0x48, 0x8B, 0x0D],
            &[0xF0, 0x83, 0x05],
            &[0x4C, 0x8D, 0x3D],
            &[0xFF, 0x15],
            &[0x48, 0x8D, 0x0D],
        ];
        raw.extend(opcodes[number as usize % 8]);
        let target = 0x2000 + (number >> 8) as i32 % 40 * 64;
        raw.extend((target - raw.len() as i32).to_le_bytes());
        raw.extend(bytes(Shape::Program, (number >> 20) as usize % 30, number));
    }
    let mut encoder = lzms::Encoder::new(1 << 16, Level::Good);
    let seen = lzms_there_and_back(&mut encoder, &raw, "program");
    assert!(seen.translated > 1000, "{seen:?}");
}

#[test]
fn corrupt_chunks_end_with_a_fault() {
    let raw = bytes(Shape::Text, 32768, 1);
    let mut packed = vec![0; 40_000];
    let size = lzx::Encoder::new(32768, Level::Max).encode(&raw, &mut packed).unwrap();
    let mut out = vec![0; 32768];
    assert!(lzx::Decoder::new(32768).decode(&packed[..size / 2], &mut out).is_err());
    assert!(lzx::Decoder::new(32768).decode(&[], &mut out).is_err());
    let size = xpress::Encoder::new(32768, Level::Max).encode(&raw, &mut packed).unwrap();
    assert!(xpress::Decoder::default().decode(&packed[..size / 2], &mut out).is_err());
    assert_eq!(xpress::Decoder::default().decode(&packed[..100], &mut out), Err(Fault::EndsEarly));
    assert_eq!(lzms::Decoder::default().decode(&[1, 2, 3], &mut out), Err(Fault::EndsEarly));
    let size = lzms::Encoder::new(32768, Level::Fast).encode(&raw, &mut packed).unwrap();
    for len in (0..size).step_by(2) {
        assert!(lzms::Decoder::default().decode(&packed[..len], &mut out).is_err(), "{len} of {size}");
    }
    let odd = lzms::Decoder::default().decode(&packed[..size - 1], &mut out);
    assert_eq!(odd, Err(Fault::BadValue("length of the compressed data")));
    assert_eq!(xpress::Decoder::default().decode(&[0; 300], &mut out), Err(Fault::BadCode("XPRESS")));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn changed_chunks_never_panic(changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..12), shape in 0..5_usize) {
        let raw = bytes(SHAPES[shape], 9000, 5);
        let mut out = vec![0; 9000];
        for which in 0..4 {
            let mut packed = vec![0; 12_000];
            let size = match which {
                0 => xpress::Encoder::new(16384, Level::Fast).encode(&raw, &mut packed),
                1 => lzx::Encoder::new(32768, Level::Max).encode(&raw, &mut packed),
                2 => lzms::Encoder::new(9000, Level::Fast).encode(&raw, &mut packed),
                _ => Some(9000),
            }.unwrap();
            packed.truncate(size);
            for (index, value) in &changes {
                let at = index.index(size);
                packed[at] = *value;
            }
            let _ = match which {
                0 => xpress::Decoder::default().decode(&packed, &mut out),
                1 => lzx::Decoder::new(32768).decode(&packed, &mut out),
                _ => lzms::Decoder::default().decode(&packed, &mut out),
            };
        }
    }

    #[test]
    fn mixed_bytes_come_back(parts in prop::collection::vec((0..5_usize, 1..5000_usize, any::<u64>()), 1..7)) {
        let mut raw: Vec<u8> = parts.iter().flat_map(|(shape, len, seed)| bytes(SHAPES[*shape], *len, *seed)).collect();
        raw.truncate(32768);
        let mut packed = vec![0; 50_000];
        let mut out = vec![0; raw.len()];
        for level in LEVELS {
            let size = xpress::Encoder::new(32768, level).encode(&raw, &mut packed).unwrap();
            prop_assert_eq!(neat_testing::image::xpress::decode(&packed[..size], raw.len()), Some(raw.clone()));
            xpress::Decoder::default().decode(&packed[..size], &mut out).unwrap();
            prop_assert_eq!(&out, &raw);
            let size = lzx::Encoder::new(32768, level).encode(&raw, &mut packed).unwrap();
            prop_assert_eq!(neat_testing::image::lzx::decode(&packed[..size], raw.len(), 32768), Some(raw.clone()));
            lzx::Decoder::new(32768).decode(&packed[..size], &mut out).unwrap();
            prop_assert_eq!(&out, &raw);
            let size = lzms::Encoder::with_deltas(raw.len(), level, true).encode(&raw, &mut packed).unwrap();
            prop_assert_eq!(neat_testing::image::lzms::decode(&packed[..size], raw.len()).map(|(raw, _)| raw), Some(raw.clone()));
            lzms::Decoder::default().decode(&packed[..size], &mut out).unwrap();
            prop_assert_eq!(&out, &raw);
        }
    }
}

/// A cabinet with one file of one frame: header, folder, file, data, as [MS-CAB] 2 has them.
fn cabinet(packed: &[u8], raw_len: usize) -> Vec<u8> {
    let name = b"a.bin\0";
    let files_at = 36 + 8;
    let data_at = files_at + 16 + name.len();
    let total = data_at + 8 + packed.len();
    let mut cab = b"MSCF\0\0\0\0".to_vec();
    for number in [total, 0, files_at, 0] {
        cab.extend((number as u32).to_le_bytes());
    }
    // Version 1.3, one folder, one file.
    cab.extend([3, 1, 1, 0, 1, 0, 0, 0, 0, 0, 0, 0]);
    cab.extend((data_at as u32).to_le_bytes());
    // One block of LZX with a window of 2^15.
    cab.extend([1, 0, 3, 15]);
    cab.extend((raw_len as u32).to_le_bytes());
    cab.extend([0; 4]);
    cab.extend([0, 0, 0x21, 0x5C, 0, 0, 0x20, 0]);
    cab.extend(name);
    cab.extend([0; 4]);
    cab.extend((packed.len() as u16).to_le_bytes());
    cab.extend((raw_len as u16).to_le_bytes());
    cab.extend(packed);
    cab
}

#[test]
fn what_lzx_writes_is_read_from_a_cabinet() {
    use std::io::Read;
    for level in LEVELS {
        // Several blocks, aligned offsets among them; no byte E8, which cabinets translate in another way.
        let mut raw = bytes(Shape::Text, 9000, 4);
        raw.extend(
            bytes(Shape::Program, 15_000, 5).iter().map(|byte| if *byte == 0xE8 { 0x90 } else { *byte }),
        );
        raw.extend(bytes(Shape::Runs, 32768 - raw.len(), 6));
        let mut packed = vec![0; 40_000];
        let size = lzx::Encoder::new(32768, level).encode(&raw, &mut packed).unwrap();
        let moved = neat_testing::image::lzx::to_cabinet_form(&packed[..size], raw.len()).unwrap();
        let mut cabinet = cab::Cabinet::new(std::io::Cursor::new(cabinet(&moved, raw.len()))).unwrap();
        let mut again = Vec::new();
        cabinet.read_file("a.bin").unwrap().read_to_end(&mut again).unwrap();
        assert!(again == raw, "{level:?}");
    }
}

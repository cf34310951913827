//! Decoding.

use super::{
    ALIGNED, ALIGNED_SYMBOLS, CodeLengths, DEFAULT_BLOCK_LEN, EXTRA_BITS, LENGTH_HEADERS, LENGTH_SYMBOLS,
    LITERALS, LONGEST_ALIGNED_WORD, LONGEST_PRE_WORD, LONGEST_WORD, MAX_MAIN_SYMBOLS, MIN_MATCH, MIN_WINDOW,
    OFFSET_BIAS, PRE_SYMBOLS, SLOT_BASES, UNCOMPRESSED, VERBATIM, slots_for, translate, window_for,
};
use crate::codec::{Decoded, Fault, bits::BitReader, copy_match, copy_match_quickly, huffman::DecodeTable};

/// Decodes chunks, one after another, with the same tables.
pub struct Decoder {
    window: usize,
    main_symbols: usize,
    main: DecodeTable<11, 32768>,
    length: DecodeTable<10, 32768>,
    aligned: DecodeTable<7, 128>,
    pre: DecodeTable<8, 4096>,
    lengths: CodeLengths,
}

impl Decoder {
    /// For chunks of up to `chunk_len` bytes, at most [`super::MAX_WINDOW`]. The number decides about the codes, so it must be
    /// the chunk size that the file names, also where a chunk is shorter.
    pub fn new(chunk_len: usize) -> Self {
        let window = window_for(chunk_len);
        Self {
            window,
            main_symbols: LITERALS + LENGTH_HEADERS * slots_for(window),
            main: DecodeTable::new(MAX_MAIN_SYMBOLS, LONGEST_WORD),
            length: DecodeTable::new(LENGTH_SYMBOLS, LONGEST_WORD),
            aligned: DecodeTable::new(ALIGNED_SYMBOLS, LONGEST_ALIGNED_WORD),
            pre: DecodeTable::new(PRE_SYMBOLS, LONGEST_PRE_WORD),
            lengths: CodeLengths::new(),
        }
    }

    /// Decodes `packed`, which holds exactly the bytes of `raw`.
    ///
    /// # Errors
    /// A [`Fault`], with what is wrong, for anything that is not so packed.
    pub fn decode(&mut self, packed: &[u8], raw: &mut [u8]) -> Decoded {
        if raw.len() > self.window {
            return Err(Fault::Overlong { what: "a chunk", len: raw.len() as u64, at: 0 });
        }
        self.lengths.main.fill(0);
        self.lengths.length.fill(0);
        let mut reader = BitReader::new(packed, 0);
        let mut recent = [1_u32; 3];
        let mut at = 0;
        while at < raw.len() {
            let kind = reader.read(3);
            let len = if reader.read(1) == 1 {
                DEFAULT_BLOCK_LEN
            } else if self.window > MIN_WINDOW {
                reader.read(24) as usize
            } else {
                reader.read(16) as usize
            };
            if len == 0 || len > raw.len() - at {
                return Err(Fault::Overlong { what: "a block", len: len as u64, at: at as u64 });
            }
            let end = at + len;
            match kind {
                VERBATIM | ALIGNED => {
                    self.read_codes(&mut reader, kind)?;
                    let block = &mut raw[..end];
                    at = if kind == ALIGNED {
                        self.decode_block::<true>(&mut reader, block, at, &mut recent)?
                    } else {
                        self.decode_block::<false>(&mut reader, block, at, &mut recent)?
                    };
                }
                UNCOMPRESSED => {
                    copy_uncompressed(&mut reader, &mut raw[at..end], &mut recent)?;
                    at = end;
                }
                _ => return Err(Fault::BadValue("kind of a block")),
            }
            if reader.is_overrun() {
                return Err(Fault::EndsEarly);
            }
        }
        translate::undo(raw);
        Ok(())
    }

    fn read_codes(&mut self, reader: &mut BitReader<'_>, kind: u32) -> Decoded {
        if kind == ALIGNED {
            for length in &mut self.lengths.aligned {
                *length = reader.read(3) as u8;
            }
            self.aligned.build(&self.lengths.aligned, "aligned offset")?;
        }
        let main = &mut self.lengths.main[..self.main_symbols];
        let (literals, matches) = main.split_at_mut(LITERALS);
        read_lengths(reader, &mut self.pre, literals)?;
        read_lengths(reader, &mut self.pre, matches)?;
        read_lengths(reader, &mut self.pre, &mut self.lengths.length)?;
        self.main.build(&self.lengths.main[..self.main_symbols], "main")?;
        self.length.build(&self.lengths.length, "length")
    }

    /// Decodes up to the end of `raw`; returns the position reached.
    fn decode_block<const WITH_ALIGNED: bool>(
        &self,
        source: &mut BitReader<'_>,
        raw: &mut [u8],
        mut at: usize,
        recent: &mut [u32; 3],
    ) -> Result<usize, Fault> {
        let mut reader = *source;
        let mut offsets = *recent;
        while at < raw.len() {
            reader.refill();
            let mut entry = self.main.look_up(reader.peek());
            if entry < (LITERALS as u32) << 8 {
                reader.skip(entry & 0xFF);
                raw[at] = (entry >> 8) as u8;
                at += 1;
                if entry == 0 {
                    return Err(Fault::UnknownWord("main"));
                }
                if at == raw.len() {
                    break;
                }
                // 48 bits hold three words, or two and what leads to an offset of a small window; a match looks for
                // more bits itself.
                entry = self.main.look_up(reader.peek());
                if entry < (LITERALS as u32) << 8 {
                    reader.skip(entry & 0xFF);
                    raw[at] = (entry >> 8) as u8;
                    at += 1;
                    if entry == 0 {
                        return Err(Fault::UnknownWord("main"));
                    }
                    continue;
                }
            }
            reader.skip(entry & 0xFF);
            let symbol = (entry >> 8) as usize - LITERALS;
            let mut len = symbol % LENGTH_HEADERS;
            let slot = symbol / LENGTH_HEADERS;
            if len == LENGTH_HEADERS - 1 {
                let entry = self.length.look_up(reader.peek());
                if entry == 0 {
                    return Err(Fault::UnknownWord("length"));
                }
                reader.skip(entry & 0xFF);
                len += (entry >> 8) as usize;
            }
            len += MIN_MATCH;
            let distance = if slot < 3 {
                offsets.swap(0, slot);
                offsets[0]
            } else {
                let mut extra = u32::from(EXTRA_BITS[slot]);
                let mut written = SLOT_BASES[slot];
                if reader.available() < 24 {
                    reader.refill();
                }
                if WITH_ALIGNED && extra >= 3 {
                    extra -= 3;
                    written += reader.take(extra) << 3;
                    let entry = self.aligned.look_up(reader.peek());
                    if entry == 0 {
                        return Err(Fault::UnknownWord("aligned offset"));
                    }
                    reader.skip(entry & 0xFF);
                    written += entry >> 8;
                } else {
                    written += reader.take(extra);
                }
                let distance = written - OFFSET_BIAS;
                offsets = [distance, offsets[0], offsets[1]];
                distance
            };
            if len > raw.len() - at {
                copy_match(raw, at, distance as usize, len)?;
            }
            at = copy_match_quickly(raw, at, distance as usize, len)?;
        }
        *source = reader;
        *recent = offsets;
        Ok(at)
    }
}

/// A block that is stored: padding to a word (a whole one if there is none to pad), three recent offsets, the bytes,
/// and one byte more after an odd number.
fn copy_uncompressed(reader: &mut BitReader<'_>, raw: &mut [u8], recent: &mut [u32; 3]) -> Decoded {
    reader.read(1);
    let start = reader.give_back(15);
    let bytes = reader.bytes().get(start..).ok_or(Fault::EndsEarly)?;
    let (offsets, bytes) = bytes.split_at_checked(12).ok_or(Fault::EndsEarly)?;
    for (offset, field) in recent.iter_mut().zip(offsets.chunks_exact(4)) {
        *offset = field.try_into().map_or(0, u32::from_le_bytes);
    }
    raw.copy_from_slice(bytes.get(..raw.len()).ok_or(Fault::EndsEarly)?);
    reader.clear();
    // The byte after an odd number may be missing at the very end.
    reader.set_position((start + 12 + raw.len() + (raw.len() & 1)).min(reader.bytes().len()));
    Ok(())
}

/// Code lengths, as differences to those of the block before, run-length coded ([MS-PATCH] 2.5).
fn read_lengths(reader: &mut BitReader<'_>, pre: &mut DecodeTable<8, 4096>, lengths: &mut [u8]) -> Decoded {
    let mut pre_lengths = [0; PRE_SYMBOLS];
    for length in &mut pre_lengths {
        *length = reader.read(4) as u8;
    }
    pre.build(&pre_lengths, "pre-tree")?;
    let symbol = |reader: &mut BitReader<'_>| {
        reader.refill();
        let entry = pre.look_up(reader.peek());
        reader.skip(entry & 0xFF);
        if entry == 0 { Err(Fault::UnknownWord("pre-tree")) } else { Ok(entry >> 8) }
    };
    let changed = |old: u8, difference: u32| -> Result<u8, Fault> {
        if difference > 16 {
            return Err(Fault::BadValue("change of a code length"));
        }
        Ok((old + 17 - difference as u8) % 17)
    };
    let mut at = 0;
    while at < lengths.len() {
        let code = symbol(reader)?;
        let (run, value) = match code {
            17 => (4 + reader.read(4) as usize, 0),
            18 => (20 + reader.read(5) as usize, 0),
            19 => {
                let run = 4 + reader.read(1) as usize;
                let difference = symbol(reader)?;
                (run, changed(lengths[at], difference)?)
            }
            _ => (1, changed(lengths[at], code)?),
        };
        let Some(target) = lengths.get_mut(at..at + run) else {
            return Err(Fault::Overlong { what: "a run of code lengths", len: run as u64, at: at as u64 });
        };
        target.fill(value);
        at += run;
    }
    Ok(())
}

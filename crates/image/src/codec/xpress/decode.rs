//! Decoding.

use super::{LONGEST_WORD, MAX_CHUNK_LEN, MIN_MATCH, SYMBOLS, TABLE_LEN};
use crate::codec::{Decoded, Fault, bits::BitReader, copy_match, copy_match_quickly, huffman::DecodeTable};

/// Decodes chunks, one after another, with the same tables.
pub struct Decoder {
    table: DecodeTable<11, 16384>,
    lengths: [u8; SYMBOLS],
}

impl Default for Decoder {
    fn default() -> Self {
        Self { table: DecodeTable::new(SYMBOLS, LONGEST_WORD), lengths: [0; SYMBOLS] }
    }
}

impl Decoder {
    /// Decodes `packed`, which holds exactly the bytes of `raw`.
    ///
    /// # Errors
    /// A [`Fault`], with what is wrong, for anything that is not so packed.
    pub fn decode(&mut self, packed: &[u8], raw: &mut [u8]) -> Decoded {
        if raw.len() > MAX_CHUNK_LEN {
            return Err(Fault::Overlong { what: "a chunk", len: raw.len() as u64, at: 0 });
        }
        let table = packed.get(..TABLE_LEN).ok_or(Fault::EndsEarly)?;
        let mut used = 0_u32;
        for (byte, pair) in table.iter().zip(self.lengths.chunks_exact_mut(2)) {
            pair[0] = byte & 15;
            pair[1] = byte >> 4;
            // A word of `length` bits takes this much of the whole, which is 2^15.
            used += (1 << LONGEST_WORD >> pair[0] & 0x7FFF) + (1 << LONGEST_WORD >> pair[1] & 0x7FFF);
        }
        // [MS-XCA] 2.2.4: the code must leave nothing open, so every look-up below finds a word.
        if used != 1 << LONGEST_WORD {
            return Err(Fault::BadCode("XPRESS"));
        }
        self.table.build(&self.lengths, "XPRESS")?;
        let mut reader = BitReader::new(packed, TABLE_LEN);
        let at = self.decode_fast(&mut reader, raw)?;
        self.decode_rest(&mut reader, raw, at)?;
        if reader.is_overrun() { Err(Fault::EndsEarly) } else { Ok(()) }
    }

    /// Decodes until the end of either side is near; returns the position reached in `raw`.
    fn decode_fast(&self, source: &mut BitReader<'_>, raw: &mut [u8]) -> Result<usize, Fault> {
        // Room for three literals and a match that is moved in steps of 16 bytes.
        const SLACK: usize = 48;
        let table = &self.table;
        let mut reader = *source;
        let mut at = 0;
        while raw.len() - at >= SLACK && reader.refill_quickly() {
            // Three literals, or one or two and then a match with a refill between, fit into 48 bits.
            let mut entry = table.look_up(reader.peek());
            if entry < 256 << 8 {
                reader.skip(entry & 0xFF);
                raw[at] = (entry >> 8) as u8;
                at += 1;
                entry = table.look_up(reader.peek());
                if entry < 256 << 8 {
                    reader.skip(entry & 0xFF);
                    raw[at] = (entry >> 8) as u8;
                    at += 1;
                    entry = table.look_up(reader.peek());
                    if entry < 256 << 8 {
                        reader.skip(entry & 0xFF);
                        raw[at] = (entry >> 8) as u8;
                        at += 1;
                    }
                    continue;
                }
            }
            reader.skip(entry & 0xFF);
            let mut len = (entry >> 8 & 15) as usize;
            let bits = (entry >> 12) - 16;
            if len == 15 {
                (reader, len) = long_length(reader)?;
            }
            len += MIN_MATCH;
            let distance = (1_usize << bits) + reader.take(bits) as usize;
            at = copy_match_quickly(raw, at, distance, len)?;
        }
        *source = reader;
        Ok(at)
    }

    /// Decodes the last bytes, one symbol at a time.
    fn decode_rest(&self, reader: &mut BitReader<'_>, raw: &mut [u8], mut at: usize) -> Decoded {
        while at < raw.len() {
            reader.refill();
            let entry = self.table.look_up(reader.peek());
            reader.skip(entry & 0xFF);
            if entry < 256 << 8 {
                raw[at] = (entry >> 8) as u8;
                at += 1;
                continue;
            }
            let mut len = (entry >> 8 & 15) as usize;
            let bits = (entry >> 12) - 16;
            if len == 15 {
                (*reader, len) = long_length(*reader)?;
            }
            len += MIN_MATCH;
            let distance = (1_usize << bits) + reader.take(bits) as usize;
            copy_match(raw, at, distance, len)?;
            at += len;
        }
        Ok(())
    }
}

/// A length of 15 or more (without [`MIN_MATCH`]) follows as bytes, after the words that a reader with a register of
/// 32 bits has taken by now: those that hold the bits consumed, and at least 16 bits more.
#[inline(never)]
fn long_length(mut reader: BitReader<'_>) -> Result<(BitReader<'_>, usize), Fault> {
    let position = reader.give_back(31);
    let bytes = reader.bytes();
    let byte = *bytes.get(position).ok_or(Fault::EndsEarly)?;
    if byte < 255 {
        reader.set_position(position + 1);
        reader.refill();
        return Ok((reader, usize::from(byte) + 15));
    }
    let wide: [u8; 2] =
        bytes.get(position + 1..position + 3).and_then(|two| two.try_into().ok()).ok_or(Fault::EndsEarly)?;
    let mut len = usize::from(u16::from_le_bytes(wide));
    let mut next = position + 3;
    if len == 0 {
        let wider: [u8; 4] =
            bytes.get(next..next + 4).and_then(|four| four.try_into().ok()).ok_or(Fault::EndsEarly)?;
        len = u32::from_le_bytes(wider) as usize;
        next += 4;
    }
    if len < 15 {
        return Err(Fault::BadValue("length of a match"));
    }
    reader.set_position(next);
    reader.refill();
    Ok((reader, len))
}

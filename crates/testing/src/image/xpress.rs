//! XPRESS with Huffman codes as the pseudo-code of [MS-XCA] 2.2.4 has it.

use super::bits::Code;

struct State<'a> {
    input: &'a [u8],
    position: usize,
    next_bits: u32,
    extra: i32,
}

impl State<'_> {
    fn word(&mut self) -> u32 {
        let byte = |at: usize| u32::from(self.input.get(at).copied().unwrap_or(0));
        let word = byte(self.position) | byte(self.position + 1) << 8;
        self.position += 2;
        word
    }

    /// Takes one bit away; the register is filled when fewer than 16 are left.
    fn consume(&mut self, count: u32) {
        self.next_bits = if count == 32 { 0 } else { self.next_bits << count };
        self.extra -= count as i32;
        if self.extra < 0 {
            self.next_bits |= self.word() << -self.extra;
            self.extra += 16;
        }
    }
}

pub fn decode(input: &[u8], len: usize) -> Option<Vec<u8>> {
    let lengths: Vec<u32> =
        input.get(..256)?.iter().flat_map(|byte| [u32::from(byte & 15), u32::from(byte >> 4)]).collect();
    let code = Code::new(&lengths);
    let mut state = State { input, position: 256, next_bits: 0, extra: 16 };
    state.next_bits = state.word() << 16;
    state.next_bits |= state.word();
    let mut out = Vec::new();
    while out.len() < len {
        // The word is found in a copy, then consumed at once, as the pseudo-code does.
        let (mut taken, bits) = (0, state.next_bits);
        let symbol = code.symbol(|| {
            taken += 1;
            if taken > 15 { None } else { Some(bits >> (32 - taken) & 1) }
        })?;
        state.consume(taken);
        if symbol < 256 {
            out.push(symbol as u8);
            continue;
        }
        let (mut length, offset_bits) = ((symbol - 256) % 16, (symbol - 256) as u32 / 16);
        if length == 15 {
            length = usize::from(*input.get(state.position)?);
            state.position += 1;
            if length == 255 {
                length = usize::from(u16::from_le_bytes(
                    input.get(state.position..state.position + 2)?.try_into().ok()?,
                ));
                state.position += 2;
                length = length.checked_sub(15)?;
            }
            length += 15;
        }
        length += 3;
        let offset =
            if offset_bits == 0 { 0 } else { state.next_bits >> (32 - offset_bits) } + (1 << offset_bits);
        state.consume(offset_bits);
        for _ in 0..length {
            out.push(*out.get(out.len().checked_sub(offset as usize)?)?);
        }
    }
    (out.len() == len).then_some(out)
}

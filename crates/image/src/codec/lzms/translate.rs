//! Relative addresses in x86 instructions, made absolute so that calls of one place look alike, and back.
//!
//! Whether bytes are code is guessed from the addresses: two that agree in their low 16 bits within 65,535 bytes are a
//! sign of code, and for a while after a sign, instructions are translated.

/// How near two uses of one address must be.
const NEAR: i32 = 65535;
/// For how many bytes after a sign instructions are translated.
const REACH: i32 = 1023;
/// Bytes at the end where none begins.
const TAIL: usize = 16;

/// Remembers where each address (its low 16 bits) was used last; kept from chunk to chunk to save allocations.
pub(super) struct Usages(Box<[i32]>);

impl Usages {
    pub(super) fn new() -> Self {
        Self(vec![0; 1 << 16].into())
    }

    /// Translates a chunk before it is encoded. Every reader undoes it, so it is never left out, also for what is no code.
    pub(super) fn apply(&mut self, data: &mut [u8]) {
        self.walk(data, i32::wrapping_add, true);
    }

    /// Undoes the translation in a decoded chunk.
    pub(super) fn undo(&mut self, data: &mut [u8]) {
        self.walk(data, i32::wrapping_sub, false);
    }

    /// Changes the addresses by `change`. Signs come from the relative ones, which are there before the change when it
    /// is applied and after it when it is undone.
    #[inline(always)]
    fn walk(&mut self, data: &mut [u8], change: impl Fn(i32, i32) -> i32, relative_before: bool) {
        if data.len() <= TAIL + 1 {
            return;
        }
        self.0.fill(-NEAR - 1);
        let end = data.len() - TAIL;
        let mut last_sign = -REACH - 1;
        // The very first byte is never looked at.
        let mut at = 1;
        while at < end {
            let (opcode_len, reach) = match (data[at], data[at + 1], data[at + 2]) {
                // mov with an address relative to the next instruction, lock add
                (0x48, 0x8B, 0x05 | 0x0D) | (0xF0, 0x83, 0x05) => (3, REACH),
                // lea
                (0x48 | 0x4C, 0x8D, third) if third & 7 == 5 => (3, REACH),
                // call; it must be twice as near to a sign
                (0xE8, _, _) => (1, REACH / 2),
                // jmp is passed over with its address
                (0xE9, _, _) => {
                    at += 5;
                    continue;
                }
                // call through an address in memory
                (0xFF, 0x15, _) => (2, REACH),
                _ => {
                    at += 1;
                    continue;
                }
            };
            let here = at as i32;
            let Some(operand) = data.get_mut(at + opcode_len..).and_then(<[u8]>::first_chunk_mut::<4>) else {
                return;
            };
            let before = *operand;
            if here - last_sign <= reach {
                *operand = change(i32::from_le_bytes(before), here).to_le_bytes();
            }
            let relative = if relative_before { before } else { *operand };
            let target = (here as u16).wrapping_add(u16::from_le_bytes([relative[0], relative[1]]));
            let last = here + opcode_len as i32 + 3;
            let usage = &mut self.0[usize::from(target)];
            if last - *usage <= NEAR {
                last_sign = last;
            }
            *usage = last;
            at = last as usize + 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Calls at these positions whose absolute operand names the same place, as an encoder leaves them.
    fn with_calls(at: &[usize], target: i32, translated_from: usize) -> Vec<u8> {
        let mut data = vec![0x90; 200];
        for (n, at) in at.iter().enumerate() {
            // The first uses are relative still: only after a sign are operands made absolute.
            let operand = if n < translated_from { target - *at as i32 } else { target };
            data[*at] = 0xE8;
            data[at + 1..at + 5].copy_from_slice(&operand.to_le_bytes());
        }
        data
    }

    #[test]
    fn calls_are_translated_after_two_uses_of_one_target() {
        let places = [10, 30, 60];
        let mut data = with_calls(&places, 0x1234, 2);
        Usages::new().undo(&mut data);
        for at in places {
            assert_eq!(data[at + 1..at + 5], (0x1234 - at as i32).to_le_bytes(), "at {at}");
        }
        // A jump hides what looks like an instruction inside it, and nothing is translated near the end.
        let mut data = with_calls(&[10, 30], 0x1234, 2);
        data[58] = 0xE9;
        data[60] = 0xE8;
        data[190] = 0xE8;
        let before = data.clone();
        Usages::new().undo(&mut data);
        assert_eq!(data, before);
        // What is applied is undone, whatever the bytes.
        let (mut state, mut translated) = (1_u32, 0);
        for round in 0..200 {
            let opcodes = [0xE8, 0xE9, 0x48, 0x8B, 0x05, 0x8D, 0xFF, 0x15, 0, 1];
            let before: Vec<u8> = (0..3000)
                .map(|_| {
                    state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                    if round % 2 == 0 { opcodes[(state >> 16) as usize % 10] } else { (state >> 24) as u8 }
                })
                .collect();
            let mut data = before.clone();
            let mut usages = Usages::new();
            usages.apply(&mut data);
            translated += usize::from(data != before);
            usages.undo(&mut data);
            assert!(data == before, "round {round}");
        }
        assert!(translated > 50, "{translated}");
        let mut data = with_calls(&places, 0x1234, 3);
        Usages::new().apply(&mut data);
        assert_eq!(data, with_calls(&places, 0x1234, 2), "the third call names its target");
        let mut short = vec![0xE8; 17];
        Usages::new().undo(&mut short);
        assert_eq!(short, [0xE8; 17]);
    }
}

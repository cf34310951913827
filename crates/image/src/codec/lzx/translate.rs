//! The translation of x86 calls: the target of `E8` relative to the next instruction becomes absolute, so that calls
//! of one function look alike.

use super::TRANSLATION_SIZE;

/// Bytes at the end of a chunk where no call is translated.
const TAIL: usize = 10;

fn for_each_call(chunk: &mut [u8], translate: impl Fn(i32, i32) -> Option<i32>) {
    let end = chunk.len().saturating_sub(TAIL);
    let mut at = 0;
    while let Some(found) = chunk.get(at..end).and_then(|rest| rest.iter().position(|byte| *byte == 0xE8)) {
        let call = at + found;
        if let Some(target) = chunk[call + 1..].first_chunk_mut::<4>()
            && let Some(new) = translate(call as i32, i32::from_le_bytes(*target))
        {
            *target = new.to_le_bytes();
        }
        at = call + 5;
    }
}

/// Turns relative targets into absolute ones, before encoding.
pub(super) fn apply(chunk: &mut [u8]) {
    for_each_call(chunk, |at, relative| {
        if relative < -at || relative >= TRANSLATION_SIZE {
            None
        } else if relative < TRANSLATION_SIZE - at {
            Some(relative + at)
        } else {
            Some(relative - TRANSLATION_SIZE)
        }
    });
}

/// Turns absolute targets back into relative ones, after decoding.
pub(super) fn undo(chunk: &mut [u8]) {
    for_each_call(chunk, |at, absolute| {
        if absolute < -at || absolute >= TRANSLATION_SIZE {
            None
        } else if absolute >= 0 {
            Some(absolute - at)
        } else {
            Some(absolute + TRANSLATION_SIZE)
        }
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn calls_are_translated_and_back_and_the_tail_stays() {
        let mut chunk = vec![0x90; 40];
        chunk[7..12].copy_from_slice(&[0xE8, 0x10, 0, 0, 0]);
        chunk[29] = 0xE8;
        chunk[30] = 0xE8;
        let before = chunk.clone();
        apply(&mut chunk);
        assert_eq!(chunk[8..12], [0x17, 0, 0, 0]);
        // At 29 there is still room for a call, at 30 the tail begins.
        assert_eq!(chunk[30..], before[30..]);
        undo(&mut chunk);
        assert_eq!(chunk, before);
        for relative in
            [-20_i32, -7, -8, 0, 11_999_999, 11_999_993, 11_999_992, 12_000_000, i32::MIN, i32::MAX]
        {
            let mut chunk = before.clone();
            chunk[8..12].copy_from_slice(&relative.to_le_bytes());
            let plain = chunk.clone();
            apply(&mut chunk);
            undo(&mut chunk);
            assert_eq!(chunk, plain, "{relative}");
        }
    }
}

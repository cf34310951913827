//! Decoding.

use super::{
    MAX_CHUNK_LEN,
    coder::Decisions,
    codes::{
        AdaptiveCode, BackwardReader, LENGTH_BASES, LENGTH_SLOTS, MAX_OFFSET_SLOTS, OFFSET_BASES, extra_bits,
        offset_slots_for,
    },
    range::{Decision, RangeDecoder},
    translate::Usages,
};
use crate::codec::{Decoded, Fault, copy_match};

/// Bytes that are decoded between two looks at whether to stop.
const GLANCE: usize = 256 << 10;
/// Powers that a delta match can have.
pub(super) const POWERS: usize = 8;

/// Decodes chunks, one after another, with the same tables.
pub struct Decoder {
    literals: AdaptiveCode,
    offsets: AdaptiveCode,
    lengths: AdaptiveCode,
    delta_offsets: AdaptiveCode,
    delta_powers: AdaptiveCode,
    usages: Usages,
}

impl Default for Decoder {
    fn default() -> Self {
        Self {
            literals: AdaptiveCode::new("literal", 256, 1024),
            offsets: AdaptiveCode::new("offset", MAX_OFFSET_SLOTS, 1024),
            lengths: AdaptiveCode::new("length", LENGTH_SLOTS, 512),
            delta_offsets: AdaptiveCode::new("delta offset", MAX_OFFSET_SLOTS, 1024),
            delta_powers: AdaptiveCode::new("delta power", POWERS, 512),
            usages: Usages::new(),
        }
    }
}

/// What the item before was: a repeated distance does not count the one that it used itself.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Before {
    Literal,
    Match,
    Delta,
}

/// The last four distances used, newest first.
#[derive(Clone, Copy)]
pub(super) struct Recent<T>(pub [T; 4]);

impl<T: Copy> Recent<T> {
    pub(super) fn push(&mut self, new: T) {
        let [a, b, c, _] = self.0;
        self.0 = [new, a, b, c];
    }

    /// Takes number `n` and makes it the newest.
    pub(super) fn take(&mut self, n: usize) -> T {
        let taken = self.0[n];
        self.0.copy_within(0..n, 1);
        self.0[0] = taken;
        taken
    }
}

impl Decoder {
    /// Decodes `packed`, which holds exactly the bytes of `raw`.
    ///
    /// # Errors
    /// A [`Fault`], with what is wrong, for anything that is not so packed.
    pub fn decode(&mut self, packed: &[u8], raw: &mut [u8]) -> Decoded {
        self.decode_until(packed, raw, &|| false)
    }

    /// The same, ending with [`Fault::Stopped`] soon after `stop` says so: a chunk may take seconds.
    ///
    /// # Errors
    /// As [`Decoder::decode`].
    pub fn decode_until(&mut self, packed: &[u8], raw: &mut [u8], stop: &dyn Fn() -> bool) -> Decoded {
        if raw.len() > MAX_CHUNK_LEN {
            return Err(Fault::Overlong { what: "a chunk", len: raw.len() as u64, at: 0 });
        }
        if packed.len() < 4 {
            return Err(Fault::EndsEarly);
        }
        // Both sides consist of words.
        if !packed.len().is_multiple_of(2) {
            return Err(Fault::BadValue("length of the compressed data"));
        }
        let slots = offset_slots_for(raw.len());
        self.literals.start(256)?;
        self.offsets.start(slots)?;
        self.lengths.start(LENGTH_SLOTS)?;
        self.delta_offsets.start(slots)?;
        self.delta_powers.start(POWERS)?;
        let mut decisions = Decisions::new();
        let mut range = RangeDecoder::new(packed);
        let mut reader = BackwardReader::new(packed);
        let mut recent = Recent([1_u32, 2, 3, 4]);
        // Offset and power; the offset is in units of 2^power.
        let mut recent_deltas = Recent([(1_u32, 0_u32), (2, 0), (3, 0), (4, 0)]);
        let mut before = Before::Literal;
        let mut at = 0;
        let mut glance = GLANCE;
        while at < raw.len() {
            if at >= glance {
                if stop() {
                    return Err(Fault::Stopped);
                }
                glance = at + GLANCE;
            }
            if !range.decide(&mut decisions.is_match) {
                raw[at] = self.literals.decode(&mut reader)? as u8;
                at += 1;
                before = Before::Literal;
            } else if !range.decide(&mut decisions.is_delta) {
                let offset = if range.decide(&mut decisions.repeats) {
                    let n = later(&mut range, &mut decisions.repeat_later);
                    recent.take(n + usize::from(before == Before::Match))
                } else {
                    let offset = slot_value(&mut self.offsets, &OFFSET_BASES, &mut reader)?;
                    recent.push(offset);
                    offset
                };
                before = Before::Match;
                let len = slot_value(&mut self.lengths, &LENGTH_BASES, &mut reader)? as usize;
                copy_match(raw, at, offset as usize, len)?;
                at += len;
            } else {
                let (offset, power) = if range.decide(&mut decisions.delta_repeats) {
                    let n = later(&mut range, &mut decisions.delta_repeat_later);
                    recent_deltas.take(n + usize::from(before == Before::Delta))
                } else {
                    let power = self.delta_powers.decode(&mut reader)? as u32;
                    let offset = slot_value(&mut self.delta_offsets, &OFFSET_BASES, &mut reader)?;
                    recent_deltas.push((offset, power));
                    (offset, power)
                };
                before = Before::Delta;
                let len = slot_value(&mut self.lengths, &LENGTH_BASES, &mut reader)? as usize;
                copy_delta(raw, at, u64::from(offset) << power, 1 << power, len)?;
                at += len;
            }
            if range.is_overrun() {
                return Err(Fault::EndsEarly);
            }
        }
        self.usages.undo(raw);
        Ok(())
    }
}

/// Which of the three repeatable distances.
fn later(range: &mut RangeDecoder<'_>, decisions: &mut [Decision<64>; 2]) -> usize {
    let [first, second] = decisions;
    if !range.decide(first) {
        0
    } else if !range.decide(second) {
        1
    } else {
        2
    }
}

fn slot_value(code: &mut AdaptiveCode, bases: &[u32], reader: &mut BackwardReader<'_>) -> Result<u32, Fault> {
    let slot = code.decode(reader)?;
    Ok(bases[slot] + reader.read(extra_bits(bases, slot)))
}

/// Each byte is the one `span` before it, changed as the bytes `offset` back changed.
fn copy_delta(raw: &mut [u8], at: usize, offset: u64, span: usize, len: usize) -> Decoded {
    if offset + span as u64 > at as u64 {
        return Err(Fault::FarMatch { distance: offset + span as u64, at: at as u64 });
    }
    if len > raw.len() - at {
        return Err(Fault::Overlong { what: "a delta match", len: len as u64, at: at as u64 });
    }
    let offset = offset as usize;
    for to in at..at + len {
        raw[to] = raw[to - offset].wrapping_add(raw[to - span]).wrapping_sub(raw[to - offset - span]);
    }
    Ok(())
}

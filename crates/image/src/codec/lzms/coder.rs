//! Writing items: their decisions to the front of a chunk, their words to its end.

use super::{
    codes::{
        Adapting, LENGTH_BASES, LENGTH_SLOTS, MAX_OFFSET_SLOTS, OFFSET_BASES, SlotFinder, offset_slots_for,
    },
    decode::POWERS,
    range::{Decision, RangeEncoder},
};
use crate::codec::huffman::words_for;

/// A literal or a match.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Item {
    /// A byte.
    Literal(u8),
    /// `len` bytes from `offset` back.
    Match { len: u32, offset: u32 },
    /// `len` bytes from the distance that is number `n` of those that may be repeated.
    Repeat { len: u32, n: u8 },
    /// `len` bytes that differ from those 2^`power` before them as the ones `offset` · 2^`power` back do.
    Delta { len: u32, offset: u32, power: u8 },
    /// The same with the offset and power that are number `n` of those that may be repeated.
    DeltaRepeat { len: u32, n: u8 },
}

impl Item {
    /// Bytes that it stands for.
    pub(super) const fn raw_len(self) -> usize {
        match self {
            Self::Literal(_) => 1,
            Self::Match { len, .. }
            | Self::Repeat { len, .. }
            | Self::Delta { len, .. }
            | Self::DeltaRepeat { len, .. } => len as usize,
        }
    }
}

/// A code that is made anew from its own counts, as it is written.
pub(super) struct AdaptiveWords {
    lengths: Adapting,
    words: Vec<u16>,
    /// Grows whenever the lengths change.
    version: u32,
}

impl AdaptiveWords {
    fn new(most_symbols: usize, period: u32) -> Self {
        Self { lengths: Adapting::new(most_symbols, period), words: vec![0; most_symbols], version: 0 }
    }

    fn start(&mut self, symbols: usize) {
        self.lengths.start(symbols);
        self.renew();
    }

    fn renew(&mut self) {
        words_for(self.lengths.lengths(), &mut self.words);
        self.version = self.version.wrapping_add(1);
    }

    /// Bits of the words now.
    #[inline]
    pub(super) fn lengths(&self) -> &[u8] {
        self.lengths.lengths()
    }

    /// Another number whenever the lengths are others.
    pub(super) const fn version(&self) -> u32 {
        self.version
    }

    #[inline]
    fn put(&mut self, symbol: usize, writer: &mut BackwardWriter, bytes: &mut [u8]) {
        writer.put(bytes, u32::from(self.words[symbol]), u32::from(self.lengths.lengths()[symbol]));
        if self.lengths.record(symbol) {
            self.renew();
        }
    }
}

/// Writes words of 16 bits from the end of a slice to its start.
struct BackwardWriter {
    /// Bytes written.
    len: usize,
    held: u64,
    count: u32,
}

impl BackwardWriter {
    /// Appends the low `count` (at most 32) bits of `value`; the others must be zero.
    #[inline]
    fn put(&mut self, bytes: &mut [u8], value: u32, count: u32) {
        self.held = self.held << count | u64::from(value);
        self.count += count;
        while self.count >= 16 {
            self.count -= 16;
            let word = (self.held >> self.count) as u16;
            self.len += 2;
            // What does not fit is counted only.
            if let Some(at) = bytes.len().checked_sub(self.len) {
                bytes[at..at + 2].copy_from_slice(&word.to_le_bytes());
            }
        }
    }
}

/// All decisions of a chunk.
pub(super) struct Decisions {
    pub is_match: Decision<16>,
    pub is_delta: Decision<32>,
    pub repeats: Decision<64>,
    pub repeat_later: [Decision<64>; 2],
    pub delta_repeats: Decision<64>,
    pub delta_repeat_later: [Decision<64>; 2],
}

impl Decisions {
    pub(super) const fn new() -> Self {
        Self {
            is_match: Decision::new(),
            is_delta: Decision::new(),
            repeats: Decision::new(),
            repeat_later: [Decision::new(), Decision::new()],
            delta_repeats: Decision::new(),
            delta_repeat_later: [Decision::new(), Decision::new()],
        }
    }
}

/// Everything that adapts while a chunk is written.
pub(super) struct Coder {
    pub decisions: Decisions,
    pub literals: AdaptiveWords,
    pub offsets: AdaptiveWords,
    pub lengths: AdaptiveWords,
    pub delta_offsets: AdaptiveWords,
    pub delta_powers: AdaptiveWords,
    pub offset_slots: SlotFinder,
    pub length_slots: SlotFinder,
    front: RangeEncoder,
    back: BackwardWriter,
}

impl Coder {
    pub(super) fn new() -> Self {
        Self {
            decisions: Decisions::new(),
            literals: AdaptiveWords::new(256, 1024),
            offsets: AdaptiveWords::new(MAX_OFFSET_SLOTS, 1024),
            lengths: AdaptiveWords::new(LENGTH_SLOTS, 512),
            delta_offsets: AdaptiveWords::new(MAX_OFFSET_SLOTS, 1024),
            delta_powers: AdaptiveWords::new(POWERS, 512),
            offset_slots: SlotFinder::new(&OFFSET_BASES),
            length_slots: SlotFinder::new(&LENGTH_BASES),
            front: RangeEncoder::new(),
            back: BackwardWriter { len: 0, held: 0, count: 0 },
        }
    }

    /// Begins a chunk of `len` bytes.
    pub(super) fn start(&mut self, len: usize) {
        let slots = offset_slots_for(len);
        self.decisions = Decisions::new();
        self.literals.start(256);
        self.offsets.start(slots);
        self.lengths.start(LENGTH_SLOTS);
        self.delta_offsets.start(slots);
        self.delta_powers.start(POWERS);
        self.front = RangeEncoder::new();
        self.back = BackwardWriter { len: 0, held: 0, count: 0 };
    }

    /// Writes an item.
    pub(super) fn put(&mut self, item: Item, bytes: &mut [u8]) {
        let (front, decisions) = (&mut self.front, &mut self.decisions);
        let literal = matches!(item, Item::Literal(_));
        front.decide(bytes, &mut decisions.is_match, !literal);
        if !literal {
            let delta = matches!(item, Item::Delta { .. } | Item::DeltaRepeat { .. });
            front.decide(bytes, &mut decisions.is_delta, delta);
        }
        match item {
            Item::Literal(byte) => {
                self.literals.put(usize::from(byte), &mut self.back, bytes);
                return;
            }
            Item::Match { offset, .. } => {
                front.decide(bytes, &mut decisions.repeats, false);
                put_value(&mut self.offsets, &self.offset_slots, offset, &mut self.back, bytes);
            }
            Item::Repeat { n, .. } => {
                front.decide(bytes, &mut decisions.repeats, true);
                put_later(front, &mut decisions.repeat_later, n, bytes);
            }
            Item::Delta { offset, power, .. } => {
                front.decide(bytes, &mut decisions.delta_repeats, false);
                self.delta_powers.put(usize::from(power), &mut self.back, bytes);
                put_value(&mut self.delta_offsets, &self.offset_slots, offset, &mut self.back, bytes);
            }
            Item::DeltaRepeat { n, .. } => {
                front.decide(bytes, &mut decisions.delta_repeats, true);
                put_later(front, &mut decisions.delta_repeat_later, n, bytes);
            }
        }
        put_value(&mut self.lengths, &self.length_slots, item.raw_len() as u32, &mut self.back, bytes);
    }

    /// Bytes written so far.
    pub(super) const fn len(&self) -> usize {
        self.front.len() + self.back.len
    }

    /// Ends the chunk: both sides come together at the start of `bytes`, whose length is even. Returns the bytes in all,
    /// or nothing if there are too few.
    pub(super) fn finish(&mut self, bytes: &mut [u8]) -> Option<usize> {
        if self.back.count > 0 {
            self.back.put(bytes, 0, 16 - self.back.count);
        }
        // Whether the front fits is known before its end is written: three words and what waits come.
        if self.len() + 6 > bytes.len() {
            return None;
        }
        let front = std::mem::replace(&mut self.front, RangeEncoder::new()).finish(bytes);
        let back = bytes.len() - self.back.len;
        bytes.copy_within(back.., front);
        Some(front + self.back.len)
    }
}

/// Says which of the three repeatable distances it is.
fn put_later(front: &mut RangeEncoder, decisions: &mut [Decision<64>; 2], n: u8, bytes: &mut [u8]) {
    let [first, second] = decisions;
    front.decide(bytes, first, n > 0);
    if n > 0 {
        front.decide(bytes, second, n > 1);
    }
}

fn put_value(
    code: &mut AdaptiveWords,
    slots: &SlotFinder,
    value: u32,
    writer: &mut BackwardWriter,
    bytes: &mut [u8],
) {
    let slot = slots.slot_of(value);
    let (base, bits) = slots.base_and_bits(slot);
    code.put(slot, writer, bytes);
    writer.put(bytes, value - base, bits);
}

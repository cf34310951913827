//! The range coder at the front of a chunk.
//!
//! A decision is 0 with a probability in 64ths, which its own last outcomes give.

/// How often a decision was 0 lately, in a context of its own.
#[derive(Clone, Copy)]
pub(super) struct Probability {
    /// Zeros among the last 64 decisions.
    zeros: u32,
    /// Those decisions, the newest lowest.
    recent: u64,
}

impl Probability {
    const START: Self = Self { zeros: 48, recent: 0x5555_5555 };

    /// The probability of 0 in 64ths; never certain: at least one in 64 either way.
    #[inline(always)]
    pub(super) fn in_64ths(self) -> u32 {
        self.zeros.clamp(1, 63)
    }

    #[inline(always)]
    fn record(&mut self, bit: u32) {
        let leaving = (self.recent >> 63) as u32;
        // A zero that leaves takes one away, a zero that comes adds one.
        self.zeros = self.zeros + leaving - bit;
        self.recent = self.recent << 1 | u64::from(bit);
    }
}

/// One kind of decision: the last few of its own outcomes choose the probability.
pub(super) struct Decision<const STATES: usize> {
    probabilities: [Probability; STATES],
    state: usize,
}

impl<const STATES: usize> Decision<STATES> {
    pub(super) const fn new() -> Self {
        Self { probabilities: [Probability::START; STATES], state: 0 }
    }

    /// The state after `bit` in `state`.
    #[inline(always)]
    pub(super) const fn next_state(state: usize, bit: bool) -> usize {
        (state << 1 | bit as usize) & (STATES - 1)
    }

    /// How likely 0 is in a state.
    #[inline(always)]
    pub(super) fn probability(&self, state: usize) -> Probability {
        self.probabilities[state & (STATES - 1)]
    }

    #[inline(always)]
    fn record(&mut self, bit: bool) {
        const { assert!(STATES.is_power_of_two()) };
        self.probabilities[self.state & (STATES - 1)].record(u32::from(bit));
        self.state = Self::next_state(self.state, bit);
    }
}

/// Decodes binary decisions from words read forwards.
pub(super) struct RangeDecoder<'a> {
    bytes: &'a [u8],
    next: usize,
    range: u32,
    code: u32,
    overrun: bool,
}

impl<'a> RangeDecoder<'a> {
    /// Begins at the start of `bytes`, which has at least four.
    pub(super) fn new(bytes: &'a [u8]) -> Self {
        let mut decoder = Self { bytes, next: 0, range: u32::MAX, code: 0, overrun: false };
        decoder.code = decoder.word() << 16;
        decoder.code |= decoder.word();
        decoder
    }

    fn word(&mut self) -> u32 {
        if let Some(&[low, high]) = self.bytes.get(self.next..self.next + 2) {
            self.next += 2;
            return u32::from(u16::from_le_bytes([low, high]));
        }
        self.overrun = true;
        0
    }

    /// Whether more was wanted than there is.
    pub(super) const fn is_overrun(&self) -> bool {
        self.overrun
    }

    /// The next decision of this kind.
    #[inline]
    pub(super) fn decide<const STATES: usize>(&mut self, decision: &mut Decision<STATES>) -> bool {
        if self.range & 0xFFFF_0000 == 0 {
            self.range <<= 16;
            self.code = self.code << 16 | self.word();
        }
        let bound = (self.range >> 6) * decision.probability(decision.state).in_64ths();
        let bit = self.code >= bound;
        if bit {
            self.range -= bound;
            self.code -= bound;
        } else {
            self.range = bound;
        }
        decision.record(bit);
        bit
    }
}

/// Writes binary decisions as words, forwards.
pub(super) struct RangeEncoder {
    /// The low end of the range, and above its 32 bits a carry.
    low: u64,
    range: u32,
    /// The last word that a carry may still change, and how many of 0xFFFF follow it.
    pending: Option<u16>,
    full: usize,
    words: usize,
}

impl RangeEncoder {
    pub(super) const fn new() -> Self {
        Self { low: 0, range: u32::MAX, pending: None, full: 0, words: 0 }
    }

    /// Writes a decision of this kind into `bytes`, behind those before.
    #[inline]
    pub(super) fn decide<const STATES: usize>(
        &mut self,
        bytes: &mut [u8],
        decision: &mut Decision<STATES>,
        bit: bool,
    ) {
        if self.range & 0xFFFF_0000 == 0 {
            self.range <<= 16;
            self.shift(bytes);
        }
        let bound = (self.range >> 6) * decision.probability(decision.state).in_64ths();
        if bit {
            self.low += u64::from(bound);
            self.range -= bound;
        } else {
            self.range = bound;
        }
        decision.record(bit);
    }

    /// Passes the upper word of the low end on. A word of 0xFFFF waits, because a carry would go through it.
    fn shift(&mut self, bytes: &mut [u8]) {
        let (word, carry) = ((self.low >> 16) as u16, self.low >> 32 != 0);
        self.low = (self.low & 0xFFFF) << 16;
        if word == 0xFFFF && !carry {
            self.full += 1;
            return;
        }
        self.release(bytes, carry);
        self.pending = Some(word);
    }

    fn release(&mut self, bytes: &mut [u8], carry: bool) {
        if let Some(pending) = self.pending.take() {
            self.word(bytes, pending.wrapping_add(u16::from(carry)));
        }
        let full = if carry { 0 } else { 0xFFFF };
        for _ in 0..std::mem::take(&mut self.full) {
            self.word(bytes, full);
        }
    }

    fn word(&mut self, bytes: &mut [u8], word: u16) {
        // What does not fit is counted only.
        if let Some(place) = bytes.get_mut(2 * self.words..2 * self.words + 2) {
            place.copy_from_slice(&word.to_le_bytes());
        }
        self.words += 1;
    }

    /// Bytes written so far; more than there is room when it is too little.
    pub(super) const fn len(&self) -> usize {
        2 * (self.words + self.full + self.pending.is_some() as usize)
    }

    /// Writes the rest: the two words of the low end, and a spare one that readers may look at. Returns the bytes in all.
    pub(super) fn finish(mut self, bytes: &mut [u8]) -> usize {
        (0..3).for_each(|_| self.shift(bytes));
        self.release(bytes, false);
        2 * self.words
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Numbers without pattern.
    fn numbers(seed: u64) -> impl FnMut() -> u64 {
        let mut state = seed;
        move || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            state >> 33
        }
    }

    fn there_and_back(bits: &[bool]) -> usize {
        let mut bytes = vec![0; bits.len() + 16];
        let (mut encoder, mut decision) = (RangeEncoder::new(), Decision::<16>::new());
        for bit in bits {
            encoder.decide(&mut bytes, &mut decision, *bit);
        }
        let len = encoder.finish(&mut bytes);
        let (mut decoder, mut decision) = (RangeDecoder::new(&bytes[..len]), Decision::<16>::new());
        for (n, bit) in bits.iter().enumerate() {
            assert_eq!(decoder.decide(&mut decision), *bit, "decision {n} of {}", bits.len());
        }
        assert!(!decoder.is_overrun());
        // One word is spare.
        assert_eq!(decoder.next + 2, len);
        bytes.windows(2).step_by(2).filter(|word| **word == [0xFF, 0xFF]).count()
    }

    #[test]
    fn decisions_of_every_likelihood_come_back() {
        for likely in [1, 3, 50, 200, 255] {
            let mut next = numbers(likely);
            let bits: Vec<bool> = (0..40_000).map(|_| next() % 256 < likely).collect();
            there_and_back(&bits);
        }
        there_and_back(&[]);
        there_and_back(&[true]);
    }

    #[test]
    fn carries_go_through_runs_of_full_words() {
        // Steer towards the carry: as long as the range reaches over a full word, stay where it does.
        let mut most = 0;
        for seed in 0..400 {
            let mut next = numbers(seed);
            let mut bytes = vec![0; 4096];
            let (mut encoder, mut decision) = (RangeEncoder::new(), Decision::<16>::new());
            let mut bits = Vec::new();
            let mut longest = 0;
            for _ in 0..600 {
                let (mut low, mut range) = (encoder.low, u64::from(encoder.range));
                if range <= 0xFFFF {
                    (low, range) = ((low & 0xFFFF) << 16, range << 16);
                }
                let line = 1 << 32;
                let middle = low + (range >> 6) * u64::from(decision.probability(decision.state).in_64ths());
                // A long run ends on either side of the line.
                let reaches_over = low < line && line < low + range && encoder.full < 4;
                let bit = if reaches_over { middle <= line } else { next().is_multiple_of(2) };
                encoder.decide(&mut bytes, &mut decision, bit);
                bits.push(bit);
                longest = longest.max(encoder.full);
            }
            most = most.max(longest);
            there_and_back(&bits);
        }
        assert!(most >= 2, "no run of full words was waiting for a carry: {most}");
    }
}

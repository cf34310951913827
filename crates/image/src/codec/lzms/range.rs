//! The range coder at the front of a chunk.

/// How often a decision was 0 lately, in a context of its own.
#[derive(Clone, Copy)]
struct Probability {
    /// Zeros among the last 64 decisions.
    zeros: u32,
    /// Those decisions, the newest lowest.
    recent: u64,
}

impl Probability {
    const START: Self = Self { zeros: 48, recent: 0x5555_5555 };

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
        const { assert!(STATES.is_power_of_two()) };
        let probability = &mut decision.probabilities[decision.state & (STATES - 1)];
        if self.range & 0xFFFF_0000 == 0 {
            self.range <<= 16;
            self.code = self.code << 16 | self.word();
        }
        // Never certain: at least one in 64 either way.
        let bound = (self.range >> 6) * probability.zeros.clamp(1, 63);
        let bit = if self.code < bound {
            self.range = bound;
            0
        } else {
            self.range -= bound;
            self.code -= bound;
            1
        };
        probability.record(bit);
        decision.state = (decision.state << 1 | bit as usize) & (STATES - 1);
        bit == 1
    }
}

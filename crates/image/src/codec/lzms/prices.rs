//! What items cost under the codes as they are now.

use super::{
    coder::{AdaptiveWords, Coder},
    codes::SlotFinder,
    range::{Decision, Probability},
};

/// Units of a price in one bit.
pub(super) const BIT: u32 = 64;

/// Prices that change slowly enough to be kept in tables.
pub(super) struct Prices {
    /// Of an outcome with this probability in 64ths.
    outcomes: [u32; 65],
    /// Of lengths, by the length.
    lengths: Vec<u32>,
    lengths_version: u32,
}

impl Prices {
    /// For lengths up to `longest`.
    pub(super) fn new(longest: usize) -> Self {
        let mut outcomes = [0; 65];
        for (likely, price) in outcomes.iter_mut().enumerate().skip(1) {
            *price = ((6.0 - (likely as f32).log2()) * BIT as f32).round() as u32;
        }
        Self { outcomes, lengths: vec![0; longest + 1], lengths_version: 0 }
    }

    /// Brings the tables up to date.
    pub(super) fn renew(&mut self, coder: &Coder, anew: bool) {
        if !anew && self.lengths_version == coder.lengths.version() {
            return;
        }
        self.lengths_version = coder.lengths.version();
        for (len, price) in self.lengths.iter_mut().enumerate().skip(1) {
            *price = value(&coder.lengths, &coder.length_slots, len as u32);
        }
    }

    /// Of lengths up to the longest, by the length.
    pub(super) fn lengths(&self) -> &[u32] {
        &self.lengths
    }

    /// Of a decision.
    #[inline(always)]
    pub(super) fn outcome(&self, probability: Probability, bit: bool) -> u32 {
        let zero = probability.in_64ths();
        self.outcomes[if bit { 64 - zero } else { zero } as usize]
    }

    /// Of saying that a match repeats distance `n`, after the decision that it repeats one.
    #[inline(always)]
    pub(super) fn later<const STATES: usize>(
        &self,
        decisions: &[Decision<STATES>; 2],
        states: [u8; 2],
        n: usize,
    ) -> u32 {
        let first = self.outcome(decisions[0].probability(usize::from(states[0])), n > 0);
        if n == 0 {
            return first;
        }
        first + self.outcome(decisions[1].probability(usize::from(states[1])), n > 1)
    }
}

/// Of a symbol.
#[inline(always)]
pub(super) fn symbol(code: &AdaptiveWords, symbol: usize) -> u32 {
    u32::from(code.lengths()[symbol]) * BIT
}

/// Of a value: its slot and the bits that follow.
#[inline(always)]
pub(super) fn value(code: &AdaptiveWords, slots: &SlotFinder, value: u32) -> u32 {
    let slot = slots.slot_of(value);
    symbol(code, slot) + slots.base_and_bits(slot).1 * BIT
}

//! The adaptive prefix codes at the end of a chunk, what slots stand for, and reading them.

use crate::codec::{
    Fault,
    huffman::{DecodeTable, lengths_for},
};

/// Longest word in bits.
const LONGEST_WORD: usize = 15;
/// Offset slots for the largest chunk.
pub(super) const MAX_OFFSET_SLOTS: usize = 799;
/// Slots for lengths.
pub(super) const LENGTH_SLOTS: usize = 54;

/// Number of offset slots whose width is 1, 2, 4 and so on.
const OFFSET_RUNS: [u8; 21] =
    [9, 0, 9, 7, 10, 15, 15, 20, 20, 30, 33, 40, 42, 45, 60, 73, 80, 85, 95, 105, 6];
/// The same for lengths.
const LENGTH_RUNS: [u8; 17] = [27, 4, 6, 4, 5, 2, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0, 1];
const OFFSET_END: u32 = 0x7FFF_FFFF;
const LENGTH_END: u32 = 0x4001_08AB;

/// Bases of slots, and one more that ends the last.
const fn bases<const N: usize>(runs: &[u8], end: u32) -> [u32; N] {
    let mut bases = [end; N];
    let (mut slot, mut base, mut order) = (0, 0, 0);
    while order < runs.len() {
        let mut left = runs[order];
        while left > 0 {
            base += 1 << order;
            bases[slot] = base;
            slot += 1;
            left -= 1;
        }
        order += 1;
    }
    assert!(slot + 1 == N);
    bases
}

pub(super) const OFFSET_BASES: [u32; MAX_OFFSET_SLOTS + 1] = bases(&OFFSET_RUNS, OFFSET_END);
pub(super) const LENGTH_BASES: [u32; LENGTH_SLOTS + 1] = bases(&LENGTH_RUNS, LENGTH_END);

/// Bits that follow slot `slot` of `bases`.
pub(super) const fn extra_bits(bases: &[u32], slot: usize) -> u32 {
    (bases[slot + 1] - bases[slot]).ilog2()
}

/// Slots of one width: the first of them, its base, and the bits that follow each.
#[derive(Clone, Copy)]
struct Run {
    slot: u16,
    bits: u8,
    base: u32,
}

/// Runs that a table can have.
const MAX_RUNS: usize = 24;

/// Finds the slot of a value.
pub(super) struct SlotFinder {
    bases: &'static [u32],
    /// The run in which the values of each order of magnitude begin.
    first: [u8; 33],
    runs: [Run; MAX_RUNS],
    count: usize,
}

impl SlotFinder {
    /// For the slots with these bases, the last of which ends the last slot.
    pub(super) fn new(bases: &'static [u32]) -> Self {
        let mut finder = Self {
            bases,
            first: [0; 33],
            runs: [Run { slot: 0, bits: 0, base: u32::MAX }; MAX_RUNS],
            count: 0,
        };
        for slot in 0..bases.len() - 1 {
            let bits = extra_bits(bases, slot) as u8;
            if finder.count == 0 || finder.runs[finder.count - 1].bits != bits {
                finder.runs[finder.count] = Run { slot: slot as u16, bits, base: bases[slot] };
                finder.count += 1;
            }
        }
        for order in 0..32 {
            let reached = finder.runs[..finder.count].partition_point(|run| run.base <= 1 << order);
            finder.first[order] = reached.saturating_sub(1) as u8;
        }
        finder
    }

    /// The slot of `value`, which is at least 1.
    #[inline]
    pub(super) fn slot_of(&self, value: u32) -> usize {
        let mut n = usize::from(self.first[(value | 1).ilog2() as usize]);
        while n + 1 < self.count && self.runs[n + 1].base <= value {
            n += 1;
        }
        let run = self.runs[n];
        usize::from(run.slot) + ((value - run.base) >> run.bits) as usize
    }

    /// The first value of a slot, and the bits that follow it.
    #[inline]
    pub(super) fn base_and_bits(&self, slot: usize) -> (u32, u32) {
        (self.bases[slot], extra_bits(self.bases, slot))
    }
}

/// The lengths of a code that is made anew from its own counts after every `period` symbols. Reading and writing keep
/// them alike.
pub(super) struct Adapting {
    period: u32,
    until_rebuild: u32,
    symbols: usize,
    counts: Vec<u32>,
    lengths: Vec<u8>,
}

impl Adapting {
    pub(super) fn new(most_symbols: usize, period: u32) -> Self {
        Self {
            period,
            until_rebuild: period,
            symbols: most_symbols,
            counts: vec![1; most_symbols],
            lengths: vec![0; most_symbols],
        }
    }

    /// Begins a chunk in which the code has `symbols` symbols.
    pub(super) fn start(&mut self, symbols: usize) {
        self.symbols = symbols;
        self.counts[..symbols].fill(1);
        self.build();
    }

    fn build(&mut self) {
        lengths_for(&self.counts[..self.symbols], LONGEST_WORD, &mut self.lengths[..self.symbols]);
        self.until_rebuild = self.period;
    }

    /// The lengths of the words now.
    #[inline]
    pub(super) fn lengths(&self) -> &[u8] {
        &self.lengths[..self.symbols]
    }

    /// Counts a symbol; says whether the lengths changed.
    #[inline]
    pub(super) fn record(&mut self, symbol: usize) -> bool {
        self.counts[symbol] += 1;
        self.until_rebuild -= 1;
        if self.until_rebuild > 0 {
            return false;
        }
        self.build();
        // What came long ago counts half.
        self.counts[..self.symbols].iter_mut().for_each(|count| *count = (*count >> 1) + 1);
        true
    }
}

/// Offset slots that a chunk of `len` bytes uses.
pub(super) fn offset_slots_for(len: usize) -> usize {
    if len < 2 { 0 } else { OFFSET_BASES[..MAX_OFFSET_SLOTS].partition_point(|base| (*base as usize) < len) }
}

/// Reads words of 16 bits from the end of a chunk to its start.
pub(super) struct BackwardReader<'a> {
    bytes: &'a [u8],
    /// Bytes in front of the next word.
    left: usize,
    held: u64,
    count: u32,
}

impl<'a> BackwardReader<'a> {
    pub(super) const fn new(bytes: &'a [u8]) -> Self {
        Self { bytes, left: bytes.len() & !1, held: 0, count: 0 }
    }

    #[inline]
    fn refill(&mut self) {
        while self.count <= 48 {
            let word = match self.left.checked_sub(2).and_then(|at| self.bytes.get(at..at + 2)) {
                Some(&[low, high]) => {
                    self.left -= 2;
                    u64::from(u16::from_le_bytes([low, high]))
                }
                _ => 0,
            };
            self.held |= word << (48 - self.count);
            self.count += 16;
        }
    }

    /// The next `count` bits, at most 30.
    #[inline]
    pub(super) fn read(&mut self, count: u32) -> u32 {
        self.refill();
        let value = (self.held >> 1 >> (63 - count)) as u32;
        self.held <<= count;
        self.count -= count;
        value
    }

    fn skip(&mut self, count: u32) {
        self.held <<= count;
        self.count -= count;
    }
}

/// A code that is made anew from its own counts after every `period` symbols, as it is read.
pub(super) struct AdaptiveCode {
    name: &'static str,
    lengths: Adapting,
    table: DecodeTable<10, 32768>,
}

impl AdaptiveCode {
    pub(super) fn new(name: &'static str, most_symbols: usize, period: u32) -> Self {
        Self {
            name,
            lengths: Adapting::new(most_symbols, period),
            table: DecodeTable::new(most_symbols, LONGEST_WORD),
        }
    }

    /// Begins a chunk in which the code has `symbols` symbols.
    pub(super) fn start(&mut self, symbols: usize) -> Result<(), Fault> {
        self.lengths.start(symbols);
        self.table.build(self.lengths.lengths(), self.name)
    }

    /// The next symbol.
    #[inline]
    pub(super) fn decode(&mut self, reader: &mut BackwardReader<'_>) -> Result<usize, Fault> {
        reader.refill();
        let entry = self.table.look_up(reader.held);
        if entry == 0 {
            return Err(Fault::UnknownWord(self.name));
        }
        reader.skip(entry & 0xFF);
        let symbol = (entry >> 8) as usize;
        if self.lengths.record(symbol) {
            self.table.build(self.lengths.lengths(), self.name)?;
        }
        Ok(symbol)
    }
}
#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slots_cover_all_values_without_gaps() {
        assert_eq!(OFFSET_BASES[..12], [1, 2, 3, 4, 5, 6, 7, 8, 9, 13, 17, 21]);
        assert_eq!(LENGTH_BASES[26..31], [27, 29, 31, 33, 35]);
        assert_eq!(LENGTH_BASES[52..], [0x8AB, 0x1_08AB, 0x4001_08AB]);
        for slot in 0..LENGTH_SLOTS {
            assert_eq!(LENGTH_BASES[slot] + (1 << extra_bits(&LENGTH_BASES, slot)), LENGTH_BASES[slot + 1]);
        }
        for bases in [&OFFSET_BASES[..], &LENGTH_BASES[..]] {
            let finder = SlotFinder::new(bases);
            for value in (1..200_000).chain([1 << 22, (1 << 26) - 1, 1 << 26]) {
                let slot = bases.partition_point(|base| *base <= value) - 1;
                assert_eq!(finder.slot_of(value), slot, "{value}");
            }
        }
        assert_eq!(offset_slots_for(1), 0);
        assert_eq!(offset_slots_for(2), 1);
        assert_eq!(offset_slots_for(10), 9);
        assert_eq!(offset_slots_for(14), 10);
    }
}

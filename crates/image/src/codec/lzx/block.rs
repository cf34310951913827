//! What a block consists of, and writing one.

use super::{
    ALIGNED, ALIGNED_SYMBOLS, CodeLengths, DEFAULT_BLOCK_LEN, EXTRA_BITS, LENGTH_HEADERS, LENGTH_SYMBOLS,
    LITERALS, LONGEST_ALIGNED_WORD, LONGEST_PRE_WORD, LONGEST_WORD, MAX_MAIN_SYMBOLS, MIN_MATCH, OFFSET_BIAS,
    PRE_SYMBOLS, SLOT_BASES, VERBATIM,
};
use crate::codec::{
    bits::BitWriter,
    huffman::{lengths_for, words_for},
};

/// A literal or a match.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Item {
    /// What is written for the distance: 0, 1 and 2 for recent ones, else distance + 2.
    pub written: u32,
    /// Length of the match; of a literal, the byte.
    pub len: u16,
    /// Position slot; [`Item::LITERAL`] for a literal.
    pub slot: u8,
}

impl Item {
    pub(super) const LITERAL: u8 = u8::MAX;

    pub(super) const fn literal(byte: u8) -> Self {
        Self { written: 0, len: byte as u16, slot: Self::LITERAL }
    }

    /// A match by what is written for its distance.
    pub(super) const fn with_written(written: u32, len: usize) -> Self {
        Self { written, len: len as u16, slot: slot_of(written) as u8 }
    }

    pub(super) const fn is_literal(self) -> bool {
        self.slot == Self::LITERAL
    }

    /// Number of bytes that it stands for.
    pub(super) const fn raw_len(self) -> usize {
        if self.is_literal() { 1 } else { self.len as usize }
    }

    const fn main_symbol(self) -> usize {
        if self.is_literal() {
            return self.len as usize;
        }
        let len = self.len as usize - MIN_MATCH;
        let header = if len < LENGTH_HEADERS - 1 { len } else { LENGTH_HEADERS - 1 };
        LITERALS + self.slot as usize * LENGTH_HEADERS + header
    }

    const fn length_symbol(self) -> Option<usize> {
        if self.is_literal() { None } else { (self.len as usize).checked_sub(MIN_MATCH + LENGTH_HEADERS - 1) }
    }

    /// The low three bits of the offset, where an aligned block has a code for them.
    const fn aligned_symbol(self) -> Option<usize> {
        if self.is_literal() || EXTRA_BITS[self.slot as usize] < 3 {
            return None;
        }
        Some(((self.written - SLOT_BASES[self.slot as usize]) & 7) as usize)
    }
}

/// The position slot of a written offset.
pub(super) const fn slot_of(written: u32) -> usize {
    if written < 4 {
        return written as usize;
    }
    if written >= SLOT_BASES[36] {
        return 34 + (written >> 17) as usize;
    }
    let order = written.ilog2();
    2 * order as usize + (written >> (order - 1) & 1) as usize
}

/// The three distances used last.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Recent(pub [u32; 3]);

impl Recent {
    pub(super) const START: Self = Self([1; 3]);

    /// What they are after `item`.
    pub(super) const fn after(self, item: Item) -> Self {
        if item.is_literal() { self } else { self.after_match(item.written) }
    }

    /// What they are after a match for whose distance this is written.
    #[inline(always)]
    pub(super) const fn after_match(self, written: u32) -> Self {
        let [a, b, c] = self.0;
        match written {
            0 => self,
            1 => Self([b, a, c]),
            2 => Self([c, b, a]),
            written => Self([written - OFFSET_BIAS, a, b]),
        }
    }
}

/// How often each symbol occurs.
#[derive(Clone)]
pub(super) struct Counts {
    pub main: [u32; MAX_MAIN_SYMBOLS],
    pub length: [u32; LENGTH_SYMBOLS],
    pub aligned: [u32; ALIGNED_SYMBOLS],
}

impl Counts {
    pub(super) const fn new() -> Self {
        Self { main: [0; MAX_MAIN_SYMBOLS], length: [0; LENGTH_SYMBOLS], aligned: [0; ALIGNED_SYMBOLS] }
    }

    pub(super) fn clear(&mut self) {
        self.main.fill(0);
        self.length.fill(0);
        self.aligned.fill(0);
    }

    pub(super) fn add(&mut self, item: Item) {
        self.main[item.main_symbol()] += 1;
        if let Some(symbol) = item.length_symbol() {
            self.length[symbol] += 1;
        }
        if let Some(symbol) = item.aligned_symbol() {
            self.aligned[symbol] += 1;
        }
    }

    pub(super) fn add_all(&mut self, other: &Self) {
        let sum = |into: &mut [u32], from: &[u32]| into.iter_mut().zip(from).for_each(|(a, b)| *a += b);
        sum(&mut self.main, &other.main);
        sum(&mut self.length, &other.length);
        sum(&mut self.aligned, &other.aligned);
    }
}

/// Writes blocks one after another.
pub(super) struct BlockWriter {
    main_symbols: usize,
    small_window: bool,
    /// Lengths of the block before and of this one.
    old: CodeLengths,
    new: CodeLengths,
    main_words: [u16; MAX_MAIN_SYMBOLS],
    length_words: [u16; LENGTH_SYMBOLS],
    aligned_words: [u16; ALIGNED_SYMBOLS],
    /// Symbols of the pre-tree with the value and number of the bits that follow each.
    runs: Vec<(u8, u8, u8)>,
}

impl BlockWriter {
    pub(super) fn new(main_symbols: usize, small_window: bool) -> Self {
        Self {
            main_symbols,
            small_window,
            old: CodeLengths::new(),
            new: CodeLengths::new(),
            main_words: [0; MAX_MAIN_SYMBOLS],
            length_words: [0; LENGTH_SYMBOLS],
            aligned_words: [0; ALIGNED_SYMBOLS],
            runs: Vec::with_capacity(MAX_MAIN_SYMBOLS),
        }
    }

    /// Begins a chunk.
    pub(super) fn start(&mut self) {
        self.old = CodeLengths::new();
    }

    /// Writes the block of these items, which stand for `raw_len` bytes and have these counts.
    pub(super) fn write(
        &mut self,
        items: &[Item],
        counts: &Counts,
        raw_len: usize,
        writer: &mut BitWriter<'_>,
    ) {
        lengths_for(&counts.main[..self.main_symbols], LONGEST_WORD, &mut self.new.main[..self.main_symbols]);
        lengths_for(&counts.length, LONGEST_WORD, &mut self.new.length);
        lengths_for(&counts.aligned, LONGEST_ALIGNED_WORD, &mut self.new.aligned);
        words_for(&self.new.main[..self.main_symbols], &mut self.main_words);
        words_for(&self.new.length, &mut self.length_words);
        words_for(&self.new.aligned, &mut self.aligned_words);
        let pairs = counts.aligned.iter().zip(&self.new.aligned);
        let saved: i64 = pairs.map(|(count, length)| i64::from(*count) * (3 - i64::from(*length))).sum();
        let with_aligned = saved > 3 * ALIGNED_SYMBOLS as i64;

        writer.put(if with_aligned { ALIGNED } else { VERBATIM }, 3);
        if raw_len == DEFAULT_BLOCK_LEN {
            writer.put(1, 1);
        } else {
            writer.put(0, 1);
            writer.put(raw_len as u32, if self.small_window { 16 } else { 24 });
        }
        if with_aligned {
            for length in &self.new.aligned {
                writer.put(u32::from(*length), 3);
            }
        }
        let (old, new) = (&self.old, &self.new);
        write_lengths(&old.main[..LITERALS], &new.main[..LITERALS], &mut self.runs, writer);
        let matches = LITERALS..self.main_symbols;
        write_lengths(&old.main[matches.clone()], &new.main[matches], &mut self.runs, writer);
        write_lengths(&old.length, &new.length, &mut self.runs, writer);
        self.write_items(items, with_aligned, writer);
        self.old.clone_from(&self.new);
    }

    fn write_items(&self, items: &[Item], with_aligned: bool, writer: &mut BitWriter<'_>) {
        for item in items {
            let symbol = item.main_symbol();
            writer.put(u32::from(self.main_words[symbol]), u32::from(self.new.main[symbol]));
            if item.is_literal() {
                continue;
            }
            if let Some(symbol) = item.length_symbol() {
                writer.put(u32::from(self.length_words[symbol]), u32::from(self.new.length[symbol]));
            }
            let slot = usize::from(item.slot);
            let (bits, extra) = (u32::from(EXTRA_BITS[slot]), item.written - SLOT_BASES[slot]);
            match item.aligned_symbol() {
                Some(symbol) if with_aligned => {
                    writer.put(extra >> 3, bits - 3);
                    writer.put(u32::from(self.aligned_words[symbol]), u32::from(self.new.aligned[symbol]));
                }
                _ => writer.put(extra, bits),
            }
        }
    }
}

/// Writes code lengths as differences, with runs, behind a pre-tree of their own ([MS-PATCH] 2.5).
fn write_lengths(old: &[u8], new: &[u8], runs: &mut Vec<(u8, u8, u8)>, writer: &mut BitWriter<'_>) {
    let difference = |at: usize| (old[at] + 17 - new[at]) % 17;
    runs.clear();
    let mut at = 0;
    while at < new.len() {
        let len = new[at..].iter().take_while(|length| **length == new[at]).count();
        if new[at] == 0 && len >= 20 {
            let run = len.min(20 + 31);
            runs.push((18, (run - 20) as u8, 5));
            at += run;
        } else if new[at] == 0 && len >= 4 {
            let run = len.min(4 + 15);
            runs.push((17, (run - 4) as u8, 4));
            at += run;
        } else if new[at] != 0 && len >= 4 {
            let run = len.min(5);
            runs.push((19, (run - 4) as u8, 1));
            // What follows code 19 is a code itself and is written right after its bit.
            runs.push((difference(at), 0, 0));
            at += run;
        } else {
            runs.push((difference(at), 0, 0));
            at += 1;
        }
    }
    let mut counts = [0; PRE_SYMBOLS];
    for (symbol, _, _) in runs.iter() {
        counts[usize::from(*symbol)] += 1;
    }
    let (mut lengths, mut words) = ([0; PRE_SYMBOLS], [0; PRE_SYMBOLS]);
    lengths_for(&counts, LONGEST_PRE_WORD, &mut lengths);
    words_for(&lengths, &mut words);
    for length in lengths {
        writer.put(u32::from(length), 4);
    }
    for (symbol, value, bits) in runs.iter() {
        let symbol = usize::from(*symbol);
        writer.put(u32::from(words[symbol]), u32::from(lengths[symbol]));
        writer.put(u32::from(*value), u32::from(*bits));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_slot_of_every_offset() {
        for slot in 0..super::super::MAX_SLOTS {
            assert_eq!(slot_of(SLOT_BASES[slot]), slot);
            assert_eq!(slot_of(SLOT_BASES[slot + 1] - 1), slot);
        }
    }
}

//! Canonical prefix codes: shorter words first, words of one length in the order of their symbols.

use super::{Fault, boxed};

/// Longest word of any code here, in bits.
pub(crate) const MAX_WORD_LEN: usize = 16;
/// Most symbols of any code here.
pub(crate) const MAX_SYMBOLS: usize = 1024;

/// An entry that leads to a second table.
const SECOND: u32 = 1 << 31;

/// A table that turns the next bits of a stream into a symbol.
///
/// `ROOT` bits are looked up at once; longer words need a second look, in tables that lie behind. An entry holds the
/// symbol above its low 8 bits and the length of the word in them; 0 stands for bits that begin no word. `SIZE` is a
/// power of two, so that an index cut to its bits is always inside.
pub(crate) struct DecodeTable<const ROOT: usize, const SIZE: usize> {
    entries: Box<[u32; SIZE]>,
    sorted: Vec<u16>,
}

impl<const ROOT: usize, const SIZE: usize> DecodeTable<ROOT, SIZE> {
    /// An empty table for codes of up to `symbols` symbols with words of up to `longest` bits. `SIZE` must suffice for
    /// the worst of them.
    pub(crate) fn new(symbols: usize, longest: usize) -> Self {
        let second = if longest > ROOT { symbols << (longest - ROOT) } else { 0 };
        assert!(SIZE.is_power_of_two() && SIZE >= (1 << ROOT) + second);
        Self { entries: boxed(0), sorted: vec![0; symbols] }
    }

    /// Takes the lengths of all words, 0 for symbols without one. `code` names the code in the error, which arises
    /// when there are more words than bits allow. A code with too few words is accepted: what they leave open
    /// decodes to nothing.
    pub(crate) fn build(&mut self, lengths: &[u8], code: &'static str) -> Result<(), Fault> {
        let mut counts = [0_u16; MAX_WORD_LEN + 1];
        for length in lengths {
            counts[usize::from(*length)] += 1;
        }
        // Position of the first symbol of each length among the sorted ones.
        let mut places = [0_u16; MAX_WORD_LEN + 2];
        let mut used = 0_u32;
        for length in 1..=MAX_WORD_LEN {
            places[length + 1] = places[length] + counts[length];
            used += u32::from(counts[length]) << (MAX_WORD_LEN - length);
        }
        if used > 1 << MAX_WORD_LEN {
            return Err(Fault::BadCode(code));
        }
        let mut next = places;
        for (symbol, length) in lengths.iter().enumerate() {
            if *length > 0 {
                let place = &mut next[usize::from(*length)];
                self.sorted[usize::from(*place)] = symbol as u16;
                *place += 1;
            }
        }
        // Words in order, left-justified, fill the table from its start to its end.
        let mut at = 0_usize;
        for length in 1..=ROOT.min(MAX_WORD_LEN) {
            let width = 1 << (ROOT - length);
            for symbol in &self.sorted[usize::from(places[length])..usize::from(places[length + 1])] {
                self.entries[at..at + width].fill(u32::from(*symbol) << 8 | length as u32);
                at += width;
            }
        }
        self.entries[at..1 << ROOT].fill(0);
        if ROOT < MAX_WORD_LEN {
            self.build_second(&places, at);
        }
        Ok(())
    }

    /// Second tables for the words longer than `ROOT`, the first of which begins root entry `at`.
    fn build_second(&mut self, places: &[u16; MAX_WORD_LEN + 2], mut at: usize) {
        let longest = (ROOT + 1..=MAX_WORD_LEN).rev().find(|length| places[*length] != places[length + 1]);
        let Some(longest) = longest else { return };
        // All second tables are as wide as the longest word needs; codes with long words are rare.
        let bits = longest - ROOT;
        let mut filled = 1 << ROOT;
        for length in ROOT + 1..=longest {
            let width = 1 << (longest - length);
            for n in places[length]..places[length + 1] {
                if filled & ((1 << bits) - 1) == 0 {
                    self.entries[at] = SECOND | (filled as u32) << 8 | (64 - bits) as u32;
                    self.entries[filled..filled + (1 << bits)].fill(0);
                    at += 1;
                }
                let symbol = u32::from(self.sorted[usize::from(n)]);
                self.entries[filled..filled + width].fill(symbol << 8 | length as u32);
                filled += width;
            }
        }
    }

    /// The entry for the bits on top of `bits`.
    #[inline(always)]
    pub(crate) fn look_up(&self, bits: u64) -> u32 {
        let entry = self.entries[(bits >> (64 - ROOT)) as usize & (SIZE - 1)];
        if entry & SECOND == 0 {
            return entry;
        }
        let index = (bits << ROOT) >> (entry & 63);
        self.entries[(((entry & !SECOND) >> 8) as usize + index as usize) & (SIZE - 1)]
    }
}

/// Makes lengths for a code whose symbols occur `counts` times: a Huffman code, except that no word is longer than
/// `longest` bits. Symbols that do not occur get no word. A single symbol gets a companion, because readers may
/// insist on codes that leave nothing open.
///
/// Of equally good codes it makes the one that LZMS prescribes: of two equal sums a symbol is taken before a node.
pub(crate) fn lengths_for(counts: &[u32], longest: usize, lengths: &mut [u8]) {
    const SYMBOL_BITS: u32 = 10;
    const SYMBOL_MASK: u32 = (1 << SYMBOL_BITS) - 1;
    lengths.fill(0);
    let mut leaves = [0_u32; MAX_SYMBOLS];
    let mut n = 0;
    for (symbol, count) in counts.iter().enumerate() {
        if *count > 0 {
            leaves[n] = (*count).min(u32::MAX >> SYMBOL_BITS) << SYMBOL_BITS | symbol as u32;
            n += 1;
        }
    }
    let leaves = &mut leaves[..n];
    if n < 2 {
        if let Some(leaf) = leaves.first() {
            let symbol = (leaf & SYMBOL_MASK) as usize;
            lengths[symbol] = 1;
            if let Some(companion) = lengths.get_mut(usize::from(symbol == 0)) {
                *companion = 1;
            }
        }
        return;
    }
    leaves.sort_unstable();
    // Inner nodes come into being in the order of their sums, so the two smallest are always at the fronts.
    let mut sums = [0_u32; MAX_SYMBOLS];
    let mut parents = [0_u16; MAX_SYMBOLS];
    let (mut leaf, mut node) = (0, 0);
    for new in 0..n - 1 {
        let mut sum = 0;
        for _ in 0..2 {
            if leaf < n && (node == new || leaves[leaf] >> SYMBOL_BITS <= sums[node]) {
                sum += leaves[leaf] >> SYMBOL_BITS;
                leaf += 1;
            } else {
                sum += sums[node];
                parents[node] = new as u16;
                node += 1;
            }
        }
        sums[new] = sum;
    }
    // How many words of each length: each inner node splits one word of its depth into two that are longer.
    let mut words = [0_u16; MAX_WORD_LEN + 2];
    words[1] = 2;
    let mut depths = [0_u8; MAX_SYMBOLS];
    for node in (0..n - 2).rev() {
        let depth = depths[usize::from(parents[node])] + 1;
        depths[node] = depth;
        let mut length = usize::from(depth);
        if length >= longest {
            length = longest - 1;
            while words[length] == 0 {
                length -= 1;
            }
        }
        words[length] -= 1;
        words[length + 1] += 2;
    }
    let mut next = 0;
    for length in (1..=longest).rev() {
        for _ in 0..words[length] {
            lengths[(leaves[next] & SYMBOL_MASK) as usize] = length as u8;
            next += 1;
        }
    }
}

/// The words of the canonical code with these lengths.
pub(crate) fn words_for(lengths: &[u8], words: &mut [u16]) {
    let mut counts = [0_u32; MAX_WORD_LEN + 1];
    for length in lengths {
        counts[usize::from(*length)] += 1;
    }
    counts[0] = 0;
    let mut next = [0_u32; MAX_WORD_LEN + 1];
    for length in 1..=MAX_WORD_LEN {
        next[length] = (next[length - 1] + counts[length - 1]) << 1;
    }
    for (length, word) in lengths.iter().zip(words) {
        *word = next[usize::from(*length)] as u16;
        next[usize::from(*length)] += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_complete_limited_and_decodable() {
        let mut state = 12345_u32;
        for symbols in [2_usize, 3, 20, 249, 512, 656] {
            for skew in [1_u32, 3, 9, 28] {
                let counts: Vec<u32> = (0..symbols)
                    .map(|n| {
                        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                        if n % 5 == 4 { 0 } else { 1 << ((state >> 16) % skew) }
                    })
                    .collect();
                let mut lengths = vec![0; symbols];
                lengths_for(&counts, 15, &mut lengths);
                let kraft: u32 = lengths.iter().filter(|l| **l > 0).map(|l| 1 << (15 - l)).sum();
                assert_eq!(kraft, 1 << 15, "{symbols} {skew}");
                assert!(lengths.iter().zip(&counts).all(|(l, c)| (*l > 0) == (*c > 0)));
                let mut words = vec![0; symbols];
                words_for(&lengths, &mut words);
                let mut table = DecodeTable::<8, 262_144>::new(symbols, 15);
                table.build(&lengths, "test").unwrap();
                for symbol in (0..symbols).filter(|symbol| lengths[*symbol] > 0) {
                    let length = u32::from(lengths[symbol]);
                    let bits = (u64::from(words[symbol]) << (64 - length)) | (u64::MAX >> length >> 1);
                    assert_eq!(table.look_up(bits), (symbol as u32) << 8 | length);
                }
            }
        }
    }

    #[test]
    fn codes_with_one_symbol_or_none_and_impossible_ones() {
        let mut lengths = [9; 4];
        lengths_for(&[0, 0, 5, 0], 15, &mut lengths);
        assert_eq!(lengths, [1, 0, 1, 0]);
        lengths_for(&[7, 0, 0, 0], 15, &mut lengths);
        assert_eq!(lengths, [1, 1, 0, 0]);
        lengths_for(&[0; 4], 15, &mut lengths);
        assert_eq!(lengths, [0; 4]);
        let mut table = DecodeTable::<8, 4096>::new(4, 15);
        table.build(&lengths, "test").unwrap();
        assert_eq!(table.look_up(u64::MAX), 0);
        assert_eq!(table.build(&[1, 1, 1, 0], "test"), Err(Fault::BadCode("test")));
        table.build(&[0, 12, 0, 0], "test").unwrap();
        assert_eq!(table.look_up(0), 1 << 8 | 12);
        assert_eq!(table.look_up(u64::MAX), 0);
    }
}

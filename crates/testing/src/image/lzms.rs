//! An encoder of LZMS chunks for the tests: literals and matches at distances that are written out, without choosing
//! well. It mirrors the description of the decoder and shares no code with it.

struct Adaptive {
    counts: Vec<u32>,
    period: u32,
    left: u32,
    lengths: Vec<u32>,
}

impl Adaptive {
    fn new(symbols: usize, period: u32) -> Self {
        let mut code = Self { counts: vec![1; symbols], period, left: period, lengths: vec![0; symbols] };
        code.build();
        code
    }

    /// A Huffman code by the book: the two smallest are joined, symbols before nodes, older nodes before younger.
    fn build(&mut self) {
        // (count, is a node, number, symbols below)
        let mut heap: Vec<(u32, bool, usize, Vec<usize>)> =
            self.counts.iter().enumerate().map(|(n, count)| (*count, false, n, vec![n])).collect();
        self.lengths.fill(u32::from(heap.len() == 1));
        let mut number = 0;
        while heap.len() > 1 {
            heap.sort_by_key(|node| std::cmp::Reverse((node.0, node.1, node.2)));
            let (a, b) = (heap.pop().unwrap(), heap.pop().unwrap());
            let below: Vec<usize> = a.3.into_iter().chain(b.3).collect();
            below.iter().for_each(|symbol| self.lengths[*symbol] += 1);
            heap.push((a.0 + b.0, true, number, below));
            number += 1;
        }
        // Words of one length go to the symbols that occur least; ties by number. The tree above may hang them otherwise.
        let mut sorted: Vec<usize> = (0..self.counts.len()).collect();
        sorted.sort_by_key(|symbol| (self.counts[*symbol], *symbol));
        let mut lengths = self.lengths.clone();
        lengths.sort_unstable_by(|a, b| b.cmp(a));
        assert!(lengths[0] <= 15);
        for (symbol, length) in sorted.into_iter().zip(lengths) {
            self.lengths[symbol] = length;
        }
    }

    fn put(&mut self, symbol: usize, bits: &mut Vec<u8>) {
        // The word is looked for by decoding: whichever bits give the symbol.
        let length = self.lengths[symbol];
        let mut next = 0_u32;
        let mut word = 0;
        for l in 1..=15 {
            next <<= 1;
            for (s, own) in self.lengths.iter().enumerate() {
                if *own == l {
                    if s == symbol {
                        word = next;
                    }
                    next += 1;
                }
            }
        }
        bits.extend((0..length).rev().map(|n| (word >> n & 1) as u8));
        self.counts[symbol] += 1;
        self.left -= 1;
        if self.left == 0 {
            self.build();
            self.left = self.period;
            self.counts.iter_mut().for_each(|count| *count = (*count >> 1) + 1);
        }
    }
}

struct Decision {
    states: Vec<(u32, u64)>,
    state: usize,
}

impl Decision {
    fn new(count: usize) -> Self {
        Self { states: vec![(48, 0x5555_5555); count], state: 0 }
    }
}

/// A carry-propagating range encoder of 16-bit words.
struct Range {
    low: u64,
    range: u32,
    words: Vec<u16>,
}

impl Range {
    fn put(&mut self, bit: bool, decision: &mut Decision) {
        let count = decision.states.len();
        let entry = &mut decision.states[decision.state];
        let zeros = entry.0.clamp(1, 63);
        if self.range <= 0xFFFF {
            self.range <<= 16;
            self.shift();
        }
        let bound = (self.range >> 6) * zeros;
        if bit {
            self.low += u64::from(bound);
            self.range -= bound;
        } else {
            self.range = bound;
        }
        entry.0 = entry.0 + (entry.1 >> 63) as u32 - u32::from(bit);
        entry.1 = entry.1 << 1 | u64::from(bit);
        decision.state = (decision.state << 1 | usize::from(bit)) % count;
    }

    fn shift(&mut self) {
        if self.low >> 32 != 0 {
            for word in self.words.iter_mut().rev() {
                *word = word.wrapping_add(1);
                if *word != 0 {
                    break;
                }
            }
        }
        self.words.push((self.low >> 16) as u16);
        self.low = (self.low & 0xFFFF) << 16;
    }
}

/// Width of each offset and length slot, by the runs of the description.
fn slots(runs: &[u32]) -> Vec<(u32, u32)> {
    let widths: Vec<u32> =
        runs.iter().enumerate().flat_map(|(order, run)| vec![order as u32; *run as usize]).collect();
    // Each base is one width after the one before; what follows a slot is as wide as the step to the next.
    let bases: Vec<u32> = widths
        .iter()
        .scan(0, |base, order| {
            *base += 1 << order;
            Some(*base)
        })
        .collect();
    (0..bases.len()).map(|n| (bases[n], widths.get(n + 1).copied().unwrap_or(30))).collect()
}

pub enum Item {
    Literal(u8),
    Match { distance: u32, len: u32 },
    Repeat { index: usize, len: u32 },
    Delta { power: u32, offset: u32, len: u32 },
}

/// Encodes items that stand for `len` bytes.
pub fn encode(items: &[Item], len: usize) -> Vec<u8> {
    let offset_slots =
        slots(&[9, 0, 9, 7, 10, 15, 15, 20, 20, 30, 33, 40, 42, 45, 60, 73, 80, 85, 95, 105, 6]);
    let length_slots = slots(&[27, 4, 6, 4, 5, 2, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0, 1]);
    let used = offset_slots.iter().filter(|(base, _)| (*base as usize) < len).count();
    let mut literals = Adaptive::new(256, 1024);
    let mut offsets = Adaptive::new(used, 1024);
    let mut lengths = Adaptive::new(54, 512);
    let mut delta_offsets = Adaptive::new(used, 1024);
    let mut powers = Adaptive::new(8, 512);
    let (mut is_match, mut is_delta) = (Decision::new(16), Decision::new(32));
    let (mut repeats, mut delta_repeats) = (Decision::new(64), Decision::new(64));
    let mut later = [Decision::new(64), Decision::new(64)];
    let mut range = Range { low: 0, range: u32::MAX, words: Vec::new() };
    let mut bits: Vec<u8> = Vec::new();
    let value = |code: &mut Adaptive, slots: &[(u32, u32)], value: u32, bits: &mut Vec<u8>| {
        let slot = slots.iter().rposition(|(base, _)| *base <= value).unwrap();
        code.put(slot, bits);
        bits.extend((0..slots[slot].1).rev().map(|n| ((value - slots[slot].0) >> n & 1) as u8));
    };
    for item in items {
        match item {
            Item::Literal(byte) => {
                range.put(false, &mut is_match);
                literals.put(usize::from(*byte), &mut bits);
            }
            Item::Match { distance, len } => {
                range.put(true, &mut is_match);
                range.put(false, &mut is_delta);
                range.put(false, &mut repeats);
                value(&mut offsets, &offset_slots, *distance, &mut bits);
                value(&mut lengths, &length_slots, *len, &mut bits);
            }
            Item::Repeat { index, len } => {
                range.put(true, &mut is_match);
                range.put(false, &mut is_delta);
                range.put(true, &mut repeats);
                range.put(*index > 0, &mut later[0]);
                if *index > 0 {
                    range.put(*index > 1, &mut later[1]);
                }
                value(&mut lengths, &length_slots, *len, &mut bits);
            }
            Item::Delta { power, offset, len } => {
                range.put(true, &mut is_match);
                range.put(true, &mut is_delta);
                range.put(false, &mut delta_repeats);
                powers.put(*power as usize, &mut bits);
                value(&mut delta_offsets, &offset_slots, *offset, &mut bits);
                value(&mut lengths, &length_slots, *len, &mut bits);
            }
        }
    }
    (0..4).for_each(|_| range.shift());
    // The first word of the encoder holds what carries out of it; the decoder begins with the one after the carry's.
    let mut bytes: Vec<u8> = range.words.iter().flat_map(|word| word.to_le_bytes()).collect();
    bits.resize(bits.len().next_multiple_of(16), 0);
    let words: Vec<u16> =
        bits.chunks(16).map(|word| word.iter().fold(0, |w, bit| w << 1 | u16::from(*bit))).collect();
    bytes.extend(words.iter().rev().flat_map(|word| word.to_le_bytes()));
    bytes
}

//! An encoder of LZMS chunks for the tests (literals and matches that are written out, without choosing well) and a
//! slow decoder. Both follow the description of the method and share no code with the product.

use super::bits::Code;

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
        assert!(lengths.iter().all(|length| *length <= 15));
        for (symbol, length) in sorted.into_iter().zip(lengths) {
            self.lengths[symbol] = length;
        }
    }

    fn count(&mut self, symbol: usize) {
        self.counts[symbol] += 1;
        self.left -= 1;
        if self.left == 0 {
            self.build();
            self.left = self.period;
            self.counts.iter_mut().for_each(|count| *count = (*count >> 1) + 1);
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
        self.count(symbol);
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

const OFFSET_RUNS: [u32; 21] =
    [9, 0, 9, 7, 10, 15, 15, 20, 20, 30, 33, 40, 42, 45, 60, 73, 80, 85, 95, 105, 6];
const LENGTH_RUNS: [u32; 17] = [27, 4, 6, 4, 5, 2, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0, 1];

/// Encodes items that stand for `len` bytes.
pub fn encode(items: &[Item], len: usize) -> Vec<u8> {
    let (offset_slots, length_slots) = (slots(&OFFSET_RUNS), slots(&LENGTH_RUNS));
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

/// What a chunk was made of.
#[derive(Debug, Default)]
pub struct Seen {
    pub literals: usize,
    pub matches: usize,
    /// By the number of the distance that was repeated.
    pub repeats: [usize; 3],
    /// The same, straight after a match.
    pub repeats_after_match: [usize; 3],
    /// By power.
    pub deltas: [usize; 8],
    pub delta_repeats: [usize; 3],
    /// Codes made anew.
    pub rebuilt: usize,
    /// Operands of instructions that were made relative.
    pub translated: usize,
    pub longest: u32,
}

/// The two ends of a chunk.
struct Ends<'a> {
    packed: &'a [u8],
    front: usize,
    range: u64,
    code: u64,
    /// Bits taken from the end.
    back: usize,
}

impl Ends<'_> {
    fn front_word(&mut self) -> Option<u64> {
        let word = self.packed.get(self.front..self.front + 2)?;
        self.front += 2;
        Some(u64::from(word[0]) | u64::from(word[1]) << 8)
    }

    fn decide(&mut self, decision: &mut Decision) -> Option<bool> {
        let count = decision.states.len();
        // Zeros are counted over: each state remembers its last 64 outcomes.
        let (_, outcomes) = &mut decision.states[decision.state];
        let zeros = u64::from(outcomes.count_zeros()).clamp(1, 63);
        while self.range < 1 << 16 {
            self.range <<= 16;
            self.code = self.code << 16 | self.front_word()?;
        }
        let bound = self.range / 64 * zeros;
        let one = self.code >= bound;
        if one {
            (self.range, self.code) = (self.range - bound, self.code - bound);
        } else {
            self.range = bound;
        }
        *outcomes = *outcomes << 1 | u64::from(one);
        decision.state = (decision.state * 2 + usize::from(one)) % count;
        Some(one)
    }

    fn bit(&mut self) -> Option<u32> {
        let at = self.packed.len().checked_sub(2 * (self.back / 16 + 1))?;
        let word = u32::from(self.packed[at]) | u32::from(self.packed[at + 1]) << 8;
        let bit = word >> (15 - self.back % 16) & 1;
        self.back += 1;
        Some(bit)
    }

    fn symbol(&mut self, code: &mut Adaptive, words: &mut Code, seen: &mut Seen) -> Option<usize> {
        let symbol = words.symbol(|| self.bit())?;
        code.count(symbol);
        if code.left == code.period {
            *words = Code::new(&code.lengths);
            seen.rebuilt += 1;
        }
        Some(symbol)
    }
}

/// Decodes a chunk of `len` bytes, slowly; nothing if it is none.
pub fn decode(packed: &[u8], len: usize) -> Option<(Vec<u8>, Seen)> {
    let (offset_slots, length_slots) = (slots(&OFFSET_RUNS), slots(&LENGTH_RUNS));
    let used = offset_slots.iter().filter(|(base, _)| (*base as usize) < len).count();
    let code = |symbols, period| {
        let code = Adaptive::new(symbols, period);
        let words = Code::new(&code.lengths);
        (code, words)
    };
    let mut literals = code(256, 1024);
    let mut offsets = code(used, 1024);
    let mut lengths = code(54, 512);
    let mut delta_offsets = code(used, 1024);
    let mut powers = code(8, 512);
    let mut decisions: Vec<Decision> =
        [16, 32, 64, 64, 64, 64, 64, 64].into_iter().map(Decision::new).collect();
    let [is_match, is_delta, repeats, later, last, delta_repeats, delta_later, delta_last] =
        &mut decisions[..]
    else {
        return None;
    };
    let mut ends = Ends { packed, front: 0, range: 0xFFFF_FFFF, code: 0, back: 0 };
    ends.code = ends.front_word()? << 16 | ends.front_word()?;
    let mut seen = Seen::default();
    let mut raw: Vec<u8> = Vec::new();
    // Distances used, the newest last; what the item before used itself is no candidate for it.
    let mut recent: Vec<u64> = vec![4, 3, 2, 1];
    let mut recent_deltas: Vec<(u64, usize)> = vec![(4, 0), (3, 0), (2, 0), (1, 0)];
    let mut before = ' ';
    let value = |ends: &mut Ends<'_>,
                 code: &mut (Adaptive, Code),
                 slots: &[(u32, u32)],
                 seen: &mut Seen|
     -> Option<u64> {
        let slot = ends.symbol(&mut code.0, &mut code.1, seen)?;
        let (base, bits) = slots[slot];
        let extra = (0..bits).try_fold(0, |value, _| Some(value << 1 | u64::from(ends.bit()?)))?;
        Some(u64::from(base) + extra)
    };
    while raw.len() < len {
        if !ends.decide(is_match)? {
            let symbol = ends.symbol(&mut literals.0, &mut literals.1, &mut seen)?;
            raw.push(symbol as u8);
            seen.literals += 1;
            before = ' ';
            continue;
        }
        if ends.decide(is_delta)? {
            let (offset, power) = if ends.decide(delta_repeats)? {
                let n = usize::from(ends.decide(delta_later)?);
                let n = if n == 1 { 1 + usize::from(ends.decide(delta_last)?) } else { 0 };
                seen.delta_repeats[n] += 1;
                recent_deltas.remove(recent_deltas.len() - 1 - n - usize::from(before == 'd'))
            } else {
                let power = ends.symbol(&mut powers.0, &mut powers.1, &mut seen)?;
                seen.deltas[power] += 1;
                (value(&mut ends, &mut delta_offsets, &offset_slots, &mut seen)?, power)
            };
            recent_deltas.push((offset, power));
            let span = 1_usize << power;
            let distance = (offset as usize) << power;
            before = 'd';
            for _ in 0..value(&mut ends, &mut lengths, &length_slots, &mut seen)? {
                let at = raw.len();
                let step =
                    raw.get(at.checked_sub(distance)?)?.wrapping_sub(raw[at.checked_sub(distance + span)?]);
                raw.push(raw[at - span].wrapping_add(step));
            }
        } else {
            let distance = if ends.decide(repeats)? {
                let n = usize::from(ends.decide(later)?);
                let n = if n == 1 { 1 + usize::from(ends.decide(last)?) } else { 0 };
                if before == 'm' {
                    seen.repeats_after_match[n] += 1;
                } else {
                    seen.repeats[n] += 1;
                }
                recent.remove(recent.len() - 1 - n - usize::from(before == 'm'))
            } else {
                seen.matches += 1;
                value(&mut ends, &mut offsets, &offset_slots, &mut seen)?
            };
            recent.push(distance);
            before = 'm';
            let len = value(&mut ends, &mut lengths, &length_slots, &mut seen)?;
            seen.longest = seen.longest.max(len as u32);
            for _ in 0..len {
                raw.push(*raw.get(raw.len().checked_sub(distance as usize)?)?);
            }
        }
    }
    (raw.len() == len).then_some(())?;
    seen.translated = make_relative(&mut raw);
    Some((raw, seen))
}

/// Makes absolute addresses in instructions relative again; returns how many.
fn make_relative(raw: &mut [u8]) -> usize {
    // Bytes of each instruction that is looked for, a mask for its third one, and how near a sign must be.
    const INSTRUCTIONS: [(&[u8], u8, i64); 9] = [
        (&[0x48, 0x8B, 0x05], 0xFF, 1023),
        (&[0x48, 0x8B, 0x0D], 0xFF, 1023),
        (&[0xF0, 0x83, 0x05], 0xFF, 1023),
        (&[0x48, 0x8D, 0x05], 0x07, 1023),
        (&[0x4C, 0x8D, 0x05], 0x07, 1023),
        (&[0xFF, 0x15], 0xFF, 1023),
        (&[0xE8], 0xFF, 511),
        (&[0xE9], 0xFF, -1),
        (&[], 0xFF, -2),
    ];
    let mut last_use = std::collections::HashMap::new();
    let mut sign = i64::MIN / 2;
    let mut changed = 0;
    let mut at = 1;
    while raw.len() > 17 && at < raw.len() - 16 {
        let found = INSTRUCTIONS.iter().find(|(bytes, mask, _)| {
            bytes.iter().enumerate().all(|(n, byte)| raw[at + n] & if n == 2 { *mask } else { 0xFF } == *byte)
        });
        let Some((bytes, _, near)) = found else { break };
        match near {
            -2 => at += 1,
            -1 => at += 5,
            near => {
                let operand = at + bytes.len();
                let mut address = i32::from_le_bytes(raw[operand..operand + 4].try_into().unwrap());
                if at as i64 - sign <= *near {
                    address = address.wrapping_sub(at as i32);
                    raw[operand..operand + 4].copy_from_slice(&address.to_le_bytes());
                    changed += 1;
                }
                let end = operand as i64 + 3;
                let target = address.wrapping_add(at as i32) as u16;
                if last_use.insert(target, end).is_some_and(|before| end - before <= 65535) {
                    sign = end;
                }
                at = operand + 4;
            }
        }
    }
    changed
}

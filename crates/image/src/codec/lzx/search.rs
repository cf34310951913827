//! Looking for the cheapest way to write a stretch of bytes.

use super::{
    ALIGNED_SYMBOLS, EXTRA_BITS, LENGTH_HEADERS, LENGTH_SYMBOLS, LITERALS, MAX_MAIN_SYMBOLS, MAX_MATCH,
    MAX_SLOTS, MIN_MATCH, OFFSET_BIAS, SLOT_BASES,
    block::{Counts, Item, Recent, slot_of},
    slots_for,
};
use crate::codec::matches::{BinaryTrees, Match, common_len};

/// Units of cost in one bit.
const BIT: u32 = 32;
/// Matches from this length on are taken without asking what they cost.
const NICE: usize = 64;
/// Matches of two bytes at this distance and beyond are not looked at.
const FAR_PAIR: u32 = 400;
/// Earlier positions looked at for each position.
const DEPTH: u32 = 40;
/// The same inside a match that is taken anyway.
const DEPTH_INSIDE: u32 = 8;
/// Bytes of the pieces that a stretch is cut into before neighbours that are alike are joined to blocks.
const UNIT: usize = 2048;

/// A literal or a match in 32 bits, as the search keeps it: the length below (1 for a literal), above it what is written
/// for the distance, or the byte.
#[derive(Clone, Copy, Default)]
struct Choice(u32);

impl Choice {
    const LEN_BITS: u32 = 9;

    const fn literal(byte: u8) -> Self {
        Self((byte as u32) << Self::LEN_BITS | 1)
    }

    const fn len(self) -> usize {
        (self.0 & ((1 << Self::LEN_BITS) - 1)) as usize
    }

    const fn written(self) -> u32 {
        self.0 >> Self::LEN_BITS
    }

    const fn item(self) -> Item {
        if self.len() == 1 {
            Item::literal(self.written() as u8)
        } else {
            Item::with_written(self.written(), self.len())
        }
    }
}

/// A match with what does not depend on costs.
#[derive(Clone, Copy)]
struct Found {
    written: u32,
    len: u16,
    slot: u8,
    /// The low three bits of the offset.
    low: u8,
}

/// Shortest match that needs a length symbol.
const LAST_HEADER: usize = MIN_MATCH + LENGTH_HEADERS - 1;
/// What is never cheaper than anything.
const UNREACHED: i32 = i32::MAX / 2;
/// Lengths that a match can have, and room before the first.
const LENGTHS: usize = MAX_MATCH + 1;

/// What symbols cost.
struct Costs {
    main: [u32; MAX_MAIN_SYMBOLS],
    length: [u32; LENGTH_SYMBOLS],
    aligned: [u32; ALIGNED_SYMBOLS],
    /// For each position slot what main and length symbol cost together, by the length of the match.
    matches: Box<[[u16; LENGTHS]]>,
}

/// Tables for the search, kept from stretch to stretch.
pub(super) struct Search {
    trees: BinaryTrees<3>,
    /// Largest distance that can be written.
    farthest: u32,
    slots: usize,
    matches: Vec<Match>,
    found: Vec<Found>,
    /// Where the matches of each position of the stretch begin in `found`.
    starts: Vec<u32>,
    /// The cheapest known way to each position: its cost and its last step.
    ways: Vec<i32>,
    steps: Vec<Choice>,
    recents: Vec<Recent>,
    costs: Costs,
    units: Vec<Unit>,
    /// What joining each unit with the next saves, in bits.
    savings: Vec<f32>,
    entropy: Entropy,
    counts: Counts,
}

/// A candidate for a block.
#[derive(Clone)]
struct Unit {
    raw_len: usize,
    counts: Counts,
    bits: f32,
}

impl Search {
    /// For chunks of up to `longest_chunk` bytes (the window's size), searched in stretches of up to `longest_stretch`.
    pub(super) fn new(longest_chunk: usize, longest_stretch: usize) -> Self {
        Self {
            trees: BinaryTrees::new(longest_chunk),
            farthest: longest_chunk as u32 - 1 - OFFSET_BIAS,
            slots: slots_for(longest_chunk),
            matches: Vec::with_capacity(64),
            found: Vec::with_capacity(longest_stretch * 4),
            starts: Vec::with_capacity(longest_stretch + 1),
            ways: Vec::with_capacity(longest_stretch + 1),
            steps: Vec::with_capacity(longest_stretch + 1),
            recents: Vec::with_capacity(longest_stretch + 1),
            costs: Costs {
                main: [0; MAX_MAIN_SYMBOLS],
                length: [0; LENGTH_SYMBOLS],
                aligned: [0; ALIGNED_SYMBOLS],
                matches: vec![[0; LENGTHS]; MAX_SLOTS].into(),
            },
            units: Vec::with_capacity(longest_stretch / UNIT + 1),
            savings: Vec::with_capacity(longest_stretch / UNIT + 1),
            entropy: Entropy::new(),
            counts: Counts::new(),
        }
    }

    /// Begins a chunk.
    pub(super) fn start(&mut self) {
        self.trees.start();
    }

    /// Finds the matches of the stretch `from..to` of `data`. Stretches come one after another.
    pub(super) fn find_all(&mut self, data: &[u8], from: usize, to: usize) {
        self.found.clear();
        self.starts.clear();
        let mut at = from;
        while at < to {
            self.starts.push(self.found.len() as u32);
            self.matches.clear();
            self.trees.find::<true>(data, at, DEPTH, NICE, MAX_MATCH, &mut self.matches);
            // Two bytes far back cost more than two literals.
            let useful = |found: &&Match| {
                found.distance <= self.farthest && (found.len > 2 || found.distance < FAR_PAIR)
            };
            let near = self.matches.iter().filter(useful);
            self.found.extend(near.map(|found| {
                let written = found.distance + OFFSET_BIAS;
                let slot = slot_of(written);
                Found {
                    written,
                    len: found.len as u16,
                    slot: slot as u8,
                    low: (written - SLOT_BASES[slot]) as u8 & 7,
                }
            }));
            let first = self.starts[at - from] as usize;
            let longest = self.found[first..].last().map_or(0, |found| usize::from(found.len));
            at += 1;
            if longest >= NICE {
                // Nobody will ask for matches inside one that is taken anyway.
                let end = (at + longest - 1).min(to);
                while at < end {
                    self.starts.push(self.found.len() as u32);
                    self.trees.skip::<true>(data, at, DEPTH_INSIDE, NICE);
                    at += 1;
                }
            }
        }
        self.starts.push(self.found.len() as u32);
    }

    /// Always the longest match: a first guess, from which the first costs come.
    pub(super) fn greedy(&self, data: &[u8], from: usize, to: usize, items: &mut Vec<Item>) {
        items.clear();
        let mut at = from;
        while at < to {
            let (first, last) = (self.starts[at - from] as usize, self.starts[at - from + 1] as usize);
            let best = self.found[first..last]
                .last()
                .map(|found| (usize::from(found.len).min(to - at), found.written));
            match best {
                Some((len, written)) if len > 3 || len == 3 && written < 2048 => {
                    items.push(Item::with_written(written, len));
                    at += len;
                }
                _ => {
                    items.push(Item::literal(data[at]));
                    at += 1;
                }
            }
        }
    }

    /// Takes the costs from what an earlier way used.
    pub(super) fn set_costs(&mut self, items: &[Item]) {
        self.counts.clear();
        items.iter().for_each(|item| self.counts.add(*item));
        let counts = &self.counts;
        set_costs(&counts.main, &mut self.costs.main, 1.0, 10.0);
        set_costs(&counts.length, &mut self.costs.length, 1.0, 11.0);
        set_costs(&counts.aligned, &mut self.costs.aligned, 1.0, 7.0);
        // A block without a code for the low bits writes three of them.
        let bits: u32 =
            counts.aligned.iter().zip(&self.costs.aligned).map(|(count, cost)| count * cost).sum();
        if bits + 3 * 8 * BIT >= 3 * BIT * counts.aligned.iter().sum::<u32>() {
            self.costs.aligned.fill(3 * BIT);
        }
        let headers = self.costs.main[LITERALS..].chunks_exact(LENGTH_HEADERS);
        for (by_length, headers) in self.costs.matches[..self.slots].iter_mut().zip(headers) {
            for (cost, header) in by_length[MIN_MATCH..LAST_HEADER].iter_mut().zip(headers) {
                *cost = *header as u16;
            }
            for (cost, length) in by_length[LAST_HEADER..].iter_mut().zip(&self.costs.length) {
                *cost = (headers[LENGTH_HEADERS - 1] + length) as u16;
            }
        }
    }

    /// The cheapest way from `from` to `to` under the present costs, both in the stretch that begins at `start`.
    pub(super) fn cheapest(
        &mut self,
        data: &[u8],
        start: usize,
        (from, to): (usize, usize),
        recent: Recent,
        items: &mut Vec<Item>,
    ) {
        let len = to - from;
        self.ways.clear();
        self.ways.resize(len + 1, UNREACHED);
        self.steps.clear();
        self.steps.resize(len + 1, Choice::default());
        self.recents.clear();
        self.recents.resize(len + 1, recent);
        self.ways[0] = 0;
        let Self { ways, steps, recents, costs, starts, found, .. } = self;
        let mut here = 0;
        while here < len {
            let at = from + here;
            if here > 0 {
                let step = steps[here];
                let before = recents[here - step.len()];
                recents[here] = if step.len() == 1 { before } else { before.after_match(step.written()) };
            }
            let (cost, recent, room) = (ways[here], recents[here], len - here);
            let byte = data[at];
            let with_literal = cost + costs.main[usize::from(byte)] as i32;
            if with_literal < ways[here + 1] {
                ways[here + 1] = with_literal;
                steps[here + 1] = Choice::literal(byte);
            }
            let limit = room.min(MAX_MATCH);
            if limit < MIN_MATCH {
                here += 1;
                continue;
            }
            let (next_ways, next_steps) = (&mut ways[here..=here + limit], &mut steps[here..=here + limit]);
            let mut jump = 0;
            let pair = [byte, data[at + 1]];
            for (n, distance) in recent.0.iter().enumerate() {
                let distance = *distance as usize;
                if distance > at || data[at - distance] != pair[0] || data[at - distance + 1] != pair[1] {
                    continue;
                }
                let longest = common_len(data, at - distance, at, limit);
                jump = jump.max(if longest >= NICE { longest } else { 0 });
                relax(next_ways, next_steps, &costs.matches[n], cost, n as u32, MIN_MATCH, longest);
            }
            let first = starts[at - start] as usize;
            let last = starts[at - start + 1] as usize;
            let mut shortest = MIN_MATCH;
            for found in &found[first..last] {
                let longest = usize::from(found.len).min(limit);
                if longest < shortest {
                    break;
                }
                let slot = usize::from(found.slot) % MAX_SLOTS;
                let extra = u32::from(EXTRA_BITS[slot]);
                let bits = if extra < 3 {
                    extra * BIT
                } else {
                    (extra - 3) * BIT + costs.aligned[usize::from(found.low) % ALIGNED_SYMBOLS]
                };
                jump = jump.max(if longest >= NICE { longest } else { 0 });
                let cost = cost + bits as i32;
                relax(next_ways, next_steps, &costs.matches[slot], cost, found.written, shortest, longest);
                shortest = longest + 1;
            }
            if jump > 0 {
                // Positions inside were not searched; what leads there leads nowhere.
                next_ways[1..jump].fill(UNREACHED);
                here += jump;
            } else {
                here += 1;
            }
        }
        items.clear();
        let mut here = len;
        while here > 0 {
            let step = steps[here];
            items.push(step.item());
            here -= step.len();
        }
        items.reverse();
    }

    /// Cuts a stretch where what the items use changes: appends the number of raw bytes of each block to `blocks`.
    pub(super) fn cut(&mut self, items: &[Item], blocks: &mut Vec<usize>) {
        self.units.clear();
        self.counts.clear();
        let mut raw_len = 0;
        for (n, item) in items.iter().enumerate() {
            self.counts.add(*item);
            raw_len += item.raw_len();
            if raw_len >= UNIT || n + 1 == items.len() {
                let bits = self.entropy.bits(&self.counts);
                self.units.push(Unit { raw_len, counts: self.counts.clone(), bits });
                self.counts.clear();
                raw_len = 0;
            }
        }
        // Join the two neighbours that save most by sharing their codes, until none do.
        let savings = &mut self.savings;
        savings.clear();
        for pair in self.units.windows(2) {
            savings.push(self.entropy.saving(&pair[0], &pair[1], &mut self.counts));
        }
        while let Some((n, saving)) = savings.iter().copied().enumerate().max_by(|a, b| a.1.total_cmp(&b.1)) {
            if saving <= 0.0 {
                break;
            }
            let next = self.units.remove(n + 1);
            let unit = &mut self.units[n];
            unit.raw_len += next.raw_len;
            unit.counts.add_all(&next.counts);
            unit.bits += next.bits - saving;
            savings.remove(n);
            for n in n.saturating_sub(1)..(n + 1).min(savings.len()) {
                savings[n] = self.entropy.saving(&self.units[n], &self.units[n + 1], &mut self.counts);
            }
        }
        blocks.clear();
        blocks.extend(self.units.iter().map(|unit| unit.raw_len));
    }
}

/// Offers a match with every length from `shortest` to `longest`. `cost` holds all but what `by_length` has.
#[inline(always)]
fn relax(
    ways: &mut [i32],
    steps: &mut [Choice],
    by_length: &[u16; LENGTHS],
    cost: i32,
    written: u32,
    shortest: usize,
    longest: usize,
) {
    let choice = written << Choice::LEN_BITS;
    let (ways, steps) = (&mut ways[shortest..=longest], &mut steps[shortest..=longest]);
    let lengths = by_length[shortest..=longest].iter().zip(shortest as u32..);
    for ((way, step), (extra, len)) in ways.iter_mut().zip(steps).zip(lengths) {
        let offer = cost + i32::from(*extra);
        if offer < *way {
            *way = offer;
            step.0 = choice | len;
        }
    }
}

fn set_costs(counts: &[u32], costs: &mut [u32], least: f32, unseen: f32) {
    let total: u32 = counts.iter().sum();
    let whole = (total.max(1) as f32).log2();
    for (cost, count) in costs.iter_mut().zip(counts) {
        let bits = if *count == 0 {
            unseen.min(whole + 2.0).max(least)
        } else {
            (whole - (*count as f32).log2()).max(least)
        };
        *cost = (bits * BIT as f32) as u32;
    }
}

/// Estimates how many bits a block takes.
struct Entropy {
    /// n × log2(n) for small n.
    products: Vec<f32>,
}

impl Entropy {
    fn new() -> Self {
        Self {
            products: (0..4096).map(|n| if n == 0 { 0.0 } else { n as f32 * (n as f32).log2() }).collect(),
        }
    }

    fn product(&self, n: u32) -> f32 {
        self.products.get(n as usize).copied().unwrap_or_else(|| n as f32 * (n as f32).log2())
    }

    fn bits(&self, counts: &Counts) -> f32 {
        // Header and pre-trees, and for each symbol in use a word of a pre-tree.
        const FIXED: f32 = 400.0;
        const PER_SYMBOL: f32 = 5.0;
        let mut bits = FIXED;
        for symbols in [&counts.main[..], &counts.length[..]] {
            let (mut total, mut used, mut own) = (0, 0, 0.0);
            for count in symbols.iter().filter(|count| **count > 0) {
                total += count;
                used += 1;
                own += self.product(*count);
            }
            bits += self.product(total) - own + used as f32 * PER_SYMBOL;
        }
        bits
    }

    fn saving(&self, a: &Unit, b: &Unit, sum: &mut Counts) -> f32 {
        sum.clone_from(&a.counts);
        sum.add_all(&b.counts);
        a.bits + b.bits - self.bits(sum)
    }
}

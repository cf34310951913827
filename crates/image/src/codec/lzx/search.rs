//! What there is to choose from in a stretch of bytes, what it costs, and where blocks begin.

use super::{
    ALIGNED_SYMBOLS, EXTRA_BITS, LENGTH_HEADERS, LENGTH_SYMBOLS, LITERALS, MAX_MAIN_SYMBOLS, MAX_MATCH,
    MAX_SLOTS, MAX_WINDOW, MIN_MATCH, OFFSET_BIAS,
    block::{Counts, Item, Recent, slot_of},
    cheapest::{Matches, Ways},
    slots_for,
};
use crate::codec::{
    Level, boxed,
    matches::{BinaryTrees, HashChains, Match, common_len},
};

/// Units of cost in one bit.
const BIT: u32 = 32;
/// Matches of two bytes at this distance and beyond are not looked at.
const FAR_PAIR: u32 = 400;

/// How hard the search tries.
#[derive(Clone, Copy)]
pub(super) struct Effort {
    /// Matches from this length on are taken without asking what they cost.
    pub nice: usize,
    /// Lengths up to this one are weighed each with the nearest match; of longer ones only the longest.
    pub each: usize,
    /// Earlier positions looked at for each position.
    pub depth: u32,
    /// The same inside a match that is taken anyway; chains have all positions.
    pub depth_inside: u32,
    /// Whether matches are found by trees, which are thorough, or by chains.
    pub with_trees: bool,
}

impl Effort {
    pub(super) const fn of(level: Level) -> Self {
        match level {
            Level::Fast | Level::Good => {
                Self { nice: 32, each: 12, depth: 16, depth_inside: 0, with_trees: false }
            }
            Level::Max => Self { nice: 128, each: 48, depth: 64, depth_inside: 8, with_trees: true },
        }
    }
}

/// Bytes of the pieces that a stretch is cut into before neighbours that are alike are joined to blocks.
const UNIT: usize = 2048;

/// The nearest match of one length: what is written for its distance, and above it the position slot.
#[derive(Clone, Copy)]
pub(super) struct Found(u32);

impl Found {
    const WRITTEN_BITS: u32 = 22;

    const fn new(written: u32) -> Self {
        const { assert!(MAX_WINDOW + OFFSET_BIAS as usize <= 1 << Self::WRITTEN_BITS) };
        Self((slot_of(written) as u32) << Self::WRITTEN_BITS | written)
    }

    /// What is written for the distance. Its low three bits are those of the offset wherever that has three.
    #[inline(always)]
    pub(super) const fn written(self) -> u32 {
        self.0 & ((1 << Self::WRITTEN_BITS) - 1)
    }

    #[inline(always)]
    pub(super) const fn slot(self) -> usize {
        (self.0 >> Self::WRITTEN_BITS) as usize
    }
}

/// Shortest match that needs a length symbol.
const LAST_HEADER: usize = MIN_MATCH + LENGTH_HEADERS - 1;
/// Lengths that a match can have, and room before the first.
pub(super) const LENGTHS: usize = MAX_MATCH + 1;

/// What symbols cost.
pub(super) struct Costs {
    pub main: [u32; MAX_MAIN_SYMBOLS],
    length: [u32; LENGTH_SYMBOLS],
    aligned: [u32; ALIGNED_SYMBOLS],
    /// For each position slot what main and length symbol cost together, by the length of the match.
    pub matches: Box<[[u16; LENGTHS]; MAX_SLOTS]>,
    /// For each position slot what the bits of the offset cost, by the low three of them.
    pub offsets: [[u16; ALIGNED_SYMBOLS]; MAX_SLOTS],
}

/// What finds matches.
enum Finder {
    Chains(HashChains),
    Trees(BinaryTrees<3>),
}

/// Tables for the search, kept from stretch to stretch.
pub(super) struct Search {
    finder: Finder,
    /// Largest distance that can be written.
    farthest: u32,
    slots: usize,
    matches: Vec<Match>,
    /// For each position of the stretch one entry for each length from 2 to that of its longest match; beyond `each`, only
    /// one for the longest.
    found: Vec<Found>,
    /// Where the entries of each position begin, and how long its longest match is.
    starts: Vec<(u32, u32)>,
    effort: Effort,
    ways: Ways,
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

/// The score that a match must have more of than this to be better than literals: about the cost of saying that there is
/// one.
pub(super) const LEAST_SCORE: i32 = 5;

/// How much a match is worth by a rule of thumb: recent distances cost little, far ones much.
pub(super) const fn score(item: Item) -> i32 {
    let saved = item.len as i32 * 6;
    if item.written <= OFFSET_BIAS { saved + 6 } else { saved - item.written.ilog2() as i32 }
}

impl Search {
    /// For chunks of up to `longest_chunk` bytes (the window's size), searched in stretches of up to `longest_stretch`.
    pub(super) fn new(longest_chunk: usize, longest_stretch: usize, effort: Effort) -> Self {
        Self {
            finder: if effort.with_trees {
                Finder::Trees(BinaryTrees::new(longest_chunk))
            } else {
                Finder::Chains(HashChains::new(longest_chunk))
            },
            farthest: longest_chunk as u32 - 1 - OFFSET_BIAS,
            slots: slots_for(longest_chunk),
            matches: Vec::with_capacity(64),
            found: Vec::with_capacity(longest_stretch * 4),
            starts: Vec::with_capacity(longest_stretch + 1),
            effort,
            ways: Ways::new(longest_stretch),
            costs: Costs {
                main: [0; MAX_MAIN_SYMBOLS],
                length: [0; LENGTH_SYMBOLS],
                aligned: [0; ALIGNED_SYMBOLS],
                matches: boxed([0; LENGTHS]),
                offsets: [[0; ALIGNED_SYMBOLS]; MAX_SLOTS],
            },
            units: Vec::with_capacity(longest_stretch / UNIT + 1),
            savings: Vec::with_capacity(longest_stretch / UNIT + 1),
            entropy: Entropy::new(),
            counts: Counts::new(),
        }
    }

    /// Begins a chunk.
    pub(super) fn start(&mut self) {
        match &mut self.finder {
            Finder::Chains(chains) => chains.start(),
            Finder::Trees(trees) => trees.start(),
        }
    }

    /// Finds the matches of the stretch `from..to` of `data`. Stretches come one after another.
    pub(super) fn find_all(&mut self, data: &[u8], from: usize, to: usize) {
        let Effort { nice, each, depth, depth_inside, .. } = self.effort;
        let Self { finder, matches, found, starts, farthest, .. } = self;
        found.clear();
        starts.clear();
        let mut at = from;
        while at < to {
            let first = found.len() as u32;
            let (mut longest, mut last) = (1, Found::new(0));
            let mut note = |near: Match| {
                // Two bytes far back cost more than two literals.
                if near.distance > *farthest || near.len == 2 && near.distance >= FAR_PAIR {
                    return;
                }
                let entry = Found::new(near.distance + OFFSET_BIAS);
                let (known, len) = (longest, near.len as usize);
                found.extend(std::iter::repeat_n(entry, len.min(each).saturating_sub(known)));
                (longest, last) = (len, entry);
            };
            match finder {
                Finder::Chains(chains) => chains.find(data, at, depth, nice, MAX_MATCH, &mut note),
                Finder::Trees(trees) => {
                    matches.clear();
                    trees.find::<true>(data, at, depth, nice, MAX_MATCH, matches);
                    matches.iter().for_each(|near| note(*near));
                }
            }
            if longest > each {
                found.push(last);
            }
            starts.push((first, longest as u32));
            at += 1;
            if longest >= nice {
                // Nobody will ask for matches inside one that is taken anyway.
                let end = (at + longest - 1).min(to);
                match finder {
                    Finder::Chains(chains) => chains.skip(data, at, end),
                    Finder::Trees(trees) => {
                        (at..end).for_each(|at| trees.skip::<true>(data, at, depth_inside, nice));
                    }
                }
                starts.resize(starts.len() + (end - at), (0, 1));
                at = end;
            }
        }
    }

    /// The cheapest way through `span` under the present costs, in the stretch that begins at `start`.
    pub(super) fn cheapest(
        &mut self,
        data: &[u8],
        start: usize,
        span: (usize, usize),
        recent: Recent,
        items: &mut Vec<Item>,
    ) {
        let first = span.0 - start;
        let Effort { nice, each, .. } = self.effort;
        let matches = Matches { found: &self.found, starts: &self.starts[first..], nice, each };
        self.ways.cheapest(data, span, recent, &self.costs, matches, items);
    }

    /// A first guess, from which the first costs come: the best match by a rule of thumb, unless the next position has
    /// a better one.
    pub(super) fn guess(&self, data: &[u8], from: usize, to: usize, recent: Recent, items: &mut Vec<Item>) {
        items.clear();
        let mut recent = recent;
        let mut at = from;
        let mut current = self.likely(data, from, at, to, recent);
        while at < to {
            if !current.is_literal() && usize::from(current.len) < self.effort.nice && at + 1 < to {
                let next = self.likely(data, from, at + 1, to, recent);
                if !next.is_literal() && score(next) > score(current) {
                    items.push(Item::literal(data[at]));
                    at += 1;
                    current = next;
                    continue;
                }
            }
            items.push(current);
            recent = recent.after(current);
            at += current.raw_len();
            if at < to {
                current = self.likely(data, from, at, to, recent);
            }
        }
    }

    /// The best item at `at` by a rule of thumb.
    #[inline]
    fn likely(&self, data: &[u8], start: usize, at: usize, to: usize, recent: Recent) -> Item {
        let limit = (to - at).min(MAX_MATCH);
        let mut best = Item::literal(data[at]);
        let mut best_score = LEAST_SCORE;
        let (first, longest) = self.starts[at - start];
        if longest > 1 {
            let last = first as usize + (longest as usize).min(self.effort.each + 1) - MIN_MATCH;
            let found = self.found[last];
            let len = (longest as usize).min(limit) as u16;
            let item = Item { written: found.written(), len, slot: found.slot() as u8 };
            if score(item) > best_score {
                (best, best_score) = (item, score(item));
            }
        }
        for (n, distance) in recent.0.iter().enumerate() {
            let distance = *distance as usize;
            if limit < MIN_MATCH || distance > at || data[at - distance..][..2] != data[at..][..2] {
                continue;
            }
            let item = Item::with_written(n as u32, common_len(data, at - distance, at, limit));
            if score(item) > best_score {
                (best, best_score) = (item, score(item));
            }
        }
        best
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
        for (slot, costs) in self.costs.offsets[..self.slots].iter_mut().enumerate() {
            let bits = u32::from(EXTRA_BITS[slot]);
            for (cost, low) in costs.iter_mut().zip(self.costs.aligned) {
                *cost = (if bits < 3 { bits * BIT } else { (bits - 3) * BIT + low }) as u16;
            }
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

//! Looking for the cheapest way to write a stretch of bytes.

use super::{
    ALIGNED_SYMBOLS, EXTRA_BITS, LENGTH_HEADERS, LENGTH_SYMBOLS, LITERALS, MAX_MAIN_SYMBOLS, MAX_MATCH,
    MIN_MATCH, OFFSET_BIAS, SLOT_BASES,
    block::{Counts, Item, Recent, slot_of},
};
use crate::codec::matches::{BinaryTrees, Match, common_len};

/// Units of cost in one bit.
const BIT: u32 = 32;
/// Matches from this length on are taken without asking what they cost.
const NICE: usize = 80;
/// Earlier positions looked at for each position.
const DEPTH: u32 = 48;
/// The same inside a match that is taken anyway.
const DEPTH_INSIDE: u32 = 8;
/// Bytes of the pieces that a stretch is cut into before neighbours that are alike are joined to blocks.
const UNIT: usize = 2048;

/// The cheapest known way to a position.
#[derive(Clone, Copy)]
struct Node {
    cost: u32,
    item: Item,
    recent: Recent,
}

const UNREACHED: Node =
    Node { cost: u32::MAX, item: Item { written: 0, len: 0, slot: 0 }, recent: Recent::START };

/// What symbols cost.
struct Costs {
    main: [u32; MAX_MAIN_SYMBOLS],
    length: [u32; LENGTH_SYMBOLS],
    aligned: [u32; ALIGNED_SYMBOLS],
}

/// Tables for the search, kept from stretch to stretch.
pub(super) struct Search {
    trees: BinaryTrees,
    /// Largest distance that can be written.
    farthest: u32,
    found: Vec<Match>,
    /// Where the matches of each position of the stretch begin in `found`.
    starts: Vec<u32>,
    nodes: Vec<Node>,
    costs: Costs,
    units: Vec<Unit>,
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
            found: Vec::with_capacity(longest_stretch * 4),
            starts: Vec::with_capacity(longest_stretch + 1),
            nodes: Vec::with_capacity(longest_stretch + 1),
            costs: Costs {
                main: [0; MAX_MAIN_SYMBOLS],
                length: [0; LENGTH_SYMBOLS],
                aligned: [0; ALIGNED_SYMBOLS],
            },
            units: Vec::with_capacity(longest_stretch / UNIT + 1),
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
            self.trees.find::<true>(data, at, DEPTH, NICE, MAX_MATCH, &mut self.found);
            let first = self.starts[at - from] as usize;
            // Only the last matches, the farthest of all, can be too far to be written.
            while self.found[first..].last().is_some_and(|found| found.distance > self.farthest) {
                self.found.pop();
            }
            let longest = self.found[first..].last().map_or(0, |found| found.len as usize);
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
            match self.found[first..last].last() {
                Some(found) if found.len > 3 || found.len == 3 && found.distance < 2048 => {
                    let len = (found.len as usize).min(to - at);
                    if len < MIN_MATCH {
                        items.push(Item::literal(data[at]));
                        at += 1;
                        continue;
                    }
                    items.push(Item::with_written(found.distance + OFFSET_BIAS, len));
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
        let Self { nodes, costs, starts, found, .. } = self;
        let len = to - from;
        nodes.clear();
        nodes.resize(len + 1, UNREACHED);
        nodes[0] = Node { cost: 0, item: Item::default(), recent };
        let mut here = 0;
        while here < len {
            let at = from + here;
            if here > 0 {
                let item = nodes[here].item;
                nodes[here].recent = nodes[here - item.raw_len()].recent.after(item);
            }
            let Node { cost, recent, .. } = nodes[here];
            let (room, next) = (len - here, &mut nodes[here..]);
            let byte = data[at];
            relax(next, 1, cost + costs.main[usize::from(byte)], Item::literal(byte));
            let limit = room.min(MAX_MATCH);
            let mut jump = 0;
            for (n, distance) in recent.0.iter().enumerate() {
                let distance = *distance as usize;
                if limit < MIN_MATCH || distance > at || data[at - distance..][..2] != data[at..][..2] {
                    continue;
                }
                let longest = common_len(data, at - distance, at, limit);
                jump = jump.max(if longest >= NICE { longest } else { 0 });
                let item = Item { written: n as u32, len: 0, slot: n as u8 };
                relax_lengths(next, costs, cost, item, MIN_MATCH, longest);
            }
            let first = starts[at - start] as usize;
            let last = starts[at - start + 1] as usize;
            let mut shortest = MIN_MATCH;
            for found in &found[first..last] {
                let longest = (found.len as usize).min(limit);
                if longest < shortest {
                    break;
                }
                let written = found.distance + OFFSET_BIAS;
                let slot = slot_of(written);
                let mut cost = cost;
                let extra = u32::from(EXTRA_BITS[slot]);
                if extra < 3 {
                    cost += extra * BIT;
                } else {
                    let low = (written - SLOT_BASES[slot]) & 7;
                    cost += (extra - 3) * BIT + costs.aligned[low as usize];
                }
                jump = jump.max(if longest >= NICE { longest } else { 0 });
                let item = Item { written, len: 0, slot: slot as u8 };
                relax_lengths(next, costs, cost, item, shortest, longest);
                shortest = longest + 1;
            }
            if jump > 0 {
                // Positions inside were not searched; what leads there leads nowhere.
                next[1..jump].fill(UNREACHED);
                here += jump;
            } else {
                here += 1;
            }
        }
        items.clear();
        let mut here = len;
        while here > 0 {
            let item = nodes[here].item;
            items.push(item);
            here -= item.raw_len();
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
        let mut savings: Vec<f32> = Vec::with_capacity(self.units.len());
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

#[inline(always)]
fn relax(next: &mut [Node], len: usize, cost: u32, item: Item) {
    let node = &mut next[len];
    if cost < node.cost {
        node.cost = cost;
        node.item = item;
    }
}

/// Offers `item` with every length from `shortest` to `longest`. `cost` holds all but main and length symbol.
#[inline(always)]
fn relax_lengths(next: &mut [Node], costs: &Costs, cost: u32, item: Item, shortest: usize, longest: usize) {
    const LAST_HEADER: usize = MIN_MATCH + LENGTH_HEADERS - 1;
    let symbol = LITERALS + usize::from(item.slot) * LENGTH_HEADERS;
    for len in shortest..=longest.min(LAST_HEADER - 1) {
        let cost = cost + costs.main[symbol + len - MIN_MATCH];
        relax(next, len, cost, Item { len: len as u16, ..item });
    }
    let cost = cost + costs.main[symbol + LENGTH_HEADERS - 1];
    for len in shortest.max(LAST_HEADER)..=longest {
        relax(next, len, cost + costs.length[len - LAST_HEADER], Item { len: len as u16, ..item });
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

//! Encoding.

use super::{END_OF_DATA, LONGEST_WORD, MAX_CHUNK_LEN, MIN_MATCH, SYMBOLS, TABLE_LEN};
use crate::codec::{
    Level,
    huffman::{lengths_for, words_for},
    matches::{BinaryTrees, HashChains, Match},
};

/// A literal (`distance` 0, the byte in `len`) or a match.
type Item = Match;

/// Encodes chunks, one after another, with the same tables.
pub struct Encoder {
    longest_chunk: usize,
    finder: Finder,
    items: Vec<Item>,
    counts: [u32; SYMBOLS],
    lengths: [u8; SYMBOLS],
    words: [u16; SYMBOLS],
}

enum Finder {
    Fast(HashChains),
    Searched(Box<Search>),
}

/// What the search for the cheapest way needs.
struct Search {
    effort: Effort,
    trees: BinaryTrees<3>,
    /// Matches of all positions, one after another.
    found: Vec<Match>,
    /// Where the matches of each position begin in `found`.
    starts: Vec<u32>,
    nodes: Vec<Node>,
    costs: [u16; SYMBOLS],
}

/// The cheapest known way to a position.
#[derive(Clone, Copy)]
struct Node {
    cost: u32,
    item: Item,
}

/// Units of cost in one bit.
const BIT: u32 = 16;
/// Cost of a symbol that the last pass did not use.
const UNSEEN: u16 = 13 * BIT as u16;

/// How hard the search tries.
#[derive(Clone, Copy)]
struct Effort {
    /// Matches from this length on are taken without asking what they cost.
    nice: usize,
    /// Earlier positions looked at for each position.
    depth: u32,
    /// How often the cheapest way is looked for, each time with the costs of the last.
    passes: usize,
}

impl Effort {
    const GOOD: Self = Self { nice: 48, depth: 16, passes: 1 };
    const MAX: Self = Self { nice: 96, depth: 64, passes: 3 };
}

impl Encoder {
    /// For chunks of up to `longest_chunk` bytes, at most [`MAX_CHUNK_LEN`].
    pub fn new(longest_chunk: usize, level: Level) -> Self {
        let longest_chunk = longest_chunk.min(MAX_CHUNK_LEN);
        let finder = match level {
            Level::Fast => Finder::Fast(HashChains::new(longest_chunk)),
            level => Finder::Searched(Box::new(Search {
                effort: if level == Level::Good { Effort::GOOD } else { Effort::MAX },
                trees: BinaryTrees::new(longest_chunk),
                found: Vec::with_capacity(longest_chunk * 4),
                starts: Vec::with_capacity(longest_chunk + 1),
                nodes: Vec::with_capacity(longest_chunk + 1),
                costs: [0; SYMBOLS],
            })),
        };
        Self {
            longest_chunk,
            finder,
            items: Vec::with_capacity(longest_chunk),
            counts: [0; SYMBOLS],
            lengths: [0; SYMBOLS],
            words: [0; SYMBOLS],
        }
    }

    /// Encodes `raw` into `packed`. Returns the number of bytes written, or nothing if they do not fit or `raw` is
    /// longer than the encoder was made for.
    pub fn encode(&mut self, raw: &[u8], packed: &mut [u8]) -> Option<usize> {
        if raw.is_empty() || raw.len() > self.longest_chunk {
            return None;
        }
        match &mut self.finder {
            Finder::Fast(chains) => {
                lazy(chains, raw, &mut self.items);
                count(&self.items, &mut self.counts);
            }
            Finder::Searched(search) => {
                search.find_all(raw);
                search.greedy(raw, &mut self.items);
                for _ in 0..search.effort.passes {
                    count(&self.items, &mut self.counts);
                    search.set_costs(&self.counts);
                    search.cheapest(raw, &mut self.items);
                }
                count(&self.items, &mut self.counts);
            }
        }
        lengths_for(&self.counts, LONGEST_WORD, &mut self.lengths);
        words_for(&self.lengths, &mut self.words);
        self.write(packed)
    }

    fn write(&self, packed: &mut [u8]) -> Option<usize> {
        let (table, rest) = packed.split_at_mut_checked(TABLE_LEN)?;
        for (byte, pair) in table.iter_mut().zip(self.lengths.chunks_exact(2)) {
            *byte = pair[0] | pair[1] << 4;
        }
        let mut writer = Writer::new(rest)?;
        for item in &self.items {
            let symbol = symbol_of(*item);
            writer.bits(u32::from(self.words[symbol]), u32::from(self.lengths[symbol]));
            if item.distance == 0 {
                continue;
            }
            let len = item.len as usize - MIN_MATCH;
            if len >= 15 {
                if len < 15 + 255 {
                    writer.bytes(&[(len - 15) as u8]);
                } else {
                    let [low, high] = (len as u16).to_le_bytes();
                    writer.bytes(&[255, low, high]);
                }
            }
            let bits = item.distance.ilog2();
            writer.bits(item.distance - (1 << bits), bits);
        }
        writer.bits(u32::from(self.words[END_OF_DATA]), u32::from(self.lengths[END_OF_DATA]));
        Some(TABLE_LEN + writer.finish()?)
    }
}

const fn symbol_of(item: Item) -> usize {
    if item.distance == 0 {
        return item.len as usize;
    }
    let len = item.len as usize - MIN_MATCH;
    256 + ((item.distance.ilog2() as usize) << 4) + if len < 15 { len } else { 15 }
}

fn count(items: &[Item], counts: &mut [u32; SYMBOLS]) {
    counts.fill(0);
    for item in items {
        counts[symbol_of(*item)] += 1;
    }
    counts[END_OF_DATA] += 1;
}

const fn literal(byte: u8) -> Item {
    Item { len: byte as u32, distance: 0 }
}

/// Takes a match unless the next position has a longer one.
fn lazy(chains: &mut HashChains, raw: &[u8], items: &mut Vec<Item>) {
    const DEPTH: u32 = 12;
    const NICE: usize = 48;
    items.clear();
    chains.start();
    let mut at = 0;
    let mut current = chains.longest(raw, 0, 0, DEPTH, NICE, usize::MAX);
    while at < raw.len() {
        // A match of three bytes far away costs more than three literals.
        if current.len < 3 || current.len == 3 && current.distance > 4096 {
            items.push(literal(raw[at]));
            at += 1;
            if at < raw.len() {
                current = chains.longest(raw, at, 0, DEPTH, NICE, usize::MAX);
            }
            continue;
        }
        let len = current.len as usize;
        if len < NICE && at + 1 < raw.len() {
            let next = chains.longest(raw, at + 1, len, DEPTH / 2, NICE, usize::MAX);
            if next.len > current.len {
                items.push(literal(raw[at]));
                at += 1;
                current = next;
                continue;
            }
            chains.skip(raw, at + 2, at + len);
        } else {
            chains.skip(raw, at + 1, at + len);
        }
        items.push(current);
        at += len;
        if at < raw.len() {
            current = chains.longest(raw, at, 0, DEPTH, NICE, usize::MAX);
        }
    }
}

impl Search {
    fn find_all(&mut self, raw: &[u8]) {
        let Effort { nice, depth, .. } = self.effort;
        self.trees.start();
        self.found.clear();
        self.starts.clear();
        let mut at = 0;
        while at < raw.len() {
            self.starts.push(self.found.len() as u32);
            self.trees.find::<false>(raw, at, depth, nice, usize::MAX, &mut self.found);
            let longest = self.found[self.starts[at] as usize..].last().map_or(0, |found| found.len as usize);
            at += 1;
            if longest >= nice {
                // Nobody will ask for matches inside one that is taken anyway.
                for inside in at..at + longest - 1 {
                    self.starts.push(self.found.len() as u32);
                    self.trees.skip::<false>(raw, inside, depth / 4, nice);
                }
                at += longest - 1;
            }
        }
        self.starts.push(self.found.len() as u32);
    }

    fn matches_at(&self, at: usize) -> &[Match] {
        &self.found[self.starts[at] as usize..self.starts[at + 1] as usize]
    }

    /// Always the longest match: a first guess, from which the first costs come.
    fn greedy(&self, raw: &[u8], items: &mut Vec<Item>) {
        items.clear();
        let mut at = 0;
        while at < raw.len() {
            match self.matches_at(at).last() {
                Some(found) if found.len > 3 || found.distance < 2048 => {
                    items.push(*found);
                    at += found.len as usize;
                }
                _ => {
                    items.push(literal(raw[at]));
                    at += 1;
                }
            }
        }
    }

    fn set_costs(&mut self, counts: &[u32; SYMBOLS]) {
        let total: u32 = counts.iter().sum();
        let whole = (f64::from(total)).log2();
        for (cost, count) in self.costs.iter_mut().zip(counts) {
            *cost = if *count == 0 {
                UNSEEN
            } else {
                // The word will have a whole number of bits between 1 and 15, near this.
                ((whole - f64::from(*count).log2()).clamp(1.0, LONGEST_WORD as f64) * f64::from(BIT)) as u16
            };
        }
    }

    /// The cheapest way from the first byte to the last under the present costs.
    fn cheapest(&mut self, raw: &[u8], items: &mut Vec<Item>) {
        let nice = self.effort.nice;
        let end = raw.len();
        let unreached = Node { cost: u32::MAX, item: Item { len: 0, distance: 0 } };
        self.nodes.clear();
        self.nodes.resize(end + 1, unreached);
        self.nodes[0].cost = 0;
        let mut at = 0;
        while at < end {
            let cost = self.nodes[at].cost;
            let byte = raw[at];
            let with_literal = cost + u32::from(self.costs[usize::from(byte)]);
            if with_literal < self.nodes[at + 1].cost {
                self.nodes[at + 1] = Node { cost: with_literal, item: literal(byte) };
            }
            let (first, last) = (self.starts[at] as usize, self.starts[at + 1] as usize);
            let mut len = MIN_MATCH;
            for found in &self.found[first..last] {
                let bits = found.distance.ilog2();
                let base = cost + bits * BIT;
                let symbol = 256 + ((bits as usize) << 4);
                if found.len as usize >= nice {
                    len = found.len as usize;
                }
                let stop = (found.len as usize).min(MIN_MATCH + 14);
                while len <= stop {
                    let cost = base + u32::from(self.costs[symbol + len - MIN_MATCH]);
                    let node = &mut self.nodes[at + len];
                    if cost < node.cost {
                        *node = Node { cost, item: Item { len: len as u32, distance: found.distance } };
                    }
                    len += 1;
                }
                let base = base + u32::from(self.costs[symbol + 15]);
                while len <= found.len as usize {
                    let cost = base + if len < MIN_MATCH + 15 + 255 { 8 * BIT } else { 24 * BIT };
                    let node = &mut self.nodes[at + len];
                    if cost < node.cost {
                        *node = Node { cost, item: Item { len: len as u32, distance: found.distance } };
                    }
                    len += 1;
                }
            }
            at += 1;
            if len > nice {
                // The long match is taken; what lies inside was not searched.
                let target = at + len - 2;
                for inside in at..target {
                    self.nodes[inside].cost = u32::MAX;
                }
                at = target;
            }
        }
        items.clear();
        let mut at = end;
        while at > 0 {
            let item = self.nodes[at].item;
            items.push(item);
            at -= if item.distance == 0 { 1 } else { item.len as usize };
        }
        items.reverse();
    }
}

/// Writes words of bits and, between them, bytes, where a reader with a register of 32 bits will look for them: it has
/// always taken the word in which the consumed bits end, and the next.
struct Writer<'a> {
    bytes: &'a mut [u8],
    /// The two places reserved for the next words.
    places: [usize; 2],
    next: usize,
    held: u32,
    count: u32,
}

impl<'a> Writer<'a> {
    fn new(bytes: &'a mut [u8]) -> Option<Self> {
        (bytes.len() >= 4).then_some(Self { bytes, places: [0, 2], next: 4, held: 0, count: 0 })
    }

    /// Appends the low `count` (at most 16) bits of `value`; the others must be zero.
    fn bits(&mut self, value: u32, count: u32) {
        self.held = self.held << count | value;
        self.count += count;
        if self.count > 16 {
            self.count -= 16;
            self.word((self.held >> self.count) as u16);
            self.places = [self.places[1], self.next];
            self.next += 2;
            self.held &= (1 << self.count) - 1;
        }
    }

    fn word(&mut self, word: u16) {
        if let Some(place) = self.bytes.get_mut(self.places[0]..self.places[0] + 2) {
            place.copy_from_slice(&word.to_le_bytes());
        }
    }

    fn bytes(&mut self, bytes: &[u8]) {
        if let Some(place) = self.bytes.get_mut(self.next..self.next + bytes.len()) {
            place.copy_from_slice(bytes);
        }
        self.next += bytes.len();
    }

    /// Number of bytes, if they fitted.
    fn finish(mut self) -> Option<usize> {
        self.word((self.held << (16 - self.count)) as u16);
        self.places[0] = self.places[1];
        self.word(0);
        (self.next <= self.bytes.len()).then_some(self.next)
    }
}

//! The cheapest way to write a block.

use super::{
    ALIGNED_SYMBOLS, MAX_MATCH, MAX_SLOTS, MIN_MATCH,
    block::{Item, Recent},
    search::{Costs, Found, LENGTHS},
};
use crate::codec::matches::common_len;

/// The cheapest known way to a position in 64 bits: above, what it costs; below, its last step. So the cheaper of two is
/// the smaller number, and choosing needs no branch.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Way(u64);

/// A literal or a match in 32 bits: the length below (1 for a literal), above it what is written for the distance, or
/// the byte.
#[derive(Clone, Copy)]
struct Step(u32);

impl Step {
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

impl Way {
    const UNREACHED: Self = Self(u64::MAX >> 1);

    const fn new(cost: u32, step: Step) -> Self {
        Self((cost as u64) << 32 | step.0 as u64)
    }

    const fn cost(self) -> u32 {
        (self.0 >> 32) as u32
    }

    const fn step(self) -> Step {
        Step(self.0 as u32)
    }
}

/// Matches of the positions from the first one on.
#[derive(Clone, Copy)]
pub(super) struct Matches<'a> {
    pub found: &'a [Found],
    /// Where those of each position begin, and how long its longest match is.
    pub starts: &'a [(u32, u32)],
    /// Matches from this length on are taken without asking what they cost.
    pub nice: usize,
    /// Lengths up to this one have entries of their own; of longer ones only the longest has one, behind those.
    pub each: usize,
}

/// Tables, kept from block to block.
pub(super) struct Ways {
    ways: Box<[Way]>,
    recents: Box<[Recent]>,
}

impl Ways {
    /// For up to `longest` bytes.
    pub(super) fn new(longest: usize) -> Self {
        Self {
            ways: vec![Way::UNREACHED; longest + MAX_MATCH + 1].into(),
            recents: vec![Recent::START; longest + 1].into(),
        }
    }

    /// The cheapest way from `from` to `to`.
    pub(super) fn cheapest(
        &mut self,
        data: &[u8],
        (from, to): (usize, usize),
        recent: Recent,
        costs: &Costs,
        matches: Matches<'_>,
        items: &mut Vec<Item>,
    ) {
        let len = to - from;
        let (ways, recents) = (&mut self.ways[..=len + MAX_MATCH], &mut self.recents[..=len]);
        ways.fill(Way::UNREACHED);
        ways[0] = Way(0);
        recents[0] = recent;
        let mut here = 0;
        while here < len {
            let at = from + here;
            if here > 0 {
                let step = ways[here].step();
                let before = recents[here - step.len()];
                recents[here] = if step.len() == 1 { before } else { before.after_match(step.written()) };
            }
            let (cost, recent) = (ways[here].cost(), recents[here]);
            let byte = data[at];
            let literal = Way::new(cost + costs.main[usize::from(byte)], Step::literal(byte));
            ways[here + 1] = ways[here + 1].min(literal);
            let limit = (len - here).min(MAX_MATCH);
            if limit < MIN_MATCH {
                here += 1;
                continue;
            }
            let Some(ahead) = ways[here..].first_chunk_mut::<LENGTHS>() else { break };
            let mut jump = 0;
            let pair = u16::from_le_bytes([byte, data[at + 1]]);
            for (n, distance) in recent.0.iter().enumerate() {
                let Some(before) =
                    at.checked_sub(*distance as usize).and_then(|from| data.get(from..from + 2))
                else {
                    continue;
                };
                if before.try_into().map_or(0, u16::from_le_bytes) == pair {
                    let longest = repeat(ahead, costs, data, (at, *distance as usize), limit, cost, n);
                    jump = jump.max(if longest >= matches.nice { longest } else { 0 });
                }
            }
            let (first, longest) = matches.starts[here];
            let reach = (longest as usize).min(limit);
            if reach >= MIN_MATCH {
                let found = &matches.found[first as usize..];
                if reach < matches.nice {
                    let each = &found[..=reach.min(matches.each) - MIN_MATCH];
                    for ((way, found), len) in ahead[MIN_MATCH..].iter_mut().zip(each).zip(MIN_MATCH..) {
                        offer(way, costs, cost, *found, len);
                    }
                } else {
                    jump = jump.max(reach);
                }
                if longest as usize > matches.each {
                    offer(&mut ahead[reach], costs, cost, found[matches.each + 1 - MIN_MATCH], reach);
                }
            }
            if jump > 0 {
                // Positions inside were not searched; what leads there leads nowhere.
                ahead[1..jump].fill(Way::UNREACHED);
                here += jump;
            } else {
                here += 1;
            }
        }
        items.clear();
        let mut here = len;
        while here > 0 {
            let step = ways[here].step();
            items.push(step.item());
            here -= step.len();
        }
        items.reverse();
    }
}

/// Offers a match of this length.
#[inline(always)]
fn offer(way: &mut Way, costs: &Costs, cost: u32, found: Found, len: usize) {
    let slot = found.slot() % MAX_SLOTS;
    let bits = costs.offsets[slot][found.written() as usize % ALIGNED_SYMBOLS];
    let cost = cost + u32::from(bits) + u32::from(costs.matches[slot][len]);
    *way = (*way).min(Way::new(cost, Step(found.written() << Step::LEN_BITS | len as u32)));
}

/// Offers a match that repeats distance number `n`; returns its length. Apart, so that the loop around it has registers.
#[inline(never)]
fn repeat(
    ahead: &mut [Way; LENGTHS],
    costs: &Costs,
    data: &[u8],
    (at, distance): (usize, usize),
    limit: usize,
    cost: u32,
    n: usize,
) -> usize {
    let longest = common_len(data, at - distance, at, limit);
    relax(ahead, &costs.matches[n], cost, n as u32, MIN_MATCH, longest);
    longest
}

/// Offers a match with every length from `shortest` to `longest`. `cost` holds all but what `by_length` has.
#[inline(always)]
fn relax(
    ahead: &mut [Way; LENGTHS],
    by_length: &[u16; LENGTHS],
    cost: u32,
    written: u32,
    shortest: usize,
    longest: usize,
) {
    let base = Way::new(cost, Step(written << Step::LEN_BITS)).0;
    let lengths = by_length[shortest..=longest].iter().zip(shortest as u64..);
    for (way, (extra, len)) in ahead[shortest..=longest].iter_mut().zip(lengths) {
        *way = (*way).min(Way(base + (u64::from(*extra) << 32 | len)));
    }
}

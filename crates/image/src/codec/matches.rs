//! Finding earlier copies of the bytes that come next.

use super::boxed;

/// Shortest match that the finders look for with their main tables.
pub(crate) const MIN_FOUND: usize = 3;

/// An earlier copy.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Match {
    /// Number of equal bytes.
    pub len: u32,
    /// How many bytes back it begins.
    pub distance: u32,
}

/// Number of equal bytes at `a` and `b`, at most `limit`. Both must have `limit` bytes after them.
#[inline(always)]
pub(crate) fn common_len(data: &[u8], a: usize, b: usize, limit: usize) -> usize {
    let (left, right) = (&data[a..a + limit], &data[b..b + limit]);
    let mut len = 0;
    while let (Some(x), Some(y)) = (left.get(len..len + 8), right.get(len..len + 8)) {
        // Both slices are eight bytes long.
        let difference = eight(x) ^ eight(y);
        if difference != 0 {
            return len + (difference.trailing_zeros() / 8) as usize;
        }
        len += 8;
    }
    while len < limit && left[len] == right[len] {
        len += 1;
    }
    len
}

#[inline(always)]
fn eight(bytes: &[u8]) -> u64 {
    bytes.try_into().map_or(0, u64::from_le_bytes)
}

#[inline(always)]
fn four(data: &[u8], at: usize) -> u32 {
    data[at..at + 4].try_into().map_or(0, u32::from_le_bytes)
}

#[inline(always)]
const fn hash(value: u32, bits: u32) -> usize {
    (value.wrapping_mul(0x9E37_79B1) >> (32 - bits)) as usize
}

/// Positions are stored with a base that grows from chunk to chunk, so that what an earlier chunk left in the tables
/// needs no clearing: it lies below the base.
#[derive(Clone, Copy)]
struct Base(u32);

impl Base {
    fn advance(&mut self, chunk_len: usize, tables: &mut [&mut [u32]]) {
        let next = self.0.saturating_add(chunk_len as u32 + 1);
        if next < u32::MAX / 2 {
            self.0 = next;
        } else {
            tables.iter_mut().for_each(|table| table.fill(0));
            self.0 = 1;
        }
    }
}

/// Chains of positions whose next four bytes have one hash, newest first, and the newest for three bytes.
pub(crate) struct HashChains {
    base: Base,
    longest_chunk: usize,
    pairs: Box<[u32; 1 << PAIR_BITS]>,
    heads3: Box<[u32; 1 << NEWEST_BITS]>,
    heads4: Box<[u32; 1 << CHAIN_BITS]>,
    previous: Box<[u32]>,
}

const CHAIN_BITS: u32 = 15;
const NEWEST_BITS: u32 = 13;
/// So few that the table stays near the processor: only pairs that are near are worth anything.
const PAIR_BITS: u32 = 12;

impl HashChains {
    /// For chunks of up to `longest_chunk` bytes.
    pub(crate) fn new(longest_chunk: usize) -> Self {
        Self {
            base: Base(1),
            longest_chunk,
            pairs: boxed(0),
            heads3: boxed(0),
            heads4: boxed(0),
            previous: vec![0; longest_chunk].into(),
        }
    }

    /// Begins a new chunk.
    pub(crate) fn start(&mut self) {
        self.base.advance(
            self.longest_chunk,
            &mut [&mut self.pairs[..], &mut self.heads3[..], &mut self.heads4[..]],
        );
    }

    /// Adds position `at` and returns the newest earlier ones for three and for four bytes.
    #[inline(always)]
    fn enter(&mut self, data: &[u8], at: usize) -> (u32, u32) {
        let value = four(data, at);
        let (slot3, slot4) = (hash(value << 8, NEWEST_BITS), hash(value, CHAIN_BITS));
        let own = self.base.0 + at as u32;
        let found3 = std::mem::replace(&mut self.heads3[slot3], own);
        let found4 = std::mem::replace(&mut self.heads4[slot4], own);
        self.previous[at] = found4;
        (found3, found4)
    }

    /// Adds the positions `from..to` without looking for matches.
    #[inline]
    pub(crate) fn skip(&mut self, data: &[u8], from: usize, to: usize) {
        for at in from..to.min(data.len().saturating_sub(3)) {
            self.enter(data, at);
        }
    }

    /// Adds position `at` and calls `report` with its matches, each longer than the one before and the nearest of its
    /// length, looking at `depth` earlier positions and content with `nice` bytes.
    #[inline]
    pub(crate) fn find(
        &mut self,
        data: &[u8],
        at: usize,
        depth: u32,
        nice: usize,
        longest: usize,
        report: &mut impl FnMut(Match),
    ) {
        let limit = (data.len() - at).min(longest);
        if limit < 5 {
            return;
        }
        let base = self.base.0;
        let (found3, mut found4) = self.enter(data, at);
        let own = four(data, at);
        let mut best = MIN_FOUND - 1;
        let newest = std::mem::replace(&mut self.pairs[hash(own << 16, PAIR_BITS)], base + at as u32);
        if newest >= base && four(data, (newest - base) as usize) << 16 == own << 16 {
            report(Match { len: 2, distance: base + at as u32 - newest });
        }
        if found3 >= base {
            let from = (found3 - base) as usize;
            if four(data, from) << 8 == own << 8 {
                best = common_len(data, from, at, limit);
                report(Match { len: best as u32, distance: (at - from) as u32 });
            }
        }
        if best >= limit {
            return;
        }
        let previous = &self.previous[..at];
        let mut left = depth;
        // The four bytes that end just behind the best match so far: only a copy that has them too is longer.
        let mut tail = best.saturating_sub(3);
        let mut wanted = four(data, at + tail);
        while found4 >= base && left > 0 && best < nice.min(limit) {
            left -= 1;
            let from = (found4 - base) as usize;
            if four(data, from + tail) == wanted {
                let len = common_len(data, from, at, limit);
                if len > best {
                    best = len;
                    report(Match { len: len as u32, distance: (at - from) as u32 });
                    if best >= limit {
                        return;
                    }
                    tail = best - 3;
                    wanted = four(data, at + tail);
                }
            }
            found4 = previous[from];
        }
    }

    /// Adds position `at` and returns its longest match that is longer than `beat`, looking at `depth` earlier
    /// positions and content with `nice` bytes. Of equally long ones it is the nearest.
    #[inline]
    pub(crate) fn longest(
        &mut self,
        data: &[u8],
        at: usize,
        beat: usize,
        depth: u32,
        nice: usize,
        longest: usize,
    ) -> Match {
        let limit = (data.len() - at).min(longest);
        if limit < 5 {
            return Match::default();
        }
        let base = self.base.0;
        let (found3, mut found4) = self.enter(data, at);
        let mut best = Match { len: beat as u32, distance: 0 };
        if beat < MIN_FOUND && found3 >= base {
            let from = (found3 - base) as usize;
            if four(data, from) << 8 == four(data, at) << 8 {
                let len = common_len(data, from, at, limit);
                best = Match { len: len as u32, distance: (at - from) as u32 };
            }
        }
        let mut left = depth;
        while found4 >= base && left > 0 && (best.len as usize) < nice.min(limit) {
            left -= 1;
            let from = (found4 - base) as usize;
            let tail = (best.len as usize).saturating_sub(3);
            // Only a copy that is right around the end of the best one so far can be longer.
            if four(data, from + tail) == four(data, at + tail) {
                let len = common_len(data, from, at, limit);
                if len > best.len as usize {
                    best = Match { len: len as u32, distance: (at - from) as u32 };
                }
            }
            found4 = self.previous[from];
        }
        if best.distance == 0 { Match::default() } else { best }
    }
}

/// A binary tree of earlier positions for each hash of `ROOT` (3 or 4) bytes, sorted by what follows them, and the
/// newest position for one byte less.
pub(crate) struct BinaryTrees<const ROOT: usize> {
    base: Base,
    longest_chunk: usize,
    newest: Box<[u32]>,
    roots: Box<[u32]>,
    root_bits: u32,
    children: Box<[[u32; 2]]>,
}

/// Bits of the hash of two bytes (which are the bytes) or three.
const SHORT_BITS: u32 = 16;
/// Bits of the hash of a root in a large chunk, at most, and in a small one.
const ROOT_BITS: (u32, u32) = (22, 15);

impl<const ROOT: usize> BinaryTrees<ROOT> {
    /// For chunks of up to `longest_chunk` bytes.
    pub(crate) fn new(longest_chunk: usize) -> Self {
        let (most, least) = ROOT_BITS;
        // As many roots as a chunk that large has kinds of places, roughly.
        let root_bits = if ROOT == 3 {
            least
        } else {
            (longest_chunk.max(1).ilog2()).saturating_sub(2).clamp(least, most)
        };
        Self {
            base: Base(1),
            longest_chunk,
            newest: vec![0; 1 << SHORT_BITS].into(),
            roots: vec![0; 1 << root_bits].into(),
            root_bits,
            children: vec![[0; 2]; longest_chunk].into(),
        }
    }

    /// Bytes of memory for each byte of a chunk.
    pub(crate) const BYTES_EACH: usize = 8;

    /// Begins a new chunk.
    pub(crate) fn start(&mut self) {
        self.base.advance(self.longest_chunk, &mut [&mut self.newest, &mut self.roots]);
    }

    /// Adds position `at`; appends its matches to `found`, each longer than the one before and the nearest of its
    /// length. With `SHORT`, the newest match of one byte less than a root has is looked for too.
    #[inline]
    pub(crate) fn find<const SHORT: bool>(
        &mut self,
        data: &[u8],
        at: usize,
        depth: u32,
        nice: usize,
        longest: usize,
        found: &mut Vec<Match>,
    ) {
        self.walk::<SHORT>(data, at, depth, nice, longest, &mut |found_match| found.push(found_match));
    }

    /// Adds position `at` without reporting matches.
    #[inline]
    pub(crate) fn skip<const SHORT: bool>(&mut self, data: &[u8], at: usize, depth: u32, nice: usize) {
        self.walk::<SHORT>(data, at, depth, nice, nice, &mut |_| ());
    }

    #[inline(always)]
    fn walk<const SHORT: bool>(
        &mut self,
        data: &[u8],
        at: usize,
        depth: u32,
        nice: usize,
        longest: usize,
        report: &mut impl FnMut(Match),
    ) {
        let limit = (data.len() - at).min(longest);
        if limit < 4 {
            return;
        }
        let nice = nice.min(limit);
        let base = self.base.0;
        let own = base + at as u32;
        let value = four(data, at);
        let mut best = ROOT - 1;
        if SHORT {
            let slot = if ROOT == 3 { (value & 0xFFFF) as usize } else { hash(value << 8, SHORT_BITS) };
            let newest = std::mem::replace(&mut self.newest[slot], own);
            // Two bytes are their own hash; three may share it with others.
            if newest >= base && (ROOT == 3 || four(data, (newest - base) as usize) << 8 == value << 8) {
                report(Match { len: ROOT as u32 - 1, distance: own - newest });
            }
        }
        let root = hash(if ROOT == 3 { value << 8 } else { value }, self.root_bits);
        let mut node = std::mem::replace(&mut self.roots[root], own);
        // The two places where the next smaller and the next larger position are to be written.
        let (mut smaller, mut larger) = ((at, 0), (at, 1));
        let (mut smaller_len, mut larger_len) = (0, 0);
        let mut left = depth;
        loop {
            if node < base || left == 0 {
                self.children[smaller.0][smaller.1] = 0;
                self.children[larger.0][larger.1] = 0;
                return;
            }
            left -= 1;
            let from = (node - base) as usize;
            // Fetched before they are wanted: memory takes its time, and meanwhile the bytes are compared.
            let [below, above] = self.children[from];
            let known = smaller_len.min(larger_len);
            let len = known + common_len(data, from + known, at + known, limit - known);
            if len > best {
                best = len;
                report(Match { len: len as u32, distance: (at - from) as u32 });
            }
            if len >= nice {
                // Nothing tells the two apart as far as anybody looks: the new one takes the old one's place.
                self.children[smaller.0][smaller.1] = below;
                self.children[larger.0][larger.1] = above;
                return;
            }
            if data[from + len] < data[at + len] {
                self.children[smaller.0][smaller.1] = node;
                smaller = (from, 1);
                node = above;
                smaller_len = len;
            } else {
                self.children[larger.0][larger.1] = node;
                larger = (from, 0);
                node = below;
                larger_len = len;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample() -> Vec<u8> {
        let mut state = 7_u32;
        let mut data = Vec::new();
        while data.len() < 6000 {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            if state >> 28 < 9 || data.len() < 50 {
                data.push((state >> 20) as u8 % 5);
            } else {
                let from = (state >> 8) as usize % data.len();
                let len = (state >> 24) as usize % 70;
                let piece: Vec<u8> = data[from..(from + len).min(data.len())].to_vec();
                data.extend(piece);
            }
        }
        data
    }

    /// The longest match at `at` found by looking at every earlier position; of equally long ones the nearest.
    fn by_looking(data: &[u8], at: usize) -> Match {
        let mut best = Match::default();
        for from in (0..at).rev() {
            let len = data[from..].iter().zip(&data[at..]).take_while(|(a, b)| a == b).count();
            if len > best.len as usize {
                best = Match { len: len as u32, distance: (at - from) as u32 };
            }
        }
        best
    }

    #[test]
    fn the_trees_find_the_longest_match_and_the_chains_a_true_one() {
        let data = sample();
        let (mut trees, mut chains) = (BinaryTrees::<3>::new(data.len()), HashChains::new(data.len()));
        for round in 0..2 {
            trees.start();
            chains.start();
            let mut found = Vec::new();
            for at in 0..data.len() - 5 {
                found.clear();
                trees.find::<true>(&data, at, u32::MAX, usize::MAX, usize::MAX, &mut found);
                let chained = chains.longest(&data, at, 0, 1000, usize::MAX, usize::MAX);
                for m in found.iter().chain([&chained]).filter(|m| m.len > 0) {
                    let from = at - m.distance as usize;
                    assert!(data[from..from + m.len as usize] == data[at..at + m.len as usize]);
                }
                assert!(found.windows(2).all(|pair| pair[0].len < pair[1].len));
                let best = by_looking(&data, at);
                if best.len >= 3 {
                    assert_eq!(found.last().unwrap().len, best.len, "round {round}, at {at}");
                }
                if best.len >= 4 {
                    assert!(chained.len >= 4, "round {round}, at {at}");
                }
            }
        }
    }
}

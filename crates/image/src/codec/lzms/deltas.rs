//! Finding bytes that differ from those before them as earlier ones did.

use super::decode::POWERS;

/// Bits of the hash of three differences.
const HASH_BITS: u32 = 16;

/// A match of differences.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct DeltaMatch {
    pub len: u32,
    /// In units of 2^`power`.
    pub offset: u32,
    pub power: u8,
}

/// The newest position of each hash of three differences, for each power.
pub(super) struct DeltaFinder {
    newest: Box<[u32]>,
}

impl DeltaFinder {
    pub(super) fn new() -> Self {
        Self { newest: vec![0; POWERS << HASH_BITS].into() }
    }

    /// Begins a chunk.
    pub(super) fn start(&mut self) {
        self.newest.fill(0);
    }

    /// Adds position `at` and calls `report` with the matches found, at most one for each power.
    pub(super) fn find(&mut self, data: &[u8], at: usize, limit: usize, report: &mut impl FnMut(DeltaMatch)) {
        for power in 0..POWERS {
            let span = 1 << power;
            // Positions are kept with one added: 0 is none.
            let Some(hash) = hash(data, at, span) else { return };
            let slot = &mut self.newest[power << HASH_BITS | hash];
            let from = std::mem::replace(slot, at as u32 + 1) as usize;
            if from == 0 || !(at + 1 - from).is_multiple_of(span) || limit < 3 {
                continue;
            }
            let distance = at + 1 - from;
            let len = common_len(data, at, span, distance, limit);
            if len >= 3 {
                report(DeltaMatch { len: len as u32, offset: (distance / span) as u32, power: power as u8 });
            }
        }
    }
}

fn hash(data: &[u8], at: usize, span: usize) -> Option<usize> {
    let difference =
        |n: usize| Some(u32::from(data.get(at + n)?.wrapping_sub(*data.get((at + n).checked_sub(span)?)?)));
    let three = difference(0)? | difference(1)? << 8 | difference(2)? << 16;
    Some((three.wrapping_mul(0x9E37_79B1) >> (32 - HASH_BITS)) as usize)
}

/// For how many bytes, at most `limit`, the bytes at `at` differ from those `span` before as the ones `distance` back do.
pub(super) fn common_len(data: &[u8], at: usize, span: usize, distance: usize, limit: usize) -> usize {
    if distance == 0 || distance + span > at {
        return 0;
    }
    let step = |n: usize| data[n].wrapping_sub(data[n - span]);
    (0..limit.min(data.len() - at)).take_while(|n| step(at + n) == step(at + n - distance)).count()
}

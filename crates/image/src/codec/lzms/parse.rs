//! Looking for the cheapest way to write what comes next.
//!
//! A stretch ends where all ways meet, at a match that is long enough to be taken unasked, or after [`STRETCH`] bytes.
//! Within it prices stay as they are; what depends on the items themselves (the last distances, the last outcomes of
//! decisions) is followed along the cheapest way to each position.

use super::{
    MIN_MATCH,
    coder::{Coder, Item},
    decode::{Before, Recent},
    deltas::{self, DeltaFinder, DeltaMatch},
    prices::{self, Prices},
    range::Decision,
};
use crate::codec::{
    Level,
    matches::{BinaryTrees, Match, common_len},
};

/// Bytes of a stretch, at most, before a last match.
const STRETCH: usize = 2048;

/// How hard the search tries.
#[derive(Clone, Copy)]
pub(super) struct Effort {
    /// Matches from this length on are taken without asking what they cost.
    pub nice: usize,
    /// Earlier positions looked at for each position.
    pub depth: u32,
}

impl Effort {
    pub(super) const fn of(level: Level) -> Self {
        match level {
            Level::Fast => Self { nice: 32, depth: 8 },
            Level::Good => Self { nice: 64, depth: 16 },
            Level::Max => Self { nice: 160, depth: 48 },
        }
    }
}

/// The last outcomes of every decision.
#[derive(Clone, Copy)]
struct Outcomes {
    is_match: u8,
    is_delta: u8,
    repeats: u8,
    later: [u8; 2],
    delta_repeats: u8,
    delta_later: [u8; 2],
}

/// What follows from the items so far.
#[derive(Clone, Copy)]
pub(super) struct State {
    recent: Recent<u32>,
    deltas: Recent<(u32, u8)>,
    before: Before,
    outcomes: Outcomes,
}

impl State {
    /// At the start of a chunk.
    pub(super) const START: Self = Self {
        recent: Recent([1, 2, 3, 4]),
        deltas: Recent([(1, 0), (2, 0), (3, 0), (4, 0)]),
        before: Before::Literal,
        outcomes: Outcomes {
            is_match: 0,
            is_delta: 0,
            repeats: 0,
            later: [0; 2],
            delta_repeats: 0,
            delta_later: [0; 2],
        },
    };

    /// Distance `n` of those that a match may repeat here.
    #[inline(always)]
    fn repeatable(&self, n: usize) -> usize {
        self.recent.0[n + usize::from(self.before == Before::Match)] as usize
    }

    /// The same for delta matches: offset and power.
    fn repeatable_delta(&self, n: usize) -> (u32, u8) {
        self.deltas.0[n + usize::from(self.before == Before::Delta)]
    }

    /// After `item`.
    #[inline]
    fn follow(&mut self, item: Item) {
        fn next<const STATES: usize>(state: &mut u8, bit: bool) {
            *state = Decision::<STATES>::next_state(usize::from(*state), bit) as u8;
        }
        fn later(states: &mut [u8; 2], n: u8) {
            next::<64>(&mut states[0], n > 0);
            if n > 0 {
                next::<64>(&mut states[1], n > 1);
            }
        }
        let outcomes = &mut self.outcomes;
        let is_match = !matches!(item, Item::Literal(_));
        next::<16>(&mut outcomes.is_match, is_match);
        if is_match {
            next::<32>(&mut outcomes.is_delta, matches!(item, Item::Delta { .. } | Item::DeltaRepeat { .. }));
        }
        match item {
            Item::Literal(_) => self.before = Before::Literal,
            Item::Match { offset, .. } => {
                next::<64>(&mut outcomes.repeats, false);
                self.recent.push(offset);
                self.before = Before::Match;
            }
            Item::Repeat { n, .. } => {
                next::<64>(&mut outcomes.repeats, true);
                later(&mut outcomes.later, n);
                self.recent.take(usize::from(n) + usize::from(self.before == Before::Match));
                self.before = Before::Match;
            }
            Item::Delta { offset, power, .. } => {
                next::<64>(&mut outcomes.delta_repeats, false);
                self.deltas.push((offset, power));
                self.before = Before::Delta;
            }
            Item::DeltaRepeat { n, .. } => {
                next::<64>(&mut outcomes.delta_repeats, true);
                later(&mut outcomes.delta_later, n);
                self.deltas.take(usize::from(n) + usize::from(self.before == Before::Delta));
                self.before = Before::Delta;
            }
        }
    }
}

/// The cheapest known way to a position.
#[derive(Clone, Copy)]
struct Way {
    price: u32,
    /// Its last item.
    item: Item,
    state: State,
}

/// Tables of the search, kept from chunk to chunk.
pub(super) struct Search {
    effort: Effort,
    trees: BinaryTrees<4>,
    deltas: Option<DeltaFinder>,
    matches: Vec<Match>,
    delta_matches: Vec<DeltaMatch>,
    ways: Vec<Way>,
    prices: Prices,
}

impl Search {
    /// For chunks of up to `longest_chunk` bytes.
    pub(super) fn new(longest_chunk: usize, effort: Effort, with_deltas: bool) -> Self {
        let unreached = Way { price: u32::MAX, item: Item::Literal(0), state: State::START };
        Self {
            effort,
            trees: BinaryTrees::new(longest_chunk),
            deltas: with_deltas.then(DeltaFinder::new),
            matches: Vec::with_capacity(64),
            delta_matches: Vec::with_capacity(8),
            ways: vec![unreached; STRETCH + effort.nice + 1],
            prices: Prices::new(effort.nice),
        }
    }

    /// Begins a chunk.
    pub(super) fn start(&mut self, coder: &Coder) {
        self.trees.start();
        if let Some(deltas) = &mut self.deltas {
            deltas.start();
        }
        self.prices.renew(coder, true);
    }

    /// Appends the items of the stretch that begins at `from` to `items` and returns where it ends. Stretches come one
    /// after another; `state` is that at their start, and afterwards at their end.
    pub(super) fn stretch(
        &mut self,
        data: &[u8],
        from: usize,
        coder: &Coder,
        state: &mut State,
        items: &mut Vec<Item>,
    ) -> usize {
        self.prices.renew(coder, false);
        self.ways[0].price = 0;
        self.ways[0].state = *state;
        let (mut here, mut reached) = (0, 0);
        let mut last = None;
        while from + here < data.len() && here < STRETCH && (here == 0 || here < reached) {
            if here > 0 {
                self.settle(here);
            }
            let at = from + here;
            if let Some(item) = self.search(data, at, here) {
                last = Some(item);
                break;
            }
            self.offer_all(data, at, here, &mut reached, coder);
            here += 1;
        }
        if here > 0 && last.is_none() {
            self.settle(here);
        }
        *state = self.ways[here].state;
        // Ways beyond the end are of no use any more.
        self.ways[1..=reached.max(here)].iter_mut().for_each(|way| way.price = u32::MAX);
        let first = items.len();
        let mut back = here;
        while back > 0 {
            items.push(self.ways[back].item);
            back -= self.ways[back].item.raw_len();
        }
        items[first..].reverse();
        let mut end = from + here;
        if let Some(item) = last {
            items.push(item);
            state.follow(item);
            // Nobody looks for matches inside one that is taken anyway.
            let inside = (self.effort.depth / 4).max(4);
            for at in end + 1..end + item.raw_len() {
                self.trees.skip::<true>(data, at, inside, self.effort.nice);
            }
            end += item.raw_len();
        }
        end
    }

    /// What follows from the cheapest way to `here`, which cannot change any more.
    #[inline]
    fn settle(&mut self, here: usize) {
        let item = self.ways[here].item;
        let mut state = self.ways[here - item.raw_len()].state;
        state.follow(item);
        self.ways[here].state = state;
    }

    /// Finds the matches at `at`. One that is long enough is returned to be taken at once.
    #[inline(never)]
    fn search(&mut self, data: &[u8], at: usize, here: usize) -> Option<Item> {
        let nice = self.effort.nice;
        self.matches.clear();
        self.trees.find::<true>(data, at, self.effort.depth, nice, nice, &mut self.matches);
        self.delta_matches.clear();
        if let Some(finder) = &mut self.deltas {
            let found = &mut self.delta_matches;
            finder.find(data, at, nice, &mut |delta| found.push(delta));
        }
        let state = &self.ways[here].state;
        let room = data.len() - at;
        let whole = |distance: usize| common_len(data, at - distance, at, room);
        let mut best: Option<(usize, Item)> = None;
        for n in 0..3 {
            let distance = state.repeatable(n);
            if distance <= at && room >= nice && common_len(data, at - distance, at, nice) >= nice {
                let len = whole(distance);
                if best.is_none_or(|(longest, _)| len > longest) {
                    best = Some((len, Item::Repeat { len: len as u32, n: n as u8 }));
                }
            }
        }
        if let Some(found) = self.matches.last()
            && found.len as usize >= nice
        {
            let len = whole(found.distance as usize);
            // A repeated distance costs little.
            if best.is_none_or(|(longest, _)| len > longest + 4) {
                best = Some((len, Item::Match { len: len as u32, offset: found.distance }));
            }
        }
        best.map(|(_, item)| item)
    }

    /// Offers every item that can be written at `at`.
    #[inline(never)]
    fn offer_all(&mut self, data: &[u8], at: usize, here: usize, reached: &mut usize, coder: &Coder) {
        let Self { ways, prices, matches, delta_matches, deltas, effort, .. } = self;
        let (behind, ahead) = ways.split_at_mut(here + 1);
        let (way, decisions) = (&behind[here], &coder.decisions);
        let (state, outcomes) = (&way.state, &way.state.outcomes);
        let is_match = decisions.is_match.probability(usize::from(outcomes.is_match));
        let byte = data[at];
        let literal =
            way.price + prices.outcome(is_match, false) + prices::symbol(&coder.literals, usize::from(byte));
        offer(&mut ahead[0], literal, Item::Literal(byte));
        *reached = (*reached).max(here + 1);
        let limit = (data.len() - at).min(effort.nice);
        if limit < MIN_MATCH {
            return;
        }
        let with_match = way.price + prices.outcome(is_match, true);
        let is_delta = decisions.is_delta.probability(usize::from(outcomes.is_delta));
        let plain = with_match + prices.outcome(is_delta, false);
        let repeats = decisions.repeats.probability(usize::from(outcomes.repeats));
        let repeated = plain + prices.outcome(repeats, true);
        for n in 0..3 {
            let distance = state.repeatable(n);
            if distance > at || data[at - distance] != byte {
                continue;
            }
            let longest = common_len(data, at - distance, at, limit);
            let price = repeated + prices.later(&decisions.repeat_later, outcomes.later, n);
            for len in MIN_MATCH..=longest {
                let item = Item::Repeat { len: len as u32, n: n as u8 };
                offer(&mut ahead[len - 1], price + prices.lengths()[len], item);
            }
            if longest >= MIN_MATCH {
                *reached = (*reached).max(here + longest);
            }
        }
        let fresh = plain + prices.outcome(repeats, false);
        let mut shortest = MIN_MATCH;
        for found in matches.iter() {
            let longest = (found.len as usize).min(limit);
            let price = fresh + prices::value(&coder.offsets, &coder.offset_slots, found.distance);
            for len in shortest..=longest {
                let item = Item::Match { len: len as u32, offset: found.distance };
                offer(&mut ahead[len - 1], price + prices.lengths()[len], item);
            }
            shortest = shortest.max(longest + 1);
            *reached = (*reached).max(here + longest);
        }
        if deltas.is_none() {
            return;
        }
        let delta = with_match + prices.outcome(is_delta, true);
        let repeats = decisions.delta_repeats.probability(usize::from(outcomes.delta_repeats));
        for n in 0..3 {
            let (offset, power) = state.repeatable_delta(n);
            let (span, distance) = (1 << power, (offset as usize) << power);
            let longest = deltas::common_len(data, at, span, distance, limit);
            let price = delta
                + prices.outcome(repeats, true)
                + prices.later(&decisions.delta_repeat_later, outcomes.delta_later, n);
            for len in MIN_MATCH..=longest {
                let item = Item::DeltaRepeat { len: len as u32, n: n as u8 };
                offer(&mut ahead[len - 1], price + prices.lengths()[len], item);
            }
            if longest >= MIN_MATCH {
                *reached = (*reached).max(here + longest);
            }
        }
        for found in delta_matches.iter() {
            let longest = (found.len as usize).min(limit);
            let price = delta
                + prices.outcome(repeats, false)
                + prices::symbol(&coder.delta_powers, usize::from(found.power))
                + prices::value(&coder.delta_offsets, &coder.offset_slots, found.offset);
            for len in MIN_MATCH..=longest {
                let item = Item::Delta { len: len as u32, offset: found.offset, power: found.power };
                offer(&mut ahead[len - 1], price + prices.lengths()[len], item);
            }
            *reached = (*reached).max(here + longest);
        }
    }
}

#[inline(always)]
fn offer(way: &mut Way, price: u32, item: Item) {
    if price < way.price {
        way.price = price;
        way.item = item;
    }
}

//! Encoding.

use super::{
    LENGTH_HEADERS, LITERALS, MAX_MATCH, MIN_MATCH, MIN_WINDOW, OFFSET_BIAS,
    block::{BlockWriter, Counts, Item, Recent},
    search::{Effort, LEAST_SCORE, Search, score},
    slots_for, translate, window_for,
};
use crate::codec::{
    Level,
    bits::BitWriter,
    matches::{HashChains, Match, common_len},
};

/// Bytes that are searched, cut into blocks and written together.
const STRETCH: usize = 1 << 16;

/// Encodes chunks, one after another, with the same tables.
pub struct Encoder {
    window: usize,
    /// The chunk with calls translated.
    data: Vec<u8>,
    finder: Finder,
    items: Vec<Item>,
    /// The first guess at the items of a stretch, from which each block takes its first costs.
    first_guess: Vec<Item>,
    blocks: Vec<usize>,
    counts: Counts,
    writer: BlockWriter,
}

enum Finder {
    Fast(HashChains),
    Searched(Box<Search>),
}

impl Encoder {
    /// For chunks of up to `chunk_len` bytes, at most [`super::MAX_WINDOW`]. As for the decoder, the number decides
    /// about the codes.
    pub fn new(chunk_len: usize, level: Level) -> Self {
        let window = window_for(chunk_len);
        let finder = match level {
            Level::Fast => Finder::Fast(HashChains::new(window)),
            level => {
                let effort = Effort::of(level);
                Finder::Searched(Box::new(Search::new(window, STRETCH.min(window), effort)))
            }
        };
        Self {
            window,
            data: Vec::with_capacity(window),
            finder,
            items: Vec::with_capacity(STRETCH.min(window)),
            first_guess: Vec::with_capacity(STRETCH.min(window)),
            blocks: Vec::with_capacity(64),
            counts: Counts::new(),
            writer: BlockWriter::new(LITERALS + LENGTH_HEADERS * slots_for(window), window == MIN_WINDOW),
        }
    }

    /// Encodes `raw` into `packed`. Returns the number of bytes written, or nothing if they do not fit or `raw` is
    /// longer than the encoder was made for.
    pub fn encode(&mut self, raw: &[u8], packed: &mut [u8]) -> Option<usize> {
        if raw.is_empty() || raw.len() > self.window {
            return None;
        }
        self.data.clear();
        self.data.extend_from_slice(raw);
        translate::apply(&mut self.data);
        let mut writer = BitWriter::new(packed);
        self.writer.start();
        let mut recent = Recent::START;
        match &mut self.finder {
            Finder::Fast(chains) => chains.start(),
            Finder::Searched(search) => search.start(),
        }
        let mut from = 0;
        while from < raw.len() && !writer.is_full() {
            let to = raw.len().min(from + STRETCH);
            match &self.finder {
                Finder::Fast(_) => {
                    self.encode_fast(from, to.min(from + MIN_WINDOW), &mut recent, &mut writer);
                }
                Finder::Searched(_) => self.encode_searched(from, to, &mut recent, &mut writer),
            }
            from = if matches!(self.finder, Finder::Fast(_)) { to.min(from + MIN_WINDOW) } else { to };
        }
        writer.finish()
    }

    fn write_block(&mut self, raw_len: usize, writer: &mut BitWriter<'_>) {
        self.counts.clear();
        self.items.iter().for_each(|item| self.counts.add(*item));
        self.writer.write(&self.items, &self.counts, raw_len, writer);
    }

    fn encode_fast(&mut self, from: usize, to: usize, recent: &mut Recent, writer: &mut BitWriter<'_>) {
        if let Finder::Fast(chains) = &mut self.finder {
            lazy(chains, &self.data, from, to, recent, &mut self.items);
        }
        self.write_block(to - from, writer);
    }

    fn encode_searched(&mut self, from: usize, to: usize, recent: &mut Recent, writer: &mut BitWriter<'_>) {
        let Self { finder: Finder::Searched(search), data, first_guess, blocks, .. } = self else {
            return;
        };
        search.find_all(data, from, to);
        search.guess(data, from, to, *recent, first_guess);
        search.cut(first_guess, blocks);
        let (mut at, mut used) = (from, 0);
        for n in 0..self.blocks.len() {
            let Self { finder: Finder::Searched(search), data, items, first_guess, blocks, .. } = self else {
                return;
            };
            let end = at + blocks[n];
            let mut reached = at;
            let own = first_guess[used..].iter().take_while(|item| {
                let inside = reached < end;
                reached += item.raw_len();
                inside
            });
            let count = own.count();
            search.set_costs(&first_guess[used..used + count]);
            used += count;
            search.cheapest(data, from, (at, end), *recent, items);
            for item in items.iter() {
                *recent = recent.after(*item);
            }
            self.write_block(end - at, writer);
            at = end;
        }
    }
}

/// A way with one look ahead: a match is taken unless the next position has a better one.
fn lazy(
    chains: &mut HashChains,
    data: &[u8],
    from: usize,
    to: usize,
    recent: &mut Recent,
    items: &mut Vec<Item>,
) {
    items.clear();
    let mut at = from;
    let mut current = best_at(chains, data, at, to, *recent, 0);
    while at < to {
        let len = current.raw_len();
        if current.is_literal() {
            items.push(current);
            at += 1;
        } else {
            if len < NICE && at + 1 < to {
                let next = best_at(chains, data, at + 1, to, *recent, len);
                if !next.is_literal() && score(next) > score(current) {
                    items.push(Item::literal(data[at]));
                    at += 1;
                    current = next;
                    continue;
                }
                chains.skip(data, at + 2, at + len);
            } else {
                chains.skip(data, at + 1, at + len);
            }
            items.push(current);
            *recent = recent.after(current);
            at += len;
        }
        if at < to {
            current = best_at(chains, data, at, to, *recent, 0);
        }
    }
}

const DEPTH: u32 = 10;
const NICE: usize = 40;

/// The best match at `at` that is longer than `beat`, else the literal.
fn best_at(chains: &mut HashChains, data: &[u8], at: usize, to: usize, recent: Recent, beat: usize) -> Item {
    let limit = (to - at).min(MAX_MATCH);
    let depth = if beat > 0 { DEPTH / 2 } else { DEPTH };
    let Match { len, distance } = chains.longest(data, at, beat.max(2), depth, NICE, limit);
    let mut best = Item::literal(data[at]);
    let mut best_score = LEAST_SCORE;
    // The two largest distances of a window cannot be written; only the first bytes of a full chunk are that far.
    if len > 0 && distance as usize <= to.max(MIN_WINDOW) - 1 - OFFSET_BIAS as usize {
        let item = Item::with_written(distance + OFFSET_BIAS, len as usize);
        if score(item) > best_score || len > 3 {
            best_score = score(item);
            best = item;
        }
    }
    for (n, distance) in recent.0.iter().enumerate() {
        let distance = *distance as usize;
        if limit < MIN_MATCH + 1 || distance > at || data[at - distance..][..3] != data[at..][..3] {
            continue;
        }
        let item = Item::with_written(n as u32, common_len(data, at - distance, at, limit));
        if score(item) > best_score {
            best_score = score(item);
            best = item;
        }
    }
    best
}

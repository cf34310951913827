//! Encoding.

use super::{
    MAX_CHUNK_LEN,
    coder::{Coder, Item},
    parse::{Effort, Search, State},
    translate::Usages,
};
use crate::codec::{Level, matches::BinaryTrees};

/// Bytes of tables that do not grow with the chunk.
const FIXED_MEMORY: u64 = 20 << 20;

/// Encodes chunks, one after another, with the same tables.
pub struct Encoder {
    longest_chunk: usize,
    /// The chunk with calls translated.
    data: Vec<u8>,
    search: Search,
    coder: Coder,
    usages: Usages,
    items: Vec<Item>,
}

impl Encoder {
    /// For chunks of up to `longest_chunk` bytes.
    pub fn new(longest_chunk: usize, level: Level) -> Self {
        Self::with_deltas(longest_chunk, level, false)
    }

    /// The same, and whether it may use delta matches. They are the least certain rule of the method: no reader of
    /// another maker has confirmed how we write them.
    pub fn with_deltas(longest_chunk: usize, level: Level, deltas: bool) -> Self {
        let longest_chunk = longest_chunk.min(MAX_CHUNK_LEN);
        Self {
            longest_chunk,
            data: Vec::new(),
            search: Search::new(longest_chunk, Effort::of(level), deltas),
            coder: Coder::new(),
            usages: Usages::new(),
            items: Vec::new(),
        }
    }

    /// Bytes of memory that an encoder for chunks of up to `longest_chunk` bytes takes.
    pub const fn memory(longest_chunk: usize) -> u64 {
        longest_chunk as u64 * (1 + BinaryTrees::<4>::BYTES_EACH as u64) + FIXED_MEMORY
    }

    /// Encodes `raw` into `packed`. Returns the number of bytes written, which is even, or nothing if they do not fit
    /// or `raw` is empty or longer than the encoder was made for.
    pub fn encode(&mut self, raw: &[u8], packed: &mut [u8]) -> Option<usize> {
        if raw.is_empty() || raw.len() > self.longest_chunk {
            return None;
        }
        let even = packed.len() & !1;
        let packed = &mut packed[..even];
        self.data.clear();
        self.data.extend_from_slice(raw);
        self.usages.apply(&mut self.data);
        self.coder.start(raw.len());
        self.search.start(&self.coder);
        let mut state = State::START;
        let mut at = 0;
        while at < self.data.len() {
            self.items.clear();
            at = self.search.stretch(&self.data, at, &self.coder, &mut state, &mut self.items);
            for item in &self.items {
                self.coder.put(*item, packed);
            }
            if self.coder.len() > packed.len() {
                return None;
            }
        }
        self.coder.finish(packed)
    }
}

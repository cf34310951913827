//! LZMS, the method of solid image files.
//!
//! There is no published description. What follows is public knowledge of the trade, read twice: this decoder and one
//! that shares no code with it agree on what either's encoder writes. No file of another writer stood behind that yet,
//! so what only the encoder decides stays on the cautious side.
//!
//! A chunk is read from both ends. Binary decisions come from a range coder that reads 16-bit words forwards; words of
//! five adaptive prefix codes and the bits that follow them come from the end, backwards. Matches repeat bytes or (a
//! *delta* match) repeat how bytes differ from those a power of two before them. At last, x86 instructions that a
//! heuristic takes for code have their absolute addresses made relative again.

mod coder;
mod codes;
mod decode;
mod deltas;
mod encode;
mod parse;
mod prices;
mod range;
mod translate;

pub use decode::Decoder;
pub use encode::Encoder;

/// Largest chunk in bytes.
pub const MAX_CHUNK_LEN: usize = 1 << 26;

/// Shortest match that is written.
const MIN_MATCH: usize = 3;

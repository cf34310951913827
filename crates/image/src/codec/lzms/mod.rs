//! LZMS, the method of solid image files; only decoding.
//!
//! There is no published description. What follows was observed on image files and is public knowledge of the trade:
//! a chunk is read from both ends. Binary decisions come from a range coder that reads 16-bit words forwards; words of
//! five adaptive prefix codes and the bits that follow them come from the end, backwards. Matches repeat bytes or (a
//! *delta* match) repeat how bytes differ from those a power of two before them. At last, x86 instructions that a
//! heuristic takes for code have their absolute addresses made relative again.

mod codes;
mod decode;
mod range;
mod translate;

pub use decode::Decoder;

/// Largest chunk in bytes.
pub const MAX_CHUNK_LEN: usize = 1 << 26;

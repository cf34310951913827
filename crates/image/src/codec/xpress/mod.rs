//! XPRESS with Huffman codes ([MS-XCA] 2.1 and 2.2), as image files use it: one table for each chunk.

mod decode;
mod encode;

pub use decode::Decoder;
pub use encode::Encoder;

/// Largest chunk in bytes; distances have at most 15 extra bits.
pub const MAX_CHUNK_LEN: usize = 65536;
/// Symbols of the code: 256 literals, then 16 × 16 combinations of distance and length.
const SYMBOLS: usize = 512;
/// Bytes of the table of code lengths, four bits for each symbol.
const TABLE_LEN: usize = SYMBOLS / 2;
/// Longest code word in bits.
const LONGEST_WORD: usize = 15;
/// Shortest match.
const MIN_MATCH: usize = 3;
/// The symbol that ends the data; as a match it would be three bytes at distance 1.
const END_OF_DATA: usize = 256;

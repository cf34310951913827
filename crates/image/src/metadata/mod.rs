//! The metadata resource of an edition: its security descriptors and its tree of files.

mod count;
mod model;
mod name;
mod read;
mod write;

pub use count::EditionCounts;
pub use model::{Entry, EntryId, Files, Reparse, Step, Stream, Times};
pub use name::Name;
pub use read::read;
pub use write::write;

/// Largest metadata resource that is read, in bytes before compression.
pub const MAX_LEN: u64 = 1 << 30;

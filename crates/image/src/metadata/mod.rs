//! The metadata resource of an edition: its security descriptors and its tree of files.

mod count;
mod model;
mod name;
mod read;
mod write;

pub use count::EditionCounts;
pub use model::{Entry, EntryId, Files, Reparse, Step, Stream, Times};
pub use name::Name;
pub use read::{read, read_with};
pub use write::write;

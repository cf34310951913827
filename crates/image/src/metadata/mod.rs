//! The metadata resource of an edition: its security descriptors and its tree of files.

mod assembly;
mod count;
mod model;
mod name;
mod read;
mod write;

pub use assembly::Assembly;
pub use count::EditionCounts;
pub use model::{Entry, EntryId, Files, Rare, Reparse, Step, Stream, Times};
pub use name::Name;
pub use read::{Seen, read, read_with, walk};
pub use write::{write, write_to, written_len};

//! Updates: our own open package.
//!
//! An update package is a tar file packed with zstd: `update.toml`, the files below `files/` by their paths in the
//! edition, and registration texts. Unpacked, it is a folder with the same names.

mod model;
mod order;
mod read;
mod write;

pub use model::{ListedFile, Manifest, Update, UpdateSection, UpdateType, Version};
pub use order::{Candidate, Ordered, Outcome, TargetEdition, order};
pub use write::write_update;

/// Where the files of an update lie in its package.
pub const FILES_FOLDER: &str = "files";
/// Name of the manifest.
pub const MANIFEST_NAME: &str = "update.toml";
/// Usual ending of the name of an update package.
pub const UPDATE_ENDING: &str = ".update.tar.zst";

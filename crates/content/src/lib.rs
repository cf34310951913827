//! What every other crate of Neat Stack stands on.
//!
//! * [`Content`]: bytes that are not there yet: extents of source files, pieces in memory, holes, and
//!   values computed when they are written.
//! * [`Output`]: the copy engine, which moves content into a file once, in order.
//! * [`PendingFile`], [`PendingFolder`]: outputs that appear under their names only when they are complete and synced,
//!   several of them together.
//! * [`Tree`]: a tree of names over lazy content.
//! * [`FieldReader`] and [`ReadAt`]: bounded reading of untrusted bytes.
//! * [`Error`] and [`Class`]: what went wrong, where, and what kind of trouble it is.
//! * [`Job`]: progress and the stop flag, handed to everything that takes time.
//!
//! Nothing here prints, reads a terminal or knows a file format.
//!
//! ```
//! use neat_content::{Content, IfThere, Meta, PendingFile, Timestamp, Tree};
//!
//! let dir = tempfile::tempdir().unwrap();
//! let meta = Meta::at(Timestamp::from_seconds(1_700_000_000));
//! let mut tree = Tree::new(meta);
//! tree.put_file("notes/quay.txt", Content::from_bytes(b"all aboard".as_slice()), meta)?;
//!
//! // Written under a name of its own, synced, and only then given this one.
//! let path = dir.path().join("out.txt");
//! let (pending, mut output) = PendingFile::create_output(&path, IfThere::Refuse, None)?;
//! output.write_content(tree.file("notes/quay.txt").unwrap(), &neat_content::Job::silent())?;
//! assert!(!path.exists());
//! pending.commit(output.finish()?.0)?;
//! assert_eq!(std::fs::read_to_string(path).unwrap(), "all aboard");
//! # Ok::<(), neat_content::Error>(())
//! ```

#![warn(clippy::missing_errors_doc)]
#![forbid(unsafe_code)]

mod content;
mod digest;
mod error;
mod field;
mod hint;
mod job;
mod known;
mod output;
mod path_pattern;
mod pending;
mod read_at;
mod source;
mod spool;
mod system;
mod text;
mod time;
mod toml_words;
mod tree;
mod words;

pub use content::{Clip, Content, Piece, Producer};
pub use digest::{DigestKind, Digester, digest_of};
pub use error::{Class, Error, Result, damage_apart};
pub use field::FieldReader;
pub use hint::{Advice, Hint};
pub use job::{Event, Job, Observer, Silent};
pub use known::{KnownFile, read_known};
pub use output::Output;
pub use path_pattern::{PathPattern, PathTree};
pub use pending::{IfThere, PendingFile, PendingFolder, commit_together, is_device_path, sync_folder};
pub use read_at::{ReadAt, Windowed, read_vec};
pub use source::{Source, SourceSet, open_input, read_small};
pub use spool::{Hold, Spool};
pub use text::{Encoding, Text, ansi_text, fold_unit};
pub use time::Timestamp;
pub use toml_words::plain_toml;
pub use tree::{Folder, Meta, Node, NodeId, NodeKind, Step, Tree, TreeCounts, check_name, fold_case};
pub use words::{and_more, counted, nearest, nearest_by, parse_size, toml_string};

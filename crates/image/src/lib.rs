//! Image files: the containers on a media that hold the systems to install.
//!
//! * [`open_path`], [`ImageFile`]: an image file with all its parts, read.
//! * [`Files`], [`Entry`]: the tree of an edition, with everything that the file keeps of it.
//! * [`ImageDraft`]: a new image file made of editions of others, written without compressing anew what stays.
//! * [`split`], [`join`]: parts.
//! * [`check`]: everything read, to find what is damaged.
//! * [`capture`]: a folder as an edition.
//! * [`codec`]: the compression, usable alone.
//!
//! What an image file calls an *image* is an edition here; a *blob* is content that is stored once however many files
//! have it, named by its SHA-1.
//!
//! ```
//! use neat_content::{IfThere, Job, PendingFile};
//! use neat_image::{ImageDraft, capture, open_path};
//!
//! let dir = tempfile::tempdir().unwrap();
//! std::fs::create_dir(dir.path().join("system")).unwrap();
//! std::fs::write(dir.path().join("system/quay.txt"), "all aboard").unwrap();
//!
//! let captured = capture::capture(&dir.path().join("system"), &capture::Options::default(), &Job::silent())?;
//! let mut draft = ImageDraft::new(None);
//! captured.add_to(&mut draft, "Quay OS 7 Bridge", "What the bridge has")?;
//! let path = dir.path().join("install.wim");
//! let (pending, mut output) = PendingFile::create_output(&path, IfThere::Refuse, None)?;
//! draft.write(&mut output, 0, &Job::silent())?;
//! pending.commit(output.finish()?.0)?;
//!
//! let image = open_path(&path)?;
//! assert_eq!(image.find_edition("Quay OS 7 Bridge")?, 1);
//! assert_eq!(image.editions()[0].files, Some(1));
//! # Ok::<(), neat_content::Error>(())
//! ```

#![warn(clippy::missing_errors_doc)]
#![forbid(unsafe_code)]

/// The crate whose types stand in the signatures here.
pub use neat_content;

mod blobs;
pub mod capture;
mod check;
pub mod codec;
mod digest;
mod draft;
mod file;
mod info;
mod integrity;
pub mod layout;
mod limits;
pub mod metadata;
mod pack;
mod part;
mod part_write;
mod sink;
mod solid;
mod solid_write;
mod split;
mod stored;
mod system;
mod threads;
mod tree;
mod unread;
mod usage;
pub mod xml;

pub use check::{CheckOutcome, Damage, check};
pub use codec::Level;
pub use digest::{BlobDigest, BlobHasher};
pub use draft::{ImageDraft, Rename};
pub use file::{ImageFile, ListedBlob, NamedContent, OpenPart, open_path, sibling_names};
pub use info::{EditionInfo, SystemInfo};
pub use limits::Limits;
pub use metadata::{Assembly, Entry, EntryId, Files, Name, Rare, Reparse, Stream, Times};
pub use pack::Compression;
pub use part::{Header, is_image_file};
pub use solid::Solid;
pub use solid_write::SolidCompression;
pub use split::{FAT32_LIMIT, join, part_name, split};
pub use stored::{Method, Packing, Stored, Unpacker};
pub use threads::thread_count;
pub use tree::{content_of, link_target, link_target_of, to_tree};
pub use unread::{Outcomes, Unread};
pub use usage::{Usage, usage};

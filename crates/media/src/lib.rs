//! Installation media: what a machine boots to install from.
//!
//! [`read::open`] turns an ISO file or a folder into a [`Media`]: a tree of names over lazy content, with its
//! labels and boot entries. [`master::Plan`] lays such a tree out as a disc that carries ISO 9660, Joliet and UDF
//! over the same extents, and writes it in one pass. [`folder::unpack`] writes it into a folder, with a record from
//! which an equal media can be made again. [`touchup`] changes a finished disc in place.
//!
//! Each format lives in a module of its own: `layout` mirrors the tables of its specification, `read` turns
//! bytes into a model and trusts nothing, `write` turns the model into bytes.
//!
//! ```
//! use neat_content::{Content, IfThere, Job, Meta, PendingFile, Timestamp, Tree};
//! use neat_media::{VolumeIdentity, master, read};
//! use std::sync::Arc;
//!
//! let dir = tempfile::tempdir().unwrap();
//! let time = Timestamp::from_seconds(1_700_000_000);
//! let mut tree = Tree::new(Meta::at(time));
//! tree.put_file("support/quay.txt", Content::from_bytes(b"all aboard".as_slice()), Meta::at(time))?;
//!
//! // Everything has its sector before a byte is written.
//! let volume = VolumeIdentity { label: "QUAY".into(), ..VolumeIdentity::default() };
//! let options = master::Options { volume, time, ..master::Options::default() };
//! let plan = master::Plan::new(&Arc::new(tree), options, &Job::silent())?;
//! let path = dir.path().join("quay.iso");
//! let (pending, mut output) = PendingFile::create_output(&path, IfThere::Refuse, None)?;
//! plan.write(&mut output, &Job::silent())?;
//! pending.commit(output.finish()?.0)?;
//!
//! let media = read::open(&path)?;
//! assert_eq!((media.volume.label.as_str(), media.size), ("QUAY", plan.len()));
//! assert_eq!(media.tree.file("support/quay.txt").unwrap().to_vec(100, "a note")?, b"all aboard");
//! # Ok::<(), neat_content::Error>(())
//! ```

#![warn(clippy::missing_errors_doc)]
#![forbid(unsafe_code)]

/// The crate whose types stand in the signatures here.
pub use neat_content;

pub mod bootmenu;
pub mod bootwalk;
pub mod check;
pub mod disk;
pub mod eltorito;
pub mod exfat;
pub mod fat;
pub mod folder;
pub mod iso9660;
mod limits;
pub mod master;
mod model;
pub mod read;
mod record;
pub mod stick;
mod system;
pub mod touchup;
pub mod udf;
mod units;

pub use limits::Limits;
pub use model::{
    BootCatalog, BootCode, BootEntry, BootImage, Emulation, ImagePatch, Media, MediaForm, PartitionInfo,
    PartitionTable, Platform, TreeKind, TreesFound, VolumeIdentity,
};
pub use record::{MediaRecord, RECORD_FOLDER, RECORD_NAME};

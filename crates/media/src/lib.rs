//! Installation media: what a machine boots to install from.
//!
//! [`read::open`] turns an ISO file or a folder into a [`Media`]: a tree of names over lazy content, with its
//! labels and boot entries. [`master::Plan`] lays such a tree out as a disc that carries ISO 9660, Joliet and UDF
//! over the same extents, and writes it in one pass. [`folder::unpack`] writes it into a folder, with a record from
//! which an equal media can be made again. [`touchup`] changes a finished disc in place.
//!
//! Each format lives in a module of its own: `layout` mirrors the tables of its specification, `read` turns
//! bytes into a model and trusts nothing, `write` turns the model into bytes.

#![forbid(unsafe_code)]

pub mod bootmenu;
pub mod bootwalk;
pub mod check;
pub mod disk;
pub mod eltorito;
pub mod fat;
pub mod folder;
pub mod iso9660;
pub mod master;
mod model;
pub mod read;
mod record;
pub mod stick;
pub mod touchup;
pub mod udf;

pub use model::{
    BootCatalog, BootCode, BootEntry, BootImage, Emulation, ImagePatch, Media, MediaForm, PartitionInfo,
    PartitionTable, Platform, TreeKind, TreesFound, VolumeIdentity,
};
pub use record::{MediaRecord, RECORD_FOLDER, RECORD_NAME};

//! NTFS volumes, read and never written.
//!
//! * [`Volume`]: a volume in any [`Content`](neat_content::Content): a file, a partition of a disk, a virtual disk.
//! * [`Volume::files`]: its files as an edition has them, with their content in the order of the disk and what is
//!   damaged.
//!
//! Nothing is ever written, the log of a volume that was not taken out of use in order is not replayed, and what a
//! damaged structure says is an error with its place on the volume, never zeros. The layout is that of public
//! descriptions of the file system; [MS-FSCC] for reparse points, [MS-XCA] for compression.

#![warn(clippy::missing_errors_doc)]
#![forbid(unsafe_code)]

/// The crate whose types stand in the signatures here.
pub use neat_content;
/// The crate whose types stand in the signatures here.
pub use neat_image;

mod boot;
mod build;
mod files;
mod index;
mod lznt1;
mod record;
mod resident;
mod runs;
mod scan;
mod secure;
mod streams;
mod system_compressed;
mod volume;

pub use boot::{Geometry, is_encrypted, is_ntfs};
pub use files::{Damaged, Held, Slot, VolumeFiles};
pub use volume::{Volume, VolumeInfo};

//! Disks of machines, read and never written.
//!
//! * [`MachineDisk`]: a disk in any form, its partitions and what is on them.
//! * [`Partition::open`]: the files of one.
//! * [`PartitionFiles::system`]: the system on it, by its own registry, and in what state it is.
//! * [`capture`]: a partition as an edition.
//! * [`leave_out`]: what of a system belongs to the one machine and not into an edition.

#![warn(clippy::missing_errors_doc)]
#![forbid(unsafe_code)]

pub mod capture;
mod disk;
mod file_system;
mod files;
pub mod leave_out;
mod system;

pub use disk::{MachineDisk, Partition};
pub use file_system::FileSystem;
pub use files::PartitionFiles;
pub use neat_drive::Form;
pub use neat_service::InstalledState;
pub use system::{PartitionSystem, open_edition};

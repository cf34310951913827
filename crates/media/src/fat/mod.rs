//! FAT12, FAT16 and FAT32 file systems (FAT specification 1.03, which the UEFI specification 13.3 points to).

mod folders;
mod layout;
mod names;
mod ours;
pub mod read;
mod shape;
mod table;
pub mod update;
pub mod volume;
pub mod write;

pub use folders::MAX_FILE_LEN;
pub use shape::BootRecord;

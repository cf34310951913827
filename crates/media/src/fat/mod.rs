//! FAT12, FAT16 and FAT32 file systems (FAT specification 1.03, which the UEFI specification 13.3 points to).

mod layout;
pub mod read;
pub mod write;

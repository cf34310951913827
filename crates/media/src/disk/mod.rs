//! Partition tables: MBR and GPT (UEFI specification 5).

pub(crate) mod layout;
mod read;
mod write;

pub(crate) use read::mbr_extent;
pub use read::read;
pub(crate) use write::{Gpt, GptPartition, mbr};

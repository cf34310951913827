//! Partition tables: MBR and GPT (UEFI specification 5).

pub(crate) mod layout;
mod machine;
mod read;
mod write;

pub use machine::{MachinePartition, MachineTable, read_machine};
pub(crate) use read::mbr_extent;
pub use read::read;
pub(crate) use write::{Gpt, GptPartition, mbr};

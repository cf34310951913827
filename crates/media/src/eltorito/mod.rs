//! El Torito 1.0: how firmware starts a disc, with the UEFI platform id.

pub mod find;
pub(crate) mod layout;
pub(crate) mod patch;
pub(crate) mod read;
pub(crate) mod write;

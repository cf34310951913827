//! ECMA-119 (ISO 9660) with Joliet and Rock Ridge.

pub mod layout;
pub(crate) mod names;
pub(crate) mod read;
pub(crate) mod rock_ridge;
pub(crate) mod time;
pub(crate) mod write;

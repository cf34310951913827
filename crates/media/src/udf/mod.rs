//! ECMA-167 as OSTA UDF profiles it.

pub(crate) mod address;
pub(crate) mod allocation;
pub(crate) mod cs0;
pub mod layout;
pub(crate) mod read;
pub(crate) mod volume;
pub(crate) mod write;

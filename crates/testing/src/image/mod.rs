//! Second readings of everything, written straight from the descriptions: slow, and sharing no code with the crate.

pub mod bits;
pub mod container;
pub mod data;
pub mod hand;
pub mod lzms;
pub mod lzx;
pub mod xpress;

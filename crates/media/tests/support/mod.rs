//! Discs made by the crate and read a second way.

pub mod discs;

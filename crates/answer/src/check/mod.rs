//! What checks stand on: facts of a media, rules for what is said, what is erased.

mod erasure;
mod facts;
mod named;
mod neutral;
mod values;

pub(crate) use neutral::{check as neutral_findings, machine_name, unfilled};

pub use erasure::Erasure;
pub use facts::{EditionFact, MediaFacts};

//! What a command line is in each language that generated answers and scripts speak.
//!
//! Text from outside (names, paths, commands of a stack file or a model) comes into a script only through here: each
//! language has functions that write such a text so that its interpreter gives it on as it was, and readers that undo it.
//! Tests give hostile texts to the interpreters themselves and look at what arrives.

pub mod batch;
pub mod powershell;
pub mod program;
pub(crate) mod registry;
pub(crate) mod script;
pub mod sh;

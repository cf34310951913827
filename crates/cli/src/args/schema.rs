//! Arguments of `schema`.

use clap::{Args, ValueEnum};

/// Print the JSON Schema of one of our own forms
#[derive(Debug, Args)]
#[command(after_help = "Example:\n  neatstack schema stack > stack.schema.json")]
pub(crate) struct SchemaArgs {
    /// Which form
    pub form: SchemaForm,
}

/// Forms of our own.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum SchemaForm {
    /// The stack file
    Stack,
    /// Catalogues
    Catalogue,
    /// Layouts
    Layout,
    /// The manifest of an update package
    Update,
    /// Answers in the neutral form
    Answer,
    /// The index of a depot
    Depot,
}

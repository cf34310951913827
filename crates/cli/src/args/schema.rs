//! Arguments of `schema`.

use crate::documents;
use clap::{
    Args, ValueEnum,
    builder::{PossibleValue, PossibleValuesParser, TypedValueParser},
};

/// Print the JSON Schema of one of our own forms, or of what a command prints with --json
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  neatstack schema stack > stack.schema.json\n  neatstack schema plan > plan.schema.json\n  neatstack schema layout --example > quay.layout.toml"
)]
pub(crate) struct SchemaArgs {
    /// Which form
    #[arg(value_parser = forms())]
    pub form: SchemaForm,
    /// Print an example instead: of a layout the built-in one, of answers a starting point
    #[arg(long)]
    pub example: bool,
}

/// What has a schema.
#[derive(Clone, Copy, Debug)]
pub(crate) enum SchemaForm {
    /// A form of our own that is read.
    Read(ReadForm),
    /// A document that is printed, by its place in [`documents::ALL`].
    Printed(usize),
}

/// Forms of our own that are read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ReadForm {
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

fn forms() -> impl TypedValueParser<Value = SchemaForm> {
    let read = ReadForm::value_variants().iter().filter_map(ReadForm::to_possible_value);
    let printed = documents::ALL.iter().map(|own| PossibleValue::new(own.word).help(own.title()));
    PossibleValuesParser::new(read.chain(printed)).map(|word| {
        let printed = documents::ALL.iter().position(|own| own.word == word);
        let read = ReadForm::from_str(&word, false);
        printed.map_or_else(|| SchemaForm::Read(read.unwrap_or(ReadForm::Stack)), SchemaForm::Printed)
    })
}

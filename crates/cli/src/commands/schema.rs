//! `schema`: the form of our own files and of what is printed.

use crate::{
    args::{ReadForm, SchemaArgs, SchemaForm},
    context::Context,
    documents,
};
use neat_answer::{Known, starter};
use neat_content::{Error, Result};
use schemars::schema_for;

pub(crate) fn run(args: &SchemaArgs, context: &Context) -> Result<()> {
    if args.example {
        return match args.form {
            SchemaForm::Read(ReadForm::Layout) => context.print_document(neat_service::Layout::common_text()),
            SchemaForm::Read(ReadForm::Answer) => context.print_document(&starter(&Known::default())?),
            _ => Err(Error::request(
                "there is no example of this form",
                "there is one of `layout` and of `answer`; `neatstack draft MEDIA` writes a stack file",
            )),
        };
    }
    let schema = match args.form {
        SchemaForm::Read(ReadForm::Stack) => schema_for!(neat_stack::StackFile),
        SchemaForm::Read(ReadForm::Catalogue) => schema_for!(neat_service::Catalogue),
        SchemaForm::Read(ReadForm::Layout) => schema_for!(neat_service::Layout),
        SchemaForm::Read(ReadForm::Answer) => schema_for!(neat_answer::Model),
        SchemaForm::Read(ReadForm::Depot) => schema_for!(neat_depot::Index),
        SchemaForm::Read(ReadForm::Update) => schema_for!(neat_package::Manifest),
        SchemaForm::Printed(number) => documents::ALL[number].schema(),
    };
    context.print_any_json(&schema)
}

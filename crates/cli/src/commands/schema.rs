//! `schema`: the form of our own files and of what is printed.

use crate::{
    args::{ReadForm, SchemaArgs, SchemaForm},
    context::Context,
    documents,
};
use neat_content::Result;
use schemars::schema_for;

pub(crate) fn run(args: &SchemaArgs, context: &Context) -> Result<()> {
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

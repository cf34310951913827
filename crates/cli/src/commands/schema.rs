//! `schema`: the form of our own files.

use crate::{
    args::{SchemaArgs, SchemaForm},
    context::Context,
};
use neat_content::Result;
use schemars::schema_for;

pub(crate) fn run(args: &SchemaArgs, context: &Context) -> Result<()> {
    let schema = match args.form {
        SchemaForm::Stack => schema_for!(neat_stack::StackFile),
        SchemaForm::Catalogue => schema_for!(neat_service::Catalogue),
        SchemaForm::Layout => schema_for!(neat_service::Layout),
        SchemaForm::Answer => schema_for!(neat_answer::Model),
        SchemaForm::Depot => schema_for!(neat_depot::Index),
        SchemaForm::Update => schema_for!(neat_package::Manifest),
    };
    context.print_json(&schema)
}

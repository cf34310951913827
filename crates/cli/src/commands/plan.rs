//! `plan`: what would happen.

use super::read_text;
use crate::{
    args::PlanArgs,
    context::{Context, clock},
    show,
};
use neat_content::Result;
use neat_stack::{Prepared, StackFile};
use std::path::Path;

pub(crate) fn run(args: &PlanArgs, context: &Context) -> Result<()> {
    let (_, prepared) = prepare(&args.stack, context)?;
    if context.json {
        context.print_json(&prepared.report)
    } else {
        context.print(&show::plan::plan(&prepared.report))
    }
}

/// Reads a stack file and works out what it asks for.
pub(super) fn prepare(path: &Path, context: &Context) -> Result<(String, Prepared)> {
    let text = read_text(path, "stack file")?;
    let stack = StackFile::parse(&text).map_err(|error| error.within(path.display()))?;
    let prepared = Prepared::new(&stack, path, &clock()?, &context.job())?;
    Ok((text, prepared))
}

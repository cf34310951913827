//! `plan`: what would happen.

use super::{answer::ask_secret, read_text};
use crate::{
    args::PlanArgs,
    context::{Context, clock},
    show,
};
use neat_content::Result;
use neat_stack::{Prepared, StackFile, Wishes};
use std::path::Path;

pub(crate) fn run(args: &PlanArgs, context: &Context) -> Result<()> {
    let (_, stack) = open(&args.stack)?;
    let clock = clock()?;
    let prepared = Prepared::new(&stack, &args.stack, &clock, wishes(&[]), &context.job())?;
    if context.json {
        context.print_json(&prepared.report)
    } else {
        context.print(&show::plan::plan(&prepared.report))
    }
}

/// Reads a stack file: its text, and what it says.
pub(super) fn open(path: &Path) -> Result<(String, StackFile)> {
    let text = read_text(path, "stack file")?;
    let stack = StackFile::parse(&text).map_err(|error| error.within(path.display()))?;
    Ok((text, stack))
}

/// Passwords are asked for on the terminal.
pub(super) fn wishes(only: &[String]) -> Wishes<'_> {
    Wishes { ask: Some(&ask_secret), only }
}

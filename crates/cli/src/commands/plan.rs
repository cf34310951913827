//! `plan`: what would happen.

use super::{answer::ask_secret, depot, read_text};
use crate::{
    args::PlanArgs,
    context::{Context, clock},
    show,
};
use neat_content::{Error, Result};
use neat_stack::{DepotState, DepotUse, PlanReport, Prepared, StackFile, Weight, Wishes};
use std::path::Path;

pub(crate) fn run(args: &PlanArgs, context: &Context) -> Result<()> {
    let (_, mut stack) = open(&args.stack)?;
    let uses = depot::resolve(&mut stack, &args.stack, &args.depot, args.fetch, context)?;
    if is_waiting(&uses) {
        return waiting(&stack, &args.stack, &uses, context);
    }
    let clock = clock()?;
    let wishes = Wishes { only_plan: true, ..wishes(&args.only) };
    let mut prepared = Prepared::new(&stack, &args.stack, &clock, wishes, &context.job())?;
    prepared.report.depot = uses;
    shown(&prepared.report, &args.stack, args.all, context)
}

/// Prints a plan, in short unless `all` of it is wanted; fails where a build of it would be refused.
pub(super) fn shown(report: &PlanReport, stack: &Path, all: bool, context: &Context) -> Result<()> {
    if context.json {
        context.print_json(report)?;
    } else if all {
        context.print(&show::plan::plan(report))?;
    } else {
        context.print(&show::brief::plan(report, stack))?;
    }
    match report.findings.iter().find(|finding| finding.weight == Weight::Refused) {
        Some(finding) => Err(Error::refused(finding.message.clone(), finding.hint.clone())),
        None => Ok(()),
    }
}

/// Whether something must be fetched before there can be a plan.
pub(super) fn is_waiting(uses: &[DepotUse]) -> bool {
    uses.iter().any(|item| item.state == DepotState::ToFetch)
}

/// Says what would be fetched.
pub(super) fn waiting(stack: &StackFile, path: &Path, uses: &[DepotUse], context: &Context) -> Result<()> {
    if context.json {
        return context.print_json(&show::plan::WaitingView {
            title: stack.title.clone(),
            depot: uses.to_vec(),
            complete: false,
        });
    }
    context.print(&show::depot::waiting(&stack.title, uses, path))
}

/// Reads a stack file: its text, and what it says.
pub(super) fn open(path: &Path) -> Result<(String, StackFile)> {
    let explain = |error| super::kind::explain(error, path, "a stack file");
    let text = read_text(path, "stack file").map_err(explain)?;
    let stack = StackFile::parse(&text).map_err(|error| explain(error.within(path.display())))?;
    Ok((text, stack))
}

/// Passwords are asked for on the terminal.
pub(super) fn wishes(only: &[String]) -> Wishes<'_> {
    Wishes { ask: Some(&ask_secret), only, only_plan: false }
}

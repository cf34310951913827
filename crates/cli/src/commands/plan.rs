//! `plan`: what would happen.

use super::{answer::ask_secret, depot, read_text};
use crate::{
    args::PlanArgs,
    context::{Context, clock},
    show,
};
use neat_content::{Content, Error, IfThere, PendingFile, Result, and_more};
use neat_stack::{
    DepotState, DepotUse, Ledger, Lock, PlanReport, Prepared, Since, StackFile, Weight, Wishes, lock_path,
};
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
    if let Some(path) = &args.since {
        prepared.report.since = Some(Since::plan(&read_ledger(path)?, &prepared.report));
    }
    if args.lock {
        lock(&stack, &args.stack, context)?;
    }
    shown(&prepared.report, &args.stack, args.all, context)
}

/// Reads the ledger of a build.
pub(super) fn read_ledger(path: &Path) -> Result<Ledger> {
    const LARGEST: u64 = 256 << 20;
    let bytes = Content::from_path(path)?.to_vec(LARGEST, "ledger")?;
    Ledger::parse(&String::from_utf8_lossy(&bytes)).map_err(|error| error.within(path.display()))
}

/// Writes the lock of a stack file.
fn lock(stack: &StackFile, path: &Path, context: &Context) -> Result<()> {
    let lock = Lock::of(stack, path, &context.job())?;
    let to = lock_path(path);
    let (pending, mut output) = PendingFile::create_output(&to, IfThere::Replace, None)?;
    output.write_bytes(lock.to_text()?.as_bytes())?;
    pending.commit(output.finish()?.0)?;
    context.say_line(&format!("{} locks {}", to.display(), show::count(lock.len() as u64, "file", "files")));
    for open in lock.open() {
        context
            .note(&format!("{open} cannot be locked: it is filled in later, or its depot says what it is"));
    }
    Ok(())
}

/// Refuses unless everything is as the lock of a stack file says.
pub(super) fn check_lock(stack: &StackFile, path: &Path, context: &Context) -> Result<()> {
    const SHOWN: usize = 5;
    let differences = Lock::read(&lock_path(path))?.differences(&Lock::of(stack, path, &context.job())?);
    if differences.is_empty() {
        return Ok(());
    }
    let more = and_more(differences.len().saturating_sub(SHOWN));
    let shown: Vec<&str> = differences.iter().take(SHOWN).map(String::as_str).collect();
    Err(Error::refused(
        format!("what {} names is not as it was locked: {}{more}", path.display(), shown.join("; ")),
        "put back what it was, or look at `neatstack plan` and lock it anew with `--lock`",
    ))
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

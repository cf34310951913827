//! `build`: do what the stack file says.

use super::{depot, plan, refuse_existing};
use crate::{
    args::BuildArgs,
    context::{Context, clock},
    exit, show,
};
use neat_content::Result;
use neat_stack::{BuildOptions, Finding, Ledger, Prepared, Weight, ledger_path};
use std::{collections::HashSet, ffi::OsString, path::Path};

/// Who built it, for the ledger.
pub(super) const PROGRAM: &str = concat!("neatstack ", env!("CARGO_PKG_VERSION"));

pub(crate) fn run(args: &BuildArgs, context: &Context) -> Result<()> {
    let (text, mut stack) = plan::open(&args.stack)?;
    if args.locked {
        plan::check_lock(&stack, &args.stack, context)?;
    }
    let uses = depot::resolve(&mut stack, &args.stack, &args.depot, !args.dry_run, context)?;
    if plan::is_waiting(&uses) {
        return plan::waiting(&stack, &args.stack, &uses, context);
    }
    let clock = clock()?;
    let mut prepared = Prepared::new(&stack, &args.stack, &clock, plan::wishes(&args.only), &context.job())?;
    prepared.report.depot = uses;
    if args.dry_run {
        return plan::shown(&prepared.report, &args.stack, false, context);
    }
    if !context.json {
        let said = |own: &&Finding| !context.quiet || own.weight != Weight::Note;
        let findings: Vec<Finding> = prepared.report.findings.iter().filter(said).cloned().collect();
        let text = show::plan::findings("Mind this", &findings);
        if !text.is_empty() {
            // Also under --quiet: nobody shall miss that a media erases disks.
            exit::complain(text.trim_start_matches('\n'));
        }
    }
    let mut replaceable = HashSet::new();
    for outputs in prepared.outputs()? {
        // What an earlier build left, as the ledger beside it says, may be made again.
        let earlier = outputs.first().map(|main| written_before(&ledger_path(main))).unwrap_or_default();
        for output in outputs {
            let may = args.replace || earlier.contains(&output.file_name().map(Into::into));
            refuse_existing(&output, may)?;
            if may {
                replaceable.insert(output);
            }
        }
    }
    let has_sites = !stack.variant.is_empty();
    let outcomes = prepared.build(
        &BuildOptions {
            stack_text: &text,
            program: PROGRAM,
            digest: if args.no_digest { Some(false) } else { args.digest.then_some(true) },
            threads: context.threads,
            replaceable,
            verify: args.verify,
            readable: args.readable,
        },
        &context.job(),
    )?;
    match outcomes.as_slice() {
        [outcome] if !has_sites && context.json => context.print_json(&outcome.ledger),
        [outcome] if !has_sites => {
            context.print(&show::plan::built(&outcome.ledger, &outcome.ledger_path.display().to_string()))
        }
        several if context.json => {
            let ledgers: Vec<Ledger> = several.iter().map(|outcome| outcome.ledger.clone()).collect();
            context.print_json(&ledgers)
        }
        several => {
            let ledgers: Vec<_> = several.iter().map(|outcome| &outcome.ledger).collect();
            context.print(&show::plan::built_several(&ledgers))
        }
    }
}

/// Names of the files that the build wrote which left a ledger at `path`.
fn written_before(path: &Path) -> Vec<Option<OsString>> {
    let Some(ledger) = std::fs::read_to_string(path).ok().and_then(|text| Ledger::parse(&text).ok()) else {
        return Vec::new();
    };
    ledger.outputs.iter().map(|output| Path::new(&output.path).file_name().map(Into::into)).collect()
}

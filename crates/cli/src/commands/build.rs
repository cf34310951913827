//! `build`: do what the stack file says.

use super::{depot, plan, refuse_existing};
use crate::{
    args::BuildArgs,
    context::{Context, clock},
    exit, show,
};
use neat_content::{Content, DigestKind, Error, Result, digest_of};
use neat_stack::{BuildOptions, Finding, Ledger, LedgerOutput, Prepared, Weight, ledger_path};
use std::{collections::HashSet, path::Path, time::SystemTime};

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
        let earlier = outputs.first().and_then(|main| Earlier::of(&ledger_path(main)));
        for output in outputs {
            let may = match &earlier {
                _ if args.replace => true,
                Some(earlier) => earlier.wrote(&output, context)?,
                None => false,
            };
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

/// A build before this one.
struct Earlier {
    ledger: Ledger,
    /// When it ended: its ledger is written last.
    ended: Option<SystemTime>,
}

impl Earlier {
    /// The build that left a ledger at `path`, if one did.
    fn of(path: &Path) -> Option<Self> {
        let ledger = Ledger::parse(&std::fs::read_to_string(path).ok()?).ok()?;
        Some(Self { ledger, ended: modified(path) })
    }

    /// Whether it wrote what lies at `path`.
    ///
    /// # Errors
    /// `Unsafe` when it did, and somebody has changed it since.
    fn wrote(&self, path: &Path, context: &Context) -> Result<bool> {
        let own = |output: &&LedgerOutput| Path::new(&output.path).file_name() == path.file_name();
        let Some(output) = self.ledger.outputs.iter().find(own) else { return Ok(false) };
        let Ok(metadata) = std::fs::metadata(path) else { return Ok(true) };
        let is_later = modified(path) > self.ended;
        let is_another = match &output.sha256 {
            _ if metadata.len() != output.size => true,
            // A copy may be younger than the ledger and the same.
            Some(sha256) if is_later => {
                digest_of(&Content::from_path(path)?, DigestKind::Sha256, &context.job())? != *sha256
            }
            _ => is_later,
        };
        if is_another {
            return Err(Error::refused(
                format!(
                    "{} is not as its ledger says: somebody changed it after it was built",
                    path.display()
                ),
                "keep it under another name, or overwrite it with --replace",
            ));
        }
        Ok(true)
    }
}

fn modified(path: &Path) -> Option<SystemTime> {
    std::fs::metadata(path).and_then(|metadata| metadata.modified()).ok()
}

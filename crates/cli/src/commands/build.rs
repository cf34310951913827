//! `build`: do what the stack file says.

use super::{plan::prepare, refuse_existing};
use crate::{args::BuildArgs, context::Context, show};
use neat_content::{Error, Result};
use neat_stack::{BuildOptions, Weight};
use std::path::Path;

/// Who built it, for the ledger.
pub(super) const PROGRAM: &str = concat!("neatstack ", env!("CARGO_PKG_VERSION"));

pub(crate) fn run(args: &BuildArgs, context: &Context) -> Result<()> {
    let (text, prepared) = prepare(&args.stack, context)?;
    if args.dry_run {
        if context.json {
            context.print_json(&prepared.report)?;
        } else {
            context.print(&show::plan::plan(&prepared.report))?;
        }
        let refused = prepared.report.findings.iter().find(|finding| finding.weight == Weight::Refused);
        return match refused {
            Some(finding) => Err(Error::refused(finding.message.clone(), finding.hint.clone())),
            None => Ok(()),
        };
    }
    if !context.json {
        let findings = show::plan::findings("Mind this", &prepared.report.findings);
        if !findings.is_empty() {
            context.say(findings.trim_start_matches('\n'));
        }
    }
    let iso = Path::new(&prepared.report.output.iso);
    // An output with a ledger beside it is an earlier build's and may be made again.
    let ours = iso.with_extension("ledger.json").is_file();
    refuse_existing(iso, args.replace || ours)?;
    let outcome = prepared.build(
        &BuildOptions { stack_text: &text, program: PROGRAM, digest: args.digest, threads: context.threads },
        &context.job(),
    )?;
    if context.json {
        return context.print_json(&outcome.ledger);
    }
    context.print(&show::plan::built(&outcome.ledger.output, &outcome.ledger_path.display().to_string()))
}

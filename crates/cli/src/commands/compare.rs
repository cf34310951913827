//! `compare`: what differs?

use super::{kind::Kind, plan::read_ledger};
use crate::{args::CompareArgs, context::Context, show};
use neat_content::Result;
use neat_stack::Since;

pub(crate) fn run(args: &CompareArgs, context: &Context) -> Result<()> {
    if [&args.before, &args.after].into_iter().all(|path| matches!(Kind::of(path), Ok(Some(Kind::Ledger)))) {
        let since = Since::ledgers(&read_ledger(&args.before)?, &read_ledger(&args.after)?);
        if context.json {
            return context.print_json(&since);
        }
        return context.print(&show::since::since(&since, "Between the two builds"));
    }
    let comparison = neat_stack::compare(&args.before, &args.after, args.edition.as_deref(), &context.job())?;
    context.clear_progress();
    if context.json {
        context.print_json(&comparison)
    } else {
        context.print(&show::compare::comparison(&comparison, args.reg))
    }
}

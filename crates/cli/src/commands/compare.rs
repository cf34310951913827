//! `compare`: what differs?

use super::{
    kind::Kind,
    plan::read_ledger,
    report::{name_of, write_page},
};
use crate::{args::CompareArgs, context::Context, show};
use neat_content::Result;
use neat_report::{of_comparison, of_since};
use neat_stack::Since;

pub(crate) fn run(args: &CompareArgs, context: &Context) -> Result<()> {
    if [&args.before, &args.after].into_iter().all(|path| matches!(Kind::of(path), Ok(Some(Kind::Ledger)))) {
        let since = Since::ledgers(&read_ledger(&args.before)?, &read_ledger(&args.after)?);
        if let Some(output) = &args.output {
            let page = of_since(&since, &name_of(&args.before), &name_of(&args.after));
            return write_page(&page, output, args.replace, context);
        }
        if context.json {
            return context.print_json(&since);
        }
        return context.print(&show::since::since(&since, "Between the two builds"));
    }
    let comparison = neat_stack::compare(&args.before, &args.after, args.edition.as_deref(), &context.job())?;
    context.clear_progress();
    if let Some(output) = &args.output {
        let page = of_comparison(&comparison, &name_of(&args.before), &name_of(&args.after));
        return write_page(&page, output, args.replace, context);
    }
    if context.json {
        context.print_json(&comparison)
    } else {
        context.print(&show::compare::comparison(&comparison, args.reg))
    }
}

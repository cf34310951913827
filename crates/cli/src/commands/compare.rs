//! `compare`: what differs?

use crate::{args::CompareArgs, context::Context, show};
use neat_content::Result;

pub(crate) fn run(args: &CompareArgs, context: &Context) -> Result<()> {
    let comparison = neat_stack::compare(&args.before, &args.after, args.edition.as_deref(), &context.job())?;
    context.clear_progress();
    if context.json {
        context.print_json(&comparison)
    } else {
        context.print(&show::compare::comparison(&comparison, args.reg))
    }
}

//! `compare`: what differs?

use super::{
    images,
    kind::Kind,
    plan::read_ledger,
    report::{name_of, write_page},
};
use crate::{args::CompareArgs, context::Context, show};
use neat_content::{Error, Result};
use neat_image::ImageDraft;
use neat_machine::MachineDisk;
use neat_report::{of_comparison, of_since};
use neat_stack::Since;
use std::{path::Path, sync::Arc};

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
    let is_of_a_disk = MachineDisk::is_at(&args.before)? || MachineDisk::is_at(&args.after)?;
    let comparison = if is_of_a_disk {
        let (before, after) =
            (edition_at(&args.before, args, context)?, edition_at(&args.after, args, context)?);
        neat_stack::compare_editions((&before.0, before.1), (&after.0, after.1))?
    } else if args.partition.is_some() {
        return Err(Error::request(
            "neither of both is a machine's disk, and --partition is for those",
            "leave --partition out",
        ));
    } else {
        neat_stack::compare(&args.before, &args.after, args.edition.as_deref(), &context.job())?
    };
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

/// The system on a machine's disk as an edition, read and digested, or the edition of an image file or media that is
/// meant.
fn edition_at(path: &Path, args: &CompareArgs, context: &Context) -> Result<(Arc<ImageDraft>, usize)> {
    if !MachineDisk::is_at(path)? {
        let image = images::open_anywhere(path, None)?;
        let number = images::the_edition(&image, args.edition.as_deref(), path)?;
        return Ok((Arc::new(ImageDraft::of(&image)), number));
    }
    let (draft, damaged) = MachineDisk::open(path)?
        .digested(args.partition, &name_of(path), &context.job())
        .map_err(|error| error.within(path.display()))?;
    context.clear_progress();
    damaged.iter().for_each(|note| context.note(note));
    Ok((Arc::new(draft), 1))
}

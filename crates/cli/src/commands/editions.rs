//! `editions`: which systems an image file holds.

use super::images::{self, write_draft};
use crate::{
    args::{EditionsAction, EditionsArgs},
    context::Context,
    show,
};
use neat_content::Result;
use neat_image::{ImageDraft, Rename};

pub(crate) fn run(args: &EditionsArgs, context: &Context) -> Result<()> {
    let image = match &args.action {
        // A list can be had of a media too.
        None => images::open_anywhere(&args.path, None)?,
        Some(_) => images::open(&args.path)?,
    };
    let Some(action) = &args.action else {
        let editions = neat_stack::edition_summaries(&image)?;
        if context.json {
            return context.print_json(&editions);
        }
        return context.print(&show::image::editions(&editions));
    };
    images::refuse_unfinished(&image)?;
    let mut draft = ImageDraft::of(&image);
    let all = || 1..=image.editions().len();
    let numbers =
        |which: &[String]| which.iter().map(|wanted| image.find_edition(wanted)).collect::<Result<Vec<_>>>();
    let mut others = Vec::new();
    let output = match action {
        EditionsAction::Keep { which, output } => {
            draft.select(&numbers(which)?)?;
            output
        }
        EditionsAction::Drop { which, output } => {
            let dropped = numbers(which)?;
            draft.select(&all().filter(|number| !dropped.contains(number)).collect::<Vec<_>>())?;
            output
        }
        EditionsAction::Order { which, output } => {
            let mut order = numbers(which)?;
            let first = order.clone();
            order.extend(all().filter(|number| !first.contains(number)));
            draft.select(&order)?;
            output
        }
        EditionsAction::Rename {
            which,
            name,
            description,
            display_name,
            display_description,
            edition_id,
            output,
        } => {
            let rename = Rename {
                name: name.clone(),
                description: description.clone(),
                display_name: display_name.as_ref().or(name.as_ref()).cloned(),
                display_description: display_description.as_ref().or(description.as_ref()).cloned(),
                flags: edition_id.clone(),
            };
            draft.rename(image.find_edition(which)?, &rename)?;
            output
        }
        EditionsAction::Combine { others: paths, output } => {
            for path in paths {
                let other = images::open(path)?;
                images::refuse_unfinished(&other)?;
                draft.append(&other, &(1..=other.editions().len()).collect::<Vec<_>>())?;
                others.push(other);
            }
            output
        }
        EditionsAction::Boot { which, output } => {
            let number = if which == "none" { None } else { Some(image.find_edition(which)?) };
            draft.set_boot(number)?;
            output
        }
    };
    let mut sources = vec![&image];
    sources.extend(&others);
    if let Some(solid) = images::solid(&output.solid, None, None)? {
        draft.put_into_solid(solid)?;
    }
    write_draft(&draft, &sources, &output.file, context)
}

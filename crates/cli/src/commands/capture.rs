//! `capture`: a folder as an edition.

use super::{images, refuse_existing};
use crate::{
    args::CaptureArgs,
    context::{Context, clock},
};
use neat_content::{Error, Result};
use neat_image::{ImageDraft, Times, capture};
use neat_service::{Edition, Layout};
use std::sync::Arc;

pub(crate) fn run(args: &CaptureArgs, context: &Context) -> Result<()> {
    refuse_existing(&args.output.output, args.output.replace)?;
    let solid = images::solid(&args.compression.solid, args.compression.level, args.compression.chunk)?;
    let compression = images::compression(&args.compression, None)?;
    let options = capture::Options {
        exclude: args.exclude.clone(),
        skip_bad_names: args.skip_bad_names,
        latest: clock()?.fixed,
        threads: context.threads,
    };
    let captured = capture::capture(&args.dir, &options, &context.job())?;
    context.clear_progress();
    for note in &captured.notes {
        context.note(note);
    }
    let mut draft = ImageDraft::new(compression);
    if let Some(solid) = solid {
        draft.repack_solid(solid)?;
    }
    captured.add_to(&mut draft, &args.name, &args.description)?;
    describe(&mut draft, args, context)?;
    images::write_draft(&draft, &[], &args.output, context)
}

/// Says in the image file what the system is, so that the edition looks like any other.
fn describe(draft: &mut ImageDraft, args: &CaptureArgs, context: &Context) -> Result<()> {
    let layouts = [Arc::new(Layout::common()?)];
    if let Some(path) = &args.like {
        let image = images::open_anywhere(path, None)?;
        let number = args.like_edition.as_ref().map_or(Ok(1), |own| image.find_edition(own))?;
        let info = image.editions().get(number - 1).and_then(|info| info.system.clone());
        let info = info.ok_or_else(|| {
            Error::request(
                format!("{} does not say what edition {number} is", path.display()),
                "name another with --like-edition, or leave --like out",
            )
        })?;
        let identity = layouts[0].identity.as_ref();
        draft.set_system(1, identity.map_or("SYSTEM", |own| &own.element), &info);
        return Ok(());
    }
    // Lent and taken back: with many files a second one would double what is in memory.
    let whole = Arc::new(std::mem::replace(draft, ImageDraft::new(None)));
    let found = Edition::open(&whole, 1, &layouts, Times::default())
        .and_then(|edition| Ok((edition.layout.is_some(), edition.identity()?)));
    *draft = Arc::unwrap_or_clone(whole);
    let hint = "--like MEDIA describes it as another edition";
    match found {
        Ok((_, Some((element, info)))) => draft.set_system(1, &element, &info),
        Ok((true, None)) => {
            context.note(&format!("its registry does not say which system it is; {hint}"));
        }
        Ok((false, None)) => {}
        // What is captured is kept as it is, damaged or not.
        Err(error) => context.note(&format!("its registry cannot be read: {error}; {hint}")),
    }
    Ok(())
}

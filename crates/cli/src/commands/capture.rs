//! `capture`: a folder as an edition.

use super::{images, refuse_existing};
use crate::{
    args::CaptureArgs,
    context::{Context, clock},
};
use neat_content::Result;
use neat_image::{ImageDraft, capture};

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
    images::write_draft(&draft, &[], &args.output, context)
}

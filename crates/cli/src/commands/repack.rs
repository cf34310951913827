//! `repack`: other compression.

use super::images;
use crate::{args::RepackArgs, context::Context};
use neat_content::Result;
use neat_image::ImageDraft;

pub(crate) fn run(args: &RepackArgs, context: &Context) -> Result<()> {
    let image = images::open(&args.path)?;
    images::refuse_unfinished(&image)?;
    let mut draft = ImageDraft::of(&image);
    match images::solid(&args.compression.solid, args.compression.level, args.compression.chunk)? {
        Some(solid) => draft.repack_solid(solid)?,
        None => draft.repack(images::compression(&args.compression, image.header().compression)?)?,
    }
    draft.set_integrity(args.integrity.or(image.header().has_integrity()));
    images::write_draft(&draft, &[&image], &args.output, context)
}

//! `unpack`: a media into a folder.

use crate::{args::UnpackArgs, context::Context, show};
use neat_content::Result;
use neat_media::folder;

pub(crate) fn run(args: &UnpackArgs, context: &Context) -> Result<()> {
    let mut media = super::kind::media(&args.media)?;
    media.private = super::is_private(&media, args.readable, context)?;
    folder::unpack(&media, &args.dir, &context.job())?;
    let counts = media.tree.counts();
    if context.json {
        return context.print_json(&show::media::UnpackedView {
            dir: args.dir.display().to_string(),
            files: counts.files,
            folders: counts.folders,
            bytes: counts.bytes,
        });
    }
    for warning in &media.warnings {
        context.note(warning);
    }
    context.print_line(&format!(
        "{}  {}, {}",
        args.dir.display(),
        show::count(counts.files, "file", "files"),
        show::size(counts.bytes)
    ))
}

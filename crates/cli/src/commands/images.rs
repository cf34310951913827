//! What the commands for image files share.

use super::refuse_existing;
use crate::{
    args::{CompressionArgs, ImageOutput, InsideArgs, LevelName, MethodName, SolidArgs},
    context::Context,
    show,
};
use neat_content::{Content, Error, IfThere, Output, PendingFile, Piece, Result, Source, Tree, and_more};
use neat_image::{
    Compression, ImageDraft, ImageFile, Level, Method, SolidCompression, is_image_file, to_tree,
};
use neat_machine::{MachineDisk, PartitionFiles};
use neat_stack::{compression_for, install_image_path, open_image};
use std::path::Path;

/// Opens the image file at `path`, which must be one.
pub(super) fn open(path: &Path) -> Result<ImageFile> {
    if path.is_dir() {
        return Err(Error::request(
            format!("{} is a folder, and an image file is wanted", path.display()),
            "name the image file in it",
        ));
    }
    // Of a media the one with the systems is meant.
    if !is_image(path)?
        && matches!(super::kind::Kind::of(path), Ok(Some(super::kind::Kind::Disc | super::kind::Kind::Stick)))
    {
        return open_anywhere(path, None);
    }
    super::kind::image(path)
}

/// Whether `path` is an image file.
pub(super) fn is_image(path: &Path) -> Result<bool> {
    Ok(!path.is_dir() && is_image_file(&Content::from_source(Source::open(path)?)))
}

/// Opens the image file that `path` is, or the one at `place` of the media that `path` is; without a place, the one with
/// the systems.
pub(super) fn open_anywhere(path: &Path, place: Option<&str>) -> Result<ImageFile> {
    if is_image(path)? {
        return open(path);
    }
    let media = super::kind::media(path)?;
    let place = match place {
        Some(place) => place.to_owned(),
        None => install_image_path(&media.tree).ok_or_else(|| {
            Error::request(
                format!("{} has no image file with systems", path.display()),
                "name an image file, or with --image one on this media",
            )
        })?,
    };
    open_image(&media.tree, &place).map_err(|error| error.within(path.display()))
}

/// The number of the edition where there is only one.
fn only_edition(image: &ImageFile) -> Option<String> {
    (image.editions().len() == 1).then(|| "1".to_owned())
}

/// The tree of what `path` is: of the edition that `inside` names, of an image file or of one on a media; without an
/// edition, of the media. What a tree cannot hold is said with its `consequence`.
pub(super) fn open_tree(
    path: &Path,
    inside: &InsideArgs,
    consequence: &str,
    context: &Context,
) -> Result<Tree> {
    if let Some(disk) = on_disk(path, inside, context)? {
        let (tree, notes) = disk.tree()?;
        say_notes(&notes, consequence, context);
        return Ok(tree);
    }
    let only = if inside.edition.is_none() && is_image(path)? { only_edition(&open(path)?) } else { None };
    let Some(wanted) = inside.edition.as_ref().or(only.as_ref()) else {
        if is_image(path)? {
            return Err(Error::request(
                format!("{} is an image file", path.display()),
                "say which edition with --edition; `neatstack editions` lists them",
            ));
        }
        return Ok(super::kind::media(path)?.tree);
    };
    let image = open_anywhere(path, inside.image.as_deref())?;
    let number = image.find_edition(wanted)?;
    let files = image.files(number)?;
    let (tree, notes) = to_tree(&image, number, &files)?;
    say_notes(&notes, consequence, context);
    Ok(tree)
}

/// Says the first of what a tree cannot hold, with its `consequence`.
fn say_notes(notes: &[String], consequence: &str, context: &Context) {
    const SHOWN: usize = 5;
    for note in notes.iter().take(SHOWN) {
        context.note(&format!("{note}, {consequence}"));
    }
    if notes.len() > SHOWN {
        context.note(and_more(notes.len() - SHOWN).trim_start());
    }
}

/// The number of the edition that is meant: `wanted`, or the only one.
pub(super) fn the_edition(image: &ImageFile, wanted: Option<&str>, path: &Path) -> Result<usize> {
    if let Some(wanted) = wanted {
        return image.find_edition(wanted);
    }
    let infos = image.editions();
    if infos.len() == 1 {
        return Ok(1);
    }
    let names: Vec<String> =
        infos.iter().enumerate().map(|(n, info)| format!("{} {:?}", n + 1, info.name)).collect();
    Err(Error::request(
        format!("{} holds several editions", path.display()),
        format!("say which with --edition: {}", names.join(", ")),
    ))
}

/// The files of the partition that is meant, if `path` is a machine's disk.
pub(super) fn on_disk(path: &Path, inside: &InsideArgs, context: &Context) -> Result<Option<PartitionFiles>> {
    if !MachineDisk::is_at(path)? {
        return match inside.partition {
            Some(_) => Err(Error::request(
                format!("{} is no machine's disk, and --partition is for those", path.display()),
                "leave --partition out",
            )),
            None => Ok(None),
        };
    }
    if inside.edition.is_some() {
        return Err(Error::request(
            format!("{} is a machine's disk, which has no editions", path.display()),
            "say which partition with --partition, or leave both out",
        ));
    }
    let found = MachineDisk::open(path)?.chosen(inside.partition, &context.job());
    context.clear_progress();
    found.map(Some).map_err(|error| error.within(path.display()))
}

/// The level that is asked for; nothing stands for none.
const fn level(asked: Option<LevelName>, otherwise: Level) -> Option<Level> {
    match asked {
        None => Some(otherwise),
        Some(LevelName::None) => None,
        Some(LevelName::Fast) => Some(Level::Fast),
        Some(LevelName::Good) => Some(Level::Good),
        Some(LevelName::Max) => Some(Level::Max),
    }
}

/// How content goes into solid resources, if the arguments ask for it.
pub(super) fn solid(
    args: &SolidArgs,
    asked: Option<LevelName>,
    chunk: Option<u64>,
) -> Result<Option<SolidCompression>> {
    if !args.solid {
        return Ok(None);
    }
    let Some(level) = level(asked, Level::Good) else {
        return Err(Error::request(
            "solid resources are compressed, and --level none stores content as it is",
            "leave one of --solid and --level none out",
        ));
    };
    let mut solid = SolidCompression::new(level);
    if let Some(chunk) = chunk {
        solid.chunk_len = u32::try_from(chunk).unwrap_or(u32::MAX);
    }
    solid.memory = args.memory.unwrap_or(solid.memory);
    solid.fitted().map(Some)
}

/// The compression that the arguments ask for, for a file that is compressed as `now`; nothing stands for none.
pub(super) fn compression(args: &CompressionArgs, now: Option<(Method, u32)>) -> Result<Option<Compression>> {
    let Some(level) = level(args.level, Level::Fast) else { return Ok(None) };
    let mut compression = compression_for(level, now);
    if let Some(method) = args.method {
        let method = match method {
            MethodName::Xpress => Method::Xpress,
            MethodName::Lzx => Method::Lzx,
        };
        if method != compression.method {
            compression = Compression { method, chunk_len: 32 << 10, level };
        }
    }
    if let Some(chunk) = args.chunk.filter(|_| !args.solid.solid) {
        compression.chunk_len = u32::try_from(chunk).unwrap_or(u32::MAX);
    }
    compression.check()?;
    Ok(Some(compression))
}

/// Writes the output with `fill`; refuses to write over anything, and always over one of `sources`.
pub(super) fn write_output(
    output: &ImageOutput,
    sources: &[&ImageFile],
    fill: &mut dyn FnMut(&mut Output) -> Result<()>,
) -> Result<u64> {
    let path = &output.output;
    refuse_sources(path, sources)?;
    refuse_existing(path, output.replace)?;
    let (pending, mut out) = PendingFile::create_output(path, IfThere::replace(output.replace), None)?;
    fill(&mut out)?;
    let len = out.position();
    pending.commit(out.finish()?.0)?;
    Ok(len)
}

/// Refuses an output that is one of the files read.
pub(super) fn refuse_sources(path: &Path, sources: &[&ImageFile]) -> Result<()> {
    let Ok(own) = path.canonicalize() else { return Ok(()) };
    // A part may lie on a media.
    let lies_in = |piece: &Piece| match piece {
        Piece::Extent { source, .. } => source.path().canonicalize().is_ok_and(|source| source == own),
        _ => false,
    };
    let mut parts = sources.iter().flat_map(|source| source.parts());
    if parts.any(|part| part.content.pieces().iter().any(lies_in)) {
        return Err(Error::refused(
            format!("{} is the source itself, which is never written", path.display()),
            "give the output another name",
        ));
    }
    Ok(())
}

/// Refuses to work from a file that is not finished.
pub(super) fn refuse_unfinished(image: &ImageFile) -> Result<()> {
    match image.parts().iter().find(|part| part.header.is_unfinished()) {
        Some(part) => Err(Error::refused(
            format!("{} says that somebody was still writing to it", part.name),
            "use a copy whose writing was finished",
        )),
        None => Ok(()),
    }
}

/// Writes a draft, and says what came out.
pub(super) fn write_draft(
    draft: &ImageDraft,
    sources: &[&ImageFile],
    output: &ImageOutput,
    context: &Context,
) -> Result<()> {
    let job = context.job();
    if output.verify {
        draft.verify(context.threads, &job)?;
    }
    let len = write_output(output, sources, &mut |out| draft.write(out, context.threads, &job))?;
    let left = draft.left_in_solids()?;
    if left > 0 {
        context.note(&format!(
            "{} of its solid resources belong to no edition any more; with --solid such resources are written anew",
            show::size(left)
        ));
    }
    let names: Vec<String> = draft.editions().into_iter().map(|info| info.name).collect();
    let path = output.output.display();
    if context.json {
        return context.print_json(&show::image::WrittenView {
            image: path.to_string(),
            size: len,
            editions: names,
        });
    }
    context.print_line(&format!(
        "{path}  {}, {}: {}",
        show::size(len),
        show::count(names.len() as u64, "edition", "editions"),
        names.join(", ")
    ))
}

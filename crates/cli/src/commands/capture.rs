//! `capture`: a folder or a machine's disk as an edition.

use super::{images, refuse_existing};
use crate::{
    args::{CaptureArgs, LevelName},
    context::{Context, clock},
    show,
};
use neat_content::{Content, Error, Piece, Result};
use neat_image::{ImageDraft, ImageFile, SystemInfo, Times, capture};
use neat_machine::{
    MachineDisk,
    capture::{Capture, Wishes},
};
use neat_service::{Edition, Layout};
use std::{path::Path, sync::Arc};

pub(crate) fn run(args: &CaptureArgs, context: &Context) -> Result<()> {
    refuse_existing(&args.output.output, args.output.replace)?;
    let old = args.update.as_ref().map(|path| images::open(path)).transpose()?;
    if let Some(old) = &old {
        images::refuse_unfinished(old)?;
    }
    if MachineDisk::is_at(&args.dir)? {
        return disk(args, old.as_ref(), context);
    }
    if args.partition.is_some() || args.anyway {
        return Err(Error::request(
            format!(
                "{} is no machine's disk, and --partition and --anyway are for those",
                args.dir.display()
            ),
            "leave them out",
        ));
    }
    let options = capture::Options {
        exclude: args.leave_out.clone(),
        skip_bad_names: args.skip_bad_names,
        latest: clock()?.fixed,
        threads: context.threads,
    };
    let mut draft = draft(args, old.as_ref())?;
    let captured = capture::capture(&args.dir, &options, &context.job())?;
    context.clear_progress();
    for note in &captured.notes {
        context.note(note);
    }
    captured.add_to(&mut draft, &args.name, &args.description)?;
    describe(&mut draft, args, context)?;
    let sources: Vec<&ImageFile> = old.iter().collect();
    images::write_draft(&draft, &sources, &args.output, context)
}

/// The draft that the edition comes into: empty, or with the editions of `old`.
fn draft(args: &CaptureArgs, old: Option<&ImageFile>) -> Result<ImageDraft> {
    let solid = images::solid(&args.compression.solid, args.compression.level, args.compression.chunk)?;
    let Some(old) = old else {
        let mut draft = ImageDraft::new(images::compression(&args.compression, None)?);
        if let Some(solid) = solid {
            draft.repack_solid(solid)?;
        }
        return Ok(draft);
    };
    let own = &args.compression;
    let stored = own.level == Some(LevelName::None) && old.header().compression.is_some();
    if own.method.is_some() || own.chunk.is_some() || solid.is_some() || stored {
        return Err(Error::request(
            "what comes beside other editions is compressed as they are",
            "leave out --method, --chunk, --solid and --level none, or `repack` the file afterwards",
        ));
    }
    let mut draft = ImageDraft::of(old);
    if let Some(compression) = images::compression(own, old.header().compression)? {
        draft.set_level(compression.level);
    }
    Ok(draft)
}

/// The system on a disk.
fn disk(args: &CaptureArgs, old: Option<&ImageFile>, context: &Context) -> Result<()> {
    if args.compression.solid.solid {
        return Err(Error::request(
            "content of a disk is read once, in the order of the disk, and solid resources want another order",
            "leave --solid out, and `repack --solid` the image file afterwards",
        ));
    }
    let job = context.job();
    let disk = MachineDisk::open(&args.dir)?;
    refuse_source(&args.output.output, &disk.content)?;
    let wishes = Wishes { partition: args.partition, leave_out: args.leave_out.clone(), anyway: args.anyway };
    let prepared = Capture::prepare(&disk, &wishes, &job);
    context.clear_progress();
    let prepared = prepared.map_err(|error| error.within(args.dir.display()))?;
    for note in disk.notes.iter().chain(&prepared.findings).chain(&prepared.notes) {
        context.note(note);
    }
    let left: Vec<String> = prepared.left_out.iter().map(|own| own.path.clone()).collect();
    let mut draft = draft(args, old)?;
    // Told before everything is read.
    if draft.editions().iter().any(|own| own.name.eq_ignore_ascii_case(&args.name)) {
        return Err(Error::request(
            format!("the image file has an edition {:?} already", args.name),
            "names are unique in an image file; choose another",
        ));
    }
    let like = args.like.as_ref().map(|path| like(path, args)).transpose()?;
    let sources: Vec<&ImageFile> = old.into_iter().collect();
    let (entries, bytes) = (prepared.entries(), prepared.bytes());
    let mut prepared = Some(prepared);
    let mut damaged = Vec::new();
    let names = (args.name.as_str(), args.description.as_str());
    let len = images::write_output(&args.output, &sources, &mut |output| {
        let mut prepared = prepared.take().ok_or_else(|| Error::internal("a disk is captured twice"))?;
        if let Some(like) = &like {
            prepared.set_system(like.clone());
        }
        damaged = prepared.write(&mut draft, names, output, context.threads, &job)?;
        Ok(())
    })?;
    context.clear_progress();
    for own in &damaged {
        context.note(&format!("left out, because it is damaged: {own}"));
    }
    let editions: Vec<String> = draft.editions().into_iter().map(|info| info.name).collect();
    let path = args.output.output.display();
    if context.json {
        return context.print_json(&show::image::WrittenView {
            image: path.to_string(),
            size: len,
            editions,
        });
    }
    context.print(&show::image::captured(&path.to_string(), len, (entries, bytes), &left, &editions))
}

/// Refuses an output that is a part of the disk.
fn refuse_source(output: &Path, disk: &Content) -> Result<()> {
    let Ok(own) = output.canonicalize() else { return Ok(()) };
    let mut is_source = false;
    disk.for_each_source(&mut |source| {
        is_source |= source.path().canonicalize().is_ok_and(|source| source == own);
    });
    if is_source
        || disk
            .pieces()
            .iter()
            .any(|piece| matches!(piece, Piece::Extent { source, .. } if source.path() == own))
    {
        return Err(Error::refused(
            format!("{} is the source itself, which is never written", output.display()),
            "give the output another name",
        ));
    }
    Ok(())
}

/// How another edition describes its system.
fn like(path: &Path, args: &CaptureArgs) -> Result<(String, SystemInfo)> {
    let image = images::open_anywhere(path, None)?;
    let number = args.like_edition.as_ref().map_or(Ok(1), |own| image.find_edition(own))?;
    let info = image.editions().get(number - 1).and_then(|info| info.system.clone());
    let info = info.ok_or_else(|| {
        Error::request(
            format!("{} does not say what edition {number} is", path.display()),
            "name another with --like-edition, or leave --like out",
        )
    })?;
    let layout = Layout::common()?;
    Ok((layout.identity.map_or_else(|| "SYSTEM".to_owned(), |own| own.element), info))
}

/// Says in the image file what the system is, so that the edition looks like any other.
fn describe(draft: &mut ImageDraft, args: &CaptureArgs, context: &Context) -> Result<()> {
    let number = draft.editions().len();
    if let Some(path) = &args.like {
        let (element, info) = like(path, args)?;
        draft.set_system(number, &element, &info);
        return Ok(());
    }
    let layouts = [Arc::new(Layout::common()?)];
    // Lent and taken back: with many files a second one would double what is in memory.
    let whole = Arc::new(std::mem::replace(draft, ImageDraft::new(None)));
    let found = Edition::open(&whole, number, &layouts, Times::default())
        .and_then(|edition| Ok((edition.layout.is_some(), edition.identity()?)));
    *draft = Arc::unwrap_or_clone(whole);
    let hint = "--like MEDIA describes it as another edition";
    match found {
        Ok((_, Some((element, info)))) => draft.set_system(number, &element, &info),
        Ok((true, None)) => {
            context.note(&format!("its registry does not say which system it is; {hint}"));
        }
        Ok((false, None)) => {}
        // What is captured is kept as it is, damaged or not.
        Err(error) => context.note(&format!("its registry cannot be read: {error}; {hint}")),
    }
    Ok(())
}

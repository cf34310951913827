//! `touchup`: small changes to a finished ISO file.

use super::refuse_existing;
use crate::{
    args::{TouchupAction, TouchupArgs},
    context::{Context, clock},
    show::{
        self,
        touchup::{DoneView, HistoryView},
    },
};
use neat_content::{
    Content, DigestKind, Error, IfThere, Output, PendingFile, Result, Source, Timestamp, digest_of,
};
use neat_media::touchup::{self, Action, Disc};
use rustix::fs::ioctl_ficlone;
use std::{
    fs,
    path::{Path, PathBuf},
};

pub(crate) fn run(args: &TouchupArgs, context: &Context) -> Result<()> {
    let work = match &args.action {
        TouchupAction::List => return list(args, context),
        TouchupAction::Put { files } => Work::Actions(puts(files)?),
        TouchupAction::Hide { paths } => {
            Work::Actions(paths.iter().map(|path| Action::Hide { path: path.clone() }).collect())
        }
        TouchupAction::Show { paths } => {
            Work::Actions(paths.iter().map(|path| Action::Show { path: path.clone() }).collect())
        }
        TouchupAction::Undo { count, all } => Work::Undo((!all).then_some(usize::from(*count))),
    };
    if args.dry_run {
        return rehearse(work, args, context);
    }
    let Some(out) = &args.copy_to else {
        return finish(work, Disc::open(&args.iso)?, &args.iso, args, context, &|| Ok(()));
    };
    refuse_existing(out, args.replace)?;
    let source = Source::open(&args.iso)?;
    let (pending, file) = PendingFile::create(out, IfThere::replace(args.replace))?;
    if super::is_private(&super::kind::media(&args.iso)?, args.readable, context)? {
        pending.make_private()?;
    }
    if ioctl_ficlone(&file, source.file()?.as_ref()).is_err() {
        // The file system cannot share the blocks of a whole file.
        let again = file.try_clone().map_err(Error::io("open again", out))?;
        let mut output = Output::new(again, out, None);
        output.write_content(&Content::from_source(source), &context.job())?;
        output.finish()?;
    }
    let again = file.try_clone().map_err(Error::io("open again", out))?;
    let pending = std::cell::Cell::new(Some((pending, file)));
    let fixed = clock()?.fixed.and_then(Timestamp::to_system_time);
    let commit = || {
        let Some((pending, file)) = pending.take() else { return Ok(()) };
        if let Some(time) = fixed {
            file.set_modified(time).map_err(Error::io("set the time of", out))?;
        }
        pending.commit(file)
    };
    finish(work, Disc::from_file(again, out)?, out, args, context, &commit)
}

/// What is asked for.
enum Work {
    Actions(Vec<Action>),
    Undo(Option<usize>),
}

/// Does the work on `disc`, gives it its name with `commit`, and tells.
fn finish(
    work: Work,
    mut disc: Disc,
    path: &Path,
    args: &TouchupArgs,
    context: &Context,
    commit: &dyn Fn() -> Result<()>,
) -> Result<()> {
    let digest = || {
        let kind = DigestKind::Sha256;
        args.digest.then(|| digest_of(&Content::from_path(path)?, kind, &context.job())).transpose()
    };
    match work {
        Work::Actions(actions) => {
            let outcome = disc.apply(actions, clock()?.today, &context.job())?;
            commit()?;
            let sha256 = digest()?;
            context.clear_progress();
            if context.json {
                return context.print_json(&DoneView::new(path, &outcome, sha256));
            }
            context.print(&show::touchup::outcome(path, &outcome, sha256.as_deref()))
        }
        Work::Undo(count) => {
            let history = disc.undo(count)?;
            commit()?;
            let sha256 = digest()?;
            context.clear_progress();
            if context.json {
                return context.print_json(&HistoryView::new("touchup-undo", path, &history, sha256));
            }
            context.print(&show::touchup::undone(path, &history, sha256.as_deref()))
        }
    }
}

/// Says what the work would be.
fn rehearse(work: Work, args: &TouchupArgs, context: &Context) -> Result<()> {
    let path = &args.iso;
    match work {
        Work::Actions(actions) => {
            let outcome = touchup::rehearse(path, actions, clock()?.today, &context.job())?;
            context.clear_progress();
            if context.json {
                return context.print_json(&DoneView::rehearsed(path, &outcome));
            }
            context.print(&show::touchup::rehearsed(path, &outcome))
        }
        Work::Undo(count) => {
            let mut history = touchup::list(path)?;
            let there = history.touchups.len();
            let count = count.unwrap_or(there);
            if count > there {
                return Err(Error::request(
                    format!("{} has {}", path.display(), show::count(there as u64, "touch-up", "touch-ups")),
                    "`neatstack touchup ISO list` shows them",
                ));
            }
            history.touchups.drain(..there - count);
            if context.json {
                return context.print_json(&HistoryView::new("touchup-undo", path, &history, None));
            }
            context.print(&show::touchup::would_undo(path, &history))
        }
    }
}

fn list(args: &TouchupArgs, context: &Context) -> Result<()> {
    if args.copy_to.is_some() {
        return Err(Error::request(
            "`list` changes nothing, so there is nothing to copy",
            "leave --copy-to out",
        ));
    }
    let history = touchup::list(&args.iso)?;
    let sha256 = if args.digest {
        Some(digest_of(&Content::from_path(&args.iso)?, DigestKind::Sha256, &context.job())?)
    } else {
        None
    };
    context.clear_progress();
    if context.json {
        return context.print_json(&HistoryView::new("touchup-list", &args.iso, &history, sha256));
    }
    context.print(&show::touchup::list(&args.iso, &history, sha256.as_deref()))
}

/// The files to put, in the order in which they are given.
fn puts(files: &[String]) -> Result<Vec<Action>> {
    let mut actions = Vec::new();
    for given in files {
        let (file, path) = split(given);
        let metadata = fs::metadata(&file).map_err(Error::input("examine", &file))?;
        if metadata.is_dir() {
            put_folder(&file, &path, &mut actions)?;
        } else {
            // `FILE=sources/` puts it there under its own name.
            let path = if path.ends_with('/') { format!("{path}{}", own_name(&file)?) } else { path };
            actions.push(put(&file, path)?);
        }
    }
    if actions.is_empty() {
        return Err(Error::request(
            "there is no file in what is to be put",
            "name a file, or a folder that has some",
        ));
    }
    Ok(actions)
}

fn put(file: &Path, path: String) -> Result<Action> {
    let metadata = fs::metadata(file).map_err(Error::input("examine", file))?;
    let modified = Timestamp::from_metadata(&metadata);
    // Seconds are all that a directory record holds, and all trees shall say the same.
    let modified = Timestamp::from_seconds(modified.seconds);
    Ok(Action::Put { content: Content::from_path(file)?, modified, path })
}

fn put_folder(folder: &Path, path: &str, actions: &mut Vec<Action>) -> Result<()> {
    let mut entries: Vec<PathBuf> = fs::read_dir(folder)
        .and_then(|entries| entries.map(|entry| entry.map(|entry| entry.path())).collect())
        .map_err(Error::io("list", folder))?;
    entries.sort();
    for entry in entries {
        let below = format!("{}/{}", path.trim_end_matches('/'), own_name(&entry)?);
        if entry.is_dir() {
            put_folder(&entry, &below, actions)?;
        } else {
            actions.push(put(&entry, below)?);
        }
    }
    Ok(())
}

/// `FILE=PATH`, or a file alone, which keeps its name. A file whose name has the sign in it is that file.
fn split(given: &str) -> (PathBuf, String) {
    if !Path::new(given).exists()
        && let Some((file, path)) = given.split_once('=')
    {
        return (file.into(), path.to_owned());
    }
    let file = PathBuf::from(given);
    let name = own_name(&file).unwrap_or_default();
    (file, name)
}

fn own_name(file: &Path) -> Result<String> {
    let name = file.file_name().and_then(|name| name.to_str());
    name.map(str::to_owned).ok_or_else(|| {
        Error::request(
            format!("{} has no name that a disc can hold", file.display()),
            "give one, as in FILE=PATH",
        )
    })
}

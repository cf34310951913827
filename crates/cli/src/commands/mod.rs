//! One module for each command.

mod answer;
mod build;
mod capture;
mod check;
mod compare;
mod config;
mod demo;
mod depot;
mod disc;
mod draft;
mod drivers;
mod editions;
mod files;
mod images;
mod inventory;
mod kind;
mod look;
mod manual;
mod master;
mod parts;
mod pick;
mod plan;
mod repack;
mod report;
mod schema;
mod stick;
mod stick_update;
mod take;
mod target;
mod touchup;
mod trial;
mod unpack;
mod update;

use crate::{args::Command, context::Context};
use neat_content::{Error, Result};
use std::{
    path::{Path, PathBuf},
    process::ExitCode,
    sync::Arc,
};

/// Runs a command.
pub(crate) fn run(command: Command, context: &Context) -> Result<ExitCode> {
    match command {
        Command::Look(args) => return look::run(&args, context),
        Command::Check(args) => return check::run(&args, context),
        Command::Files(args) => files::run(&args, context)?,
        Command::Take(args) => take::run(&args, context)?,
        Command::Unpack(args) => unpack::run(&args, context)?,
        Command::Master(args) => master::run(&args, context)?,
        Command::Editions(args) => editions::run(&args, context)?,
        Command::Capture(args) => capture::run(&args, context)?,
        Command::Repack(args) => repack::run(&args, context)?,
        Command::Split(args) => parts::split(&args, context)?,
        Command::Join(args) => parts::join(&args, context)?,
        Command::Inventory(args) => inventory::run(&args, context)?,
        Command::Drivers(args) => drivers::run(&args, context)?,
        Command::Update(args) => update::run(&args, context)?,
        Command::Compare(args) => compare::run(&args, context)?,
        Command::Answer(args) => return answer::run(&args, context),
        Command::Depot(args) => depot::run(&args, context)?,
        Command::Touchup(args) => touchup::run(&args, context)?,
        Command::Stick(args) => stick::run(&args, context)?,
        Command::Disc(args) => disc::run(&args, context)?,
        Command::Trial(args) => return trial::run(&args, context),
        Command::Report(args) => report::run(&args, context)?,
        Command::Schema(args) => schema::run(&args, context)?,
        Command::Manual(args) => manual::run(&args, context)?,
        Command::Config(_) => config::run(context)?,
        Command::Draft(args) => draft::run(&args, context)?,
        Command::Pick(args) => pick::run(&args, context)?,
        Command::Plan(args) => plan::run(&args, context)?,
        Command::Build(args) => build::run(&args, context)?,
        Command::Demo(args) => demo::run(&args, context)?,
    }
    Ok(ExitCode::SUCCESS)
}

/// Names of the editions of what lies at a path; nothing where it has none. For completing, which says no errors.
pub(crate) fn editions_at(path: &Path) -> Option<Vec<String>> {
    let (path, _) = source_of(path)?;
    let image = images::open_anywhere(&path, None).ok()?;
    Some(image.editions().iter().map(|info| info.name.clone()).collect())
}

/// Ids of the components of an edition of what lies at a path, of the first where none is named.
pub(crate) fn components_at(path: &Path, edition: Option<&str>) -> Option<Vec<String>> {
    let (path, first) = source_of(path)?;
    let image = images::open_anywhere(&path, None).ok()?;
    let number = edition.or(first.as_deref()).and_then(|own| image.find_edition(own).ok()).unwrap_or(1);
    let draft = Arc::new(neat_image::ImageDraft::of(&image));
    let layouts = [Arc::new(neat_service::Layout::common().ok()?)];
    let opened = neat_service::Edition::open(&draft, number, &layouts, neat_image::Times::default()).ok()?;
    let inventory = neat_service::Inventory::unweighed(&opened, &[]).ok()?;
    Some(inventory.components.into_keys().collect())
}

/// The media that a path is, or that the stack file there starts from, with the edition that it keeps first.
fn source_of(path: &Path) -> Option<(PathBuf, Option<String>)> {
    if path.is_dir() || kind::Kind::of(path).ok()? != Some(kind::Kind::Stack) {
        return Some((path.to_owned(), None));
    }
    let (_, stack) = plan::open(path).ok()?;
    let section = stack.source?;
    let source = path.parent()?.join(section.image_from.unwrap_or(section.media));
    Some((source, section.editions.into_iter().next()))
}

/// Text of a small file of this machine.
fn read_text(path: &Path, what: &str) -> Result<String> {
    const LIMIT: u64 = 16 << 20;
    let bytes = neat_content::Content::from_path(path)?
        .to_vec(LIMIT, what)
        .map_err(|error| error.within(path.display()))?;
    String::from_utf8(bytes)
        .map_err(|_| Error::request(format!("{} is not UTF-8 text", path.display()), "save it as UTF-8"))
}

/// Whether only its owner may read what is made of a media: it holds a password or key where setup looks for answers,
/// or only its owner may read the media itself.
fn is_private(media: &neat_media::Media, readable: bool, context: &Context) -> Result<bool> {
    if readable {
        return Ok(false);
    }
    let has_secret = neat_answer::tree_holds_secret(&media.tree)?;
    if has_secret {
        context.note("the answers on it hold a password or key, so only you may read what is written; --readable changes that");
    }
    Ok(has_secret || media.private)
}

/// Makes a folder that results go into, unless it is there.
fn make_folder(path: &Path) -> Result<()> {
    if path.exists() && !path.is_dir() {
        return Err(Error::request(
            format!("{} is a file, and a folder is wanted", path.display()),
            "give another name",
        ));
    }
    std::fs::create_dir_all(path).map_err(Error::io("create the folder", path))
}

/// Refuses to overwrite what is there.
fn refuse_existing(path: &Path, replace: bool) -> Result<()> {
    if path.exists() && !replace {
        return Err(Error::refused(
            format!("{} is there already", path.display()),
            "give another name, or --replace if it may be overwritten",
        ));
    }
    Ok(())
}

//! One module for each command.

mod answer;
mod build;
mod capture;
mod check;
mod compare;
mod demo;
mod depot;
mod draft;
mod drivers;
mod editions;
mod files;
mod images;
mod inventory;
mod kind;
mod look;
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
use std::{path::Path, process::ExitCode};

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
        Command::Trial(args) => return trial::run(&args, context),
        Command::Report(args) => report::run(&args, context)?,
        Command::Schema(args) => schema::run(&args, context)?,
        Command::Draft(args) => draft::run(&args, context)?,
        Command::Pick(args) => pick::run(&args, context)?,
        Command::Plan(args) => plan::run(&args, context)?,
        Command::Build(args) => build::run(&args, context)?,
        Command::Demo(args) => demo::run(&args, context)?,
    }
    Ok(ExitCode::SUCCESS)
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

//! `disc`: writers of discs.

use super::kind::media;
use crate::{
    args::{DiscAction, DiscArgs, DiscEraseArgs, WriterArgs},
    context::Context,
    show::disc::{ErasedView, WriterView, WritersView, WrittenView},
};
use neat_content::{Content, Error, Result};
use neat_media::MediaForm;
use neat_recorder::{
    Disc, PacketDevice, Unit, erase,
    guard::{self, Consent},
    kernel::KernelWriter,
    simulated::SimulatedWriter,
    write::{self, Options},
    writers,
};
use std::{
    io::IsTerminal,
    path::{Path, PathBuf},
};

/// Where the kernel tells of what is mounted.
const PROC: &str = "/proc";

pub(crate) fn run(args: &DiscArgs, context: &Context) -> Result<()> {
    if let Some(DiscAction::Erase(args)) = &args.action {
        return run_erase(args, context);
    }
    if args.list {
        return list(&args.writer, context);
    }
    let Some(source) = &args.source else {
        return Err(Error::request("an ISO file is wanted", "see `neatstack disc --help`"));
    };
    let image = image(source)?;
    let (path, mut device) = open(&args.writer)?;
    refuse_source(source, &path)?;
    let mut unit = Unit::new(&mut *device);
    let name = unit.name();
    let disc = Disc::in_writer(&mut unit)?;
    guard::check_use(&name, disc.as_ref())?;
    let Some(disc) = disc else { return Err(Error::internal("a writer without a disc was checked")) };
    let consent = Consent { write: args.yes_write.as_deref(), erase: args.yes_erase.as_deref() };
    check(&mut unit, &disc, consent, context)?;
    let options = Options { verify: !args.no_verify, speed: args.speed, eject: !args.no_eject };
    let outcome = write::disc(&mut unit, &image, options, &context.job())?;
    let view = WrittenView::new(&path, source, &outcome);
    if context.json { context.print_json(&view) } else { context.print(&view.text()) }
}

/// The image, if it is one of a disc.
fn image(source: &Path) -> Result<Content> {
    let found = media(source)?;
    if found.form != MediaForm::Disc {
        return Err(Error::request(
            format!("{} is no ISO file", source.display()),
            "write one first: `neatstack master FOLDER -o OUT.iso`, or `build` with `iso` in [media]",
        ));
    }
    Content::from_path(source)
}

/// The writer that is meant, for writing.
fn open(args: &WriterArgs) -> Result<(PathBuf, Box<dyn PacketDevice>)> {
    match (&args.to, &args.simulated) {
        (_, Some(path)) => Ok((path.clone(), Box::new(SimulatedWriter::open(path)?))),
        (Some(path), None) => {
            if let Some(place) = writers::mounted(Path::new(PROC), path).first() {
                return Err(Error::refused(
                    format!("the disc in {} is mounted at {place}", path.display()),
                    "unmount it first",
                ));
            }
            Ok((path.clone(), Box::new(KernelWriter::open(path, true)?)))
        }
        (None, None) => Err(Error::request(
            "a writer is wanted: --to /dev/sr0, or --simulated FILE to rehearse",
            "`neatstack disc --list` shows those that are here",
        )),
    }
}

fn refuse_source(source: &Path, to: &Path) -> Result<()> {
    let (Ok(source), Ok(to)) = (source.canonicalize(), to.canonicalize()) else { return Ok(()) };
    if source == to {
        return Err(Error::refused(
            format!("{} is the source itself, which is never written", to.display()),
            "name another writer",
        ));
    }
    Ok(())
}

/// Writing is agreed on the command line, or by typing the writer's word on a terminal.
fn check(unit: &mut Unit<'_>, disc: &Disc, consent: Consent<'_>, context: &Context) -> Result<()> {
    let name = unit.name();
    let identity = unit.identity()?;
    let word = guard::word(&identity).to_owned();
    let is_said = consent.write.is_some() || consent.erase.is_some();
    if is_said || context.json || word.is_empty() || !std::io::stdin().is_terminal() {
        return guard::check(&name, &identity, disc, consent);
    }
    let what = if guard::erases(disc) { "Everything on it is erased" } else { "It is written" };
    context.say_line(&format!("{name}, {}: {}.", identity.model, disc.words()));
    context.say_line(&format!("{what}. Type {word} to go on:"));
    let mut line = String::new();
    std::io::stdin().read_line(&mut line).map_err(Error::io("read from", Path::new("the terminal")))?;
    let typed = Some(line.trim());
    guard::check(&name, &identity, disc, Consent { write: typed, erase: typed })
}

fn run_erase(args: &DiscEraseArgs, context: &Context) -> Result<()> {
    let (path, mut device) = open(&args.writer)?;
    let mut unit = Unit::new(&mut *device);
    let name = unit.name();
    let Some(disc) = Disc::in_writer(&mut unit)? else { return guard::check_use(&name, None) };
    check(&mut unit, &disc, Consent { write: None, erase: args.yes_erase.as_deref() }, context)?;
    erase::disc(&mut unit, &disc, args.whole, &context.job())?;
    let view = ErasedView::new(&path, Disc::in_writer(&mut unit)?);
    if context.json { context.print_json(&view) } else { context.print(&view.text()) }
}

fn list(args: &WriterArgs, context: &Context) -> Result<()> {
    let found = match &args.simulated {
        Some(path) => vec![writers::simulated(path)?],
        None => writers::list(Path::new("/sys"), Path::new(PROC), Path::new("/dev"))?,
    };
    let view = WritersView::new(found.into_iter().map(WriterView::new).collect());
    if context.json {
        return context.print_json(&view);
    }
    if view.is_empty() {
        context.say("There is no drive for discs here.");
        return Ok(());
    }
    context.print(&view.text())
}

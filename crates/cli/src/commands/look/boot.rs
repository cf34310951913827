//! `look --boot`: the way of each firmware.

use crate::{
    context::Context,
    show::{self, trial::WalksView},
};
use neat_content::{Error, Result};
use neat_media::bootwalk;
use std::{path::Path, process::ExitCode};

/// The way of each firmware through the media. Exit code 1 when something is missing for one that it is made for.
pub(super) fn boot(path: &Path, context: &Context) -> Result<ExitCode> {
    if path.is_dir() {
        let message = format!("{} is a folder, and firmware starts discs and disks", path.display());
        return Err(Error::request(message, "master it first: `neatstack master DIR -o OUT.iso`"));
    }
    let walks = bootwalk::walk(path)?;
    let missing = walks.iter().any(|walk| walk.claimed && !walk.is_good());
    if context.json {
        let (name, good) = (path.display().to_string(), !missing);
        context.print_json(&WalksView { kind: "boot-walk", path: name, good, walks })?;
    } else {
        context.print(&show::trial::walks(path, &walks))?;
    }
    Ok(if missing { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}

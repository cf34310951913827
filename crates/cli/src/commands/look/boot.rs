//! `look --boot`: the way of each firmware.

use crate::{
    context::{Context, clock},
    show::{
        self,
        trial::{LoaderView, WalksView},
    },
};
use neat_content::{Class, Error, Result, read_small};
use neat_media::bootwalk;
use neat_signature::{Revoked, of_loader};
use std::{path::Path, process::ExitCode};

/// Largest list of what was taken back, in bytes.
const LARGEST_LIST: u64 = 16 << 20;

/// The way of each firmware through the media. Exit code 1 when something is missing for one that it is made for.
pub(super) fn boot(path: &Path, revoked: Option<&Path>, context: &Context) -> Result<ExitCode> {
    if path.is_dir() {
        let message = format!("{} is a folder, and firmware starts discs and disks", path.display());
        return Err(Error::request(message, "master it first: `neatstack master DIR -o OUT.iso`"));
    }
    let revoked = revoked
        .map(|list| {
            let bytes = read_small(list, LARGEST_LIST, "list of what was taken back")?;
            Revoked::read(&bytes).map_err(|error| error.within(list.display()))
        })
        .transpose()?;
    let walks = bootwalk::walk(path)?;
    let mut loaders: Vec<LoaderView> = Vec::new();
    for (name, content) in bootwalk::loaders(path)? {
        let signed = match of_loader(&content, revoked.as_ref()) {
            Ok(signed) => signed,
            // What is no application is said on the way.
            Err(error) if error.class() == Class::Corrupt => continue,
            Err(error) => return Err(error.within(name)),
        };
        if !loaders.iter().any(|own| own.path == name && own.signed == signed) {
            loaders.push(LoaderView { path: name, signed });
        }
    }
    let missing = walks.iter().any(|walk| walk.claimed && !walk.is_good());
    if context.json {
        let (name, good) = (path.display().to_string(), !missing);
        context.print_json(&WalksView { kind: "boot-walk", path: name, good, walks, loaders })?;
    } else {
        let text = show::trial::walks(path, &walks) + &show::trial::signatures(&loaders, clock()?.today);
        context.print(&text)?;
    }
    Ok(if missing { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}

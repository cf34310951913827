//! `manual`: pages and completions for this machine, or for a package.

use super::refuse_existing;
use crate::{
    args::{self, ManualArgs},
    complete,
    context::Context,
    show::{self, build::ManualView},
};
use clap::Command;
use neat_content::{Error, IfThere, PendingFile, Result};
use std::path::Path;

/// Columns of pages, as texts are wrapped by whoever shows them.
const WIDTH: usize = 100;

pub(crate) fn run(args: &ManualArgs, context: &Context) -> Result<()> {
    let mut files = Vec::new();
    let mut command = args::plain_command();
    command.build();
    pages(&command, &mut files)?;
    for (shell, place) in complete::SHELLS {
        let text = complete::registration(shell).map_err(Error::io("write", Path::new(place)))?;
        files.push((place.to_owned(), text));
    }
    for (place, _) in &files {
        refuse_existing(&args.dir.join(place), args.replace)?;
    }
    for (place, bytes) in &files {
        let path = args.dir.join(place);
        if let Some(folder) = path.parent() {
            super::make_folder(folder)?;
        }
        let (pending, mut file) = PendingFile::create_output(&path, IfThere::replace(args.replace), None)?;
        file.write_bytes(bytes)?;
        pending.commit(file.finish()?.0)?;
    }
    let view = ManualView {
        dir: args.dir.display().to_string(),
        files: files.into_iter().map(|(place, _)| place).collect(),
    };
    if context.json {
        return context.print_json(&view);
    }
    let what = show::count(view.files.len() as u64, "file", "files");
    context.print(&show::heading_line(&view.dir, &format!("{what}: manual pages and completions")))
}

/// A page for a command and for each below it.
fn pages(command: &Command, files: &mut Vec<(String, Vec<u8>)>) -> Result<()> {
    let name = command.get_display_name().unwrap_or_else(|| command.get_name()).to_owned();
    let mut text = Vec::new();
    let page = clap_mangen::Man::new(command.clone().term_width(WIDTH))
        .manual("Neat Stack")
        .source(format!("neatstack {}", env!("CARGO_PKG_VERSION")))
        .date("");
    page.render(&mut text).map_err(Error::io("write", Path::new(&name)))?;
    files.push((format!("man/man1/{name}.1"), text));
    command.get_subcommands().filter(|own| own.get_name() != "help").try_for_each(|own| pages(own, files))
}

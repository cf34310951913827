//! `answer`: answer files.

mod ask;
mod change;
mod check;
mod new;
mod read;
mod write;

pub(super) use ask::ask_secret;
pub(super) use write::model_of;

use super::{read_text, refuse_existing};
use crate::{
    args::{AnswerAction, AnswerArgs, OutputArgs},
    context::Context,
};
use neat_answer::{AnswerFile, Model, Secrets, SiteList};
use neat_content::{Content, IfThere, PendingFile, Result};
use std::{
    path::{Path, PathBuf},
    process::ExitCode,
};

pub(crate) fn run(args: &AnswerArgs, context: &Context) -> Result<ExitCode> {
    match &args.action {
        AnswerAction::New(args) => new::new(args, context)?,
        AnswerAction::Read(args) => read::read_answers(args, context)?,
        AnswerAction::Write(args) => write::write(args, context)?,
        AnswerAction::Insert(args) => change::insert(args, context)?,
        AnswerAction::Move(args) => change::shift(args, context)?,
        AnswerAction::Remove(args) => change::remove(args, context)?,
        AnswerAction::Check(args) => return check::check(args, context),
    }
    Ok(ExitCode::SUCCESS)
}

/// Answers as they lie on the disk.
enum Opened {
    Model(Box<Model>),
    File(AnswerFile),
}

fn bytes_of(path: &Path) -> Result<Vec<u8>> {
    Content::from_path(path)?
        .to_vec(AnswerFile::MAX_LEN, "answer file")
        .map_err(|error| error.within(path.display()))
}

fn open(path: &Path) -> Result<Opened> {
    let bytes = bytes_of(path)?;
    let text = String::from_utf8_lossy(&bytes);
    if path.to_string_lossy().ends_with(".answer.toml") || Model::is_model(&text) {
        let model = Model::parse(&read_text(path, "model")?).map_err(|error| error.within(path.display()))?;
        return Ok(Opened::Model(Box::new(model)));
    }
    AnswerFile::parse(&bytes).map(Opened::File).map_err(|error| error.within(path.display()))
}

/// The site list at a path.
pub(super) fn site_list(path: &Path) -> Result<SiteList> {
    SiteList::parse(&read_text(path, "site list")?).map_err(|error| error.within(path.display()))
}

/// The model as it is for the first machine of a list, where there is one.
fn for_first(model: Model, list: Option<&SiteList>) -> Result<Model> {
    match list.and_then(|list| list.sites.first()) {
        Some(site) => site.fill_model(&model),
        None => Ok(model),
    }
}

fn folder_of(path: &Path) -> PathBuf {
    path.parent().unwrap_or(Path::new("")).to_owned()
}

/// Writes a file under a temporary name first. What may hold passwords is for its owner alone.
fn write_file(path: &Path, bytes: &[u8], there: IfThere, is_private: bool) -> Result<()> {
    if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
        super::make_folder(folder)?;
    }
    let (pending, mut output) = PendingFile::create_output(path, there, None)?;
    if is_private {
        pending.make_private()?;
    }
    output.write_bytes(bytes)?;
    pending.commit(output.finish()?.0)
}

fn give(text: &str, args: &OutputArgs, context: &Context) -> Result<()> {
    match &args.output {
        Some(path) => {
            refuse_existing(path, args.replace)?;
            write_file(path, text.as_bytes(), IfThere::replace(args.replace), false)?;
            context.say_line(&format!("wrote {}", path.display()));
            Ok(())
        }
        None => context.print_document(text),
    }
}

pub(super) fn secrets<'a>(path: &Path, ask: &'a dyn Fn(&str) -> Result<String>) -> Secrets<'a> {
    Secrets { base: folder_of(path), ask: Some(ask), ..Secrets::default() }
}

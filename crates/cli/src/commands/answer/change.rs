//! `answer insert`, `move` and `remove`: commands of a stage.

use super::super::{read_text, refuse_existing};
use super::{Opened, open, write_file};
use crate::{
    args::{InsertArgs, IntoArgs, MoveArgs, RemoveArgs},
    context::Context,
    show,
};
use neat_answer::{
    Change, Gravity, change_commands,
    model::{Command, Stage},
};
use neat_content::{Error, IfThere, Result};
use std::path::Path;

/// Changes the commands of a stage in a file or a model.
pub(super) fn change(
    path: &Path,
    into: &IntoArgs,
    stage: Stage,
    change: &Change,
    context: &Context,
    done: impl FnOnce(usize) -> String,
) -> Result<()> {
    let target = into.output.as_deref().unwrap_or(path);
    if into.output.is_some() {
        refuse_existing(target, false)?;
    }
    let (bytes, count, findings) = match open(path)? {
        Opened::File(file) => file.with_commands(stage, change)?,
        Opened::Model(mut model) => {
            let count = change_commands(&mut model, stage, change)?;
            if read_text(path, "model")?.lines().any(|line| line.trim_start().starts_with('#')) {
                context.note("comments of the model are not kept");
            }
            (model.to_toml()?.into_bytes(), count, Vec::new())
        }
    };
    let mut unsaid = findings.iter().filter(|own| own.gravity == Gravity::Problem && own.field == "command");
    if let Some(finding) = unsaid.next() {
        return Err(Error::request(finding.message.clone(), finding.hint.clone()));
    }
    write_file(target, &bytes, IfThere::replace(into.output.is_none()), true)?;
    let done = done(count);
    if context.json {
        return context.print_json(&show::answer::ChangedView { file: target.display().to_string(), done });
    }
    context.print_line(&format!("{done} in {}", target.display()))
}

pub(super) fn insert(args: &InsertArgs, context: &Context) -> Result<()> {
    let stage: Stage = args.stage.into();
    let command = Command {
        description: args.description.clone(),
        wait: !args.no_wait,
        hidden: args.hidden,
        outside: args.outside,
        ..Command::new(stage, args.command.clone())
    };
    change(&args.file, &args.into, stage, &Change::Insert { command, at: args.at }, context, |count| {
        format!("command {} of {count} at {}", args.at.unwrap_or(count), stage.name())
    })
}

pub(super) fn shift(args: &MoveArgs, context: &Context) -> Result<()> {
    let stage: Stage = args.stage.into();
    let moved = Change::Move { from: args.from, to: args.to };
    change(&args.file, &args.into, stage, &moved, context, |count| {
        format!("command {} is now number {} of {count} at {}", args.from, args.to, stage.name())
    })
}

pub(super) fn remove(args: &RemoveArgs, context: &Context) -> Result<()> {
    let stage: Stage = args.stage.into();
    let gone = Change::Remove { number: args.number };
    change(&args.file, &args.into, stage, &gone, context, |count| {
        format!("took out command {} at {}, {count} left", args.number, stage.name())
    })
}

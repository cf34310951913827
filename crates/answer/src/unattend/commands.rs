//! What a file erases, and its commands by their numbers.

use super::{
    architectures,
    edit::{self, Editor, component},
    lists::{List, Meaning},
    spots,
    tasks::Task,
};
use crate::{
    Change, Erasure,
    face::Reading,
    model::{Architecture, Stage},
    xml::Document,
};
use neat_content::{Advice, Error, Hint, Result};

/// What is erased without a question about the disk, and what is asked before.
pub(super) fn erases(document: &Document, reading: &Reading) -> Erasure {
    let root = document.root();
    let mut erasure = Erasure::default();
    for architecture in &reading.model.architectures {
        for disk in edit::items(root, List::Disks, *architecture) {
            let number = disk.text_at(&["DiskID"]).unwrap_or("0");
            if disk.text_at(&["WillWipeDisk"]).is_some_and(spots::is_true) {
                erasure.add(format!("everything on disk {number}"));
                continue;
            }
            let modified =
                disk.child("ModifyPartitions").map(|list| list.children.as_slice()).unwrap_or_default();
            for partition in modified.iter().filter(|own| own.child("Format").is_some()) {
                let id = partition.text_at(&["PartitionID"]).unwrap_or("?");
                erasure.add(format!("partition {id} of disk {number}"));
            }
        }
        for list in List::all().into_iter().filter(|list| list.is_numbered()) {
            for element in edit::items(root, list, *architecture) {
                let run = element.text_at(&[list.line_name()]).unwrap_or_default();
                erasure.add_command(run);
            }
        }
        let has = |pass, name, path: &[&str]| {
            component(root, pass, name, *architecture).is_some_and(|own| own.find(path).is_some())
        };
        // Setup of an architecture that the file does not speak to is not answered at all.
        if component(root, "windowsPE", spots::SETUP, *architecture).is_none() {
            continue;
        }
        let language = spots::INTERNATIONAL_SETUP;
        if !has("windowsPE", language, &["SetupUILanguage", "UILanguage"])
            || !has("windowsPE", language, &["UILanguage"])
        {
            erasure.ask("the language");
        }
        let accepts = component(root, "windowsPE", spots::SETUP, *architecture)
            .and_then(|own| own.text_at(&["UserData", "AcceptEula"]))
            .is_some_and(spots::is_true);
        if !accepts {
            erasure.ask("the licence");
        }
    }
    erasure
}

/// Changes the commands of a stage in a file by their numbers there, whatever they mean; gives the text and how many
/// there are then.
pub(super) fn change_commands(text: &str, stage: Stage, change: &Change) -> Result<(String, usize)> {
    let mut editor = Editor::new(Document::parse(text.to_owned())?)?;
    let mut all = architectures(editor.document.root());
    if all.is_empty() {
        all.push(Architecture::X64);
    }
    let mut count = 0;
    for architecture in all {
        let tasks = |editor: &Editor, wait| -> Vec<Meaning> {
            editor
                .items(List::Commands(stage, wait), architecture)
                .into_iter()
                .filter_map(|(_, own)| own)
                .collect()
        };
        let waits = match change {
            Change::Insert { command, .. } => command.wait,
            // Those that are waited for come first, and are most often the only ones.
            _ => !tasks(&editor, true).is_empty() || tasks(&editor, false).is_empty(),
        };
        let list = List::Commands(stage, waits);
        if list.place().is_none() {
            return Err(Error::request(
                format!("unattend has no place for such a command at {}", stage.name()),
                match stage {
                    Stage::FirstStart => Hint::from(
                        "nothing runs before somebody signs in: use system-installed or first-sign-in",
                    ),
                    Stage::FirstSignIn => Advice::CommandWaits.into(),
                    _ => Advice::CommandDoesNotWait.into(),
                },
            ));
        }
        let before = tasks(&editor, waits);
        let mut after = before.clone();
        change.apply(&mut after, stage, |command| Meaning::Task(Task::Own(command.clone())))?;
        editor.change(list, architecture, &before, &after)?;
        count = after.len();
    }
    Ok((editor.document.text().to_owned(), count))
}

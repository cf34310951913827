//! Answers of the generation before image files: in each folder of a setup, with what setup copies and runs besides.

use super::Given;
use crate::{change::Editor, report::Weight};
use neat_answer::{
    AnswerFile, Dialect, Model, Secrets, SideFile, Site, WrittenFile, model::Ask, write_model,
};
use neat_content::{Content, Result};
use neat_older::OlderSetup;

/// What stands for the folder that setup copies from in the names of files beside answers.
const FOLDER: &str = "$OEM$";
/// What folders of drivers begin with in the neutral form.
const DRIVE: &str = "%SystemDrive%\\";

/// Whether the media has a setup of that generation.
pub(super) fn is_one(editor: &Editor) -> Result<bool> {
    Ok(!OlderSetup::find(&editor.tree)?.is_empty())
}

/// Where the media's setups look for their answers.
pub(super) fn places(editor: &Editor) -> Result<Vec<String>> {
    Ok(OlderSetup::find(&editor.tree)?.iter().map(OlderSetup::answers_place).collect())
}

/// Puts answers into each folder of a setup, with the files that lie beside them.
pub(super) fn put(written: &WrittenFile, replace: bool, name: &str, editor: &mut Editor) -> Result<()> {
    let setups = OlderSetup::find(&editor.tree)?;
    if setups.is_empty() {
        editor.find(
            Weight::Refused,
            format!("the media has no setup that reads answers of the kind {}", written.dialect.name()),
            "take it out of `dialects`, or name a media of the generation before image files",
        );
    }
    let mut done: Vec<String> = Vec::new();
    for setup in setups {
        let reason =
            format!("from {name}, where the setup of {} looks when it is started from a disc", setup.folder);
        editor.put_made(
            &setup.answers_place(),
            Content::from_bytes(written.bytes.clone()),
            replace,
            &reason,
        )?;
        let folder = setup.additions_folder();
        if !done.contains(&folder) {
            super::put_side_files(&moved(&written.files, &folder), editor)?;
            done.push(folder);
        }
    }
    Ok(())
}

/// The answers of some setups alone.
pub(crate) fn put_for_setups(
    given: &Given,
    setups: &[&OlderSetup],
    (site, ask): (Option<&Site>, Option<Ask<'_>>),
    editor: &mut Editor,
) -> Result<()> {
    let written = with_drivers(given.speak(Dialect::Sif, site, ask)?, editor)?;
    editor.note_secret(&written.bytes);
    for setup in setups {
        let reason = format!("from {}, where the setup of {} looks", given.name(), setup.folder);
        let content = Content::from_bytes(written.bytes.clone());
        editor.put_made(&setup.answers_place(), content, true, &reason)?;
        super::put_side_files(&moved(&written.files, &setup.additions_folder()), editor)?;
    }
    super::tell_of(&written, given, site, editor)
}

/// Files beside answers in the folder that a setup copies from.
fn moved(files: &[SideFile], folder: &str) -> Vec<SideFile> {
    let own =
        |file: &SideFile| SideFile { path: file.path.replacen(FOLDER, folder, 1), bytes: file.bytes.clone() };
    files.iter().map(own).collect()
}

/// Answers that name the folders of drivers on the media, too.
pub(super) fn with_drivers(written: WrittenFile, editor: &Editor) -> Result<WrittenFile> {
    if written.dialect != Dialect::Sif || editor.handed.older_drivers.is_empty() {
        return Ok(written);
    }
    let (bytes, text) = named(&written.bytes, &editor.handed.older_drivers)?;
    Ok(WrittenFile { bytes, text, ..written })
}

/// The bytes and the text of answers that name these folders of drivers.
fn named(bytes: &[u8], folders: &[String]) -> Result<(Vec<u8>, String)> {
    let file = AnswerFile::parse_as(bytes, Some(Dialect::Sif))?;
    let (bytes, _) = file.changed(|model| {
        add(model, folders);
        Ok(())
    })?;
    let text = AnswerFile::parse_as(&bytes, Some(Dialect::Sif))?.text;
    Ok((bytes, text))
}

fn add(model: &mut Model, folders: &[String]) {
    for folder in folders.iter().map(|folder| format!("{DRIVE}{folder}")) {
        if !model.software.drivers.iter().any(|own| own.eq_ignore_ascii_case(&folder)) {
            model.software.drivers.push(folder);
        }
    }
}

/// Names the folders of drivers where the stack file brings no answers: in those of the media, or in new ones that answer
/// nothing else.
///
/// # Errors
/// What the system refuses to read.
pub(crate) fn name_drivers(editor: &mut Editor) -> Result<()> {
    let folders = editor.handed.older_drivers.clone();
    if folders.is_empty() {
        return Ok(());
    }
    for path in places(editor)? {
        let there =
            editor.tree.file(&path).map(|own| own.to_vec(AnswerFile::MAX_LEN, "answer file")).transpose()?;
        let named = if let Some(there) = &there {
            named(there, &folders).map(|(bytes, _)| bytes)
        } else {
            editor.find(
                Weight::Note,
                format!(
                    "media:/{path} is new and names folders of drivers alone: setup asks everything else"
                ),
                "bring answers with [answer]",
            );
            let mut model = Model::default();
            add(&mut model, &folders);
            write_model(&model, Dialect::Sif, &mut Secrets::default()).map(|own| own.bytes)
        };
        let bytes = match named {
            Ok(bytes) => bytes,
            Err(error) => {
                let message = format!("the folders of drivers cannot be named in media:/{path}: {error}");
                editor.find(Weight::Refused, message, "correct the answer file");
                continue;
            }
        };
        if there.as_ref() != Some(&bytes) {
            editor.put_made(&path, Content::from_bytes(bytes), true, "it names the folders of drivers")?;
        }
    }
    Ok(())
}

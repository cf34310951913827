//! What is not done to an edition itself but handed on: to setup, by its answer file, or to the installed system, by the
//! script at the end of setup.

mod drivers;
mod features;
mod packages;

pub(super) use drivers::hand_on as hand_on_drivers;
pub(super) use features::Switches;
pub(crate) use packages::check_signature;
pub(super) use packages::{VendorInput, hand_on as hand_on_packages, read};

use crate::{
    change::{Editor, answers},
    recipe::StackFile,
    report::Weight,
};
use neat_answer::{AnswerFile, answer_files, servicing};
use neat_content::{Content, Result};
use std::collections::BTreeMap;

/// What setup's answer file names.
#[derive(Clone, Debug, Default)]
pub(crate) struct Handed {
    /// Packages and features, in the order in which they are done.
    pub packages: Vec<servicing::Package>,
    /// Folders of the media with drivers.
    pub drivers: Vec<String>,
    /// The same on media of the generation before image files: below the root of the system's drive.
    pub older_drivers: Vec<String>,
}

/// Files by their paths in a folder.
pub(super) type Files = BTreeMap<String, Content>;

/// What the system runs at the end of setup, before any application.
#[derive(Clone, Debug)]
pub(super) enum AtEnd {
    /// A package, by the handler for its kind of file.
    Package { name: String, content: Content, arguments: String },
    /// A feature.
    Feature { name: String, on: bool, content: Files },
}

impl Handed {
    /// What setup does with it, in words.
    pub(crate) fn lines(&self) -> Vec<String> {
        let mut lines = Vec::new();
        for package in &self.packages {
            let said =
                |key: &str| package.identity.iter().find(|(name, _)| *name == key).map_or("", |own| &own.1);
            if matches!(package.source, servicing::PackageSource::Cabinet(_)) {
                lines.push(format!("installs {} {}", said("name"), said("version")));
            }
            for (feature, on) in &package.features {
                lines.push(format!("switches {feature} {}", if *on { "on" } else { "off" }));
            }
        }
        let drivers = self.drivers.iter().chain(&self.older_drivers);
        lines.extend(drivers.map(|folder| format!("takes drivers from {folder}")));
        lines
    }

    fn is_empty(&self) -> bool {
        self.packages.is_empty() && self.drivers.is_empty()
    }
}

/// Whether the answers that setup will find use a configuration set, from whose root the media's files are named.
pub(super) fn answers_use_a_set(stack: &StackFile, editor: &Editor) -> bool {
    // What the stack file brings replaces what the media has.
    match (&editor.answers_use_a_set, &stack.answer) {
        (Some(uses), Some(_)) => *uses,
        _ => own_answers(editor).is_some_and(|text| servicing::uses_configuration_set(&text)),
    }
}

/// The path of the answer file of the dialect with a servicing section, if the media has one.
fn answers_path(editor: &Editor) -> Option<String> {
    let found = answer_files(&editor.tree).into_iter().find(|(_, dialect)| *dialect == servicing::DIALECT);
    found.map(|(path, _)| path)
}

/// The text of the media's own answer file of that dialect.
fn own_answers(editor: &Editor) -> Option<String> {
    let content = editor.tree.file(&answers_path(editor)?)?;
    let bytes = content.to_vec(AnswerFile::MAX_LEN, "answer file").ok()?;
    Some(AnswerFile::parse(&bytes).ok()?.text)
}

/// Names what was handed to setup in the answer file; makes one if the media has none. Where a media chooses among answers
/// for many machines, that is refused.
///
/// # Errors
/// What the system refuses to read.
pub(crate) fn name_in_answers(is_chosen: bool, editor: &mut Editor) -> Result<()> {
    answers::name_drivers(editor)?;
    let handed = editor.handed.clone();
    if handed.is_empty() {
        return Ok(());
    }
    if is_chosen {
        editor.find(
            Weight::Refused,
            "answers that are chosen by serial numbers do not name packages, features and drivers of the media".into(),
            "write through = \"setup-end\" where that is possible, or take out answers_only, so that each machine gets a media",
        );
        return Ok(());
    }
    let path = answers_path(editor).unwrap_or_else(|| servicing::DIALECT.place().to_owned());
    match named(&path, &handed, editor) {
        Ok(bytes) => {
            let text = AnswerFile::parse(&bytes)?.text;
            if !servicing::uses_configuration_set(&text) {
                editor.find(
                    Weight::Note,
                    format!(
                        "media:/{path} does not say that it uses a configuration set, and what it hands to setup is named \
                         from its root"
                    ),
                    "write configuration_set = true in [software] of the answers, or add \
                     <UseConfigurationSet>true</UseConfigurationSet> to the part that sets setup up",
                );
            }
            let why = "it names what setup installs from the media";
            editor.put_made(&path, Content::from_bytes(bytes), true, why)
        }
        Err(error) if error.is_io() => Err(error),
        Err(error) => {
            let message = format!("what setup is to install cannot be named in media:/{path}: {error}");
            editor.find(Weight::Refused, message, "correct the answer file");
            Ok(())
        }
    }
}

/// The answer file at `path` with what is handed to setup.
fn named(path: &str, handed: &Handed, editor: &Editor) -> Result<Vec<u8>> {
    let mut bytes = match editor.tree.file(path) {
        Some(content) => content.to_vec(AnswerFile::MAX_LEN, "answer file")?,
        None => servicing::with_packages(None, &[])?.into_bytes(),
    };
    if !handed.drivers.is_empty() {
        let folders = handed.drivers.iter().map(|folder| servicing::from_set(folder));
        let (changed, _) = AnswerFile::parse(&bytes)?.changed(|model| {
            for folder in folders {
                if !model.software.drivers.contains(&folder) {
                    model.software.drivers.push(folder);
                }
            }
            Ok(())
        })?;
        bytes = changed;
    }
    if !handed.packages.is_empty() {
        let file = AnswerFile::parse(&bytes)?;
        let text = servicing::with_packages(Some(&file.text), &handed.packages)?;
        bytes = file.to_bytes(&text);
    }
    Ok(bytes)
}

/// A name from outside as that of a file on the media.
fn file_name(text: &str) -> String {
    let clean: String =
        text.chars().map(|c| if c.is_ascii_alphanumeric() || "-_.~".contains(c) { c } else { '-' }).collect();
    let clean = clean.trim_matches('.');
    if clean.is_empty() { "package".into() } else { clean.to_owned() }
}

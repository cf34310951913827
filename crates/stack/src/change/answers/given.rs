//! Answers as a stack file names them: a model, or a file in a dialect.

use super::older;
use crate::{change::Editor, recipe::AnswerSection};
use neat_answer::{
    AnswerFile, Dialect, Model, Reading, Report, Site, Topic, WrittenFile,
    model::{Architecture, Ask, Command, Secrets},
    read_file, write_model,
};
use neat_content::{Content, Error, Result};
use std::path::{Path, PathBuf};

/// Answers as they were given.
pub(crate) enum Given {
    /// The neutral form, and the folder that it names files from.
    Model { model: Box<Model>, base: PathBuf, name: String, accept: Vec<Topic>, usual: Dialect },
    /// A file in a dialect.
    File { file: AnswerFile, bytes: Vec<u8>, name: String, accept: Vec<Topic> },
}

/// Reads what a path of the stack file names, and what may be found in it.
pub(crate) fn open(path: &Path, name: &str, accept: &[Topic]) -> Result<Given> {
    let accept = accept.to_vec();
    let bytes = Content::from_path(path)?
        .to_vec(AnswerFile::MAX_LEN, "answer file")
        .map_err(|error| error.within(path.display()))?;
    let text = String::from_utf8_lossy(&bytes);
    if name.ends_with(".answer.toml") || Model::is_model(&text) {
        let model = Model::parse(&text).map_err(|error| error.within(path.display()))?;
        let base = path.parent().unwrap_or(Path::new("")).to_owned();
        let (model, usual) = (Box::new(model), Dialect::OF_MODELS);
        return Ok(Given::Model { model, base, name: name.to_owned(), accept, usual });
    }
    let file = AnswerFile::parse(&bytes).map_err(|error| error.within(path.display()))?;
    Ok(Given::File { file, bytes, name: name.to_owned(), accept })
}

/// Reads `[answer]`. What a model is written in when nothing is said is known by the media.
pub(crate) fn given(section: &AnswerSection, editor: &Editor) -> Result<Given> {
    let mut given = named(section, editor)?;
    if let Given::Model { usual, .. } = &mut given
        && older::is_one(editor)?
    {
        *usual = Dialect::Sif;
    }
    Ok(given)
}

fn named(section: &AnswerSection, editor: &Editor) -> Result<Given> {
    match (&section.file, &section.model) {
        (Some(file), _) => open(&editor.local(file), file, &section.accept),
        (None, Some(model)) => Ok(Given::Model {
            model: Box::new(model.clone()),
            base: editor.local(""),
            name: "[answer.model]".into(),
            accept: section.accept.clone(),
            usual: Dialect::OF_MODELS,
        }),
        (None, None) => Err(Error::request("[answer] has no answers", "write file = \"…\"")),
    }
}

impl Given {
    /// What people call it.
    pub fn name(&self) -> &str {
        match self {
            Self::Model { name, .. } | Self::File { name, .. } => name,
        }
    }

    /// The dialect that is written when none is asked for.
    pub fn usual_dialect(&self) -> Dialect {
        match self {
            Self::Model { usual, .. } => *usual,
            Self::File { file, .. } => file.dialect,
        }
    }

    /// The neutral form.
    pub fn model(&self) -> Result<Model> {
        match self {
            Self::Model { model, .. } => Ok((**model).clone()),
            Self::File { file, .. } => Ok(read_file(file)?.model),
        }
    }

    /// Has a model serve one architecture alone; a file says itself which it serves.
    pub fn serve_only(&mut self, architecture: Option<Architecture>) {
        if let (Self::Model { model, .. }, Some(architecture)) = (self, architecture) {
            model.architectures = vec![architecture];
        }
    }

    /// Adds a command.
    pub fn add_command(&mut self, command: Command) -> Result<()> {
        match self {
            Self::Model { model, .. } => model.command.push(command),
            Self::File { file, bytes, .. } => {
                let (changed, _) = file.changed(|model| {
                    model.command.push(command);
                    Ok(())
                })?;
                *file = AnswerFile::parse_as(&changed, Some(file.dialect))?;
                *bytes = changed;
            }
        }
        Ok(())
    }

    /// What may be found in it, as it says itself and the stack file says of it.
    pub fn accepted(&self) -> Vec<Topic> {
        match self {
            Self::Model { model, accept, .. } => [model.accept.as_slice(), accept].concat(),
            Self::File { accept, .. } => accept.clone(),
        }
    }

    /// Whether it erases and nobody said so where it can be said: in a model.
    pub fn is_unmeant(&self, report: &Report) -> bool {
        matches!(self, Self::Model { .. }) && report.is_dangerous()
    }

    /// The answers in a dialect, for a machine of a site list if one is given.
    pub fn speak(&self, dialect: Dialect, site: Option<&Site>, ask: Option<Ask<'_>>) -> Result<WrittenFile> {
        match self {
            Self::Model { model, base, .. } => {
                let model = site.map_or_else(|| Ok((**model).clone()), |site| site.fill_model(model))?;
                let mut secrets = Secrets { base: base.clone(), ask, ..Secrets::default() };
                write_model(&model, dialect, &mut secrets)
            }
            Self::File { file, bytes, .. } if file.dialect == dialect => {
                let (bytes, findings) = match site {
                    None => (bytes.clone(), Vec::new()),
                    Some(site) => file.changed(|model| {
                        *model = site.fill_model(model)?;
                        Ok(())
                    })?,
                };
                let own = AnswerFile::parse_as(&bytes, Some(dialect))?;
                let files = own.side_files()?;
                Ok(WrittenFile { dialect, bytes, text: own.text, files, findings })
            }
            Self::File { file, .. } => {
                let Reading { model, vault, findings } = read_file(file)?;
                let model = site.map_or_else(|| Ok(model.clone()), |site| site.fill_model(&model))?;
                let mut secrets = Secrets { vault, ask, ..Secrets::default() };
                let mut written = write_model(&model, dialect, &mut secrets)?;
                let lost = findings.into_iter().map(|own| {
                    let message = own.message.replace("is kept as it is", "is not taken over");
                    neat_answer::Finding { message, ..own }
                });
                written.findings.extend(lost);
                Ok(written)
            }
        }
    }
}

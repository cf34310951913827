//! A model into a file of some dialect.

use crate::{
    AnswerFile, Dialect, Finding, Model, Reading, Secrets, SideFile, Topic, Vault,
    face::{Face, Original, Saying},
    model::{ADMINISTRATOR_PASSWORD, Carried, Origin, Script},
};
use neat_content::{Advice, Content, DigestKind, Error, Job, Result, digest_of};
use std::borrow::Cow;

/// A file that was written.
#[derive(Clone, Debug)]
pub struct WrittenFile {
    /// Its dialect.
    pub dialect: Dialect,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// Its text.
    pub text: String,
    /// Files that it needs beside it on the media.
    pub files: Vec<SideFile>,
    /// What the dialect cannot say.
    pub findings: Vec<Finding>,
}

impl WrittenFile {
    /// The file as one that is there.
    ///
    /// # Errors
    /// `Internal` where it cannot be read as what it was written as.
    pub fn file(&self) -> Result<AnswerFile> {
        AnswerFile::parse_as(&self.bytes, Some(self.dialect))
    }
}

/// The original of a model, read, and everything secret fetched.
#[derive(Default)]
pub struct Fetched {
    secrets: Vault,
    origin: Option<(AnswerFile, Reading)>,
}

impl Fetched {
    /// The secrets alone, for models without an original.
    pub fn secrets(&self) -> &Vault {
        &self.secrets
    }
}

/// Fetches what a model refers to: texts of scripts, the original, passwords and keys.
///
/// # Errors
/// `Io` where a file cannot be read, `BadRequest` where something it names is not there or has another digest.
pub fn fetch(model: &mut Model, secrets: &mut Secrets<'_>) -> Result<Fetched> {
    let origin = model.origin.as_ref().map(|origin| read_origin(origin, secrets)).transpose()?;
    if let Some((_, reading)) = &origin {
        secrets.vault.clone_from(&reading.vault);
    }
    for script in &mut model.script {
        if script.text.is_empty() && !script.from.is_empty() {
            let path = secrets.base.join(&script.from);
            let bytes = Content::from_path(&path)?
                .to_vec(1 << 20, "script")
                .map_err(|error| error.within(path.display()))?;
            script.text = String::from_utf8(bytes).map_err(|_| {
                Error::request(format!("{} is not UTF-8 text", path.display()), "save it as UTF-8")
            })?;
            script.from.clear();
        }
    }
    let mut vault = Vault::new();
    let mut get = |field: String, secret: &crate::model::Secret| -> Result<()> {
        let value = secrets.get(&field, secret)?;
        vault.insert(field, value);
        Ok(())
    };
    for account in &model.account {
        if let Some(secret) = &account.password {
            get(account.password_field(), secret)?;
        }
    }
    if let Some(secret) = &model.administrator.password {
        get(ADMINISTRATOR_PASSWORD.into(), secret)?;
    }
    if let Some(secret) = model.network.wireless.as_ref().and_then(|own| own.password.as_ref()) {
        get("network.wireless.password".into(), secret)?;
    }
    if let Some(secret) = model.system.key.as_ref().and_then(crate::model::KeyChoice::secret) {
        get("system.key".into(), &secret)?;
    }
    Ok(Fetched { secrets: vault, origin })
}

fn read_origin(origin: &Origin, secrets: &Secrets<'_>) -> Result<(AnswerFile, Reading)> {
    let path = secrets.base.join(&origin.file);
    let content = Content::from_path(&path)?;
    let found = digest_of(&content, DigestKind::Sha256, &Job::silent())?;
    if !found.eq_ignore_ascii_case(&origin.sha256) {
        let error = Error::Mismatch {
            expected: format!("SHA-256 {}", origin.sha256),
            found,
            hint: Advice::ReadAnswers.into(),
        };
        return Err(error.within(path.display()));
    }
    let bytes = content.to_vec(AnswerFile::MAX_LEN, "answer file")?;
    let file = AnswerFile::parse(&bytes).map_err(|error| error.within(path.display()))?;
    let reading = file.dialect.face().read(&file.text).map_err(|error| error.within(path.display()))?;
    Ok((file, reading))
}

/// Writes a model in a dialect.
///
/// # Errors
/// As [`fetch`] and [`write_with`].
pub fn write_model(model: &Model, dialect: Dialect, secrets: &mut Secrets<'_>) -> Result<WrittenFile> {
    let mut model = model.clone();
    let fetched = fetch(&mut model, secrets)?;
    write_with(&model, dialect, &fetched)
}

/// Writes a model whose secrets are fetched.
///
/// # Errors
/// `BadRequest` for what the dialect cannot be written without, and for texts that it cannot hold.
pub fn write_with(model: &Model, dialect: Dialect, fetched: &Fetched) -> Result<WrittenFile> {
    if let Some(placeholder) = crate::check::unfilled(&model.machine.name) {
        return Err(Error::request(
            format!("machine.name is {:?}, and nothing fills {{{placeholder}}}", model.machine.name),
            "use {serial}, {random:4}, or a column of a site list",
        ));
    }
    let original = fetched.origin.as_ref().filter(|(file, _)| file.dialect == dialect);
    let own = original.map(|(file, reading)| Original { text: file.text.clone(), reading: reading.clone() });
    let (model, moved) = long_to_media(model, dialect, own.as_ref());
    let saying = Saying { model: &model, secrets: &fetched.secrets, origin: own.as_ref() };
    let mut written = dialect.face().write(&saying)?;
    written.findings.extend(moved);
    if let (Some((file, reading)), None) = (&fetched.origin, original) {
        // What only the original had does not come along into another dialect.
        for finding in &reading.findings {
            let message = format!(
                "the {} file {}",
                file.dialect.name(),
                finding.message.replace("is kept as it is", "is not taken over")
            );
            written.findings.push(Finding {
                line: finding.line,
                ..Finding::new(Topic::Unsaid, &finding.field, message, "say it with [[own]] if it is needed")
            });
        }
    }
    let bytes = original
        .map_or_else(|| dialect.face().encode(&written.text), |(file, _)| file.to_bytes(&written.text));
    Ok(WrittenFile { dialect, bytes, text: written.text, files: written.files, findings: written.findings })
}

/// Scripts that are too long to be carried inside go to the media as files, but for those that the original carries.
fn long_to_media<'a>(
    model: &'a Model,
    dialect: Dialect,
    origin: Option<&Original>,
) -> (Cow<'a, Model>, Vec<Finding>) {
    let about = dialect.face().about();
    let is_carried = |script: &Script| origin.is_some_and(|own| own.reading.model.script.contains(script));
    let is_moved =
        |script: &Script| script.carried == Carried::Inside && (about.is_long)(script) && !is_carried(script);
    if !model.script.iter().any(is_moved) {
        return (Cow::Borrowed(model), Vec::new());
    }
    let mut model = model.clone();
    let mut findings = Vec::new();
    for script in model.script.iter_mut().filter(|script| is_moved(script)) {
        script.carried = Carried::Media;
        let message = format!(
            "{} has {} bytes, too many for commands: it is a file on the media",
            script.name,
            script.text.len()
        );
        findings.push(Finding::told(Topic::ByHand, "script", message));
    }
    (Cow::Owned(model), findings)
}

/// Changes a file by changing its neutral form.
pub(crate) fn rewrite(
    file: &AnswerFile,
    change: impl FnOnce(&mut Model) -> Result<()>,
) -> Result<(Vec<u8>, Vec<Finding>)> {
    let reading = file.dialect.face().read(&file.text)?;
    let mut model = reading.model.clone();
    change(&mut model)?;
    let secrets = reading.vault.clone();
    let original = Original { text: file.text.clone(), reading };
    let saying = Saying { model: &model, secrets: &secrets, origin: Some(&original) };
    let face = file.dialect.face();
    let mut written = face.write(&saying)?;
    let beside = original_files(face, &saying);
    if let Some(own) = face.side_files(&model, &secrets).iter().find(|own| !beside.contains(own)) {
        let message = format!("what they run is in {}, which is to be written anew, too", own.path);
        written.findings.push(Finding::told(Topic::ByHand, "file", message));
    }
    Ok((file.to_bytes(&written.text), written.findings))
}

/// Files that lie beside an original.
fn original_files(face: &dyn Face, saying: &Saying<'_>) -> Vec<SideFile> {
    let own = saying.origin.map(|own| face.side_files(&own.reading.model, &own.reading.vault));
    own.unwrap_or_default()
}

impl AnswerFile {
    /// The file's bytes with its neutral form changed, and what its dialect cannot say of the change.
    ///
    /// # Errors
    /// Those of `change`, and `Corrupt` for a file that cannot be read.
    pub fn changed(&self, change: impl FnOnce(&mut Model) -> Result<()>) -> Result<(Vec<u8>, Vec<Finding>)> {
        rewrite(self, change)
    }
}

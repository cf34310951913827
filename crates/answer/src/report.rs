//! Checks: what is wrong with answers, what they erase, and whether they fit a media.

use crate::{
    AnswerFile, Dialect, Erasure, Finding, MediaFacts, Model, Reading, Topic, WrittenFile,
    check::neutral_findings, model::Erases,
};
use neat_content::Result;
use schemars::JsonSchema;
use serde::Serialize;

/// The result of a check.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Report {
    /// The dialect; none for a model by itself.
    pub dialect: Option<Dialect>,
    /// What was found, problems first.
    pub findings: Vec<Finding>,
    /// Topics that may be found and stop nothing.
    pub accepted: Vec<Topic>,
    /// What it erases.
    pub erasure: Erasure,
    /// Whether erasing is said to be meant.
    pub erasing_is_meant: bool,
    /// What it will do to a machine, line by line.
    pub does: Vec<String>,
}

impl Report {
    /// Whether something will go wrong that nobody accepted.
    pub fn has_problems(&self) -> bool {
        self.findings.iter().any(|finding| finding.stops(&self.accepted))
    }

    /// The same report, where findings of these topics stop nothing.
    #[must_use]
    pub fn accepting(mut self, topics: &[Topic]) -> Self {
        self.accepted.extend(topics);
        self
    }

    /// Whether it erases, and nobody said that this is meant.
    pub fn is_dangerous(&self) -> bool {
        self.erasure.is_some() && !self.erasing_is_meant
    }
}

/// Checks an answer file, for a media if one is given.
pub fn check_file(file: &AnswerFile, media: Option<&MediaFacts>) -> Report {
    let face = file.dialect.face();
    let (reading, broken) = match face.read(&file.text) {
        Ok(reading) => (reading, None),
        Err(error) => (Reading::default(), Some(error)),
    };
    if let Some(error) = broken {
        return Report {
            dialect: Some(file.dialect),
            findings: vec![Finding::new(Topic::Dialect, "file", error.to_string(), error.hint())],
            accepted: Vec::new(),
            erasure: Erasure::default(),
            erasing_is_meant: false,
            does: Vec::new(),
        };
    }
    let mut findings = face.check(&file.text, &reading, media);
    findings.extend(neutral_findings(&reading.model, Some(&face.about().rules)));
    if let Some(media) = media {
        findings.extend(several(media, file.dialect));
    }
    let mut erasure = face.erases(&file.text, &reading);
    erasure.add_scripts(&reading.model);
    report(Some(file.dialect), &reading.model, findings, erasure)
}

/// Checks an answer file that was written, with the files that lie beside it.
///
/// # Errors
/// As [`WrittenFile::file`].
pub fn check_written(written: &WrittenFile, media: Option<&MediaFacts>) -> Result<Report> {
    let file = written.file()?;
    let mut report = check_file(&file, media);
    let before = report.erasure.clone();
    for beside in &written.files {
        report.erasure.add_text(&neat_content::Text::decode(&beside.bytes).text);
    }
    if report.erasure != before
        && let Ok(reading) = read_file(&file)
    {
        report.does = crate::describe(&reading.model, &report.erasure);
    }
    Ok(report)
}

/// Checks a model by itself: what no dialect could make right.
pub fn check_model(model: &Model, media: Option<&MediaFacts>) -> Report {
    let mut findings = neutral_findings(model, None);
    if let (Some(media), Some(choice)) = (media, &model.system.edition) {
        findings.extend(media.edition_finding(choice));
    }
    if let Some(media) = media {
        for own in model
            .architectures
            .iter()
            .filter(|own| !media.architectures.is_empty() && !media.architectures.contains(own))
        {
            let names: Vec<&str> = media.architectures.iter().map(|own| own.name()).collect();
            let message = format!("{} is served, and the media is for {}", own.name(), names.join(", "));
            let serves = model.architectures.iter().any(|own| media.architectures.contains(own));
            findings.push(if serves {
                Finding::told(Topic::Unusual, "architectures", message)
            } else {
                Finding::new(Topic::Architecture, "architectures", message, "add the media's architecture")
            });
        }
    }
    let mut erasure = Erasure::default();
    for disk in &model.disk {
        if disk.wipe {
            erasure.add(format!("everything on {}", disk.name()));
        }
    }
    for command in &model.command {
        erasure.add_command(&command.run);
    }
    erasure.add_scripts(model);
    report(None, model, findings, erasure)
}

fn report(dialect: Option<Dialect>, model: &Model, mut findings: Vec<Finding>, erasure: Erasure) -> Report {
    let mut seen = std::collections::HashSet::new();
    findings.retain(|finding| seen.insert(finding.clone()));
    findings.sort_by_key(|finding| (finding.gravity, finding.line));
    let does = crate::describe(model, &erasure);
    Report {
        dialect,
        findings,
        accepted: model.accept.clone(),
        erasure,
        erasing_is_meant: model.erases == Erases::Yes,
        does,
    }
}

/// Of several answer files on a media one wins.
pub(crate) fn several(media: &MediaFacts, dialect: Dialect) -> Option<Finding> {
    let all = media.answer_files.iter().filter(|(_, own)| *own == dialect);
    let name = |path: &str| path.rsplit('/').next().unwrap_or(path).to_lowercase();
    let mut own: Vec<&str> = Vec::new();
    for (path, _) in all {
        // Those of one name in several folders are each read by a setup of their own where setup lies in a folder.
        let is_apart = dialect == Dialect::Sif && own.iter().any(|other| name(other) == name(path));
        if !is_apart {
            own.push(path);
        }
    }
    match own.as_slice() {
        [first, rest @ ..] if !rest.is_empty() => Some(Finding::new(
            Topic::Competing,
            "media",
            format!(
                "the media has {} answer files of this kind: {first} wins, {} is never read",
                own.len(),
                rest.join(", ")
            ),
            "keep one of them",
        )),
        _ => None,
    }
}

/// Reads an answer file into the neutral form.
///
/// # Errors
/// `Corrupt` with the line, where the text breaks the rules of its dialect.
pub fn read_file(file: &AnswerFile) -> Result<Reading> {
    file.dialect.face().read(&file.text)
}

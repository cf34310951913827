//! Checks: what is wrong with answers, what they erase, and whether they fit a media.

mod facts;
mod neutral;

pub(crate) use neutral::{check as neutral_findings, machine_name};

pub use facts::{EditionFact, MediaFacts};

use crate::{AnswerFile, Dialect, Finding, Gravity, Model, Reading, model::Erases};
use neat_content::Result;
use serde::Serialize;

/// What is erased without a question about the disk.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Erasure {
    /// Each thing that is erased.
    pub what: Vec<String>,
    /// What a person is asked before.
    pub asked: Vec<String>,
}

impl Erasure {
    pub(crate) fn add(&mut self, what: String) {
        if !self.what.contains(&what) {
            self.what.push(what);
        }
    }

    pub(crate) fn ask(&mut self, what: &str) {
        if !self.asked.iter().any(|own| own == what) {
            self.asked.push(what.to_owned());
        }
    }

    /// Commands that write to whole disks.
    pub(crate) fn add_command(&mut self, run: &str) {
        let lower = run.to_lowercase();
        let words: Vec<&str> = lower
            .split(|c: char| c.is_whitespace() || matches!(c, ';' | '|' | '&' | '(' | ')' | '\'' | '"'))
            .collect();
        let program = |word: &&str| {
            let name = word.rsplit(['/', '\\']).next().unwrap_or_default();
            let name = name.strip_suffix(".exe").unwrap_or(name);
            matches!(name, "diskpart" | "wipefs" | "sgdisk" | "sfdisk" | "parted" | "blkdiscard" | "shred")
                || name.starts_with("mkfs")
                || (name == "format" && lower.contains("format ") && lower.contains(':'))
                || (name == "dd" && lower.contains("of=/dev/"))
                || name == "clear-disk"
        };
        if words.iter().any(program) {
            let shown: String = run.chars().take(60).collect();
            self.add(format!("what the command `{shown}` erases"));
        }
    }

    /// Whether anything is erased.
    pub fn is_some(&self) -> bool {
        !self.what.is_empty()
    }

    /// One line for a person.
    pub fn line(&self) -> String {
        if self.what.is_empty() {
            return "erases nothing without asking".into();
        }
        let what = self.what.join("; ");
        if self.asked.is_empty() {
            format!("erases {what}, and nobody is asked first")
        } else {
            format!(
                "erases {what}; before that setup asks for {}, but not whether to erase",
                self.asked.join(", ")
            )
        }
    }
}

/// The result of a check.
#[derive(Clone, Debug, Serialize)]
pub struct Report {
    /// The dialect; none for a model by itself.
    pub dialect: Option<Dialect>,
    /// What was found, problems first.
    pub findings: Vec<Finding>,
    /// What it erases.
    pub erasure: Erasure,
    /// Whether erasing is said to be meant.
    pub erasing_is_meant: bool,
    /// What it will do to a machine, line by line.
    pub does: Vec<String>,
}

impl Report {
    /// Whether something will go wrong.
    pub fn has_problems(&self) -> bool {
        self.findings.iter().any(|finding| finding.gravity == Gravity::Problem)
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
            findings: vec![Finding::problem("file", error.to_string(), error.hint())],
            erasure: Erasure::default(),
            erasing_is_meant: false,
            does: Vec::new(),
        };
    }
    let mut findings = face.check(&file.text, &reading, media);
    findings.extend(neutral::check(&reading.model, Some(file.dialect)));
    if let Some(media) = media {
        findings.extend(several(media, file.dialect));
    }
    let erasure = face.erases(&file.text, &reading);
    report(Some(file.dialect), &reading.model, findings, erasure)
}

/// Checks a model by itself: what no dialect could make right.
pub fn check_model(model: &Model, media: Option<&MediaFacts>) -> Report {
    let mut findings = neutral::check(model, None);
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
                Finding::note("architectures", message)
            } else {
                Finding::problem("architectures", message, "add the media's architecture")
            });
        }
    }
    let mut erasure = Erasure::default();
    for disk in &model.disk {
        if disk.wipe {
            erasure.add(format!("everything on {}", disk.name()));
        }
    }
    report(None, model, findings, erasure)
}

fn report(dialect: Option<Dialect>, model: &Model, mut findings: Vec<Finding>, erasure: Erasure) -> Report {
    let mut seen = Vec::new();
    findings.retain(|finding| {
        let is_new = !seen.contains(finding);
        seen.push(finding.clone());
        is_new
    });
    findings.sort_by_key(|finding| (finding.gravity, finding.line));
    let does = crate::describe(model, &erasure);
    Report { dialect, findings, erasure, erasing_is_meant: model.erases == Erases::Yes, does }
}

/// Of several answer files on a media one wins.
pub(crate) fn several(media: &MediaFacts, dialect: Dialect) -> Option<Finding> {
    let own: Vec<&str> =
        media.answer_files.iter().filter(|(_, own)| *own == dialect).map(|(path, _)| path.as_str()).collect();
    match own.as_slice() {
        [first, rest @ ..] if !rest.is_empty() => Some(Finding::problem(
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
pub fn read_file(file: &AnswerFile) -> Result<Reading> {
    file.dialect.face().read(&file.text)
}

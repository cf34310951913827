//! What a check wants to know of a media.

use crate::{
    Dialect, Finding, Topic,
    model::{Architecture, EditionChoice},
};
use neat_content::nearest;

/// An edition on a media.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EditionFact {
    /// Its number, from 1.
    pub number: u32,
    /// Its name.
    pub name: String,
}

/// A media, as far as answers have to fit it.
#[derive(Clone, Debug, Default)]
pub struct MediaFacts {
    /// Architectures of its systems.
    pub architectures: Vec<Architecture>,
    /// Its editions.
    pub editions: Vec<EditionFact>,
    /// Paths of all its files and folders, in lower case with `/`.
    pub paths: std::collections::HashSet<String>,
    /// Answer files on it that are found, the one that wins first, with the name of its dialect.
    pub answer_files: Vec<(String, Dialect)>,
}

impl MediaFacts {
    fn has(&self, path: &str) -> bool {
        self.paths.contains(&path.trim_matches('/').to_lowercase())
    }

    /// Where a path that means the media was looked for in vain; none when it is there, or means something else.
    pub(crate) fn missing(&self, path: &str) -> Option<String> {
        let local = on_media(path)?;
        (!local.is_empty() && !self.has(&local)).then(|| format!("media:/{local}"))
    }

    /// Programs on the media that a command names and that are not there.
    pub(crate) fn missing_in_command(&self, run: &str) -> Vec<String> {
        let marks = ["%configsetroot%\\", "/cdrom/", "%systemdrive%\\neatstack\\"];
        let lower = run.to_lowercase();
        let mut found = Vec::new();
        for mark in marks {
            for (at, _) in lower.match_indices(mark) {
                let rest = lower.get(at..).unwrap_or_default();
                let end = rest
                    .find(|c: char| c.is_whitespace() || matches!(c, '"' | '\'' | ';' | '&' | ')'))
                    .unwrap_or(rest.len());
                let path = &rest[..end];
                if path.contains(['*', '?', '$']) || path.ends_with(".b64") {
                    continue;
                }
                found.extend(self.missing(path));
            }
        }
        found
    }

    /// What is wrong with the choice of an edition.
    pub(crate) fn edition_finding(&self, choice: &EditionChoice) -> Option<Finding> {
        if self.editions.is_empty() {
            return None;
        }
        let list = || {
            let names: Vec<String> =
                self.editions.iter().map(|own| format!("{} {}", own.number, own.name)).collect();
            format!("the media has {}", names.join(", "))
        };
        match choice {
            EditionChoice::Name(name) if name == "ask" => None,
            EditionChoice::Name(name) => {
                if self.editions.iter().any(|own| own.name == *name) {
                    return None;
                }
                let names = self.editions.iter().map(|own| own.name.as_str());
                let hint = nearest(name, names).map_or_else(list, |near| format!("did you mean {near:?}?"));
                Some(Finding::new(
                    Topic::Edition,
                    "system.edition",
                    format!("there is no edition {name:?} on the media: setup stops or asks"),
                    hint,
                ))
            }
            EditionChoice::Number(number) => {
                let is_there = self.editions.iter().any(|own| own.number == *number);
                (!is_there).then(|| {
                    Finding::new(
                        Topic::Edition,
                        "system.edition",
                        format!("there is no edition {number} on the media: setup stops or asks"),
                        list(),
                    )
                })
            }
        }
    }
}

/// The path on the media that a path in an answer file means; none when it means another place.
fn on_media(path: &str) -> Option<String> {
    let slashed = path.replace('\\', "/");
    let lower = slashed.to_lowercase();
    if let Some(rest) = lower.strip_prefix("%configsetroot%/") {
        return Some(rest.to_owned());
    }
    if let Some(rest) = lower.strip_prefix("/cdrom/") {
        return Some(rest.to_owned());
    }
    if let Some(rest) = lower.strip_prefix("%systemdrive%/neatstack/") {
        return Some(format!("sources/$oem$/$1/neatstack/{rest}"));
    }
    let mut chars = lower.chars();
    let is_drive = chars.next().is_some_and(|c| c.is_ascii_alphabetic()) && chars.next() == Some(':');
    // The setup environment's own disk is X:, the installed system's C:; others are the media more often than not.
    (is_drive && !lower.starts_with("x:") && !lower.starts_with("c:"))
        .then(|| lower.get(2..).unwrap_or_default().trim_matches('/').to_owned())
        .filter(|rest| !rest.is_empty())
}

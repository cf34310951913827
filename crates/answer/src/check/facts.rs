//! What a check wants to know of a media.

use crate::{
    Dialect, Finding, Topic,
    model::{Architecture, EditionChoice},
};
use neat_content::{Content, nearest};
use std::collections::HashMap;

/// An edition on a media.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EditionFact {
    /// Its number, from 1.
    pub number: u32,
    /// Its name.
    pub name: String,
    /// Its version, such as `10.0.19045`; empty where the image does not say it.
    pub version: String,
}

/// A media, as far as answers have to fit it.
#[derive(Clone, Debug, Default)]
pub struct MediaFacts {
    /// Architectures of its systems.
    pub architectures: Vec<Architecture>,
    /// Its editions.
    pub editions: Vec<EditionFact>,
    /// Its files and folders by their paths, in lower case with `/`; folders have no content.
    pub paths: HashMap<String, Option<Content>>,
    /// Answer files on it that are found, the one that wins first, with the name of its dialect.
    pub answer_files: Vec<(String, Dialect)>,
}

impl MediaFacts {
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

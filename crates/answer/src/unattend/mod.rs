//! The documented XML answer file of install images: passes, components, settings.

mod about;
mod check;
mod commands;
mod edit;
mod join;
mod known;
mod lists;
mod node;
mod read;
pub mod servicing;
mod spots;
pub(crate) mod tasks;
mod unsaid;
mod write;

use crate::{
    Change, Erasure, Finding, Topic,
    check::MediaFacts,
    face::{About, Face, Reading, Saying, Written},
    model::{Architecture, Stage},
    xml::{Document, Element},
};
use edit::{PASSES, architecture_of, components};
use neat_content::Result;

pub(crate) use check::is_key;
pub use join::join;

pub(crate) const NAMESPACE: &str = "urn:schemas-microsoft-com:unattend";

/// The dialect.
pub(crate) struct Unattend;

impl Face for Unattend {
    fn about(&self) -> &'static About {
        &about::ABOUT
    }

    fn read(&self, text: &str) -> Result<Reading> {
        let document = Document::parse(text.to_owned())?;
        Ok(read::read(&document))
    }

    fn write(&self, saying: &Saying<'_>) -> Result<Written> {
        write::write(saying)
    }

    fn change_commands(&self, text: &str, stage: Stage, change: &Change) -> Option<Result<(String, usize)>> {
        Some(commands::change_commands(text, stage, change))
    }

    fn erases(&self, text: &str, reading: &Reading) -> Erasure {
        Document::parse(text.to_owned())
            .map(|document| commands::erases(&document, reading))
            .unwrap_or_default()
    }

    fn check(&self, text: &str, reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding> {
        match Document::parse(text.to_owned()) {
            Ok(document) => check::check(&document, reading, media),
            Err(error) => vec![Finding::new(Topic::Dialect, "xml", error.to_string(), error.hint())],
        }
    }
}

fn all_components(root: &Element) -> impl Iterator<Item = (&'static str, &Element)> {
    PASSES.iter().flat_map(move |pass| components(root, pass).map(move |component| (*pass, component)))
}

fn architectures(root: &Element) -> Vec<Architecture> {
    let mut all: Vec<Architecture> = all_components(root)
        .filter_map(|(_, component)| component.attribute("processorArchitecture").and_then(architecture_of))
        .collect();
    all.sort_unstable();
    all.dedup();
    all
}

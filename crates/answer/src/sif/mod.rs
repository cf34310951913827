//! The answer file of the generation before image files: INI text that setup reads beside the files that it copies.
//!
//! Sections and keys are those that the maker documents for unattended setup of that generation. What runs when the system
//! is installed lies in files beside it (`$OEM$`).

mod about;
mod check;
mod document;
mod installed;
mod read;
mod say;
mod unsaid;
mod zones;

use crate::{
    Erasure, Finding, Topic,
    check::MediaFacts,
    face::{About, Face, Reading, Saying, SideFile, Written},
    model::{Erases, Model, Vault},
};
use document::{Document, Said};
pub(crate) use installed::{LIST, with_our_line};
use neat_content::{Encoding, Result};
use std::collections::HashSet;

/// The dialect.
pub(crate) struct Sif;

impl Face for Sif {
    fn about(&self) -> &'static About {
        &about::ABOUT
    }

    fn read(&self, text: &str) -> Result<Reading> {
        Ok(read::read(text, &Document::parse(text)?))
    }

    fn write(&self, saying: &Saying<'_>) -> Result<Written> {
        let Saying { model, secrets, origin } = saying;
        let mut findings = unsaid::unsaid(model, secrets);
        let mut after = say::said(model, secrets);
        let before = origin.map(|own| say::said(&own.reading.model, &own.reading.vault)).unwrap_or_default();
        let there: HashSet<&Said> = before.iter().collect();
        // Whatever has several lines, or a key with a sign in it, would become something else. What is there stays.
        after.retain(|own| {
            let fits = own.fits() || there.contains(own);
            if !fits {
                let why = "it has several lines, or a name with a sign in it";
                let field = format!("[{}] {}", own.section, own.key).replace(['\r', '\n'], " ");
                findings.push(Finding::unsaid(field, crate::Dialect::Sif, why, "write it in one line"));
            }
            fits
        });
        let text = match origin {
            None => fresh(model, &after)?,
            Some(original) => {
                let marked = crate::set_mark_behind(';', &original.text, model.erases);
                changed(&marked, before, after)?
            }
        };
        if let Some(c) = text.chars().find(|c| !c.is_ascii()) {
            let message =
                format!("{c:?} and others are stored in the code page of western Europe, or else in UTF-16");
            findings.push(Finding::new(
                Topic::Unchecked,
                "file",
                message,
                "setup reads such letters in the code page of its own language: look at them on the first machine",
            ));
        }
        Ok(Written { text, files: installed::side_files(model, secrets), findings })
    }

    fn encode(&self, text: &str) -> Vec<u8> {
        let ansi = Encoding::Ansi.encode(text);
        let is_whole = neat_content::ansi_text(&ansi) == text;
        if text.is_ascii() || is_whole { ansi } else { Encoding::Utf16Le.encode(text) }
    }

    fn side_files(&self, model: &Model, secrets: &Vault) -> Vec<SideFile> {
        installed::side_files(model, secrets)
    }

    fn erases(&self, text: &str, reading: &Reading) -> Erasure {
        let mut erasure = Erasure::default();
        if reading.model.disk.iter().any(|own| own.wipe) {
            erasure.add("everything on the first disk".into());
        }
        for own in Document::parse(text).map(|own| own.entries).unwrap_or_default() {
            erasure.add_command(&own.value);
        }
        erasure
    }

    fn check(&self, text: &str, reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding> {
        match Document::parse(text) {
            Ok(document) => check::check(&document, reading, media),
            Err(error) => vec![Finding::new(Topic::Dialect, "file", error.to_string(), error.hint())],
        }
    }
}

/// Sections in the order in which people write them: what setup reads first stands first.
const FIRST: [&str; 4] = ["Data", "Unattended", "GuiUnattended", "UserData"];

/// A new file.
fn fresh(model: &Model, said: &[Said]) -> Result<String> {
    let title: String = model.title.chars().filter(|c| !c.is_control()).collect();
    let title = if title.is_empty() { "Answers for setup".into() } else { title };
    let mut head = format!("; {title}\r\n");
    if model.erases == Erases::Yes {
        head.push_str(&format!("; {}\r\n", crate::ERASES_MARK));
    }
    let places: HashSet<_> = said.iter().map(Said::place).collect();
    let mut all: Vec<Said> = say::frame().into_iter().filter(|own| !places.contains(&own.place())).collect();
    all.extend_from_slice(said);
    all.sort_by_key(|own| FIRST.iter().position(|first| *first == own.section).unwrap_or(FIRST.len()));
    Ok(Document::parse(&head)?.rewritten(&[], &all))
}

/// A file that is there, with what differs.
fn changed(text: &str, mut before: Vec<Said>, mut after: Vec<Said>) -> Result<String> {
    let mut text = text.to_owned();
    let document = Document::parse(&text)?;
    let of = |all: &[Said], sections: &[&str]| -> Vec<Said> {
        let is_in = |own: &&Said| sections.iter().any(|section| own.section.eq_ignore_ascii_case(section));
        all.iter().filter(is_in).cloned().collect()
    };
    // A key by its older name keeps it.
    if document.get("UserData", "ProductKey").is_none() && document.get("UserData", "ProductID").is_some() {
        for own in before.iter_mut().chain(&mut after).filter(|own| own.key == "ProductKey") {
            own.key = "ProductID".into();
        }
    }
    // One language for everything: beside it nothing else would count.
    let regional = ["RegionalSettings"];
    if let Some(language) = document.get("RegionalSettings", "Language")
        && of(&before, &regional) != of(&after, &regional)
    {
        before.retain(|own| own.section != regional[0]);
        before.push(Said {
            section: regional[0].into(),
            key: "Language".into(),
            value: language.value.clone(),
            form: document::Form::Word,
        });
    }
    // Addresses in sections by other names are said anew, in ours.
    let is_network = |own: &Said| own.section.starts_with("params.") || own.section.starts_with("Net");
    let sections = |all: &[Said]| all.iter().filter(|own| is_network(own)).cloned().collect::<Vec<_>>();
    let place =
        |all: &[Said]| all.iter().find(|own| own.key == "AdapterSections").map(|own| own.value.clone());
    let there = document.value("params.MS_TCPIP", "AdapterSections").map(str::to_owned);
    if sections(&before) != sections(&after) && there != place(&before) {
        before.retain(|own| !is_network(own));
    }
    // Lists are by numbers: where their keys are others than ours would be, all of one is written anew.
    let mut gone: Vec<&str> = Vec::new();
    for list in ["GuiRunOnce", installed::SECTION] {
        let said: HashSet<_> = of(&before, &[list]).iter().map(Said::place).collect();
        let keys =
            document.section(list).map(|own| (list.to_ascii_lowercase(), own.key.to_ascii_lowercase()));
        let there: Vec<_> = keys.collect();
        let is_ours = there.len() == said.len() && there.iter().all(|own| said.contains(own));
        if !is_ours && of(&before, &[list]) != of(&after, &[list]) {
            gone.push(list);
            before.retain(|own| own.section != list);
        }
    }
    for list in gone {
        text = Document::parse(&text)?.without(list);
    }
    Ok(Document::parse(&text)?.rewritten(&before, &after))
}

//! What is wrong with a file by the rules of the schema, and for a media.

mod generation;
mod lists;
mod structure;

use super::{all_components, edit::components, spots::is_true};
use crate::{
    Finding, Topic,
    check::{MediaFacts, neutral_findings as neutral},
    face::Reading,
    model::SecretValue,
    xml::{Document, Element},
};
use neat_content::nearest;

pub(super) fn check(document: &Document, reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding> {
    let mut check = Check { document, findings: Vec::new() };
    check.frame();
    check.components(media);
    for architecture in &reading.model.architectures {
        check.commands(*architecture);
        check.disks(*architecture);
        check.drivers(*architecture, media);
        // The neutral form has what the first architecture says; the others are looked at here.
        check
            .findings
            .extend(neutral(&super::read::only(document, *architecture), Some(&super::about::ABOUT.rules)));
    }
    check.passwords(document.root());
    check.key(reading);
    check.edition(reading, media);
    check.time_zone();
    let mut findings = check.findings;
    generation::check(&reading.model, media, &mut findings);
    findings.dedup();
    findings
}

struct Check<'a> {
    document: &'a Document,
    findings: Vec<Finding>,
}

impl Check<'_> {
    fn line(&self, element: &Element) -> usize {
        self.document.line(element.span.start)
    }

    fn problem(
        &mut self,
        topic: Topic,
        element: &Element,
        field: &str,
        message: String,
        hint: impl Into<String>,
    ) {
        let line = self.line(element);
        self.findings.push(Finding::new(topic, field, message, hint).at(line));
    }

    fn passwords(&mut self, element: &Element) {
        for child in &element.children {
            if matches!(child.name.as_str(), "Password" | "AdministratorPassword")
                && child.child("Value").is_some()
            {
                let is_plain = child.text_at(&["PlainText"]).is_none_or(is_true);
                let is_empty = child.child("Value").is_some_and(|value| value.text.is_empty());
                if is_plain && !is_empty {
                    self.problem(Topic::PlainPassword, child,
                        "password",
                        "a password stands in plain text: whoever has the media can read it".into(),
                        "write it from a model that names a file for it, and change it after the first sign-in",
                    );
                }
            } else if child.name == "Password" && child.children.is_empty() && !child.text.trim().is_empty() {
                self.problem(
                    Topic::PlainPassword,
                    child,
                    "password",
                    "a password stands in plain text: whoever has the media can read it".into(),
                    "use an account that may do little",
                );
            } else {
                self.passwords(child);
            }
        }
    }

    fn key(&mut self, reading: &Reading) {
        let Some(key) = reading.vault.get("system.key").and_then(SecretValue::plain) else { return };
        if !is_key(key) {
            let element = super::spots::SINGLES
                .iter()
                .filter(|single| single.field == "system.key")
                .flat_map(|single| single.spots)
                .find_map(|spot| {
                    components(self.document.root(), spot.pass).find_map(|own| own.find(spot.path))
                });
            let line = element.map(|element| self.line(element));
            let finding = Finding::new(
                Topic::ProductKey,
                "system.key",
                "the product key is not five groups of five letters and digits",
                "correct it, for example in the file that it comes from",
            );
            self.findings.push(Finding { line, ..finding });
        }
    }

    fn edition(&mut self, reading: &Reading, media: Option<&MediaFacts>) {
        let (Some(choice), Some(media)) = (&reading.model.system.edition, media) else { return };
        let line = components(self.document.root(), "windowsPE")
            .find_map(|own| own.find(&["ImageInstall", "OSImage", "InstallFrom", "MetaData", "Value"]))
            .map(|element| self.line(element));
        let finding = media.edition_finding(choice);
        self.findings.extend(finding.map(|finding| Finding { line, ..finding }));
    }

    fn time_zone(&mut self) {
        for (pass, component) in all_components(self.document.root()) {
            let Some(zone) = component.child("TimeZone") else { continue };
            let name = zone.text.trim();
            // A zone may be without summer time, by a word at its end.
            let base = name.trim_end_matches("_dstoff");
            if crate::tables::zone_of_name(base).is_none() {
                let hint = crate::tables::zone_name(base)
                    .or_else(|| nearest(base, crate::tables::zone_names()))
                    .or_else(|| crate::tables::zone_name(crate::tables::near_zone(base)?))
                    .map_or_else(
                        || "see the names of time zones that the system has".to_owned(),
                        |near| format!("did you mean {near}?"),
                    );
                self.problem(
                    Topic::Language,
                    zone,
                    &format!("{pass}: TimeZone"),
                    format!("there is no time zone {name:?}"),
                    hint,
                );
            }
        }
    }
}

/// Whether two names differ so little that one was meant for the other.
fn similar(a: &str, b: &str) -> bool {
    strsim::damerau_levenshtein(&a.to_lowercase(), &b.to_lowercase()) <= 3
}

/// Whether a product key has the form of one.
pub(crate) fn is_key(key: &str) -> bool {
    let groups: Vec<&str> = key.split('-').collect();
    groups.len() == 5
        && groups
            .iter()
            .all(|group| group.len() == 5 && group.bytes().all(|byte| byte.is_ascii_alphanumeric()))
}

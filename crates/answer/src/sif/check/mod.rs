//! What is wrong with a file, and whether it fits a media.

mod media;
mod said;

use super::document::{Document, Entry};
use crate::{Finding, Topic, check::MediaFacts, face::Reading};
use neat_content::nearest;
use std::collections::HashSet;

static KEYS: &str = include_str!("../../../data/sif-keys.txt");

/// Longest list of folders of drivers, in characters.
const MAX_DRIVERS: usize = 4096;
const MODES: [&str; 5] = ["ProvideDefault", "DefaultHide", "GuiAttended", "ReadOnly", "FullUnattended"];
/// Keys that say yes or no.
const YES_NO: [(&str, &str); 12] = [
    ("Data", "UnattendedInstall"),
    ("Unattended", "OemSkipEula"),
    ("Unattended", "OemPreinstall"),
    ("Unattended", "Repartition"),
    ("Unattended", "UnattendSwitch"),
    ("Unattended", "WaitForReboot"),
    ("Unattended", "NtUpgrade"),
    ("Unattended", "Hibernation"),
    ("Unattended", "AutoActivate"),
    ("GuiUnattended", "EncryptedAdminPassword"),
    ("GuiUnattended", "AutoLogon"),
    ("Networking", "InstallDefaultComponents"),
];
/// The documented sections, each with its keys.
fn sections() -> impl Iterator<Item = (&'static str, std::str::Split<'static, char>)> {
    let row = |line: &'static str| {
        let mut words = line.split(' ');
        Some((words.next()?, words))
    };
    KEYS.lines().filter(|line| !line.starts_with(['#', '+'])).filter_map(row)
}

/// Names of all documented sections.
fn section_names() -> impl Iterator<Item = &'static str> {
    let others = KEYS.lines().filter_map(|line| line.strip_prefix("+ ")).flat_map(|line| line.split(' '));
    sections().map(|(name, _)| name).chain(others)
}

pub(super) fn check(document: &Document<'_>, reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding> {
    let mut check = Check { document, findings: Vec::new() };
    check.names();
    check.values();
    check.people(reading);
    check.language();
    check.questions(media);
    if let Some(media) = media {
        check.media(reading, media);
    }
    check.findings
}

struct Check<'a> {
    document: &'a Document<'a>,
    findings: Vec<Finding>,
}

impl Check<'_> {
    fn at(&mut self, topic: Topic, entry: &Entry, message: String, hint: impl Into<String>) {
        let field = format!("[{}] {}", entry.section, entry.key);
        self.findings.push(Finding::new(topic, field, message, hint).at(entry.number + 1));
    }

    fn found(&mut self, topic: Topic, field: &str, message: &str, hint: &str) {
        self.findings.push(Finding::new(topic, field, message, hint));
    }

    /// Sections and keys that setup does not know, and those that are said twice.
    fn names(&mut self) {
        for number in &self.document.stray {
            let finding = Finding::new(
                Topic::Dialect,
                "file",
                "a line before the first section: setup passes over it",
                "put it into a section, or a ; before it",
            );
            self.findings.push(finding.at(number + 1));
        }
        let document = self.document;
        for own in &document.entries {
            let known = sections().find(|(name, _)| own.section.eq_ignore_ascii_case(name));
            let Some((section, mut keys)) = known else { continue };
            if own.key.is_empty() {
                self.at(
                    Topic::Dialect,
                    own,
                    format!("{:?} is no key with a value: setup passes over it", own.value),
                    "write KEY=VALUE",
                );
            } else if !keys.clone().any(|key| own.key.eq_ignore_ascii_case(key)) {
                match nearest(&own.key, keys.by_ref()) {
                    Some(near) => self.at(
                        Topic::Dialect,
                        own,
                        format!("[{section}] has no key {}: setup passes over it", own.key),
                        format!("did you mean {near}?"),
                    ),
                    None => {
                        self.at(Topic::Unchecked, own, format!("{} is not in the tables here", own.key), "");
                    }
                }
            }
            if document.get(&own.section, &own.key).is_some_and(|first| first.number != own.number) {
                self.at(
                    Topic::Dialect,
                    own,
                    format!("{} is said twice, and the first counts", own.key),
                    "take one out",
                );
            }
        }
        let mut seen: HashSet<&str> = HashSet::new();
        for own in document.entries.iter().filter(|own| seen.insert(&own.section)) {
            let is_known = section_names().any(|name| own.section.eq_ignore_ascii_case(name));
            let near = nearest(&own.section, section_names());
            if let Some(near) = near.filter(|_| !is_known && own.section.len() > 4) {
                let hint = format!("did you mean [{near}]?");
                let message = format!("there is no section [{}]: setup passes over it", own.section);
                self.findings.push(
                    Finding::new(Topic::Dialect, format!("[{}]", own.section), message, hint)
                        .at(own.number + 1),
                );
            }
        }
    }

    fn values(&mut self) {
        let document = self.document;
        for (section, key) in YES_NO {
            let Some(own) = document.get(section, key) else { continue };
            if !["yes", "no"].iter().any(|word| own.value.eq_ignore_ascii_case(word)) {
                self.at(
                    Topic::Value,
                    own,
                    format!("{:?} is neither Yes nor No", own.value),
                    "write Yes or No",
                );
            }
        }
        let words: [(&str, &str, &[&str]); 4] = [
            ("Unattended", "UnattendMode", &MODES),
            ("Unattended", "FileSystem", &["ConvertNTFS", "LeaveAlone"]),
            ("Unattended", "DriverSigningPolicy", &["Block", "Warn", "Ignore"]),
            ("Data", "AutoPartition", &["0", "1"]),
        ];
        for (section, key, words) in words {
            let Some(own) = document.get(section, key) else { continue };
            if !words.iter().any(|word| own.value.eq_ignore_ascii_case(word)) {
                let near = nearest(&own.value, words.iter().copied());
                let hint = near.map_or_else(
                    || format!("write {}", words.join(" or ")),
                    |near| format!("did you mean {near}?"),
                );
                self.at(Topic::Value, own, format!("there is no {key} {:?}", own.value), hint);
            }
        }
        for own in document.section("Display").chain(document.get("GuiUnattended", "AutoLogonCount")) {
            let is_number = own.value.parse::<u32>().is_ok_and(|own| own > 0);
            let is_switch = ["AutoConfirm", "ConfigureAtLogon", "InstallDriver"]
                .iter()
                .any(|key| own.key.eq_ignore_ascii_case(key));
            if !is_number && !is_switch {
                self.at(
                    Topic::Value,
                    own,
                    format!("{:?} is no number", own.value),
                    "write a number, such as 1024",
                );
            }
        }
        if let Some(own) = document.get("Unattended", "TargetPath") {
            let is_one = own.value == "*" || {
                let name = own.value.trim_matches('\\');
                let is_plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.');
                !name.is_empty() && name.chars().all(is_plain)
            };
            if !is_one {
                let hint = "write * for the usual one, or \\ and a name, without a drive";
                self.at(
                    Topic::Value,
                    own,
                    format!("{:?} is no folder in the root of a drive", own.value),
                    hint,
                );
            }
        }
        if let Some(own) = document.get("Unattended", "OemPnPDriversPath") {
            if own.value.len() > MAX_DRIVERS {
                let message =
                    format!("its folders have {} characters, and setup reads {MAX_DRIVERS}", own.value.len());
                self.at(
                    Topic::Value,
                    own,
                    message,
                    "give the folders short names, or put several drivers into one",
                );
            }
            if own.value.contains(':') {
                self.at(
                    Topic::Value,
                    own,
                    "folders are meant below the root of the system's drive".into(),
                    "leave the drive out",
                );
            }
        }
        for own in document.section("Components") {
            if !["on", "off", "default"].iter().any(|word| own.value.eq_ignore_ascii_case(word)) {
                self.at(
                    Topic::Value,
                    own,
                    format!("{:?} is neither On nor Off", own.value),
                    "write On or Off",
                );
            }
        }
    }
}

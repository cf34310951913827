//! What is wrong with a preseed file.

use super::{document::Document, keymaps};
use crate::{Finding, Topic, check::MediaFacts, command_line::sh, face::Reading};
use neat_content::nearest;
use std::sync::LazyLock;

static TABLE: &str = include_str!("../../data/preseed-questions.txt");

static RESERVED: &str = include_str!("../../data/preseed-reserved-accounts.txt");
/// MAX_ARG_STRLEN of Linux, in bytes, without the zero.
const LONGEST_LINE: usize = (128 << 10) - 1;

static QUESTIONS: LazyLock<Vec<(&str, &str)>> = LazyLock::new(|| {
    TABLE.lines().filter(|line| !line.starts_with('#')).filter_map(|line| line.split_once(' ')).collect()
});

pub(super) fn check(document: &Document<'_>, _reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (line, text) in &document.odd {
        let text: String = text.chars().take(40).collect();
        let finding = Finding::new(
            Topic::Dialect,
            "file",
            format!("the line {text:?} is no answer"),
            "write: owner question type value",
        );
        findings.push(finding.at(*line));
    }
    let mut seen: Vec<&str> = Vec::new();
    for entry in &document.entries {
        let line = document.line(entry);
        let question = entry.question.as_str();
        if entry.is_flag {
            continue;
        }
        if seen.contains(&question) {
            findings.push(
                Finding::new(
                    Topic::Dialect,
                    question,
                    "the question is answered twice; the last answer counts",
                    "take one out",
                )
                .at(line),
            );
        }
        seen.push(question);
        match QUESTIONS.iter().find(|(own, _)| *own == question) {
            Some((_, kind)) if *kind != entry.kind => {
                let message = format!("its type is {kind}, and the file says {}", entry.kind);
                findings
                    .push(Finding::new(Topic::Dialect, question, message, format!("write {kind}")).at(line));
            }
            Some(("passwd/root-password" | "passwd/user-password", _)) if !entry.value.is_empty() => {
                let message = "a password stands in plain text: whoever has the media can read it";
                findings.push(
                    Finding::new(
                        Topic::PlainPassword,
                        question,
                        message,
                        format!("use {question}-crypted with a hash"),
                    )
                    .at(line),
                );
            }
            Some(("keyboard-configuration/xkb-keymap", _)) if !keymaps::is_offered(&entry.value) => {
                let message =
                    format!("the installer offers no keyboard {:?}, and takes the first it has", entry.value);
                let hint = match keymaps::of(&entry.value) {
                    Some(near) => format!("write {near}"),
                    None => "name one that it offers, and set the layout in the installed system".to_owned(),
                };
                findings.push(Finding::new(Topic::Language, question, message, hint).at(line));
            }
            Some((_, "boolean")) if !matches!(entry.value.as_str(), "true" | "false") => {
                let message = format!("it is {:?}, and must be true or false", entry.value);
                findings
                    .push(Finding::new(Topic::Dialect, question, message, "write true or false").at(line));
            }
            // Packages outside of the installer have questions of their own.
            None if entry.owner == "d-i" => {
                let names = QUESTIONS.iter().map(|(own, _)| *own);
                let near =
                    nearest(question, names).filter(|near| strsim::damerau_levenshtein(near, question) <= 3);
                findings.push(match near {
                    Some(near) => Finding::new(
                        Topic::Dialect,
                        question,
                        "there is no such question",
                        format!("did you mean {near}?"),
                    )
                    .at(line),
                    None => Finding::told(
                        Topic::Unchecked,
                        question,
                        "the question is not in the table here, and is not checked",
                    )
                    .at(line),
                });
            }
            Some(_) | None => {}
        }
    }
    for (question, again) in [
        ("passwd/root-password", "passwd/root-password-again"),
        ("passwd/user-password", "passwd/user-password-again"),
    ] {
        if let Some(entry) = document.get(question)
            && document.value(again) != Some(entry.value.as_str())
        {
            let message = format!("{again} is not the same: the installer asks");
            findings.push(
                Finding::new(Topic::Asks, question, message, "give the same twice, or a hash")
                    .at(document.line(entry)),
            );
        }
    }
    for entry in document.entries.iter().filter(|entry| entry.value.contains("\\n")) {
        let message = "debconf takes \\n for the end of a line: what follows in the value is lost";
        let hint = "end the quotes between the two signs ('\\''n'), or put it into a script";
        findings.push(Finding::new(Topic::Dialect, &entry.question, message, hint).at(document.line(entry)));
    }
    people(document, &mut findings);
    if let Some(entry) = document.get("partman-auto/expert_recipe") {
        recipe(&entry.value, document.line(entry), &mut findings);
    }
    for question in ["partman/early_command", "preseed/early_command", "preseed/late_command"] {
        let Some(entry) = document.get(question) else { continue };
        // One argument of a program is no longer than that, with the zero at its end; a longer line is not run at all.
        if entry.value.len() > LONGEST_LINE {
            let message = format!(
                "the line has {} bytes, and one of more than {LONGEST_LINE} is not run",
                entry.value.len()
            );
            let hint = "carry long scripts on the media (carried = \"media\")";
            findings.push(Finding::new(Topic::Command, question, message, hint).at(document.line(entry)));
        }
        for fault in sh::faults(&entry.value) {
            let hint = "give each command a shell of its own: sh -c '…', and join them with `&&`";
            findings.push(Finding::new(Topic::Command, question, fault, hint).at(document.line(entry)));
        }
    }
    if let Some(media) = media {
        for question in ["preseed/early_command", "preseed/late_command"] {
            let Some(entry) = document.get(question) else { continue };
            for path in media.faults_in_command(&entry.value) {
                let message = format!("a command uses {path}");
                findings.push(
                    Finding::new(
                        Topic::NotOnMedia,
                        question,
                        message,
                        "put it there with [[place]], or correct the path",
                    )
                    .at(document.line(entry)),
                );
            }
        }
    }
    findings
}

/// What of the accounts the installer asks all the same, once some of it is answered.
fn people(document: &Document<'_>, findings: &mut Vec<Finding>) {
    let Some(name) = document.get("passwd/username") else { return };
    let line = document.line(name);
    let has = |question: &str| document.value(question).is_some_and(|own| !own.is_empty());
    let has_password = |who: &str| has(&format!("{who}-password")) || has(&format!("{who}-password-crypted"));
    if RESERVED
        .lines()
        .filter(|own| !own.starts_with('#'))
        .flat_map(str::split_whitespace)
        .any(|own| own == name.value)
    {
        let message = format!(
            "{:?} is a name that the installer keeps for the system: it asks for another",
            name.value
        );
        findings.push(
            Finding::new(Topic::Account, "passwd/username", message, "give the account another name")
                .at(line),
        );
    }
    let groups = document.value("passwd/user-default-groups").unwrap_or_default().split_whitespace();
    for group in groups.filter(|own| !crate::shell::is_usual_group(own)) {
        let message = format!(
            "the group {group} is not there when the account is made, and is left out without a word"
        );
        let hint = "make it and put the account into it by a command at the end";
        findings.push(Finding::new(Topic::Account, "passwd/user-default-groups", message, hint).at(line));
    }
    if document.value("passwd/make-user") != Some("false") && !has_password("passwd/user") {
        let message = format!("{} has no password: the installer asks for one", name.value);
        let hint = "give it a password or its hash";
        findings.push(Finding::new(Topic::Asks, "passwd/user-password-crypted", message, hint).at(line));
    }
    if document.value("passwd/root-login") != Some("false") && !has_password("passwd/root") {
        let message = "nothing is said of the administrator: the installer asks for its password";
        let hint = "say that it cannot sign in (passwd/root-login false, administrator.enabled = false), or give it a password";
        findings.push(Finding::new(Topic::Asks, "passwd/root-login", message, hint).at(line));
    }
}

/// Sizes of a recipe: least, priority, greatest.
fn recipe(text: &str, line: usize, findings: &mut Vec<Finding>) {
    let body = text.split_once("::").map_or(text, |(_, body)| body);
    for part in body.split(" .").map(str::trim).filter(|part| !part.is_empty()) {
        let numbers: Vec<Option<i64>> =
            part.split_whitespace().take(3).map(|word| word.trim_end_matches('%').parse().ok()).collect();
        let [Some(least), Some(_), Some(most)] = numbers[..] else {
            let finding = Finding::new(
                Topic::Disk,
                "partman-auto/expert_recipe",
                format!("{part:.40} does not begin with three numbers"),
                "write: least priority greatest file-system …",
            );
            findings.push(finding.at(line));
            continue;
        };
        if most >= 0 && most < least {
            let finding = Finding::new(
                Topic::Disk,
                "partman-auto/expert_recipe",
                format!("a partition is at least {least} and at most {most} MB"),
                "correct one of the two",
            );
            findings.push(finding.at(line));
        }
    }
}

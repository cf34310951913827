//! What is wrong with an autoinstall file, by its published reference.

use super::{inside, yaml};
use crate::{Finding, Topic, check::MediaFacts};
use neat_content::nearest;
use serde_json::Value;

/// Keys and the types that they may have.
const KEYS: [(&str, &[&str]); 35] = [
    ("version", &["number"]),
    ("interactive-sections", &["list"]),
    ("early-commands", &["list"]),
    ("locale", &["text", "null"]),
    ("refresh-installer", &["mapping"]),
    ("keyboard", &["mapping"]),
    ("source", &["mapping"]),
    ("network", &["mapping"]),
    ("proxy", &["text", "null"]),
    ("apt", &["mapping"]),
    ("storage", &["mapping"]),
    ("identity", &["mapping"]),
    ("active-directory", &["mapping"]),
    ("ubuntu-advantage", &["mapping"]),
    ("ubuntu-pro", &["mapping"]),
    ("ssh", &["mapping"]),
    ("codecs", &["mapping"]),
    ("drivers", &["mapping"]),
    ("oem", &["mapping"]),
    ("snaps", &["list"]),
    ("debconf-selections", &["text"]),
    ("packages", &["list"]),
    ("kernel", &["mapping"]),
    ("kernel-crash-dumps", &["mapping"]),
    ("timezone", &["text", "null"]),
    ("updates", &["text"]),
    ("shutdown", &["text"]),
    ("late-commands", &["list"]),
    ("error-commands", &["list"]),
    ("reporting", &["mapping"]),
    ("user-data", &["mapping"]),
    ("zdev", &["list"]),
    ("ad", &["mapping"]),
    ("mirror-selection", &["mapping"]),
    ("debug", &["boolean"]),
];

fn kind(own: &Value) -> &'static str {
    match own {
        Value::Null => "null",
        Value::Bool(_) => "boolean",
        Value::Number(_) => "number",
        Value::String(_) => "text",
        Value::Array(_) => "list",
        Value::Object(_) => "mapping",
    }
}

pub(super) fn check(text: &str, root: &Value, media: Option<&MediaFacts>) -> Vec<Finding> {
    let mut findings = Vec::new();
    let own = inside(root);
    let mut add = |topic: Topic, key: &str, message: String, hint: String| {
        let line = yaml::line_of_key(text, key.split('.').next().unwrap_or_default());
        findings.push(Finding { line, ..Finding::new(topic, key, message, hint) });
    };
    let first = text.lines().next().unwrap_or_default();
    if root.get("autoinstall").is_some() && first.trim_end() != "#cloud-config" {
        add(
            Topic::Dialect,
            "file",
            "the first line is not #cloud-config: cloud-init ignores the file".into(),
            "write it as the first line".into(),
        );
    }
    let Some(map) = own.as_object() else {
        add(
            Topic::Dialect,
            "file",
            "the answers are no mapping".into(),
            "write keys with values below autoinstall:".into(),
        );
        return findings;
    };
    for (key, value) in map {
        match KEYS.iter().find(|(known, _)| known == key) {
            None => {
                let near = nearest(key, KEYS.iter().map(|(known, _)| *known));
                let hint =
                    near.map_or_else(|| "take it out".to_owned(), |near| format!("did you mean {near}?"));
                add(Topic::Dialect, key, format!("there is no key {key}: the installer stops"), hint);
            }
            Some((_, kinds)) if !kinds.contains(&kind(value)) => {
                add(
                    Topic::Dialect,
                    key,
                    format!("it is a {}, and must be a {}", kind(value), kinds.first().unwrap_or(&"value")),
                    String::new(),
                );
            }
            Some(_) => {}
        }
    }
    if own.get("version") != Some(&Value::from(1)) {
        add(
            Topic::Dialect,
            "version",
            "the version is missing or not 1: the installer stops".into(),
            "write version: 1".into(),
        );
    }
    if let Some(identity) = own.get("identity").and_then(Value::as_object) {
        for key in ["username", "hostname", "password"] {
            if !identity.contains_key(key) {
                add(Topic::Asks, "identity", format!("identity has no {key}"), format!("add {key}"));
            }
        }
        let password = identity.get("password").and_then(Value::as_str).unwrap_or_default();
        if !password.is_empty() && !password.starts_with('$') {
            add(
                Topic::PlainPassword,
                "identity.password",
                "the password is no hash: it stands in plain text, and nobody can sign in with it".into(),
                "give its hash, such as $6$…".into(),
            );
        }
    } else if own.pointer("/user-data/users").is_none() && own.pointer("/user-data").is_none() {
        add(
            Topic::Asks,
            "identity",
            "there is no identity and no user-data: the installer asks for an account".into(),
            "add identity:".into(),
        );
    }
    let shutdown = own.get("shutdown").and_then(Value::as_str);
    if shutdown.is_some_and(|own| !matches!(own, "reboot" | "poweroff")) {
        add(
            Topic::Dialect,
            "shutdown",
            "it is neither reboot nor poweroff".into(),
            "write one of them".into(),
        );
    }
    let actions =
        own.pointer("/storage/config").and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default();
    let text_of =
        |own: &Value, key: &str| own.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
    let mut ids: Vec<String> = Vec::new();
    let mut full: Vec<String> = Vec::new();
    for action in actions {
        let id = text_of(action, "id");
        if !id.is_empty() && ids.contains(&id) {
            add(Topic::Disk, "storage", format!("two actions have the id {id}"), "give each its own".into());
        }
        for key in ["device", "volume"] {
            let target = text_of(action, key);
            if !target.is_empty() && !ids.contains(&target) {
                add(
                    Topic::Disk,
                    "storage",
                    format!("{id} needs {target}, which does not stand before it"),
                    "put it before, or correct the id".into(),
                );
            }
        }
        if text_of(action, "type") == "partition" {
            let disk = text_of(action, "device");
            if full.contains(&disk) {
                add(
                    Topic::Disk,
                    "storage",
                    format!(
                        "{id} comes after a partition that takes the rest of {disk}: nothing is left for it"
                    ),
                    "put the one with size: -1 last".into(),
                );
            }
            if action.get("size").and_then(Value::as_i64) == Some(-1) {
                full.push(disk);
            }
        }
        ids.push(id);
    }
    for key in ["early-commands", "late-commands", "error-commands"] {
        let commands = own.get(key).and_then(Value::as_array).into_iter().flatten();
        for fault in commands.filter_map(Value::as_str).flat_map(crate::command_line::sh::faults) {
            add(Topic::Command, key, fault.into(), "give it a script, or a list of words".into());
        }
    }
    if let Some(media) = media {
        for key in ["early-commands", "late-commands"] {
            for command in own.get(key).and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default() {
                for path in media.faults_in_command(&super::command_text(command)) {
                    add(
                        Topic::NotOnMedia,
                        key,
                        format!("a command uses {path}"),
                        "put it there with [[place]], or correct the path".into(),
                    );
                }
            }
        }
    }
    findings
}

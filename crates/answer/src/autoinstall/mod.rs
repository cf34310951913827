//! cloud-init's autoinstall: YAML for installers of servers and desktops.

mod about;
mod check;
mod read;
mod say;
mod storage;
mod yaml;

use crate::{
    Dialect, Erasure, Finding, Topic,
    check::MediaFacts,
    command_line::sh,
    face::{About, Face, Reading, Saying, Written},
    model::{EditionChoice, Erases, Model, Stage},
    pieces::{self, Piece},
    shell::{self, Ways},
};
use neat_content::{Error, Result};
use serde_json::{Map, Value};

/// The dialect.
pub(crate) struct Autoinstall;

const STAGES: [Stage; 3] = [Stage::SetupStart, Stage::SystemInstalled, Stage::FirstStart];
/// Stands for the name until it is known on the machine.
const NAME: &str = "neatstack-name";
const WAYS: Ways = Ways {
    inside: "curtin in-target -- sh -c",
    media: "/cdrom",
    target: "/target",
    stop: "exit 1",
    name: ("sed -i \"s/neatstack-name/", "/\" /autoinstall.yaml"),
};

impl Face for Autoinstall {
    fn about(&self) -> &'static About {
        &about::ABOUT
    }

    fn read(&self, text: &str) -> Result<Reading> {
        let root = yaml::parse(text)?;
        Ok(read::read(text, inside(&root)))
    }

    fn write(&self, saying: &Saying<'_>) -> Result<Written> {
        let findings = unsaid(saying.model);
        let after = say::values(saying.model, saying.secrets)?;
        let mark = crate::ERASES_MARK;
        let text = match saying.origin {
            None => {
                let marked =
                    if saying.model.erases == Erases::Yes { format!("# {mark}\n") } else { String::new() };
                let title: String = saying.model.title.chars().filter(|c| !c.is_control()).collect();
                let title = if title.is_empty() { String::new() } else { format!("# {title}\n") };
                pieces::fresh(&format!("#cloud-config\n{title}{marked}autoinstall:\n"), &pieces_of(&after, 2))
            }
            Some(original) => {
                let before = say::values(&original.reading.model, &original.reading.vault)?;
                let text = crate::set_mark(&original.text, saying.model.erases);
                if before == after { text } else { changed(&text, &before, &after)? }
            }
        };
        Ok(Written { text, files: shell::side_files(saying.model), findings })
    }

    fn erases(&self, text: &str, _reading: &Reading) -> Erasure {
        yaml::parse(text).map(|root| erases(inside(&root))).unwrap_or_default()
    }

    fn check(&self, text: &str, _reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding> {
        match yaml::parse(text) {
            Ok(root) => check::check(text, &root, media),
            Err(error) => vec![Finding::new(Topic::Dialect, "file", error.to_string(), error.hint())],
        }
    }
}

fn pieces_of(values: &Map<String, Value>, indent: usize) -> Vec<Piece> {
    values.iter().map(|(key, own)| Piece::new(key, yaml::say(key, own, indent))).collect()
}

fn changed(text: &str, before: &Map<String, Value>, after: &Map<String, Value>) -> Result<String> {
    let Some(block) = yaml::block(text) else {
        return Err(Error::Unsupported {
            what: "a change of autoinstall answers that stand in one line".into(),
            offset: 0,
        });
    };
    // What stands in the file and not in the neutral form is kept inside of a changed key, too.
    let root = yaml::parse(text)?;
    let theirs = inside(&root);
    let mut merged = after.clone();
    for (key, own) in &mut merged {
        if before.get(key) != Some(own)
            && let (Some(Value::Object(there)), Value::Object(own)) = (theirs.get(key), own)
        {
            let was = before.get(key).and_then(Value::as_object);
            for (inner, value) in there {
                if !own.contains_key(inner) && was.is_none_or(|was| !was.contains_key(inner)) {
                    own.insert(inner.clone(), value.clone());
                }
            }
        }
    }
    let (before, after) = (pieces_of(before, block.indent), pieces_of(&merged, block.indent));
    Ok(pieces::rewrite(text, &block.parts, &before, &after, block.end))
}

fn inside(root: &Value) -> &Value {
    root.get("autoinstall").unwrap_or(root)
}

/// A command, which may be a list of words.
fn command_text(own: &Value) -> String {
    match own {
        Value::Array(words) => {
            let word = |own: &Value| {
                let text = own.as_str().map_or_else(|| own.to_string(), str::to_owned);
                sh::word(&text)
            };
            words.iter().map(word).collect::<Vec<_>>().join(" ")
        }
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

fn strings(own: Option<&Value>) -> Vec<String> {
    let items = own.and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default();
    items.iter().filter_map(Value::as_str).map(str::to_owned).collect()
}

fn unsaid(model: &Model) -> Vec<Finding> {
    let mut findings = Vec::new();
    shell::unsaid(model, Dialect::Autoinstall, &STAGES, &mut findings);
    let mut add = |field: &str, why: &str, hint: &str| {
        findings.push(Finding::unsaid(field, Dialect::Autoinstall, why, hint));
    };
    if matches!(model.system.edition, Some(EditionChoice::Number(_))) {
        add("system.edition", "sources have names", "give the name of the source");
    }
    if !model.machine.domain.is_empty() && model.machine.name.is_empty() {
        add("machine.domain", "the domain is a part of the name", "give the machine a name");
    }
    if model.account.len() == 1 && model.account.iter().any(|account| account.password.is_none()) {
        findings.push(Finding::told(
            Topic::Unusual,
            "account.password",
            "without a password nobody can sign in at the machine",
        ));
    }
    if model.command.iter().any(|command| !command.description.is_empty()) {
        findings.push(Finding::told(
            Topic::Needless,
            "command.description",
            "autoinstall has no room for descriptions of commands",
        ));
    }
    if model.first_start.privacy.is_some() {
        findings.push(Finding::told(
            Topic::Needless,
            "first_start.privacy",
            "autoinstall has no such questions, so there is nothing to say",
        ));
    }
    findings
}

fn erases(own: &Value) -> Erasure {
    let mut erasure = Erasure::default();
    let asks: Vec<String> = strings(own.get("interactive-sections"));
    if asks.iter().any(|section| section == "storage" || section == "*") {
        return erasure;
    }
    let config = own.pointer("/storage/config").and_then(Value::as_array);
    match (own.get("storage"), config) {
        (_, Some(actions)) => {
            for action in actions.iter().filter(|own| own.get("wipe").is_some()) {
                let name =
                    ["path", "serial", "id"].iter().find_map(|key| action.get(*key).and_then(Value::as_str));
                erasure
                    .add(format!("everything on {}", name.unwrap_or("a disk").trim_start_matches("/dev/")));
            }
        }
        (Some(storage), None) => {
            let path = storage.pointer("/layout/match/path").and_then(Value::as_str);
            erasure.add(path.map_or_else(
                || "everything on the largest disk".into(),
                |path| format!("everything on {}", path.trim_start_matches("/dev/")),
            ));
        }
        (None, None) => {
            erasure.add("everything on the largest disk, because nothing is said of disks".into());
        }
    }
    for key in ["early-commands", "late-commands"] {
        for command in own.get(key).and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default() {
            erasure.add_command(&command_text(command));
        }
    }
    for section in asks {
        erasure.ask(&section);
    }
    erasure
}

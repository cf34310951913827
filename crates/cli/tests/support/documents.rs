//! Every JSON document that a test gets to see is held against its published schema, without room for other keys.

use serde_json::Value;
use std::{
    collections::HashMap,
    process::{Command, Output},
    sync::{Mutex, OnceLock},
};

/// The word of the schema for what a command line prints.
pub fn word(args: &[&str]) -> Option<&'static str> {
    let words: Vec<&str> = args.iter().copied().filter(|arg| !arg.starts_with('-')).collect();
    let has = |word: &str| words.iter().skip(1).any(|own| *own == word);
    Some(match *words.first()? {
        "answer" => match *words.get(1)? {
            "check" => "answer-check",
            "new" => "answer-new",
            "read" => "answer-read",
            "insert" | "move" | "remove" => "answer-change",
            _ => return None,
        },
        "build" if args.contains(&"--dry-run") => "plan",
        "build" => "ledger",
        "depot" => match *words.get(1)? {
            "fetch" => "depot-fetch",
            "index" => "depot-index",
            "key" => "depot-key",
            "search" => "depot-search",
            "serve" => "depot-serve",
            "sign" => "depot-sign",
            _ => return None,
        },
        "editions" if ["keep", "drop", "order", "rename"].into_iter().any(has) => "image",
        "capture" | "repack" => "image",
        "disc" if args.contains(&"--list") => "writers",
        "disc" if words.get(1) == Some(&"erase") => "disc-erase",
        "stick" if args.contains(&"--list") => "disks",
        "stick" if words.get(1) == Some(&"update") => "stick-update",
        "touchup" if has("list") || has("undo") => "touchup-list",
        "update" => "update-new",
        "schema" => return None,
        other => [
            "check",
            "compare",
            "config",
            "demo",
            "disc",
            "draft",
            "drivers",
            "editions",
            "files",
            "inventory",
            "join",
            "look",
            "manual",
            "master",
            "pick",
            "plan",
            "report",
            "split",
            "stick",
            "take",
            "touchup",
            "trial",
            "unpack",
        ]
        .into_iter()
        .find(|own| *own == other)?,
    })
}

/// Checks what a run with `--json` printed.
pub fn check(args: &[&str], output: &Output) {
    if !args.contains(&"--json") {
        return;
    }
    let document = |bytes: &[u8]| serde_json::from_slice::<Value>(bytes).ok();
    if let (Some(word), Some(own)) = (word(args), document(&output.stdout)) {
        validate(word, &own, args);
    }
    // Notes may come before it.
    let last = output.stderr.rsplit(|byte| *byte == b'\n').find(|line| !line.is_empty()).unwrap_or_default();
    if let Some(own) = document(last).filter(Value::is_object) {
        validate("error", &own, args);
    }
}

/// Holds a document against the schema of this word.
pub fn validate(word: &'static str, document: &Value, args: &[&str]) {
    static KNOWN: OnceLock<Mutex<HashMap<&'static str, Value>>> = OnceLock::new();
    let known = KNOWN.get_or_init(Mutex::default);
    let schema = known.lock().unwrap().entry(word).or_insert_with(|| strict(published(word))).clone();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let errors: Vec<String> = validator
        .iter_errors(document)
        .map(|error| format!("{error} at {}", error.instance_path()))
        .collect();
    assert!(errors.is_empty(), "{args:?} against the schema {word}: {errors:#?}\n{document:#}");
}

fn published(word: &str) -> Value {
    let output = Command::new(env!("CARGO_BIN_EXE_neatstack")).args(["schema", word]).output().unwrap();
    assert!(output.status.success(), "there is no schema {word}");
    serde_json::from_slice(&output.stdout).unwrap()
}

/// The schema without room for keys that it does not name.
fn strict(mut schema: Value) -> Value {
    fn walk(schema: &mut Value) {
        match schema {
            Value::Object(object) => {
                if object.get("properties").is_some_and(Value::is_object) && object.contains_key("type") {
                    object.entry("additionalProperties").or_insert(Value::Bool(false));
                }
                object.values_mut().for_each(walk);
            }
            Value::Array(list) => list.iter_mut().for_each(walk),
            _ => {}
        }
    }
    walk(&mut schema);
    schema
}

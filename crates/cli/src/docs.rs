//! The documents, held against the program: the reference of commands is written from it, command lines must parse, and
//! what stands in blocks of TOML must be read by whoever reads such files.

use crate::args::Cli;
use clap::{Command, CommandFactory, Parser};
use serde_json::Value;
use std::{collections::BTreeSet, fmt::Write as _, fs, path::PathBuf};

/// Columns of help in the reference.
const WIDTH: usize = 100;

fn root() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// The documents with their names.
fn documents() -> Vec<(String, String)> {
    let mut paths: Vec<PathBuf> =
        fs::read_dir(root().join("docs")).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.retain(|path| path.extension().is_some_and(|ending| ending == "md"));
    paths.push(root().join("README.md"));
    paths.sort();
    let read = |path: PathBuf| (path.display().to_string(), fs::read_to_string(&path).unwrap());
    paths.into_iter().map(read).collect()
}

/// Blocks of a document that begin with a fence and this word.
fn blocks<'a>(text: &'a str, word: &str) -> Vec<&'a str> {
    let fence = format!("```{word}\n");
    text.split(&fence).skip(1).map(|rest| rest.split("```").next().unwrap_or_default()).collect()
}

/// Help of a command and of those below it.
fn help(command: &mut Command, name: &str, out: &mut String) {
    let text = command.render_help().to_string();
    let own = text.lines().map(str::trim_end).collect::<Vec<_>>().join("\n");
    let own = own.trim_end();
    writeln!(out, "\n## {name}\n\n```text\n{own}\n```").unwrap();
    for below in command.get_subcommands_mut().filter(|below| below.get_name() != "help") {
        let name = format!("{name} {}", below.get_name());
        help(below, &name, out);
    }
}

/// `NEATSTACK_WRITE_DOCS=1 cargo test -p neatstack docs` writes it anew.
#[test]
fn the_reference_of_commands_is_what_the_program_says() {
    let mut command = crate::args::command(WIDTH);
    command.build();
    let mut text = "# Commands\n\nWritten from the program by its own test; not edited by hand.\n".to_owned();
    help(&mut command, "neatstack", &mut text);
    let path = root().join("docs/commands.md");
    if std::env::var_os("NEATSTACK_WRITE_DOCS").is_some() {
        fs::write(&path, &text).unwrap();
    }
    let there = fs::read_to_string(&path).unwrap_or_default();
    let differs = there.lines().zip(text.lines()).find(|(a, b)| a != b);
    assert!(
        there == text,
        "docs/commands.md is not what the program says (first: {differs:?}); \
         NEATSTACK_WRITE_DOCS=1 cargo test -p neatstack docs writes it anew"
    );
}

/// The keys of a document with their types, one in a line, as `plan.editions[].name: string`.
fn keys(schema: &Value, root: &Value, path: &str, seen: &mut Vec<String>, out: &mut BTreeSet<String>) {
    if let Some(name) = schema["$ref"].as_str().and_then(|name| name.strip_prefix("#/$defs/")) {
        // A form that holds itself is described once.
        if !seen.iter().any(|own| own == name) {
            seen.push(name.to_owned());
            keys(&root["$defs"][name], root, path, seen, out);
            seen.pop();
        }
        return;
    }
    for form in ["anyOf", "oneOf", "allOf"].iter().filter_map(|word| schema[word].as_array()).flatten() {
        keys(form, root, path, seen, out);
    }
    let kinds = match &schema["type"] {
        Value::String(kind) => vec![kind.as_str()],
        Value::Array(kinds) => kinds.iter().filter_map(Value::as_str).collect(),
        _ => Vec::new(),
    };
    for kind in kinds {
        out.insert(format!("{path}: {kind}"));
    }
    keys_below(schema, root, path, seen, out);
}

fn keys_below(schema: &Value, root: &Value, path: &str, seen: &mut Vec<String>, out: &mut BTreeSet<String>) {
    for word in schema["enum"].as_array().into_iter().flatten().chain(schema.get("const")) {
        out.insert(format!("{path} = {word}"));
    }
    for (name, below) in schema["properties"].as_object().into_iter().flatten() {
        keys(below, root, &format!("{path}.{name}"), seen, out);
    }
    if schema["items"].is_object() {
        keys(&schema["items"], root, &format!("{path}[]"), seen, out);
    }
    for below in schema["prefixItems"].as_array().into_iter().flatten() {
        keys(below, root, &format!("{path}[]"), seen, out);
    }
    if schema["additionalProperties"].is_object() {
        keys(&schema["additionalProperties"], root, &format!("{path}.*"), seen, out);
    }
}

/// The contract with programs that read JSON: what is in the list stays.
#[test]
fn keys_of_json_documents_stay_and_are_in_the_page() {
    let mut all = BTreeSet::new();
    for own in crate::documents::ALL {
        let schema = own.schema().to_value();
        keys(&schema, &schema, own.word, &mut Vec::new(), &mut all);
    }
    let path = root().join("docs/json-keys.txt");
    let text = all.iter().map(String::as_str).collect::<Vec<_>>().join("\n") + "\n";
    if std::env::var_os("NEATSTACK_WRITE_DOCS").is_some() {
        fs::write(&path, &text).unwrap();
    }
    let there = fs::read_to_string(&path).unwrap_or_default();
    let gone: Vec<&str> = there.lines().filter(|line| !all.contains(*line)).collect();
    assert!(gone.is_empty(), "keys of JSON documents changed or are gone: {gone:#?}");
    assert!(
        there == text,
        "there are new keys; NEATSTACK_WRITE_DOCS=1 cargo test -p neatstack docs adds them to docs/json-keys.txt"
    );
    let page = fs::read_to_string(root().join("docs/json.md")).unwrap();
    let in_page: BTreeSet<&str> = page.split('`').skip(1).step_by(2).collect();
    for line in &all {
        // The model of answers has a page of its own.
        let Some((key, _)) = line
            .split_once(": ")
            .filter(|(key, _)| !key.contains(".model.") && !key.starts_with("answer-new"))
        else {
            continue;
        };
        let name = key.rsplit('.').next().unwrap_or(key).trim_end_matches("[]");
        assert!(!key.contains('.') || name == "*" || in_page.contains(name), "{key} is not in docs/json.md");
    }
    for own in crate::documents::ALL {
        assert!(page.contains(&format!("`{}`", own.word)), "the schema {} is not in docs/json.md", own.word);
    }
}

/// A line of a shell as words; comments and redirections are left out.
fn words(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    let (mut word, mut quote, mut any) = (String::new(), None, false);
    for c in line.chars() {
        match (quote, c) {
            (Some(end), c) if c == end => quote = None,
            (None, '"' | '\'') => (quote, any) = (Some(c), true),
            (None, '#' | '>' | '|') if word.is_empty() && !any => return words,
            (None, ' ') => {
                if any || !word.is_empty() {
                    words.push(std::mem::take(&mut word));
                }
                any = false;
            }
            _ => word.push(c),
        }
    }
    if any || !word.is_empty() {
        words.push(word);
    }
    words
}

#[test]
fn command_lines_of_the_documents_parse() {
    let mut count = 0;
    for (name, text) in documents() {
        let lines = blocks(&text, "sh").into_iter().flat_map(str::lines);
        for line in lines.filter(|line| line.starts_with("neatstack ")) {
            count += 1;
            let parsed = Cli::try_parse_from(words(line));
            assert!(parsed.is_ok(), "{name}: {line}: {}", parsed.unwrap_err());
        }
    }
    assert!(count > 20, "{count} command lines were found");
}

/// Every command has an example of itself in its help that parses.
#[test]
fn examples_in_help_parse() {
    let mut missing = Vec::new();
    for command in Cli::command().get_subcommands() {
        let help = command.get_after_help().map(ToString::to_string).unwrap_or_default();
        let below = command.get_subcommands().filter_map(|below| Some(below.get_after_help()?.to_string()));
        let help = std::iter::once(help).chain(below).collect::<Vec<_>>().join("\n");
        let lines: Vec<&str> =
            help.lines().map(str::trim).filter(|line| line.starts_with("neatstack ")).collect();
        if lines.is_empty() {
            missing.push(command.get_name().to_owned());
        }
        for line in lines {
            let parsed = Cli::try_parse_from(words(line));
            assert!(parsed.is_ok(), "{line}: {}", parsed.unwrap_err());
        }
    }
    assert!(missing.is_empty(), "no example in the help of {missing:?}");
}

/// Options that a command and those below it have.
fn options_of(command: &clap::Command, all: &mut std::collections::BTreeSet<String>) {
    all.extend(command.get_arguments().filter_map(clap::Arg::get_long).map(str::to_owned));
    command.get_subcommands().for_each(|below| options_of(below, all));
}

/// Texts of the sources that people may see: what stands in quotes, without tests.
fn said_in(folder: &std::path::Path, found: &mut Vec<(String, String)>) {
    // Other systems' files have options of their own.
    const OTHERS: [&str; 5] = ["kickstart", "bootmenu", "style.rs", "html.rs", "docs.rs"];
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        if OTHERS.contains(&name.as_str()) || matches!(name.as_str(), "tests" | "tests.rs") {
            continue;
        }
        if path.is_dir() {
            said_in(&path, found);
        } else if name.ends_with(".rs") {
            let text = std::fs::read_to_string(&path).unwrap();
            let text = text.split("#[cfg(test)]").next().unwrap_or_default();
            let quoted =
                text.lines().filter(|line| line.contains('"') && !line.trim_start().starts_with("//"));
            found.extend(quoted.map(|line| (path.display().to_string(), line.to_owned())));
        }
    }
}

/// The options that a text names.
fn options_in(line: &str) -> impl Iterator<Item = &str> {
    let starts = line.match_indices("--").filter(|(at, _)| {
        let before = line[..*at].chars().next_back();
        before.is_none_or(|c| !c.is_alphanumeric() && c != '-')
    });
    starts.map(|(at, _)| {
        let rest = &line[at + 2..];
        &rest[..rest.find(|c: char| !c.is_ascii_lowercase() && c != '-').unwrap_or(rest.len())]
    })
}

/// A message that names an option which is not there helps nobody.
#[test]
fn options_that_messages_name_are_there() {
    let mut all = std::collections::BTreeSet::from(["help".to_owned(), "version".to_owned()]);
    let command = Cli::command();
    options_of(&command, &mut all);
    let crates = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut lines = Vec::new();
    for entry in std::fs::read_dir(crates).unwrap() {
        let folder = entry.unwrap().path();
        // What tests share is not the program.
        if !folder.ends_with("testing") {
            said_in(&folder.join("src"), &mut lines);
        }
    }
    let mut count = 0;
    for (path, line) in &lines {
        let named = options_in(line).filter(|name| !name.trim_matches('-').is_empty());
        for name in named {
            count += 1;
            assert!(all.contains(name), "{path}: --{name}: {line}");
        }
        // A whole command line names its own command's.
        for part in line.split('`').filter(|part| part.starts_with("neatstack ")) {
            let mut own = &command;
            let mut words = part.split(' ').skip(1).peekable();
            while let Some(below) = words.peek().and_then(|word| own.find_subcommand(word)) {
                own = below;
                words.next();
            }
            let mut known = std::collections::BTreeSet::new();
            known.extend(command.get_arguments().filter_map(clap::Arg::get_long).map(str::to_owned));
            options_of(own, &mut known);
            for name in options_in(part) {
                assert!(known.contains(name) || name == "help", "{path}: {part}");
            }
        }
    }
    assert!(count > 60, "{count} options were found");
}

/// What reads files of a kind, and what it says of a text.
type Reader = (&'static str, fn(&str) -> Result<(), String>);

const READERS: [Reader; 7] = [
    ("simulated writer", |text| {
        let described = toml::from_str::<neat_recorder::simulated::Description>(text);
        described.map(drop).map_err(|error| error.to_string())
    }),
    ("simulated device", |text| {
        let described = toml::from_str::<neat_device::simulated::Description>(text);
        described.map(drop).map_err(|error| error.to_string())
    }),
    ("update", |text| {
        toml::from_str::<neat_package::Manifest>(text).map(drop).map_err(|error| error.to_string())
    }),
    ("stack file", |text| {
        // Parts of stack files lack what every one must have.
        let mut whole = text.to_owned();
        if !text.contains("[media]") {
            whole.push_str("\n[media]\niso = \"x.iso\"\n");
        }
        if !text.contains("[source]") {
            whole.push_str("\n[source]\nmedia = \"x.iso\"\n");
        }
        neat_stack::StackFile::parse(&whole).map(drop).map_err(|error| error.to_string())
    }),
    ("model", |text| neat_answer::Model::parse(text).map(drop).map_err(|error| error.to_string())),
    ("catalogue", |text| neat_service::Catalogue::parse(text).map(drop).map_err(|error| error.to_string())),
    ("layout", |text| neat_service::Layout::parse(text).map(drop).map_err(|error| error.to_string())),
];

#[test]
fn blocks_of_toml_are_read_by_what_reads_such_files() {
    let mut count = 0;
    for (name, text) in documents() {
        for block in blocks(&text, "toml") {
            count += 1;
            let said: Vec<(&str, String)> =
                READERS.iter().filter_map(|(kind, read)| Some((*kind, read(block).err()?))).collect();
            assert!(said.len() < READERS.len(), "{name}: nothing reads\n{block}\n{said:#?}");
        }
    }
    assert!(count >= 6, "{count} blocks were found");
}

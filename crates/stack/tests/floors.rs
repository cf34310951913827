//! The modules of this crate are floors: each knows only those before it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::{fs, path::Path};

/// From the ground up; what stands in one line is beside each other and does not know its neighbours.
const FLOORS: [&[&str]; 9] = [
    &["recipe"],
    &["report"],
    &["editions"],
    &["depot"],
    &["change"],
    &["output"],
    &["plan"],
    &["build"],
    &["compare", "draft", "lock"],
];

/// Names below `crate::` that a file uses, of `use crate::{a::{..}, b}` as well as of `crate::a::b`.
fn uses(text: &str) -> Vec<String> {
    let mut found = Vec::new();
    for (at, _) in text.match_indices("crate::") {
        if text[..at].ends_with("pub(") {
            continue;
        }
        let rest = &text[at + "crate::".len()..];
        let Some(list) = rest.strip_prefix('{') else {
            found.push(first_word(rest));
            continue;
        };
        let mut depth = 1;
        let mut item = String::new();
        for c in list.chars() {
            match c {
                '{' => depth += 1,
                '}' => depth -= 1,
                _ => {}
            }
            if depth == 0 || (depth == 1 && c == ',') {
                found.push(first_word(item.trim()));
                item.clear();
            } else {
                item.push(c);
            }
            if depth == 0 {
                break;
            }
        }
    }
    found.retain(|word| !word.is_empty());
    found
}

fn first_word(text: &str) -> String {
    text.chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '_').collect()
}

fn files_of(path: &Path, found: &mut Vec<String>) {
    if path.is_dir() {
        for entry in fs::read_dir(path).unwrap() {
            files_of(&entry.unwrap().path(), found);
        }
    } else {
        found.push(fs::read_to_string(path).unwrap());
    }
}

#[test]
fn every_floor_knows_only_those_below_it() {
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut below: Vec<&str> = Vec::new();
    let mut seen = 0;
    for floor in FLOORS {
        for name in floor {
            let mut files = Vec::new();
            let file = source.join(format!("{name}.rs"));
            files_of(&if file.is_file() { file } else { source.join(name) }, &mut files);
            assert!(!files.is_empty());
            for word in files.iter().flat_map(|text| uses(text)) {
                seen += 1;
                assert!(word == *name || below.contains(&word.as_str()), "{name} uses crate::{word}");
            }
        }
        below.extend(floor);
    }
    assert!(seen > 30, "only {seen} uses were found: are they written otherwise now?");
    // No room that the list does not know.
    for entry in fs::read_dir(source).unwrap() {
        let name = entry.unwrap().file_name().into_string().unwrap();
        let stem = name.trim_end_matches(".rs");
        assert!(stem == "lib" || below.contains(&stem), "{name} is on no floor");
    }
}

#[test]
fn uses_are_found_in_every_form() {
    let text = "use crate::{\n    plan::{Laid, X},\n    report::Weight,\n};\npub(crate) fn a(b: crate::recipe::C) {}";
    assert_eq!(uses(text), ["plan", "report", "recipe"]);
}

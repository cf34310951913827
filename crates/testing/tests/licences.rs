//! Licences of everything that is built into the program.

#![allow(clippy::unwrap_used, missing_docs, reason = "a test that cannot go on has failed")]

use std::{collections::BTreeSet, process::Command};

/// Licences that a work under the MIT licence may take in, by their SPDX names.
const WELCOME: [&str; 13] = [
    "0BSD",
    "Apache-2.0",
    "Apache-2.0 WITH LLVM-exception",
    "BSD-2-Clause",
    "BSD-3-Clause",
    "BSL-1.0",
    "CC0-1.0",
    "ISC",
    "MIT",
    "MIT-0",
    "Unicode-3.0",
    "Unlicense",
    "Zlib",
];

/// Whether an SPDX expression can be met with welcome licences alone: of an `OR` one side, of an `AND` both.
fn is_welcome(expression: &str) -> bool {
    let text = expression.trim();
    for (word, all) in [(" AND ", true), (" OR ", false)] {
        let parts = outside_brackets(text, word);
        if parts.len() > 1 {
            return if all {
                parts.iter().all(|own| is_welcome(own))
            } else {
                parts.iter().any(|own| is_welcome(own))
            };
        }
    }
    match text.strip_prefix('(').and_then(|text| text.strip_suffix(')')) {
        Some(inside) => is_welcome(inside),
        None => WELCOME.contains(&text),
    }
}

/// The parts of `text` between `word`, where that stands in no brackets.
fn outside_brackets<'a>(text: &'a str, word: &str) -> Vec<&'a str> {
    let (mut parts, mut depth, mut start) = (Vec::new(), 0, 0);
    for (at, c) in text.char_indices() {
        match c {
            '(' => depth += 1,
            ')' => depth -= 1,
            _ if depth == 0 && at >= start && text[at..].starts_with(word) => {
                parts.push(&text[start..at]);
                start = at + word.len();
            }
            _ => {}
        }
    }
    parts.push(&text[start..]);
    parts
}

#[test]
fn expressions_are_understood() {
    for welcome in [
        "MIT",
        "MIT-0",
        "MIT OR Apache-2.0",
        "GPL-3.0 OR MIT",
        "(MIT OR GPL-2.0) AND BSD-3-Clause",
        "Apache-2.0 WITH LLVM-exception OR MIT",
    ] {
        assert!(is_welcome(welcome), "{welcome}");
    }
    for other in
        ["", "GPL-3.0", "MIT AND GPL-3.0", "(MIT AND GPL-2.0) OR LGPL-3.0", "Apache-2.0 WITH Other-exception"]
    {
        assert!(!is_welcome(other), "{other}");
    }
}

#[test]
fn every_dependency_has_a_welcome_licence() {
    let cargo = std::env::var("CARGO").unwrap_or_else(|_| "cargo".into());
    let manifest = concat!(env!("CARGO_MANIFEST_DIR"), "/../../Cargo.toml");
    let output = Command::new(cargo)
        .args(["metadata", "--format-version", "1", "--locked", "--offline", "--manifest-path", manifest])
        .args(["--filter-platform", "x86_64-unknown-linux-gnu"])
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let metadata: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    let packages = metadata["packages"].as_array().unwrap();
    assert!(packages.len() > 100, "{} packages are too few to be all", packages.len());
    let unwelcome: BTreeSet<String> = packages
        .iter()
        .map(|own| {
            (own["name"].as_str().unwrap(), own["license"].as_str().unwrap_or_default().replace('/', " OR "))
        })
        .filter(|(_, licence)| !is_welcome(licence))
        .map(|(name, licence)| format!("{name}: {licence}"))
        .collect();
    assert!(unwelcome.is_empty(), "{unwelcome:#?}");
}

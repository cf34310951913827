//! The JSON documents of commands, held against their published schemas.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

mod support;

use serde_json::{Value, json as value};
use std::{collections::BTreeSet, panic::catch_unwind, path::Path, process::Command};
use support::{demo, documents, fails, json, neatstack};

const ISO: &str = "quay-os-7.iso";

/// Words of `schema` that stand for what is printed.
fn published() -> BTreeSet<String> {
    let help = Command::new(env!("CARGO_BIN_EXE_neatstack")).args(["schema", "--help"]).output().unwrap();
    let help = String::from_utf8(help.stdout).unwrap();
    let words = help.lines().filter_map(|line| line.trim().strip_prefix("- ")?.split_once(": "));
    words
        .filter(|(_, about)| about.trim().starts_with("Printed by"))
        .map(|(word, _)| word.to_owned())
        .collect()
}

#[test]
fn a_document_with_another_key_or_without_one_is_noticed() {
    let sound = value!({ "dir": "d", "files": 3, "folders": 1, "bytes": 99 });
    documents::validate("unpack", &sound, &["unpack"]);
    let broken = [
        ("another key", value!({ "dir": "d", "files": 3, "folders": 1, "bytes": 99, "colour": "red" })),
        ("a missing key", value!({ "dir": "d", "files": 3, "folders": 1 })),
        ("another type", value!({ "dir": "d", "files": "3", "folders": 1, "bytes": 99 })),
        ("less than nothing", value!({ "dir": "d", "files": 3, "folders": -1, "bytes": 99 })),
    ];
    for (what, own) in broken {
        assert!(catch_unwind(|| documents::validate("unpack", &own, &["unpack"])).is_err(), "{what} passed");
    }
    assert!(catch_unwind(|| documents::validate("look", &value!({ "kind": "media" }), &["look"])).is_err());
}

/// One run for each document that no virtual machine and no network is needed for.
fn runs(dir: &Path) -> Vec<Vec<&'static str>> {
    std::fs::write(dir.join("empty.stack.toml"), "[source]\nmedia = \"nowhere.iso\"\n").unwrap();
    let lines = [
        "take quay-os-7.iso sources/install.wim boot --to .",
        "unpack quay-os-7.iso unpacked",
        "files quay-os-7.iso --digest sha1",
        "files quay-os-7.iso --edition 1",
        "editions install.wim",
        "editions install.wim keep 1 3 -o kept.wim",
        "editions install.wim drop 1 -o fewer.wim",
        "repack install.wim -o packed.wim",
        "capture site-files -o site.wim --name Site",
        "split install.wim --limit 500K -o part.swm",
        "join part.swm -o whole.wim",
        "look part.swm",
        "draft quay-os-7.iso",
        "pick bridge.stack.toml --remove app/tide-data --dry-run",
        "check quay-os-7.iso",
        "check install.wim",
        "master site-files -o site.iso --digest",
        "compare install.wim kept.wim",
        "inventory quay-os-7.iso --edition 2",
        "drivers drivers --for bridge-console.devices.txt",
        "update new site-files -o site.update.tar.zst --id site --version 1.0",
        "look site.update.tar.zst",
        "look updates",
        "look machines.csv",
        "look quay.catalogue.toml",
        "look bridge-console.devices.txt",
        "look fleet.stack.toml",
        "answer new",
        "answer insert bridge.answer.toml --stage first-start --command hostname",
        "answer move bridge.answer.toml --stage first-start --from 1 --to 1",
        "answer remove bridge.answer.toml --stage first-start --number 1",
        "answer read bridge-answers.xml",
        "answer check bridge-answers.xml",
        "depot key harbour",
        "depot index updates",
        "depot sign updates --key harbour.key",
        "depot search --depot updates",
        "depot fetch quay-7-radio-fix --depot updates --to fetched",
        "look updates/depot.json",
        "stick --list --simulated sticks",
        "stick quay-os-7.iso --to quay.img",
        "stick update quay-os-7.iso --to quay.img",
        "disc --list --simulated writers/lantern.writer.toml",
        "disc quay-os-2.iso --simulated writers/lantern.writer.toml --yes-write LW12-0001 --speed 8",
        "disc erase --simulated writers/beacon.writer.toml --yes-erase BN16-0007",
        "plan fleet.stack.toml",
        "build fleet.stack.toml",
        "build deck.stack.toml --dry-run",
        "build both.stack.toml --dry-run",
        "build bench.stack.toml --dry-run",
        "build bench.stack.toml",
        "look out/bench.iso",
        "build deck.stack.toml",
        "look out/deck.img --boot",
        "touchup site.iso put site.reg=notes/site.reg",
        "touchup site.iso list",
        "touchup site.iso undo",
        "report quay-os-7.iso -o page.html",
        "draft quay-os-7.iso -o drafted.stack.toml",
        "manual share",
        "config",
        "demo again",
    ];
    lines.iter().map(|line| line.split(' ').chain(["--json"]).collect()).collect()
}

#[test]
fn every_document_fits_its_schema() {
    let (_guard, dir) = demo();
    let mut seen: BTreeSet<String> = BTreeSet::new();
    for args in runs(&dir) {
        let output = neatstack(&dir, &args);
        // Answers that erase are told of by the exit code, after the document.
        let is_said = args[..2] == ["answer", "check"] && output.status.code() == Some(4);
        assert!(output.status.success() || is_said, "{args:?}: {}", String::from_utf8_lossy(&output.stderr));
        assert!(serde_json::from_slice::<Value>(&output.stdout).is_ok(), "{args:?} printed no JSON");
        seen.extend(documents::word(&args).map(str::to_owned));
    }
    let (code, error) = fails(&dir, &["plan", "empty.stack.toml", "--json"]);
    documents::validate("error", &serde_json::from_str(&error).unwrap(), &["plan"]);
    assert_eq!(code, 2);
    seen.insert("error".into());
    // The one needs a virtual machine, the other is printed by what goes on running; their tests look at them.
    let elsewhere = ["trial", "depot-serve"].map(str::to_owned);
    let missing: Vec<String> = published().into_iter().filter(|word| !seen.contains(word)).collect();
    assert_eq!(missing, BTreeSet::from(elsewhere).into_iter().collect::<Vec<_>>());
    assert!(json(&dir, &["look", ISO, "--json"])["image_files"][0]["editions"].is_array());
}

#[test]
fn a_wrong_command_line_is_told_in_json_too() {
    let (_guard, dir) = demo();
    for args in [
        &["look", "--json"][..],
        &["plan", "a", "b", "--json"],
        &["nothing", "--json"],
        &["split", ISO, "--json"],
    ] {
        let (code, error) = fails(&dir, args);
        let error: Value = serde_json::from_str(&error).unwrap();
        documents::validate("error", &error, args);
        assert_eq!((code, &error["exit_code"]), (2, &value!(2)), "{args:?}");
        let text = error["error"].as_str().unwrap();
        assert!(!text.is_empty() && !text.starts_with("error"), "{args:?}: {error}");
    }
    let (_, error) = fails(&dir, &["look", "--jsn"]);
    assert!(error.starts_with("error:"), "without --json for a person: {error}");
}

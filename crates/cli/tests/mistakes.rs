//! Wrong usage: what is said of each mistake, and what plans, the demo and errors look like at three widths.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "a test that cannot go on has failed"
)]

mod support;

use std::{fs, path::Path, process::Command};
use support::{demo, neatstack};

/// Command line, exit code, and what is said: what is wrong, where, and what to do.
const MISTAKES: [(&str, i32, &[&str]); 66] = [
    ("lok quay-os-7.iso", 2, &["'lok'", "'look'"]),
    ("look", 2, &["<PATH>", "--help"]),
    ("look nowhere.iso", 2, &["nowhere.iso is not there", "check the path"]),
    ("look quay-os-7.iso --digest md5", 2, &["'md5'", "--digest", "sha1, sha256"]),
    ("look note.txt", 3, &["note.txt", "expected an ISO file", "compare its size"]),
    ("check nowhere.iso", 2, &["nowhere.iso is not there"]),
    ("check note.txt", 3, &["note.txt", "found neither", "not of this kind"]),
    (
        "files quay-os-7.iso --edition 9",
        2,
        &["no edition \"9\"", "sources/install.wim", "2 \"Quay OS 7 Bridge\""],
    ),
    ("files install.wim", 2, &["install.wim is an image file", "--edition"]),
    ("files quay-os-7.iso --image sources/boot.wim", 2, &["--edition <EDITION>"]),
    (
        "files quay-os-7.iso --edition 1 --image sources/none.wim",
        2,
        &["no sources/none.wim", "neatstack files"],
    ),
    ("take quay-os-7.iso nowhere.txt --to out2", 2, &["no nowhere.txt", "neatstack files"]),
    ("take quay-os-7.iso readme.txt", 2, &["--to <DIR>"]),
    (
        "take quay-os-7.iso readme.txt --to note.txt",
        2,
        &["note.txt is a file, and a folder is wanted", "another name"],
    ),
    ("unpack quay-os-7.iso", 2, &["<DIR>"]),
    ("unpack quay-os-7.iso drivers", 4, &["drivers is there already", "does not exist or is empty"]),
    ("master empty", 2, &["--output <OUT.iso>"]),
    ("master note.txt -o x.iso", 2, &["note.txt is not a folder", "unpack a media first"]),
    (
        "master site-files -o x.iso --label 123456789012345678901234567890123",
        2,
        &["is not a label", "32 characters"],
    ),
    ("master site-files -o x.iso --load-segment zz", 2, &["'zz'", "hexadecimal"]),
    ("master site-files -o x.iso --bios nowhere.img", 2, &["nowhere.img", "neither in site-files nor here"]),
    ("editions install.wim keep 9 -o x.wim", 2, &["no edition \"9\" in install.wim", "it holds 1"]),
    ("editions install.wim keep -o x.wim", 2, &["<WHICH>"]),
    ("editions install.wim drop 1 2 3 -o x.wim", 2, &["no edition would be left", "keep at least one"]),
    ("editions install.wim keep 1 -o install.wim", 4, &["install.wim is the source itself", "another name"]),
    ("repack install.wim -o x.wim --level most", 2, &["'most'", "none, fast, good, max"]),
    ("repack install.wim -o x.wim --chunk 7", 2, &["7 bytes is no chunk size", "power of two"]),
    ("split install.wim --limit 1 -o x.swm", 2, &["16", "the limit is 1", "larger limit"]),
    ("join install.wim note.txt -o x.wim", 3, &["note.txt", "at byte 0x0", "cut short or damaged"]),
    ("capture nowhere -o x.wim --name X", 2, &["nowhere is not there", "check the path"]),
    ("capture site-files -o x.wim", 2, &["--name <TEXT>"]),
    ("inventory quay-os-7.iso", 2, &["holds several editions", "--edition", "3 \"Quay OS 7 Engine Room\""]),
    ("inventory quay-os-7.iso --edition Brige", 2, &["no edition \"Brige\"", "it holds"]),
    ("inventory quay-os-7.iso --edition 2 --category apps", 2, &["\"apps\" is no category", "app, feature"]),
    ("inventory quay-os-7.iso --edition 2 --match nothing*", 2, &["no component fits", "leave out filters"]),
    ("inventory quay-os-7.iso --edition 2 --least 5XB", 2, &["\"5XB\" is not a size", "300MiB"]),
    ("drivers empty", 2, &["no driver in there", "INF files"]),
    ("drivers drivers --for note.txt", 2, &["note.txt: line 1: \"x\" is no device", "lspci -nn"]),
    ("drivers drivers --arch vax", 2, &["\"vax\" is no architecture", "x86, x64 or arm64"]),
    ("compare quay-os-7.iso", 2, &["<AFTER>"]),
    ("compare quay-os-7.iso install.wim", 2, &["not of one kind", "two media"]),
    ("compare quay-os-7.iso quay-os-7.iso --edition Nine", 2, &["edition \"Nine\"", "neatstack editions"]),
    ("answer check note.txt", 2, &["note.txt", "no answer file that is known", "unattend, preseed"]),
    ("answer write bridge.answer.toml --dialect xml", 2, &["'xml'", "kickstart"]),
    (
        "answer write bridge.answer.toml --dialect preseed --sites nowhere.csv -o o",
        2,
        &["nowhere.csv is not there"],
    ),
    ("answer insert bridge-answers.xml --stage later --command x", 2, &["'later'", "first-sign-in"]),
    (
        "answer move bridge-answers.xml --stage first-sign-in --from 9 --to 1",
        2,
        &["no command 9", "from 1 to 2"],
    ),
    ("touchup quay-os-7.iso put nowhere.txt", 2, &["nowhere.txt is not there"]),
    ("touchup quay-os-7.iso hide nowhere.txt", 2, &["nowhere.txt is not on the disc", "neatstack files"]),
    ("touchup install.wim put note.txt", 3, &["install.wim", "expected CD001"]),
    ("stick quay-os-7.iso", 2, &["--to <FILE|DEVICE>"]),
    ("stick quay-os-7.iso --to x.img --size 1MB", 2, &["1000000 bytes is too small", "larger size"]),
    ("stick quay-os-7.iso --to /dev/null", 2, &["/dev/null is not a disk", "stick --list"]),
    ("stick update quay-os-7.iso --to note.txt", 2, &["no FAT file system in note.txt", "neatstack stick"]),
    ("trial quay-os-7.iso --memory lots", 2, &["\"lots\" is not a size"]),
    ("depot search --depot nowhere", 2, &["no nowhere/depot.json", "depot index"]),
    ("draft bridge.stack.toml", 2, &["is a stack file, and a media is wanted", "neatstack plan"]),
    ("draft quay-os-7.iso --edition 9", 2, &["no edition \"9\"", "Quay OS 7 Kiosk"]),
    (
        "pick bridge.stack.toml --remove app/card-gamse",
        2,
        &["app/card-gamse", "did you mean app/card-games?"],
    ),
    ("plan quay-os-7.iso", 2, &["is an ISO file, and a stack file is wanted"]),
    ("plan fleet.stack.toml --only KIOSK-99", 2, &["no machine \"KIOSK-99\" in machines.csv", "KIOSK-01"]),
    ("plan bridge.stack.toml --since note.txt", 2, &["note.txt: not a ledger", "beside its output"]),
    ("build bridge.stack.toml --locked", 2, &["bridge.stack.lock is not there", "--lock"]),
    ("build bridge.stack.toml --colour", 2, &["'--colour'", "'--color'"]),
    ("report bridge.stack.toml", 2, &["--output <PAGE.html>"]),
    ("schema stak", 2, &["'stak'", "'stack'"]),
];

#[test]
fn every_mistake_is_told_with_what_where_and_what_to_do() {
    let (_guard, dir) = demo();
    support::ok(&dir, &["take", "quay-os-7.iso", "sources/install.wim", "--to", "."]);
    fs::write(dir.join("note.txt"), "x").unwrap();
    fs::create_dir(dir.join("empty")).unwrap();
    let before = support::names(&dir);
    for (line, code, said) in MISTAKES {
        let args: Vec<&str> = line.split(' ').collect();
        let output = neatstack(&dir, &args);
        let text = String::from_utf8(output.stderr).unwrap();
        let flat = text.split_whitespace().collect::<Vec<_>>().join(" ");
        assert_eq!(output.status.code(), Some(code), "{line}: {text}");
        for own in said {
            assert!(flat.contains(own), "{line}: {own:?} is not in {text}");
        }
        assert!(!text.contains("panicked") && !text.contains("os error"), "{line}: {text}");
        assert!(output.stdout.is_empty(), "{line} printed a result");
        // The same for programs, to which an empty list is an answer.
        if line.contains("--match") || line == "drivers empty" {
            continue;
        }
        let output = neatstack(&dir, &[args.as_slice(), &["--json"]].concat());
        let error: serde_json::Value =
            serde_json::from_slice(&output.stderr).unwrap_or_else(|_| panic!("{line}"));
        assert_eq!(error["exit_code"], code, "{line}");
    }
    assert_eq!(support::names(&dir), before, "nothing was left behind");
}

/// The text of a run in a pipe that is so many columns wide.
fn at_width(dir: &Path, args: &[&str], columns: usize) -> String {
    let mut command = Command::new(env!("CARGO_BIN_EXE_neatstack"));
    command.args(args).current_dir(dir).env("COLUMNS", columns.to_string()).env("NO_COLOR", "1");
    command.env("XDG_CONFIG_HOME", "nowhere").env("SOURCE_DATE_EPOCH", "1772438400");
    let output = command.output().unwrap();
    String::from_utf8([output.stdout, output.stderr].concat()).unwrap()
}

/// What people see first is looked at when it changes: `NEATSTACK_WRITE_GOLDEN=1` writes it anew.
#[test]
fn plan_demo_and_errors_look_as_they_did_at_three_widths() {
    let golden = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/golden");
    let runs: [(&str, &[&str]); 4] = [
        ("plan", &["plan", "bridge.stack.toml"]),
        ("machines", &["plan", "fleet.stack.toml"]),
        ("demo", &["demo", "again"]),
        ("error", &["inventory", "quay-os-7.iso", "--edition", "Quay OS 7 Brigde"]),
    ];
    let (_guard, dir) = demo();
    for columns in [60, 80, 120] {
        for (name, args) in runs {
            let _ = fs::remove_dir_all(dir.join("again"));
            let text = at_width(&dir, args, columns);
            let file = golden.join(format!("{name}-{columns}.txt"));
            if std::env::var_os("NEATSTACK_WRITE_GOLDEN").is_some() {
                fs::create_dir_all(&golden).unwrap();
                fs::write(&file, &text).unwrap();
            }
            assert_eq!(text, fs::read_to_string(&file).unwrap_or_default(), "{}", file.display());
            // Names, paths and commands are not broken; nothing else reaches over the edge.
            for line in text.lines().filter(|line| line.chars().count() > columns) {
                let is_whole = line.contains("neatstack ") || line.contains('/') || line.contains("sha256");
                assert!(is_whole, "{name} at {columns}: {line}");
            }
        }
    }
}

//! A machine's disk: looked at, its files listed and taken out, its system captured.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    clippy::items_after_statements,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

mod support;

use serde_json::Value;
use std::{fs, path::Path};
use support::{demo, fails, json, ok};

const DISK: &str = "reference.vmdk";

fn lines(text: &str) -> Vec<&str> {
    text.lines().collect()
}

/// Path to everything that is said of a file, with digests.
fn listing(dir: &Path, args: &[&str]) -> Vec<(String, u64, String)> {
    let all = json(dir, &[&["files", "--digest", "sha1", "--streams", "--json"], args].concat());
    let mut found: Vec<(String, u64, String)> = all
        .as_array()
        .unwrap()
        .iter()
        .map(|own| {
            let digest = own["digest"].as_str().or(own["target"].as_str()).unwrap_or_default();
            (own["path"].as_str().unwrap().to_owned(), own["size"].as_u64().unwrap(), digest.to_owned())
        })
        .collect();
    found.sort();
    found
}

#[test]
fn look_says_what_is_on_the_disk() {
    let (_keep, dir) = demo();
    let text = ok(&dir, &["look", DISK]);
    for expected in [
        "reference.vmdk  disk of a machine (VMDK), 24.0 MiB",
        "EFI system partition  FAT",
        "Quay OS 7, Bridge, x64, 7.0.7042",
        "no; it has accounts (purser), the name REFERENCE-1, the domain brackwater.example",
        "pagefile.sys, 293.0 KiB (memory put aside)",
    ] {
        assert!(text.contains(expected), "{expected} is not in\n{text}");
    }
    let view = json(&dir, &["look", DISK, "--json"]);
    assert_eq!((&view["kind"], &view["table"]), (&Value::from("machine-disk"), &Value::from("gpt")));
    let numbers: Vec<u64> =
        view["partitions"].as_array().unwrap().iter().map(|own| own["number"].as_u64().unwrap()).collect();
    assert_eq!(numbers, [1, 2, 3]);
    let system = &view["partitions"][2]["system"];
    assert_eq!(system["state"]["generalised"], false);
    assert_eq!(system["state"]["letter"], "C");
    assert_eq!(system["left_out"].as_array().unwrap().len(), 5);
}

#[test]
fn files_are_listed_and_taken_out() {
    let (_keep, dir) = demo();
    let system = ok(&dir, &["files", DISK]);
    assert!(lines(&system).iter().any(|line| line.ends_with("Users/purser/the same charts.txt")), "{system}");
    let small = ok(&dir, &["files", DISK, "--partition", "1"]);
    assert_eq!(lines(&small).len(), 1);
    assert!(small.contains("EFI/BOOT/BOOTX64.EFI"), "{small}");
    ok(&dir, &["take", DISK, "users/PURSER", "logs/watch.txt", "--to", "taken"]);
    let taken = fs::read_to_string(dir.join("taken/purser/Desktop/charts.txt")).unwrap();
    assert_eq!(taken, "Charts of the harbour, with all buoys\n");
    // One that the file system compressed.
    let watch = fs::read_to_string(dir.join("taken/watch.txt")).unwrap();
    assert!(watch.len() == 138_240 && watch.lines().all(|line| line.ends_with(" nothing to report")));
    let inventory = ok(&dir, &["inventory", DISK, "--match", "app/*"]);
    assert!(inventory.contains("app/chart-viewer"), "{inventory}");
}

#[test]
fn what_is_asked_for_must_be_there() {
    let (_keep, dir) = demo();
    let (code, error) = fails(&dir, &["files", DISK, "--partition", "7"]);
    assert!(code == 2 && error.contains("no partition 7") && error.contains("1, 2, 3"), "{error}");
    let (code, error) = fails(&dir, &["files", DISK, "--partition", "2"]);
    assert!(code == 2 && error.contains("not read (empty)"), "{error}");
    let (code, error) = fails(&dir, &["files", DISK, "--edition", "1"]);
    assert!(code == 2 && error.contains("no editions"), "{error}");
    let (code, error) = fails(&dir, &["files", "quay-os-7.iso", "--partition", "1"]);
    assert!(code == 2 && error.contains("no machine's disk"), "{error}");
    let (code, error) = fails(&dir, &["build", DISK]);
    assert!(code == 2 && error.contains("a machine's disk"), "{error}");
}

#[test]
fn a_system_that_was_not_made_ready_is_captured_only_when_that_is_meant() {
    let (_keep, dir) = demo();
    let args = ["capture", DISK, "-o", "system.wim", "--name", "Console"];
    let (code, error) = fails(&dir, &args);
    assert_eq!(code, 4, "{error}");
    for expected in ["not made ready for other machines", "accounts (purser)", "REFERENCE-1", "--anyway"] {
        assert!(error.contains(expected), "{expected}: {error}");
    }
    assert!(!dir.join("system.wim").exists());
    let text = ok(&dir, &[args.as_slice(), &["--anyway"]].concat());
    assert!(text.contains("left out  pagefile.sys, swapfile.sys, hiberfil.sys"), "{text}");
    assert!(ok(&dir, &["check", "system.wim"]).contains("sound"));
    let editions = json(&dir, &["editions", "system.wim", "--json"]);
    assert_eq!(editions[0]["architecture"], "x64");
    assert_eq!(editions[0]["version"], "7.0.7042");
}

#[test]
fn the_edition_holds_what_the_partition_does() {
    let (_keep, dir) = demo();
    ok(&dir, &["capture", DISK, "-o", "system.wim", "--name", "Console", "--anyway"]);
    let left_out = |path: &str| {
        ["pagefile.sys", "swapfile.sys", "hiberfil.sys"].contains(&path)
            || path.starts_with("System Volume Information/")
            || path.starts_with("$RECYCLE.BIN/")
            || path.starts_with("$Recycle.Bin/")
    };
    let on_disk = listing(&dir, &[DISK]);
    let expected: Vec<_> = on_disk.iter().filter(|(path, ..)| !left_out(path)).cloned().collect();
    assert!(
        expected.len() + 4 < on_disk.len() && expected.iter().any(|(path, ..)| path.ends_with(":origin"))
    );
    assert_eq!(listing(&dir, &["system.wim"]), expected);
    // Stored as it is, the same; twice the same bytes.
    ok(&dir, &["capture", DISK, "-o", "plain.wim", "--name", "Console", "--anyway", "--level", "none"]);
    assert_eq!(listing(&dir, &["plain.wim"]), expected);
    ok(&dir, &["capture", DISK, "-o", "again.wim", "--name", "Console", "--anyway", "--threads", "1"]);
    assert!(fs::read(dir.join("again.wim")).unwrap() == fs::read(dir.join("system.wim")).unwrap());
}

#[test]
fn an_edition_comes_beside_others_and_shares_with_them() {
    let (_keep, dir) = demo();
    ok(&dir, &["capture", DISK, "-o", "one.wim", "--name", "Console", "--anyway"]);
    let before = fs::read(dir.join("one.wim")).unwrap();
    let update = ["capture", DISK, "-o", "two.wim", "--anyway", "--update", "one.wim", "--name"];
    let (code, error) = fails(&dir, &[update.as_slice(), &["console"]].concat());
    assert!(code == 2 && error.contains("has an edition"), "{error}");
    ok(&dir, &[update.as_slice(), &["Desk", "--leave-out", "Users/purser", "--leave-out", "*.scr"]].concat());
    assert!(fs::read(dir.join("one.wim")).unwrap() == before, "the old one was written to");
    let two = fs::metadata(dir.join("two.wim")).unwrap().len();
    // All content is there already; what comes is the tree.
    assert!(two < before.len() as u64 + 10_000, "{two} after {}", before.len());
    let listed = |edition: &str| listing(&dir, &["two.wim", "--edition", edition]);
    assert_eq!(listed("1"), listing(&dir, &["one.wim"]));
    let gone = |path: &str| path.starts_with("Users/purser/") || path.ends_with(".scr");
    let expected: Vec<_> = listed("1").into_iter().filter(|(path, ..)| !gone(path)).collect();
    assert!(expected.len() + 3 < listed("1").len());
    assert_eq!(listed("2"), expected);
    // A folder comes beside others in the same way.
    ok(&dir, &["capture", "site-files", "-o", "three.wim", "--name", "Site", "--update", "two.wim"]);
    assert_eq!(json(&dir, &["editions", "three.wim", "--json"]).as_array().unwrap().len(), 3);
    assert!(ok(&dir, &["check", "three.wim"]).contains("sound"));
}

#[test]
fn what_is_damaged_stays_out_and_is_named() {
    let (_keep, dir) = demo();
    // The disk as it is, with noise where the compressed file begins.
    let disk = neat_machine::MachineDisk::open(&dir.join(DISK)).unwrap();
    let mut bytes = disk.content.to_vec(64 << 20, "disk").unwrap();
    let files = disk.partition(3).unwrap().open(&neat_content::Job::silent()).unwrap();
    let read = files.ntfs().unwrap();
    let watch = read.files.find("logs/watch.txt").unwrap();
    let held = read.held.iter().find(|held| held.entry == watch).unwrap();
    let at = (disk.partition(3).unwrap().start + held.at(&read.volume)) as usize;
    bytes[at + 2..at + 200].fill(0xEE);
    fs::write(dir.join("damaged.img"), bytes).unwrap();
    let (code, error) = fails(&dir, &["take", "damaged.img", "logs/watch.txt", "--to", "x"]);
    assert!(code == 3 && error.contains("CompressedChunk"), "{code} {error}");
    let args = ["capture", "damaged.img", "-o", "d.wim", "--name", "D", "--anyway"];
    let output = support::neatstack(&dir, &args);
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success() && said.contains("damaged: /logs/watch.txt"), "{said}");
    assert!(!ok(&dir, &["files", "d.wim"]).contains("watch.txt"));
    assert!(ok(&dir, &["check", "d.wim"]).contains("sound"));
}

#[test]
fn a_disk_is_compared_with_its_capture_and_with_an_altered_disk() {
    let (_keep, dir) = demo();
    ok(&dir, &["capture", DISK, "-o", "own.wim", "--name", "Own", "--anyway", "--quiet"]);
    assert_eq!(ok(&dir, &["compare", DISK, "own.wim"]).trim(), "nothing differs");
    assert_eq!(ok(&dir, &["compare", "own.wim", DISK]).trim(), "nothing differs");
    // One file of the disk, and nothing else, is another.
    let disk = neat_machine::MachineDisk::open(&dir.join(DISK)).unwrap();
    let mut bytes = disk.content.to_vec(64 << 20, "disk").unwrap();
    let place = bytes.windows(20).position(|own| own == b"Charts of the harbou").unwrap();
    bytes[place..place + 6].copy_from_slice(b"CHARTS");
    fs::write(dir.join("other.img"), bytes).unwrap();
    let view = json(&dir, &["compare", DISK, "other.img", "--partition", "3", "--json"]);
    assert_eq!(view["kind"], "edition");
    let files = view["editions"][0]["files"].as_array().unwrap();
    let paths: Vec<&str> = files.iter().map(|own| own["path"].as_str().unwrap()).collect();
    // It has two names.
    assert_eq!(paths, ["Users/purser/Desktop/charts.txt", "Users/purser/the same charts.txt"]);
    let (code, error) = fails(&dir, &["compare", DISK, "quay-os-7.iso"]);
    assert!(code == 2 && error.contains("holds several editions"), "{error}");
    let (code, error) = fails(&dir, &["compare", "quay-os-7.iso", "quay-os-7.iso", "--partition", "1"]);
    assert!(code == 2 && error.contains("neither of both is a machine's disk"), "{error}");
}

//! The examples, built on the demo data.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "a test that cannot go on has failed"
)]

mod support;

use std::{
    fs,
    path::{Path, PathBuf},
    process::Command,
};
use support::{json, names, ok};

fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let place = to.join(entry.file_name());
        if entry.path().is_dir() {
            copy(&entry.path(), &place);
        } else {
            fs::copy(entry.path(), place).unwrap();
        }
    }
}

/// An example in a folder of its own, with the demo data and its password.
fn example(name: &str, password: &str) -> (tempfile::TempDir, PathBuf) {
    let keep = tempfile::tempdir().unwrap();
    let dir = keep.path().join(name);
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples");
    copy(&root.join(name), &dir);
    copy(&root.join("pipeline"), &keep.path().join("pipeline"));
    ok(&dir, &["demo", "demo", "-q"]);
    fs::write(dir.join(password), "Quay-12-tide\n").unwrap();
    (keep, dir)
}

#[test]
fn the_school_lab_has_one_media_that_knows_its_desks() {
    let (_keep, dir) = example("school-lab", "teacher-password.txt");
    ok(&dir, &["build", "lab.stack.toml", "-q"]);
    let look = json(&dir, &["look", "out/lab.iso", "--json"]);
    assert!(look["label"].as_str().unwrap().starts_with("LAB_"), "{look}");
    let files = ok(&dir, &["files", "out/lab.iso"]);
    assert!(files.contains("BS1002"), "{files}");
    let inventory = json(&dir, &["inventory", "out/lab.iso", "--edition", "1", "--json"]);
    let ids = inventory["components"].to_string();
    assert!(!ids.contains("card-games") && ids.contains("ticket-desk"), "{ids}");
}

#[test]
fn the_workshop_has_a_disc_and_a_stick_for_each_bench_and_erases_nothing() {
    let (_keep, dir) = example("repair-shop", "handover-password.txt");
    let plan = json(&dir, &["plan", "shop.stack.toml", "--json"]);
    assert!(!plan["findings"].to_string().contains("erases"), "{}", plan["findings"]);
    ok(&dir, &["build", "shop.stack.toml", "-q"]);
    let made: Vec<String> = names(&dir.join("out"));
    for name in ["BENCH-1.iso", "BENCH-1.img", "BENCH-2.iso", "BENCH-2.img"] {
        assert!(made.contains(&name.to_owned()), "{made:?}");
    }
    assert!(ok(&dir, &["files", "out/BENCH-2.img"]).contains("tools/first.txt"));
}

#[test]
fn kiosks_are_built_in_a_pipeline_with_page_ledgers_and_checks() {
    let (keep, dir) = example("kiosk", "kiosk-password.txt");
    ok(&dir, &["plan", "kiosk.stack.toml", "--lock", "-q"]);
    let program = Path::new(env!("CARGO_BIN_EXE_neatstack")).parent().unwrap();
    let path = format!("{}:{}", program.display(), std::env::var("PATH").unwrap());
    let run = || {
        let mut command = Command::new("sh");
        command.args(["pipeline/build-media.sh", "kiosk/kiosk.stack.toml", "kept"]);
        command.current_dir(keep.path()).env("PATH", &path).output().unwrap()
    };
    let output = run();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(
        names(&keep.path().join("kept")),
        ["KIOSK-01.check.json", "KIOSK-02.check.json", "ledgers.json", "media.html", "plan.json"]
    );
    let answers = ok(&dir, &["take", "out/KIOSK-02.iso", "autounattend.xml", "--to", "taken"]);
    assert!(answers.contains("autounattend.xml"));
    let answers = fs::read_to_string(dir.join("taken/autounattend.xml")).unwrap();
    assert!(answers.contains("KIOSK-02") && answers.contains("Old harbour"), "{answers}");
    // Another input than the one that was locked stops it.
    fs::write(dir.join("kiosks.csv"), "name,quay\nKIOSK-09,Nowhere\n").unwrap();
    let output = run();
    assert_eq!(output.status.code(), Some(4), "{}", String::from_utf8_lossy(&output.stderr));
}

#[test]
fn the_linux_lab_has_a_menu_with_answers_for_each_desk() {
    let (_keep, dir) = example("linux-lab", "lab-password.txt");
    support::put_loaders(&dir);
    ok(&dir, &["build", "lab.stack.toml", "-q"]);
    ok(&dir, &["unpack", "out/TIDE-02.iso", "unpacked", "-q"]);
    let menu = fs::read_to_string(dir.join("unpacked/isolinux/isolinux.cfg")).unwrap();
    assert!(
        menu.contains("LABEL desk") && menu.contains("LABEL server") && menu.contains("DEFAULT desk"),
        "{menu}"
    );
    let kickstart = fs::read_to_string(dir.join("unpacked/systems/server/ks.cfg")).unwrap();
    assert!(kickstart.contains("TIDE-02-server"), "{kickstart}");
}

/// What the pages tell to type are commands that there are.
#[test]
fn pages_of_examples_name_commands_and_files_that_are_there() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples");
    for name in ["school-lab", "repair-shop", "kiosk", "linux-lab"] {
        let page = fs::read_to_string(root.join(name).join("README.md")).unwrap();
        for line in page.lines().filter(|line| line.starts_with("| `")) {
            for file in line.split(" | ").next().unwrap().split('`').skip(1).step_by(2) {
                assert!(root.join(name).join(file).exists(), "{name}: {file}");
            }
        }
        for line in page.lines().filter_map(|line| line.strip_prefix("neatstack ")) {
            let command = line.split(' ').next().unwrap();
            ok(Path::new("."), &[command, "--help"]);
        }
    }
}

//! The built program on a system that fails: reads and writes with errors at every place, kills at every write, full file
//! systems, two writers that do not see each other. Needs root and `strace`; `.ci/run` runs it with the boot tests.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "tests say what they expect by failing"
)]

#[path = "support/attack.rs"]
mod attack;
mod support;

use attack::factor;
use std::{
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
    process::{Command, Stdio},
};
use support::{demo, names, ok};

const PROGRAM: &str = env!("CARGO_BIN_EXE_neatstack");

/// Commands that write, and what they write.
const COMMANDS: [(&[&str], &str); 9] = [
    (&["build", "bridge.stack.toml", "--replace", "-q"], "out/bridge.iso"),
    (&["unpack", "quay-os-7.iso", "o", "-q"], "o"),
    (&["take", "quay-os-7.iso", "sources/boot.wim", "--to", "o", "-q"], "o/boot.wim"),
    (&["master", "site-files", "-o", "o.iso", "-q"], "o.iso"),
    (&["stick", "quay-os-7.iso", "--to", "o.img", "--reproducible", "-q"], "o.img"),
    (&["repack", "install.wim", "--level", "fast", "-o", "o.wim", "-q"], "o.wim"),
    (&["editions", "install.wim", "drop", "1", "-o", "o.wim", "-q"], "o.wim"),
    (&["split", "install.wim", "--limit", "400KiB", "-o", "o.swm", "-q"], "o.swm"),
    (&["touchup", "quay-os-7.iso", "--copy-to", "o.iso", "put", "site.reg=a.reg", "-q"], "o.iso"),
];

fn prepared() -> (tempfile::TempDir, PathBuf) {
    let (keep, dir) = demo();
    ok(&dir, &["take", "quay-os-7.iso", "sources/install.wim", "--to", ".", "-q"]);
    (keep, dir)
}

/// Runs a command with one system call tampered with, as `strace` does it. The exit code; none when a signal ended it.
fn tampered(dir: &Path, inject: &str, args: &[&str]) -> (Option<i32>, String) {
    let output = Command::new("strace")
        .current_dir(dir)
        .env("SOURCE_DATE_EPOCH", "1790000000")
        .args(["-f", "-qq", "-o", "/dev/null", "-e", &format!("inject={inject}"), PROGRAM])
        .args(args)
        .output()
        .expect("strace is installed");
    (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
}

/// All files below a path, with their bytes.
fn bytes_of(path: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut all = BTreeMap::new();
    let mut pending = vec![path.to_owned()];
    while let Some(path) = pending.pop() {
        if path.is_dir() {
            pending.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
        } else if path.exists() {
            all.insert(path.clone(), fs::read(&path).unwrap());
        }
    }
    all
}

fn remove_outputs(dir: &Path) {
    for name in names(dir) {
        if name.starts_with(['o', '.']) {
            let path = dir.join(name);
            let _ = if path.is_dir() { fs::remove_dir_all(path) } else { fs::remove_file(path) };
        }
    }
}

/// What a command writes when nothing is wrong.
fn sound_output(dir: &Path, args: &[&str], output: &str) -> BTreeMap<PathBuf, Vec<u8>> {
    remove_outputs(dir);
    let (code, error) = tampered(dir, "sync:error=EIO", args);
    assert_eq!(code, Some(0), "{args:?}: {error}");
    let sound = bytes_of(&dir.join(output));
    remove_outputs(dir);
    sound
}

/// Folder, command, output, what the output should be, exit code, messages, and what was done: whether it struck.
type Check<'a> =
    dyn Fn(&Path, &[&str], &str, &BTreeMap<PathBuf, Vec<u8>>, Option<i32>, &str, &str) -> bool + 'a;

/// Tampers with every call of a kind, the first, the second and so on, thinned out where there are many, until the
/// command no longer makes so many. `check` gets what came out.
fn at_every_place(call: &str, what: &str, check: &Check<'_>) {
    let (_keep, dir) = prepared();
    let sources: BTreeMap<PathBuf, Vec<u8>> =
        ["quay-os-7.iso", "install.wim"].iter().flat_map(|name| bytes_of(&dir.join(name))).collect();
    for (args, output) in COMMANDS {
        let sound = sound_output(&dir, args, output);
        let mut number = 1;
        let mut untouched = 0;
        while untouched < 3 && number < 4000 {
            let inject = format!("{call}:{what}:when={number}");
            let (code, error) = tampered(&dir, &inject, args);
            let place = format!("{inject} on {args:?}: {code:?} {error}");
            assert!(!error.contains("fault in this program"), "{place}");
            let struck = check(&dir, args, output, &sound, code, &error, &place);
            untouched = if struck { 0 } else { untouched + 1 };
            for (path, bytes) in &sources {
                assert!(fs::read(path).unwrap() == *bytes, "{} was changed: {place}", path.display());
            }
            remove_outputs(&dir);
            number += 1 + number / (6 * factor());
        }
    }
}

/// Whether the loader of the system was struck, and not the program.
fn before_the_program(code: Option<i32>, error: &str) -> bool {
    code == Some(127)
        || error.contains("error while loading shared libraries")
        || error.contains("cannot read file data")
}

#[test]
#[ignore = "needs root and strace"]
fn an_error_of_the_disk_is_never_taken_for_something_else() {
    for call in ["pread64", "read", "openat", "copy_file_range"] {
        at_every_place(call, "error=EIO", &|dir, _, output, sound, code, error, place| {
            if before_the_program(code, error) {
                return true;
            }
            let written = bytes_of(&dir.join(output));
            match code {
                // Nothing that mattered: a file of the system, or another way was there.
                Some(0) => {
                    assert!(written == *sound, "other bytes: {place}");
                    false
                }
                // As the system's own words for what it cannot read are not ours, the message is not looked at.
                Some(1 | 2) => {
                    assert!(written.is_empty(), "something under the final name: {place}");
                    assert!(!error.is_empty(), "{place}");
                    true
                }
                _ => panic!("{place}"),
            }
        });
    }
}

#[test]
#[ignore = "needs root and strace"]
fn a_write_that_fails_leaves_nothing_and_an_interrupted_one_is_gone_on_with() {
    for call in ["pwrite64", "ftruncate", "fsync", "renameat2", "mkdir"] {
        at_every_place(call, "error=ENOSPC", &|dir, _, output, sound, code, _, place| {
            let written = bytes_of(&dir.join(output));
            match code {
                Some(0) => {
                    assert!(written == *sound, "other bytes: {place}");
                    false
                }
                Some(1) => {
                    assert!(written.is_empty(), "something under the final name: {place}");
                    let left: Vec<String> =
                        names(dir).into_iter().filter(|name| name.contains("unfinished")).collect();
                    assert!(left.is_empty(), "{left:?} left by {place}");
                    true
                }
                _ => panic!("{place}"),
            }
        });
    }
    for call in ["pread64", "pwrite64", "copy_file_range", "read", "write", "openat"] {
        at_every_place(call, "error=EINTR", &|dir, _, output, sound, code, error, place| {
            if before_the_program(code, error) {
                return true;
            }
            assert!(code == Some(0) && bytes_of(&dir.join(output)) == *sound, "{place}");
            false
        });
    }
}

#[test]
#[ignore = "needs root and strace"]
fn a_kill_at_any_write_leaves_nothing_that_looks_finished() {
    for call in ["pwrite64", "ftruncate", "fsync", "renameat2", "rename"] {
        at_every_place(call, "signal=KILL", &|dir, args, output, sound, code, _, place| {
            let written = bytes_of(&dir.join(output));
            // Killed at the very end, after the name was given, it is whole.
            assert!(written.is_empty() || written == *sound, "{place}");
            if code == Some(0) {
                return false;
            }
            if written.is_empty() {
                // The next run cleans up after it.
                let (code, error) = tampered(dir, "sync:error=EIO", args);
                assert_eq!(code, Some(0), "after {place}: {error}");
                let left: Vec<String> =
                    names(dir).into_iter().filter(|name| name.contains("unfinished")).collect();
                assert!(left.is_empty(), "{left:?} left after {place}");
            }
            true
        });
    }
}

#[test]
#[ignore = "needs root"]
fn a_full_file_system_leaves_nothing() {
    let (_keep, dir) = prepared();
    let small = dir.join("small");
    fs::create_dir(&small).unwrap();
    for kib in [64, 512, 1500] {
        let mounted = Command::new("mount")
            .args(["-t", "tmpfs", "-o", &format!("size={kib}k"), "tmpfs"])
            .arg(&small)
            .status()
            .unwrap();
        assert!(mounted.success());
        let mut failed = 0;
        for args in [
            vec!["stick", "quay-os-7.iso", "--to", "small/o.img", "--size", "36MiB"],
            vec!["unpack", "quay-os-7.iso", "small/o"],
            vec!["take", "quay-os-7.iso", "sources/install.wim", "--to", "small"],
            vec!["master", "site-files", "-o", "small/o.iso"],
            vec!["repack", "install.wim", "--level", "none", "-o", "small/o.wim"],
            vec!["split", "install.wim", "--limit", "400KiB", "-o", "small/o.swm"],
        ] {
            let run = attack::run(&dir, &args);
            if run.code == Some(0) {
                for name in names(&small) {
                    let path = small.join(name);
                    let _ = if path.is_dir() { fs::remove_dir_all(path) } else { fs::remove_file(path) };
                }
                continue;
            }
            failed += 1;
            assert!(run.code == Some(1) && run.error.contains("free some space"), "{args:?}: {}", run.error);
            assert!(names(&small).is_empty(), "{args:?} left {:?}", names(&small));
        }
        assert!(Command::new("umount").arg(&small).status().unwrap().success());
        assert!(failed > 0, "{kib} KiB were enough for everything");
    }
}

#[test]
#[ignore = "needs root"]
fn writers_in_containers_of_their_own_do_not_spoil_each_other() {
    let (_keep, dir) = demo();
    for round in 0..4 * factor() {
        let children: Vec<_> = (0..2)
            .map(|_| {
                Command::new("unshare")
                    .current_dir(&dir)
                    .args(["--pid", "--fork", "--mount-proc", PROGRAM])
                    .args(["master", "site-files", "-o", "o.iso", "--replace", "--digest", "--json"])
                    .env("SOURCE_DATE_EPOCH", "1790000000")
                    .stdout(Stdio::piped())
                    .stderr(Stdio::piped())
                    .spawn()
                    .unwrap()
            })
            .collect();
        for child in children {
            let output = child.wait_with_output().unwrap();
            assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
            let value: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
            let said = value["sha256"].as_str().unwrap().to_owned();
            let summed = Command::new("sha256sum").current_dir(&dir).arg("o.iso").output().unwrap();
            let found = String::from_utf8(summed.stdout).unwrap();
            assert!(found.starts_with(&said), "round {round}: {said} was said, {found} is there");
        }
        assert!(!names(&dir).iter().any(|name| name.contains("unfinished")), "{:?}", names(&dir));
    }
}

//! Driving the built program, and virtual machines.
#![allow(dead_code, reason = "each test binary uses its part")]

pub mod documents;
pub mod installer;
pub mod linux;
pub mod machine;
pub mod ports;
pub mod terminal;
pub mod windows;

use std::{
    path::{Path, PathBuf},
    process::{Command, Output},
};

/// A run of the program in `dir`.
pub fn neatstack(dir: &Path, args: &[&str]) -> Output {
    let mut command = Command::new(env!("CARGO_BIN_EXE_neatstack"));
    command.current_dir(dir).args(args).env_remove("SOURCE_DATE_EPOCH").env("NO_COLOR", "1");
    // What the person who runs the tests has always the same is not meant.
    if std::env::var_os("XDG_CONFIG_HOME").is_none() {
        command.env("XDG_CONFIG_HOME", "nowhere");
    }
    let output = command.output().unwrap();
    documents::check(args, &output);
    output
}

/// Standard output of a run that must succeed.
pub fn ok(dir: &Path, args: &[&str]) -> String {
    let output = neatstack(dir, args);
    assert!(output.status.success(), "{args:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

/// Exit code and standard error of a run that must fail, which prints no result.
pub fn fails(dir: &Path, args: &[&str]) -> (i32, String) {
    let output = neatstack(dir, args);
    assert!(!output.status.success(), "{args:?} succeeded");
    (output.status.code().unwrap(), String::from_utf8(output.stderr).unwrap())
}

/// Standard output of a plan whose build would be refused.
pub fn refused(dir: &Path, args: &[&str]) -> String {
    let output = neatstack(dir, args);
    assert_eq!(output.status.code(), Some(4), "{args:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

/// A JSON result.
pub fn json(dir: &Path, args: &[&str]) -> serde_json::Value {
    serde_json::from_str(&ok(dir, args)).unwrap()
}

/// The demo data in a fresh folder.
pub fn demo() -> (tempfile::TempDir, PathBuf) {
    let dir = tempfile::tempdir().unwrap();
    neat_demo::write(dir.path(), neat_demo::Size::Small, &neat_content::Job::silent()).unwrap();
    let path = dir.path().to_owned();
    (dir, path)
}

/// What a menu needs beside its entries: loaders, a kernel `vmlinuz` and an `initrd`, of made-up bytes.
pub fn put_loaders(dir: &Path) {
    for name in ["vmlinuz", "initrd", "grub.efi"] {
        std::fs::write(dir.join(name), "a program").unwrap();
    }
    std::fs::create_dir_all(dir.join("loader")).unwrap();
    for name in ["isolinux.bin", "ldlinux.c32", "libcom32.c32", "libutil.c32", "menu.c32"] {
        std::fs::write(dir.join("loader").join(name), vec![b'x'; 3000]).unwrap();
    }
}

/// Names in a folder, sorted.
pub fn names(dir: &Path) -> Vec<String> {
    let mut names: Vec<_> = std::fs::read_dir(dir)
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    names.sort();
    names
}

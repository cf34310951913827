//! What the tests of several crates share. Not published; nothing but tests depends on it.

#![forbid(unsafe_code)]
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::missing_panics_doc,
    clippy::items_after_statements,
    clippy::precedence,
    clippy::must_use_candidate,
    clippy::semicolon_if_nothing_returned,
    clippy::len_without_is_empty,
    clippy::should_implement_trait,
    missing_docs,
    reason = "a test that cannot go on has failed"
)]

pub mod disc;
pub mod hive;
pub mod image;
pub mod packs;
pub mod single;
pub mod stick;

use std::{env, fs, path::Path, process::Command};

/// Set where everything that tests want is installed, as in CI: then nothing is skipped.
const NO_SKIPS: &str = "NEATSTACK_NO_SKIPS";

/// Says that a test, or a part of it, cannot be done here.
///
/// # Panics
/// Where everything should be there (`NEATSTACK_NO_SKIPS`).
pub fn skip(why: &str) {
    assert!(env::var_os(NO_SKIPS).is_none(), "nothing may be skipped here, and {why}");
    // Not by the macro, whose output a test that passes keeps to itself.
    let _ = std::io::Write::write_all(&mut std::io::stderr(), format!("SKIPPED: {why}\n").as_bytes());
}

/// Whether a program is installed, asked with an argument that only prints; skips when it is not.
pub fn has_program(name: &str, argument: &str) -> bool {
    let is_there = Command::new(name).arg(argument).output().is_ok();
    if !is_there {
        skip(&format!("{name} is not installed"));
    }
    is_there
}

/// Compares bytes that are kept in the repository with what their source `NAME.asm` in `folder` assembles to.
///
/// # Panics
/// When they differ.
pub fn assert_assembled(folder: &Path, all: &[(&str, &[u8])]) {
    if !has_program("nasm", "-v") {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    for (name, bytes) in all {
        let out = dir.path().join(name);
        let source = folder.join(format!("{name}.asm"));
        let status = Command::new("nasm")
            .args(["-f", "bin", "-o"])
            .arg(&out)
            .arg(source)
            .current_dir(folder)
            .status()
            .unwrap();
        assert!(status.success(), "{name}.asm does not assemble");
        assert!(fs::read(&out).unwrap() == *bytes, "{name}.bin is not what {name}.asm assembles to");
    }
}

/// The files in a folder of inputs that were kept because something once went wrong with them.
///
/// # Panics
/// When there are none: then nothing would be tested.
pub fn kept_inputs(folder: &Path) -> Vec<Vec<u8>> {
    let mut paths: Vec<_> = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    assert!(!paths.is_empty(), "{} is empty", folder.display());
    paths.iter().map(|path| fs::read(path).unwrap()).collect()
}

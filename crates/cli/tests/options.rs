//! Options that no other test needs, each with what it changes.

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
    io::{BufRead, BufReader},
    process::{Command, Stdio},
};
use support::{demo, fails, json, neatstack, ok};

const ISO: &str = "quay-os-7.iso";

#[test]
fn verbose_says_how_long_each_step_took_and_changes_nothing_else() {
    let (_keep, dir) = demo();
    let plain = neatstack(&dir, &["check", ISO]);
    let verbose = neatstack(&dir, &["check", ISO, "--verbose"]);
    let steps = String::from_utf8(verbose.stderr).unwrap();
    assert_eq!(verbose.stdout, plain.stdout);
    assert!(plain.stderr.is_empty(), "{}", String::from_utf8_lossy(&plain.stderr));
    let is_step = |line: &str| line.contains(": ") && line.ends_with(" s") && line.contains(" in ");
    assert!(!steps.is_empty() && steps.lines().all(is_step), "{steps}");
}

#[test]
fn a_stick_is_not_read_back_when_that_is_not_wanted() {
    let (_keep, dir) = demo();
    let write = |rest: &[&str]| {
        let args = ["stick", ISO, "--to", "blue", "--simulated", "sticks", "--json"];
        let stick = json(&dir, &[&args, ["--yes-erase", "FP8-20260302"].as_slice(), rest].concat());
        (stick["verified"].clone(), stick["compared"].clone())
    };
    let (verified, compared) = write(&[]);
    assert!(verified == true && compared.as_u64().unwrap() > 1 << 20, "{verified} {compared}");
    let (verified, compared) = write(&["--no-verify"]);
    assert!(verified == false && compared.as_u64().unwrap_or(0) == 0, "{verified} {compared}");
}

#[test]
fn drivers_for_another_version_of_the_system_do_not_count() {
    let (_keep, dir) = demo();
    fs::create_dir(dir.join("own")).unwrap();
    let inf = "[Version]\nSignature=\"$Windows NT$\"\nClass=Net\nProvider=\"Brackwater\"\nDriverVer=01/02/2026,1.0.0.0\n\
               [Manufacturer]\n\"Brackwater\"=Models,NTamd64.10.0\n[Models.NTamd64.10.0]\n\"Winch\"=Install,PCI\\VEN_1AF4&DEV_1234\n\
               [Install]\n";
    fs::write(dir.join("own/winch.inf"), inf).unwrap();
    fs::write(dir.join("devices.txt"), "PCI\\VEN_1AF4&DEV_1234\n").unwrap();
    let served = |system: &str| {
        let args = ["drivers", "own", "--for", "devices.txt", "--arch", "x64", "--system", system, "--json"];
        json(&dir, &args)["devices"][0]["driver"].clone()
    };
    assert_eq!(served("10.0.19041"), "own/winch.inf");
    assert!(served("6.1.7601").is_null());
    let (code, error) = fails(&dir, &["drivers", "own", "--system", "newest"]);
    assert!(code == 2 && error.contains("\"newest\" is no version"), "{error}");
}

#[test]
fn a_depot_listens_where_it_is_told() {
    let (_keep, dir) = demo();
    ok(&dir, &["depot", "index", "updates"]);
    let mut child = Command::new(env!("CARGO_BIN_EXE_neatstack"))
        .args(["depot", "serve", "updates", "--address", "127.0.0.2", "--port", "0", "--json"])
        .current_dir(&dir)
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut said = String::new();
    let mut lines = BufReader::new(child.stdout.take().unwrap());
    while !said.trim_end().ends_with('}') && lines.read_line(&mut said).unwrap() > 0 {}
    let url = serde_json::from_str::<serde_json::Value>(&said).unwrap()["url"].as_str().unwrap().to_owned();
    assert!(url.starts_with("http://127.0.0.2:"), "{said}");
    let found = neatstack(&dir, &["depot", "search", "quay", "--depot", &url]);
    child.kill().unwrap();
    child.wait().unwrap();
    assert!(found.status.success() && !found.stdout.is_empty());
}

#[test]
fn commands_are_run_outside_the_new_system_or_not_waited_for() {
    let (_keep, dir) = demo();
    ok(
        &dir,
        &[
            "answer",
            "write",
            "bridge.answer.toml",
            "--dialect",
            "preseed",
            "--accept",
            "unsaid",
            "-o",
            "p.cfg",
        ],
    );
    let late = |rest: &[&str]| {
        let args = ["answer", "insert", "p.cfg", "--stage", "system-installed", "--command", "echo hi"];
        ok(&dir, &[&args, ["-o", "new.cfg"].as_slice(), rest].concat());
        let text = fs::read_to_string(dir.join("new.cfg")).unwrap();
        fs::remove_file(dir.join("new.cfg")).unwrap();
        text.lines().find(|line| line.contains("preseed/late_command")).unwrap().to_owned()
    };
    let inside = late(&[]);
    assert!(inside.ends_with("in-target sh -c 'echo hi'"), "{inside}");
    let outside = late(&["--outside"]);
    assert!(outside.ends_with(" && echo hi"), "{outside}");
    let behind = late(&["--no-wait"]);
    // It goes behind in the new system itself, and leaves the installer's own descriptor 3 alone:
    // `in-target` waits for whoever holds that one.
    assert!(
        behind.ends_with(r#"in-target sh -c 'sh -c '"'"'echo hi'"'"' </dev/null >/dev/null 2>&1 3>&- &'"#),
        "{behind}"
    );
    let args = ["answer", "insert", "bridge-answers.xml", "--stage", "first-sign-in", "--command", "x"];
    let (code, error) = fails(&dir, &[&args, ["--no-wait", "-o", "a.xml"].as_slice()].concat());
    assert!(code == 2 && error.contains("no place for such a command"), "{error}");
}

#[test]
fn the_companys_hours_are_in_the_registry() {
    let (_keep, dir) = demo();
    let stack = format!(
        "[source]\nmedia = \"{ISO}\"\neditions = [2]\n[settings]\ncompany = {{ hours = \"At high water\" }}\n[media]\niso = \"o.iso\"\n"
    );
    fs::write(dir.join("t.stack.toml"), stack).unwrap();
    ok(&dir, &["build", "t.stack.toml", "-q"]);
    let compare = ok(&dir, &["compare", ISO, "o.iso", "--edition", "Quay OS 7 Bridge"]);
    assert!(compare.contains("SupportHours") && compare.contains("At high water"), "{compare}");
}

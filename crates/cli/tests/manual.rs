//! `manual`: pages, and completions as a shell asks for them.

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
use support::{demo, fails, ok, terminal::Terminal};

/// What Bash offers for a command line whose last word is being typed.
fn offered(dir: &Path, line: &[&str]) -> Vec<String> {
    let program = Path::new(env!("CARGO_BIN_EXE_neatstack"));
    let path = format!("{}:{}", program.parent().unwrap().display(), std::env::var("PATH").unwrap());
    let script = "source share/bash-completion/completions/neatstack\n\
                  COMP_WORDS=(\"$@\") COMP_CWORD=$(($# - 1)) COMP_TYPE=9\n\
                  _clap_complete_neatstack neatstack \"${COMP_WORDS[COMP_CWORD]}\" x\n\
                  printf '%s\\n' \"${COMPREPLY[@]}\"";
    let mut command = Command::new("bash");
    command.args(["-c", script, "x", "neatstack"]).args(line).current_dir(dir).env("PATH", path);
    let output = command.output().unwrap();
    assert!(output.stderr.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap().lines().map(str::to_owned).collect()
}

#[test]
fn shells_complete_commands_options_editions_and_components() {
    let (_guard, dir) = demo();
    ok(&dir, &["manual", "share"]);
    assert_eq!(offered(&dir, &["inv"]), ["inventory"]);
    assert!(offered(&dir, &["build", "--r"]).contains(&"--replace".to_owned()));
    let editions = ["Quay\\ OS\\ 7\\ Kiosk", "Quay\\ OS\\ 7\\ Bridge", "Quay\\ OS\\ 7\\ Engine\\ Room"];
    assert_eq!(offered(&dir, &["inventory", "quay-os-7.iso", "--edition", ""]), editions);
    assert_eq!(offered(&dir, &["editions", "quay-os-7.iso", "keep", "quay\\ os\\ 7\\ b"]), editions[1..2]);
    let components = offered(&dir, &["pick", "bridge.stack.toml", "--remove", "app/t"]);
    assert_eq!(components, ["app/tide-data", "app/tide-tables"]);
    let wanted = ["inventory", "quay-os-7.iso", "--edition", "1", "--match", "app/ti"];
    assert_eq!(offered(&dir, &wanted), ["app/ticket-desk"]);
    // Nothing is there, and nothing is said.
    assert_eq!(offered(&dir, &["inventory", "nowhere.iso", "--edition", ""]), [""]);
    assert!(offered(&dir, &["look", "qua"]).contains(&"quay-os-7.iso".to_owned()));
}

#[test]
#[ignore = "needs fish and zsh"]
fn other_shells_complete_the_same() {
    let (_guard, dir) = demo();
    ok(&dir, &["manual", "share"]);
    if neat_testing::has_program("fish", "--version") {
        let path = format!(
            "{}:{}",
            Path::new(env!("CARGO_BIN_EXE_neatstack")).parent().unwrap().display(),
            std::env::var("PATH").unwrap()
        );
        for (line, wanted) in [
            ("neatstack inv", "inventory"),
            ("neatstack inventory quay-os-7.iso --edition ", "Quay OS 7 Bridge"),
            ("neatstack pick bridge.stack.toml --remove app/tide-t", "app/tide-tables"),
        ] {
            let script =
                format!("source share/fish/vendor_completions.d/neatstack.fish; complete -C '{line}'");
            let mut fish = Command::new("fish");
            fish.args(["--no-config", "-c", &script]).current_dir(&dir);
            fish.env("PATH", &path).env("HOME", &dir);
            let output = fish.output().unwrap();
            let said = String::from_utf8_lossy(&output.stdout);
            assert!(said.lines().any(|own| own.split('\t').next() == Some(wanted)), "{line}: {output:?}");
        }
    }
    if neat_testing::has_program("zsh", "--version") {
        let mut terminal = Terminal::start_other(&dir, "zsh", &["-f", "-i"], 100, 30);
        let start = "PS1='ready> '; fpath=($PWD/share/zsh/vendor-completions $fpath); \
                     autoload -U compinit; compinit -u -d $PWD/dump; echo it is set\r";
        terminal.press(start);
        terminal.see_that("the prompt after it", |screen| screen.contains("\nit is set"));
        terminal.press("neatstack inven\t");
        terminal.see("neatstack inventory ");
        terminal.press("quay-os-7.iso --edition \t");
        // As far as all of them go.
        terminal.see("--edition Quay\\ OS\\ 7\\ ");
        terminal.press("B\t");
        terminal.see("--edition Quay\\ OS\\ 7\\ Bridge ");
        // Ctrl-U takes the line back.
        terminal.press("\u{15}");
        terminal.press("neatstack pick bridge.stack.toml --remove app/tide-t\t");
        terminal.see("app/tide-tables");
        terminal.press("\u{15}");
        terminal.press("exit\r");
        terminal.end();
    }
}

#[test]
fn every_command_has_a_page_and_every_shell_its_file() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    ok(dir, &["manual", "share"]);
    let page = fs::read_to_string(dir.join("share/man/man1/neatstack-stick-update.1")).unwrap();
    assert!(page.contains(".TH") && page.contains("remove\\-others"), "{page}");
    let main = fs::read_to_string(dir.join("share/man/man1/neatstack.1")).unwrap();
    for command in ["pick", "draft", "build", "manual"] {
        assert!(main.contains(&format!("neatstack\\-{command}(1)")), "{command}");
        assert!(dir.join(format!("share/man/man1/neatstack-{command}.1")).exists());
    }
    for (file, text) in [
        ("zsh/vendor-completions/_neatstack", "#compdef neatstack"),
        ("fish/vendor_completions.d/neatstack.fish", "complete"),
    ] {
        assert!(fs::read_to_string(dir.join("share").join(file)).unwrap().contains(text), "{file}");
    }
    assert_eq!(fails(dir, &["manual", "share"]).0, 4);
    ok(dir, &["manual", "share", "--replace"]);
}

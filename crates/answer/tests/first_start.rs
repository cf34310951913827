//! What runs once when the installed system starts first, where the dialect has no stage for it: written by a late
//! command, run by a unit. Both are run here by the shells there are.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use neat_answer::{
    Dialect, Model,
    model::{Carried, Command, Script, Secrets, Stage},
    read_file, write_model,
};
use std::{
    path::{Path, PathBuf},
    process::Output,
};

const LIBRARY: &str = "/usr/local/lib/neatstack";
const UNITS: &str = "/etc/systemd/system";
const LOG: &str = "/var/log/neatstack-first-start.log";

fn command(run: &str) -> Command {
    Command::new(Stage::FirstStart, run)
}

fn model() -> Model {
    let command = vec![
        command("echo one >>noted"),
        command("echo 'it''s' \"two\" $((1+1)) >>noted; exit 3"),
        Command { wait: false, ..command("sleep 1; echo later >>noted") },
        command("no-such-program"),
        command("echo \"a # b\" >>noted # not this"),
    ];
    let mut model = Model { command, ..Model::default() };
    model.script.push(Script {
        name: "four.sh".into(),
        stage: Stage::FirstStart,
        text: "#!/bin/sh\necho \"four: $(basename \"$0\")\" >>noted\n".into(),
        from: String::new(),
        carried: Carried::Inside,
    });
    model
}

/// The shells there are, each with what comes before a script.
fn shells() -> Vec<Vec<&'static str>> {
    let mut all = vec![vec!["sh", "-c"]];
    for shell in [&["dash", "-c"][..], &["busybox", "sh", "-c"]] {
        if neat_testing::has_program(shell[0], if shell[0] == "busybox" { "--help" } else { "-c" }) {
            all.push(shell.to_vec());
        }
    }
    all
}

/// A made-up root: its paths stand for the system's, and its `systemctl` notes what it is asked.
struct Root {
    dir: tempfile::TempDir,
}

impl Root {
    fn new() -> Self {
        let own = Self { dir: tempfile::tempdir().unwrap() };
        for folder in ["bin", "units", "root"] {
            std::fs::create_dir(own.path(folder)).unwrap();
        }
        let systemctl = own.path("bin/systemctl");
        std::fs::write(&systemctl, "#!/bin/sh\necho \"systemctl $*\" >>noted\n").unwrap();
        make_executable(&systemctl);
        own
    }

    fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    fn at_home(&self, text: &str) -> String {
        let own = |name: &str| self.path(name).to_string_lossy().into_owned();
        text.replace(LIBRARY, &own("library"))
            .replace(UNITS, &own("units"))
            .replace(LOG, &own("log"))
            .replace("/root/", &format!("{}/", own("root")))
    }

    fn run(&self, shell: &[&str], script: &str) -> Output {
        let path = format!("{}:{}", self.path("bin").display(), std::env::var("PATH").unwrap());
        std::process::Command::new(shell[0])
            .args(&shell[1..])
            .arg(script)
            .current_dir(self.dir.path())
            .env("PATH", path)
            .output()
            .unwrap()
    }

    fn noted(&self) -> Vec<String> {
        let text = std::fs::read_to_string(self.path("noted")).unwrap_or_default();
        text.lines().map(str::to_owned).collect()
    }
}

fn make_executable(path: &Path) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o755)).unwrap();
}

/// The shell that a dialect's late stage runs inside the installed system.
fn late(text: &str, dialect: Dialect) -> String {
    if dialect == Dialect::Kickstart {
        let mut lines = text.lines().skip_while(|line| !line.ends_with("first start"));
        return lines.nth(1).unwrap().to_owned();
    }
    let line = text.lines().find(|line| line.contains("late_command")).unwrap();
    line.split_once(" string ").unwrap().1.replace("in-target sh -c", "sh -c")
}

#[test]
fn what_runs_at_the_first_start_runs_once_and_in_order_and_goes_on_after_a_failure() {
    for dialect in [Dialect::Preseed, Dialect::Kickstart] {
        let written = write_model(&model(), dialect, &mut Secrets::default()).unwrap();
        let late = late(&written.text, dialect);
        for shell in &shells() {
            let root = Root::new();
            let output = root.run(shell, &root.at_home(&late));
            assert!(output.status.success(), "{shell:?}: {}", String::from_utf8_lossy(&output.stderr));
            assert_eq!(root.noted(), ["systemctl enable neatstack-first-start.service"]);
            let script = root.path("library/first-start");
            let text = root.at_home(&std::fs::read_to_string(&script).unwrap());
            std::fs::write(&script, text).unwrap();
            std::fs::remove_file(root.path("noted")).unwrap();

            let output = root.run(shell, &script.to_string_lossy());
            assert!(output.status.success(), "{shell:?}: {}", String::from_utf8_lossy(&output.stderr));
            assert!(!script.exists(), "it would run again");
            for _ in 0..100 {
                if root.noted().len() >= 6 {
                    break;
                }
                std::thread::sleep(std::time::Duration::from_millis(50));
            }
            let mut noted = root.noted();
            let later = noted.iter().position(|own| own == "later").unwrap();
            noted.remove(later);
            let expected = [
                "systemctl disable neatstack-first-start.service",
                "one",
                "its two 2",
                "a # b",
                "four: four.sh",
            ];
            assert_eq!(noted, expected, "{shell:?}");
            let log = std::fs::read_to_string(root.path("log")).unwrap();
            assert!(log.contains("This ended with 3."), "{log}");
            assert!(log.contains("no-such-program") && log.contains("This ended with 127."), "{log}");
            // It is read as it was meant.
            let again = read_file(&written.file().unwrap()).unwrap();
            assert_eq!((again.model.command, again.model.script), (model().command, model().script));
        }
    }
}

#[test]
fn the_unit_is_one_that_systemd_takes() {
    let written = write_model(&model(), Dialect::Preseed, &mut Secrets::default()).unwrap();
    let root = Root::new();
    assert!(root.run(&["sh", "-c"], &root.at_home(&late(&written.text, Dialect::Preseed))).status.success());
    let unit = root.path("units/neatstack-first-start.service");
    let text = std::fs::read_to_string(&unit).unwrap();
    for line in ["Type=oneshot", "WantedBy=multi-user.target", &format!("ExecStart={LIBRARY}/first-start")] {
        assert!(text.lines().any(|own| own == line), "{line}: {text}");
    }
    if !neat_testing::has_program("systemd-analyze", "--version") {
        return;
    }
    std::fs::write(&unit, root.at_home(&text)).unwrap();
    let output = std::process::Command::new("systemd-analyze").arg("verify").arg(&unit).output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success() && !said.contains("neatstack"), "{said}");
}

#[test]
fn a_script_on_the_media_is_not_there_at_the_first_start() {
    let model = Model { script: model_script_on_media(), ..Model::default() };
    for dialect in [Dialect::Preseed, Dialect::Kickstart, Dialect::Autoinstall] {
        let written = write_model(&model, dialect, &mut Secrets::default()).unwrap();
        let found: Vec<&str> = written.findings.iter().map(|own| own.message.as_str()).collect();
        assert!(
            found.iter().any(|own| own.contains("when the system starts first")),
            "{dialect:?}: {found:?}"
        );
    }
}

fn model_script_on_media() -> Vec<Script> {
    let own = model().script.remove(0);
    vec![Script { carried: Carried::Media, ..own }]
}

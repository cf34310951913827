//! Words and command lines of generated scripts, given to the shells themselves.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

use base64::{Engine, engine::general_purpose::STANDARD};
use neat_answer::{
    AnswerFile, Dialect, Gravity, Model, Secrets,
    command_line::sh,
    model::{Carried, Command, Script, Stage},
    read_file, write_model,
};
use proptest::prelude::*;
use std::{
    path::Path,
    process::{Command as Process, Output, Stdio},
};

/// Shells that are installed here: name, and the words before `-c`.
fn shells() -> Vec<(&'static str, Vec<&'static str>)> {
    let all = [("sh", "sh", vec![]), ("dash", "dash", vec![]), ("busybox", "busybox", vec!["sh"])];
    let is_there = |program: &str| {
        let sign = if program == "busybox" { "--help" } else { "-c:" };
        let args: &[&str] = if sign == "--help" { &["--help"] } else { &["-c", ":"] };
        let there = Process::new(program).args(args).output().is_ok_and(|output| output.status.success());
        if !there {
            neat_testing::skip(&format!("{program} is not installed"));
        }
        there
    };
    all.into_iter()
        .filter(|(_, program, _)| is_there(program))
        .map(|(_, program, before)| (program, before))
        .collect()
}

fn run(shell: &(&str, Vec<&str>), script: &str, dir: &Path) -> Output {
    let mut process = Process::new(shell.0);
    process.args(&shell.1).args(["-c", script]).current_dir(dir).stdin(Stdio::null());
    // What scripts call of an installer is played by small programs in the folder.
    let path = format!("{}:{}", dir.join("bin").display(), std::env::var("PATH").unwrap());
    process.env("PATH", path).output().unwrap()
}

const HOSTILE: [&str; 29] = [
    "",
    " ",
    "a b",
    "&",
    "|",
    "<",
    ">",
    "^",
    "%",
    "!",
    "\"",
    "'",
    "(",
    ")",
    ";",
    ",",
    "=",
    "#",
    "x 5",
    "a\\nb",
    "\\\\n'\\n'",
    "\\n\\n",
    "end\\",
    "Fähre № 7",
    "船着き場",
    "$(reboot)",
    "`reboot`",
    "*",
    "~",
];

/// The words that a shell makes of `line` behind a program.
fn words(shell: &(&str, Vec<&str>), line: &str) -> Vec<String> {
    let dir = tempfile::tempdir().unwrap();
    let output = run(shell, &format!("for word in {line}; do printf '%s\\0' \"$word\"; done"), dir.path());
    assert!(output.status.success(), "{line}: {}", String::from_utf8_lossy(&output.stderr));
    let text = String::from_utf8(output.stdout).unwrap();
    text.split_terminator('\0').map(str::to_owned).collect()
}

#[test]
fn hostile_words_arrive_as_they_are() {
    let long = "langes Tau ".repeat(23);
    let all: Vec<&str> = HOSTILE.into_iter().chain(["two\nlines", "\r\n", "\t", long.as_str()]).collect();
    for shell in &shells() {
        for way in [sh::word, sh::quoted] {
            let line: Vec<String> = all.iter().map(|text| way(text)).collect();
            // An installer's database takes this for the end of a line.
            assert!(!line.join(" ").contains("\\n"), "{line:?}");
            assert_eq!(words(shell, &line.join(" ")), all, "{}", shell.0);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn any_words_arrive_as_they_are(all in prop::collection::vec("[^\0]{0,40}", 1..8)) {
        let line: Vec<String> = all.iter().map(|text| sh::word(text)).collect();
        for shell in &shells() {
            prop_assert_eq!(&words(shell, &line.join(" ")), &all);
        }
    }
}

/// A folder with what installers of Linux have, each noting its words: `in-target` runs its words right here.
fn installer() -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    let bin = dir.path().join("bin");
    std::fs::create_dir(&bin).unwrap();
    let note = |name: &str| {
        format!(
            // One write, as several may note at once.
            "#!/bin/sh\nline={name}\nfor w; do line=\"$line [$w]\"; done\nprintf '%s\\n' \"$line\" >>noted\n"
        )
    };
    for name in ["useradd", "usermod", "groupadd", "apt-get", "note"] {
        put_program(&bin.join(name), &note(name));
    }
    put_program(&bin.join("in-target"), "#!/bin/sh\nexec \"$@\"\n");
    // Every package is installed.
    put_program(&bin.join("dpkg-query"), "#!/bin/sh\nexit 0\n");
    dir
}

fn put_program(path: &Path, text: &str) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::write(path, text).unwrap();
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o755)).unwrap();
}

/// The value of a question in a written preseed.
fn question<'a>(text: &'a str, name: &str) -> &'a str {
    let line = text.lines().find(|line| line.contains(name)).unwrap_or_else(|| panic!("no {name} in {text}"));
    line.split_once(" string ").unwrap().1
}

fn preseed(model: &Model) -> String {
    write_model(model, Dialect::Preseed, &mut Secrets::default()).unwrap().text
}

fn noted(dir: &Path) -> Vec<String> {
    let text = std::fs::read_to_string(dir.join("noted")).unwrap_or_default();
    text.lines().map(str::to_owned).collect()
}

fn command(run: &str) -> Command {
    Command::new(Stage::SystemInstalled, run)
}

#[test]
fn late_commands_run_in_order_whatever_is_in_them() {
    let commands = vec![
        command("note one # and a remark"),
        Command { wait: false, ..command("note two") },
        Command { wait: false, outside: true, ..command("note three") },
        Command { outside: true, ..command("note 'it''s' \"four\"; note five # not six") },
        Command { outside: true, ..command("for i in 1 2; do note $i; done") },
        command("note \"a b\" '$HOME' \\\\ 7"),
        command("note 'x\\ny' \"\\n\""),
    ];
    let model = Model { command: commands, ..Model::default() };
    let text = preseed(&model);
    let late = question(&text, "late_command");
    for shell in &shells() {
        let dir = installer();
        let output = run(shell, &format!("{late} && note end"), dir.path());
        assert!(output.status.success(), "{}: {late}: {}", shell.0, String::from_utf8_lossy(&output.stderr));
        // What is not waited for comes when it comes.
        for _ in 0..100 {
            if noted(dir.path()).len() >= 10 {
                break;
            }
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
        let mut all = noted(dir.path());
        for unwaited in ["note [two]", "note [three]"] {
            let at =
                all.iter().position(|own| own == unwaited).unwrap_or_else(|| panic!("{unwaited}: {all:?}"));
            all.remove(at);
        }
        let expected = [
            "note [one]",
            "note [its] [four]",
            "note [five]",
            "note [1]",
            "note [2]",
            "note [a b] [$HOME] [\\] [7]",
            "note [x\\ny] [\\n]",
            "note [end]",
        ];
        assert_eq!(all, expected, "{}", shell.0);
    }
    // It is read as it was meant.
    let file = AnswerFile::parse(text.as_bytes()).unwrap();
    let again = neat_answer::read_file(&file).unwrap().model;
    assert_eq!(again.command, model.command);
}

#[test]
fn a_late_command_that_fails_is_seen_and_ends_the_line() {
    for (failing, outside) in
        [("note before; exit 3", false), ("note before; exit 3", true), ("false", false), ("false", true)]
    {
        let commands =
            vec![command("note first"), Command { outside, ..command(failing) }, command("note never")];
        let model = Model { command: commands, ..Model::default() };
        let text = preseed(&model);
        for shell in &shells() {
            let dir = installer();
            let output = run(shell, question(&text, "late_command"), dir.path());
            let code = if failing == "false" { 1 } else { 3 };
            assert_eq!(output.status.code(), Some(code), "{}: {text}", shell.0);
            let all = noted(dir.path());
            assert!(
                all[0] == "note [first]" && !all.contains(&"note [never]".to_owned()),
                "{}: {all:?}",
                shell.0
            );
        }
    }
}

#[test]
fn accounts_packages_and_scripts_reach_the_shell_as_they_are_called() {
    let mut model = Model::default();
    model.account = ["first", "o'hara", "deck & hands"]
        .into_iter()
        .map(|name| {
            let mut account = neat_answer::model::Account::named(name);
            account.full_name = format!("{name} \"of\" the $quay");
            account.groups = vec!["administrators".into(), "dial out".into()];
            account
        })
        .collect();
    model.software.remove = vec!["nano; reboot".into()];
    let script = |name: &str, stage| Script {
        name: name.into(),
        stage,
        text: "#!/bin/sh\nnote \"$0\" '100%' \\\\ \"it's\"\n".into(),
        from: String::new(),
        carried: Carried::Inside,
    };
    let name = format!("neatstack test {}.sh", std::process::id());
    model.script = vec![script(&name, Stage::SetupStart)];
    let text = preseed(&model);
    for shell in &shells() {
        let dir = installer();
        let output = run(shell, question(&text, "late_command"), dir.path());
        assert!(output.status.success(), "{}: {}", shell.0, String::from_utf8_lossy(&output.stderr));
        assert_eq!(
            noted(dir.path()),
            [
                "groupadd [-f] [dial out]",
                "usermod [-aG] [dial out] [first]",
                "groupadd [-f] [dial out]",
                "useradd [-m] [-s] [/bin/bash] [-c] [o'hara \"of\" the $quay] [-G] [sudo,dial out] [o'hara]",
                "groupadd [-f] [dial out]",
                "useradd [-m] [-s] [/bin/bash] [-c] [deck & hands \"of\" the $quay] [-G] [sudo,dial out] [deck & hands]",
                "apt-get [-y] [purge] [nano; reboot]",
            ],
            "{}",
            shell.0
        );
        // Before there is a target, in the setup environment.
        let dir = installer();
        let output = run(shell, question(&text, "preseed/early_command"), dir.path());
        assert!(output.status.success(), "{}: {}", shell.0, String::from_utf8_lossy(&output.stderr));
        assert_eq!(noted(dir.path()), [format!("note [/tmp/{name}] [100%] [\\] [it's]")], "{}", shell.0);
    }
    let _ = std::fs::remove_file(format!("/tmp/{name}"));
}

/// What a check says of a file, by its field.
fn problems(text: &str, field: &str) -> Vec<String> {
    let report = neat_answer::check_file(&AnswerFile::parse(text.as_bytes()).unwrap(), None);
    let own = report
        .findings
        .into_iter()
        .filter(|finding| finding.field.contains(field) && finding.gravity == Gravity::Problem);
    own.map(|finding| finding.message).collect()
}

#[test]
fn lines_that_a_shell_refuses_are_found_in_files_of_others() {
    let preseed = |late: &str| {
        format!("d-i debian-installer/locale string en_GB.UTF-8\nd-i preseed/late_command string {late}\n")
    };
    for (late, word) in [
        ("in-target sh -c 'sleep 9' </dev/null >/dev/null 2>&1 3>&- &; in-target sh -c 'a'", "refuses"),
        ("in-target apt-get update # first; in-target reboot", "remark"),
        ("in-target sh -c 'it's'", "quote"),
    ] {
        let found = problems(&preseed(late), "late_command");
        assert!(found.iter().any(|own| own.contains(word)), "{late}: {found:?}");
        // A shell agrees: it refuses the line, or runs less than is there.
        if word != "remark" {
            for shell in &shells() {
                let dir = installer();
                assert!(!run(shell, late, dir.path()).status.success(), "{}: {late}", shell.0);
            }
        }
    }
    let sound = "in-target sh -c 'a & b' && { in-target c & } && cp /cdrom/x /target/; true";
    assert_eq!(problems(&preseed(sound), "late_command"), [""; 0]);
    let cloud = "#cloud-config\nautoinstall:\n  version: 1\n  late-commands:\n    - \"a &; b\"\n";
    assert_eq!(problems(cloud, "late-commands").len(), 1);
}

#[test]
fn a_check_of_disks_that_lets_setup_go_on_is_found() {
    let mut model =
        Model::parse("format = 1\nerases = \"yes\"\n[[disk]]\nnumber = 0\nwipe = true\nonly_disk = true\n")
            .unwrap();
    let ours = write_model(&model, Dialect::Unattend, &mut Secrets::default()).unwrap().text;
    assert_eq!(problems(&ours, "RunSynchronous"), [""; 0]);
    model.command.push(Command::new(
        Stage::SetupStart,
        "cmd.exe /c \"cscript.exe //nologo X:\\look.vbs || (pause & wpeutil shutdown)\"",
    ));
    let theirs = write_model(&model, Dialect::Unattend, &mut Secrets::default()).unwrap().text;
    let found = problems(&theirs, "RunSynchronous");
    assert!(found.len() == 1 && found[0].contains("taken for success"), "{found:?}");
}

/// Text from outside comes into a line of shell through `command_line` alone: nowhere else are quotes put around
/// something that is filled in.
#[test]
fn nothing_else_quotes_for_a_shell() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut found = Vec::new();
    for folder in ["answer/src", "stack/src/change"] {
        let mut folders = vec![root.join(folder)];
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                if path.is_dir() {
                    folders.push(path);
                } else if !path.components().any(|part| part.as_os_str() == "command_line") {
                    let text = std::fs::read_to_string(&path).unwrap();
                    let own = text.split("#[cfg(test)]").next().unwrap();
                    let is_quoting = |line: &&str| {
                        line.contains("format!")
                            && ["'{", "-c \\\"{", "-Command \\\"{", "echo {"]
                                .iter()
                                .any(|sign| line.contains(sign))
                    };
                    found.extend(
                        own.lines()
                            .filter(is_quoting)
                            .map(|line| format!("{}: {}", path.display(), line.trim())),
                    );
                }
            }
        }
    }
    // Packed texts have no signs of their own; the lines of the disk's check are escaped where they are made.
    found.retain(|line| {
        !["base64 -d", "batch::in_line(line)", "echo {part}"].iter().any(|sign| line.contains(sign))
    });
    assert!(found.is_empty(), "{found:#?}");
}

#[test]
fn the_installed_system_gets_the_keyboards_that_the_installer_does_not_offer() {
    let model = |keyboards: &[&str]| {
        let mut model = Model::default();
        model.language.setup = "en-GB".into();
        model.language.keyboards = keyboards.iter().map(|own| (*own).to_owned()).collect();
        model
    };
    for (keyboards, keymap, layouts) in [
        (&["fr-FR"][..], "fr(latin9)", "fr|"),
        (&["de-AT"], "de", "at|"),
        (&["sr-Latn-RS", "en-GB"], "rs", "rs,gb|latin,"),
    ] {
        let text = preseed(&model(keyboards));
        assert!(
            text.contains(&format!("xkb-keymap select {keymap}\n")) && !text.contains("layoutcode"),
            "{text}"
        );
        // The file of a system, in a folder that stands for its root.
        let late = question(&text, "late_command").replace(" /etc/default/keyboard", " keyboard");
        for shell in &shells() {
            let dir = installer();
            std::fs::write(
                dir.path().join("keyboard"),
                "XKBMODEL=\"pc105\"\nXKBLAYOUT=\"us\"\nXKBVARIANT=\"\"\n",
            )
            .unwrap();
            let output = run(shell, &late, dir.path());
            assert!(output.status.success(), "{}: {late}", shell.0);
            let changed = std::fs::read_to_string(dir.path().join("keyboard")).unwrap();
            let (layout, variant) = layouts.split_once('|').unwrap();
            assert_eq!(changed, format!("XKBMODEL=\"pc105\"\nXKBLAYOUT={layout}\nXKBVARIANT={variant}\n"));
        }
        let again = neat_answer::read_file(&AnswerFile::parse(text.as_bytes()).unwrap()).unwrap().model;
        assert_eq!(again.language.keyboards, keyboards);
    }
    let text = preseed(&model(&["ca-ES"]));
    assert!(text.contains("xkb-keymap select es(cat)\n") && !text.contains("late_command"), "{text}");
}

/// Serial numbers as firmware gives them.
const SERIALS: [&str; 20] = [
    "BF-7001",
    "bf-7002",
    "  BF 7003  ",
    "BF7004\n",
    "B/F.70_05",
    "7",
    "a",
    "Z-9",
    "\"BF-7010\"",
    "$(reboot)",
    "`id`",
    "BF&7013",
    "ÄBF7014",
    "--x--",
    "5CG1234ABC",
    "PF-0XYZ12",
    "VMware-56 4d 2b 1a",
    "C02XG0FDJHD4",
    "/../../etc",
    "12 34 56 78",
];

#[test]
fn a_machine_finds_its_answers_by_any_serial_number() {
    for (dialect, place, root) in
        [(Dialect::Preseed, "preseed.cfg", "/cdrom"), (Dialect::Kickstart, "ks.cfg", "/run/install/repo")]
    {
        let chooser = dialect.chooser().unwrap();
        let file = chooser.files.iter().find(|own| own.path == place).unwrap();
        let text = String::from_utf8(file.bytes.clone()).unwrap();
        let line = match dialect {
            Dialect::Preseed => {
                text.lines().find_map(|line| line.split_once("include_command string ")).unwrap().1
            }
            _ => text.lines().find(|line| line.starts_with("cp ")).unwrap(),
        };
        let script = line
            .replace("/sys/class/dmi/id/product_serial", "serial")
            .replace(root, "media")
            .replace("/tmp/", "");
        for shell in &shells() {
            for serial in SERIALS {
                let dir = installer();
                let folder = dir.path().join("media").join(chooser.folder);
                std::fs::create_dir_all(&folder).unwrap();
                let name = format!("{}{}", neat_answer::serial_name(serial), chooser.ending);
                std::fs::write(folder.join(&name), "its own").unwrap();
                std::fs::write(dir.path().join("serial"), serial).unwrap();
                let output = run(shell, &script, dir.path());
                assert!(output.status.success(), "{}: {script}: {serial}", shell.0);
                if dialect == Dialect::Preseed {
                    let said = String::from_utf8(output.stdout).unwrap();
                    assert_eq!(said.trim(), format!("{}/{name}", chooser.folder), "{}: {serial}", shell.0);
                } else {
                    assert_eq!(
                        std::fs::read(dir.path().join("neatstack-site.ks")).unwrap(),
                        b"its own",
                        "{serial}"
                    );
                }
            }
            // A machine that is not in the list, or says nothing, gets nobody's answers.
            for serial in ["OTHER", "", "   "] {
                let dir = installer();
                std::fs::create_dir_all(dir.path().join("media").join(chooser.folder)).unwrap();
                std::fs::write(dir.path().join("serial"), serial).unwrap();
                let output = run(shell, &script, dir.path());
                let said = String::from_utf8(output.stdout).unwrap();
                assert!(
                    said.trim().is_empty() && !dir.path().join("neatstack-site.ks").exists(),
                    "{serial:?}: {said}"
                );
            }
        }
    }
}

#[test]
fn a_name_that_nothing_fills_is_not_written() {
    for name in ["{nonsense}", "LAB-{name}", "x-{random:99}", "{serial}-{room}"] {
        let mut model = Model::default();
        model.machine.name = name.into();
        for dialect in [Dialect::Unattend, Dialect::Preseed, Dialect::Kickstart, Dialect::Autoinstall] {
            let error = write_model(&model, dialect, &mut Secrets::default()).unwrap_err();
            assert!(error.to_string().contains("nothing fills"), "{error}");
        }
    }
    for name in ["", "{random}", "LAB-{serial}", "LAB-{random:4}", "BRIDGE-01"] {
        let mut model = Model::default();
        model.machine.name = name.into();
        assert!(write_model(&model, Dialect::Preseed, &mut Secrets::default()).is_ok(), "{name}");
    }
}

/// A tree as the kernel shows its disks: names, where each hangs, and whether it calls itself removable.
fn disks(list: &[(&str, &str, bool)]) -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    std::fs::create_dir(dir.path().join("block")).unwrap();
    for (name, place, removable) in list {
        let real = dir.path().join("devices").join(place).join("block").join(name);
        std::fs::create_dir_all(&real).unwrap();
        std::fs::write(real.join("removable"), if *removable { "1\n" } else { "0\n" }).unwrap();
        std::fs::write(real.join("size"), "209715200\n").unwrap();
        std::os::unix::fs::symlink(&real, dir.path().join("block").join(name)).unwrap();
    }
    dir
}

#[test]
fn one_disk_is_one_disk_whatever_else_the_machine_has() {
    let model = Model::parse(
        "format = 1\nerases = \"yes\"\n[[disk]]\ndevice = \"sda\"\nwipe = true\nonly_disk = true\n",
    )
    .unwrap();
    let internal = ("sda", "pci0000:00/ata1/host0", false);
    let beside = [
        ("loop0", "virtual", false),
        ("ram0", "virtual", false),
        ("dm-0", "virtual", false),
        ("md127", "virtual", false),
        ("nbd0", "virtual", false),
        ("sr0", "pci0000:00/ata2/host1", true),
        ("fd0", "platform/floppy.0", true),
        ("mmcblk0boot0", "platform/mmc_host", false),
        ("mmcblk0rpmb", "platform/mmc_host", false),
        // The media itself, which may say that nobody can take it out.
        ("sdb", "pci0000:00/usb2/2-1/host6", false),
        ("sdc", "pci0000:00/ata3/host7", true),
        ("sdd", "platform/host9/session1/target9", false),
    ];
    let second = ("nvme0n1", "pci0000:00/nvme/nvme0", false);
    let alone: Vec<_> = std::iter::once(internal).chain(beside).collect();
    let two: Vec<_> = alone.iter().copied().chain([second]).collect();
    let only_media: Vec<_> = alone.iter().copied().filter(|own| own.0 != "sda").collect();
    for (dialect, line) in [(Dialect::Preseed, "partman/early_command"), (Dialect::Kickstart, "s=$((")] {
        let text = write_model(&model, dialect, &mut Secrets::default()).unwrap().text;
        let line = text.lines().find(|own| own.contains(line)).unwrap();
        let line = line.split_once(" string ").map_or(line, |(_, own)| own);
        for shell in &shells() {
            let goes_on = |list: &[(&str, &str, bool)]| {
                let tree = disks(list);
                let line = line
                    .replace("/sys/block", &tree.path().join("block").display().to_string())
                    .replace("sleep 1000000", "exit 1")
                    .replace(">/dev/console", ">/dev/null");
                run(shell, &format!("{line}\ntrue"), tree.path()).status.success()
            };
            assert!(goes_on(&[internal]), "{}", shell.0);
            assert!(goes_on(&alone), "{}", shell.0);
            assert!(!goes_on(&two), "{}", shell.0);
            assert!(!goes_on(&only_media), "{}", shell.0);
            assert!(!goes_on(&[]), "{}", shell.0);
        }
    }
}

#[test]
fn what_debians_installer_would_ask_is_found() {
    let file = |lines: &str| format!("d-i debian-installer/locale string en_GB.UTF-8\n{lines}\n");
    let whole = "d-i passwd/root-login boolean false\nd-i passwd/username string ann\nd-i passwd/user-password-crypted password $6$a$b";
    assert_eq!(problems(&file(whole), "passwd"), [""; 0]);
    // Nothing is said of people at all: they are asked, as was meant.
    assert_eq!(problems(&file(""), "passwd"), [""; 0]);
    for (from, to, wanted) in [
        ("d-i passwd/root-login boolean false\n", "", "nothing is said of the administrator"),
        ("boolean false", "boolean true", "nothing is said of the administrator"),
        ("d-i passwd/user-password-crypted password $6$a$b", "", "ann has no password"),
        ("string ann", "string backup", "keeps for the system"),
        ("string ann", "string admin", "keeps for the system"),
    ] {
        let found = problems(&file(&whole.replace(from, to)), "passwd");
        assert!(found.len() == 1 && found[0].contains(wanted), "{wanted}: {found:?}");
    }
    let long = format!("d-i preseed/late_command string true {}", "x".repeat(131_072));
    assert!(problems(&file(&long), "late_command")[0].contains("is not run"));
    let long = format!("d-i preseed/late_command string true {}", "x".repeat(131_066));
    assert_eq!(problems(&file(&long), "late_command"), [""; 0]);
    assert!(problems(&file("d-i mirror/suite string bookworm"), "mirror")[0].contains("select"));
}

#[test]
fn a_script_is_gone_when_it_has_run() {
    let mut model = Model::default();
    model.script.push(Script {
        name: "once.sh".into(),
        stage: Stage::SystemInstalled,
        text: "#!/bin/sh\nnote ran\n".into(),
        from: String::new(),
        carried: Carried::Inside,
    });
    let text = preseed(&model);
    for shell in &shells() {
        let dir = installer();
        let here = dir.path().display().to_string();
        let output =
            run(shell, &question(&text, "late_command").replace("/root/", &format!("{here}/")), dir.path());
        assert!(output.status.success(), "{}: {}", shell.0, String::from_utf8_lossy(&output.stderr));
        assert_eq!(noted(dir.path()), ["note [ran]"]);
        assert!(!dir.path().join("once.sh").exists(), "{}", shell.0);
    }
}

#[test]
fn languages_become_the_locales_that_systems_have() {
    let locale = |tag: &str| {
        let mut model = Model::default();
        model.language.setup = tag.into();
        let text = preseed(&model);
        let line = text.lines().find(|line| line.contains("debian-installer/locale")).unwrap().to_owned();
        line.rsplit(' ').next().unwrap().to_owned()
    };
    for (tag, expected) in [
        ("en", "en_US.UTF-8"),
        ("en-GB", "en_GB.UTF-8"),
        ("da", "da_DK.UTF-8"),
        ("sr-Latn-RS", "sr_RS@latin"),
        ("sr-Cyrl-RS", "sr_RS.UTF-8"),
        ("zh-Hans-CN", "zh_CN.UTF-8"),
        ("zh-Hant-TW", "zh_TW.UTF-8"),
        ("zh-Hant-HK", "zh_HK.UTF-8"),
        ("zh-Hant", "zh_TW.UTF-8"),
        ("uz-Latn-UZ", "uz_UZ.UTF-8"),
        ("uz-Cyrl-UZ", "uz_UZ@cyrillic"),
        ("pt-BR", "pt_BR.UTF-8"),
        ("EN-gb", "en_GB.UTF-8"),
    ] {
        assert_eq!(locale(tag), expected, "{tag}");
    }
}

/// The scripts of a written file: what a shell gets, and what they are called.
fn scripts_of(name: &str, text: &str) -> Vec<(String, String)> {
    let ending = name.split_once('.').unwrap().1;
    let mut all = Vec::new();
    match ending {
        "preseed.cfg" => {
            for line in text.lines().filter(|line| line.contains("_command string ")) {
                let (question, script) = line.split_once(" string ").unwrap();
                all.push((question.to_owned(), script.to_owned()));
            }
        }
        "ks" => {
            let mut open: Option<(String, String)> = None;
            for line in text.lines() {
                match &mut open {
                    Some(_) if line == "%end" => all.extend(open.take()),
                    Some((_, body)) => body.push_str(&format!("{line}\n")),
                    None if line.starts_with("%pre") || line.starts_with("%post") => {
                        open = Some((line.to_owned(), String::new()));
                    }
                    None => {}
                }
            }
        }
        "user-data.yaml" => {
            let mut key = String::new();
            for line in text.lines() {
                if let Some(item) =
                    line.trim().strip_prefix("- ").filter(|_| key.ends_with("-commands") || key == "runcmd")
                {
                    let script = serde_json::from_str(item).unwrap_or_else(|_| item.to_owned());
                    all.push((key.clone(), script));
                } else if let Some(own) = line.trim().strip_suffix(':') {
                    own.clone_into(&mut key);
                }
            }
        }
        _ => {
            for part in text.split("<source><![CDATA[").skip(1) {
                let script = part.split("]]></source>").next().unwrap();
                all.push(("source".to_owned(), script.replace("]]]]><![CDATA[>", "]]>")));
            }
        }
    }
    // What is given to another shell is a script, too.
    let inner: Vec<_> = all
        .iter()
        .flat_map(|(place, script)| {
            let parts = script.split("in-target sh -c ").skip(1);
            let parts = parts.chain(script.split("in-target -- sh -c ").skip(1));
            parts.filter_map(|part| Some((format!("{place}, inside"), unquoted(part)?))).collect::<Vec<_>>()
        })
        .collect();
    all.extend(inner);
    // And so is what is packed in one, at any depth.
    let mut at = 0;
    while at < all.len() {
        let (place, script) = all[at].clone();
        for part in script.split("echo ").skip(1) {
            let Some((packed, _)) = part.split_once(" | base64 -d >") else { continue };
            let text = STANDARD.decode(packed).unwrap();
            let text = String::from_utf8(text).unwrap();
            if text.starts_with("#!/bin/sh") {
                all.push((format!("{place}, packed"), text));
            }
        }
        at += 1;
    }
    all
}

/// The word in single quotes that a text begins with, as a shell reads it.
fn unquoted(text: &str) -> Option<String> {
    let end =
        [" && in-target", " && {", " </dev/null >/dev/null"].iter().filter_map(|own| text.find(own)).min();
    let script = format!("set -- {}\nprintf %s \"$1\"", &text[..end.unwrap_or(text.len())]);
    let output = std::process::Command::new("sh").args(["-c", &script]).output().ok()?;
    let word = String::from_utf8_lossy(&output.stdout).into_owned();
    (output.status.success() && !word.is_empty()).then_some(word)
}

fn golden() -> Vec<(String, String)> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/golden");
    let mut all: Vec<(String, String)> = std::fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .filter(|path| !path.to_string_lossy().ends_with(".answer.toml"))
        .map(|path| {
            let name = path.file_name().unwrap().to_string_lossy().into_owned();
            (name, std::fs::read_to_string(&path).unwrap())
        })
        // What is XML for another system has no shell in it.
        .filter(|(name, _)| name.split_once('.').unwrap().1 != "xml")
        .collect();
    all.sort();
    all
}

#[test]
fn every_script_of_the_made_up_sites_is_clean_for_a_reader_of_shell() {
    if !neat_testing::has_program("shellcheck", "--version") {
        return;
    }
    let mut count = 0;
    for (name, text) in golden() {
        for (place, script) in scripts_of(&name, &text) {
            let dir = tempfile::tempdir().unwrap();
            let file = dir.path().join("script.sh");
            std::fs::write(&file, &script).unwrap();
            // Words of /sys have no blanks, and in a section the first line of a script is the section's.
            let args = ["-s", "sh", "-S", "warning", "-e", "SC2046,SC1128"];
            let output = std::process::Command::new("shellcheck").args(args).arg(&file).output().unwrap();
            let said = String::from_utf8_lossy(&output.stdout);
            assert!(output.status.success(), "{name}, {place}:\n{script}\n{said}");
            count += 1;
        }
    }
    assert!(count > 30, "{count}");
}

#[test]
fn every_file_of_xml_is_well_formed_for_another_reader() {
    if !neat_testing::has_program("xmllint", "--version") {
        return;
    }
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/golden");
    let mut count = 0;
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.extension().is_some_and(|own| own == "xml") {
            let output = std::process::Command::new("xmllint").arg("--noout").arg(&path).output().unwrap();
            assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
            count += 1;
        }
    }
    assert!(count >= 10, "{count}");
}

#[test]
fn every_script_of_the_made_up_sites_is_read_by_every_shell() {
    for (name, text) in golden() {
        for (place, script) in scripts_of(&name, &text) {
            for shell in &shells() {
                let output = run(shell, &format!("if false; then\n{script}\nfi\necho whole"), Path::new("/"));
                let said = String::from_utf8_lossy(&output.stdout);
                assert_eq!(said.trim(), "whole", "{}: {name}, {place}:\n{script}", shell.0);
            }
        }
    }
}

#[test]
fn a_script_says_what_runs_it_where_its_first_line_does_not_count() {
    let section = |name: &str, text: &str| {
        let mut model = Model::default();
        model.script.push(Script {
            name: name.into(),
            stage: Stage::SystemInstalled,
            text: text.into(),
            from: String::new(),
            carried: Carried::Inside,
        });
        let written = write_model(&model, Dialect::Kickstart, &mut Secrets::default()).unwrap();
        assert_eq!(read_file(&written.file().unwrap()).unwrap().model.script, model.script);
        written.text.lines().find(|line| line.starts_with("%post")).unwrap().to_owned()
    };
    for (name, first, expected) in [
        ("a.sh", "#!/bin/sh", "%post --erroronfail"),
        ("a.sh", "echo", "%post --erroronfail"),
        ("a", "#!/usr/bin/perl", "%post --erroronfail --interpreter=/usr/bin/perl"),
        ("a.py", "#!/usr/bin/python3.11", "%post --erroronfail --interpreter=/usr/bin/python3.11"),
        ("a.py", "print(1)", "%post --erroronfail --interpreter=/usr/bin/python3"),
        // What could be more than a path is none.
        ("a", "#!/usr/bin/env -S perl --erroronfail", "%post --erroronfail"),
        ("a", "#! --nochroot", "%post --erroronfail"),
    ] {
        assert_eq!(section(name, &format!("{first}\n")), expected, "{first}");
    }
}

//! Drivers and answers of media of the generation before image files, through the built program.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

mod support;

use neat_demo::program_of_version;
use std::{fs, io::Read, path::Path};
use support::{demo, fails, json, ok};

/// The value of a key, read as plainly as can be: lines, the first sign, nothing else.
fn said(text: &str, section: &str, key: &str) -> Option<String> {
    let mut inside = false;
    let mut found = None;
    for line in text.lines().map(str::trim) {
        if line.starts_with('[') {
            inside = line.eq_ignore_ascii_case(&format!("[{section}]"));
        } else if inside && let Some((own, value)) = line.split_once('=') {
            let is_it = own.trim().eq_ignore_ascii_case(key);
            found = found.or_else(|| is_it.then(|| value.trim().to_owned()));
        }
    }
    found
}

fn write(dir: &Path, body: &str) {
    let text = format!("[source]\nmedia = \"quay-os-2.iso\"\n{body}\n[media]\niso = \"o.iso\"\n");
    fs::write(dir.join("o.stack.toml"), text).unwrap();
}

/// Builds, and gives the folder with all that the media has.
fn built(dir: &Path, body: &str) -> std::path::PathBuf {
    write(dir, body);
    ok(dir, &["build", "o.stack.toml", "-q", "--replace"]);
    let to = dir.join("all");
    let _ = fs::remove_dir_all(&to);
    ok(dir, &["take", "o.iso", "I386", "$OEM$", "--to", "all", "-q"]);
    to
}

fn inf(class: &str, devices: &str, services: &str) -> String {
    format!(
        "[Version]\nSignature=\"$Windows NT$\"\nClass={class}\nProvider=\"Mast\"\nDriverVer=05/20/2001,1.0\n\
         [Manufacturer]\n\"Mast\"=Models\n[Models]\n{devices}\n[Install]\nCopyFiles=@mast.sys\n{services}\n\
         [SourceDisksNames]\n1=Disk\n[SourceDisksFiles]\nmast.sys=1\n"
    )
}

fn put_driver(dir: &Path, name: &str, text: &str) {
    let folder = dir.join("d").join(name);
    fs::create_dir_all(&folder).unwrap();
    fs::write(folder.join("mast.inf"), text).unwrap();
    fs::write(folder.join("mast.sys"), program_of_version([1, 0, 0, 1], 0x0809, 4_000)).unwrap();
}

const SERVICE: &str = "[Install.Services]\nAddService=mast,%two%,Service\n[Service]\nServiceBinary=%12%\\mast.sys\n[Strings]\ntwo=\"0x00000002\"";

#[test]
fn drivers_go_where_the_system_and_the_text_phase_take_them_from() {
    let (_keep, dir) = demo();
    let devices = "\"Mast \"\"100%\"\"\"=Install, PCI\\VEN_1AF4&DEV_1042\n\"Other\"=Install, PCI\\VEN_1AF4&DEV_1001\n\
                   \"By class\"=Install, *PNP0A00";
    put_driver(&dir, "mast", &inf("SCSIAdapter", devices, SERVICE));
    let all = built(&dir, "[[driver]]\nfrom = \"d/mast\"\ninto = [\"system\", \"setup\"]");
    let folder = |path: &str| fs::read_dir(path).unwrap().count();
    let oem = all.join("$OEM$/$1/Drivers/D01");
    assert_eq!(folder(oem.to_str().unwrap()), 2);
    // The text phase: file, devices, name. What stands there already stays, but for the device that is taken over.
    let text = fs::read_to_string(all.join("I386/TXTSETUP.SIF")).unwrap();
    for (section, key, value) in [
        ("SourceDisksFiles", "mast.sys", "1,,,,,,4_,4,1,,,1,4"),
        ("SourceDisksFiles", "radio.sys", "1,,,,,,4_,4,0,0"),
        ("HardwareIdsDatabase", "PCI\\VEN_1AF4&DEV_1042", "\"mast\""),
        ("HardwareIdsDatabase", "PCI\\VEN_1AF4&DEV_1001", "\"mast\""),
        ("SCSI.load", "mast", "mast.sys,4"),
        ("SCSI.load", "radio", "radio.sys,4"),
        ("SCSI", "mast", "\"Mast 100\""),
    ] {
        assert_eq!(said(&text, section, key).as_deref(), Some(value), "[{section}] {key}\n{text}");
    }
    assert!(!text.contains("PNP0A00"), "setup looks for devices on buses");
    let packed = fs::read(all.join("I386/MAST.SY_")).unwrap();
    let mut cabinet = cab::Cabinet::new(std::io::Cursor::new(packed)).unwrap();
    let mut plain = Vec::new();
    cabinet.read_file("mast.sys").unwrap().read_to_end(&mut plain).unwrap();
    assert!(plain == program_of_version([1, 0, 0, 1], 0x0809, 4_000));
    let list = fs::read_to_string(all.join("I386/DOSNET.INF")).unwrap();
    assert!(list.contains("d1,mast.sys\r\n"), "{list}");
    // Answers that name the folder and ask everything else, as there are none.
    let answers = fs::read_to_string(all.join("I386/WINNT.SIF")).unwrap();
    assert_eq!(said(&answers, "Unattended", "OemPnPDriversPath").as_deref(), Some("\"Drivers\\D01\""));
    assert_eq!(said(&answers, "Unattended", "OemPreinstall").as_deref(), Some("Yes"));
    let plan = json(&dir, &["plan", "o.stack.toml", "--json"]);
    let findings = plan["findings"].to_string();
    assert!(findings.contains("names folders of drivers alone"), "{findings}");
    // Built again from what came out, nothing is twice.
    fs::rename(dir.join("o.iso"), dir.join("first.iso")).unwrap();
    let again = "[source]\nmedia = \"first.iso\"\n[[driver]]\nfrom = \"d/mast\"\ninto = [\"setup\"]\n[media]\niso = \"second.iso\"\n";
    fs::write(dir.join("s.stack.toml"), again).unwrap();
    ok(&dir, &["build", "s.stack.toml", "-q"]);
    let compared = json(&dir, &["compare", "first.iso", "second.iso", "--json"]);
    assert_eq!(compared["files"].as_array().unwrap().len(), 0, "{}", compared["files"]);
}

#[test]
fn what_the_text_phase_cannot_load_is_refused_with_the_reason() {
    let (_keep, dir) = demo();
    let device = "\"Mast\"=Install, PCI\\VEN_1AF4&DEV_1042";
    let service = |name: &str, file: &str| {
        SERVICE.replace("AddService=mast", &format!("AddService={name}")).replace("mast.sys", file)
    };
    for (name, text, expected) in [
        ("net", inf("Net", device, SERVICE), "skipped: setup's text phase takes drivers of disks"),
        ("none", inf("SCSIAdapter", device, ""), "refused: its INF file names no service"),
        (
            "long",
            inf("SCSIAdapter", device, &service("mast", "much-too-long.sys")),
            "refused: much-too-long.sys is not beside",
        ),
        (
            "odd",
            inf("SCSIAdapter", device, &service("\"mast of ours\"", "mast.sys")),
            "refused: setup's text phase has no driver with the name",
        ),
        (
            "bus",
            inf("SCSIAdapter", "\"Mast\"=Install, *PNP0A00", SERVICE),
            "refused: mast names no device that setup's text phase finds",
        ),
    ] {
        put_driver(&dir, name, &text);
        write(&dir, &format!("[[driver]]\nfrom = \"d/{name}\"\ninto = [\"setup\"]"));
        let Some(expected) = expected.strip_prefix("refused: ") else {
            let plan = json(&dir, &["plan", "o.stack.toml", "--json"]);
            let item = &plan["editions_work"][0]["items"][0];
            let own = format!("{}: {}", item["verdict"].as_str().unwrap(), item["detail"].as_str().unwrap());
            assert!(own.starts_with(expected), "{name}: {own}");
            continue;
        };
        let (code, error) = fails(&dir, &["plan", "o.stack.toml"]);
        let error = error.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(code == 4 && error.contains(expected), "{name}: {error}");
    }
}

const MODEL: &str = "format = 1\naccept = [\"plain-password\"]\n[machine]\nname = \"PURSER-1\"\n[[command]]\nstage = \"system-installed\"\nrun = \"a.exe\"\n";

#[test]
fn answers_lie_in_the_folder_of_each_setup_with_what_they_run() {
    let (_keep, dir) = demo();
    fs::write(dir.join("p.answer.toml"), MODEL).unwrap();
    put_driver(&dir, "mast", &inf("SCSIAdapter", "\"Mast\"=Install, PCI\\VEN_1AF4&DEV_1042", SERVICE));
    // A media with two setups, one of which has answers, and files that it copies.
    ok(&dir, &["take", "quay-os-2.iso", "I386", "BOOT.BIN", "QUAY2", "--to", "two", "-q"]);
    let media = dir.join("two");
    fs::create_dir_all(media.join("AMD64")).unwrap();
    fs::copy(media.join("I386/TXTSETUP.SIF"), media.join("AMD64/TXTSETUP.SIF")).unwrap();
    fs::write(media.join("I386/WINNT.SIF"), "[Data]\r\n").unwrap();
    fs::create_dir_all(media.join("$OEM$")).unwrap();
    fs::write(media.join("$OEM$/CMDLINES.TXT"), "[Commands]\r\n\"theirs.exe\"\r\n").unwrap();
    let stack = |replace: bool| {
        let text = format!(
            "[source]\nmedia = \"two\"\n[answer]\nfile = \"p.answer.toml\"\nreplace = {replace}\n[[driver]]\nfrom = \"d/mast\"\n[media]\nlabel = \"TWO\"\niso = \"o.iso\"\n"
        );
        fs::write(dir.join("o.stack.toml"), text).unwrap();
    };
    stack(false);
    let (code, error) = fails(&dir, &["build", "o.stack.toml"]);
    assert!(code != 0 && error.contains("WINNT.SIF"), "{error}");
    stack(true);
    ok(&dir, &["build", "o.stack.toml", "-q"]);
    ok(&dir, &["take", "o.iso", "I386", "AMD64", "$OEM$", "--to", "all", "-q"]);
    let read = |path: &str| fs::read_to_string(dir.join("all").join(path)).unwrap();
    let own = read("I386/WINNT.SIF");
    assert_eq!(own, read("AMD64/WINNT.SIF"));
    assert_eq!(said(&own, "UserData", "ComputerName").as_deref(), Some("\"PURSER-1\""));
    // The driver is for the one of them alone.
    assert_eq!(said(&own, "Unattended", "OemPnPDriversPath").as_deref(), Some("\"Drivers\\D01\""));
    let list = read("$OEM$/CMDLINES.TXT");
    assert_eq!(
        list,
        "[Commands]\r\n\"theirs.exe\"\r\n\"cmd.exe /c %SystemDrive%\\neatstack\\installed.cmd\"\r\n"
    );
    assert_eq!(read("$OEM$/$1/neatstack/installed.cmd"), "@echo off\r\na.exe\r\n");
    let check = json(&dir, &["answer", "check", "all/I386/WINNT.SIF", "--media", "o.iso", "--json"]);
    assert!(check.to_string().contains("\"dialect\":\"sif\""), "{check}");
    // A media of another generation has no such setup.
    let text = "[source]\nmedia = \"quay-os-7.iso\"\n[answer]\nfile = \"p.answer.toml\"\ndialects = [\"sif\"]\n[media]\niso = \"x.iso\"\n";
    fs::write(dir.join("x.stack.toml"), text).unwrap();
    let (_, error) = fails(&dir, &["build", "x.stack.toml"]);
    let error = error.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(error.contains("the media has no setup that reads answers of the kind sif"), "{error}");
}

#[test]
fn the_demos_older_machine_gets_all_of_it() {
    let (_keep, dir) = demo();
    ok(&dir, &["build", "purser.stack.toml", "-q"]);
    let look = json(&dir, &["look", "out/purser.iso", "--json"]);
    let setup = &look["older_setups"][0];
    assert_eq!(setup["commands"][0], "cmd.exe /c %SystemDrive%\\neatstack\\installed.cmd", "{setup}");
    assert_eq!(look["answer_files"][0]["dialect"], "sif", "{look}");
    // The answers are read back as they were written, but for where passwords come from.
    ok(&dir, &["take", "out/purser.iso", "I386/WINNT.SIF", "--to", "t", "-q"]);
    ok(&dir, &["answer", "read", "t/WINNT.SIF", "-o", "read.answer.toml"]);
    let read = fs::read_to_string(dir.join("read.answer.toml")).unwrap();
    let model: toml::Value = toml::from_str(&read).unwrap();
    assert_eq!(model["account"][0]["name"].as_str(), Some("purser"));
    assert_eq!(model["software"]["drivers"].as_array().unwrap().len(), 2);
    assert!(!read.contains("made up"), "{read}");
    ok(
        &dir,
        &[
            "answer",
            "write",
            "read.answer.toml",
            "--dialect",
            "sif",
            "-o",
            "again/WINNT.SIF",
            "--accept",
            "plain-password",
        ],
    );
    assert_eq!(fs::read(dir.join("again/WINNT.SIF")).unwrap(), fs::read(dir.join("t/WINNT.SIF")).unwrap());
    assert!(dir.join("again/$OEM$/$1/neatstack/installed.cmd").exists());
}

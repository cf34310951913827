//! Answer files through the built program: reading, writing, changing, checking, many machines.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    missing_docs,
    reason = "tests"
)]

mod support;

use serde_json::Value;
use std::{fs, path::Path};
use support::{demo, fails, json, names, neatstack, ok, put_loaders, refused};

/// Exit code and standard output of a check.
fn check(dir: &Path, args: &[&str]) -> (i32, String) {
    let output = neatstack(dir, &[&["answer", "check"], args].concat());
    (output.status.code().unwrap(), String::from_utf8(output.stdout).unwrap())
}

const COMPONENT: &str = "processorArchitecture=\"amd64\" publicKeyToken=\"31bf3856ad364e35\" language=\"neutral\" versionScope=\"nonSxS\"";

/// An answer file as a person wrote it, with all passes and things that are nobody's but theirs.
fn hand_written() -> String {
    let mut text = "\u{feff}<?xml version='1.0' encoding='utf-8'?>\r\n<!-- kept: ]] & friends -->\r\n<unattend xmlns=\"urn:schemas-microsoft-com:unattend\"\r\n          xmlns:wcm='http://schemas.microsoft.com/WMIConfig/2002/State'>\r\n".to_owned();
    for (pass, name, body) in [
        ("windowsPE", "Microsoft-Windows-Setup", "<UserData><AcceptEula>true</AcceptEula></UserData>"),
        ("offlineServicing", "Microsoft-Windows-LUA-Settings", "<EnableLUA>false</EnableLUA>"),
        ("generalize", "Microsoft-Windows-Security-SPP", "<SkipRearm>1</SkipRearm>"),
        (
            "specialize",
            "Microsoft-Windows-Shell-Setup",
            "<ComputerName>OLD-&#x50;C</ComputerName><!-- why: history --><OEMInformation><Model><![CDATA[a<b]]></Model></OEMInformation><TimeZone>GMT Standard Time</TimeZone>",
        ),
        ("auditSystem", "Microsoft-Windows-Shell-Setup", "<AutoLogon><Enabled>false</Enabled></AutoLogon>"),
        ("auditUser", "Microsoft-Windows-Deployment", "<Reseal><Mode>Oobe</Mode></Reseal>"),
        (
            "oobeSystem",
            "Microsoft-Windows-Shell-Setup",
            "<FirstLogonCommands>\r\n\t\t<SynchronousCommand wcm:action=\"add\">\r\n\t\t\t<CommandLine>one</CommandLine><Order>10</Order><RequiresUserInput>true</RequiresUserInput></SynchronousCommand>\r\n\t\t<!-- then -->\r\n\t\t<SynchronousCommand wcm:action=\"add\"><Order>20</Order><CommandLine>two</CommandLine></SynchronousCommand>\r\n\t</FirstLogonCommands>",
        ),
    ] {
        text.push_str(&format!("  <settings pass=\"{pass}\">\r\n    <component name=\"{name}\" {COMPONENT}>{body}</component>\r\n  </settings>\r\n"));
    }
    text.push_str("</unattend>\r\n<!-- the end -->\r\n");
    text
}

#[test]
fn reading_and_writing_back_changes_nothing_that_was_not_asked() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    let utf16: Vec<u8> = hand_written().encode_utf16().flat_map(u16::to_le_bytes).collect();
    for bytes in [hand_written().into_bytes(), utf16] {
        fs::write(dir.join("a.xml"), &bytes).unwrap();
        ok(dir, &["answer", "read", "a.xml", "-o", "m/a.answer.toml", "--replace"]);
        let model = fs::read_to_string(dir.join("m/a.answer.toml")).unwrap();
        assert!(model.contains("OLD-PC") && model.contains("Europe/London"), "{model}");
        ok(dir, &["answer", "write", "m/a.answer.toml", "--dialect", "unattend", "-o", "b.xml", "--replace"]);
        assert_eq!(fs::read(dir.join("b.xml")).unwrap(), bytes);
        // One thing is changed; the difference is that and nothing else.
        fs::write(dir.join("m/a.answer.toml"), model.replace("OLD-PC", "NEW-PC")).unwrap();
        ok(dir, &["answer", "write", "m/a.answer.toml", "--dialect", "unattend", "-o", "b.xml", "--replace"]);
        let text = |bytes: &[u8]| neat_content::Text::decode(bytes).text;
        let expected = text(&bytes).replace("OLD-&#x50;C", "NEW-PC");
        assert_eq!(text(&fs::read(dir.join("b.xml")).unwrap()), expected);
    }
    // The model belongs to the file that it was read from.
    fs::write(dir.join("a.xml"), hand_written().replace("one", "1")).unwrap();
    let (code, error) = fails(dir, &["answer", "write", "m/a.answer.toml", "--dialect", "unattend"]);
    assert!(code == 3 && error.contains("read it again"), "{error}");
}

#[test]
fn commands_come_go_and_move_and_the_rest_is_numbered_anew() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    let original = hand_written();
    fs::write(dir.join("a.xml"), &original).unwrap();
    let stage = ["--stage", "first-sign-in"];
    let insert = |command: &str, at: &str| {
        ok(dir, &[&["answer", "insert", "a.xml", "--command", command, "--at", at][..], &stage].concat())
    };
    assert!(insert("zero & \"first\"", "1").contains("command 1 of 3"));
    let commands = || {
        let model = json(dir, &["answer", "read", "a.xml", "--json"]);
        model["model"]["command"]
            .as_array()
            .unwrap()
            .iter()
            .map(|own| own["run"].as_str().unwrap().to_owned())
            .collect::<Vec<_>>()
    };
    assert_eq!(commands(), ["zero & \"first\"", "one", "two"]);
    let text = fs::read_to_string(dir.join("a.xml")).unwrap();
    assert!(
        text.contains(
            "<CommandLine>one</CommandLine><Order>2</Order><RequiresUserInput>true</RequiresUserInput>"
        ),
        "{text}"
    );
    assert!(
        text.contains("<!-- then -->")
            && text.contains("<!-- why: history -->")
            && text.contains("<![CDATA[a<b]]>"),
        "{text}"
    );
    ok(dir, &[&["answer", "move", "a.xml", "--from", "3", "--to", "1"][..], &stage].concat());
    assert_eq!(commands(), ["two", "zero & \"first\"", "one"]);
    ok(dir, &[&["answer", "remove", "a.xml", "--number", "2"][..], &stage].concat());
    assert_eq!(commands(), ["two", "one"]);
    let (code, error) = fails(dir, &[&["answer", "remove", "a.xml", "--number", "3"][..], &stage].concat());
    assert!(code == 2 && error.contains("1 to 2"), "{error}");
    // Commands are counted as they stand in the file, also those that mean something of their own.
    let reg = "reg add HKLM\\SYSTEM\\Setup\\LabConfig /v BypassTPMCheck /t REG_DWORD /d 1 /f";
    ok(dir, &["answer", "insert", "a.xml", "--stage", "setup-start", "--command", reg]);
    let said =
        ok(dir, &["answer", "insert", "a.xml", "--stage", "setup-start", "--command", "x", "--at", "1"]);
    assert!(said.contains("command 1 of 2"), "{said}");
    let text = fs::read_to_string(dir.join("a.xml")).unwrap();
    let (x, waived) = (text.find("<Path>x</Path>").unwrap(), text.find("BypassTPMCheck").unwrap());
    assert!(x < waived && text[..x].trim_end().ends_with("<Order>1</Order>"), "{text}");
    let (code, error) =
        fails(dir, &["answer", "insert", "a.xml", "--stage", "first-start", "--command", "x"]);
    assert!(code == 2 && error.contains("signs in"), "{error}");
    // The same for the other dialects and the model.
    for (name, text) in [
        (
            "p.cfg",
            "# mine\nd-i time/zone string Europe/Paris\nd-i preseed/late_command string in-target apt-get update; cp /cdrom/x /target/\n",
        ),
        (
            "k.ks",
            "# mine\nlang en_GB.UTF-8\ntimezone Europe/Paris --utc\n%post\n# theirs\necho theirs\n%end\n",
        ),
        (
            "u.yaml",
            "#cloud-config\n# mine\nautoinstall:\n  version: 1\n  # late\n  late-commands:\n    - echo one\n  unknown-to-us: [1, 2]\n",
        ),
        ("m.answer.toml", "format = 1\n"),
    ] {
        fs::write(dir.join(name), text).unwrap();
        ok(
            dir,
            &[
                "answer",
                "insert",
                name,
                "--stage",
                "system-installed",
                "--command",
                "echo 'new'",
                "--at",
                "1",
            ],
        );
        let after = fs::read_to_string(dir.join(name)).unwrap();
        assert!(after.contains("new"), "{after}");
        for line in text
            .lines()
            .filter(|line| line.starts_with('#') || line.contains("theirs") || line.contains("unknown"))
        {
            assert!(after.contains(line), "{line} in {after}");
        }
        ok(dir, &["answer", "remove", name, "--stage", "system-installed", "--number", "1"]);
    }
}

#[test]
fn check_says_what_a_technician_wants_to_know() {
    let (_keep, dir) = demo();
    let (code, text) = check(&dir, &["bridge-answers.xml", "--media", "quay-os-7.iso"]);
    assert_eq!(code, 4, "{text}");
    for wanted in [
        "erases everything on disk 0",
        "did you mean \"Quay OS 7 Bridge\"?",
        "it is for x86, and the media is for x64",
        "did you mean Romance Standard Time?",
        "in plain text",
        "two commands have the number 1 (lines",
        "tools/charts.cmd, which is not on the media",
        "19 characters, and 15 is the most",
    ] {
        assert!(text.contains(wanted), "{wanted} in {text}");
    }
    assert!(!text.contains("fairwind"), "{text}");
    let (code, text) =
        check(&dir, &["bridge.answer.toml", "--dialect", "unattend", "--media", "quay-os-7.iso"]);
    assert!(code == 0 && text.contains("nothing is wrong with it"), "{text}");
    let unsaid = fs::read_to_string(dir.join("bridge.answer.toml")).unwrap().replace("erases = \"yes\"", "");
    fs::write(dir.join("unsaid.answer.toml"), unsaid).unwrap();
    assert_eq!(check(&dir, &["unsaid.answer.toml"]).0, 4);
    // What was written from a model that means it says so.
    ok(&dir, &["answer", "write", "bridge.answer.toml", "--dialect", "unattend", "-o", "auto.xml"]);
    assert_eq!(check(&dir, &["auto.xml", "--media", "quay-os-7.iso"]).0, 0);
    let (code, text) = check(&dir, &["bridge.answer.toml", "--dialect", "preseed"]);
    assert!(code == 1 && text.contains("language.interface: preseed cannot say this"), "{text}");
    assert!(text.contains("registry: preseed has no registry"), "{text}");
    // What is accepted is shown, and stops nothing.
    let (code, text) = check(&dir, &["bridge.answer.toml", "--dialect", "preseed", "--accept", "unsaid"]);
    assert!(code == 0 && text.contains("accepted  what is wrong with it is meant"), "{text}");
    assert!(text.contains("language.interface: preseed cannot say this"), "{text}");
    let (code, text) = check(&dir, &["bridge.answer.toml", "--accept", "unsayed"]);
    assert!(code == 2 && text.is_empty());
}

#[test]
fn single_faults_are_found_and_told_apart() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    let unattend = |pass: &str, name: &str, body: &str| {
        format!(
            "<unattend xmlns=\"urn:schemas-microsoft-com:unattend\"><settings pass=\"{pass}\"><component name=\"{name}\" {COMPONENT}>{body}</component></settings></unattend>"
        )
    };
    let shell = "Microsoft-Windows-Shell-Setup";
    let accounts = |names: &[&str]| {
        let all: String =
            names.iter().map(|name| format!("<LocalAccount><Name>{name}</Name></LocalAccount>")).collect();
        format!("<UserAccounts><LocalAccounts>{all}</LocalAccounts></UserAccounts>")
    };
    let partitions = |list: &str| {
        format!(
            "<DiskConfiguration><Disk><DiskID>0</DiskID><CreatePartitions>{list}</CreatePartitions></Disk></DiskConfiguration>"
        )
    };
    let command = |order: &str| {
        format!(
            "<FirstLogonCommands><SynchronousCommand>{order}<CommandLine>x</CommandLine></SynchronousCommand></FirstLogonCommands>"
        )
    };
    let setup = "Microsoft-Windows-Setup";
    for (text, wanted) in [
        (unattend("oobeSystm", shell, ""), "did you mean oobeSystem?"),
        (unattend("oobeSystem", "Microsoft-Windows-Shel-Setup", ""), "did you mean Microsoft-Windows-Shell-Setup?"),
        (unattend("windowsPE", shell, ""), "no settings in the pass windowsPE"),
        (unattend("windowsPE", setup, "<DiskConfigration/>"), "did you mean <DiskConfiguration>?"),
        (unattend("oobeSystem", shell, &command("")), "no number"),
        (unattend("oobeSystem", shell, &command("<Order>0</Order>")), "numbers start with 1"),
        (unattend("oobeSystem", shell, &accounts(&["ann", "Ann"])), "two accounts have the name"),
        (unattend("oobeSystem", shell, &accounts(&["a/b"])), "which no account may have"),
        (unattend("oobeSystem", shell, &accounts(&["a-name-of-more-than-20-letters"])), "20 is the most"),
        (unattend("specialize", shell, "<ComputerName>A B</ComputerName>"), "which no machine's name may have"),
        (unattend("windowsPE", setup, "<UserData><ProductKey><Key>12345</Key></ProductKey></UserData>"), "five groups"),
        (unattend("windowsPE", setup, &partitions("<CreatePartition><Order>1</Order><Extend>true</Extend></CreatePartition><CreatePartition><Order>2</Order><Size>9</Size></CreatePartition>")), "leaves nothing"),
        (unattend("windowsPE", setup, &partitions("<CreatePartition><Order>1</Order><Size>9</Size></CreatePartition><CreatePartition><Order>1</Order><Size>9</Size></CreatePartition>")), "lie over the other"),
        (unattend("windowsPE", setup, "").replace("amd64", "x64"), "write amd64"),
        ("<unattend xmlns=\"urn:schemas-microsoft-com:unattend\"><settings></unattend>".into(), "well-formed XML"),
        ("<!DOCTYPE unattend SYSTEM \"file:///etc/passwd\"><unattend/>".into(), "document type"),
        ("d-i time/zone strin Europe/Paris\nd-i a/b string x\n".into(), "is no answer"),
        ("d-i passwd/user-fulname string x\n".into(), "did you mean passwd/user-fullname?"),
        ("d-i passwd/user-password password x\nd-i passwd/user-password-again password x\n".into(), "plain text"),
        ("d-i partman/confirm boolean yes\n".into(), "true or false"),
        ("d-i time/zone string Europe/Pariss\n".into(), "did you mean Europe/Paris?"),
        ("lang en_GB\nkeybord uk\ntimezone UTC\n".into(), "did you mean keyboard?"),
        ("lang en_GB\ntimezone UTC\nrootpw x\n".into(), "plain text"),
        ("lang en_GB\ntimezone UTC\n%packages\nvim\n".into(), "no %end"),
        ("lang en_GB\ntimezone UTC\nautopart\npart / --size=1\n".into(), "exclude each other"),
        ("#cloud-config\nautoinstall:\n  version: 1\n  localle: x\n  identity: {username: a, hostname: b, password: $6$x}\n".into(), "did you mean locale?"),
        ("autoinstall:\n  version: 1\n  identity: {username: a, hostname: b, password: $6$x}\n".into(), "#cloud-config"),
        ("#cloud-config\nautoinstall:\n  version: 1\n  a: &x [1]\n  b: *x\n".into(), "alias"),
    ] {
        fs::write(dir.join("a"), &text).unwrap();
        let (code, said) = check(dir, &["a"]);
        assert!((code == 1 || code == 4) && said.contains(wanted), "{wanted}: {code} {said}\n{text}");
        // As JSON it is the same.
        let output = neatstack(dir, &["answer", "check", "a", "--json"]);
        let report: Value = serde_json::from_slice(&output.stdout).unwrap();
        assert_eq!(report["exit_code"], code);
    }
    for (text, wanted) in [
        ("lang en_GB\ntimezone UTC\nclearpart --all\n", "everything on every disk"),
        ("lang en_GB\ntimezone UTC\n%pre\nwipefs -a /dev/sda\n%end\n", "wipefs"),
        (
            "d-i partman-auto/method string regular\nd-i partman/confirm boolean true\nd-i partman/confirm_nooverwrite boolean true\n",
            "everything on the disk",
        ),
        (
            "#cloud-config\nautoinstall:\n  version: 1\n  identity: {username: a, hostname: b, password: $6$x}\n",
            "largest disk",
        ),
    ] {
        fs::write(dir.join("a"), text).unwrap();
        let (code, said) = check(dir, &["a"]);
        assert!(code == 4 && said.contains(wanted), "{code} {said}");
        fs::write(dir.join("a"), format!("{text}# Neat Stack: erases = \"yes\"\n")).unwrap();
        assert_eq!(check(dir, &["a"]).0, 0);
    }
}

#[test]
fn a_media_with_two_answer_files_is_told_which_one_wins() {
    let (_keep, dir) = demo();
    fs::create_dir(dir.join("m")).unwrap();
    fs::copy(dir.join("bridge-answers.xml"), dir.join("m/autounattend.xml")).unwrap();
    fs::copy(dir.join("bridge-answers.xml"), dir.join("m/unattend.xml")).unwrap();
    let (code, text) = check(&dir, &["m"]);
    assert!(code == 4 && text.contains("autounattend.xml wins, unattend.xml is never read"), "{text}");
}

#[test]
fn plan_and_build_use_the_same_checks_and_the_media_says_what_it_does() {
    let (_keep, dir) = demo();
    let stack = |answer: &str| {
        let text = format!("[source]\nmedia = \"quay-os-7.iso\"\n{answer}\n[media]\niso = \"t.iso\"\n");
        fs::write(dir.join("t.stack.toml"), text).unwrap();
    };
    stack("[answer]\nfile = \"bridge-answers.xml\"");
    let plan = refused(&dir, &["plan", "t.stack.toml"]);
    assert!(plan.contains("line 17: system.edition") && plan.contains("danger"), "{plan}");
    stack(
        "[answer]\nfile = \"bridge.answer.toml\"\ndialects = [\"unattend\", \"kickstart\"]\naccept = [\"unsaid\"]",
    );
    ok(&dir, &["build", "t.stack.toml"]);
    ok(&dir, &["take", "t.iso", "autounattend.xml", "ks.cfg", "neatstack", "--to", "taken"]);
    let notice = fs::read_to_string(dir.join("taken/neatstack/what-this-does.txt")).unwrap();
    assert!(notice.contains("It erases everything on disk 0, and nobody is asked first.\r\n"), "{notice}");
    assert!(notice.contains("kickstart answers") && !notice.contains("made up for the demo"), "{notice}");
    let ledger = fs::read_to_string(dir.join("t.ledger.json")).unwrap();
    assert!(!ledger.contains("made up for the demo"));
    // Nobody said that erasing is meant.
    stack("[answer.model]\n[[answer.model.disk]]\nwipe = true\nnumber = 0");
    let (code, error) = fails(&dir, &["build", "t.stack.toml", "--replace"]);
    assert!(code == 4 && error.contains("erases = \"yes\""), "{error}");
    stack("[answer.model]\nerasse = \"yes\"");
    let (code, error) = fails(&dir, &["plan", "t.stack.toml"]);
    assert!(code == 2 && error.contains("line 4") && error.contains("erasse"), "{error}");
    stack("[answer]\nfile = \"bridge.answer.toml\"");
    fs::remove_file(dir.join("helm-password.txt")).unwrap();
    let (code, error) = fails(&dir, &["build", "t.stack.toml", "--replace"]);
    assert!(code == 2 && error.contains("helm-password.txt is not there"), "{error}");
}

#[test]
fn each_machine_of_a_list_gets_its_media() {
    let (_keep, dir) = demo();
    let plan = ok(&dir, &["plan", "fleet.stack.toml"]);
    assert!(
        plan.contains("KIOSK-03  BF7003  Old harbour, east") && plan.contains("out/KIOSK-02.iso"),
        "{plan}"
    );
    ok(&dir, &["build", "fleet.stack.toml", "--digest"]);
    for (name, quay) in [("KIOSK-01", "North quay"), ("KIOSK-03", "Old harbour, east")] {
        let iso = format!("out/{name}.iso");
        ok(&dir, &["take", &iso, "autounattend.xml", "--to", name]);
        let text = fs::read_to_string(dir.join(name).join("autounattend.xml")).unwrap();
        assert!(
            text.contains(&format!("<ComputerName>{name}</ComputerName>")) && text.contains(quay),
            "{text}"
        );
        let look = json(&dir, &["look", &iso, "--json", "--digest", "sha256"]);
        let ledger = json(&dir, &["look", &format!("out/{name}.ledger.json"), "--json"]);
        assert_eq!(look["label"], name);
        assert_eq!(look["digest"], format!("sha256 {}", ledger["output"]["sha256"].as_str().unwrap()));
        for file in ledger["files"].as_array().unwrap() {
            let listed = json(&dir, &["files", &iso, "--digest", "sha256", "--json"]);
            assert!(listed.as_array().unwrap().iter().any(|own| own["digest"] == file["sha256"]), "{file}");
        }
    }
    // One alone gives the same bytes as together with the others.
    let together = fs::read(dir.join("out/KIOSK-02.iso")).unwrap();
    fs::remove_file(dir.join("out/KIOSK-02.iso")).unwrap();
    ok(&dir, &["build", "fleet.stack.toml", "--only", "kiosk-02"]);
    assert!(fs::read(dir.join("out/KIOSK-02.iso")).unwrap() == together);
    let (code, error) = fails(&dir, &["build", "fleet.stack.toml", "--only", "KIOSK-2"]);
    assert!(code == 2 && error.contains("did you mean \"KIOSK-02\"?"), "{error}");
    // One media for all of them.
    let text = fs::read_to_string(dir.join("fleet.stack.toml")).unwrap();
    let one = text
        .replace("sites = \"machines.csv\"", "sites = \"machines.csv\"\nanswers_only = true")
        .replace("label = \"{name}\"", "label = \"FLEET\"")
        .replace("out/{name}.iso", "out/fleet.iso");
    for dialect in ["unattend", "preseed", "kickstart", "autoinstall", "autoyast"] {
        // The keyboards, owners and editions of the model are for one dialect alone.
        let model = one
            .replace("[answer]\n", "[answer]\naccept = [\"unsaid\"]\n")
            .replace("\"unattend\"", &format!("\"{dialect}\""))
            .replace("number = 0", "number = 0\ndevice = \"sda\"");
        fs::write(dir.join("one.stack.toml"), model).unwrap();
        ok(&dir, &["build", "one.stack.toml"]);
        let files = ok(&dir, &["files", "out/fleet.iso"]);
        assert_eq!(files.matches("neatstack/sites/BF700").count(), 3, "{files}");
        assert!(
            files.contains(match dialect {
                "unattend" => "neatstack/choose.cmd",
                "preseed" => "preseed.cfg",
                "kickstart" => "ks.cfg",
                "autoyast" => "autoinst.xml",
                _ => "user-data",
            }),
            "{files}"
        );
    }
}

#[test]
fn faults_of_a_list_name_their_row() {
    let (_keep, dir) = demo();
    for (list, wanted) in [
        ("name,serial,quay\nA-1,1,x\na-1,2,y\n", "row 3: the name \"a-1\" is the same as in row 2"),
        ("name,serial,quay\nA-1,1,x\nA-2,2,\n", "row 3: the cell \"quay\" is empty"),
        ("name,serial,quay\nA_1,1,x\n", "row 2: \"A_1\" has '_'"),
        ("name,serial,quay\nA-MUCH-TOO-LONG-NAME,1,x\n", "row 2: \"A-MUCH-TOO-LONG-NAME\" has 20 characters"),
        ("name,serial\nA-1,1\n", "need a column {quay}"),
    ] {
        fs::write(dir.join("machines.csv"), list).unwrap();
        let (code, error) = fails(&dir, &["build", "fleet.stack.toml"]);
        assert!(code == 4 && error.contains(wanted), "{wanted}: {error}");
        assert!(!dir.join("out").exists());
        let plan = refused(&dir, &["plan", "fleet.stack.toml"]);
        assert!(plan.contains(wanted), "{plan}");
    }
    fs::write(dir.join("machines.csv"), "name,serial,quay\nA-1,1\n").unwrap();
    let (code, error) = fails(&dir, &["plan", "fleet.stack.toml"]);
    assert!(code == 2 && error.contains("row 2: it has 2 cells, and there are 3 columns"), "{error}");
}

#[test]
fn a_thousand_machines_get_their_answers() {
    let (_keep, dir) = demo();
    let rows: String = (0..1000).map(|number| format!("PC-{number:04},S{number}\n")).collect();
    fs::write(dir.join("many.csv"), format!("name,serial\n{rows}")).unwrap();
    let model =
        fs::read_to_string(dir.join("bridge.answer.toml")).unwrap().replace("BRIDGE-{serial}", "{name}");
    fs::write(dir.join("many.answer.toml"), model).unwrap();
    ok(
        &dir,
        &[
            "answer",
            "write",
            "many.answer.toml",
            "--dialect",
            "unattend",
            "--sites",
            "many.csv",
            "-o",
            "answers",
        ],
    );
    assert_eq!(fs::read_dir(dir.join("answers")).unwrap().count(), 1000);
    let text = fs::read_to_string(dir.join("answers/PC-0777.xml")).unwrap();
    assert!(text.contains("<ComputerName>PC-0777</ComputerName>"));
}

#[test]
fn new_starts_a_model_and_schema_describes_it() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    let text = ok(
        dir,
        &["answer", "new", "--language", "da-DK", "--time-zone", "Europe/Copenhagen", "--account", "helm"],
    );
    fs::write(dir.join("a.answer.toml"), &text).unwrap();
    assert!(text.contains("# [[disk]]") && text.contains("\"da-DK\""), "{text}");
    assert_eq!(check(dir, &["a.answer.toml"]).0, 0);
    let keyed = text.replace("environment = \"SETUP_PASSWORD\"", "file = \"password.txt\"");
    fs::write(dir.join("a.answer.toml"), keyed).unwrap();
    fs::write(dir.join("password.txt"), "Harbour-7\n").unwrap();
    assert_eq!(check(dir, &["a.answer.toml", "--dialect", "unattend"]).0, 0);
    let (code, error) = fails(dir, &["answer", "new", "--time-zone", "Europe/Kopenhagen"]);
    assert!(code == 2 && error.contains("Europe/Copenhagen"), "{error}");
    let schema = json(dir, &["schema", "answer"]);
    assert!(schema["properties"]["disk"].is_object());
    let validator = jsonschema::validator_for(&schema).unwrap();
    let model = json(dir, &["answer", "new", "--json"]);
    assert!(validator.is_valid(&model), "{model}");
}

/// A model of one account, and what else it says.
fn one_account(dir: &Path, head: &str, account: &str) {
    let text = format!(
        "format = 1\n{head}\n[machine]\nname = \"KIOSK-1\"\n[[account]]\nname = \"harbour\"\n{account}\n"
    );
    fs::write(dir.join("one.answer.toml"), text).unwrap();
}

#[test]
fn what_would_go_wrong_is_not_written_until_it_is_accepted() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    let write = ["answer", "write", "one.answer.toml", "--dialect", "unattend", "-o", "a.xml"];
    one_account(dir, "", "groups = [\"administrators\"]");
    let (code, error) = fails(dir, &write);
    assert!(code == 4 && error.contains("harbour administers the machine and has no password"), "{error}");
    assert!(error.contains("--accept no-password") && !dir.join("a.xml").exists(), "{error}");
    // Another topic is no help; the right one is, in the model or beside the command.
    assert_eq!(fails(dir, &[write.as_slice(), &["--accept", "unsaid"]].concat()).0, 4);
    ok(dir, &[write.as_slice(), &["--accept", "no-password"]].concat());
    one_account(dir, "accept = [\"no-password\"]", "groups = [\"administrators\"]");
    ok(dir, &[write.as_slice(), &["--replace"]].concat());
    assert_eq!(check(dir, &["one.answer.toml", "--dialect", "unattend"]).0, 0);
    // Without a right to do harm, no password is no problem.
    one_account(dir, "", "groups = [\"users\"]");
    ok(dir, &[write.as_slice(), &["--replace"]].concat());

    for (word, wanted) in
        [("erases", "erases = \"yes\""), ("kept", "stops nothing"), ("nonsense", "unknown value")]
    {
        one_account(dir, &format!("accept = [\"{word}\"]"), "");
        let (code, error) = fails(dir, &write);
        assert!(code == 2 && error.contains(wanted), "{word}: {error}");
    }
}

#[test]
fn a_list_of_machines_is_refused_by_the_row_that_cannot_be() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    let model = "format = 1\n[machine]\nname = \"{name}\"\n[language]\nuser = \"{tongue}\"\n";
    fs::write(dir.join("m.answer.toml"), model).unwrap();
    let write = |rows: &str| {
        fs::write(dir.join("m.csv"), format!("name,tongue\n{rows}")).unwrap();
        let args = [
            "answer",
            "write",
            "m.answer.toml",
            "--dialect",
            "unattend",
            "--sites",
            "m.csv",
            "-o",
            "out",
            "--replace",
        ];
        let output = neatstack(dir, &args);
        (output.status.code(), String::from_utf8(output.stderr).unwrap())
    };
    assert_eq!(write("A-1,da-DK\nA-2,de-DE\n").0, Some(0));
    assert_eq!(names(&dir.join("out")), ["A-1.xml", "A-2.xml"]);
    let (code, error) = write("A-1,da-DK\nA-2,Danish!\n");
    assert!(code == Some(4) && error.contains("row 3, A-2: language.user: \"Danish!\""), "{error}");
    // `{name}` passes where a list fills it, and only there.
    fs::write(dir.join("m.csv"), "name,tongue\nA-1,da-DK\n").unwrap();
    let (code, text) = check(dir, &["m.answer.toml"]);
    assert!(code == 1 && text.contains("there is no {name}"), "{text}");
    assert_eq!(check(dir, &["m.answer.toml", "--sites", "m.csv"]).0, 0);
    fs::write(dir.join("m.csv"), "name,tong\nA-1,da-DK\n").unwrap();
    let (code, text) = check(dir, &["m.answer.toml", "--sites", "m.csv"]);
    assert!(code == 1 && text.contains("did you mean {tong}?"), "{text}");

    let new = ["answer", "new", "--machine", "{room}-PC", "-o", "n.answer.toml"];
    let (code, error) = fails(dir, &new);
    assert!(code == 2 && error.contains("there is no {room}"), "{error}");
    fs::write(dir.join("m.csv"), "name,room\nA-1,R1\n").unwrap();
    ok(dir, &[new.as_slice(), &["--sites", "m.csv"]].concat());
    assert!(fs::read_to_string(dir.join("n.answer.toml")).unwrap().contains("{room}-PC"));
}

#[test]
fn answers_of_a_menu_and_of_the_media_stop_a_plan_alike() {
    let (_keep, dir) = demo();
    one_account(&dir, "", "groups = [\"administrators\"]");
    let stack = |answer: &str| {
        let text = format!("[source]\nmedia = \"quay-os-7.iso\"\n{answer}\n[media]\niso = \"t.iso\"\n");
        fs::write(dir.join("t.stack.toml"), text).unwrap();
    };
    let entry = |accept: &str| {
        put_loaders(&dir);
        let text = format!(
            "[menu]\nbios_loader = \"loader\"\nuefi_loader = \"grub.efi\"\n[[menu.entry]]\nid = \"a\"\ntitle = \"A\"\n\
             kernel = \"vmlinuz\"\nanswer = {{ file = \"one.answer.toml\", at = \"media\"{accept} }}\n\
             [media]\nlabel = \"A\"\niso = \"t.iso\"\n"
        );
        fs::write(dir.join("t.stack.toml"), text).unwrap();
    };
    let plan = ["plan", "t.stack.toml"];
    stack("[answer]\nfile = \"one.answer.toml\"");
    assert!(refused(&dir, &plan).contains("accept it: accept = [\"no-password\"]"));
    assert_eq!(fails(&dir, &["build", "t.stack.toml"]).0, 4);
    stack("[answer]\nfile = \"one.answer.toml\"\naccept = [\"no-password\"]");
    let text = ok(&dir, &plan);
    assert!(text.contains("problem") && text.contains("has no password"), "{text}");
    entry("");
    assert!(refused(&dir, &plan).contains("has no password"));
    entry(", accept = [\"no-password\", \"asks\"]");
    ok(&dir, &plan);
}

#[test]
fn entries_of_a_menu_take_the_answers_of_the_whole_media() {
    let (_keep, dir) = demo();
    put_loaders(&dir);
    fs::write(dir.join("m.csv"), "name,serial\nLAB-1,BF-1\nLAB-2,BF-2\n").unwrap();
    fs::write(dir.join("lab.answer.toml"), "format = 1\n[machine]\nname = \"{name}\"\n").unwrap();
    let stack = |dialects: &str, answer: &str| {
        let text = format!(
            "[answer]\nfile = \"lab.answer.toml\"\ndialects = [{dialects}]\n[[variant]]\nsites = \"m.csv\"\nanswers_only = true\n\
             [menu]\nbios_loader = \"loader\"\nuefi_loader = \"grub.efi\"\n[[menu.entry]]\nid = \"a\"\ntitle = \"A\"\n\
             kernel = \"vmlinuz\"\noptions = \"quiet\"\nanswer = {answer}\n[media]\nlabel = \"LAB\"\niso = \"t.iso\"\n"
        );
        fs::write(dir.join("t.stack.toml"), text).unwrap();
    };
    for (dialects, wanted) in [
        ("\"preseed\"", "auto=true priority=critical file=/cdrom/preseed.cfg quiet"),
        ("\"kickstart\"", "inst.ks=hd:LABEL=LAB:/ks.cfg quiet"),
        ("\"unattend\", \"preseed\"", "file=/cdrom/preseed.cfg quiet"),
    ] {
        stack(dialects, "{ at = \"root\" }");
        ok(&dir, &["build", "t.stack.toml", "--replace"]);
        ok(&dir, &["unpack", "t.iso", "t"]);
        let menu = fs::read_to_string(dir.join("t/isolinux/isolinux.cfg")).unwrap();
        assert!(menu.contains(wanted), "{menu}");
        let sites = names(&dir.join("t/neatstack/sites"));
        assert!(sites.iter().any(|own| own.starts_with("BF-2.")), "{sites:?}");
        fs::remove_dir_all(dir.join("t")).unwrap();
    }
    // Where there are none, the entry says what is missing.
    stack("\"unattend\"", "{ at = \"root\" }");
    let (code, error) = fails(&dir, &["plan", "t.stack.toml"]);
    assert!(code == 2 && error.contains("at = \"root\" for those of [answer]"), "{error}");
    stack("\"preseed\"", "{ at = \"root\", dialect = \"kickstart\" }");
    assert_eq!(fails(&dir, &["plan", "t.stack.toml"]).0, 2);
}

#[test]
fn an_installer_is_told_where_its_answers_and_its_source_are() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    put_loaders(dir);
    fs::write(dir.join("one.answer.toml"), "format = 1\n[machine]\nname = \"QUAY-1\"\n").unwrap();
    let stack = |answer: &str| {
        let text = format!(
            "[menu]\nbios_loader = \"loader\"\nuefi_loader = \"grub.efi\"\n[[menu.entry]]\nid = \"a\"\ntitle = \"A\"\n\
             kernel = \"vmlinuz\"\ninitrd = [\"initrd\"]\nanswer = {{ {answer} }}\n[media]\nlabel = \"QUAY\"\niso = \"t.iso\"\n"
        );
        fs::write(dir.join("t.stack.toml"), text).unwrap();
    };
    let source = "source = \"http://192.0.2.9/leap\"";
    let file = "file = \"one.answer.toml\"";
    for (answer, wanted) in [
        (
            format!("{file}, dialect = \"autoyast\", at = \"media\""),
            "autoyast=label://QUAY/systems/a/autoinst.xml",
        ),
        (format!("{file}, dialect = \"autoyast\", at = \"root\""), "autoyast=label://QUAY/autoinst.xml"),
        (
            format!("{file}, dialect = \"autoyast\", at = \"initrd\", {source}"),
            "autoyast=file:///autoinst.xml install=http://192.0.2.9/leap",
        ),
        (
            format!("at = \"address\", address = \"http://192.0.2.1/autoinst.xml\", {source}"),
            "autoyast=http://192.0.2.1/autoinst.xml install=http://192.0.2.9/leap",
        ),
        (
            format!("{file}, dialect = \"kickstart\", at = \"initrd\", {source}"),
            "inst.ks=file:/ks.cfg inst.repo=http://192.0.2.9/leap",
        ),
    ] {
        stack(&answer);
        ok(dir, &["build", "t.stack.toml", "--replace"]);
        ok(dir, &["unpack", "t.iso", "t"]);
        let menu = fs::read_to_string(dir.join("t/isolinux/isolinux.cfg")).unwrap();
        assert!(menu.contains(wanted), "{wanted}: {menu}");
        let on_media = answer.contains("\"media\"").then_some("systems/a/autoinst.xml");
        let on_media = on_media.or(answer.contains("\"root\"").then_some("autoinst.xml"));
        if let Some(path) = on_media {
            let text = fs::read_to_string(dir.join("t").join(path)).unwrap();
            assert!(text.contains("<hostname>QUAY-1</hostname>"), "{text}");
        }
        fs::remove_dir_all(dir.join("t")).unwrap();
    }
    for (answer, wanted) in [
        (format!("{file}, dialect = \"preseed\", {source}"), "has no option for an installation source"),
        (format!("{file}, dialect = \"autoyast\", source = \"a b\""), "no address of an installation source"),
    ] {
        stack(&answer);
        let (code, error) = fails(dir, &["plan", "t.stack.toml"]);
        assert!(code == 2 && error.contains(wanted), "{error}");
    }
}

#[test]
fn a_control_file_goes_through_every_command() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    let model = "format = 1\nerases = \"yes\"\n[language]\nsetup = \"da-DK\"\nkeyboards = [\"da-DK\"]\n[machine]\nname = \"KIOSK-1\"\n\
        [[disk]]\ndevice = \"sda\"\nwipe = true\n[administrator]\nenabled = false\n[[account]]\nname = \"helm\"\n\
        password = { hash = \"$6$a$b\" }\n";
    fs::write(dir.join("k.answer.toml"), model).unwrap();
    ok(dir, &["answer", "write", "k.answer.toml", "--dialect", "autoyast", "-o", "autoinst.xml"]);
    let (code, text) = check(dir, &["autoinst.xml"]);
    assert!(code == 0 && text.contains("autoyast") && text.contains("everything on sda"), "{text}");
    let insert = ["answer", "insert", "autoinst.xml", "--stage", "first-start", "--command", "touch /a"];
    ok(dir, &insert);
    ok(
        dir,
        &["answer", "insert", "autoinst.xml", "--stage", "first-start", "--command", "touch /b", "--at", "1"],
    );
    let text = fs::read_to_string(dir.join("autoinst.xml")).unwrap();
    assert!(text.contains("<![CDATA[touch /b\ntouch /a\n]]>"), "{text}");
    ok(dir, &["answer", "read", "autoinst.xml", "-o", "again.answer.toml"]);
    let again = fs::read_to_string(dir.join("again.answer.toml")).unwrap();
    assert!(again.contains("dialect = \"autoyast\"") && !again.contains("$6$"), "{again}");
    ok(dir, &["answer", "write", "again.answer.toml", "--dialect", "autoyast", "-o", "second.xml"]);
    assert_eq!(fs::read_to_string(dir.join("second.xml")).unwrap(), text);
    // The same as kickstart, which has other words for it.
    let args = ["answer", "write", "again.answer.toml", "--dialect", "kickstart", "--accept", "unsaid"];
    let kickstart = ok(dir, &args);
    assert!(kickstart.contains("keyboard --xlayouts='dk'") && kickstart.contains("$6$a$b"), "{kickstart}");
    let look = json(dir, &["look", "autoinst.xml", "--json"]);
    assert!(look.to_string().contains("autoyast"), "{look}");
}

//! Answers of the generation before image files: files of others, changes to them, what is wrong in them, and what lies beside.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    reason = "a test that cannot go on has failed"
)]

use neat_answer::{
    AnswerFile, Dialect, Finding, Gravity, MediaFacts, Model, Secrets, SideFile, Topic, check_file,
    check_written, holds_secret,
    model::{Command, KeyChoice, SecretValue, Stage},
    read_file, write_model,
};
use neat_content::{Content, Meta, Timestamp, Tree};
use std::path::Path;

/// As somebody wrote it by hand: comments, blanks, lists, keys of other names, sections that the neutral form does not know.
const FOREIGN: &str = "; Tills of the north line\n\
[Data]\n\
    AutoPartition = 0\n\
    MsDosInitiated = \"0\" ; from a disc\n\
    UnattendedInstall=\"Yes\"\n\
\n\
[Unattended]\n\
    UnattendMode = ReadOnly\n\
    OemPreinstall=Yes\n\
    TargetPath=\\TILL\n\
    OemPnPDriversPath = drivers\\net;\\drivers\\print\\\n\
    DriverSigningPolicy=Ignore\n\
\n\
[GuiUnattended]\n\
    AdminPassword=*\n\
    TimeZone=085\n\
    AutoLogon=Yes\n\
    AutoLogonCount=2\n\
\n\
[UserData]\n\
    ProductID=\"AAAAA-BBBBB-CCCCC-DDDDD-EEEEE\"\n\
    FullName=\"Till \"\"two\"\"\"\n\
    ComputerName=*\n\
\n\
[RegionalSettings]\n\
    Language=00000406\n\
\n\
[GuiRunOnce]\n\
\"%systemdrive%\\install\\start.cmd\"\n\
Second=\"reg add HKCU\\Software\\Till /v Row /d 2 /f\"\n\
\n\
[params.MS_TCPIP]\n\
    AdapterSections=Till.Net\n\
[Till.Net]\n\
    SpecificTo=Adapter1\n\
    DHCP=No\n\
    IPAddress=192.0.2.7\n\
    SubnetMask=255.255.255.128\n\
    DefaultGateway=192.0.2.1,192.0.2.2\n\
[Identification]\n\
    JoinWorkgroup=TILLS\n";

fn file(text: &str) -> AnswerFile {
    AnswerFile::parse_as(text.as_bytes(), Some(Dialect::Sif)).unwrap()
}

fn changed(text: &str, change: impl FnOnce(&mut Model)) -> String {
    let changed = file(text).changed(|model| {
        change(model);
        Ok(())
    });
    String::from_utf8(changed.unwrap().0).unwrap()
}

fn model(text: &str) -> Model {
    Model::parse(&format!("format = 1\n{text}")).unwrap()
}

#[test]
fn a_file_of_somebody_else_is_understood() {
    assert_eq!(Dialect::of_text(FOREIGN), Some(Dialect::Sif));
    let reading = read_file(&file(FOREIGN)).unwrap();
    let own = &reading.model;
    assert_eq!(
        (own.system.folder.as_str(), own.system.key.as_ref()),
        ("TILL", Some(&KeyChoice::Origin(true)))
    );
    assert_eq!(reading.vault["system.key"], SecretValue::Plain("AAAAA-BBBBB-CCCCC-DDDDD-EEEEE".into()));
    assert_eq!((own.machine.owner.as_str(), own.machine.name.as_str()), ("Till \"two\"", "{random}"));
    assert_eq!(own.software.drivers, ["%SystemDrive%\\drivers\\net", "%SystemDrive%\\drivers\\print"]);
    let language = &own.language;
    assert_eq!((language.user.as_str(), language.system.as_str()), ("da-DK", "da-DK"));
    assert_eq!(
        (language.keyboards.join(" "), language.time_zone.as_str()),
        ("da-DK".into(), "Europe/London")
    );
    let runs: Vec<&str> = own.commands(Stage::FirstSignIn).map(|own| own.run.as_str()).collect();
    assert_eq!(runs, ["%systemdrive%\\install\\start.cmd"]);
    assert_eq!((own.registry[0].key.as_str(), own.registry[0].value.as_str()), ("HKCU\\Software\\Till", "2"));
    let fixed = own.network.fixed.as_ref().unwrap();
    assert_eq!((fixed.address.as_str(), fixed.gateway.as_str()), ("192.0.2.7/25", "192.0.2.1"));
    assert!(own.disk.is_empty() && own.administrator.password.is_none());
    // What has no word here is named with its line.
    let kept: Vec<(String, usize)> =
        reading.findings.iter().map(|own| (own.field.clone(), own.line.unwrap())).collect();
    for field in [
        "[Unattended] UnattendMode",
        "[Unattended] DriverSigningPolicy",
        "[GuiUnattended] AutoLogon",
        "[Identification] JoinWorkgroup",
    ] {
        let key = field.split(' ').next_back().unwrap();
        let line = 1 + FOREIGN.lines().position(|own| own.trim_start().starts_with(key)).unwrap();
        assert!(kept.contains(&(field.to_owned(), line)), "{field}: {kept:#?}");
    }
}

#[test]
fn only_what_is_changed_is_written_anew() {
    assert_eq!(changed(FOREIGN, |_| ()), FOREIGN);
    let named = changed(FOREIGN, |own| own.machine.name = "TILL-2".into());
    assert_eq!(named, FOREIGN.replace("ComputerName=*", "ComputerName=\"TILL-2\""));
    // One language for everything would win over what comes.
    let spoken = changed(FOREIGN, |own| own.language.keyboards = vec!["nb-NO".into()]);
    assert!(!spoken.contains("    Language="), "{spoken}");
    for line in
        ["SystemLocale=00000406", "UserLocale=00000406", "InputLocale=0414:00000414", "LanguageGroup=1"]
    {
        assert!(spoken.contains(line), "{line}\n{spoken}");
    }
    // A list of commands by other keys is written as one.
    let more = changed(FOREIGN, |own| own.command.insert(0, Command::new(Stage::FirstSignIn, "first.exe")));
    let list = more.split("[GuiRunOnce]\n").nth(1).unwrap().split("\n\n").next().unwrap();
    let lines: Vec<&str> = list.lines().collect();
    assert_eq!(lines.len(), 3, "{more}");
    assert!(lines[0].starts_with("Command0=\"reg.exe add") && lines[1] == "Command1=\"first.exe\"", "{list}");
    // A key by its former name keeps it.
    let keyed = changed(FOREIGN, |own| {
        own.system.key = Some(KeyChoice::Generic("FFFFF-GGGGG-HHHHH-IIIII-JJJJJ".into()));
    });
    assert!(
        keyed.contains("ProductID=\"FFFFF-GGGGG-HHHHH-IIIII-JJJJJ\"") && !keyed.contains("ProductKey"),
        "{keyed}"
    );
    // Addresses in sections by other names: all of them are in ours then.
    let moved = changed(FOREIGN, |own| own.network.fixed.as_mut().unwrap().address = "192.0.2.8/24".into());
    let again = read_file(&file(&moved)).unwrap().model.network.fixed.unwrap();
    assert_eq!((again.address.as_str(), again.gateway.as_str()), ("192.0.2.8/24", "192.0.2.1"));
    // Whatever is changed is read back.
    for text in [&named, &spoken, &more, &keyed, &moved] {
        assert!(text.contains("JoinWorkgroup=TILLS\n") && text.contains("UnattendMode = ReadOnly"), "{text}");
        assert_eq!(&changed(text, |_| ()), text);
    }
}

fn problems(text: &str, media: Option<&MediaFacts>) -> Vec<Finding> {
    let report = check_file(&file(text), media);
    report.findings.into_iter().filter(|own| own.gravity == Gravity::Problem).collect()
}

#[test]
fn what_is_wrong_is_said_with_its_line_and_what_to_do() {
    for (text, topic, line, message, hint) in [
        ("x\n[Unattended]\n", Topic::Dialect, 1, "before the first section", "section"),
        ("[Unattended]\nUnattendMod=ReadOnly\n", Topic::Dialect, 2, "no key UnattendMod", "UnattendMode"),
        ("[Unatended]\nUnattendMode=ReadOnly\n", Topic::Dialect, 2, "no section [Unatended]", "[Unattended]"),
        ("[Unattended]\nUnattendMode=FullUnatended\n", Topic::Value, 2, "no UnattendMode", "FullUnattended"),
        ("[Unattended]\nOemSkipEula=Maybe\n", Topic::Value, 2, "neither Yes nor No", "Yes or No"),
        ("[Unattended]\nOemSkipEula=Yes\noemskipeula=No\n", Topic::Dialect, 3, "said twice", "take one out"),
        ("[Unattended]\nTargetPath=C:\\QUAY\n", Topic::Value, 2, "no folder in the root", "without a drive"),
        (
            "[Unattended]\nOemPnPDriversPath=\"C:\\d\"\n",
            Topic::Value,
            2,
            "below the root",
            "leave the drive out",
        ),
        ("[GuiUnattended]\nTimeZone=7\n", Topic::Language, 2, "no time zone \"7\"", "such as 85"),
        (
            "[GuiUnattended]\nTimeZone=\"GMT Standard Time\"\n",
            Topic::Language,
            2,
            "no time zone",
            "did you mean 85?",
        ),
        (
            "[GuiUnattended]\nAdminPassword=anchor\n",
            Topic::PlainPassword,
            2,
            "in plain text",
            "after the first sign-in",
        ),
        ("[GuiUnattended]\nAdminPassword=*\n", Topic::NoPassword, 2, "has no password", "give it one"),
        ("[GuiUnattended]\nAdminPassword=a\nEncryptedAdminPassword=Yes\n", Topic::Value, 2, "not 64", "=No"),
        ("[UserData]\nProductKey=AAAAA\n", Topic::ProductKey, 2, "five groups", "correct it"),
        (
            "[UserData]\nComputerName=\"A NAME\"\n",
            Topic::MachineName,
            0,
            "which no machine's name may have",
            "letters",
        ),
        ("[Display]\nXresolution=wide\n", Topic::Value, 2, "is no number", "1024"),
        ("[RegionalSettings]\nUserLocale=da-DK\n", Topic::Language, 2, "no identifier", "00000406"),
        (
            "[RegionalSettings]\nInputLocale=0406\n",
            Topic::Language,
            2,
            "\"0406\" is no keyboard",
            "0406:00000406",
        ),
        (
            "[RegionalSettings]\nLanguage=0406\nUserLocale=0409\n",
            Topic::Dialect,
            3,
            "does not count",
            "one of them",
        ),
        ("[Components]\nCards=Gone\n", Topic::Value, 2, "neither On nor Off", "On or Off"),
        (
            "[Unattended]\nUnattendMode=FullUnattended\n",
            Topic::Asks,
            2,
            "no ComputerName: setup stops",
            "DefaultHide",
        ),
        (
            "[Data]\nAutoPartition=0\n[Unattended]\nRepartition=Yes\n",
            Topic::Asks,
            4,
            "where to install after",
            "\"1\"",
        ),
        ("[UserData]\nFullName=A\n", Topic::Asks, 0, "the section is missing", "add it"),
        (
            "[Identification]\nDomainAdminPassword=x\n",
            Topic::PlainPassword,
            2,
            "in plain text",
            "may do little",
        ),
    ] {
        let found = problems(text, None);
        let own = found.iter().find(|own| own.topic == topic && own.message.contains(message));
        let own = own.unwrap_or_else(|| panic!("{text}: {found:#?}"));
        assert_eq!(own.line.unwrap_or(0), line, "{text}: {own:?}");
        assert!(own.hint.contains(hint), "{text}: {own:?}");
    }
    // A sound one has none.
    let sound = "[Data]\nMsDosInitiated=0\nUnattendedInstall=Yes\nAutoPartition=0\n[Unattended]\nUnattendMode=DefaultHide\n\
        [GuiUnattended]\nTimeZone=85\n[Shell]\nAnything=1\n[Custom.Section]\nx=y\n";
    assert_eq!(problems(sound, None), []);
}

#[test]
fn erasing_is_seen_and_can_be_meant() {
    let text = "[Unattended]\nRepartition=Yes\n";
    let report = check_file(&file(text), None);
    assert!(report.is_dangerous() && report.erasure.line().contains("everything on the first disk"));
    let meant = changed(text, |own| own.erases = neat_answer::model::Erases::Yes);
    assert!(!check_file(&file(&meant), None).is_dangerous(), "{meant}");
    assert!(meant.starts_with("; Neat Stack: erases"), "{meant}");
    assert_eq!(changed(&meant, |own| own.erases = neat_answer::model::Erases::No), text);
    let command = "[GuiRunOnce]\n\"diskpart /s x.txt\"\n";
    assert!(check_file(&file(command), None).is_dangerous());
    // A script beside the answers counts as well.
    let model =
        model("[[script]]\nname = \"a.cmd\"\nstage = \"first-sign-in\"\ntext = \"diskpart /s x.txt\"\n");
    let written = write_model(&model, Dialect::Sif, &mut Secrets::default()).unwrap();
    assert!(check_written(&written, None).unwrap().erasure.is_some());
}

#[test]
fn what_it_cannot_say_is_said_with_what_to_do() {
    for (text, field, phrase) in [
        ("[[disk]]\nwipe = true\nonly_disk = true\n", "disk.only_disk", "looks at the disks"),
        ("[[disk]]\nwipe = true\nscheme = \"gpt\"\n", "disk.scheme", "from an MBR"),
        ("[[disk]]\nnumber = 1\nwipe = true\n", "disk.number", "the first disk"),
        (
            "[[disk]]\npartition = [{ kind = \"boot\", size = \"1GiB\" }, { kind = \"system\", size = \"rest\" }]\n",
            "disk.partition",
            "one partition",
        ),
        ("[[account]]\nname = \"a\"\npassword = { hash = \"$6$a$b\" }\n", "account.a.password", "no hashes"),
        (
            "[[account]]\nname = \"a\"\nautomatic_sign_ins = 1\n",
            "account.automatic_sign_ins",
            "only the administrator",
        ),
        (
            "[[account]]\nname = \"a\"\npassword_never_expires = true\n",
            "account.password_never_expires",
            "no word",
        ),
        ("[administrator]\nenabled = false\n", "administrator.enabled", "sign in first"),
        ("[machine]\nname = \"T-{serial}\"\n", "machine.name", "before the machine is seen"),
        ("[system]\nkey = { none = true }\n", "system.key", "asks for a key"),
        ("[language]\ntime_zone = \"Europe/Istanbul\"\n", "language.time_zone", "no number"),
        ("[network.wireless]\nname = \"deck\"\n", "network.wireless", "no wireless"),
        (
            "[network.static]\ninterface = \"a\"\naddress = \"2001:db8::5/64\"\n",
            "network.static.address",
            "version 4",
        ),
        ("[[command]]\nstage = \"setup-start\"\nrun = \"a\"\n", "command", "no such stage"),
        ("[[command]]\nstage = \"first-sign-in\"\nrun = \"a\"\nwait = false\n", "command", "waited for"),
        ("[[command]]\nstage = \"system-installed\"\nrun = \"a\\nb\"\n", "command", "several lines"),
        (
            "[[script]]\nname = \"a.ps1\"\nstage = \"system-installed\"\ntext = \"x\"\n",
            "script",
            ".cmd, .bat",
        ),
        ("[[registry]]\nkey = 'HKLM\\A'\ntype = \"qword\"\nvalue = \"1\"\n", "registry", "64 bits"),
        ("[software]\ndrivers = ['D:\\x']\n", "software.drivers", "not on the system's own drive"),
        ("[software]\nupdates = ['D:\\x']\n", "software.updates", "none from a folder"),
        ("[software]\nadd = [\"a=b\"]\n", "[Components] a=b", "a name with a sign"),
        ("[machine]\nowner = \"a\\n[Data]\"\n", "[UserData] FullName", "several lines"),
        ("[power]\nsleep_minutes = 5\n", "power.sleep_minutes", "no word"),
    ] {
        let written = write_model(&model(text), Dialect::Sif, &mut Secrets::default()).unwrap();
        let own = written.findings.iter().find(|own| own.field == field && own.message.contains(phrase));
        let own = own.unwrap_or_else(|| panic!("{text}: {:#?}", written.findings));
        assert_eq!((own.topic, own.hint.is_empty()), (Topic::Unsaid, false), "{own:?}");
    }
    for text in
        ["[system]\nedition = 1\n", "waive = [\"memory\"]\n", "[first_start]\nprivacy = \"decline\"\n"]
    {
        let written = write_model(&model(text), Dialect::Sif, &mut Secrets::default()).unwrap();
        assert!(written.findings.iter().any(|own| own.topic == Topic::Needless), "{text}");
    }
}

fn beside<'a>(files: &'a [SideFile], end: &str) -> &'a SideFile {
    files.iter().find(|own| own.path.ends_with(end)).unwrap()
}

#[test]
fn what_runs_lies_beside_the_answers() {
    let tests = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests");
    let path = tests.join("golden/purser.answer.toml");
    let mut model = Model::parse(&std::fs::read_to_string(path).unwrap()).unwrap();
    let mut secrets = Secrets { base: tests.join("data"), ..Secrets::default() };
    let secret = Some(neat_answer::model::Secret::File("secret.txt".into()));
    model.account[0].password.clone_from(&secret);
    model.account[0].groups.push("administrators".into());
    model.administrator.password = secret;
    model.script = vec![neat_answer::model::Script {
        name: "till.cmd".into(),
        stage: Stage::SystemInstalled,
        text: "echo till\n".into(),
        from: String::new(),
        carried: neat_answer::model::Carried::Inside,
    }];
    let written = write_model(&model, Dialect::Sif, &mut secrets).unwrap();
    let paths: Vec<&str> = written.files.iter().map(|own| own.path.as_str()).collect();
    assert_eq!(
        paths,
        ["$OEM$/$1/neatstack/till.cmd", "$OEM$/$1/neatstack/installed.cmd", "$OEM$/cmdlines.txt"]
    );
    let batch = String::from_utf8(beside(&written.files, "installed.cmd").bytes.clone()).unwrap();
    for line in [
        "net.exe user \"purser\" \"anchor & chain \\\"7\\\"\" /add /y /fullname:\"The purser\"",
        "net.exe localgroup \"tills\" /add >nul 2>&1",
        "net.exe localgroup \"tills\" \"purser\" /add",
        "net.exe localgroup \"%administrators%\" \"purser\" /add",
        "reg.exe add \"HKLM\\SOFTWARE\\Brackwater\\Till\" /v \"Line\" /t REG_SZ /d \"COM1\" /f",
        "call %SystemDrive%\\tools\\tickets.cmd /quiet ^& rem 100%%",
        "cmd.exe /c \"%SystemDrive%\\neatstack\\till.cmd\"",
    ] {
        assert!(batch.lines().any(|own| own == line), "{line}\n{batch}");
    }
    assert!(!batch.contains("clock.exe"), "it runs beside setup: {batch}");
    // A file that is there has the same beside it, but for scripts, whose text it does not have.
    let again = written.file().unwrap().side_files().unwrap();
    assert_eq!(beside(&again, "installed.cmd"), beside(&written.files, "installed.cmd"));
    // A list of commands keeps its own.
    let list = beside(&written.files, "cmdlines.txt");
    let there = "[Commands]\r\n\"a.exe /x\"\r\n\r\n[Other]\r\ny=1\r\n";
    let joined = String::from_utf8(list.beside(there.as_bytes())).unwrap();
    let ours = "\"cmd.exe /c %SystemDrive%\\neatstack\\installed.cmd\"";
    assert_eq!(joined, format!("[Commands]\r\n\"a.exe /x\"\r\n{ours}\r\n\r\n[Other]\r\ny=1\r\n"));
    assert_eq!(String::from_utf8(list.beside(joined.as_bytes())).unwrap(), joined, "twice is once");
    assert!(String::from_utf8(list.beside(b"")).unwrap().contains(ours));
    // Passwords are seen, in the answers and in the batch file.
    assert!(holds_secret(&written.bytes));
    // Whoever changes what runs is told that the batch file is another then.
    let file = written.file().unwrap();
    let changed = file.changed(|own| {
        own.command.push(Command::new(Stage::SystemInstalled, "more.exe"));
        Ok(())
    });
    let findings = changed.unwrap().1;
    assert!(
        findings.iter().any(|own| own.topic == Topic::ByHand && own.message.contains("installed.cmd")),
        "{findings:?}"
    );
}

#[test]
fn letters_are_stored_so_that_setup_can_read_them() {
    let bytes = |owner: &str| {
        let model = model(&format!("[machine]\nowner = \"{owner}\"\n"));
        let written = write_model(&model, Dialect::Sif, &mut Secrets::default()).unwrap();
        let told = written.findings.iter().any(|own| own.topic == Topic::Unchecked);
        assert_eq!(read_file(&written.file().unwrap()).unwrap().model.machine.owner, owner);
        (written.bytes, told)
    };
    let (plain, told) = bytes("Anna");
    assert!(plain.is_ascii() && !told);
    let (western, told) = bytes("Åse");
    assert!(western.windows(3).any(|own| own == b"\xC5se") && told, "one byte for each letter");
    let (others, told) = bytes("Оля");
    assert!(others.starts_with(b"\xFF\xFE") && told, "UTF-16");
}

#[test]
fn answers_have_on_the_media_what_they_name() {
    let text = "[Data]\nMsDosInitiated=0\nUnattendedInstall=Yes\n[Unattended]\nOemPnPDriversPath=\"drivers\\net;drivers\\none\"\n";
    let mut tree = Tree::new(Meta::at(Timestamp::from_seconds(0)));
    let put = |tree: &mut Tree, path: &str| {
        tree.put_file(path, Content::from_bytes(b"x".as_slice()), Meta::at(Timestamp::from_seconds(0)))
            .unwrap();
    };
    put(&mut tree, "I386/TXTSETUP.SIF");
    put(&mut tree, "$OEM$/$1/drivers/net/a.inf");
    put(&mut tree, "$OEM$/$1/drivers/none/read.me");
    let found = problems(text, Some(&MediaFacts::of_tree(&tree)));
    let says = |found: &[Finding], phrase: &str| found.iter().any(|own| own.message.contains(phrase));
    assert!(says(&found, "drivers\\none has no .inf file") && !says(&found, "drivers\\net"), "{found:#?}");
    assert!(says(&found, "setup does not look there"), "{found:#?}");
    let other =
        text.replace("drivers\\none", "gone").replace("[Unattended]\n", "[Unattended]\nOemPreinstall=Yes\n");
    let found = problems(&other, Some(&MediaFacts::of_tree(&tree)));
    assert!(
        says(&found, "the folder gone is not in $OEM$/$1") && !says(&found, "does not look there"),
        "{found:#?}"
    );
    // What runs is there, and is what the answers say.
    let model = model("[[command]]\nstage = \"system-installed\"\nrun = \"a.exe\"\n");
    let written = write_model(&model, Dialect::Sif, &mut Secrets::default()).unwrap();
    let found = problems(&written.text, Some(&MediaFacts::of_tree(&tree)));
    assert!(says(&found, "installed.cmd is not on the media"), "{found:#?}");
    for own in &written.files {
        tree.put_file(
            &own.path,
            Content::from_bytes(own.bytes.as_slice()),
            Meta::at(Timestamp::from_seconds(0)),
        )
        .unwrap();
    }
    assert_eq!(problems(&written.text, Some(&MediaFacts::of_tree(&tree))), []);
    put(&mut tree, "$OEM$/$1/neatstack/installed.cmd");
    let found = problems(&written.text, Some(&MediaFacts::of_tree(&tree)));
    assert!(says(&found, "has other bytes"), "{found:#?}");
    // Two setups on a media each have their own; another name in the root competes.
    put(&mut tree, "I386/WINNT.SIF");
    put(&mut tree, "AMD64/WINNT.SIF");
    let competing = |tree: &Tree| {
        problems(text, Some(&MediaFacts::of_tree(tree))).iter().any(|own| own.topic == Topic::Competing)
    };
    assert!(!competing(&tree));
    put(&mut tree, "unattend.txt");
    assert!(competing(&tree));
}

#[test]
fn hostile_texts_are_refused_or_read_in_time() {
    let many = "[a]\n".repeat(100_001);
    let error = read_file(&file(&many)).unwrap_err();
    assert!(error.to_string().contains("lines of an answer file"), "{error}");
    for text in [
        "x=1\n".repeat(20_000),
        (0..20_000).map(|n| format!("[s{n}]\n")).collect::<String>(),
        format!("[GuiRunOnce]\n{}", "Command0=\"\"\"\n".repeat(20_000)),
        format!("[NeatStack]\n{}", (0..20_000).map(|n| format!("Run{n}=\"a\"\n")).collect::<String>()),
        format!("[Unattended]\nTargetPath={}\n", "%a".repeat(1 << 20)),
        "[Unattended\n]=\n[=]\n\"\n=\n[Unattended]\n=\n\"=\"=\"\"\"\n".to_owned(),
    ] {
        let own = file(&text);
        let reading = read_file(&own).unwrap();
        check_file(&own, None);
        let (bytes, _) = own.changed(|_| Ok(())).unwrap();
        assert_eq!(bytes, text.as_bytes(), "{}", reading.findings.len());
        own.changed(|model| {
            model.command.clear();
            Ok(())
        })
        .unwrap();
    }
}

//! What is wrong with a model whatever the dialect, and what each dialect cannot say of one.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use neat_answer::{
    Dialect, EditionFact, Finding, Gravity, MediaFacts, Model, Secrets, Topic, check_model,
    model::Architecture, write_model,
};

fn model(text: &str) -> Model {
    Model::parse(&format!("format = 1\n{text}")).unwrap_or_else(|error| panic!("{text}: {error}"))
}

fn about(findings: &[Finding], field: &str, phrase: &str) -> Option<Finding> {
    findings.iter().find(|own| own.field == field && own.message.contains(phrase)).cloned()
}

#[test]
fn each_fault_of_a_model_is_found_with_what_to_do() {
    let sound = "[machine]\nname = \"QUAY-1\"\n[[account]]\nname = \"helm\"\n[[disk]]\nnumber = 0\n\
        partition = [{ kind = \"efi\", size = \"300MiB\" }, { kind = \"system\", size = \"rest\", letter = \"C\" }]\n";
    let report = check_model(&model(sound), None);
    assert!(!report.has_problems(), "{:?}", report.findings);
    for (text, topic, field, phrase, hint) in [
        (
            "[machine]\nname = \"A-NAME-THAT-IS-LONG\"\n",
            Topic::MachineName,
            "machine.name",
            "15 is the most",
            "shorten",
        ),
        ("[machine]\nname = \"12345\"\n", Topic::MachineName, "machine.name", "nothing but digits", "letter"),
        ("[machine]\nname = \"quay{\"\n", Topic::MachineName, "machine.name", "without its }", "close"),
        (
            "[machine]\nname = \"quay-{nonsense}\"\n",
            Topic::MachineName,
            "machine.name",
            "no {nonsense}",
            "{serial}",
        ),
        (
            "[machine]\nname = \"q-{random:99}\"\n",
            Topic::MachineName,
            "machine.name",
            "no {random:99}",
            "{random:4}",
        ),
        ("[[account]]\nname = \"\"\n", Topic::Account, "account", "has no name", "give it one"),
        ("[[account]]\nname = \"a/b\"\n", Topic::Account, "account", "'/'", "another character"),
        (
            "[[account]]\nname = \"twenty-one-characters\"\n",
            Topic::Account,
            "account",
            "20 is the most",
            "shorten",
        ),
        ("[[account]]\nname = \"ann.\"\n", Topic::Account, "account", "full stop", "take it away"),
        (
            "[[account]]\nname = \"ann\"\n[[account]]\nname = \"ANN\"\n",
            Topic::Account,
            "account",
            "two accounts have the name",
            "its own",
        ),
        (
            "[machine]\nname = \"ann\"\n[[account]]\nname = \"ANN\"\n",
            Topic::Account,
            "account",
            "the name of the machine",
            "another name",
        ),
        (
            "[[account]]\nname = \"ann\"\ngroups = [\"administrators\"]\n",
            Topic::NoPassword,
            "account.ann.password",
            "administers the machine and has no password",
            "password =",
        ),
        (
            "[administrator]\nenabled = true\n",
            Topic::NoPassword,
            "administrator.password",
            "can sign in and has no password",
            "password =",
        ),
        (
            "[[disk]]\nnumber = 0\npartition = [{ kind = \"system\", size = \"rest\" }, { kind = \"data\", size = \"5GB\" }]\n",
            Topic::Disk,
            "disk",
            "leaves nothing for those after it",
            "put it last",
        ),
        (
            "[[disk]]\nnumber = 0\npartition = [{ kind = \"system\", size = \"rest\" }, { kind = \"data\", size = \"rest\" }]\n",
            Topic::Disk,
            "disk",
            "two partitions take the rest",
            "a size",
        ),
        (
            "[[disk]]\nnumber = 0\npartition = [{ kind = \"system\", size = \"0\" }]\n",
            Topic::Disk,
            "disk",
            "has no size",
            "300MiB",
        ),
        (
            "[[disk]]\nnumber = 0\npartition = [{ kind = \"efi\", size = \"1GB\", label = \"TWELVE-CHARS\" }]\n",
            Topic::Disk,
            "disk",
            "longer than 11 characters",
            "shorten",
        ),
        (
            "[[disk]]\nnumber = 0\npartition = [{ kind = \"data\", size = \"1GB\", letter = \"7\" }]\n",
            Topic::Disk,
            "disk",
            "no drive letter",
            "use a letter",
        ),
        (
            "[[disk]]\nnumber = 0\npartition = [{ kind = \"data\", size = \"1GB\", letter = \"d\" }, { kind = \"data\", size = \"1GB\", letter = \"D\" }]\n",
            Topic::Disk,
            "disk",
            "two partitions have the letter D",
            "its own",
        ),
        ("[[disk]]\nat_least = \"9GB\"\nat_most = \"8GB\"\n", Topic::Disk, "disk", "at least", "correct one"),
        (
            "[[disk]]\nat_most = \"1GiB\"\npartition = [{ kind = \"system\", size = \"2GiB\" }]\n",
            Topic::Disk,
            "disk",
            "the partitions need",
            "smaller",
        ),
        (
            "[[disk]]\nnumber = 1\n[[disk]]\nnumber = 1\n",
            Topic::Disk,
            "disk",
            "laid out twice",
            "one [[disk]]",
        ),
        (
            "[[disk]]\nscheme = \"mbr\"\npartition = [{ kind = \"boot\", size = \"1GB\" }, { kind = \"data\", size = \"1GB\" }, { kind = \"data\", size = \"1GB\" }, { kind = \"data\", size = \"1GB\" }, { kind = \"data\", size = \"1GB\" }]\n",
            Topic::Disk,
            "disk",
            "room for 4 partitions",
            "GPT",
        ),
        ("[language]\nsetup = \"da_DK\"\n", Topic::Language, "language.setup", "no language tag", "da-DK"),
        (
            "[language]\ntime_zone = \"Europe/Berln\"\n",
            Topic::Language,
            "language.time_zone",
            "no time zone",
            "Europe/Berlin",
        ),
        ("[language]\nkeyboards = [\"xx-QQ\"]\n", Topic::Language, "language.keyboards", "no keyboard", ""),
        (
            "[system]\nkey = { generic = \"AAAAA-BBBBB\" }\n",
            Topic::ProductKey,
            "system.key",
            "five groups",
            "correct it",
        ),
        (
            "[[script]]\nname = \"../x.cmd\"\nstage = \"system-installed\"\ntext = \"x\"\n",
            Topic::Script,
            "script",
            "no file name",
            "letters",
        ),
        (
            "[network]\nstatic = { interface = \"e\", address = \"192.0.2.5\" }\n",
            Topic::Network,
            "network.static.address",
            "no address with the length",
            "/24",
        ),
        (
            "[network]\nstatic = { interface = \"e\", address = \"192.0.2.5/24\", gateway = \"quay\" }\n",
            Topic::Network,
            "network.static",
            "no address",
            "192.0.2.1",
        ),
        (
            "[[registry]]\nkey = 'HKLM\\A'\nname = \"n\"\ntype = \"dword\"\nvalue = \"many\"\n",
            Topic::Value,
            "registry",
            "no number of 32 bits",
            "0x",
        ),
        (
            "[distribution]\nmirror = \"mirror\"\n",
            Topic::Value,
            "distribution.mirror",
            "no address of a mirror",
            "http://",
        ),
    ] {
        let report = check_model(&model(text), None);
        let found = about(&report.findings, field, phrase);
        let found = found.unwrap_or_else(|| panic!("{text}: {:?}", report.findings));
        assert_eq!((found.topic, found.gravity), (topic, Gravity::Problem), "{text}");
        assert!(found.hint.contains(hint), "{text}: {}", found.hint);
        assert!(
            report.has_problems()
                && !report.accepting(&[topic]).findings.iter().all(|own| own.stops(&[topic]))
        );
    }
}

#[test]
fn a_model_is_held_against_the_media_that_it_is_for() {
    let media = MediaFacts {
        architectures: vec![Architecture::X64],
        editions: vec![
            EditionFact { number: 1, name: "Quay OS 7 Bridge".into(), version: "7.0.7042".into() },
            EditionFact { number: 2, name: "Quay OS 7 Kiosk".into(), version: "7.0.7042".into() },
        ],
        ..MediaFacts::default()
    };
    for (text, phrase) in [
        ("[system]\nedition = \"Quay OS 7 Bridge\"\n", ""),
        ("[system]\nedition = 2\n", ""),
        ("[system]\nedition = \"ask\"\n", ""),
        ("[system]\nedition = \"Quay OS 7 Brigde\"\n", "did you mean \"Quay OS 7 Bridge\"?"),
        ("[system]\nedition = \"Something\"\n", "1 Quay OS 7 Bridge, 2 Quay OS 7 Kiosk"),
        ("[system]\nedition = 3\n", "1 Quay OS 7 Bridge, 2 Quay OS 7 Kiosk"),
        ("architectures = [\"arm64\"]\n", "add the media's architecture"),
    ] {
        let report = check_model(&model(text), Some(&media));
        let problems: Vec<&Finding> =
            report.findings.iter().filter(|own| own.gravity == Gravity::Problem).collect();
        if phrase.is_empty() {
            assert!(problems.is_empty(), "{text}: {problems:?}");
        } else {
            assert!(problems.len() == 1 && problems[0].hint.contains(phrase), "{text}: {problems:?}");
        }
    }
}

/// What is found when a model is written in a dialect.
fn written(text: &str, dialect: Dialect) -> Vec<Finding> {
    let base = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data");
    let mut secrets = Secrets { base, ..Secrets::default() };
    write_model(&model(text), dialect, &mut secrets).unwrap().findings
}

#[test]
fn what_a_dialect_cannot_say_is_said_with_what_to_do() {
    use Dialect::{Autoinstall, Autoyast, Kickstart, Preseed, Unattend};
    const LINUX: [Dialect; 4] = [Preseed, Kickstart, Autoinstall, Autoyast];
    for (text, dialects, field, phrase) in [
        ("[language]\nsetup = \"en-GB\"\nuser = \"da-DK\"\n", &LINUX[..], "language.user", "one language"),
        ("[language]\nkeyboards = [\"0c0c:00aa0001\"]\n", &LINUX, "language.keyboards", "no layout of X"),
        ("[software]\ndrivers = ['D:\\d']\n", &LINUX, "software.drivers", "with the kernel"),
        ("[software]\nupdates = ['D:\\u']\n", &LINUX, "software.updates", "from the mirror"),
        ("[power]\nsleep_minutes = 5\n", &LINUX, "power", "no say in when a machine sleeps"),
        (
            "[[account]]\nname = \"a\"\nautomatic_sign_ins = 1\n",
            &LINUX,
            "account.automatic_sign_ins",
            "not signed in by itself",
        ),
        ("[[disk]]\nnumber = 0\n", &LINUX, "disk.device", "disks have names"),
        ("[[command]]\nstage = \"first-sign-in\"\nrun = \"c\"\n", &LINUX, "command", "no such stage"),
        ("[[command]]\nstage = \"system-installed\"\nrun = \"a\\nb\"\n", &LINUX, "command", "several lines"),
        (
            "[[script]]\nname = \"a.sh\"\nstage = \"every-sign-in\"\ntext = \"x\"\n",
            &LINUX,
            "script",
            "no such stage",
        ),
        (
            "[distribution]\nmirror = \"http://a/b\"\n",
            &[Autoyast],
            "distribution.mirror",
            "where it installs from",
        ),
        ("[distribution]\nkernel = \"linux\"\n", &[Kickstart], "distribution.kernel", "a package as others"),
        (
            "[distribution]\nkernel_options = \"quiet\"\n",
            &[Autoinstall],
            "distribution.kernel_options",
            "no word",
        ),
        ("[distribution]\nrecommends = false\n", &[Autoinstall], "distribution.recommends", "no word"),
        (
            "[network]\ninterface = \"auto\"\n",
            &[Autoinstall, Autoyast],
            "network.interface",
            "all that have a link",
        ),
        ("[system]\nedition = 2\n", &[Autoinstall, Autoyast], "system.edition", "have names"),
        (
            "[machine]\ndomain = \"a.example\"\n",
            &[Kickstart, Autoinstall, Autoyast],
            "machine.domain",
            " name",
        ),
        (
            "[language]\nkeyboards = [\"da-DK\", \"en-GB\"]\n",
            &[Autoyast],
            "language.keyboards",
            "one keyboard",
        ),
        (
            "[network]\nwireless = { name = \"n\", hidden = true }\n",
            &[Preseed, Kickstart, Autoyast],
            "network.wireless.hidden",
            "does not ask",
        ),
        ("[software]\nadd = [\"vim\"]\n", &[Unattend], "software.add", "not installed by it"),
        ("[power]\nwhen_done = \"off\"\n", &[Unattend], "power.when_done", "starts again by itself"),
        (
            "[[command]]\nstage = \"first-start\"\nrun = \"c\"\n",
            &[Unattend],
            "command",
            "before somebody signs in",
        ),
        (
            "[[command]]\nstage = \"first-sign-in\"\nrun = \"c\"\nwait = false\n",
            &[Unattend],
            "command",
            "are waited for",
        ),
        (
            "[[script]]\nname = \"a.cmd\"\nstage = \"setup-start\"\ntext = \"x\"\n",
            &[Unattend],
            "script",
            "cannot be unpacked",
        ),
        (
            "[[account]]\nname = \"a\"\npassword = { hash = \"$6$a$b\" }\n",
            &[Unattend],
            "account.a.password",
            "no hashes",
        ),
        ("[[disk]]\ndevice = \"sda\"\n", &[Unattend], "disk.device", "disks have numbers"),
        (
            "[[disk]]\nnumber = 0\npartition = [{ kind = \"system\", size = \"rest\", file_system = \"ext4\" }]\n",
            &[Unattend],
            "disk.partition.file_system",
            "NTFS and FAT32",
        ),
        (
            "[[disk]]\nnumber = 0\nscheme = \"gpt\"\npartition = [{ kind = \"system\", size = \"rest\" }]\n",
            &[Unattend],
            "disk.scheme",
            "firmware that starts setup decides",
        ),
    ] {
        // What the older generation cannot say is in a test of its own.
        for dialect in Dialect::ALL.iter().copied().filter(|own| *own != Dialect::Sif) {
            let findings = written(text, dialect);
            let found = about(&findings, field, phrase).filter(|own| own.topic == Topic::Unsaid);
            if dialects.contains(&dialect) {
                let found = found.unwrap_or_else(|| panic!("{}: {text}: {findings:?}", dialect.name()));
                assert_eq!((found.topic, found.gravity), (Topic::Unsaid, Gravity::Problem), "{text}");
                assert!(!found.hint.is_empty() && found.message.starts_with(dialect.name()), "{found:?}");
            } else {
                assert!(found.is_none(), "{}: {text}: {found:?}", dialect.name());
            }
        }
    }
}

#[test]
fn what_a_system_has_no_use_for_is_a_note() {
    for (text, without, field) in [
        ("[distribution]\nmirror = \"http://a/b\"\n", Dialect::Unattend, "distribution.mirror"),
        ("[distribution]\nfirmware = true\n", Dialect::Kickstart, "distribution.firmware"),
        ("[distribution]\nrecommends = true\n", Dialect::Kickstart, "distribution.recommends"),
        ("[power]\nleave_disc = true\n", Dialect::Autoinstall, "power.leave_disc"),
        ("[network]\ninterface = \"auto\"\n", Dialect::Unattend, "network.interface"),
        ("waive = [\"memory\"]\n", Dialect::Preseed, "waive"),
        ("prevent_encryption = true\n", Dialect::Kickstart, "prevent_encryption"),
        ("[machine]\nowner = \"A\"\n", Dialect::Autoyast, "machine.owner"),
        ("[network]\nplace = \"home\"\n", Dialect::Preseed, "network.place"),
        ("[software]\nconfiguration_set = true\n", Dialect::Kickstart, "software.configuration_set"),
        ("[first_start]\noffline_account = true\n", Dialect::Autoinstall, "first_start.offline_account"),
    ] {
        let findings = written(text, without);
        let found = about(&findings, field, "").unwrap_or_else(|| panic!("{text}: {findings:?}"));
        assert_eq!((found.topic, found.gravity), (Topic::Needless, Gravity::Note), "{text}");
    }
}

#[test]
fn scripts_that_are_too_long_for_commands_go_to_the_media() {
    for (dialect, len, path) in [
        (Dialect::Unattend, 5_000, "sources/$OEM$/$1/neatstack/long.cmd"),
        (Dialect::Preseed, 100_000, "neatstack/long.cmd"),
        (Dialect::Autoinstall, 100_000, "neatstack/long.cmd"),
    ] {
        let text = |len: usize| {
            format!(
                "[[script]]\nname = \"long.cmd\"\nstage = \"system-installed\"\ntext = \"{}\"\n",
                "rem x\\n".repeat(len / 6)
            )
        };
        let write = |text: &str| write_model(&model(text), dialect, &mut Secrets::default()).unwrap();
        let short = write(&text(600));
        assert!(short.files.is_empty() && short.findings.iter().all(|own| own.topic != Topic::ByHand));
        let long = write(&text(len));
        assert_eq!(long.files.len(), 1, "{}", dialect.name());
        assert_eq!(long.files[0].path, path);
        assert!(long.files[0].bytes.len() >= len / 6 * 6);
        assert!(
            about(&long.findings, "script", "it is a file on the media").is_some(),
            "{:?}",
            long.findings
        );
        assert!(long.text.len() < short.text.len() + 400, "{}", long.text);
        // Nothing of it stops a build.
        assert!(long.findings.iter().all(|own| own.gravity == Gravity::Note), "{:?}", long.findings);
    }
    for dialect in [Dialect::Kickstart, Dialect::Autoyast] {
        let text = format!(
            "[[script]]\nname = \"long.sh\"\nstage = \"system-installed\"\ntext = \"{}\"\n",
            "true\\n".repeat(40_000)
        );
        let written = write_model(&model(&text), dialect, &mut Secrets::default()).unwrap();
        assert!(written.files.is_empty(), "{}: a section holds any script", dialect.name());
    }
}

#[test]
fn a_list_of_too_many_commands_stops_before_anything_is_written() {
    let command =
        |number: usize| format!("[[command]]\nstage = \"system-installed\"\nrun = \"c{number}.exe\"\n");
    let text = |count: usize| (0..count).map(command).collect::<String>();
    let problems = |count: usize| {
        let written = write_model(&model(&text(count)), Dialect::Unattend, &mut Secrets::default()).unwrap();
        let report = neat_answer::check_file(&written.file().unwrap(), None);
        report.findings.into_iter().filter(|own| own.gravity == Gravity::Problem).collect::<Vec<_>>()
    };
    assert!(problems(500).is_empty());
    let found = problems(501);
    assert!(found.len() == 1 && found[0].message.contains("501 commands, and 500 are the most"), "{found:?}");
}

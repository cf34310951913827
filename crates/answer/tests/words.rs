//! What answers will do to a machine, in words; a person who finds a media reads them.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use neat_answer::{Dialect, Model, Secrets, check_file, check_model, starter, write_model};

fn does(text: &str) -> Vec<String> {
    check_model(&Model::parse(&format!("format = 1\n{text}")).unwrap(), None).does
}

#[test]
fn each_thing_that_is_done_has_its_line() {
    for (text, line) in [
        ("", "It asks where to install."),
        ("[system]\nedition = \"Quay OS 7 Bridge\"\n", "It installs Quay OS 7 Bridge."),
        ("[system]\nedition = 3\n", "It installs edition 3."),
        ("[system]\nedition = \"ask\"\n", "It asks which edition to install."),
        (
            "[language]\nsetup = \"da-DK\"\nkeyboards = [\"da-DK\", \"en-GB\"]\ntime_zone = \"Europe/Copenhagen\"\n",
            "It speaks da-DK, keyboards da-DK, en-GB, time zone Europe/Copenhagen.",
        ),
        ("[machine]\nname = \"QUAY-1\"\n", "It names the machine QUAY-1."),
        ("[machine]\nname = \"{random}\"\n", "It gives the machine a random name."),
        ("[[account]]\nname = \"ann\"\n", "It makes the account ann, without a password."),
        (
            "[[account]]\nname = \"ann\"\ngroups = [\"users\", \"deck\"]\nautomatic_sign_ins = 2\npassword = { hash = \"$6$a$b\" }\n",
            "It makes the account ann in users, deck, with a password, signed in automatically 2 times.",
        ),
        ("[administrator]\npassword = { hash = \"$6$a$b\" }\n", "It sets the administrator's password."),
        (
            "waive = [\"security-chip\", \"memory\"]\n",
            "It leaves out checks of the hardware: security chip, memory.",
        ),
        ("prevent_encryption = true\n", "It keeps the system from encrypting its disk by itself."),
        ("[remote]\nallow = true\n", "It lets people work on the machine from afar."),
        (
            "[[command]]\nstage = \"first-start\"\nrun = \"a\"\n",
            "It runs a command or script at first-start.",
        ),
        (
            "[[command]]\nstage = \"system-installed\"\nrun = \"a\"\n[[script]]\nname = \"b.sh\"\nstage = \"system-installed\"\ntext = \"b\"\n",
            "It runs 2 commands and scripts at system-installed.",
        ),
        (
            "[[disk]]\nnumber = 1\nonly_disk = true\nat_least = \"20GiB\"\npartition = [{ kind = \"efi\", size = \"300MiB\" }, { kind = \"system\", size = \"rest\" }]\n",
            "It lays out disk 1: EFI 300MiB, system the rest, but only if it is the only disk and it has at least 20GiB.",
        ),
        ("[[disk]]\ndevice = \"sda\"\n", "It lays out sda: as the installer sees fit."),
    ] {
        let lines = does(text);
        assert!(lines.iter().any(|own| own == line), "{line}: {lines:#?}");
    }
}

#[test]
fn the_danger_comes_first_and_is_the_same_in_every_dialect() {
    let text = "erases = \"yes\"\n[[disk]]\nnumber = 0\ndevice = \"sda\"\nwipe = true\npartition = [{ kind = \"system\", size = \"rest\" }]\n\
        [administrator]\nenabled = false\n[system]\nlicence = \"accept\"\n[language]\nsetup = \"en-GB\"\n";
    let lines = does(text);
    assert!(lines[0].starts_with("It erases everything on"), "{lines:#?}");
    let model = Model::parse(&format!("format = 1\n{text}")).unwrap();
    for dialect in Dialect::ALL.iter().copied() {
        let written = write_model(&model, dialect, &mut Secrets::default()).unwrap();
        let report = check_file(&written.file().unwrap(), None);
        assert!(
            report.does[0].starts_with("It erases everything on"),
            "{}: {:?}",
            dialect.name(),
            report.does
        );
        assert!(!report.is_dangerous(), "{}: it was said to be meant", dialect.name());
        let unmeant = written.text.replace("erases = \"yes\"", "");
        let file = neat_answer::AnswerFile::parse_as(unmeant.as_bytes(), Some(dialect)).unwrap();
        assert!(check_file(&file, None).is_dangerous(), "{}", dialect.name());
    }
    assert_eq!(does("")[0], "It erases nothing without asking.");
}

#[test]
fn a_starting_point_is_sound_with_whatever_is_known() {
    for known in [
        neat_answer::Known::default(),
        neat_answer::Known {
            prompts: false,
            language: "pl-PL".into(),
            time_zone: "Europe/Warsaw".into(),
            edition: "Quay \"OS\" 7\\Bridge".into(),
            machine: "QUAY-{serial}".into(),
            account: "helm'; x".into(),
        },
    ] {
        let model = Model::parse(&starter(&known).unwrap()).unwrap();
        if !known.edition.is_empty() {
            assert_eq!(
                model.system.edition,
                Some(neat_answer::model::EditionChoice::Name(known.edition.clone()))
            );
            assert_eq!(
                (model.machine.name.as_str(), model.account[0].name.as_str()),
                ("QUAY-{serial}", "helm'; x")
            );
        }
        assert!(!check_model(&model, None).is_dangerous());
        assert!(model.account[0].password.is_some(), "who administers has a password");
    }
}

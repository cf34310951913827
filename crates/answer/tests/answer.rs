//! Round trips of every dialect, with hostile content, and what checks find.
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

use neat_answer::{
    AnswerFile, Change, Dialect, Finding, Gravity, Model, Secrets, Topic, check_file,
    model::{Account, Command, Secret, SecretValue, Stage},
    read_file, write_model,
};
use proptest::prelude::*;
use support::{models, secrets};

fn write(model: &Model, dialect: Dialect) -> (AnswerFile, Vec<Finding>) {
    let written = write_model(model, dialect, &mut secrets()).unwrap();
    (written.file().unwrap(), written.findings)
}

/// The neutral form as a dialect has it back: passwords come from the file then.
fn expected(model: &Model) -> Model {
    let mut model = model.clone();
    let origin = |secret: &mut Option<Secret>| {
        if secret.is_some() {
            *secret = Some(Secret::Origin(true));
        }
    };
    for account in &mut model.account {
        origin(&mut account.password);
    }
    origin(&mut model.administrator.password);
    if let Some(wireless) = &mut model.network.wireless {
        origin(&mut wireless.password);
    }
    model
}

/// Says which fields differ, and the file.
fn assert_same(found: &Model, expected: &Model, text: &str) {
    let fields = |model: &Model| serde_json::to_value(model).unwrap().as_object().unwrap().clone();
    let (found_fields, fields) = (fields(found), fields(expected));
    let keys = found_fields.keys().chain(fields.keys());
    let differ: Vec<_> = keys.filter(|key| found_fields.get(*key) != fields.get(*key)).collect();
    let shown: Vec<_> = differ.iter().map(|key| (key, found_fields.get(*key), fields.get(*key))).collect();
    assert!(found == expected, "{shown:#?}\n{text}");
}

fn there_and_back(model: &Model, dialect: Dialect) {
    let (file, findings) = write(model, dialect);
    assert_eq!(file.dialect, dialect, "{}", file.text);
    let said: Vec<&Finding> = findings.iter().filter(|own| own.gravity == Gravity::Problem).collect();
    assert!(said.is_empty(), "{said:?}");
    let reading = read_file(&file).unwrap();
    let expected = expected(model);
    assert_same(&reading.model, &expected, &file.text);
    // What is written raises no problem of its own, and is not changed when nothing is.
    let mut accepted = vec![Topic::NoPassword, Topic::Asks];
    if dialect == Dialect::Sif {
        // It has no other form of them.
        accepted.push(Topic::PlainPassword);
    }
    let report = check_file(&file, None).accepting(&accepted);
    assert!(!report.has_problems(), "{:?}\n{}", report.findings, file.text);
    let (bytes, _) = file.changed(|_| Ok(())).unwrap();
    assert_eq!(bytes, file.to_bytes(&file.text));
    // A change and its opposite leave the same answers.
    let change = |file: &AnswerFile, commands: &[Command], zone: &str| {
        let changed = file.changed(|model| {
            model.command = commands.to_vec();
            model.language.time_zone = zone.into();
            Ok(())
        });
        AnswerFile::parse_as(&changed.unwrap().0, Some(file.dialect)).unwrap()
    };
    let mut commands = expected.command.clone();
    commands.insert(0, Command::new(Stage::SystemInstalled, "true"));
    let other = change(&file, &commands, "Asia/Tokyo");
    assert_ne!(read_file(&other).unwrap().model, expected);
    let again = change(&other, &expected.command, &expected.language.time_zone);
    assert_same(&read_file(&again).unwrap().model, &expected, &again.text);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn unattend_goes_there_and_back(model in models(Dialect::Unattend)) {
        there_and_back(&model, Dialect::Unattend);
    }

    #[test]
    fn preseed_goes_there_and_back(model in models(Dialect::Preseed)) {
        there_and_back(&model, Dialect::Preseed);
    }

    #[test]
    fn kickstart_goes_there_and_back(model in models(Dialect::Kickstart)) {
        there_and_back(&model, Dialect::Kickstart);
    }

    #[test]
    fn autoinstall_goes_there_and_back(model in models(Dialect::Autoinstall)) {
        there_and_back(&model, Dialect::Autoinstall);
    }

    #[test]
    fn autoyast_goes_there_and_back(model in models(Dialect::Autoyast)) {
        there_and_back(&model, Dialect::Autoyast);
    }

    #[test]
    fn sif_goes_there_and_back(model in models(Dialect::Sif)) {
        there_and_back(&model, Dialect::Sif);
    }

    #[test]
    fn the_toml_form_goes_there_and_back(model in models(Dialect::Unattend)) {
        let text = model.to_toml().unwrap();
        prop_assert_eq!(Model::parse(&text).unwrap(), model);
    }
}

#[test]
fn passwords_come_back_and_are_never_shown() {
    let mut model = Model::default();
    model.account.push(Account { password: Some(Secret::File("secret".into())), ..Account::named("helm") });
    let dir = tempfile::tempdir().unwrap();
    std::fs::write(dir.path().join("secret"), " ånker]]>&\"\r\nsecond line").unwrap();
    let mut secrets = Secrets { base: dir.path().into(), ..Secrets::default() };
    let written = write_model(&model, Dialect::Unattend, &mut secrets).unwrap();
    assert!(!written.text.contains("nker"), "{}", written.text);
    let reading = read_file(&AnswerFile::parse(&written.bytes).unwrap()).unwrap();
    assert_eq!(reading.vault["account.helm.password"], SecretValue::Plain(" ånker]]>&\"".into()));
    assert!(!format!("{:?}", reading.vault).contains("nker"));
    assert!(!reading.model.to_toml().unwrap().contains("nker"));
    for dialect in [Dialect::Preseed, Dialect::Kickstart, Dialect::Autoinstall] {
        let written = write_model(&model, dialect, &mut secrets).unwrap();
        assert!(written.text.contains("$6$") && !written.text.contains("nker"), "{}", written.text);
    }
    let none = Secrets { base: dir.path().into(), ..Secrets::default() };
    assert!(none.get("x", &Secret::Prompt(true)).unwrap_err().to_string().contains("terminal"));
}

/// A value as a parser of YAML that is not ours to write reads it.
fn yaml_value(yaml: &yaml_rust2::Yaml) -> serde_json::Value {
    use yaml_rust2::Yaml;
    match yaml {
        Yaml::Integer(number) => (*number).into(),
        Yaml::String(text) | Yaml::Real(text) => text.clone().into(),
        Yaml::Boolean(truth) => (*truth).into(),
        Yaml::Array(items) => items.iter().map(yaml_value).collect(),
        Yaml::Hash(pairs) => {
            let pair = |(key, value): (&Yaml, &Yaml)| (key.as_str().unwrap().to_owned(), yaml_value(value));
            serde_json::Value::Object(pairs.iter().map(pair).collect())
        }
        Yaml::Null => serde_json::Value::Null,
        Yaml::Alias(_) | Yaml::BadValue => panic!("no value"),
    }
}

/// Validates autoinstall answers by the schema written from its published reference.
fn assert_valid_autoinstall(text: &str) {
    let schema: serde_json::Value =
        serde_json::from_str(include_str!("data/autoinstall.schema.json")).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let documents = yaml_rust2::YamlLoader::load_from_str(text).unwrap();
    let value = yaml_value(&documents[0]);
    let errors: Vec<String> = validator.iter_errors(&value).map(|error| error.to_string()).collect();
    assert!(errors.is_empty(), "{errors:?}\n{text}");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn autoinstall_answers_are_valid_by_its_reference(model in models(Dialect::Autoinstall)) {
        assert_valid_autoinstall(&write(&model, Dialect::Autoinstall).0.text);
    }
}

/// Answers of made-up sites, as they have to come out. `NEATSTACK_RENEW_GOLDEN=1 cargo test` writes them anew, to be
/// read before they are kept.
#[test]
fn answers_of_made_up_sites_are_as_reviewed() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/golden");
    for (model, dialect, golden) in [
        ("lab.answer.toml", Dialect::Preseed, "lab.preseed.cfg"),
        ("lab.answer.toml", Dialect::Kickstart, "lab.ks"),
        ("lab.answer.toml", Dialect::Autoinstall, "lab.user-data.yaml"),
        ("lab.answer.toml", Dialect::Autoyast, "lab.autoyast.xml"),
        ("kiosk.answer.toml", Dialect::Preseed, "kiosk.preseed.cfg"),
        ("kiosk.answer.toml", Dialect::Kickstart, "kiosk.ks"),
        ("kiosk.answer.toml", Dialect::Autoinstall, "kiosk.user-data.yaml"),
        ("kiosk.answer.toml", Dialect::Autoyast, "kiosk.autoyast.xml"),
        ("office.answer.toml", Dialect::Preseed, "office.preseed.cfg"),
        ("office.answer.toml", Dialect::Kickstart, "office.ks"),
        ("office.answer.toml", Dialect::Autoinstall, "office.user-data.yaml"),
        ("office.answer.toml", Dialect::Autoyast, "office.autoyast.xml"),
        ("laptop.answer.toml", Dialect::Preseed, "laptop.preseed.cfg"),
        ("laptop.answer.toml", Dialect::Kickstart, "laptop.ks"),
        ("laptop.answer.toml", Dialect::Autoinstall, "laptop.user-data.yaml"),
        ("laptop.answer.toml", Dialect::Autoyast, "laptop.autoyast.xml"),
        ("shop.answer.toml", Dialect::Unattend, "shop.xml"),
        ("bridge.answer.toml", Dialect::Unattend, "bridge.xml"),
        ("harbour.answer.toml", Dialect::Preseed, "harbour.preseed.cfg"),
        ("harbour.answer.toml", Dialect::Kickstart, "harbour.ks"),
        ("harbour.answer.toml", Dialect::Autoinstall, "harbour.user-data.yaml"),
        ("harbour.answer.toml", Dialect::Autoyast, "harbour.autoyast.xml"),
        ("crane.answer.toml", Dialect::Preseed, "crane.preseed.cfg"),
        ("crane.answer.toml", Dialect::Kickstart, "crane.ks"),
        ("crane.answer.toml", Dialect::Autoinstall, "crane.user-data.yaml"),
        ("crane.answer.toml", Dialect::Autoyast, "crane.autoyast.xml"),
        ("school.answer.toml", Dialect::Unattend, "school.xml"),
        ("library.answer.toml", Dialect::Unattend, "library.xml"),
        ("purser.answer.toml", Dialect::Sif, "purser.sif"),
    ] {
        let model = Model::parse(&std::fs::read_to_string(folder.join(model)).unwrap()).unwrap();
        let mut secrets = Secrets { base: folder.clone(), ..Secrets::default() };
        let written = write_model(&model, dialect, &mut secrets).unwrap();
        let path = folder.join(golden);
        if std::env::var_os("NEATSTACK_RENEW_GOLDEN").is_some() {
            std::fs::write(&path, &written.bytes).unwrap();
        }
        let expected = std::fs::read_to_string(&path).unwrap();
        assert!(written.text == expected, "{golden} differs:\n{}", written.text);
        let report = check_file(&AnswerFile::parse(&written.bytes).unwrap(), None).accepting(&model.accept);
        assert!(!report.has_problems() && !report.is_dangerous(), "{golden}: {:?}", report.findings);
        if dialect == Dialect::Autoinstall {
            assert_valid_autoinstall(&written.text);
        }
        // Last year's file, changed in one thing, is last year's file but for that.
        let file = AnswerFile::parse(&written.bytes).unwrap();
        let (bytes, _) = file
            .changed(|model| {
                model.language.time_zone = "Asia/Tokyo".into();
                Ok(())
            })
            .unwrap();
        let changed = String::from_utf8(bytes).unwrap();
        let differ = changed.lines().zip(expected.lines()).filter(|(new, old)| new != old).count();
        // One line for each architecture that the file serves.
        assert_eq!(differ, model.architectures().len(), "{golden}:\n{changed}");
    }
}

#[test]
fn what_an_account_signs_in_with_is_what_the_system_computes() {
    // `openssl passwd -6 -salt 'rounds=5000$P4ALha.yfZUJcLch'` of the password in tests/data/secret.txt.
    let known = "$6$rounds=5000$P4ALha.yfZUJcLch$r2a94UW4JsWtFcJN.m0y4c9RIArfIYNC8ZZPccUy342UTlgw/jxtbJKZBkFIWpCCuppVAWYO.GCL3Wd9ZVJ3F1";
    let mut model = Model { title: "Lab PCs of Saltmarsh School".into(), ..Model::default() };
    model
        .account
        .push(Account { password: Some(Secret::File("secret.txt".into())), ..Account::named("teacher") });
    let (file, _) = write(&model, Dialect::Preseed);
    assert!(file.text.contains(known), "{}", file.text);
}

#[test]
fn a_sign_in_that_the_file_has_already_gives_way_to_the_one_that_is_asked() {
    let text = "<unattend xmlns=\"urn:schemas-microsoft-com:unattend\"><settings pass=\"oobeSystem\"><component name=\"Microsoft-Windows-Shell-Setup\" processorArchitecture=\"amd64\"><AutoLogon><Username>Administrator</Username><Enabled>true</Enabled><LogonCount>9</LogonCount></AutoLogon></component></settings></unattend>";
    let file = AnswerFile::parse(text.as_bytes()).unwrap();
    let reading = read_file(&file).unwrap();
    assert!(reading.findings.iter().any(|own| own.message.contains("not an account that this file makes")));
    let (bytes, _) = file
        .changed(|model| {
            model.account.push(Account { automatic_sign_ins: 2, ..Account::named("helm") });
            Ok(())
        })
        .unwrap();
    let changed = String::from_utf8(bytes).unwrap();
    assert_eq!(changed.matches("<AutoLogon>").count(), 1, "{changed}");
    let model = read_file(&AnswerFile::parse(changed.as_bytes()).unwrap()).unwrap().model;
    assert_eq!(model.account[0].automatic_sign_ins, 2);
}

#[test]
fn several_architectures_are_served_by_one_file_and_one_can_go() {
    let mut model = Model::default();
    model.architectures =
        vec![neat_answer::model::Architecture::X64, neat_answer::model::Architecture::Arm64];
    model.machine.name = "A-1".into();
    let (file, _) = write(&model, Dialect::Unattend);
    assert_eq!(file.text.matches("<ComputerName>").count(), 2, "{}", file.text);
    assert_eq!(read_file(&file).unwrap().model, model);
    let (bytes, _) = file
        .changed(|model| {
            model.architectures.truncate(1);
            model.machine.name = "A-2".into();
            Ok(())
        })
        .unwrap();
    let text = String::from_utf8(bytes).unwrap();
    assert!(!text.contains("arm64") && text.contains("<ComputerName>A-2</ComputerName>"), "{text}");
}

#[test]
fn own_parts_go_into_the_file_as_they_are() {
    let own = |dialect, pass: &str, text: &str| neat_answer::model::Own {
        dialect,
        pass: pass.into(),
        text: text.into(),
    };
    let mut model = Model::default();
    model.machine.owner = "x".into();
    model.own = vec![
        own(
            Dialect::Unattend,
            "specialize",
            "<component name=\"Microsoft-Windows-Shell-Setup\"><CopyProfile>true</CopyProfile></component>",
        ),
        own(Dialect::Preseed, "", "d-i mirror/country string manual"),
        own(Dialect::Kickstart, "", "%addon com_example\n%end"),
        own(Dialect::Autoinstall, "", "updates: all"),
    ];
    for (dialect, wanted) in [
        (Dialect::Unattend, "<CopyProfile>true</CopyProfile>"),
        (Dialect::Preseed, "\nd-i mirror/country string manual\n"),
        (Dialect::Kickstart, "\n%addon com_example\n%end\n"),
        (Dialect::Autoinstall, "\n  updates: all\n"),
    ] {
        let text = write(&model, dialect).0.text;
        assert!(text.contains(wanted), "{text}");
        assert_eq!(
            text.matches("<component name=\"Microsoft-Windows-Shell-Setup\"").count(),
            usize::from(dialect == Dialect::Unattend)
        );
    }
    model.own = vec![own(Dialect::Unattend, "nowhere", "<component name=\"x\"/>")];
    assert!(write_model(&model, Dialect::Unattend, &mut secrets()).is_err());
}

#[test]
fn a_kickstart_section_without_an_end_swallows_nothing() {
    let text = "lang en_GB.UTF-8\nkeyboard gb\n%packages\n@core\n%end\n%pre\necho open\n";
    let file = AnswerFile::parse(text.as_bytes()).unwrap();
    let command = Command::new(Stage::SystemInstalled, "fuzzed");
    let change = Change::Insert { command, at: Some(1) };
    let (bytes, ..) = file.with_commands(Stage::SystemInstalled, &change).unwrap();
    let again = AnswerFile::parse(&bytes).unwrap();
    let commands = read_file(&again).unwrap().model.command;
    assert!(commands.iter().any(|own| own.run.contains("fuzzed")), "{}", again.text);
    assert!(again.text.ends_with("%pre\necho open\n"), "{}", again.text);
}

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
    AnswerFile, Dialect, Finding, Gravity, Model, Secrets, check_file,
    model::{Account, Command, Secret, SecretValue, Stage},
    read_file, write_model,
};
use proptest::prelude::*;
use support::{models, secrets};

fn write(model: &Model, dialect: Dialect) -> (AnswerFile, Vec<Finding>) {
    let written = write_model(model, dialect, &mut secrets()).unwrap();
    (AnswerFile::parse(&written.bytes).unwrap(), written.findings)
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
    let report = check_file(&file, None);
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
        AnswerFile::parse(&changed.unwrap().0).unwrap()
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

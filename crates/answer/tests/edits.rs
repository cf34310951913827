//! Commands put in, moved and taken out of files in each dialect: order, count, and the rest of the file.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use neat_answer::{
    AnswerFile, Change, Dialect, Model, Secrets,
    model::{Command, Stage},
    read_file, write_model,
};
use proptest::prelude::*;

fn file(dialect: Dialect, stage: Stage, runs: &[String]) -> AnswerFile {
    let mut model = Model { title: "T".into(), ..Model::default() };
    model.language.setup = "en-GB".into();
    model.machine.name = "quay-1".into();
    model.command = runs.iter().map(|run| Command::new(stage, run)).collect();
    // Another stage, which stays as it is.
    model.command.push(Command::new(another(dialect), "cstays --here"));
    let written = write_model(&model, dialect, &mut Secrets::default()).unwrap();
    written.file().unwrap()
}

/// A stage of a dialect beside `system-installed`.
fn another(dialect: Dialect) -> Stage {
    if dialect == Dialect::Sif { Stage::FirstSignIn } else { Stage::SetupStart }
}

fn runs(file: &AnswerFile, stage: Stage) -> Vec<String> {
    read_file(file).unwrap().model.commands(stage).map(|own| own.run.clone()).collect()
}

/// A change and what it makes of a list.
#[derive(Clone, Debug)]
enum Edit {
    Insert(String, usize),
    Move(usize, usize),
    Remove(usize),
}

impl Edit {
    /// The change for a list of this length, if it has one; and the list after it, worked out plainly.
    fn on(&self, list: &[String]) -> Option<(Change, Vec<String>)> {
        let mut after = list.to_vec();
        let stage = Stage::SystemInstalled;
        let change = match self {
            Self::Insert(run, at) => {
                let at = at % (list.len() + 1);
                after.insert(at, run.clone());
                Change::Insert { command: Command::new(stage, run), at: Some(at + 1) }
            }
            Self::Move(from, to) if !list.is_empty() => {
                let (from, to) = (from % list.len(), to % list.len());
                let own = after.remove(from);
                after.insert(to, own);
                Change::Move { from: from + 1, to: to + 1 }
            }
            Self::Remove(at) if !list.is_empty() => {
                after.remove(at % list.len());
                Change::Remove { number: at % list.len() + 1 }
            }
            Self::Move(..) | Self::Remove(_) => return None,
        };
        Some((change, after))
    }
}

fn run() -> impl Strategy<Value = String> {
    ("c[a-z]{2,6}", prop_oneof![Just("--quiet"), Just("'a; b'"), Just("--path=/x/y")])
        .prop_map(|(name, rest)| format!("{name} {rest}"))
}

fn edit() -> impl Strategy<Value = Edit> {
    prop_oneof![
        (run(), any::<usize>()).prop_map(|(run, at)| Edit::Insert(run, at)),
        (any::<usize>(), any::<usize>()).prop_map(|(from, to)| Edit::Move(from, to)),
        any::<usize>().prop_map(Edit::Remove),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn any_edits_leave_the_order_that_a_plain_list_has(
        start in prop::collection::vec(run(), 0..5),
        edits in prop::collection::vec(edit(), 1..6),
    ) {
        for dialect in Dialect::ALL.iter().copied() {
            let stage = Stage::SystemInstalled;
            let mut own = file(dialect, stage, &start);
            let mut list = start.clone();
            for edit in &edits {
                let Some((change, after)) = edit.on(&list) else { continue };
                let (bytes, count, findings) = own.with_commands(stage, &change).unwrap();
                own = AnswerFile::parse_as(&bytes, Some(dialect)).unwrap();
                prop_assert_eq!(count, after.len(), "{}", dialect.name());
                prop_assert!(findings.iter().all(|own| own.gravity != neat_answer::Gravity::Problem), "{:?}", findings);
                list = after;
                prop_assert_eq!(&runs(&own, stage), &list, "{}: {:?}\n{}", dialect.name(), edit, own.text);
            }
            prop_assert_eq!(runs(&own, another(dialect)), ["cstays --here"], "{}", dialect.name());
            prop_assert_eq!(&read_file(&own).unwrap().model.machine.name, "quay-1");
        }
    }
}

#[test]
fn numbers_that_a_stage_does_not_have_are_named() {
    for dialect in Dialect::ALL.iter().copied() {
        let own = file(dialect, Stage::SystemInstalled, &["ca --x".into(), "cb --x".into()]);
        for change in [
            Change::Remove { number: 0 },
            Change::Remove { number: 3 },
            Change::Move { from: 1, to: 3 },
            Change::Move { from: 0, to: 1 },
            Change::Insert { command: Command::new(Stage::SystemInstalled, "cc"), at: Some(4) },
        ] {
            let error = own.with_commands(Stage::SystemInstalled, &change).err().unwrap();
            assert!(error.to_string().contains("has no command"), "{}: {error}", dialect.name());
            assert!(error.hint().to_string().contains("give a number from 1 to"), "{}", error.hint());
        }
    }
}

#[test]
fn what_a_dialect_has_no_place_for_is_said_with_what_to_do() {
    let own = file(Dialect::Unattend, Stage::SystemInstalled, &[]);
    for (stage, wait, word) in [
        (Stage::FirstStart, true, "system-installed or first-sign-in"),
        (Stage::FirstSignIn, false, "wait"),
        (Stage::EverySignIn, true, "wait"),
    ] {
        let command = Command { wait, ..Command::new(stage, "c.cmd") };
        let error = own.with_commands(stage, &Change::Insert { command, at: None }).err().unwrap();
        assert!(error.to_string().contains("has no place for such a command"), "{error}");
        let hint = format!("{:?} {}", error.hint(), error.hint());
        assert!(hint.to_lowercase().contains(word), "{hint}");
    }
    // An installer of Linux says it in a finding, and the file stays as it is.
    for dialect in [Dialect::Preseed, Dialect::Kickstart, Dialect::Autoinstall, Dialect::Autoyast] {
        let own = file(dialect, Stage::SystemInstalled, &[]);
        let command = Command::new(Stage::FirstSignIn, "c.sh");
        let change = Change::Insert { command, at: None };
        let (bytes, _, findings) = own.with_commands(Stage::FirstSignIn, &change).unwrap();
        assert_eq!(String::from_utf8(bytes).unwrap(), own.text, "{}", dialect.name());
        assert!(findings.iter().any(|own| own.message.contains("no such stage")), "{findings:?}");
    }
}

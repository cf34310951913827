#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_answer::{
    AnswerFile, Dialect, MediaFacts, check_file,
    model::{Account, Command, Stage},
    read_file,
};

fuzz_target!(|data: &[u8]| {
    let Ok(file) = AnswerFile::parse_as(data, Some(Dialect::Sif)) else { return };
    check_file(&file, Some(&MediaFacts::default()));
    let Ok(before) = read_file(&file) else { return };
    let files = file.side_files().unwrap();
    // Nothing asked, nothing changed, here and beside.
    let (bytes, _) = file.changed(|_| Ok(())).unwrap();
    assert_eq!(bytes, data);
    for own in &files {
        let once = own.beside(data);
        assert_eq!(own.beside(&once), once, "twice is once");
    }
    // What was asked is there afterwards.
    let (bytes, _) = file
        .changed(|model| {
            model.language.time_zone = "Asia/Tokyo".into();
            model.account.push(Account::named("fuzzed"));
            model.command.push(Command::new(Stage::FirstSignIn, "fuzzed.exe"));
            Ok(())
        })
        .unwrap();
    let again = AnswerFile::parse_as(&bytes, Some(Dialect::Sif)).unwrap();
    let after = read_file(&again).unwrap().model;
    assert_eq!(after.language.time_zone, "Asia/Tokyo");
    assert_eq!(after.account.len(), before.model.account.len() + 1);
    let run = |model: &neat_answer::Model| model.commands(Stage::FirstSignIn).count();
    assert_eq!(run(&after), run(&before.model) + 1);
});

#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_answer::{
    AnswerFile, Change, MediaFacts, Model, SiteList, check_file,
    model::{Account, Command, Stage},
    read_file,
};

fuzz_target!(|data: &[u8]| {
    if let Ok(text) = std::str::from_utf8(data) {
        let _ = Model::parse(text);
        if let Ok(list) = SiteList::parse(text) {
            list.check(None, None);
        }
    }
    let Ok(file) = AnswerFile::parse(data) else { return };
    check_file(&file, Some(&MediaFacts::default()));
    let Ok(before) = read_file(&file) else { return };
    // Nothing asked, nothing changed.
    if let Ok((bytes, _)) = file.changed(|_| Ok(())) {
        assert_eq!(bytes, data);
    }
    // What was asked is there afterwards, and the file is still one that is read.
    let changed = file.changed(|model| {
        model.language.time_zone = "Asia/Tokyo".into();
        model.account.push(Account::named("fuzzed"));
        Ok(())
    });
    let command = Command::new(Stage::SystemInstalled, "fuzzed");
    if let Ok((bytes, ..)) = file.with_commands(Stage::SystemInstalled, &Change::Insert { command, at: Some(1) }) {
        let again = AnswerFile::parse(&bytes).unwrap();
        assert!(read_file(&again).unwrap().model.command.iter().any(|own| own.run.contains("fuzzed")));
    }
    let Ok((bytes, _)) = changed else { return };
    if let Ok(again) = AnswerFile::parse(&bytes) {
        let _ = read_file(&again);
    }
    drop(before);
});

//! Site lists as people keep them, and models filled in from them.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use neat_answer::{Dialect, Gravity, Model, SiteList, Topic};

fn model(text: &str) -> Model {
    Model::parse(&format!("format = 1\n{text}")).unwrap()
}

#[test]
fn lists_are_read_in_the_forms_that_programs_save_them_in() {
    for text in [
        "name,room\nLAB-1,\"3, left\"\nLAB-2,\"the \"\"old\"\" one\"\n",
        "name,room\r\nLAB-1,\"3, left\"\r\nLAB-2,\"the \"\"old\"\" one\"\r\n",
        "name,room\nLAB-1,\"3, left\"\nLAB-2,\"the \"\"old\"\" one\"",
    ] {
        let list = SiteList::parse(text).unwrap();
        assert_eq!(list.columns, ["name", "room"]);
        let rooms: Vec<&str> = list.sites.iter().map(|site| site.cells["room"].as_str()).collect();
        assert_eq!(rooms, ["3, left", "the \"old\" one"]);
        assert_eq!(list.sites.iter().map(|site| site.row).collect::<Vec<_>>(), [2, 3]);
    }
    for (text, word) in [
        ("", "no column `name`"),
        ("room\n1\n", "no column `name`"),
        ("name,name\na,b\n", "two columns \"name\""),
        ("name,room\na\n", "row 2: it has 1 cells, and there are 2 columns"),
        ("name,room\na,b\nc,d,e\n", "row 3: it has 3 cells"),
        ("Name,room\na,b\n", "no column `name`"),
    ] {
        let error = SiteList::parse(text).err().unwrap();
        assert!(error.to_string().contains(word), "{text}: {error}");
    }
    let error = SiteList::parse("Name,room\na,b\n").err().unwrap();
    assert!(error.hint().to_string().contains("Call it name"), "{}", error.hint());
}

#[test]
fn every_text_of_a_model_is_filled_in_but_those_with_braces_of_their_own() {
    let list = SiteList::parse("name,serial,room,tongue\nLAB-1,A1,3 & 4,da-DK\n").unwrap();
    let filled = list.sites[0]
        .fill_model(&model(
            "title = \"Room {room}\"\n[language]\nsetup = \"{tongue}\"\nkeyboards = [\"{tongue}\"]\n\
             [machine]\nowner = \"{room}\"\norganisation = \"{colour} {room\"\n\
             [[account]]\nname = \"desk\"\nfull_name = \"Desk in {room}\"\npassword = { file = \"{serial}.txt\" }\n\
             [[command]]\nstage = \"system-installed\"\nrun = \"echo ${HOME} {room}\"\n\
             [[registry]]\nkey = 'HKLM\\Room {room}'\nvalue = \"{serial}\"\n",
        ))
        .unwrap();
    assert_eq!((filled.title.as_str(), filled.language.setup.as_str()), ("Room 3 & 4", "da-DK"));
    assert_eq!(filled.language.keyboards, ["da-DK"]);
    assert_eq!(
        (filled.machine.owner.as_str(), filled.machine.organisation.as_str()),
        ("3 & 4", "{colour} {room")
    );
    assert_eq!(filled.machine.name, "LAB-1", "a list names machines where the model does not");
    assert_eq!(filled.account[0].full_name, "Desk in 3 & 4");
    assert_eq!(filled.account[0].password, Some(neat_answer::model::Secret::File("A1.txt".into())));
    assert_eq!(filled.command[0].run, "echo ${HOME} 3 & 4");
    assert_eq!(
        (filled.registry[0].key.as_str(), filled.registry[0].value.as_str()),
        ("HKLM\\Room 3 & 4", "A1")
    );
    // The machine's own name stands where it is asked for, with what the machine itself fills in.
    let named = list.sites[0].fill_model(&model("[machine]\nname = \"{name}-{random:2}\"\n")).unwrap();
    assert_eq!(named.machine.name, "LAB-1-{random:2}");
}

#[test]
fn what_a_list_lacks_is_found_by_row() {
    let text = "name,serial,room\nLAB-1,A1,3\nlab-1,A2,4\n,A3,5\nLAB-4,a 1,\nLAB-5,To be filled by O.E.M.,6\nLAB_6,,7\n123,A7,8\nLAB-OF-THE-LONG-NAME,A8,9\n";
    let list = SiteList::parse(text).unwrap();
    let needs = model("[machine]\nowner = \"{room} {floor}\"\n");
    let findings = list.check(Some(&needs), Some(Dialect::Unattend));
    let expected = [
        "need a column {floor}",
        "row 3: the name \"lab-1\" is the same as in row 2",
        "row 4: the machine has no name",
        "row 5: the serial number \"a 1\" is the same as in row 2",
        "row 5: the cell \"room\" is empty",
        "row 6: the serial number \"To be filled by O.E.M.\" is what machines say that have none",
        "row 7: \"LAB_6\" has '_'",
        "row 8: \"123\" has nothing but digits",
        "row 9: \"LAB-OF-THE-LONG-NAME\" has 20 characters, and 15 is the most",
    ];
    assert_eq!(findings.len(), expected.len(), "{findings:#?}");
    for (finding, expected) in findings.iter().zip(expected) {
        assert!(finding.message.contains(expected), "{expected}: {finding:?}");
        assert_eq!(finding.gravity, Gravity::Problem);
        assert!(!finding.hint.is_empty(), "{finding:?}");
        let topic = if expected.starts_with("need") { Topic::Unfilled } else { Topic::Sites };
        assert_eq!(finding.topic, topic);
        let row = expected.strip_prefix("row ").and_then(|own| own.split(':').next()?.parse().ok());
        assert_eq!(finding.line, row, "{finding:?}");
    }
    // Where names may be longer, one is.
    let longer = list.check(None, Some(Dialect::Preseed));
    assert!(longer.iter().all(|own| !own.message.contains("row 9")), "{longer:?}");
}

#[test]
fn a_cell_that_a_field_cannot_have_is_named_with_its_row() {
    let list = SiteList::parse("name,zone,edition\nLAB-1,x,2\n").unwrap();
    // What a text takes, it takes; another kind of field says why not.
    let filled = list.sites[0].fill_model(&model("[system]\nedition = \"{edition}\"\n")).unwrap();
    assert_eq!(filled.system.edition, Some(neat_answer::model::EditionChoice::Name("2".into())));
    let disk = "[[disk]]\nnumber = 0\nat_least = \"20GB\"\n";
    assert!(list.sites[0].fill_model(&model(disk)).is_ok());
}

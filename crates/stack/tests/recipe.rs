//! What a stack file may say, and what is said of one that says something else.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use neat_stack::{StackFile, WhenValue};

fn refused(text: &str) -> String {
    match StackFile::parse(text) {
        Ok(_) => panic!("it was taken: {text}"),
        Err(error) => format!("{error} {}", error.hint()),
    }
}

#[test]
fn a_wrong_key_is_named_with_its_line_and_what_was_meant() {
    for (section, key, meant) in [
        ("", "titel = \"x\"", "title"),
        ("", "catalogs = []", "catalogues"),
        ("[source]", "medium = \"a.iso\"", "media"),
        ("[source]", "sha = \"x\"", "sha256"),
        ("[source]", "edition = [1]", "editions"),
        ("[[update]]\nfrom = \"u\"", "optionel = true", "optional"),
        ("[[driver]]\nfrom = \"d\"", "class = []", "classes"),
        ("[remove]", "component = []", "components"),
        ("[remove]", "with_dependants = true", "with_dependents"),
        ("[settings]", "wallpapers = \"x\"", "wallpaper"),
        ("[settings.company]", "nam = \"x\"", "name"),
        ("[settings.languages]", "keyboard = []", "keyboards"),
        ("[[app]]\ninstaller = \"a.exe\"", "argument = \"x\"", "arguments"),
        ("[[place]]\nfrom = \"a\"\nto = \"media:/\"", "replaces = true", "replace"),
        ("[answer]", "dialect = []", "dialects"),
        ("[answer]", "accepts = []", "accept"),
        ("[[variant]]\nsites = \"m.csv\"", "answer_only = true", "answers_only"),
        ("[menu]", "timeout = 3", "timeout_seconds"),
        ("[[menu.entry]]\nid = \"a\"\ntitle = \"A\"\nkernel = \"k\"", "initrds = []", "initrd"),
        ("[media]", "labels = \"x\"", "label"),
        ("[media]", "compresion = \"max\"", "compression"),
        ("[media.stick]\nimage = \"s.img\"", "schema = \"gpt\"", "scheme"),
    ] {
        let text = format!("# a remark\n{section}\n{key}\n");
        let said = refused(&text);
        let line = text.lines().position(|line| line == key).unwrap() + 1;
        assert!(said.contains(&format!("line {line}")), "{text}: {said}");
        assert!(said.contains(meant), "{text}: {said}");
    }
}

#[test]
fn a_value_of_another_kind_is_named_with_its_line() {
    for (text, wanted) in [
        ("title = 3", "line 1"),
        ("[source]\nmedia = [\"a\"]", "line 2"),
        ("[source]\nmedia = \"a\"\neditions = \"all\"", "line 3"),
        ("[[driver]]\nfrom = \"d\"\ninto = [\"cellar\"]", "cellar"),
        ("[[app]]\ninstaller = \"a\"\nwhen = \"never\"", "never"),
        ("[media]\nhybrid = \"yes\"", "line 2"),
        ("[media]\ncompression = \"best\"", "best"),
        ("[media]\nfile_limit = \"4G\"", "4G"),
        ("[menu]\non_timeout = \"sleep\"", "sleep"),
        ("[answer]\ndialects = [\"english\"]", "english"),
        ("[answer]\naccept = [\"everything\"]", "everything"),
        ("[source\nmedia = \"a\"", "line 1"),
        ("[source]\nmedia = \"a\"\nmedia = \"b\"", "line 3"),
    ] {
        let said = refused(text);
        assert!(said.contains(wanted), "{text}: {said}");
    }
}

#[test]
fn what_is_left_out_is_as_the_page_says() {
    let stack = StackFile::parse(
        "[source]\nmedia = \"a.iso\"\n[[app]]\ninstaller = \"a.exe\"\n[media]\niso = \"b.iso\"\n",
    )
    .unwrap();
    assert_eq!(stack.title, "");
    assert!(stack.catalogues.is_empty() && stack.update.is_empty() && stack.menu.is_none());
    let source = stack.source.unwrap();
    assert!(source.editions.is_empty() && source.sha256.is_none() && source.image_from.is_none());
    assert!(matches!(stack.app[0].when, WhenValue::SetupEnd) && stack.app[0].arguments.is_empty());
    assert!(stack.media.label.is_none() && stack.media.stick.is_none() && stack.media.trial.is_empty());
    assert!(refused("[media]\niso = \"a.iso\"\n").contains("neither a [source] nor a [menu]"));
}

//! What two media, image files or hives differ in.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod support;

use neat_content::{Class, Job};
use neat_media::read;
use neat_registry::{Hive, RegText, ValueKind, text_data};
use neat_stack::{Comparison, compare, install_image_path};
use std::{collections::BTreeMap, fs, path::Path};
use support::{Bench, DEMO};

fn compared(before: &Path, after: &Path) -> Comparison {
    compare(before, after, None, &Job::silent()).unwrap()
}

fn files(comparison: &Comparison) -> BTreeMap<&str, (Option<u64>, Option<u64>)> {
    comparison.files.iter().map(|own| (own.path.as_str(), (own.before, own.after))).collect()
}

/// A folder with these files.
fn folder(files: &[(&str, &str)]) -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    for (path, text) in files {
        let path = dir.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
    dir
}

#[test]
fn a_media_is_itself_in_whatever_form() {
    assert!(compared(&DEMO.1, &DEMO.1).is_same());
    // Unpacked into a folder, on a disc of another name, and on a stick it is the same.
    let bench =
        Bench::new("[media]\niso = \"again.iso\"\nlabel = \"AGAIN\"\nstick = { image = \"again.img\" }\n");
    bench.build();
    for other in ["again.iso", "again.img"] {
        let comparison = compared(&DEMO.1, &bench.at(other));
        assert!(comparison.is_same(), "{other}: {:?}", comparison.files);
        assert_eq!(comparison.kind, "media");
        assert_eq!(comparison.editions.len(), 4, "three systems and the setup environment");
    }
}

#[test]
fn files_that_come_go_and_change_are_told_with_their_sizes() {
    let before = folder(&[
        ("same.txt", "same"),
        ("gone.txt", "gone"),
        ("a/b/changed.txt", "before"),
        ("a/Case.txt", "x"),
    ]);
    let after = folder(&[
        ("same.txt", "same"),
        ("new/er.txt", "newer"),
        ("a/b/changed.txt", "afterwards"),
        ("a/CASE.TXT", "x"),
    ]);
    let comparison = compared(before.path(), after.path());
    let found = files(&comparison);
    assert_eq!(found["gone.txt"], (Some(4), None));
    assert_eq!(found["new/er.txt"], (None, Some(5)));
    assert_eq!(found["a/b/changed.txt"], (Some(6), Some(10)));
    assert!(!found.contains_key("same.txt"));
    assert_eq!(comparison.bytes, (4 + 4 + 6 + 1, 4 + 5 + 10 + 1));
    // The other way round it is the opposite.
    let back = compared(after.path(), before.path());
    let opposite: BTreeMap<&str, _> = found.iter().map(|(path, (a, b))| (*path, (*b, *a))).collect();
    let turned = files(&back);
    for (path, sizes) in opposite.iter().filter(|(path, _)| !path.to_lowercase().contains("case")) {
        assert_eq!(turned[path], *sizes, "{path}");
    }
    // The same length with other bytes is a change.
    let other = folder(&[
        ("same.txt", "same"),
        ("gone.txt", "enog"),
        ("a/b/changed.txt", "before"),
        ("a/Case.txt", "x"),
    ]);
    assert_eq!(
        files(&compared(before.path(), other.path())),
        BTreeMap::from([("gone.txt", (Some(4), Some(4)))])
    );
}

#[test]
fn image_files_are_compared_by_their_editions() {
    let bench = Bench::new("editions = [2, 1]\n[media]\niso = \"t.iso\"\n");
    bench.build();
    let image = |media: &Path, name: &str| {
        let tree = read::open(media).unwrap().tree;
        let path = install_image_path(&tree).unwrap();
        let bytes = tree.file(&path).unwrap().to_vec(64 << 20, "image").unwrap();
        fs::write(bench.at(name), bytes).unwrap();
        bench.at(name)
    };
    let (before, after) = (image(&DEMO.1, "before.wim"), image(&bench.at("t.iso"), "after.wim"));
    let comparison = compared(&before, &after);
    assert_eq!(comparison.kind, "image-file");
    assert!(comparison.editions.iter().all(neat_stack::EditionComparison::is_same));
    assert_eq!((comparison.editions.len(), comparison.gone.len(), comparison.new.len()), (2, 1, 0));
    assert!(!comparison.is_same(), "an edition went");
    // One edition alone, by name, is compared with the one of that name.
    let name = comparison.editions[0].after.clone();
    let one = compare(&before, &after, Some(&name), &Job::silent()).unwrap();
    assert!(one.is_same() && one.editions.len() == 1, "{one:?}");
    let none = compare(&before, &after, Some("Quay OS 7 Brigde"), &Job::silent()).unwrap_err();
    assert!(none.hint().to_string().contains("Bridge"), "{none} {}", none.hint());
}

#[test]
fn hives_are_compared_by_what_makes_the_first_the_second() {
    let dir = tempfile::tempdir().unwrap();
    let hive = |name: &str, values: &[(&str, &str, &str)]| {
        let mut hive = Hive::new(5, "SOFTWARE", &[1, 2, 3, 4], 7);
        for (key, value, text) in values {
            let key = hive.create(key).unwrap();
            hive.set(key, value, ValueKind::TEXT, &text_data(text)).unwrap();
        }
        fs::write(dir.path().join(name), hive.write().unwrap()).unwrap();
        dir.path().join(name)
    };
    let before = hive(
        "before",
        &[("Quay\\Deck", "Colour", "red"), ("Quay\\Deck", "Old", "x"), ("Quay\\Gone", "a", "b")],
    );
    let after = hive("after", &[("Quay\\Deck", "Colour", "blue"), ("Quay\\New", "c", "d")]);
    let comparison = compared(&before, &after);
    assert_eq!(comparison.kind, "hive");
    let text = RegText::parse(&comparison.registry).unwrap();
    assert!(!text.lines.is_empty());
    for expected in ["\"Colour\"=\"blue\"", "\"Old\"=-", "\"c\"=\"d\"", "[-"] {
        assert!(comparison.registry.contains(expected), "{expected}: {}", comparison.registry);
    }
    assert!(compared(&before, &before).is_same());
}

#[test]
fn two_sorts_of_things_are_not_compared() {
    let bench = Bench::new("[media]\niso = \"t.iso\"\n");
    let tree = read::open(&DEMO.1).unwrap().tree;
    let path = install_image_path(&tree).unwrap();
    fs::write(bench.at("a.wim"), tree.file(&path).unwrap().to_vec(64 << 20, "image").unwrap()).unwrap();
    let error = compare(&DEMO.1, &bench.at("a.wim"), None, &Job::silent()).unwrap_err();
    assert_eq!(error.class(), Class::BadRequest, "{error}");
    fs::write(bench.at("none"), "nothing that is known").unwrap();
    assert!(compare(&bench.at("none"), &DEMO.1, None, &Job::silent()).is_err());
    assert!(compare(&bench.at("not-there"), &DEMO.1, None, &Job::silent()).is_err());
}

//! Which editions a media keeps, in which order and how compressed, and what stays the same in them.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod support;

use neat_content::{Job, Tree};
use neat_media::read;
use neat_stack::{
    Weight, compare, edition_insides, edition_summaries, edition_summaries_quickly, install_image_path,
    media_facts, open_image, setup_image_path,
};
use support::{Bench, DEMO, said, steps};

const ALL: [&str; 3] = ["Quay OS 7 Kiosk", "Quay OS 7 Bridge", "Quay OS 7 Engine Room"];

fn names(tree: &Tree) -> Vec<String> {
    let path = install_image_path(tree).unwrap();
    let image = open_image(tree, &path).unwrap();
    edition_summaries(&image).unwrap().into_iter().map(|own| own.name).collect()
}

fn source() -> Tree {
    read::open(&DEMO.1).unwrap().tree
}

fn built(bench: &Bench) -> Tree {
    bench.build();
    read::open(&bench.at("t.iso")).unwrap().tree
}

#[test]
fn the_demo_has_what_these_tests_speak_of() {
    let all = names(&source());
    for name in ALL {
        assert!(all.iter().any(|own| own == name), "{name}: {all:?}");
    }
}

#[test]
fn editions_are_kept_by_name_or_number_in_the_order_that_is_asked() {
    let all = names(&source());
    let place = |name: &str| all.iter().position(|own| own == name).unwrap() + 1;
    for (keep, expected) in [
        (format!("[{:?}]", ALL[1]), vec![ALL[1]]),
        (format!("[{:?}, {:?}]", ALL[2], ALL[0]), vec![ALL[2], ALL[0]]),
        (format!("[{}, {:?}]", place(ALL[1]), ALL[0]), vec![ALL[1], ALL[0]]),
        (format!("[{}]", place(ALL[2])), vec![ALL[2]]),
    ] {
        let bench = Bench::new(&format!("editions = {keep}\n[media]\niso = \"t.iso\"\n"));
        let plan = bench.plan();
        let kept: Vec<&str> =
            plan.editions.iter().filter(|own| own.kept).map(|own| own.name.as_str()).collect();
        assert_eq!(kept.len(), expected.len(), "{keep}: {kept:?}");
        assert!(expected.iter().all(|name| kept.contains(name)), "{keep}: {kept:?}");
        assert_eq!(plan.editions.len(), all.len(), "those that go are named");
        let tree = built(&bench);
        assert_eq!(names(&tree), expected, "{keep}");
        // What they hold is as it was.
        let comparison = compare(&DEMO.1, &bench.at("t.iso"), None, &Job::silent()).unwrap();
        for name in expected {
            let own = comparison.editions.iter().find(|own| own.after == name).unwrap();
            assert!(own.is_same(), "{own:?}");
        }
    }
}

#[test]
fn what_only_one_edition_uses_is_what_dropping_it_saves() {
    let tree = source();
    let image = open_image(&tree, &install_image_path(&tree).unwrap()).unwrap();
    let all = edition_summaries(&image).unwrap();
    let quickly = edition_summaries_quickly(&image).unwrap();
    assert_eq!(all.len(), quickly.len());
    for (own, quick) in all.iter().zip(&quickly) {
        assert_eq!((own.number, &own.name, own.bytes), (quick.number, &quick.name, quick.bytes));
        let keep: Vec<String> = all
            .iter()
            .filter(|other| other.number != own.number)
            .map(|other| format!("{:?}", other.name))
            .collect();
        let text = format!("editions = [{}]\n[media]\niso = \"t.iso\"\n", keep.join(", "));
        let bench = Bench::new(&text);
        let without = built(&bench);
        let size = |tree: &Tree| tree.file(&install_image_path(tree).unwrap()).unwrap().len();
        let saved = size(&tree) - size(&without);
        let (only, metadata) = (own.only_here.unwrap(), 64 << 10);
        assert!(saved >= only && saved <= only + metadata, "{}: {saved}, {only}", own.name);
    }
}

#[test]
fn compressing_anew_changes_no_file() {
    let mut sizes = Vec::new();
    for level in ["none", "fast", "max"] {
        let text =
            format!("editions = [{:?}]\n[media]\niso = \"t.iso\"\ncompression = \"{level}\"\n", ALL[1]);
        let bench = Bench::new(&text);
        let plan = bench.plan();
        assert!(steps(&plan).iter().any(|own| own.contains("install.wim")), "{:?}", steps(&plan));
        let tree = built(&bench);
        let comparison = compare(&DEMO.1, &bench.at("t.iso"), None, &Job::silent()).unwrap();
        let own = comparison.editions.iter().find(|own| own.after == ALL[1]).unwrap();
        assert!(own.is_same(), "{level}: {own:?}");
        sizes.push(tree.file(&install_image_path(&tree).unwrap()).unwrap().len());
    }
    assert!(sizes[0] > sizes[1] && sizes[1] >= sizes[2], "{sizes:?}");
}

#[test]
fn another_medias_systems_are_installed_by_this_medias_setup() {
    let first = Bench::new(&format!("editions = [{:?}]\n[media]\niso = \"t.iso\"\n", ALL[2]));
    built(&first);
    let text = "image_from = \"other.iso\"\n[media]\niso = \"t.iso\"\n";
    let second = Bench::new(text);
    std::fs::copy(first.at("t.iso"), second.at("other.iso")).unwrap();
    let tree = built(&second);
    assert_eq!(names(&tree), [ALL[2]]);
    // The setup environment stays this media's.
    let path = setup_image_path(&tree).unwrap();
    let bytes = |tree: &Tree| tree.file(&path).unwrap().to_vec(64 << 20, "image").unwrap();
    assert!(bytes(&tree) == bytes(&source()));
    // An image file alone will do, and one that is none is refused.
    let image = tree.file(&install_image_path(&tree).unwrap()).unwrap().to_vec(64 << 20, "image").unwrap();
    let third = Bench::new("image_from = \"other.wim\"\n[media]\niso = \"t.iso\"\n");
    std::fs::write(third.at("other.wim"), image).unwrap();
    assert_eq!(names(&built(&third)), [ALL[2]]);
    let none = Bench::new("image_from = \"other.wim\"\n[media]\niso = \"t.iso\"\n");
    std::fs::write(none.at("other.wim"), b"no image").unwrap();
    assert!(none.error().contains("other.wim"), "{}", none.error());
}

#[test]
fn editions_that_are_not_there_are_named_with_those_that_are() {
    for (keep, word) in
        [("[\"Quay OS 7 Brigde\"]", "Quay OS 7 Bridge"), ("[0]", "0"), ("[99]", "99"), ("[1, 1]", "twice")]
    {
        let bench = Bench::new(&format!("editions = {keep}\n[media]\niso = \"t.iso\"\n"));
        let Err(error) = bench.prepare() else { panic!("{keep} was planned") };
        let said = format!("{error} {}", error.hint());
        assert!(said.contains(word), "{keep}: {said}");
    }
}

#[test]
fn the_inside_of_an_edition_is_counted() {
    let tree = source();
    let image = open_image(&tree, &install_image_path(&tree).unwrap()).unwrap();
    let insides = edition_insides(&image).unwrap();
    assert_eq!(insides.len(), 3);
    for inside in &insides {
        assert!(inside.components.values().sum::<usize>() > 10, "{:?}", inside.components);
        assert_eq!(inside.notes, [""; 0]);
        assert!(inside.integrated.apps.is_empty() && inside.integrated.updates.is_empty());
    }
}

#[test]
fn facts_of_a_media_are_those_that_answers_ask_for() {
    let facts = media_facts(&source());
    let names: Vec<&str> = facts.editions.iter().map(|own| own.name.as_str()).collect();
    assert!(ALL.iter().all(|name| names.contains(name)), "{names:?}");
    assert!(facts.editions.iter().enumerate().all(|(n, own)| own.number as usize == n + 1));
    assert!(facts.editions.iter().all(|own| own.version.split('.').count() >= 3), "{:?}", facts.editions);
    assert_eq!(facts.architectures, [neat_answer::model::Architecture::X64]);
    assert!(facts.answer_files.is_empty());
}

#[test]
fn a_media_without_systems_has_no_editions_to_choose() {
    let bench = Bench::new("editions = [1]\n[media]\niso = \"t.iso\"\n").changed("quay.iso", "empty");
    std::fs::create_dir(bench.at("empty")).unwrap();
    std::fs::write(bench.at("empty/readme.txt"), "nothing").unwrap();
    assert!(bench.error().contains("no image file with systems"), "{}", bench.error());
    let plain = Bench::new("[media]\niso = \"t.iso\"\nlabel = \"EMPTY\"\n").changed("quay.iso", "empty");
    std::fs::create_dir(plain.at("empty")).unwrap();
    std::fs::write(plain.at("empty/readme.txt"), "nothing").unwrap();
    let plan = plain.plan();
    assert!(plan.editions.is_empty());
    assert_eq!(said(&plan, Weight::Refused), [""; 0]);
}

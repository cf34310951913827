//! Sticks from a stack file: sizes, forms and labels, beside a disc or alone.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod support;

use neat_media::{MediaForm, read};
use neat_stack::{StackFile, Weight, output_names};
use std::fs;
use support::{Bench, DEMO, said, sha256, steps};

#[test]
fn outputs_are_named_by_their_forms_in_order() {
    let names = |text: &str| {
        let stack = StackFile::parse(&format!("[source]\nmedia = \"a.iso\"\n[media]\n{text}")).unwrap();
        output_names(&stack.media)
            .into_iter()
            .map(|(form, name)| format!("{form}: {name}"))
            .collect::<Vec<_>>()
    };
    assert_eq!(names("iso = \"a.iso\"\n"), ["disc: a.iso"]);
    assert_eq!(names("stick = { image = \"b.img\" }\n"), ["stick: b.img"]);
    assert_eq!(names("stick = { image = \"b.img\" }\niso = \"a.iso\"\n"), ["disc: a.iso", "stick: b.img"]);
    assert_eq!(names("label = \"X\"\n"), [""; 0]);
}

#[test]
fn a_stick_has_the_size_table_and_label_that_are_asked() {
    for (options, size, label) in [
        ("size = \"64M\"", Some(64 << 20), "quay_os_7"),
        ("size = \"100MB\", label = \"DECK\"", Some(100_000_000 / 512 * 512), "deck"),
        ("size = \"70MiB\", scheme = \"mbr\"", Some(70 << 20), "quay_os_7"),
        ("label = \"SMALL\"", None, "small"),
    ] {
        let bench = Bench::new(&format!("[media]\nstick = {{ image = \"s.img\", {options} }}\n"));
        let plan = bench.plan();
        assert_eq!(plan.outputs.len(), 1);
        assert_eq!(plan.outputs[0].form, "stick");
        let outcome = bench.build();
        let len = fs::metadata(bench.at("s.img")).unwrap().len();
        assert!(size.is_none_or(|size| size == len), "{options}: {len}");
        assert_eq!(outcome[0].ledger.outputs[0].size, len);
        assert_eq!(outcome[0].ledger.outputs[0].sha256.as_deref(), Some(sha256(&bench.at("s.img")).as_str()));
        let media = read::open(&bench.at("s.img")).unwrap();
        assert_eq!(media.form, MediaForm::Stick, "{options}");
        let own = media.volume.label.to_lowercase().replace(' ', "_");
        assert!(own.starts_with(label) || label.starts_with(&own), "{options}: {own}");
        assert!(media.tree.find_ignoring_case("sources/install.wim").is_some());
    }
}

#[test]
fn sizes_and_labels_that_cannot_be_are_said_before_anything_is_written() {
    for (options, word) in [
        ("size = \"1M\"", "too small"),
        ("size = \"nine\"", "not a size"),
        ("boot_manager = \"none.sys\"", "none.sys"),
        ("scheme = \"apm\"", "apm"),
        ("form = \"tape\"", "tape"),
    ] {
        let text =
            format!("[source]\nmedia = \"quay.iso\"\n[media]\nstick = {{ image = \"s.img\", {options} }}\n");
        let said = if let Err(error) = StackFile::parse(&text) {
            format!("{error} {}", error.hint())
        } else {
            let bench = Bench::new(text.split_once("quay.iso\"\n").unwrap().1);
            let said = bench.prepare().map_or_else(
                |error| format!("{error} {}", error.hint()),
                |prepared| format!("{:?}", prepared.report.findings),
            );
            assert!(!bench.at("s.img").exists());
            said
        };
        assert!(said.contains(word), "{options}: {said}");
    }
}

#[test]
fn a_disc_and_a_stick_of_one_pass_hold_the_same() {
    let bench = Bench::new("[media]\niso = \"a.iso\"\nstick = { image = \"a.img\" }\n");
    let plan = bench.plan();
    assert_eq!(plan.outputs.iter().map(|own| own.form).collect::<Vec<_>>(), ["disc", "stick"]);
    let last: Vec<String> = steps(&plan).split_off(steps(&plan).len() - 2);
    assert!(last[0].starts_with("master the disc") && last[1].starts_with("stick the stick"), "{last:?}");
    assert_eq!(said(&plan, Weight::Refused), [""; 0]);
    let outcome = bench.build();
    assert_eq!(outcome.len(), 1, "one ledger for both");
    assert_eq!(outcome[0].ledger.outputs.len(), 2);
    let tree = |name: &str| read::open(&bench.at(name)).unwrap().tree;
    let (disc, stick, source) = (tree("a.iso"), tree("a.img"), read::open(&DEMO.1).unwrap().tree);
    for step in source.walk() {
        let Some(content) = source.node(step.id).content() else { continue };
        let bytes = content.to_vec(64 << 20, "file").unwrap();
        for (name, own) in [("disc", &disc), ("stick", &stick)] {
            let id = own.find_ignoring_case(&step.path).unwrap_or_else(|| panic!("{name}: {}", step.path));
            let same = own.node(id).content().unwrap().to_vec(64 << 20, "file").unwrap();
            // A boot image knows where it lies on its disc.
            assert!(same == bytes || step.path.to_lowercase().contains("boot"), "{name}: {}", step.path);
        }
    }
    // The same name twice is one file too few.
    let twice = Bench::new("[media]\niso = \"a.iso\"\nstick = { image = \"./a.iso\" }\n");
    assert!(twice.error().contains("a.iso"), "{}", twice.error());
}

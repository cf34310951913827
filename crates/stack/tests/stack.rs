//! Recipes on the demo's media, without the program: what is planned, what is written, what the ledger says.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod support;

use neat_content::Job;
use neat_media::read;
use neat_stack::{
    DraftWishes, Ledger, Prepared, StackFile, Weight, Wishes, draft, edition_summaries, install_image_path,
    open_image,
};
use std::{fs, path::Path};
use support::{Bench, CLOCK, DEMO, said, sha256, steps};

#[test]
fn what_a_draft_comments_out_can_be_taken_in() {
    let media = read::open(&DEMO.1).unwrap();
    let text = draft(&media, "media/quay os.iso", &DraftWishes::default());
    let bare = StackFile::parse(&text).unwrap();
    assert_eq!((bare.source.unwrap().media.as_str(), bare.update.len()), ("media/quay os.iso", 0));
    // What is commented out: tables, and keys with a value.
    let is_key = |line: &str| {
        line.split_once(" = ").is_some_and(|(key, _)| key.chars().all(|c| c.is_ascii_lowercase() || c == '_'))
    };
    let mut taken = 0;
    let take = |line: &str| {
        let own = line.strip_prefix("# ").filter(|own| own.starts_with('[') || is_key(own));
        own.map_or_else(
            || line.to_owned(),
            |own| {
                taken += 1;
                own.to_owned()
            },
        )
    };
    let full: Vec<String> = text.lines().map(take).collect();
    let full =
        StackFile::parse(&full.join("\n")).unwrap_or_else(|error| panic!("{error}\n{}", full.join("\n")));
    assert!(taken > 25, "{taken} lines");
    assert_eq!((full.update.len(), full.driver.len(), full.app.len(), full.place.len()), (1, 1, 1, 1));
    assert!(full.remove.is_some() && full.settings.is_some() && full.answer.is_some());
    assert!(full.media.stick.is_some() && full.media.trial.len() == 2);
}

#[test]
fn one_pass_writes_each_form_and_the_ledger_vouches_for_it() {
    let bench =
        Bench::new("editions = [2]\n[media]\niso = \"out/b.iso\"\nstick = { image = \"out/b.img\" }\n");
    let plan = bench.plan();
    let forms: Vec<_> = plan.outputs.iter().map(|own| (own.form, own.what.as_str())).collect();
    assert_eq!(forms, [("disc", ""), ("stick", "GPT, FAT32")]);
    assert_eq!(steps(&plan)[0], "keep 1 of 3 editions: Quay OS 7 Bridge");
    let built = bench.build();
    let [outcome] = built.as_slice() else { panic!("one media") };
    assert_eq!(outcome.main, bench.at("out/b.iso"));
    let text = fs::read_to_string(&outcome.ledger_path).unwrap();
    assert_eq!(Ledger::parse(&text).unwrap().to_text().unwrap(), text);
    assert_eq!(outcome.ledger.outputs.len(), 2);
    for (own, planned) in outcome.ledger.outputs.iter().zip(&plan.outputs) {
        assert_eq!((own.form.as_str(), own.size), (planned.form, planned.size));
        assert_eq!(own.sha256.as_deref(), Some(sha256(Path::new(&own.path)).as_str()));
        let media = read::open(Path::new(&own.path)).unwrap();
        let image = open_image(&media.tree, &install_image_path(&media.tree).unwrap()).unwrap();
        let names: Vec<String> = edition_summaries(&image).unwrap().into_iter().map(|own| own.name).collect();
        assert_eq!(names, ["Quay OS 7 Bridge"]);
    }
    // A stick alone is its own main output.
    let alone = Bench::new("[media]\nstick = { image = \"s.img\", scheme = \"mbr\", size = \"40M\" }\n");
    let [plan] = alone.plan().outputs.try_into().unwrap();
    assert_eq!((plan.form, plan.size, plan.what.as_str()), ("stick", 40 << 20, "MBR, FAT32"));
    assert_eq!(alone.build()[0].main, alone.at("s.img"));
    assert_eq!(fs::metadata(alone.at("s.img")).unwrap().len(), 40 << 20);
}

#[test]
fn the_same_recipe_gives_the_same_bytes() {
    let rest = "editions = [1, 3]\n[media]\niso = \"b.iso\"\nlabel = \"DECK-{date}\"\n";
    let (a, b) = (Bench::new(rest), Bench::new(rest));
    let labels = [&a, &b].map(|bench| bench.build()[0].ledger.outputs[0].label.clone());
    assert_eq!(labels[0], "DECK-2026-09-21");
    assert_eq!(sha256(&a.at("b.iso")), sha256(&b.at("b.iso")));
    assert_eq!(
        fs::metadata(a.at("b.iso")).unwrap().modified().unwrap(),
        CLOCK.fixed.unwrap().to_system_time().unwrap()
    );
}

#[test]
fn files_are_put_kept_replaced_or_refused() {
    let place = |replace: &str| {
        Bench::new(&format!(
            "[[place]]\nfrom = \"readme.txt\"\nto = \"media:/\"\n{replace}\n[[place]]\nfrom = \"more\"\nto = \"media:/tools\"\n[media]\niso = \"b.iso\"\n"
        ))
    };
    let fill = |bench: &Bench| {
        fs::write(bench.at("readme.txt"), "another").unwrap();
        fs::create_dir(bench.at("more")).unwrap();
        fs::write(bench.at("more/a.txt"), "a").unwrap();
        fs::write(bench.at("more/b.txt"), "b").unwrap();
    };
    let bench = place("");
    fill(&bench);
    let plan = bench.plan();
    assert!(plan.is_refused());
    assert_eq!(said(&plan, Weight::Refused), ["media:/readme.txt is there already, with other bytes"]);
    assert!(steps(&plan).contains(&"put 2 files of more into media:/tools".to_owned()), "{:?}", steps(&plan));
    let bench = place("replace = true");
    fill(&bench);
    let plan = bench.plan();
    assert!(!plan.is_refused() && steps(&plan).contains(&"replace media:/readme.txt".to_owned()));
    let ledger = &bench.build()[0].ledger;
    let put: Vec<(&str, u64)> = ledger.files.iter().map(|file| (file.path.as_str(), file.size)).collect();
    assert_eq!(put, [("readme.txt", 7), ("tools/a.txt", 1), ("tools/b.txt", 1)]);
    let media = read::open(&bench.at("b.iso")).unwrap();
    assert_eq!(media.tree.file("tools/b.txt").unwrap().to_vec(9, "x").unwrap(), b"b");
    // What is the same is kept.
    let content = media.tree.file("readme.txt").unwrap().to_vec(99, "x").unwrap();
    assert_eq!(content, b"another");
}

#[test]
fn what_cannot_be_is_said_before_anything_is_written() {
    for (rest, wanted) in [
        ("[media]\n", "[media] names neither an ISO file nor a stick"),
        ("editions = [7]\n[media]\niso = \"b.iso\"\n", "7"),
        ("editions = [\"Quay OS 7 Galley\"]\n[media]\niso = \"b.iso\"\n", "Galley"),
        ("sha256 = \"00\"\n[media]\niso = \"b.iso\"\n", "SHA-256 00"),
        ("image_from = \"none.wim\"\n[media]\niso = \"b.iso\"\n", "`source.image_from` names none.wim"),
        (
            "[[place]]\nfrom = \"quay.iso\"\nto = \"disc:/x\"\n[media]\niso = \"b.iso\"\n",
            "does not say where",
        ),
        ("[media]\niso = \"{edition}.iso\"\n", "{edition} is not one thing here"),
        ("[media]\niso = \"b.iso\"\nlabel = \"{galley}\"\n", "there is no {galley}"),
        ("[media]\nstick = { image = \"s.img\", size = \"1M\" }\n", "too small"),
        ("[media]\nstick = { image = \"s.img\", size = \"huge\" }\n", "\"huge\" is not a size"),
    ] {
        let bench = Bench::new(rest);
        let error = bench.error();
        assert!(error.contains(wanted), "{rest}: {error}");
        let names: Vec<_> =
            fs::read_dir(bench.dir.path()).unwrap().map(|own| own.unwrap().file_name()).collect();
        assert_eq!(names, ["quay.iso"], "{rest}");
    }
    // The source itself is never an output, by whatever name.
    let bench = Bench::new("[media]\niso = \"link.iso\"\n");
    std::os::unix::fs::symlink("quay.iso", bench.at("link.iso")).unwrap();
    assert!(
        said(&bench.plan(), Weight::Refused)[0].ends_with("is the source itself, which is never written")
    );
}

#[test]
fn each_machine_of_a_list_gets_its_media() {
    let bench = Bench::new(
        "[answer]\nmodel = { machine = { name = \"{name}\" }, language = { setup = \"{tongue}\" } }\n\
         [[variant]]\nsites = \"m.csv\"\n[media]\niso = \"out/{name}.iso\"\nlabel = \"{name}\"\n",
    );
    fs::write(bench.at("m.csv"), "name,tongue\nDECK-1,nb-NO\nDECK-2,en-GB\n").unwrap();
    let plan = bench.plan();
    let rows: Vec<(usize, &str, &str)> =
        plan.variants.iter().map(|own| (own.row, own.machine.as_str(), own.label.as_str())).collect();
    assert_eq!(rows, [(2, "DECK-1", "DECK-1"), (3, "DECK-2", "DECK-2")]);
    let built = bench.build();
    assert_eq!(built.len(), 2);
    for (outcome, (name, tongue)) in built.iter().zip([("DECK-1", "nb-NO"), ("DECK-2", "en-GB")]) {
        let media = read::open(&outcome.main).unwrap();
        assert_eq!(media.volume.label, name);
        let answers = media.tree.file("autounattend.xml").unwrap().to_vec(1 << 20, "answers").unwrap();
        let answers = String::from_utf8(answers).unwrap();
        assert!(answers.contains(name) && answers.contains(tongue), "{answers}");
    }
    // Names that meet are refused; machines that are not on the list are named with what was meant.
    let twice = Bench::new("[[variant]]\nsites = \"m.csv\"\n[media]\niso = \"same.iso\"\n");
    fs::copy(bench.at("m.csv"), twice.at("m.csv")).unwrap();
    assert!(said(&twice.plan(), Weight::Refused)[0].starts_with("rows 2 and 3 would write the same file"));
    let only = ["DEKC-1".to_owned()];
    let wishes = Wishes { only: &only, ..Wishes::default() };
    let error = Prepared::new(&bench.stack, &bench.at("t.stack.toml"), &CLOCK, wishes, &Job::silent());
    assert!(error.err().unwrap().hint().to_string().contains("did you mean \"DECK-1\"?"));
}

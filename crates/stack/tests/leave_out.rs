//! What stays out of a media, of its editions and of its setup environment, and what must not.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod support;

use neat_content::{Job, Tree};
use neat_image::Files;
use neat_media::read;
use neat_stack::{Weight, compare, install_image_path, open_image, setup_image_path};
use std::fs;
use support::{Bench, DEMO, said, steps};

const END: &str = "[media]\niso = \"t.iso\"\n";

fn bench(section: &str) -> Bench {
    Bench::new(&format!("editions = [\"Quay OS 7 Bridge\"]\n[[leave_out]]\n{section}\n{END}"))
}

fn built(bench: &Bench) -> Tree {
    bench.build();
    read::open(&bench.at("t.iso")).unwrap().tree
}

fn files(tree: &Tree, setup: bool) -> Files {
    let path = if setup { setup_image_path(tree) } else { install_image_path(tree) };
    let image = open_image(tree, &path.unwrap()).unwrap();
    image.files(1).unwrap()
}

#[test]
fn files_and_folders_of_the_media_stay_out() {
    let bench = bench("paths = [\"media:/support/charts\", \"media:/**/licence.*\", \"media:README.TXT\"]");
    let plan = bench.plan();
    assert!(!plan.is_refused(), "{:?}", plan.findings);
    let done = steps(&plan);
    for step in [
        "leave out media:/support/charts: 2 files",
        "leave out media:/**/licence.*: 3 files",
        "leave out media:README.TXT: 1 file",
    ] {
        assert!(done.iter().any(|own| own == step), "{step}: {done:?}");
    }
    let bytes: Vec<i64> =
        plan.steps.iter().filter(|step| step.action == "leave out").map(|step| step.bytes).collect();
    assert_eq!(bytes, [-(9004 + 7005), -(3 * 138), -169]);
    let tree = built(&bench);
    for path in ["support/charts", "sources/de-DE/licence.txt", "readme.txt"] {
        assert!(tree.find(path).is_none(), "{path}");
    }
    // All else is as it was, the image file's other editions apart.
    let comparison = compare(&DEMO.1, &bench.at("t.iso"), None, &Job::silent()).unwrap();
    let gone = comparison.files.iter().filter(|own| own.after.is_none()).count();
    assert_eq!((gone, comparison.files.len()), (6, 6), "{:?}", comparison.files);
}

#[test]
fn what_fits_nothing_is_said_unless_it_does_not_matter() {
    let text = "paths = [\"media:/nowhere/*\", \"system:/nowhere\", \"setup:/nowhere\"]";
    let plan = bench(text).plan();
    let notes = said(&plan, Weight::Note);
    for place in ["media:/nowhere/*", "system:/nowhere", "setup:/nowhere"] {
        let wanted = format!("[[leave_out]] {place}: nothing fits");
        assert_eq!(notes.iter().filter(|note| **note == wanted).count(), 1, "{place}: {notes:?}");
    }
    let plan = bench(&format!("{text}\noptional = true")).plan();
    assert!(!said(&plan, Weight::Note).iter().any(|note| note.contains("nothing fits")));
    // A media without a setup environment has nothing there either.
    let without = |optional: bool| {
        let text =
            "paths = [\"media:/sources/boot.wim\"]\nforce = true\n[[leave_out]]\npaths = [\"setup:/x\"]\n";
        bench(&format!("{text}optional = {optional}")).plan().is_refused()
    };
    assert!(!without(true) && without(false));
    for wrong in ["nowhere", "media:", "disc:/x"] {
        let error = bench(&format!("paths = [{wrong:?}]")).error();
        assert!(error.contains("does not say what"), "{error}");
    }
}

#[test]
fn what_a_media_needs_to_start_stays_unless_that_is_forced() {
    for (path, why) in [
        ("media:/boot/*.img", "firmware starts it"),
        ("media:/efi/**/*.efi", "firmware and boot managers read what lies there"),
        ("media:/sources", "the setup environment starts from it"),
        ("media:/sources/install.*", "the systems are in it"),
        ("setup:{root}/System32/config", "the registry lies in /"),
        ("system:/users/default/ntuser.dat", "the registry lies in /Users/Default/NTUSER.DAT"),
        ("system:/**/windlass.lib", "a driver that the system starts with is /"),
    ] {
        let plan = bench(&format!("paths = [{path:?}]")).plan();
        let refused = said(&plan, Weight::Refused);
        assert!(refused.len() == 1 && refused[0].contains(why), "{path}: {refused:?}");
    }
    let forced = bench("paths = [\"media:/boot\", \"system:/**/windlass.lib\"]\nforce = true");
    let plan = forced.plan();
    assert_eq!(said(&plan, Weight::Refused), [""; 0]);
    // What started from there is no longer claimed.
    assert_eq!(plan.output.boot.iter().map(|own| own.platform.as_str()).collect::<Vec<_>>(), ["UEFI"]);
}

#[test]
fn what_answers_and_boot_managers_name_stays() {
    let answers = |path: &str| {
        let own = Bench::new(&format!(
            "editions = [\"Quay OS 7 Bridge\"]\n[[leave_out]]\npaths = [{path:?}]\n[answer]\nfile = \"a.answer.toml\"\n\
             accept = [\"no-password\", \"asks\"]\n{END}"
        ));
        let text = "format = 1\n[[command]]\nstage = \"first-sign-in\"\nrun = 'notes.exe D:\\Support\\Charts\\Hafenpläne.txt'\n";
        fs::write(own.at("a.answer.toml"), text).unwrap();
        own.plan()
    };
    let plan = answers("media:/support/charts");
    assert!(said(&plan, Weight::Refused)[0].contains("the answers name it"), "{:?}", plan.findings);
    let plan = answers("media:/support/charts/航路図.txt");
    assert_eq!(said(&plan, Weight::Refused), [""; 0]);
}

#[test]
fn files_of_editions_and_of_the_setup_environment_stay_out() {
    let source = read::open(&DEMO.1).unwrap().tree;
    let setup_before: Vec<String> = files(&source, true).walk().map(|step| step.path).collect();
    let bench = bench(
        "paths = [\"system:{root}/Web/Wallpaper\", \"system:/**/messages.txt\", \"setup:/**/setup.txt\"]\noptional = true",
    );
    let plan = bench.plan();
    assert!(!plan.is_refused(), "{:?}", plan.findings);
    let items: Vec<_> = plan.editions_work.iter().flat_map(|work| &work.items).collect();
    let of = |subject: &str| items.iter().find(|item| item.subject == subject).unwrap();
    assert_eq!(of("system:{root}/Web/Wallpaper").detail, "3 files");
    let tree = built(&bench);
    let (before, after) = (image_of_bridge(&source), files(&tree, false));
    let wallpapers: u64 = before
        .0
        .walk()
        .filter(|step| step.path.starts_with("Quay/Web/Wallpaper/"))
        .map(|step| before.1(before.0.entry(step.id).content()))
        .sum();
    assert_eq!(of("system:{root}/Web/Wallpaper").bytes, -(wallpapers as i64));
    assert!(wallpapers > 0);
    let paths: Vec<String> = after.walk().map(|step| step.path).collect();
    assert!(!paths.iter().any(|path| path.contains("Wallpaper") || path.ends_with("messages.txt")));
    let kept = before
        .0
        .walk()
        .filter(|step| !step.path.contains("Wallpaper") && !step.path.ends_with("messages.txt"));
    for step in kept {
        assert!(paths.contains(&step.path), "{} went, too", step.path);
    }
    let setup: Vec<String> = files(&tree, true).walk().map(|step| step.path).collect();
    assert!(setup.len() <= setup_before.len());
}

/// The files of an edition, and how long contents are.
fn image_of_bridge(tree: &Tree) -> (Files, impl Fn(neat_image::BlobDigest) -> u64) {
    let image = open_image(tree, &install_image_path(tree).unwrap()).unwrap();
    let number = image.find_edition("Quay OS 7 Bridge").unwrap();
    let files = image.files(number).unwrap();
    (files, move |digest| image.blob_len(digest).unwrap_or(0))
}

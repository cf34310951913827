//! Depots in stack files: what a folder has is described, and `depot:` stands for a file of it.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod support;

use neat_content::Job;
use neat_stack::{DepotPlaces, DepotState, StackFile, index_folder, resolve_depot};
use std::{fs, path::Path};
use support::{DEMO, sha256};

/// A folder with the demo's media and updates.
fn depot() -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir_all(dir.path().join("media/.hidden")).unwrap();
    fs::copy(&DEMO.1, dir.path().join("media/quay-os-7.iso")).unwrap();
    fs::copy(&DEMO.1, dir.path().join("media/.hidden/other.iso")).unwrap();
    fs::create_dir(dir.path().join("updates")).unwrap();
    for entry in fs::read_dir(DEMO.0.path().join("updates")).unwrap() {
        let entry = entry.unwrap();
        fs::copy(entry.path(), dir.path().join("updates").join(entry.file_name())).unwrap();
    }
    fs::write(dir.path().join("readme.txt"), "no media").unwrap();
    fs::write(dir.path().join("empty.iso"), "").unwrap();
    dir
}

fn index(dir: &Path) -> neat_depot::Index {
    let (index, notes) = index_folder(dir, Some("Brackwater"), &Job::silent()).unwrap();
    assert_eq!(notes, [""; 0]);
    fs::write(dir.join(neat_depot::INDEX_NAME), index.to_text().unwrap()).unwrap();
    index
}

fn resolved(
    text: &str,
    base: &Path,
    default: Option<&str>,
) -> neat_content::Result<(StackFile, Vec<neat_stack::DepotUse>)> {
    let mut stack = StackFile::parse(text).unwrap();
    let places = DepotPlaces {
        default,
        keep_in: &base.join("kept"),
        fetch: true,
        options: neat_depot::FetchOptions::default(),
    };
    let uses = resolve_depot(&mut stack, base, &places, &Job::silent())?;
    Ok((stack, uses))
}

const MEDIA: &str = "[media]\niso = \"t.iso\"\n";

#[test]
fn a_folder_is_described_with_digests_and_what_is_none_is_passed_over() {
    let dir = depot();
    let index = index(dir.path());
    assert_eq!(index.title, "Brackwater");
    let media: Vec<_> = index.items.iter().filter(|own| own.kind == neat_depot::ItemKind::Media).collect();
    assert_eq!(media.len(), 1, "hidden folders and empty files are none");
    assert_eq!(media[0].file, "media/quay-os-7.iso");
    assert_eq!(media[0].sha256, sha256(&DEMO.1));
    assert_eq!(media[0].size, fs::metadata(&DEMO.1).unwrap().len());
    assert_eq!(media[0].editions.len(), 3);
    assert!(media[0].id.starts_with("quay-os-7/x64"), "{}", media[0].id);
    let updates = index.items.iter().filter(|own| own.kind == neat_depot::ItemKind::Update).count();
    assert!(updates >= 2, "{updates}");
    assert!(index.items.iter().all(|own| !own.file.contains("readme") && own.blake3.len() == 64));
}

#[test]
fn what_a_person_wrote_stays_while_the_file_is_the_same() {
    let dir = depot();
    let mut first = index(dir.path());
    let at = first.items.iter().position(|own| own.file.ends_with(".iso")).unwrap();
    first.items[at].title = "The one for ferries".into();
    fs::write(dir.path().join(neat_depot::INDEX_NAME), first.to_text().unwrap()).unwrap();
    let again = index(dir.path());
    assert_eq!(again.items[at].title, "The one for ferries");
    // Another file under the name has nothing of it.
    let path = dir.path().join("media/quay-os-7.iso");
    let mut bytes = fs::read(&path).unwrap();
    bytes.extend([0; 2048]);
    fs::write(&path, bytes).unwrap();
    let other = index(dir.path());
    let own = other.items.iter().find(|own| own.file.ends_with(".iso")).unwrap();
    assert_ne!(own.title, "The one for ferries");
    assert_ne!(own.sha256, first.items[at].sha256);
}

#[test]
fn depot_stands_for_a_path_and_says_what_it_took() {
    let dir = depot();
    let index = index(dir.path());
    let id = &index.items.iter().find(|own| own.file.ends_with(".iso")).unwrap().id;
    let update = &index.items.iter().find(|own| own.kind == neat_depot::ItemKind::Update).unwrap().id;
    let text = format!(
        "depot = {:?}\n[source]\nmedia = \"depot:{id}\"\n[[update]]\nfrom = \"depot:{update}\"\n{MEDIA}",
        dir.path()
    );
    let base = tempfile::tempdir().unwrap();
    let (stack, uses) = resolved(&text, base.path(), None).unwrap();
    assert_eq!(uses.len(), 2);
    assert!(uses.iter().all(|own| own.state == DepotState::Here));
    assert_eq!(uses[0].sha256, sha256(&DEMO.1));
    let media = stack.source.unwrap().media;
    assert!(Path::new(&media).is_absolute() && media.ends_with("media/quay-os-7.iso"), "{media}");
    assert!(stack.update[0].from.contains("/updates/"), "{}", stack.update[0].from);
    // Without a word of it the stack file's own comes first, then the given one.
    let plain = text.split_once('\n').unwrap().1;
    let given = dir.path().to_string_lossy();
    assert_eq!(resolved(plain, base.path(), Some(&given)).unwrap().1.len(), 2);
    let error = resolved(plain, base.path(), None).err().unwrap().to_string();
    assert!(error.contains("nobody says where that is"), "{error}");
}

#[test]
fn paths_are_left_alone_and_need_no_depot() {
    let base = tempfile::tempdir().unwrap();
    let text = format!("[source]\nmedia = \"quay.iso\"\n{MEDIA}");
    let (stack, uses) = resolved(&text, base.path(), None).unwrap();
    assert!(uses.is_empty());
    assert_eq!(stack.source.unwrap().media, "quay.iso");
}

#[test]
fn a_file_that_changed_since_it_was_described_is_not_taken() {
    let dir = depot();
    let index = index(dir.path());
    let id = &index.items.iter().find(|own| own.file.ends_with(".iso")).unwrap().id;
    let path = dir.path().join("media/quay-os-7.iso");
    let mut bytes = fs::read(&path).unwrap();
    let at = bytes.len() / 2;
    bytes[at] ^= 1;
    fs::write(&path, bytes).unwrap();
    let text = format!("depot = {:?}\n[source]\nmedia = \"depot:{id}\"\n{MEDIA}", dir.path());
    let base = tempfile::tempdir().unwrap();
    let error = resolved(&text, base.path(), None).err().unwrap();
    assert!(error.to_string().contains("quay-os-7.iso"), "{error}");
}

#[test]
fn what_a_depot_does_not_have_is_named_with_what_is_near() {
    let dir = depot();
    index(dir.path());
    let base = tempfile::tempdir().unwrap();
    let text = format!("depot = {:?}\n[source]\nmedia = \"depot:quay-os-8\"\n{MEDIA}", dir.path());
    let error = resolved(&text, base.path(), None).err().unwrap();
    let said = format!("{error} {}", error.hint());
    assert!(said.contains("quay-os-8") && said.contains("quay-os-7"), "{said}");
}

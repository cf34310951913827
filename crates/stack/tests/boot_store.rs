//! The boot manager's store: what it says, and what a build changes in it and nothing else.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod support;

use neat_content::Tree;
use neat_media::read;
use neat_registry::{Hive, ValueKind, text_data, texts_data};
use neat_stack::{MediaBootStore, Weight, boot_stores, install_image_path};
use std::{collections::BTreeMap, fs};
use support::{Bench, DEMO, said};

const MANAGER: &str = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
const SETUP: &str = "{7619dcc9-fafe-11d9-b411-000476eba25f}";
const OPTIONS: &str = "{7619dcc8-fafe-11d9-b411-000476eba25f}";
const MEMORY: &str = "{b2721d73-1db4-4c62-bf78-c548a880142d}";
const DESCRIPTOR: [u8; 20] = [1, 0, 4, 0x80, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];

/// Bytes before and after a path, as devices have them; what they mean does not matter here.
fn device(path: &str) -> Vec<u8> {
    let mut bytes =
        vec![0xC8, 0xDC, 0x19, 0x76, 0xFE, 0xFA, 0xD9, 0x11, 0xB4, 0x11, 0, 4, 0x76, 0xEB, 0xA2, 0x5F];
    bytes.extend([0, 0, 0, 0, 1, 0, 0, 0, 0x7E, 0, 0, 0, 0, 0, 0, 0, 3]);
    bytes.extend(text_data(path));
    bytes.extend([5, 0, 0, 0]);
    bytes
}

/// A store as a vendor's media has one: a menu entry, the options of its RAM disk, a memory test that is not shown.
fn store() -> Vec<u8> {
    let mut hive = Hive::new(5, "NewStoreRoot", &DESCRIPTOR, 1);
    let mut set = |path: &str, name: &str, kind: ValueKind, data: &[u8]| {
        let key = hive.create(path).unwrap();
        hive.set(key, name, kind, data).unwrap();
    };
    set("Description", "KeyName", ValueKind::TEXT, &text_data("BCD00000000"));
    for (id, kind) in
        [(MANAGER, 0x1010_0002_u32), (SETUP, 0x1020_0003), (OPTIONS, 0x3000_0000), (MEMORY, 0x1020_0005)]
    {
        set(&format!("Objects\\{id}\\Description"), "Type", ValueKind::NUMBER, &kind.to_le_bytes());
    }
    let mut element = |id: &str, element: &str, kind: ValueKind, data: &[u8]| {
        set(&format!("Objects\\{id}\\Elements\\{element}"), "Element", kind, data);
    };
    element(MANAGER, "24000001", ValueKind::TEXTS, &texts_data(&[SETUP]));
    element(MANAGER, "23000003", ValueKind::TEXT, &text_data(SETUP));
    element(MANAGER, "25000004", ValueKind::BINARY, &30_u64.to_le_bytes());
    element(SETUP, "12000004", ValueKind::TEXT, &text_data("Quay OS Setup"));
    element(SETUP, "12000002", ValueKind::TEXT, &text_data("\\quay\\system32\\boot\\loader.exe"));
    element(SETUP, "11000001", ValueKind::BINARY, &device("\\sources\\boot.wim"));
    element(SETUP, "21000001", ValueKind::BINARY, &device("\\sources\\boot.wim"));
    element(SETUP, "26000022", ValueKind::BINARY, &[1]);
    element(MEMORY, "12000004", ValueKind::TEXT, &text_data("Memory test"));
    hive.write().unwrap()
}

/// The demo's media with stores for both firmwares; `rest` is the stack file that is built from it.
fn bench(rest: &str) -> Bench {
    let made = Bench::new(
        "[[place]]\nfrom = \"bcd\"\nto = \"media:/boot/\"\nreplace = true\n[[place]]\nfrom = \"bcd\"\nto = \"media:/efi/microsoft/boot/\"\n\
         [media]\niso = \"t.iso\"\n",
    );
    fs::write(made.at("bcd"), store()).unwrap();
    made.build();
    let bench = Bench::new(&format!("{rest}[media]\niso = \"t.iso\"\n")).changed("quay.iso", "source.iso");
    fs::copy(made.at("t.iso"), bench.at("source.iso")).unwrap();
    bench
}

fn built(bench: &Bench) -> Tree {
    bench.build();
    read::open(&bench.at("t.iso")).unwrap().tree
}

fn bytes(tree: &Tree, path: &str) -> Vec<u8> {
    tree.node(tree.find_ignoring_case(path).unwrap()).content().unwrap().to_vec(1 << 20, "store").unwrap()
}

/// Values of a store by their paths, by the second reading of hives.
fn values(bytes: &[u8]) -> BTreeMap<String, Vec<u8>> {
    let mut all = BTreeMap::new();
    for (path, (_, values)) in neat_testing::hive::check(bytes) {
        for (name, (_, _, data)) in values {
            all.insert(format!("{path}|{name}"), data);
        }
    }
    all
}

fn titles(store: &MediaBootStore) -> Vec<&str> {
    store.facts.entries.iter().map(|own| own.title.as_str()).collect()
}

#[test]
fn a_store_says_its_entries_its_default_and_how_long_it_waits() {
    let tree = built(&bench(""));
    let found = boot_stores(&tree);
    let paths: Vec<&str> = found.iter().map(|own| own.path.as_str()).collect();
    assert_eq!(paths.len(), 2, "{paths:?}");
    let facts = &found[0].facts;
    assert_eq!((titles(&found[0]), facts.timeout_seconds), (vec!["Quay OS Setup"], Some(30)));
    let entry = &facts.entries[0];
    assert_eq!(
        (entry.image.as_str(), entry.default, entry.test_signing),
        ("\\sources\\boot.wim", true, false)
    );
    let demo = boot_stores(&read::open(&DEMO.1).unwrap().tree);
    assert_eq!((demo.len(), titles(&demo[0])), (1, vec!["Quay OS 7 Setup"]));
}

#[test]
fn titles_time_default_and_tests_are_set_and_nothing_else() {
    let own = bench(
        "[boot_store]\ntitles = { \"Quay OS Setup\" = \"Brackwater setup\" }\ntimeout_seconds = 5\ntest_signing = true\n",
    );
    let tree = built(&own);
    for path in ["boot/bcd", "efi/microsoft/boot/bcd"] {
        let (before, after) = (values(&store()), values(&bytes(&tree, path)));
        let changed: Vec<&String> = after
            .iter()
            .filter(|(path, data)| before.get(*path) != Some(*data))
            .map(|(path, _)| path)
            .collect();
        let elements: Vec<&str> =
            changed.iter().filter_map(|path| path.split('\\').next_back()?.split('|').next()).collect();
        assert_eq!(elements, ["12000004", "16000049", "25000004"], "{changed:?}");
        assert!(before.keys().all(|path| after.contains_key(path)), "nothing went");
    }
    let found = boot_stores(&tree);
    assert_eq!((titles(&found[0]), found[0].facts.timeout_seconds), (vec!["Brackwater setup"], Some(5)));
    assert!(found[0].facts.entries[0].test_signing);
    // The same again changes nothing; what is there already is no step.
    let again = bench("[boot_store]\ntimeout_seconds = 5\ntest_signing = true\n");
    fs::copy(own.at("t.iso"), again.at("source.iso")).unwrap();
    let plan = again.plan();
    assert!(!plan.steps.iter().any(|step| step.subject.to_lowercase().ends_with("/bcd")), "{:?}", plan.steps);
    assert_eq!(bytes(&built(&again), "boot/bcd"), bytes(&tree, "boot/bcd"));
}

#[test]
fn a_second_environment_gets_an_entry_where_its_firmware_can_start_it() {
    let own = bench(
        "[boot_store]\ndefault = \"Workshop\"\n[[boot_store.add]]\ntitle = \"Workshop\"\nimage = \"workshop.wim\"\n\
         [[boot_store.add]]\ntitle = \"Another\"\nimage = \"workshop.wim\"\nlike = 1\n",
    );
    let source = read::open(&DEMO.1).unwrap().tree;
    let image =
        source.file(&install_image_path(&source).unwrap()).unwrap().to_vec(64 << 20, "image").unwrap();
    fs::write(own.at("workshop.wim"), &image).unwrap();
    let plan = own.plan();
    assert_eq!(said(&plan, Weight::Refused), [""; 0]);
    let tree = built(&own);
    for into in ["sources/boo2.wim", "sources/boo3.wim"] {
        assert_eq!(tree.file(into).unwrap().to_vec(64 << 20, "image").unwrap(), image, "{into}");
    }
    for store in boot_stores(&tree) {
        assert_eq!(titles(&store), ["Quay OS Setup", "Workshop", "Another"], "{}", store.path);
        let images: Vec<&str> = store.facts.entries.iter().map(|own| own.image.as_str()).collect();
        assert_eq!(images, ["\\sources\\boot.wim", "\\sources\\boo2.wim", "\\sources\\boo3.wim"]);
        let defaults: Vec<bool> = store.facts.entries.iter().map(|own| own.default).collect();
        assert_eq!(defaults, [false, true, false]);
    }
    // A new entry is the old one but for its title and paths, byte for byte.
    let after = values(&bytes(&tree, "boot/bcd"));
    let of = |id: &str| -> BTreeMap<String, Vec<u8>> {
        let id = format!("OBJECTS\\{}\\", id.to_uppercase());
        let own = after.iter().filter_map(|(path, data)| {
            Some((path.to_uppercase().split_once(&id)?.1.to_owned(), data.clone()))
        });
        own.collect()
    };
    let (old, new) = (of(SETUP), of(&boot_stores(&tree)[0].facts.entries[1].id));
    assert_eq!(old.keys().collect::<Vec<_>>(), new.keys().collect::<Vec<_>>());
    let differ: Vec<&String> =
        old.iter().filter(|(path, data)| new[*path] != **data).map(|(path, _)| path).collect();
    assert_eq!(differ.len(), 3, "{differ:?}");
    let device = &new[*differ.iter().find(|path| path.contains("11000001")).unwrap()];
    assert_eq!(*device, self::device("\\sources\\boo2.wim"));
    // Once more: it is there already.
    let again = bench("[[boot_store.add]]\ntitle = \"Workshop\"\nimage = \"workshop.wim\"\n");
    fs::copy(own.at("t.iso"), again.at("source.iso")).unwrap();
    fs::write(again.at("workshop.wim"), &image).unwrap();
    assert_eq!(bytes(&built(&again), "boot/bcd"), bytes(&tree, "boot/bcd"));
}

#[test]
fn the_same_recipe_on_its_own_result_finds_everything_in_place() {
    let recipe = "[boot_store]\ntitles = { \"Quay OS Setup\" = \"Brackwater setup\" }\ndefault = \"Brackwater setup\"\n";
    let own = bench(recipe);
    let tree = built(&own);
    let again = bench(recipe);
    fs::copy(own.at("t.iso"), again.at("source.iso")).unwrap();
    assert_eq!(bytes(&built(&again), "boot/bcd"), bytes(&tree, "boot/bcd"));
}

#[test]
fn two_entries_change_their_titles_and_one_firmware_lacks_the_default() {
    // The media has a loader for x64 alone, and an image file that says no architecture.
    let recipe =
        "[boot_store]\ndefault = \"Workshop\"\n[[boot_store.add]]\ntitle = \"Workshop\"\nimage = \"w.wim\"\n";
    let own = bench(recipe);
    let mut draft = neat_image::ImageDraft::new(None);
    let files = neat_image::Files::new(neat_image::Times::default());
    draft.add_edition(files, neat_image::capture::image_element("Bench", "", 0)).unwrap();
    let image = draft.to_content(&std::env::temp_dir(), 1, &neat_content::Job::silent()).unwrap();
    fs::write(own.at("w.wim"), image.to_vec(1 << 20, "image").unwrap()).unwrap();
    let plan = own.plan();
    assert!(
        said(&plan, Weight::Note).iter().any(|note| note.contains("UEFI does not show it")),
        "{:?}",
        plan.findings
    );
    let tree = built(&own);
    let stores = boot_stores(&tree);
    let defaults: Vec<&str> = stores
        .iter()
        .flat_map(|own| &own.facts.entries)
        .filter(|own| own.default)
        .map(|own| own.title.as_str())
        .collect();
    assert_eq!(defaults, ["Workshop", "Quay OS Setup"]);
    let swap =
        bench("[boot_store]\ntitles = { \"Quay OS Setup\" = \"Workshop\", \"2\" = \"Quay OS Setup\" }\n");
    fs::copy(own.at("t.iso"), swap.at("source.iso")).unwrap();
    let only_bios = swap.changed(
        "[boot_store]",
        "[[leave_out]]\npaths = [\"media:/efi/microsoft/boot/bcd\"]\nforce = true\n[boot_store]",
    );
    let found = boot_stores(&built(&only_bios));
    assert_eq!(titles(&found[0]), ["Workshop", "Quay OS Setup"]);
}

#[test]
fn what_a_store_does_not_have_is_said() {
    let error = bench("[boot_store]\ndefault = \"Nothing\"\n").error();
    assert!(error.contains("has no entry \"Nothing\""), "{error}");
    let none =
        "[[leave_out]]\npaths = [\"media:/boot/bcd\"]\nforce = true\n[boot_store]\ntimeout_seconds = 1\n";
    let error = Bench::new(&format!("{none}[media]\niso = \"t.iso\"\n")).error();
    assert!(error.contains("has no store of a boot manager"), "{error}");
    // Damage in its place is told, not passed over.
    let own = bench("[boot_store]\ntimeout_seconds = 1\n");
    let damaged = &store()[..5000];
    let hurt =
        own.changed("[media]", "[[place]]\nfrom = \"bcd\"\nto = \"media:/boot/\"\nreplace = true\n[media]");
    fs::write(hurt.at("bcd"), damaged).unwrap();
    let error = hurt.error();
    assert!(error.to_lowercase().contains("media:/boot/bcd"), "{error}");
}

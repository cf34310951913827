//! What is found in editions of known content, and what it weighs, against a plain reckoning.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod support;

use neat_content::{Content, Meta, Tree};
use neat_image::{ImageDraft, Times};
use neat_registry::{Hive, HiveRole, ValueKind, text_data, texts_data};
use neat_service::{Catalogue, Category, Component, Edition, Inventory, OtherFiles, Scans};
use proptest::prelude::*;
use std::{collections::BTreeSet, sync::Arc};
use support::{NOW, hive, image, layouts, open};

fn put(tree: &mut Tree, path: &str, bytes: impl Into<Vec<u8>>) {
    tree.put_file(path, Content::from_bytes(bytes.into()), Meta::at(NOW)).unwrap();
}

/// An edition with these hives and files.
fn tree(software: impl FnOnce(&mut Hive), system: impl FnOnce(&mut Hive), files: &[(&str, &str)]) -> Tree {
    let mut tree = Tree::new(Meta::at(NOW));
    put(&mut tree, "Sys/System32/config/SOFTWARE", hive("SOFTWARE", software));
    let system = hive("SYSTEM", |hive| {
        let select = hive.create("Select").unwrap();
        hive.set(select, "Current", ValueKind::NUMBER, &[1, 0, 0, 0]).unwrap();
        system(hive);
    });
    put(&mut tree, "Sys/System32/config/SYSTEM", system);
    for (path, text) in files {
        put(&mut tree, path, *text);
    }
    tree
}

fn edition(tree: Tree) -> Edition {
    open(&image(&[tree])).1
}

fn inventory(tree: Tree, catalogues: &[Catalogue]) -> Inventory {
    Inventory::of(&edition(tree), catalogues, None).unwrap()
}

fn of<'a>(inventory: &'a Inventory, id: &str) -> &'a Component {
    inventory.components.get(id).unwrap_or_else(|| panic!("{id}: {:?}", ids(inventory)))
}

fn ids(inventory: &Inventory) -> Vec<&str> {
    inventory.components.keys().map(String::as_str).collect()
}

/// A record of a package in the form that editions have them in.
fn record(name: &str, body: &str) -> String {
    format!(
        "<?xml version=\"1.0\"?><assembly xmlns=\"urn:schemas-microsoft-com:asm.v3\" displayName=\"About {name}\" \
         description=\"What {name} does\"><assemblyIdentity name=\"{name}\" version=\"7.0.1.2\" language=\"neutral\"/>{body}</assembly>"
    )
}

const PACKAGES: &str = "Microsoft\\Windows\\CurrentVersion\\Component Based Servicing\\Packages";

#[test]
fn what_needs_no_texts_read_is_shown_early() {
    let record = record("Quay-Telex", "<package/>");
    let made = tree(
        |_| {},
        |hive| {
            let key = hive.create("ControlSet001\\Services\\lamp").unwrap();
            hive.set(key, "Type", ValueKind::NUMBER, &[1, 0, 0, 0]).unwrap();
        },
        &[("Sys/servicing/Packages/telex~1.mum", &record), ("Sys/Fonts/harbour.ttf", "x")],
    );
    let draft = Arc::new(ImageDraft::of(&image(&[made])));
    let mut edition = Edition::open_files(&draft, 1, &layouts(), Times::default()).unwrap();
    assert!(edition.hives().next().is_none());
    assert_eq!(ids(&Inventory::early(&edition, &[]).unwrap()), ["font/harbour"]);
    edition.open_hives().unwrap();
    let whole = Inventory::unweighed(&edition, &[]).unwrap();
    assert_eq!(ids(&whole), ["font/harbour", "package/quay-telex", "service/lamp"]);
}

#[test]
fn records_are_packages_features_or_languages() {
    let parent = "<parent><assemblyIdentity name=\"Quay-Base\"/></parent>";
    let telex = record(
        "Quay-Telex",
        &format!(
            "<package releaseType=\"Feature Pack\">{parent}<update name=\"Telex\" displayName=\"Telex\"/>\
             <customInformation><file name=\"$(runtime.system32)\\telex.exe\"/><file name=\"$(runtime.bootdrive)\\Telex\\*.txt\"/></customInformation></package>"
        ),
    );
    let several = record(
        "Quay-Several",
        "<package><update name=\"Chart\" displayName=\"Charts\"/><update name=\"Depth\" displayName=\"Depths\"/>\
         <update name=\"an inner part\"/></package>",
    );
    let language = record("Quay-Language", "<package releaseType=\"Language Pack\"/>")
        .replace("language=\"neutral\"", "language=\"nb-NO\"");
    let base = record("Quay-Base", "<package/>");
    let made = tree(
        |hive| {
            let key = hive.create(&format!("{PACKAGES}\\telex~1\\Updates")).unwrap();
            hive.set(key, "Telex", ValueKind::NUMBER, &[7, 0, 0, 0]).unwrap();
            let key = hive.create(&format!("{PACKAGES}\\several~1\\Updates")).unwrap();
            hive.set(key, "Chart", ValueKind::NUMBER, &[4, 0, 0, 0]).unwrap();
        },
        |_| {},
        &[
            ("Sys/servicing/Packages/telex~1.mum", &telex),
            ("Sys/servicing/Packages/telex~1.cat", "signature"),
            ("Sys/servicing/Packages/telex~10.cat", "another's"),
            ("Sys/servicing/Packages/several~1.MUM", &several),
            ("Sys/servicing/Packages/language~1.mum", &language),
            ("Sys/servicing/Packages/base~1.mum", &base),
            ("Sys/servicing/Packages/broken~1.mum", "<assembly"),
            ("Sys/servicing/Packages/empty~1.mum", "<assembly/>"),
            ("Sys/System32/telex.exe", "a program"),
            ("Telex/one.txt", "one"),
            ("Telex/two.TXT", "two"),
            ("Telex/three.bin", "three"),
        ],
    );
    let all = inventory(made, &[]);
    let own: Vec<&str> = ids(&all).into_iter().filter(|id| !id.starts_with("other/")).collect();
    assert_eq!(
        own,
        ["feature/chart", "feature/depth", "feature/telex", "language/nb-no", "package/quay-base"]
    );
    let telex = of(&all, "feature/telex");
    assert_eq!((telex.title.as_str(), telex.state.as_str()), ("About Quay-Telex", "on"));
    assert_eq!((telex.version.as_str(), telex.description.as_str()), ("7.0.1.2", "What Quay-Telex does"));
    // Record, signature, program and two texts; not what has another name.
    assert_eq!((telex.files, telex.needs.as_slice()), (5, ["package/quay-base".to_owned()].as_slice()));
    assert_eq!(of(&all, "package/quay-base").needed_by, ["feature/telex"]);
    // One record with several features is none of them alone.
    let (chart, depth) = (of(&all, "feature/chart"), of(&all, "feature/depth"));
    assert_eq!((chart.state.as_str(), depth.state.as_str()), ("off", "off"));
    assert_eq!((chart.files, chart.title.as_str()), (0, "Chart"));
    assert!(chart.gone_for_good && !of(&all, "language/nb-no").gone_for_good);
    assert_eq!(all.notes.len(), 1, "{:?}", all.notes);
    assert!(all.notes[0].contains("broken~1.mum"));
}

#[test]
fn apps_are_told_by_their_manifests_and_registrations() {
    let manifest = |name: &str, version: &str, title: &str, needs: &str| {
        format!(
            "<Package xmlns=\"urn:a\" xmlns:uap=\"urn:b\"><Identity Name=\"{name}\" Version=\"{version}\"/>\
             <Properties><DisplayName>{title}</DisplayName></Properties><Dependencies>\
             <PackageDependency Name=\"{needs}\"/><TargetDeviceFamily Name=\"x\"/></Dependencies></Package>"
        )
    };
    let apps = "Microsoft\\Windows\\CurrentVersion\\Appx\\AppxAllUserStore\\Applications";
    let games = manifest("Quay.Games", "1.2.0.0", "Card games", "Quay.Runtime");
    let german = manifest("Quay.Games", "1.3.0.0", "ms-resource:name", "Quay.Runtime");
    let runtime = manifest("Quay.Runtime", "9.0.0.0", "", "Quay.Gone");
    let made = tree(
        |hive| {
            for name in ["Quay.Games_1.2.0.0_x64__b7", "Quay.Lost_1.0_x64__b7"] {
                hive.create(&format!("{apps}\\{name}")).unwrap();
            }
        },
        |_| {},
        &[
            ("Program Files/WindowsApps/Quay.Games_1.2.0.0_x64__b7/AppxManifest.xml", &games),
            ("Program Files/WindowsApps/Quay.Games_1.2.0.0_x64__b7/game.exe", "a game"),
            (
                "Program Files/WindowsApps/Quay.Games_1.3.0.0_de__b7/AppxMetadata/AppxBundleManifest.xml",
                &german,
            ),
            ("Program Files/WindowsApps/Quay.Runtime_9/AppxManifest.xml", &runtime),
            ("Program Files/WindowsApps/Damaged/AppxManifest.xml", "<Package"),
            ("Program Files/WindowsApps/Nothing/readme.txt", "no manifest"),
        ],
    );
    let all = inventory(made, &[]);
    let own: Vec<&str> = ids(&all).into_iter().filter(|id| id.starts_with("app/")).collect();
    assert_eq!(own, ["app/quay.games", "app/quay.lost", "app/quay.runtime"]);
    let games = of(&all, "app/quay.games");
    assert_eq!((games.title.as_str(), games.version.as_str(), games.files), ("Card games", "1.3.0.0", 3));
    assert_eq!(games.needs, ["app/quay.runtime"]);
    let runtime = of(&all, "app/quay.runtime");
    assert_eq!(
        (runtime.title.as_str(), runtime.needs.len()),
        ("Quay.Runtime", 0),
        "what is not there does not count"
    );
    assert_eq!(of(&all, "app/quay.lost").files, 0);
    assert!(all.notes.len() == 1 && all.notes[0].contains("Damaged"), "{:?}", all.notes);
}

#[test]
fn services_are_told_by_their_keys() {
    let service = |hive: &mut Hive, name: &str, kind: u8, start: Option<u8>, path: &str| {
        let key = hive.create(&format!("ControlSet001\\Services\\{name}")).unwrap();
        hive.set(key, "Type", ValueKind::NUMBER, &[kind, 0, 0, 0]).unwrap();
        if let Some(start) = start {
            hive.set(key, "Start", ValueKind::NUMBER, &[start, 0, 0, 0]).unwrap();
        }
        if !path.is_empty() {
            hive.set(key, "ImagePath", ValueKind::TEXT, &text_data(path)).unwrap();
        }
        key
    };
    let made = tree(
        |_| {},
        |hive| {
            service(hive, "Boot Disk", 1, Some(0), "System32\\drivers\\disk.sys");
            let alone = service(hive, "Tide", 0x10, Some(2), "%SystemRoot%\\tide.exe -k \"all of it\"");
            hive.set(alone, "DisplayName", ValueKind::TEXT, &text_data("Tide tables")).unwrap();
            hive.set(alone, "Description", ValueKind::TEXT, &text_data("@res.dll,-5")).unwrap();
            hive.set(alone, "Group", ValueKind::TEXT, &text_data("Water")).unwrap();
            for name in ["Host One", "Host Two"] {
                service(hive, name, 0x20, Some(4), "%systemroot%\\system32\\host.exe -k x");
            }
            let needy = service(hive, "Ferry", 0x10, None, "\\??\\C:\\Ferry\\ferry.exe");
            hive.set(needy, "DependOnGroup", ValueKind::TEXTS, &texts_data(&["WATER"])).unwrap();
            hive.set(needy, "DependOnService", ValueKind::TEXTS, &texts_data(&["host one", "gone"])).unwrap();
            hive.create("ControlSet001\\Services\\No service").unwrap();
        },
        &[
            ("Sys/System32/drivers/disk.sys", "disk"),
            ("Sys/tide.exe", "tide"),
            ("Sys/System32/host.exe", "host"),
            ("Ferry/ferry.exe", "ferry"),
        ],
    );
    let all = inventory(made, &[]);
    let own: Vec<&str> = ids(&all).into_iter().filter(|id| id.starts_with("service/")).collect();
    let expected =
        ["service/boot-disk", "service/ferry", "service/host-one", "service/host-two", "service/tide"];
    assert_eq!(own, expected);
    let tide = of(&all, "service/tide");
    assert_eq!((tide.title.as_str(), tide.description.as_str()), ("Tide tables", ""));
    assert_eq!((tide.state.as_str(), tide.files, tide.group.as_str()), ("automatic", 1, "services"));
    let disk = of(&all, "service/boot-disk");
    assert!(!disk.required.is_empty() && disk.state == "boot" && disk.files == 1);
    assert_eq!(of(&all, "service/host-one").files, 0, "the file is another's, too");
    assert_eq!(of(&all, "service/host-two").state, "disabled");
    let ferry = of(&all, "service/ferry");
    assert_eq!((ferry.state.as_str(), ferry.files), ("manual", 1));
    assert_eq!(ferry.needs, ["service/host-one", "service/tide"]);
}

#[test]
fn fonts_tasks_languages_wallpapers_and_screensavers_are_found_where_they_lie() {
    let cache = "Microsoft\\Windows NT\\CurrentVersion\\Schedule\\TaskCache";
    let made = tree(
        |hive| {
            let fonts = hive.create("Microsoft\\Windows NT\\CurrentVersion\\Fonts").unwrap();
            hive.set(fonts, "Quay Sans (all)", ValueKind::TEXT, &text_data("QUAY.fnt")).unwrap();
            let task = hive.create(&format!("{cache}\\Tree\\Quay\\Clean Up")).unwrap();
            hive.set(task, "Id", ValueKind::TEXT, &text_data("{1-2}")).unwrap();
            hive.create(&format!("{cache}\\Tasks\\{{1-2}}")).unwrap();
        },
        |_| {},
        &[
            ("Sys/Fonts/quay.fnt", "letters"),
            ("Sys/Fonts/other.fnt", "others"),
            ("Sys/System32/Tasks/Quay/Clean Up", "task"),
            ("Sys/System32/nb-NO/a.mui", "tekst"),
            ("Sys/nb-NO/b.mui", "mer"),
            ("Sys/System32/drivers/c.sys", "no language"),
            ("Sys/System32/Waves.SCR", "saver"),
            ("Sys/Web/Wallpaper/Pier/a.png", "picture"),
            ("Sys/Web/Wallpaper/boat.jpg", "picture too"),
        ],
    );
    let all = inventory(made, &[]);
    assert_eq!(of(&all, "font/quay").title, "Quay Sans (all)");
    assert_eq!(of(&all, "font/other").title, "other");
    assert_eq!(of(&all, "task/quay-clean-up").files, 1);
    assert_eq!(of(&all, "language/nb-no").files, 2);
    assert_eq!(of(&all, "screensaver/waves").files, 1);
    assert_eq!((of(&all, "wallpaper/pier").files, of(&all, "wallpaper/boat").files), (1, 1));
    let found: BTreeSet<Category> = all.components.keys().map(|id| Category::of_id(id)).collect();
    assert!(!found.contains(&Category::Other) && found.len() == 5, "{found:?}");
}

#[test]
fn catalogues_say_more_of_what_is_there_and_nothing_of_what_is_not() {
    let made = || {
        tree(
            |_| {},
            |_| {},
            &[("Sys/Fonts/quay.fnt", "letters"), ("Sys/Charts/a.map", "map"), ("Sys/charts.ini", "ini")],
        )
    };
    let catalogue = |products: &str| {
        Catalogue::parse(&format!(
            "format = 1\nproducts = [{products}]\n\
             [[component]]\nid = \"font/quay\"\ntitle = \"Quay letters\"\ncaution = \"menus need it\"\nneeds = [\"other/charts\", \"other/none\"]\n\
             [[component]]\nid = \"other/charts\"\nfiles = [\"{{root}}/chart?\", \"{{root}}/CHARTS.*\"]\nrequired = \"the bridge needs it\"\ngone_for_good = true\n\
             [[component]]\nid = \"other/none\"\nfiles = [\"{{root}}/none*\"]\n"
        ))
        .unwrap()
    };
    let all = inventory(made(), &[catalogue("")]);
    let font = of(&all, "font/quay");
    assert_eq!((font.title.as_str(), font.caution.as_str()), ("Quay letters", "menus need it"));
    assert_eq!(font.needs, ["other/charts"]);
    let charts = of(&all, "other/charts");
    assert_eq!(
        (charts.files, charts.required.as_str(), charts.gone_for_good),
        (2, "the bridge needs it", true)
    );
    assert_eq!(charts.needed_by, ["font/quay"]);
    assert!(!all.components.contains_key("other/none"));
    // An edition that does not say what it is takes every catalogue.
    assert_eq!(ids(&inventory(made(), &[catalogue("\"Another system\"")])).len(), all.components.len());
    assert!(
        catalogue("\"Another system\"").is_for("another SYSTEM")
            && !catalogue("\"Another system\"").is_for("Quay")
    );
}

/// Files of an edition: place and content by numbers.
type Entries = Vec<(u8, u8)>;

fn path_of(place: u8) -> String {
    // A few folders, of which some are components.
    format!("Part{}/f{}", place % 5, place / 5)
}

/// Contents of different lengths, so that each counts for itself.
fn text_of(content: u8) -> String {
    format!("content {content:03} {}", "x".repeat(1 << (content % 7)))
}

fn entries() -> impl Strategy<Value = Entries> {
    prop::collection::vec((0_u8..30, 0_u8..9), 0..24).prop_map(|mut all| {
        all.sort_unstable();
        all.dedup_by_key(|(place, _)| *place);
        all
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, failure_persistence: None, ..ProptestConfig::default() })]

    /// What would go with a component: in the edition, contents that only its files have; in the image file, of those
    /// the ones that no other edition has at another place than the component's.
    #[test]
    fn weights_are_those_of_a_plain_reckoning(first in entries(), others in prop::collection::vec(entries(), 0..3)) {
        let make = |entries: &Entries| {
            let mut made = tree(|_| {}, |_| {}, &[]);
            for (place, content) in entries {
                put(&mut made, &path_of(*place), text_of(*content));
            }
            made
        };
        let trees: Vec<Tree> = std::iter::once(&first).chain(&others).map(make).collect();
        let image = image(&trees);
        let draft = Arc::new(ImageDraft::of(&image));
        let edition = Edition::open(&draft, 1, &layouts(), neat_image::Times::at(NOW)).unwrap();
        let files = OtherFiles::of(&draft, 1..=trees.len()).unwrap();
        let parts = 3;
        let catalogue: String = (0..parts)
            .map(|part| format!("[[component]]\nid = \"other/part{part}\"\nfiles = [\"Part{part}\"]\n"))
            .collect();
        let catalogue = Catalogue::parse(&format!("format = 1\n{catalogue}")).unwrap();
        let inventory = Inventory::of(&edition, &[catalogue], Some(&files)).unwrap();
        for part in 0..parts {
            let is_inside = |place: u8| place % 5 == part;
            let own: Vec<(u8, u8)> = first.iter().copied().filter(|(place, _)| is_inside(*place)).collect();
            let Some(component) = inventory.components.get(&format!("other/part{part}")) else {
                prop_assert!(own.is_empty());
                continue;
            };
            let contents: BTreeSet<u8> = own.iter().map(|(_, content)| *content).collect();
            let goes = |content: u8| first.iter().all(|(place, own)| *own != content || is_inside(*place));
            // Elsewhere it goes only from the places that the component has here.
            let goes_everywhere = |content: u8| {
                goes(content)
                    && others.iter().flatten().all(|(place, other)| {
                        *other != content || own.iter().any(|(own_place, _)| own_place == place)
                    })
            };
            let sum = |which: &dyn Fn(u8) -> bool| -> u64 {
                contents.iter().filter(|content| which(**content)).map(|content| text_of(*content).len() as u64).sum()
            };
            prop_assert_eq!(component.files, own.len() as u64);
            prop_assert_eq!(component.bytes, sum(&goes), "part {}", part);
            prop_assert_eq!(component.packed, sum(&goes_everywhere), "part {}", part);
        }
    }
}

#[test]
fn keys_of_the_hive_in_use_are_taken_whatever_its_number() {
    let mut made = tree(|_| {}, |_| {}, &[]);
    let system = hive("SYSTEM", |hive| {
        let select = hive.create("Select").unwrap();
        hive.set(select, "Current", ValueKind::NUMBER, &[2, 0, 0, 0]).unwrap();
        for (set, name) in [("ControlSet001", "Old"), ("ControlSet002", "New")] {
            let key = hive.create(&format!("{set}\\Services\\{name}")).unwrap();
            hive.set(key, "Type", ValueKind::NUMBER, &[0x10, 0, 0, 0]).unwrap();
        }
    });
    put(&mut made, "Sys/System32/config/SYSTEM", system);
    let own = edition(made);
    assert!(own.hive(HiveRole::System).is_some());
    let all = Inventory::of(&own, &[], None).unwrap();
    assert_eq!(ids(&all), ["service/new"]);
}

#[test]
fn what_was_read_for_one_edition_changes_nothing_in_the_next() {
    let inf = |device: &str, version: &str| {
        format!(
            "[Version]\nSignature=\"$Windows NT$\"\nClass=Net\nProvider=\"Brackwater\"\nDriverVer=01/02/2026,{version}\n\
             [Manufacturer]\nBrackwater=Models,NTamd64\n[Models.NTamd64]\n\"{device}\"=Install,PCI\\VEN_1234\n[Install]\n"
        )
    };
    let (same, old, new) = (inf("Horn", "1.0.0.0"), inf("Radio", "1.0.0.0"), inf("Radio", "2.0.0.0"));
    let store = |folder: &str| format!("Sys/System32/DriverStore/FileRepository/{folder}");
    let first = [
        (store("horn_1/horn.inf"), same.as_str()),
        (store("radio_1/radio.inf"), &old),
        (store("broken_1/broken.inf"), "[Version\n"),
    ];
    let second = [
        // The same file under another name, another one under the same, and what cannot be read elsewhere.
        (store("foghorn_1/foghorn.inf"), same.as_str()),
        (store("radio_1/radio.inf"), &new),
        (store("broken_2/broken.inf"), "[Version\n"),
    ];
    let trees = [&first, &second].map(|files| {
        let files: Vec<(&str, &str)> = files.iter().map(|(path, text)| (path.as_str(), *text)).collect();
        tree(|_| {}, |_| {}, &files)
    });
    let draft = Arc::new(ImageDraft::of(&image(&trees)));
    let open = |number| Edition::open(&draft, number, &layouts(), Times::at(NOW)).unwrap();
    let scans = Scans::default();
    for number in [1, 2, 1] {
        let alone = Inventory::of(&open(number), &[], None).unwrap();
        let mut edition = open(number);
        edition.scans = scans.clone();
        let shared = Inventory::of(&edition, &[], None).unwrap();
        assert_eq!(format!("{shared:?}"), format!("{alone:?}"));
        assert!(
            shared.notes.iter().any(|note| note.contains(&format!("broken_{number}"))),
            "{:?}",
            shared.notes
        );
        let (name, version) = [("driver/horn", "1.0.0.0"), ("driver/foghorn", "2.0.0.0")][number - 1];
        assert_eq!(
            (of(&shared, name).title.as_str(), of(&shared, name).version.as_str()),
            ("Horn", "1.0.0.0")
        );
        assert_eq!(of(&shared, "driver/radio").version, version);
    }
}

//! Editions opened, changed and put back, without a program around them.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

use neat_content::{Class, Content, Hold, Job, Meta, Tree};
use neat_image::{BlobDigest, Files, ImageDraft, ImageFile, Times};
use neat_package::{Update, UpdateSection, Version};
use neat_registry::{Change, HiveRole, RegLine, RegText, ValueKind, text_data};
use neat_service::{
    Catalogue, Edition, EditionRecord, Inventory, Layout, OtherFiles, PreparedFiles, PreparedUpdate, Removal,
    RemovalRequest, SettingValue, Verdict,
};
use std::sync::Arc;

mod support;
use support::{NOW, hive, image, open};

/// The files of a small edition; `extra` come on top.
fn tree(extra: &[(&str, &[u8])]) -> Tree {
    let mut tree = Tree::new(Meta::at(NOW));
    let software = hive("SOFTWARE", |hive| {
        let key = hive.create("Maker\\Thing").unwrap();
        hive.set(key, "Colour", ValueKind::TEXT, &text_data("red")).unwrap();
    });
    let system = hive("SYSTEM", |hive| {
        let select = hive.create("Select").unwrap();
        hive.set(select, "Current", ValueKind::NUMBER, &[3, 0, 0, 0]).unwrap();
        for (name, needs) in [("Alpha", ""), ("Beta", "Alpha")] {
            let key = hive.create(&format!("ControlSet003\\Services\\{name}")).unwrap();
            hive.set(key, "Type", ValueKind::NUMBER, &[0x10, 0, 0, 0]).unwrap();
            hive.set(key, "Start", ValueKind::NUMBER, &[2, 0, 0, 0]).unwrap();
            if !needs.is_empty() {
                hive.set(key, "DependOnService", ValueKind::TEXTS, &neat_registry::texts_data(&[needs]))
                    .unwrap();
            }
        }
    });
    for (path, bytes) in [
        ("Sys/System32/config/SOFTWARE", software.as_slice()),
        ("Sys/System32/config/SYSTEM", &system),
        ("Sys/System32/config/SAM", b""),
        ("Sys/System32/config/SECURITY", b"no hive at all"),
        ("Sys/System32/one.scr", b"saver one"),
        ("Sys/System32/two.scr", b"saver two"),
        ("Sys/Fonts/a.fnt", b"letters"),
        ("Sys/copy-of-two.bin", b"saver two"),
    ]
    .iter()
    .chain(extra)
    {
        tree.put_file(path, Content::from_bytes(*bytes), Meta::at(NOW)).unwrap();
    }
    tree
}

/// Puts an edition back and reads the image file again.
fn stored(image: &ImageFile, edition: Edition) -> ImageFile {
    let mut draft = ImageDraft::of(image);
    edition.store(&mut draft, &Hold::new(0, &std::env::temp_dir())).unwrap();
    let content = draft.to_content(&std::env::temp_dir(), 1, &Job::silent()).unwrap();
    ImageFile::open("again.wim", content).unwrap()
}

fn paths(files: &Files) -> Vec<String> {
    files.walk().filter(|step| !files.entry(step.id).is_folder()).map(|step| step.path).collect()
}

#[test]
fn an_edition_is_recognised_and_its_hives_are_read() {
    let image = image(&[tree(&[])]);
    let (_, edition) = open(&image);
    assert_eq!(edition.root, "Sys", "found by its files, because the XML data do not say");
    let roles: Vec<HiveRole> = edition.hives().map(|(role, ..)| role).collect();
    assert_eq!(roles, [HiveRole::Software, HiveRole::System]);
    // An empty file is one that comes to life later; another is told of.
    assert!(
        edition.notes.len() == 1 && edition.notes[0].contains("SECURITY is no hive"),
        "{:?}",
        edition.notes
    );
    let (role, path) = edition.locate("HKLM\\SYSTEM\\CurrentControlSet\\Services\\Alpha").unwrap();
    assert_eq!((role, path.as_str()), (HiveRole::System, "ControlSet003\\Services\\Alpha"));
}

#[test]
fn what_is_not_changed_is_not_written() {
    let image = image(&[tree(&[])]);
    let (draft, mut edition) = open(&image);
    // Setting what is there already is no change.
    let same = RegLine {
        key: "HKEY_LOCAL_MACHINE\\SOFTWARE\\Maker\\Thing".into(),
        change: Change::Set { name: "colour".into(), kind: ValueKind::TEXT, data: text_data("red") },
        line: 0,
    };
    let items = edition.apply_lines("setting", "test", &[same]).unwrap();
    assert_eq!(items[0].verdict, Verdict::Skipped);
    assert_eq!(edition.set_service("Alpha", "automatic").unwrap().verdict, Verdict::Skipped);
    let mut after = (*draft).clone();
    assert!(!edition.store(&mut after, &Hold::new(0, &std::env::temp_dir())).unwrap());
    assert_eq!(after.bytes_to_pack().unwrap(), 0);
}

#[test]
fn new_files_inherit_and_old_ones_keep_what_they_had() {
    let image = image(&[tree(&[])]);
    let (_, mut edition) = open(&image);
    // The folder has a security descriptor of its own, and two names share one content.
    edition.files.security.push(vec![9; 8].into());
    let folder = edition.files.find("Sys").unwrap();
    edition.files.entry_mut(folder).security = 0;
    for path in ["Sys/System32/two.scr", "Sys/copy-of-two.bin"] {
        let id = edition.files.find(path).unwrap();
        edition.files.entry_mut(id).set_hard_link(5);
    }
    edition.put_bytes("Sys/New Folder/deep/file.txt", b"fresh".to_vec()).unwrap();
    edition.put_bytes("Sys/System32/two.scr", b"other".to_vec()).unwrap();
    edition.put_bytes("Sys/empty.txt", Vec::new()).unwrap();
    for bad in ["Sys/a:b", "Sys/what?", "Sys/end.", "Sys/../x", "Sys/System32/one.scr/below", "Sys"] {
        assert_eq!(edition.put_bytes(bad, vec![1]).unwrap_err().class(), Class::BadRequest, "{bad}");
    }
    let again = stored(&image, edition);
    let files = again.files(1).unwrap();
    let entry = |path: &str| files.entry(files.find(path).unwrap());
    for path in ["Sys/New Folder", "Sys/New Folder/deep", "Sys/New Folder/deep/file.txt", "Sys/empty.txt"] {
        assert_eq!(files.security[entry(path).security as usize][..], [9; 8], "{path}");
    }
    assert_eq!(entry("Sys/System32/two.scr").hard_link(), 0, "it is no longer the same file");
    assert_eq!(entry("Sys/System32/two.scr").content(), BlobDigest::of(b"other"));
    assert_eq!(entry("Sys/copy-of-two.bin").content(), BlobDigest::of(b"saver two"));
    assert!(entry("Sys/empty.txt").content().is_none());
}

#[test]
fn sizes_count_only_what_nothing_else_uses() {
    let shared = tree(&[("Sys/Fonts/b.fnt", b"only in the first")]);
    let elsewhere = tree(&[("Sys/kept.bin", b"letters")]);
    let image = image(&[shared, elsewhere]);
    let (draft, edition) = open(&image);
    let others = OtherFiles::of(&draft, [2]).unwrap();
    let inventory = Inventory::of(&edition, &[], Some(&others)).unwrap();
    let of = |id: &str| inventory.components.get(id).map(|own| (own.files, own.bytes, own.packed)).unwrap();
    assert_eq!(
        of("screensaver/one"),
        (1, 9, 9),
        "the other edition has it at the same place, from where it goes too"
    );
    assert_eq!(of("screensaver/two"), (1, 0, 0), "another file has the same content");
    assert_eq!(of("font/a"), (1, 7, 0), "the other edition has the content elsewhere");
    assert_eq!(of("font/b"), (1, 17, 17));
    assert_eq!(inventory.components["service/beta"].needs, ["service/alpha"]);
}

#[test]
fn removal_takes_files_and_keys_and_the_record_remembers() {
    let image = image(&[tree(&[])]);
    let (_, mut edition) = open(&image);
    let catalogue = Catalogue::parse(
        "format = 1\n[[component]]\nid = \"font/a\"\nkeys = ['HKLM\\SOFTWARE\\Maker']\n[[component]]\nid = \"other/none\"\nfiles = [\"Sys/nothing*\"]\n",
    )
    .unwrap();
    let inventory = Inventory::of(&edition, &[catalogue], None).unwrap();
    assert!(!inventory.components.contains_key("other/none"));
    let request =
        RemovalRequest { remove: vec!["font/*".into(), "service/beta".into()], ..RemovalRequest::default() };
    let plan = Removal::plan(&inventory, &request, &[]);
    let items = plan.apply(&mut edition, &inventory, None).unwrap();
    assert!(items.iter().all(|item| item.verdict == Verdict::Applied) && items.len() == 2, "{items:?}");
    let again = stored(&image, edition);
    assert!(!paths(&again.files(1).unwrap()).contains(&"Sys/Fonts/a.fnt".to_owned()));
    let (_, edition) = open(&again);
    assert_eq!(edition.record.removed, ["font/a", "service/beta"]);
    assert!(edition.hive(HiveRole::Software).unwrap().find("Maker").is_none());
    assert!(edition.hive(HiveRole::System).unwrap().find("ControlSet003\\Services\\Beta").is_none());
    // Asked for again, they are known to be gone.
    let inventory = Inventory::of(&edition, &[], None).unwrap();
    assert!(Removal::plan(&inventory, &request, &edition.record.removed).unknown.is_empty());
    assert_eq!(Removal::plan(&inventory, &request, &[]).unknown.len(), 2);
}

#[test]
fn values_are_written_as_people_write_them() {
    let value = |text: &str| -> neat_content::Result<Change> {
        #[derive(serde::Deserialize)]
        struct Holder {
            v: SettingValue,
        }
        let holder: Holder =
            toml::from_str(&format!("v = {{ key = 'HKLM\\SOFTWARE\\X\\', {text} }}")).unwrap();
        let line = holder.v.to_line()?;
        assert_eq!(line.key, "HKLM\\SOFTWARE\\X");
        Ok(line.change)
    };
    let set = |text: &str| match value(text).unwrap() {
        Change::Set { kind, data, .. } => (kind.0, data),
        other => panic!("{other:?}"),
    };
    assert_eq!(set("value = \"a\""), (1, vec![97, 0, 0, 0]));
    assert_eq!(set("value = \"%a%\", type = \"expanded-text\"").0, 2);
    assert_eq!(set("value = [\"a\"]"), (7, vec![97, 0, 0, 0, 0, 0]));
    assert_eq!(set("value = 1"), (4, vec![1, 0, 0, 0]));
    assert_eq!(set("value = true"), (4, vec![1, 0, 0, 0]));
    assert_eq!(set("value = -1"), (4, vec![255; 4]));
    assert_eq!(set("value = 4294967295"), (4, vec![255; 4]));
    assert_eq!(set("value = -1, type = \"long-number\""), (11, vec![255; 8]));
    assert_eq!(set("value = \"01 ff,A0\", type = \"bytes\""), (3, vec![1, 255, 160]));
    assert_eq!(value("name = \"n\", delete = true").unwrap(), Change::DeleteValue { name: "n".into() });
    assert_eq!(value("delete = true").unwrap(), Change::DeleteKey);
    for bad in [
        "name = \"n\"",
        "value = 1, delete = true",
        "value = 4294967296",
        "value = -2147483649",
        "value = \"0\", type = \"bytes\"",
        "value = \"zz\", type = \"bytes\"",
        "value = \"é1\", type = \"bytes\"",
        "value = 1, type = \"text\"",
        "value = \"1\", type = \"number\"",
        "value = [1]",
        "value = 1, type = \"colour\"",
    ] {
        assert_eq!(value(bad).unwrap_err().class(), Class::BadRequest, "{bad}");
    }
}

#[test]
fn registration_text_reaches_every_hive_and_says_from_what_to_what() {
    let image = image(&[tree(&[])]);
    let (_, mut edition) = open(&image);
    let text = RegText::parse(
        "REGEDIT4\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Maker\\Thing]\n\"Colour\"=\"blue\"\n\"Gone\"=-\n[-HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\Services\\Beta]\n[HKEY_CURRENT_USER\\X]\n\"a\"=\"b\"\n",
    )
    .unwrap();
    let items = edition.apply_reg("t.reg", &text).unwrap();
    let told: Vec<(Verdict, &str)> = items.iter().map(|item| (item.verdict, item.detail.as_str())).collect();
    assert_eq!(
        told,
        [
            (Verdict::Applied, "HKEY_LOCAL_MACHINE\\SOFTWARE\\Maker\\Thing\\Colour: \"red\" → \"blue\""),
            (
                Verdict::Applied,
                "HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\Services\\Beta: the key and all below it → gone"
            ),
            (Verdict::Refused, "the edition has no hive HKEY_CURRENT_USER"),
        ]
    );
    let error = RegText::parse("REGEDIT4\n[HKEY_DYN_DATA\\X]\n\"a\"=\"b\"\n")
        .map(|text| edition.apply_reg("u.reg", &text));
    assert!(error.unwrap().unwrap_err().to_string().starts_with("u.reg"), "the text is named");
}

#[test]
fn records_of_newer_versions_and_damaged_ones_are_left_alone() {
    let path = "ProgramData/Neat Stack/edition.json";
    for text in ["{\"kind\": \"neatstack-edition\", \"format\": 99}", "no json", "{}"] {
        let image = image(&[tree(&[(path, text.as_bytes())])]);
        let (_, edition) = open(&image);
        assert!(edition.record.is_empty());
        assert!(
            edition.notes.iter().any(|note| note.contains("edition.json is left alone")),
            "{:?}",
            edition.notes
        );
    }
    let record = EditionRecord { removed: vec!["app/x".into()], ..EditionRecord::default() };
    assert_eq!(EditionRecord::parse(&record.to_text().unwrap()).unwrap(), record);
}

#[test]
fn files_are_put_once_replaced_only_when_meant_and_told() {
    let image = image(&[tree(&[])]);
    let (_, mut edition) = open(&image);
    let mut files = Tree::new(Meta::at(NOW));
    for (path, bytes) in
        [("System32/one.scr", &b"mine"[..]), ("Notes/a.txt", b"a"), ("System32/two.scr", b"saver two")]
    {
        files.put_file(path, Content::from_bytes(bytes), Meta::at(NOW)).unwrap();
    }
    let prepared = PreparedFiles::new(&files).unwrap();
    let items = edition.add_files("system", "Sys", &prepared, false).unwrap();
    assert_eq!((items[0].verdict, items[1].verdict), (Verdict::Refused, Verdict::Applied));
    assert!(items[0].detail.starts_with("/Sys/System32/one.scr is there already"), "{items:?}");
    let items = edition.add_files("system", "Sys", &prepared, true).unwrap();
    assert_eq!((items.len(), items[0].detail.as_str(), items[0].bytes), (1, "1 replaced", 4 - 9));
    let items = edition.add_files("system", "Sys", &prepared, true).unwrap();
    assert_eq!(items[0].verdict, Verdict::Skipped);
}

#[test]
fn an_update_goes_in_whole_or_not_at_all() {
    let image = image(&[tree(&[])]);
    let (_, mut edition) = open(&image);
    let before = paths(&edition.files);
    let section = UpdateSection { id: "fix".into(), version: Version(vec![1]), ..UpdateSection::default() };
    let reg = "REGEDIT4\n[HKEY_CURRENT_USER\\X]\n\"a\"=\"b\"\n";
    let update = |text: &str| Update {
        checked: true,
        section: section.clone(),
        architecture: None,
        files: vec![("Sys/new.lib".into(), Content::from_bytes(*b"new"))],
        registry: vec![("a.reg".into(), RegText::parse(text).unwrap())],
    };
    let prepared = PreparedUpdate::new(update(reg), "fix".into(), true).unwrap();
    let items = edition.add_updates(&[prepared]).unwrap();
    assert!(
        items[0].verdict == Verdict::Refused && items[0].detail.contains("HKEY_CURRENT_USER"),
        "{items:?}"
    );
    assert_eq!(paths(&edition.files), before);
    assert!(edition.record.is_empty());
    let good = reg.replace("HKEY_CURRENT_USER", "HKEY_LOCAL_MACHINE\\SOFTWARE");
    let prepared = [PreparedUpdate::new(update(&good), "fix".into(), false).unwrap()];
    assert_eq!(edition.add_updates(&prepared).unwrap()[0].detail, "1 new file, 1 value set");
    assert_eq!(edition.add_updates(&prepared).unwrap()[0].detail, "it is in the edition already");
}

#[test]
fn layouts_and_catalogues_of_other_versions_are_refused() {
    let common = include_str!("../layouts/common.toml");
    assert!(Layout::parse(&common.replace("format = 1", "format = 2")).is_err());
    assert!(
        Layout::parse(&common.replace("software = ", "softwares = "))
            .unwrap_err()
            .to_string()
            .contains("no hive")
    );
    assert!(Layout::parse(&common.replace("[fonts]", "[fnts]")).is_err());
    assert!(Catalogue::parse("format = 3\n").is_err());
    let all = Catalogue::parse("format = 1\nproducts = [\"Quay OS\"]\n").unwrap();
    assert!(all.is_for("quay os") && all.is_for("") && !all.is_for("Other"));
}

#[test]
fn a_layout_says_what_such_systems_have_and_the_rest_is_not_missed() {
    let small = Layout::parse(
        "format = 1\nname = \"little\"\nrecognised_by = \"{root}/System32/config/SOFTWARE\"\n\
         [hives]\nsystem = \"{root}/System32/config/SYSTEM\"\n\
         [screensavers]\nfolder = \"{root}/System32\"\nending = \".scr\"\n",
    )
    .unwrap();
    let image = image(&[tree(&[])]);
    let draft = Arc::new(ImageDraft::of(&image));
    let mut edition = Edition::open(&draft, 1, &[Arc::new(small)], Times::at(NOW)).unwrap();
    assert!(
        edition.notes.is_empty(),
        "hives that the layout does not name are not looked at: {:?}",
        edition.notes
    );
    let inventory = Inventory::of(&edition, &[], None).unwrap();
    let ids: Vec<&str> = inventory.components.keys().map(String::as_str).collect();
    assert_eq!(ids, ["screensaver/one", "screensaver/two"]);

    // What is asked for all the same is refused, with the section that would say where it lies.
    let picture = Content::from_bytes(b"a picture".as_slice());
    let refused = [
        edition.set_service("Alpha", "disabled").unwrap_err(),
        edition.set_feature("telex", true, None).unwrap_err(),
        edition.set_languages("en-GB", "", &[]).unwrap_err(),
        edition.set_company(&[("Manufacturer", "Brackwater Ferries")], None).unwrap_err(),
        edition.set_wallpaper("pier.png", &picture).unwrap_err(),
    ];
    for (error, section) in refused.iter().zip(["services", "packages", "languages", "company", "wallpapers"])
    {
        assert_eq!(error.class(), Class::BadRequest);
        let text = format!("{error} {:?}", error.hint());
        assert!(text.contains("little") && text.contains(&format!("[{section}]")), "{text}");
    }
    let mut again = ImageDraft::of(&image);
    edition.store(&mut again, &Hold::new(0, &std::env::temp_dir())).unwrap();
    let content = again.to_content(&std::env::temp_dir(), 1, &Job::silent()).unwrap();
    let after = ImageFile::open("again.wim", content).unwrap();
    assert_eq!(
        paths(&after.files(1).unwrap()),
        paths(&image.files(1).unwrap()),
        "no record where there is no place for one"
    );
}

fn verdicts(items: &[neat_service::Item]) -> Vec<(Verdict, &str)> {
    items.iter().map(|item| (item.verdict, item.detail.as_str())).collect()
}

#[test]
fn services_start_as_they_are_told_and_slips_are_named() {
    let image = image(&[tree(&[])]);
    let (_, mut edition) = open(&image);
    let set = |edition: &mut Edition, name: &str, start: &str| {
        let item = edition.set_service(name, start).unwrap();
        (item.verdict, item.subject, item.detail)
    };
    assert_eq!(
        set(&mut edition, "ALPHA", "manual"),
        (Verdict::Applied, "Alpha".into(), "start: automatic → manual".into())
    );
    assert_eq!(
        set(&mut edition, "Alpha", "manual"),
        (Verdict::Skipped, "Alpha".into(), "it is manual already".into())
    );
    let (verdict, _, detail) = set(&mut edition, "Bета", "manual");
    assert!(verdict == Verdict::Refused && detail == "the edition has no such service", "{detail}");
    let (verdict, _, detail) = set(&mut edition, "Betta", "disabled");
    assert!(verdict == Verdict::Refused && detail.ends_with("did you mean Beta?"), "{detail}");
    let error = edition.set_service("Alpha", "sometimes").unwrap_err();
    assert!(error.class() == Class::BadRequest && error.hint().to_string().contains("manual"), "{error}");
    let again = stored(&image, edition);
    let (_, edition) = open(&again);
    let system = edition.hive(HiveRole::System).unwrap();
    assert_eq!(system.number_at("ControlSet003\\Services\\Alpha", "Start"), Some(3));
    assert_eq!(system.number_at("ControlSet003\\Services\\Beta", "Start"), Some(2));
}

#[test]
fn the_company_and_its_picture_are_in_the_system() {
    let image = image(&[tree(&[])]);
    let (_, mut edition) = open(&image);
    let logo = Content::from_bytes(*b"a picture");
    let values = [("Manufacturer", "Brackwater"), ("SupportHours", "At high water")];
    let items = edition.set_company(&values, Some(("mark.bmp", &logo))).unwrap();
    assert_eq!(items.len(), 4, "{items:?}");
    assert!(items.iter().all(|item| item.verdict == Verdict::Applied), "{items:?}");
    let items = edition.set_company(&values, Some(("mark.bmp", &logo))).unwrap();
    assert_eq!(
        verdicts(&items),
        [
            (Verdict::Skipped, "the same bytes are there already"),
            (Verdict::Skipped, "all of it is as wanted already")
        ]
    );
    let again = stored(&image, edition);
    assert!(paths(&again.files(1).unwrap()).contains(&"Sys/System32/company-logo.bmp".to_owned()));
    let (_, edition) = open(&again);
    let software = edition.hive(HiveRole::Software).unwrap();
    let said = |name: &str| {
        let value = software.value_at("Microsoft\\Windows\\CurrentVersion\\OEMInformation", name).unwrap();
        neat_registry::text(software.data(value))
    };
    assert_eq!(said("SupportHours"), "At high water");
    assert_eq!(said("Logo"), "C:\\Sys\\System32\\company-logo.bmp");
}

#[test]
fn settings_of_catalogues_are_found_by_id_and_remembered() {
    let image = image(&[tree(&[])]);
    let (_, mut edition) = open(&image);
    let catalogue = Catalogue::parse(
        "format = 1\n[[setting]]\nid = \"quiet-start\"\nservices = { Alpha = \"disabled\" }\n\
         value = [{ key = 'HKLM\\SOFTWARE\\Maker\\Thing', name = \"Colour\", value = \"blue\" }]\n",
    )
    .unwrap();
    let items = edition.apply_setting("quiet-start", std::slice::from_ref(&catalogue)).unwrap();
    assert_eq!(
        verdicts(&items),
        [
            (Verdict::Applied, "HKLM\\SOFTWARE\\Maker\\Thing\\Colour: \"red\" → \"blue\""),
            (Verdict::Applied, "start: automatic → disabled")
        ]
    );
    let error = Catalogue::parse("format = 1\n[[setting]]\nid = \"a\"\nvalues = []\n").unwrap_err();
    assert!(error.to_string().starts_with("line 4: unknown key `values`"), "{error}");
    assert!(matches!(error.hint(), neat_content::Hint::Advice(neat_content::Advice::CatalogueSchema)));
    let error = edition.apply_setting("quiet-strat", &[catalogue]).unwrap_err();
    assert_eq!(error.hint().to_string(), "did you mean quiet-start?");
    let again = stored(&image, edition);
    let (_, edition) = open(&again);
    assert_eq!(edition.record.settings, ["quiet-start"]);
}

#[test]
fn drivers_go_in_once_and_newer_ones_make_room() {
    use neat_package::{Architecture, DriverSet, IfDamaged};
    use neat_service::{DriverChoice, PreparedDrivers};
    let image = image(&[tree(&[])]);
    let (_, mut edition) = open(&image);
    let dir = tempfile::tempdir().unwrap();
    let write = |version: &str| {
        let inf = format!(
            "[Version]\nSignature=\"$Windows NT$\"\nClass=Net\nProvider=\"Brackwater\"\nDriverVer=01/02/2026,{version}\n\
             [Manufacturer]\n\"Brackwater\"=Models,NTamd64\n[Models.NTamd64]\n\"Winch\"=Install,PCI\\VEN_1AF4&DEV_1234\n\
             [Install]\nCopyFiles=Files\n[Files]\nwinch.bin\n[SourceDisksNames]\n1=Disk\n[SourceDisksFiles]\nwinch.bin=1\n"
        );
        std::fs::write(dir.path().join("winch.inf"), inf).unwrap();
        std::fs::write(dir.path().join("winch.bin"), version).unwrap();
        let mut set = DriverSet::default();
        set.add(dir.path(), "pack", IfDamaged::Refuse).unwrap();
        set
    };
    let prepare = |set: &DriverSet, choice: &DriverChoice, architecture| {
        PreparedDrivers::new(set, choice, Some(architecture), None, &Job::silent()).unwrap()
    };
    let set = write("1.0.0.0");
    let prepared = prepare(&set, &DriverChoice::default(), Architecture::X64);
    let items = edition.add_drivers(&prepared.drivers).unwrap();
    assert!(items[0].verdict == Verdict::Applied && items[0].detail.starts_with("Net, 1.0.0.0"), "{items:?}");
    let items = edition.add_drivers(&prepared.drivers).unwrap();
    assert_eq!(verdicts(&items), [(Verdict::Skipped, "it is in the edition already")]);
    let newer = write("1.2.0.0");
    let prepared = prepare(&newer, &DriverChoice::default(), Architecture::X64);
    let items = edition.add_drivers(&prepared.drivers).unwrap();
    assert!(items[0].detail.contains("1.2.0.0, instead of 1.0.0.0"), "{items:?}");
    // Not for this system, and not of the classes that are wanted.
    let items = prepare(&newer, &DriverChoice::default(), Architecture::Arm64).items;
    assert_eq!(verdicts(&items), [(Verdict::Skipped, "it is for x64, not for arm64")]);
    let storage = DriverChoice { classes: vec!["storage".into()], ..DriverChoice::default() };
    assert_eq!(
        verdicts(&prepare(&newer, &storage, Architecture::X64).items),
        [(Verdict::Skipped, "its class is Net")]
    );
    let network = DriverChoice { classes: vec!["network".into()], ..DriverChoice::default() };
    assert_eq!(prepare(&newer, &network, Architecture::X64).drivers.len(), 1);
    let again = stored(&image, edition);
    let files = again.files(1).unwrap();
    let own: Vec<String> = paths(&files).into_iter().filter(|path| path.contains("winch")).collect();
    assert_eq!(own.len(), 2, "{own:?}");
    let (_, edition) = open(&again);
    assert_eq!(edition.record.drivers.len(), 1);
    assert_eq!(edition.record.drivers[0].version, "1.2.0.0");
}

#[test]
fn packages_take_what_only_they_have_in_the_store_along() {
    let record = |name: &str, parts: &[&str]| {
        let parts: String = parts
            .iter()
            .map(|part| {
                format!(
                    "<component><assemblyIdentity name=\"{part}\" version=\"7.0.1.0\" processorArchitecture=\"amd64\" \
                     publicKeyToken=\"0123\" language=\"neutral\"/></component>"
                )
            })
            .collect();
        format!(
            "<assembly><assemblyIdentity name=\"{name}\" version=\"7.0.1.0\"/><package releaseType=\"Feature Pack\"><update \
             name=\"x\">{parts}</update></package></assembly>"
        )
    };
    const LONG: &str = "Quay-Radio-With-A-Name-That-Is-Far-Too-Long-For-The-Store";
    let (alone, shared) =
        (record("Alone", &["Quay-Alone", "Quay-Shared", LONG]), record("Other", &["quay-shared"]));
    let store = |part: &str| format!("Sys/WinSxS/amd64_{part}_0123_7.0.1.0_none_00112233445566aa");
    let (own, both, long) =
        (store("quay-alone"), store("quay-shared"), store("quay-radio-with-a-n..-long-for-the-store"));
    let files: Vec<(String, &[u8])> = vec![
        ("Sys/servicing/Packages/Alone~0123~amd64~~7.0.1.0.mum".into(), alone.as_bytes()),
        ("Sys/servicing/Packages/Other~0123~amd64~~7.0.1.0.mum".into(), shared.as_bytes()),
        (format!("{own}/alone.dll"), b"only in this package"),
        (format!("{own}/fonts.fnt"), b"letters"),
        (format!("{both}/both.dll"), b"in both packages"),
        (format!("{long}/radio.dll"), b"radio"),
        (
            "Sys/WinSxS/Manifests/amd64_quay-alone_0123_7.0.1.0_none_00112233445566aa.manifest".into(),
            b"manifest",
        ),
        ("Sys/WinSxS/amd64_quay-kept_0123_7.0.1.0_none_00112233445566aa/kept.dll".into(), b"kept"),
        ("Sys/System32/alone.dll".into(), b"only in this package"),
        ("Sys/System32/both.dll".into(), b"in both packages"),
    ];
    let extra: Vec<(&str, &[u8])> = files.iter().map(|(path, bytes)| (path.as_str(), *bytes)).collect();
    let image = image(&[tree(&extra)]);
    let go = |remove: &[&str]| {
        let (_, mut edition) = open(&image);
        // The system's files are other names of those in the store; the font's is a copy.
        for (group, names) in [
            (7, [format!("{own}/alone.dll"), "Sys/System32/alone.dll".into()]),
            (9, [format!("{both}/both.dll"), "Sys/System32/both.dll".into()]),
        ] {
            for path in names {
                let id = edition.files.find(&path).unwrap();
                edition.files.entry_mut(id).set_hard_link(group);
            }
        }
        let inventory = Inventory::of(&edition, &[], None).unwrap();
        let sizes: Vec<(u64, u64)> = ["package/alone", "package/other"]
            .iter()
            .map(|id| (inventory.components[*id].files, inventory.components[*id].bytes))
            .collect();
        let request = RemovalRequest {
            remove: remove.iter().map(|id| (*id).to_owned()).collect(),
            ..RemovalRequest::default()
        };
        let before = paths(&edition.files);
        let items = Removal::plan(&inventory, &request, &[]).apply(&mut edition, &inventory, None).unwrap();
        let after = paths(&edition.files);
        let gone: Vec<String> = before.into_iter().filter(|path| !after.contains(path)).collect();
        (sizes, items, gone)
    };
    let (sizes, items, gone) = go(&["package/alone"]);
    assert_eq!(
        gone,
        [
            "Sys/servicing/Packages/Alone~0123~amd64~~7.0.1.0.mum".to_owned(),
            "Sys/System32/alone.dll".into(),
            format!("{own}/alone.dll"),
            format!("{own}/fonts.fnt"),
            format!("{long}/radio.dll"),
            "Sys/WinSxS/Manifests/amd64_quay-alone_0123_7.0.1.0_none_00112233445566aa.manifest".into(),
        ]
    );
    // A file with two names counts once, and one that another file is the same as does not count.
    let bytes = alone.len() + b"only in this package".len() + b"radio".len() + b"manifest".len();
    assert_eq!(sizes, [(6, bytes as u64), (1, shared.len() as u64)]);
    assert!(items[0].detail.contains("7 bytes of it stay: other files are the same"), "{items:?}");
    assert_eq!(items[0].bytes, -(bytes as i64));
    // What both bring goes with both.
    let (_, items, gone) = go(&["package/*"]);
    let all = |path: &str| gone.contains(&path.to_owned());
    assert!(all(&format!("{both}/both.dll")) && all("Sys/System32/both.dll") && gone.len() == 9, "{gone:?}");
    let together = items.iter().find(|item| item.subject == "together").unwrap();
    assert_eq!(together.bytes, -16);
}

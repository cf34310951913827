//! Archives, drivers and updates.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

use neat_content::{Class, Content, Encoding, IfThere, Job, Meta, PendingFile, Timestamp, Tree};
use neat_package::{
    Architecture, Driver, DriverSet, IfDamaged, Inf, Limits, Outcome, Pack, PackKind, TargetEdition, Update,
    UpdateSection, UpdateType, VendorPackage, Version, order, parse_devices, write_update,
};
use proptest::prelude::*;
use std::path::{Path, PathBuf};

use neat_testing::packs::{cabinet, program, zip_file};

const NOW: Timestamp = Timestamp::from_seconds(1_700_000_000);

fn open(bytes: Vec<u8>) -> neat_content::Result<Pack> {
    Pack::of_content(&Content::from_bytes(bytes), NOW)
}

fn names(tree: &Tree) -> Vec<String> {
    tree.walk().filter(|step| tree.node(step.id).content().is_some()).map(|step| step.path).collect()
}

fn text(tree: &Tree, path: &str) -> Vec<u8> {
    tree.file(path).unwrap_or_else(|| panic!("no {path}")).to_vec(1 << 30, "").unwrap()
}

#[test]
fn every_kind_of_pack_opens_as_the_same_tree() {
    let files = [("a\\one.inf", b"first".to_vec()), ("two.sys", vec![7; 100_000]), ("a\\b\\three", vec![])];
    let slashed: Vec<(String, Vec<u8>)> =
        files.iter().map(|(name, bytes)| (name.replace('\\', "/"), bytes.clone())).collect();
    let borrowed: Vec<(&str, Vec<u8>)> =
        slashed.iter().map(|(name, bytes)| (name.as_str(), bytes.clone())).collect();
    let packed = cabinet(&files, cab::CompressionType::MsZip);
    let zipped = zip_file(&borrowed);
    let with_tail = [program(&packed), b"tail".to_vec()].concat();
    for (bytes, kind) in [
        (packed.clone(), PackKind::Cabinet),
        (cabinet(&files, cab::CompressionType::None), PackKind::Cabinet),
        (zipped.clone(), PackKind::Zip),
        (with_tail, PackKind::Program),
        (program(&zipped), PackKind::Program),
    ] {
        let pack = open(bytes).unwrap();
        assert_eq!(pack.kind, kind);
        assert_eq!(names(&pack.tree), ["a/b/three", "a/one.inf", "two.sys"], "{kind:?}");
        assert_eq!(text(&pack.tree, "two.sys"), files[1].1);
        assert_eq!(text(&pack.tree, "a/one.inf"), b"first");
    }
}

#[test]
fn bombs_and_climbing_names_are_refused() {
    let zeros = vec![0; 100 << 20];
    for bytes in [cabinet(&[("z", zeros.clone())], cab::CompressionType::MsZip), zip_file(&[("z", zeros)])] {
        assert!(bytes.len() < 400_000);
        let error = open(bytes).unwrap_err();
        assert_eq!(error.class(), Class::LimitExceeded, "{error}");
    }
    for name in ["../x", "a/../../x", "/etc/x", "C:\\x", "..\\x"] {
        let error = open(zip_file(&[(name, vec![1])])).unwrap_err();
        assert!(error.class() == Class::Corrupt && error.to_string().contains("stay"), "{name}: {error}");
    }
    let error = open(zip_file(&[("A.sys", vec![1]), ("a.SYS", vec![2])])).unwrap_err();
    assert!(error.to_string().contains("twice"), "{error}");
    for bytes in [b"hello".to_vec(), vec![], b"MZ nothing in it".to_vec(), b"MSCF\0\0\0\0broken".to_vec()] {
        assert_eq!(open(bytes).unwrap_err().class(), Class::Corrupt);
    }
}

const STORAGE: &str = "\
; Keelson Works
[Version]
Signature   = \"$WINDOWS NT$\"
Class       = SCSIAdapter
ClassGuid   = {4D36E97B-E325-11CE-BFC1-08002BE10318}
Provider    = %maker%
DriverVer   = 03/14/2026, 2.1.0.40
CatalogFile = keelson.cat

[Manufacturer]
%maker% = Models, NTamd64, NTamd64.7.0...7091, NTarm64, NTia64

[Models]
%old% = Old, PCI\\VEN_1AF4&DEV_0001

[Models.NTamd64]
%s4% = Install, PCI\\VEN_1AF4&DEV_2922, PCI\\CC_0106
%s4% = Install, PCI\\VEN_1AF4&DEV_2922&SUBSYS_20F817AA

[Models.NTamd64.7.0...7091]
%s5% = Install.New, PCI\\VEN_1AF4&DEV_2923

[Models.NTarm64]
%s4% = Install, PCI\\VEN_1AF4&DEV_2922

[Install]
CopyFiles = Common, @extra.dll

[Install.NTamd64]
CopyFiles = Common, Wide ; both

[Install.NTamd64.CoInstallers]
CopyFiles = Helpers

[Install.New]
CopyFiles = Common

[Old]
CopyFiles = @old.sys

[Common]
keelson.sys
[Wide]
wide.dll,wide64.dll,,2
[Helpers]
helper.dll

[SourceDisksNames.amd64]
1 = %disk%,,,\\x64
[SourceDisksNames]
1 = %disk%
[SourceDisksFiles]
keelson.sys = 1
wide64.dll = 1,deep\\er
helper.dll = 1

[Strings]
maker = \"Keelson Works\"
s4 = \"Keelson S4 storage\"
s5 = \"Keelson S5 storage\"
old = Old one
disk = \"Disk, first\"
";

fn tree(files: &[&str]) -> Tree {
    let mut tree = Tree::new(Meta::at(NOW));
    for path in files {
        tree.put_file(path, Content::from_bytes(path.as_bytes()), Meta::at(NOW)).unwrap();
    }
    tree
}

#[test]
fn a_driver_says_what_it_serves_and_needs() {
    let driver = Driver::read("pack/Keelson.inf", &Encoding::Utf16Le.encode(STORAGE)).unwrap();
    assert_eq!((driver.class.as_str(), driver.provider.as_str()), ("SCSIAdapter", "Keelson Works"));
    assert_eq!((driver.date_text(), driver.version_text()), ("2026-03-14".into(), "2.1.0.40".into()));
    assert_eq!(driver.architectures(), [Architecture::X86, Architecture::X64, Architecture::Arm64]);
    let install = |version| {
        let devices = driver.devices_for(Architecture::X64, version);
        devices.iter().map(|device| device.install.as_str()).collect::<Vec<_>>()
    };
    assert_eq!(install(None), ["Install", "Install", "Install.New"]);
    assert_eq!(install(Some((7, 0, 7042))), ["Install", "Install"]);
    assert_eq!(install(Some((7, 0, 7091))), ["Install.New"]);
    assert_eq!(driver.devices_for(Architecture::X86, None)[0].hardware_id, "PCI\\VEN_1AF4&DEV_0001");
    let x64 = driver.devices_for(Architecture::X64, None);
    assert_eq!(
        (x64[0].description.as_str(), x64[0].compatible_ids.as_slice()),
        ("Keelson S4 storage", &["PCI\\CC_0106".to_owned()][..])
    );

    let tree =
        tree(&["pack/keelson.CAT", "pack/x64/KEELSON.sys", "pack/x64/deep/er/wide64.dl_", "pack/extra.dll"]);
    let files = driver.files(Architecture::X64, &tree);
    let found: Vec<(&str, Option<&str>)> =
        files.iter().map(|file| (file.path.as_str(), file.found.as_deref())).collect();
    assert_eq!(
        found,
        [
            ("x64/helper.dll", None),
            ("x64/keelson.sys", Some("pack/x64/KEELSON.sys")),
            ("x64/deep/er/wide64.dll", Some("pack/x64/deep/er/wide64.dl_")),
        ]
    );
    let arm: Vec<String> =
        driver.files(Architecture::Arm64, &tree).into_iter().map(|file| file.path).collect();
    assert_eq!(arm, ["extra.dll", "keelson.sys"]);
}

#[test]
fn what_is_no_driver_is_refused_with_the_reason() {
    for (text, expected) in [
        ("", "[Version]"),
        ("[Versoin]\nClass=Net\n", "[Version]"),
        ("[Version]\nSignature=\"$CHICAGO$\"\n", "class"),
        ("[autorun]\nopen=setup.exe\n", "[Version]"),
    ] {
        let error = Driver::read("x.inf", text.as_bytes()).unwrap_err();
        assert!(error.to_string().contains(expected), "{text}: {error}");
    }
}

proptest! {
    #[test]
    fn odd_text_never_panics(text in "(\\[[a-zA-Z.%]{0,9}\\]|[a-z%\"=,;\\\\@ ]{0,30}|\n|\r\n){0,60}") {
        let inf = Inf::parse(&text);
        for section in inf.sections() {
            for line in inf.lines(section) {
                line.values.iter().for_each(|value| drop(inf.expand(value)));
            }
        }
        let with_version = format!("[Version]\nClass=Net\n[Manufacturer]\n%a%=M,NTamd64\n[M.NTamd64]\n{text}\n");
        if let Ok(driver) = Driver::read("a/b.inf", with_version.as_bytes()) {
            driver.files(Architecture::X64, &tree(&["a/x"]));
        }
    }

    #[test]
    fn odd_bytes_never_panic(bytes in proptest::collection::vec(any::<u8>(), 0..600), first in 0_usize..5) {
        let magic: [&[u8]; 5] = [b"MSCF\0\0\0\0", b"PK\x03\x04", &[0x28, 0xB5, 0x2F, 0xFD], b"MZ", b""];
        let all = [magic[first], &bytes].concat();
        let _ = open(all.clone());
        let _ = Driver::read("x", &all);
        let _ = VendorPackage::of_content(&Content::from_bytes(all));
    }
}

fn write(path: &Path, bytes: &[u8]) {
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    std::fs::write(path, bytes).unwrap();
}

#[test]
fn packs_are_searched_and_devices_get_the_best_driver() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path();
    write(&root.join("storage/keelson.inf"), STORAGE.as_bytes());
    write(&root.join("storage/broken.inf"), b"[Strings]\n");
    let older = STORAGE.replace("03/14/2026", "01/01/2025").replace("S4 storage", "older");
    write(&root.join("older.zip"), &zip_file(&[("keelson.inf", older.into_bytes())]));
    let special = STORAGE
        .replace("%s4% = Install, PCI\\VEN_1AF4&DEV_2922, PCI\\CC_0106", "%s4% = Install, PCI\\CC_0106")
        .replace("03/14/2026", "01/01/2027")
        .replace("Keelson Works", "Other");
    write(
        &root.join("net.exe"),
        &program(&cabinet(&[("other.inf", special.into_bytes())], cab::CompressionType::MsZip)),
    );
    write(&root.join("tool.exe"), b"MZ only a tool");
    let mut set = DriverSet::default();
    set.add(root, "packs", IfDamaged::LeaveOut).unwrap();
    let places: Vec<String> =
        set.drivers.iter().map(|found| format!("{}:{}", found.place, found.driver.path)).collect();
    assert_eq!(
        places,
        ["packs:storage/keelson.inf", "packs/net.exe:other.inf", "packs/older.zip:keelson.inf"]
    );
    assert!(set.notes[0].starts_with("packs/tool.exe is "), "{:?}", set.notes);

    let mut set = DriverSet::default();
    for name in ["storage", "older.zip", "net.exe"] {
        set.add(&root.join(name), name, IfDamaged::Refuse).unwrap();
    }
    assert_eq!(set.drivers.len(), 3);
    assert_eq!(set.skipped.len(), 1);
    assert!(set.skipped[0].0 == "storage/broken.inf" && set.skipped[0].1.contains("[Version]"));
    assert_eq!(set.superseded().into_iter().collect::<Vec<_>>(), [(1, 0)]);
    let lspci = "00:1f.2 SATA controller [0106]: Keelson S4 [1af4:2922]\n";
    let device = &parse_devices(lspci).unwrap()[0];
    let best = |architecture| set.best_for(device, architecture, None);
    assert_eq!(best(Architecture::X64), Some((0, "PCI\\VEN_1AF4&DEV_2922".into())));
    assert_eq!(best(Architecture::X86), None);
    let generic = &parse_devices("PCI\\CC_0106").unwrap()[0];
    assert_eq!(set.best_for(generic, Architecture::X64, None).unwrap().0, 2);
}

fn update_file(folder: &Path, section: &UpdateSection, files: &[&str], reg: &str) -> PathBuf {
    let path = folder.join("a.update.tar.zst");
    let texts: Vec<(String, Content)> =
        section.registry.iter().map(|name| (name.clone(), Content::from_bytes(reg.as_bytes()))).collect();
    let (pending, mut output) = PendingFile::create_output(&path, IfThere::Replace, None).unwrap();
    write_update(section, &tree(files), &texts, &mut output, &Job::silent()).unwrap();
    pending.commit(output.finish().unwrap().0).unwrap();
    path
}

fn section() -> UpdateSection {
    UpdateSection {
        id: "quay-7-fix".into(),
        title: "Mends the winch".into(),
        version: Version::parse("7.0.7091.3").unwrap(),
        kind: UpdateType::Cumulative,
        architecture: Some("x64".into()),
        needs: vec!["other".into()],
        removes: vec!["Quay/System32/old.lib".into()],
        registry: vec!["registry/change.reg".into()],
        ..UpdateSection::default()
    }
}

#[test]
fn an_update_is_written_and_read_and_plain_tools_read_it_too() {
    let folder = tempfile::tempdir().unwrap();
    let reg = "REGEDIT4\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Quay]\n\"a\"=\"b\"\n";
    let path = update_file(folder.path(), &section(), &["Quay/System32/new.lib", "Quay/ä.txt"], reg);
    let update = Update::open(&path).unwrap();
    assert_eq!(update.section, section());
    assert_eq!(update.architecture, Some(Architecture::X64));
    assert_eq!(update.registry[0].1.lines.len(), 2);
    let files: Vec<&str> = update.files.iter().map(|(path, _)| path.as_str()).collect();
    assert_eq!(files, ["Quay/System32/new.lib", "Quay/ä.txt"]);
    assert_eq!(update.files[0].1.to_vec(100, "").unwrap(), b"Quay/System32/new.lib");
    let first = std::fs::read(&path).unwrap();
    update_file(folder.path(), &section(), &["Quay/System32/new.lib", "Quay/ä.txt"], reg);
    assert_eq!(std::fs::read(&path).unwrap(), first, "the same every time");
}

#[test]
fn updates_that_climb_lie_or_lack_something_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let manifest = |text: &str| {
        let root = folder.path().join("unpacked");
        write(&root.join("update.toml"), text.as_bytes());
        Update::open(&root).unwrap_err()
    };
    for (text, expected) in [
        ("format = 3\n[update]\nid = \"a\"\nversion = \"1\"\n", "format 3"),
        ("format = 1\n[update]\nid = \"A b\"\nversion = \"1\"\n", "is no id"),
        ("format = 1\n[update]\nid = \"a\"\nversion = \"one\"\n", "line 4"),
        ("format = 1\n[update]\nid = \"a\"\nversion = \"1\"\nneeds = [\"a\"]\n", "names itself"),
        ("format = 1\n[update]\nid = \"a\"\nversion = \"1\"\nremoves = [\"../../etc\"]\n", "stay"),
        ("format = 1\n[update]\nid = \"a\"\nversion = \"1\"\nregistry = [\"x.reg\"]\n", "no such file"),
        ("format = 1\n[update]\nid = \"a\"\nversion = \"1\"\nsurprise = 1\n", "surprise"),
        ("format = 1\n[update]\nid = \"a\"\nversion = \"1\"\narchitecture = \"vax\"\n", "architecture"),
        ("format = 1\n[update]\nid = \"a\"\nversion = \"1\"\ntype = \"language\"\n", "without a language"),
    ] {
        let error = manifest(text);
        assert!(error.to_string().contains(expected), "{text}: {error}");
    }
    // A tar file whose names climb, packed like ours.
    let mut header = [0_u8; 512];
    header[..8].copy_from_slice(b"../../x\0");
    header[100..108].copy_from_slice(b"0000644\0");
    header[124..136].copy_from_slice(b"00000000001\0");
    header[156] = b'0';
    header[257..265].copy_from_slice(b"ustar\x0000");
    header[148..156].fill(b' ');
    let sum: u32 = header.iter().map(|byte| u32::from(*byte)).sum();
    header[148..155].copy_from_slice(format!("{sum:06o}\0").as_bytes());
    let tar = [&header[..], &[b'x'; 1], &[0; 511], &[0; 1024]].concat();
    let packed =
        ruzstd::encoding::compress_to_vec(tar.as_slice(), ruzstd::encoding::CompressionLevel::Fastest);
    let error = open(packed).unwrap_err();
    assert!(error.class() == Class::Corrupt && error.to_string().contains("stay"), "{error}");
}

proptest! {
    #[test]
    fn updates_go_in_after_what_they_need(
        needs in proptest::collection::vec(proptest::collection::btree_set(0_usize..7, 0..3), 7),
        servicing in proptest::collection::btree_set(0_usize..7, 0..3),
        integrated in proptest::collection::btree_set(0_usize..7, 0..3),
    ) {
        let id = |n: usize| format!("u{n}");
        let updates: Vec<Update> = needs.iter().enumerate().map(|(n, needs)| {
            let kind = if servicing.contains(&n) { UpdateType::Servicing } else { UpdateType::Fix };
            let needs = needs.iter().filter(|need| **need != n).map(|need| id(*need)).collect();
            let section = UpdateSection { id: id(n), version: Version(vec![1]), kind, needs, ..UpdateSection::default() };
            Update { section, architecture: None, files: Vec::new(), registry: Vec::new(), checked: true }
        }).collect();
        let edition = TargetEdition {
            integrated: integrated.iter().map(|n| (id(*n), Version(vec![1]))).collect(),
            ..TargetEdition::default()
        };
        let all: Vec<&Update> = updates.iter().collect();
        let ordered = order(&all, &edition);
        let mut done: Vec<String> = edition.integrated.keys().cloned().collect();
        for n in &ordered.order {
            for need in &updates[*n].section.needs {
                prop_assert!(done.contains(need), "{} before {}", id(*n), need);
            }
            done.push(id(*n));
        }
        for (n, outcome) in ordered.outcomes.iter().enumerate() {
            match outcome {
                Outcome::Applied(turn) => prop_assert_eq!(ordered.order[*turn], n),
                Outcome::Skipped(_) => prop_assert!(integrated.contains(&n)),
                // None of them names a system.
                Outcome::Elsewhere(_) => prop_assert!(false),
                // Refused only where something really is missing in the end.
                Outcome::Refused(_) => {
                    prop_assert!(updates[n].section.needs.iter().any(|need| !done.contains(need)));
                }
            }
        }
    }

    #[test]
    fn lists_of_devices_never_panic(text in "([0-9a-f:.\\[\\] ]{0,40}|Bus [0-9]{0,3} Device: ID [0-9a-f:]{0,9} x|PCI\\\\[A-Z_&]{0,9}|\n|\t){0,30}") {
        if let Ok(devices) = parse_devices(&text) {
            prop_assert!(devices.iter().all(|device| !device.ids.is_empty()));
        }
    }
}

#[test]
fn large_updates_come_back_whole() {
    let folder = tempfile::tempdir().unwrap();
    let mut files = Tree::new(Meta::at(NOW));
    let bytes: Vec<u8> = (0..30_000_000_u32).map(|n| (n.wrapping_mul(n) >> 13) as u8).collect();
    files.put_file("big", Content::from_bytes(bytes.clone()), Meta::at(NOW)).unwrap();
    let path = folder.path().join("big.update.tar.zst");
    let (pending, mut output) = PendingFile::create_output(&path, IfThere::Replace, None).unwrap();
    let section = UpdateSection { registry: vec![], ..section() };
    write_update(&section, &files, &[], &mut output, &Job::silent()).unwrap();
    pending.commit(output.finish().unwrap().0).unwrap();
    let update = Update::open(&path).unwrap();
    assert_eq!(update.files[0].1.len(), 30_000_000);
    assert!(update.files[0].1.to_vec(1 << 30, "").unwrap() == bytes);
}

#[test]
fn kept_fuzz_inputs_do_not_panic() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/kept");
    for bytes in neat_testing::kept_inputs(&folder) {
        let _ = open(bytes.clone());
        let _ = Driver::read("x.inf", &bytes);
    }
}

#[test]
fn each_limit_refuses_what_the_others_take() {
    let files = [("a.bin", vec![0; 100_000]), ("b.bin", vec![1; 10])];
    let inner = cabinet(&files, cab::CompressionType::MsZip);
    let outer = program(&inner);
    let own = Limits::default();
    let opened = |limits: &Limits| {
        Pack::of_content_with(&Content::from_bytes(outer.as_slice()), NOW, limits)
            .map(|pack| names(&pack.tree))
    };
    assert_eq!(opened(&own).unwrap(), ["a.bin", "b.bin"]);
    assert!(opened(&Limits { unpacked: 0, ..own }).is_ok(), "it does not grow 250 times");
    for (limits, what) in [
        (Limits { unpacked: 99_999, growth: 1, ..own }, "unpacked bytes"),
        (Limits { files: 0, ..own }, "files of the archive"),
        (Limits { program: 1000, ..own }, "bytes of a program"),
    ] {
        let error = opened(&limits).unwrap_err();
        assert!(error.class() == Class::LimitExceeded && error.to_string().contains(what), "{what}: {error}");
    }

    // An archive in a folder is opened, unless nothing in another may be.
    let dir = tempfile::tempdir().unwrap();
    let inf = b"[Version]\r\nSignature=\"$CHICAGO$\"\r\nClass=Net\r\nProvider=\"Made up\"\r\n\
        [Manufacturer]\r\nA=A\r\n[A]\r\nB=B,PCI\\VEN_1234\r\n[B]\r\n";
    write(&dir.path().join("inner.cab"), &cabinet(&[("a.inf", inf.to_vec())], cab::CompressionType::None));
    for (nested, count) in [(0, 0), (1, 1)] {
        let mut set = DriverSet { limits: Limits { nested, ..own }, ..DriverSet::default() };
        set.add(dir.path(), "folder", IfDamaged::Refuse).unwrap();
        assert_eq!(set.drivers.len(), count, "{:?}", set.skipped);
    }
}

/// A file in the older form, with bytes of content alone: what matches are is tested beside the reader.
fn single(content: &[u8], last: char) -> Vec<u8> {
    let mut bytes = b"SZDD\x88\xF0\x27\x33A".to_vec();
    bytes.push(last as u8);
    bytes.extend((content.len() as u32).to_le_bytes());
    for group in content.chunks(8) {
        bytes.push(0xFF);
        bytes.extend(group);
    }
    bytes
}

#[test]
fn drivers_with_single_compressed_files_are_whole() {
    let inf = "[Version]\nSignature=\"$Windows NT$\"\nClass=Net\nProvider=\"Brackwater\"\nDriverVer=01/02/2026,1.2.0.0\n\
               CatalogFile=winch.cat\n[Manufacturer]\n\"Brackwater\"=Models,NTamd64\n[Models.NTamd64]\n\
               \"Winch\"=Install,PCI\\VEN_1AF4&DEV_1234\n[Install]\nCopyFiles=Files\n[Files]\nwinch.sys\nhelper.dll\n\
               [SourceDisksFiles]\nwinch.sys=1\nhelper.dll=1\n[SourceDisksNames]\n1=disk\n";
    let dir = tempfile::tempdir().unwrap();
    let put = |name: &str, bytes: &[u8]| std::fs::write(dir.path().join(name), bytes).unwrap();
    put("WINCH.IN_", &single(inf.as_bytes(), 'F'));
    put("winch.sy_", &single(&[7; 5000], 's'));
    put("winch.ca_", &single(b"a signature", 't'));
    // A cabinet with one file is the other form.
    put("helper.dl_", &cabinet(&[("HELPER.DLL", vec![9; 3000])], cab::CompressionType::MsZip));
    // What is there already, what is damaged and what has only such a name stay.
    put("readme.tx_", b"no compressed file");
    put("broken.dl_", &single(&[1; 100], 'l')[..60]);
    let mut set = DriverSet::default();
    set.add(dir.path(), "winch", IfDamaged::Refuse).unwrap();
    assert_eq!(set.drivers.len(), 1, "{:?}", set.skipped);
    let found = &set.drivers[0];
    let files = found.driver.files(Architecture::X64, &found.pack.tree);
    let found_at: Vec<Option<String>> =
        files.into_iter().map(|own| own.found.map(|path| path.to_lowercase())).collect();
    assert_eq!(found_at, [Some("helper.dll".to_owned()), Some("winch.sys".to_owned())]);
    let tree = &found.pack.tree;
    let read = |path: &str| {
        tree.node(tree.find_ignoring_case(path).unwrap()).content().unwrap().to_vec(1 << 20, "").unwrap()
    };
    assert_eq!((read("winch.sys"), read("helper.dll")), (vec![7; 5000], vec![9; 3000]));
    assert!(tree.find("readme.tx_").is_some() && tree.find("broken.dl_").is_some());
    assert!(
        set.notes.iter().any(|note| note.contains("broken.dl_") && note.contains("cannot be read")),
        "{:?}",
        set.notes
    );
}

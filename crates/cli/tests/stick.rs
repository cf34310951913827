//! `stick`, `stick update`, sticks in builds, and what `trial` says where there is nothing to try with: driven as the
//! built program on the demo data.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "a test that cannot go on has failed"
)]

mod support;

use std::{
    fs,
    hash::{BuildHasher, Hasher, RandomState},
    path::Path,
    process::{Command, Stdio},
    time::Duration,
};
use support::{demo, fails, json, names, neatstack, ok};

const ISO: &str = "quay-os-7.iso";

fn sha256(dir: &Path, file: &str) -> String {
    let look = json(dir, &["look", file, "--digest", "sha256", "--json"]);
    look["digest"].as_str().unwrap().strip_prefix("sha256 ").unwrap().to_owned()
}

/// The second reading finds each file of `media`, with its bytes.
fn check(dir: &Path, stick: &str, media: &str) {
    let path = dir.join(stick);
    let seen = neat_testing::stick::walk(&path, fs::metadata(&path).unwrap().len());
    let files = json(dir, &["files", media, "--json"]);
    let files: Vec<&str> =
        files.as_array().unwrap().iter().map(|file| file["path"].as_str().unwrap()).collect();
    assert_eq!(seen.files.keys().filter(|name| !name.ends_with('/')).count(), files.len());
    for name in files {
        ok(dir, &["take", media, name, "--to", "taken", "--replace", "-q"]);
        let taken = fs::read(dir.join("taken").join(name.rsplit('/').next().unwrap())).unwrap();
        assert!(seen.bytes(&path, name) == taken, "{name}");
    }
}

#[test]
fn a_stick_holds_what_the_media_holds() {
    let (_dir, dir) = demo();
    for scheme in ["gpt", "mbr"] {
        let written =
            json(&dir, &["stick", ISO, "--to", "quay.img", "--scheme", scheme, "--replace", "--json"]);
        assert_eq!(
            (written["boot_manager"].as_str(), written["scheme"].as_str()),
            (Some("quayboot"), Some(scheme))
        );
        assert_eq!(written["uefi_loaders"][0], "EFI/BOOT/BOOTX64.EFI");
        check(&dir, "quay.img", ISO);
        let look = json(&dir, &["look", "quay.img", "--json"]);
        assert_eq!((&look["form"], &look["label"]), (&"stick".into(), &"QUAY_OS_7".into()));
        assert_eq!(look["image_files"].as_array().unwrap().len(), 2, "editions are seen on a stick too");
        assert!(ok(&dir, &["compare", ISO, "quay.img"]).contains("nothing differs"));
    }
    // From a stick into a folder, and from the folder onto a stick.
    ok(&dir, &["unpack", "quay.img", "folder", "-q"]);
    ok(&dir, &["stick", "folder", "--to", "again.img", "--size", "100MiB", "--label", "Second-one", "-q"]);
    let path = dir.join("again.img");
    assert_eq!(fs::metadata(&path).unwrap().len(), 100 << 20);
    assert_eq!(neat_testing::stick::walk(&path, 100 << 20).label, "SECOND-ONE");
    // Equal bytes when asked for, other ids when not.
    for name in ["a.img", "b.img"] {
        ok(&dir, &["stick", ISO, "--to", name, "--reproducible", "-q"]);
    }
    assert_eq!(sha256(&dir, "a.img"), sha256(&dir, "b.img"));
    ok(&dir, &["stick", ISO, "--to", "b.img", "--replace", "-q"]);
    assert_ne!(sha256(&dir, "a.img"), sha256(&dir, "b.img"));
}

#[test]
fn what_cannot_be_a_stick_is_refused_and_leaves_nothing() {
    let (_dir, dir) = demo();
    fs::write(dir.join("there.img"), "mine").unwrap();
    let before = names(&dir);
    for (args, code, wanted) in [
        (vec!["stick", ISO, "--to", "there.img"], 4, "is there already"),
        (vec!["stick", ISO, "--to", ISO, "--replace"], 4, "the source itself"),
        (vec!["stick", ISO, "--to", "x.img", "--size", "10MiB"], 2, "too few for FAT32"),
        (vec!["stick", ISO, "--to", "x.img", "--boot-manager", "nothing"], 2, "no boot manager nothing"),
        (vec!["stick", ISO, "--to", "/dev/null"], 2, "is not a disk"),
        (vec!["stick", "missing.iso", "--to", "x.img"], 2, "missing.iso is not there"),
        (vec!["stick", "bridge.stack.toml", "--to", "x.img"], 2, "is a stack file, and a media is wanted"),
        (vec!["stick", "update", ISO, "--to", "there.img"], 2, "no FAT file system"),
    ] {
        let (found, error) = fails(&dir, &args);
        assert!(found == code && error.contains(wanted), "{args:?}: {found} {error}");
    }
    assert_eq!(names(&dir), before);
    assert_eq!(fs::read(dir.join("there.img")).unwrap(), b"mine");
    // A file of 4 GiB that is no image file with systems.
    fs::create_dir(dir.join("large")).unwrap();
    fs::File::create(dir.join("large/video.bin")).unwrap().set_len(4 << 30).unwrap();
    let (code, error) = fails(&dir, &["stick", "large", "--to", "x.img"]);
    assert!(code == 2 && error.contains("video.bin") && error.contains("only the image file"), "{error}");
    assert!(!dir.join("x.img").exists());
}

/// Of the files of a stick those stay that its record does not name: here the record is of a media without them.
#[test]
fn what_somebody_else_put_on_a_stick_stays() {
    let (_dir, dir) = demo();
    ok(&dir, &["unpack", ISO, "media", "-q"]);
    ok(&dir, &["stick", "media", "--to", "ours.img", "--reproducible", "--size", "128MiB", "-q"]);
    fs::create_dir(dir.join("media/photos")).unwrap();
    fs::write(dir.join("media/photos/bridge at night.txt"), "p".repeat(9000)).unwrap();
    fs::write(dir.join("media/own.txt"), "mine").unwrap();
    ok(&dir, &["stick", "media", "--to", "all.img", "--reproducible", "--size", "128MiB", "-q"]);
    // The record lies in sectors 32 to 159 of the file system.
    let start = json(&dir, &["look", "all.img", "--json"])["partition_table"]["partitions"][0]["start"]
        .as_u64()
        .unwrap();
    let place = start as usize + 32 * 512..start as usize + 160 * 512;
    let (ours, all) = (fs::read(dir.join("ours.img")).unwrap(), fs::read(dir.join("all.img")).unwrap());
    assert!(ours[place.clone()].starts_with(b"NEATFILE") && ours[place.clone()] != all[place.clone()]);
    let stick = |record: &[u8]| {
        let mut bytes = all.clone();
        bytes[place.clone()].copy_from_slice(record);
        fs::write(dir.join("stick.img"), bytes).unwrap();
    };
    let files = || neat_testing::stick::walk(&dir.join("stick.img"), 128 << 20).files;
    let foreign = serde_json::json!(["own.txt", "photos/bridge at night.txt"]);
    ok(&dir, &["touchup", ISO, "hide", "readme.txt", "-q"]);
    let update = ["stick", "update", ISO, "--to", "stick.img", "--json"];

    stick(&ours[place.clone()]);
    let dry = json(&dir, &[update.as_slice(), &["--dry-run"]].concat());
    assert_eq!((&dry["others"], &dry["removed"]), (&foreign, &serde_json::json!(["readme.txt"])));
    assert!(files().contains_key("readme.txt"));
    let said = ok(&dir, &["stick", "update", ISO, "--to", "stick.img"]);
    assert!(said.contains("of others") && said.contains("own.txt"), "{said}");
    assert!(!files().contains_key("readme.txt"));
    ok(&dir, &["unpack", "stick.img", "now", "-q"]);
    assert_eq!(fs::read(dir.join("now/own.txt")).unwrap(), b"mine");
    assert_eq!(fs::read(dir.join("now/photos/bridge at night.txt")).unwrap(), "p".repeat(9000).as_bytes());
    // Again: the record is of the new media, and the files of others are still theirs.
    assert_eq!(json(&dir, &update)["others"], foreign);

    // Without a record everything else is somebody else's.
    stick(&vec![0; place.len()]);
    let update_of_none = json(&dir, &update);
    assert_eq!(update_of_none["removed"], serde_json::json!([]));
    assert!(update_of_none["notes"].to_string().contains("does not say which files were written to it"));
    assert!(files().contains_key("readme.txt"));

    stick(&ours[place.clone()]);
    let all_gone = json(&dir, &[update.as_slice(), &["--remove-others"]].concat());
    assert_eq!(
        all_gone["removed"],
        serde_json::json!(["own.txt", "photos/bridge at night.txt", "readme.txt"])
    );
    assert!(!files().contains_key("own.txt"));
}

#[test]
fn an_update_writes_only_what_differs() {
    let (_dir, dir) = demo();
    ok(&dir, &["stick", ISO, "--to", "quay.img", "--reproducible", "-q"]);
    let original = sha256(&dir, "quay.img");
    assert!(ok(&dir, &["stick", "update", ISO, "--to", "quay.img"]).contains("up to date already: 19 files"));
    assert_eq!(sha256(&dir, "quay.img"), original, "nothing was written");
    fs::write(dir.join("note.txt"), "x".repeat(70_000)).unwrap();
    ok(&dir, &["touchup", ISO, "put", "note.txt", "bridge-answers.xml=autounattend.xml", "-q"]);
    ok(&dir, &["touchup", ISO, "hide", "readme.txt", "-q"]);
    let update = json(&dir, &["stick", "update", ISO, "--to", "quay.img", "--json"]);
    assert_eq!(update["kept"], 18);
    assert_eq!(update["written"], serde_json::json!(["autounattend.xml", "note.txt"]));
    assert_eq!(update["removed"], serde_json::json!(["readme.txt"]));
    assert!(update["bytes"].as_u64().unwrap() < 200_000 && update["compared"].as_u64().unwrap() > 70_000);
    check(&dir, "quay.img", ISO);
    assert!(
        ok(&dir, &["stick", "update", ISO, "--to", "quay.img", "--quick"]).contains("up to date already")
    );
    // A disc is no stick that could be brought up to date.
    let (code, error) = fails(&dir, &["stick", "update", ISO, "--to", "out.iso"]);
    assert_eq!((code, error.contains("out.iso")), (1, true), "{error}");
}

#[test]
fn devices_are_erased_only_by_their_word() {
    let (_dir, dir) = demo();
    let list = json(&dir, &["stick", "--list", "--simulated", "sticks", "--json"]);
    let words: Vec<(&str, &str, bool)> = list["disks"]
        .as_array()
        .unwrap()
        .iter()
        .map(|disk| {
            let text = |key: &str| disk[key].as_str().unwrap();
            (text("path"), text("erase_word"), disk["refused"].is_null())
        })
        .collect();
    assert_eq!(
        words,
        [
            ("blue", "FP8-20260302", true),
            ("charts", "LC-4711", false),
            ("forged", "FP64-00000001", true),
            ("worn", "FP8-20190714", true)
        ]
    );
    let all = ok(&dir, &["stick", "--list", "--simulated", "sticks", "--fixed"]);
    assert!(all.contains("console") && all.contains("the disk that this system runs on"), "{all}");
    let erase = |device: &str, word: &[&str]| {
        let args = [&["stick", ISO, "--to", device, "--simulated", "sticks"], word].concat();
        let output = neatstack(&dir, &args);
        (output.status.code().unwrap(), String::from_utf8(output.stderr).unwrap())
    };
    for (device, word, code, wanted) in [
        ("blue", &[][..], 4, "--yes-erase FP8-20260302"),
        ("blue", &["--yes-erase", "FP8"], 4, "is FP8-20260302, not FP8"),
        ("charts", &["--yes-erase", "LC-4711"], 4, "mounted at /media/charts"),
        ("console", &["--yes-erase", "KS-77"], 4, "this system runs on"),
        ("console", &["--yes-erase", "KS-77", "--fixed"], 4, "this system runs on"),
        ("other", &["--yes-erase", "x"], 2, "no device other"),
        ("forged", &["--yes-erase", "FP64-00000001"], 1, "lies about its size"),
        ("worn", &["--yes-erase", "FP8-20190714"], 1, "cannot write to byte"),
    ] {
        let (found, error) = erase(device, word);
        assert!(found == code && error.contains(wanted), "{device} {word:?}: {found} {error}");
        let bytes = dir.join(format!("sticks/{device}.bytes"));
        if bytes.exists() {
            assert!(
                fs::read(&bytes).unwrap()[..512].iter().all(|byte| *byte == 0),
                "{device} looks finished"
            );
        }
    }
    assert!(!dir.join("sticks/blue.bytes").exists(), "nothing was written without the word");
    let (code, error) = erase("blue", &["--yes-erase", "FP8-20260302"]);
    assert_eq!(code, 0, "{error}");
    let itself = ["stick", "sticks/blue.bytes", "--to", "blue", "--simulated", "sticks"];
    let (code, error) = fails(&dir, &[&itself, &["--yes-erase", "FP8-20260302"][..]].concat());
    assert!(code == 4 && error.contains("the source itself"), "{error}");
    let seen = neat_testing::stick::walk(&dir.join("sticks/blue.bytes"), 8_004_304_896);
    assert!(seen.gpt && seen.files.contains_key("sources/install.wim"));
    let list = ok(&dir, &["stick", "--list", "--simulated", "sticks"]);
    assert!(list.contains("GPT: basic data, QUAY_OS_7"), "{list}");
    // Nothing is changed without its word.
    fs::write(dir.join("note.txt"), "new").unwrap();
    ok(&dir, &["touchup", ISO, "put", "note.txt", "-q"]);
    let change = ["stick", "update", ISO, "--to", "blue", "--simulated", "sticks", "--json"];
    let (code, error) = fails(&dir, &change);
    assert!(
        code == 4 && error.contains("files on blue") && error.contains("--yes-change FP8-20260302"),
        "{error}"
    );
    assert_eq!(fails(&dir, &[change.as_slice(), &["--yes-change", "other"]].concat()).0, 4);
    let dry = json(&dir, &[change.as_slice(), &["--dry-run"]].concat());
    assert_eq!((&dry["written"], &dry["bytes"]), (&serde_json::json!(["note.txt"]), &0.into()));
    let update = json(&dir, &[change.as_slice(), &["--yes-change", "FP8-20260302"]].concat());
    assert_eq!((&update["kept"], &update["written"]), (&19.into(), &serde_json::json!(["note.txt"])));
    assert!(
        neat_testing::stick::walk(&dir.join("sticks/blue.bytes"), 8_004_304_896)
            .files
            .contains_key("note.txt")
    );
}

#[test]
fn loaders_that_only_a_discs_uefi_image_has_come_along() {
    use neat_content::{Content, Meta, Timestamp, Tree};
    let (_dir, dir) = demo();
    ok(&dir, &["unpack", ISO, "folder", "-q"]);
    let meta = Meta::at(Timestamp::from_seconds(1_700_000_000));
    let mut loaders = Tree::new(meta);
    let loader = fs::read(dir.join("folder/EFI/BOOT/BOOTX64.EFI")).unwrap();
    loaders.put_file("EFI/BOOT/BOOTX64.EFI", Content::from_bytes(loader.clone()), meta).unwrap();
    loaders.put_file("readme.txt", Content::from_bytes(*b"not this one"), meta).unwrap();
    let image = neat_media::fat::write::image(&loaders, &neat_media::fat::write::Options::default()).unwrap();
    fs::write(dir.join("efi.img"), image.to_vec(1 << 24, "image").unwrap()).unwrap();
    fs::remove_dir_all(dir.join("folder/EFI")).unwrap();
    ok(&dir, &["master", "folder", "-o", "hidden.iso", "--uefi", "efi.img", "-q"]);
    let written = json(&dir, &["stick", "hidden.iso", "--to", "quay.img", "--json"]);
    assert_eq!(written["uefi_loaders"], serde_json::json!(["EFI/BOOT/BOOTX64.EFI"]));
    let path = dir.join("quay.img");
    let seen = neat_testing::stick::walk(&path, fs::metadata(&path).unwrap().len());
    assert!(seen.bytes(&path, "EFI/BOOT/BOOTX64.EFI") == loader);
    assert!(seen.bytes(&path, "readme.txt") == fs::read(dir.join("folder/readme.txt")).unwrap());
    assert!(ok(&dir, &["stick", "update", "hidden.iso", "--to", "quay.img"]).contains("up to date already"));
}

#[test]
fn killed_at_a_hundred_moments_no_image_appears() {
    let (_dir, dir) = demo();
    let run = || {
        let mut command = Command::new(env!("CARGO_BIN_EXE_neatstack"));
        command.current_dir(&dir).args([
            "stick",
            ISO,
            "--to",
            "quay.img",
            "--reproducible",
            "-q",
            "--replace",
        ]);
        command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    };
    let start = std::time::Instant::now();
    assert!(run().wait().unwrap().success());
    // From the start to a little past the end, however quick the machine is.
    let step = start.elapsed().max(Duration::from_millis(5)) / 80;
    let whole = fs::read(dir.join("quay.img")).unwrap();
    let unfinished = || names(&dir).iter().any(|name| name.contains("unfinished"));
    let (mut finished, mut in_the_middle) = (0, 0);
    for moment in 0..100 {
        let _ = fs::remove_file(dir.join("quay.img"));
        let mut child = run();
        // Somewhere in its hundredth part.
        let inside = RandomState::new().build_hasher().finish() as f64 / u64::MAX as f64;
        std::thread::sleep(step.mul_f64(f64::from(moment) + inside));
        child.kill().unwrap();
        child.wait().unwrap();
        if let Ok(bytes) = fs::read(dir.join("quay.img")) {
            assert!(bytes == whole, "killed after {moment} steps");
            finished += 1;
        } else if unfinished() {
            in_the_middle += 1;
        }
    }
    assert!(finished < 100 && in_the_middle > 0, "{in_the_middle} of 100 while it was writing");
    assert!(run().wait().unwrap().success());
    assert!(!unfinished(), "what was left is cleaned up");
}

#[test]
fn a_build_writes_disc_and_stick_or_either() {
    let (_dir, dir) = demo();
    let ledger = json(&dir, &["build", "deck.stack.toml", "--json"]);
    for (output, name) in [(&ledger["output"], "out/deck.iso"), (&ledger["stick"], "out/deck.img")] {
        assert_eq!(output["path"], name);
        assert_eq!(output["sha256"], sha256(&dir, name));
    }
    assert!(ok(&dir, &["compare", "out/deck.iso", "out/deck.img"]).contains("nothing differs"));
    check(&dir, "out/deck.img", "out/deck.iso");
    let (iso, img) = (sha256(&dir, "out/deck.iso"), sha256(&dir, "out/deck.img"));
    ok(&dir, &["build", "deck.stack.toml", "-q"]);
    assert_eq!((sha256(&dir, "out/deck.iso"), sha256(&dir, "out/deck.img")), (iso.clone(), img.clone()));
    let text = fs::read_to_string(dir.join("deck.stack.toml")).unwrap();
    let write = |name: &str, from: &str, to: &str| {
        assert!(text.contains(from));
        fs::write(dir.join(name), text.replace(from, to)).unwrap();
    };
    // Each alone is what it is beside the other.
    write("stick.stack.toml", "iso = \"out/deck.iso\"\n", "");
    let plan = json(&dir, &["plan", "stick.stack.toml", "--json"]);
    assert!(plan["output"]["iso"].is_null() && plan["output"]["stick"]["path"] == "out/deck.img");
    // A stick of an earlier build, whose ledger is that of the disc beside it, is not overwritten by another recipe's.
    fs::create_dir(dir.join("kept")).unwrap();
    fs::rename(dir.join("out/deck.ledger.json"), dir.join("kept/deck.ledger.json")).unwrap();
    assert_eq!(fails(&dir, &["build", "stick.stack.toml"]).0, 4);
    fs::remove_file(dir.join("out/deck.img")).unwrap();
    let alone = json(&dir, &["build", "stick.stack.toml", "--json"]);
    assert_eq!((&alone["output"]["path"], &alone["output"]["sha256"]), (&"out/deck.img".into(), &img.into()));
    assert_eq!(alone["files"], ledger["files"], "files on the media have their digests");
    write("neither.stack.toml", "iso = \"out/deck.iso\"\n", "");
    let neither = fs::read_to_string(dir.join("neither.stack.toml")).unwrap();
    fs::write(dir.join("neither.stack.toml"), neither.replace("stick = {", "# stick = {")).unwrap();
    let (code, error) = fails(&dir, &["plan", "neither.stack.toml"]);
    assert!(code == 2 && error.contains("neither an ISO file nor a stick"), "{error}");
    write("size.stack.toml", "scheme = \"gpt\" }", "scheme = \"mbr\", size = \"64 MB\", label = \"SMALL\" }");
    let sized = json(&dir, &["build", "size.stack.toml", "--replace", "--json"]);
    assert_eq!(sized["stick"]["size"], 64_000_000 >> 20 << 20);
    write("bad.stack.toml", "scheme = \"gpt\" }", "size = \"large\" }");
    assert!(fails(&dir, &["plan", "bad.stack.toml"]).1.contains("\"large\" is not a size"));
}

#[test]
fn an_image_file_that_is_compressed_by_the_build_comes_onto_both() {
    let (_dir, dir) = demo();
    let text = fs::read_to_string(dir.join("deck.stack.toml")).unwrap();
    fs::write(dir.join("deck.stack.toml"), format!("{text}compression = \"max\"\n")).unwrap();
    let plan = json(&dir, &["plan", "deck.stack.toml", "--json"]);
    let notes = plan["findings"].to_string();
    assert!(notes.contains("is an estimate"), "{notes}");
    let ledger = json(&dir, &["build", "deck.stack.toml", "--no-digest", "--json"]);
    assert!(ledger["output"]["sha256"].is_null() && ledger["stick"]["sha256"].is_null());
    check(&dir, "out/deck.img", "out/deck.iso");
    let size = |media: &str| {
        let editions = json(&dir, &["look", media, "--json"])["image_files"][0]["size"].clone();
        editions.as_u64().unwrap()
    };
    assert_eq!(size("out/deck.iso"), size("out/deck.img"));
    assert!(size("out/deck.img") < size(ISO));
}

#[test]
fn the_form_follows_the_loader_unless_it_is_given() {
    let (_dir, dir) = demo();
    for (name, bytes) in
        [("isolinux/isolinux.bin", vec![0xEB; 30_000]), ("isolinux/isolinux.cfg", vec![b'x'; 9])]
    {
        fs::create_dir_all(dir.join("linux/isolinux")).unwrap();
        fs::write(dir.join("linux").join(name), bytes).unwrap();
    }
    fs::write(dir.join("code.bin"), [0x90; 432]).unwrap();
    ok(&dir, &["master", "linux", "-o", "linux.iso", "-q"]);
    let disc = json(&dir, &["stick", "linux.iso", "--to", "a.img", "--boot-code", "code.bin", "--json"]);
    assert_eq!((disc["form"].as_str(), disc["verified"].is_null()), (Some("disc"), true));
    let bytes = fs::read(dir.join("a.img")).unwrap();
    assert!(bytes[..432] == [0x90; 432] && bytes[510..512] == [0x55, 0xAA]);
    assert_eq!(json(&dir, &["look", "a.img", "--json"])["form"], "iso");
    let walks = json(&dir, &["look", "a.img", "--boot", "--json"]);
    assert!(walks["walks"][2]["claimed"].as_bool().unwrap(), "as a disk on BIOS: {walks}");
    // A disc that starts as a disk already is taken as it is.
    ok(&dir, &["stick", "a.img", "--to", "b.img", "-q"]);
    assert!(fs::read(dir.join("b.img")).unwrap() == bytes);
    let fat = json(&dir, &["stick", "linux.iso", "--to", "c.img", "--form", "fat32", "--json"]);
    assert_eq!(fat["form"], "fat32");
    check(&dir, "c.img", "linux.iso");
    let (code, error) = fails(&dir, &["stick", "linux.iso", "--to", "d.img", "--boot-manager", "x"]);
    assert!(code == 2 && error.contains("--form fat32"), "{error}");
    // Onto a device: the table still comes last, and what is read back is right.
    let word = ["--simulated", "sticks", "--yes-erase", "FP8-20260302", "--json"];
    let device = json(&dir, &[&["stick", "a.img", "--to", "blue"], &word[..]].concat());
    assert_eq!((&device["form"], &device["verified"]), (&"disc".into(), &true.into()));
    let written = fs::read(dir.join("sticks/blue.bytes")).unwrap();
    assert!(written[..bytes.len()] == bytes[..]);
}

#[test]
fn each_machine_of_a_list_gets_a_stick() {
    let (_dir, dir) = demo();
    let text = fs::read_to_string(dir.join("fleet.stack.toml")).unwrap();
    let text = text.replace(
        "iso = \"out/{name}.iso\"",
        "iso = \"out/{name}.iso\"\nstick = { image = \"out/{name}.img\" }",
    );
    fs::write(dir.join("fleet.stack.toml"), text).unwrap();
    let ledgers = json(&dir, &["build", "fleet.stack.toml", "--json"]);
    assert!(ledgers.as_array().unwrap().len() > 1);
    for ledger in ledgers.as_array().unwrap() {
        let (iso, img) =
            (ledger["output"]["path"].as_str().unwrap(), ledger["stick"]["path"].as_str().unwrap());
        assert!(ok(&dir, &["compare", iso, img]).contains("nothing differs"), "{iso}");
    }
}

#[test]
fn without_a_virtual_machine_that_is_said_and_reading_helps() {
    let (_dir, dir) = demo();
    let without = |args: &[&str]| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_neatstack"));
        command.current_dir(&dir).args(args).env("PATH", "/nowhere").output().unwrap()
    };
    let output = without(&["trial", ISO]);
    let error = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(2), "{error}");
    assert!(
        error.contains("qemu-system-x86_64") && error.contains("apt install") && error.contains("--boot"),
        "{error}"
    );
    // A build that was to be tried leaves nothing.
    let text = fs::read_to_string(dir.join("bridge.stack.toml")).unwrap();
    fs::write(dir.join("t.stack.toml"), format!("{text}trial = [\"bios\"]\n")).unwrap();
    assert_eq!(without(&["build", "t.stack.toml"]).status.code(), Some(2));
    assert!(names(&dir.join("out")).is_empty(), "{:?}", names(&dir.join("out")));
    let walks = json(&dir, &["look", ISO, "--boot", "--json"]);
    assert_eq!(walks["good"], true);
    let claimed: Vec<bool> =
        walks["walks"].as_array().unwrap().iter().map(|walk| walk["claimed"].as_bool().unwrap()).collect();
    assert_eq!(claimed, [true, true, false, false]);
    // A media whose boot image is nothing but zeros.
    ok(&dir, &["unpack", ISO, "folder", "-q"]);
    fs::write(dir.join("folder/boot/bios.img"), [0; 4096]).unwrap();
    ok(&dir, &["master", "folder", "-o", "zeros.iso", "-q"]);
    let output = neatstack(&dir, &["look", "zeros.iso", "--boot"]);
    assert_eq!(output.status.code(), Some(1));
    assert!(String::from_utf8(output.stdout).unwrap().contains("nothing but zeros"));
    // What no firmware is meant to start.
    fs::create_dir(dir.join("plain")).unwrap();
    fs::write(dir.join("plain/a.txt"), "a").unwrap();
    ok(&dir, &["master", "plain", "-o", "plain.iso", "-q"]);
    let (code, error) = fails(&dir, &["trial", "plain.iso"]);
    assert!(code == 2 && error.contains("made for no firmware"), "{error}");
}

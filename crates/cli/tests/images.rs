//! Image files, with the built program.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    missing_docs,
    reason = "tests say what they expect by failing"
)]

mod support;

use std::{fs, path::Path};
use support::{demo, fails, json, names, neatstack, ok};

/// The demo's image file with the systems, taken out as `install.wim`.
fn with_image() -> (tempfile::TempDir, std::path::PathBuf) {
    let (keep, dir) = demo();
    ok(&dir, &["take", "quay-os-7.iso", "sources/install.wim", "sources/boot.wim", "--to", "."]);
    (keep, dir)
}

fn edition_names(dir: &Path, path: &str) -> Vec<String> {
    let list = json(dir, &["editions", path, "--json"]);
    list.as_array().unwrap().iter().map(|edition| edition["name"].as_str().unwrap().to_owned()).collect()
}

const KIOSK: &str = "Quay OS 7 Kiosk";
const BRIDGE: &str = "Quay OS 7 Bridge";
const ENGINE: &str = "Quay OS 7 Engine Room";

#[test]
fn look_shows_image_files_alone_and_on_media() {
    let (_keep, dir) = with_image();
    let look = json(&dir, &["look", "install.wim", "--json"]);
    assert_eq!(
        (&look["kind"], &look["method"], &look["chunk_size"]),
        (&"image-file".into(), &"LZX".into(), &32768.into())
    );
    assert_eq!(look["integrity_table"], true);
    let bridge = &look["editions"][1];
    assert_eq!(
        (&bridge["name"], &bridge["architecture"], &bridge["version"]),
        (&BRIDGE.into(), &"x64".into(), &"7.0.7042".into())
    );
    assert_eq!(bridge["languages"], serde_json::json!(["en-GB", "nb-NO", "de-DE"]));
    let text = ok(&dir, &["look", "quay-os-7.iso"]);
    assert!(
        text.contains("systems  sources/install.wim") && text.contains("setup environment  sources/boot.wim"),
        "{text}"
    );
    let media = json(&dir, &["look", "quay-os-7.iso", "--json"]);
    assert_eq!(media["image_files"][0]["editions"], look["editions"]);
    assert_eq!(json(&dir, &["look", "boot.wim", "--json"])["boot_edition"], 1);
}

#[test]
fn editions_are_kept_dropped_ordered_renamed_combined_and_marked() {
    let (_keep, dir) = with_image();
    let source = fs::read(dir.join("install.wim")).unwrap();
    assert_eq!(edition_names(&dir, "quay-os-7.iso"), [KIOSK, BRIDGE, ENGINE]);
    ok(&dir, &["editions", "install.wim", "keep", "quay os 7 bridge", "1", "-o", "a.wim"]);
    assert_eq!(edition_names(&dir, "a.wim"), [BRIDGE, KIOSK]);
    ok(&dir, &["editions", "install.wim", "drop", BRIDGE, "-o", "b.wim"]);
    assert_eq!(edition_names(&dir, "b.wim"), [KIOSK, ENGINE]);
    ok(&dir, &["editions", "install.wim", "order", "3", "-o", "c.wim"]);
    assert_eq!(edition_names(&dir, "c.wim"), [ENGINE, KIOSK, BRIDGE]);
    ok(&dir, &["editions", "install.wim", "keep", "2", "-o", "d.wim"]);
    ok(
        &dir,
        &["editions", "d.wim", "rename", "1", "--name", "Ours", "--display-name", "Ours", "-o", "e.wim"],
    );
    assert_eq!(edition_names(&dir, "e.wim"), ["Ours"]);
    ok(&dir, &["editions", "b.wim", "combine", "e.wim", "-o", "f.wim"]);
    assert_eq!(edition_names(&dir, "f.wim"), [KIOSK, ENGINE, "Ours"]);
    let sizes = ["install.wim", "f.wim"].map(|name| fs::metadata(dir.join(name)).unwrap().len());
    assert!(sizes[0].abs_diff(sizes[1]) < 2000, "what they share is stored once: {sizes:?}");
    ok(&dir, &["editions", "f.wim", "boot", "Ours", "-o", "g.wim"]);
    assert_eq!(json(&dir, &["look", "g.wim", "--json"])["boot_edition"], 3);
    assert!(fs::read(dir.join("install.wim")).unwrap() == source, "the source is never written");

    let (code, error) = fails(&dir, &["editions", "install.wim", "keep", "Tug", "-o", "x.wim"]);
    assert!(code == 2 && error.contains("it holds 1 \"Quay OS 7 Kiosk\", 2"), "{error}");
    assert_eq!(fails(&dir, &["editions", "install.wim", "drop", "1", "2", "3", "-o", "x.wim"]).0, 2);
    assert_eq!(fails(&dir, &["editions", "install.wim", "combine", "a.wim", "-o", "x.wim"]).0, 2);
    let (code, error) =
        fails(&dir, &["editions", "install.wim", "keep", "1", "-o", "install.wim", "--replace"]);
    assert!(code == 4 && error.contains("never written"), "{error}");
    assert_eq!(fails(&dir, &["editions", "install.wim", "keep", "1", "-o", "a.wim"]).0, 4);
    assert!(!dir.join("x.wim").exists());
}

#[test]
fn files_inside_an_edition_are_listed_and_taken() {
    let (_keep, dir) = with_image();
    let list = json(&dir, &["files", "quay-os-7.iso", "--edition", BRIDGE, "--digest", "sha1", "--json"]);
    let file = |path: &str| list.as_array().unwrap().iter().find(|file| file["path"] == path).cloned();
    let edition = file("Quay/Config/edition.txt").unwrap();
    ok(&dir, &["take", "install.wim", "quay/config/EDITION.txt", "Users", "--edition", "2", "--to", "out"]);
    let text = fs::read_to_string(dir.join("out/edition.txt")).unwrap();
    assert_eq!(text, "Quay OS 7 Bridge, build 7042\r\n");
    assert_eq!(edition["size"], text.len());
    assert_eq!(names(&dir.join("out/Users")), ["Default", "Public"]);
    ok(
        &dir,
        &[
            "take",
            "quay-os-7.iso",
            "Setup/setup.app",
            "--edition",
            "1",
            "--image",
            "sources/boot.wim",
            "--to",
            "out",
        ],
    );
    let (code, error) = fails(&dir, &["files", "install.wim"]);
    assert!(code == 2 && error.contains("--edition"), "{error}");
    assert_eq!(fails(&dir, &["take", "install.wim", "nothing", "--edition", "1", "--to", "out"]).0, 2);
    assert_eq!(fails(&dir, &["files", "quay-os-7.iso", "--edition", "9"]).0, 2);
}

/// Digest, size and path of every file of an edition.
fn listing(dir: &Path, image: &str, edition: &str) -> String {
    ok(dir, &["files", image, "--edition", edition, "--digest", "sha256"])
}

#[test]
fn compression_changes_and_content_does_not() {
    let (_keep, dir) = with_image();
    let before = listing(&dir, "install.wim", "3");
    let size = |name: &str| fs::metadata(dir.join(name)).unwrap().len();
    ok(&dir, &["repack", "install.wim", "--level", "max", "-o", "max.wim"]);
    ok(
        &dir,
        &[
            "repack",
            "install.wim",
            "--level",
            "fast",
            "--method",
            "xpress",
            "--chunk",
            "4KiB",
            "-o",
            "fast.wim",
        ],
    );
    ok(&dir, &["repack", "install.wim", "--level", "none", "--integrity", "off", "-o", "none.wim"]);
    assert!(
        size("max.wim") < size("install.wim")
            && size("install.wim") < size("fast.wim")
            && size("fast.wim") < size("none.wim")
    );
    for name in ["max.wim", "fast.wim", "none.wim"] {
        assert_eq!(listing(&dir, name, "3"), before, "{name}");
    }
    let look = json(&dir, &["look", "none.wim", "--json"]);
    assert_eq!((&look["method"], &look["integrity_table"]), (&"none".into(), &false.into()));
    ok(&dir, &["repack", "install.wim", "--level", "max", "-o", "one.wim", "--threads", "1"]);
    assert!(fs::read(dir.join("one.wim")).unwrap() == fs::read(dir.join("max.wim")).unwrap());
    assert_eq!(fails(&dir, &["repack", "install.wim", "--chunk", "5KiB", "-o", "x.wim"]).0, 2);
}

#[test]
fn solid_files_hold_the_same_and_say_what_they_are() {
    let (_keep, dir) = with_image();
    let before: Vec<String> = ["1", "2", "3"].map(|edition| listing(&dir, "install.wim", edition)).into();
    let same = |name: &str| {
        for (edition, before) in ["1", "2", "3"].into_iter().zip(&before) {
            assert_eq!(listing(&dir, name, edition), *before, "{name} {edition}");
        }
    };
    let size = |name: &str| fs::metadata(dir.join(name)).unwrap().len();
    ok(&dir, &["repack", "install.wim", "--solid", "-o", "install.esd"]);
    ok(&dir, &["repack", "install.wim", "--level", "max", "-o", "max.wim"]);
    same("install.esd");
    assert!(size("install.esd") < size("max.wim"));
    ok(&dir, &["check", "install.esd"]);
    let look = json(&dir, &["look", "install.esd", "--json"]);
    assert_eq!((&look["solid"], &look["method"]), (&true.into(), &"LZMS".into()));
    assert_eq!((&look["solid_resources"], &look["solid_chunk_size"]), (&1.into(), &(64 << 20).into()));
    let warning = look["warnings"][0].as_str().unwrap();
    assert!(warning.contains("no reader of another maker"), "{warning}");
    // Editions: copied whole with a note, or written anew.
    let kept = neatstack(&dir, &["editions", "install.esd", "keep", "2", "-o", "kept.esd"]);
    let note = String::from_utf8(kept.stderr).unwrap();
    assert!(kept.status.success() && note.contains("belong to no edition any more"), "{note}");
    ok(&dir, &["editions", "install.esd", "keep", "2", "--solid", "-o", "anew.esd"]);
    assert!(size("anew.esd") < size("kept.esd"));
    assert_eq!(listing(&dir, "anew.esd", "1"), before[1]);
    // A folder, less memory, other levels, and what cannot be.
    fs::create_dir(dir.join("in")).unwrap();
    fs::write(dir.join("in/a.txt"), "quay ".repeat(50_000)).unwrap();
    ok(
        &dir,
        &[
            "capture", "in", "-o", "c.esd", "--name", "Mine", "--solid", "--level", "max", "--memory",
            "100MiB",
        ],
    );
    assert_eq!(json(&dir, &["look", "c.esd", "--json"])["solid"], true);
    let (code, error) = fails(&dir, &["repack", "install.wim", "--solid", "--level", "none", "-o", "x.esd"]);
    assert!(code == 2 && error.contains("--level none"), "{error}");
    let (code, error) = fails(&dir, &["repack", "install.wim", "--solid", "--memory", "5MiB", "-o", "x.esd"]);
    assert!(code == 2 && error.contains("or more"), "{error}");
    assert_eq!(fails(&dir, &["repack", "install.wim", "--memory", "1GiB", "-o", "x.wim"]).0, 2);
    assert_eq!(fails(&dir, &["repack", "install.wim", "--solid", "--method", "lzx", "-o", "x.wim"]).0, 2);
    // By a stack file, and back by another.
    let name = stack(&dir, "editions = [2]", "compression = \"solid\"");
    let plan = json(&dir, &["plan", name, "--json"]);
    assert!(plan.to_string().contains("sources/install.esd into solid resources"), "{plan}");
    ok(&dir, &["build", name]);
    let look = json(&dir, &["look", "t.iso", "--json"]);
    let solid = look["image_files"].as_array().unwrap().iter().find(|image| image["solid"] == true).unwrap();
    assert_eq!(solid["path"], "sources/install.esd");
    assert_eq!(listing(&dir, "t.iso", "1"), before[1]);
}

#[test]
fn parts_are_written_and_joined_from_any_one() {
    let (_keep, dir) = with_image();
    ok(&dir, &["split", "install.wim", "--limit", "300KiB", "-o", "install.swm"]);
    let parts: Vec<String> = names(&dir).into_iter().filter(|name| name.ends_with(".swm")).collect();
    assert!(
        parts.len() > 3 && parts.contains(&"install.swm".into()) && parts.contains(&"install2.swm".into()),
        "{parts:?}"
    );
    assert!(parts.iter().all(|part| fs::metadata(dir.join(part)).unwrap().len() <= 300 << 10));
    assert_eq!(edition_names(&dir, "install3.swm"), [KIOSK, BRIDGE, ENGINE]);
    assert_eq!(listing(&dir, "install2.swm", "1"), listing(&dir, "install.wim", "1"));
    ok(&dir, &["join", "install2.swm", "-o", "joined.wim"]);
    assert_eq!(listing(&dir, "joined.wim", "2"), listing(&dir, "install.wim", "2"));
    let (code, error) = fails(&dir, &["split", "install.wim", "--limit", "100KiB", "-o", "x.swm"]);
    assert!(code == 2 && error.contains("in edition"), "{error}");
    assert_eq!(fails(&dir, &["split", "install.wim", "--limit", "300KiB", "-o", "install.swm"]).0, 4);
    fs::remove_file(dir.join("install3.swm")).unwrap();
    let (code, error) = fails(&dir, &["join", "install.swm", "-o", "x.wim"]);
    assert!(code == 3 && error.contains("part 3 is missing"), "{error}");
    let (code, error) = fails(&dir, &["join", "install.swm", "install.wim", "-o", "x.wim"]);
    assert!(code == 3 && error.contains("install.wim, which belongs to another"), "{error}");
    assert!(!dir.join("x.wim").exists() && !dir.join("x.swm").exists());
}

#[test]
fn a_captured_folder_comes_back() {
    let (_keep, dir) = demo();
    fs::create_dir_all(dir.join("in/sub")).unwrap();
    fs::write(dir.join("in/sub/a.txt"), "a".repeat(100_000)).unwrap();
    fs::write(dir.join("in/b.tmp"), "b").unwrap();
    std::os::unix::fs::symlink("sub/a.txt", dir.join("in/link")).unwrap();
    ok(&dir, &["capture", "in", "-o", "c.wim", "--name", "Mine", "--leave-out", "*.tmp", "--level", "max"]);
    fs::create_dir(dir.join("out")).unwrap();
    ok(&dir, &["take", "c.wim", "sub", "link", "--edition", "mine", "--to", "out"]);
    assert_eq!(fs::read(dir.join("out/sub/a.txt")).unwrap(), fs::read(dir.join("in/sub/a.txt")).unwrap());
    assert_eq!(fs::read_link(dir.join("out/link")).unwrap(), Path::new("sub/a.txt"));
    let modified = |path: &str| fs::metadata(dir.join(path)).unwrap().modified().unwrap();
    let apart = modified("out/sub/a.txt").duration_since(modified("in/sub/a.txt")).unwrap_or_default();
    assert!(apart.as_micros() < 1, "{apart:?}");
    fs::write(dir.join("in/c:d"), "x").unwrap();
    let (code, error) = fails(&dir, &["capture", "in", "-o", "d.wim", "--name", "Mine"]);
    assert!(code == 4 && error.contains("c:d") && error.contains("--skip-bad-names"), "{error}");
    ok(&dir, &["capture", "in", "-o", "d.wim", "--name", "Mine", "--skip-bad-names"]);
}

fn stack(dir: &Path, source: &str, media: &str) -> &'static str {
    let text = format!("[source]\nmedia = \"quay-os-7.iso\"\n{source}\n[media]\niso = \"t.iso\"\n{media}\n");
    fs::write(dir.join("t.stack.toml"), text).unwrap();
    "t.stack.toml"
}

#[test]
fn a_build_keeps_editions_and_compresses_anew() {
    let (_keep, dir) = with_image();
    let name = stack(&dir, "editions = [3, \"Quay OS 7 Kiosk\"]", "compression = \"max\"");
    let plan = json(&dir, &["plan", name, "--json"]);
    let kept: Vec<bool> =
        plan["editions"].as_array().unwrap().iter().map(|e| e["kept"].as_bool().unwrap()).collect();
    assert_eq!(kept, [true, false, true]);
    assert!(plan["findings"].to_string().contains("an estimate"), "{plan}");
    assert!(!dir.join("t.iso").exists());
    ok(&dir, &["build", name]);
    assert_eq!(edition_names(&dir, "t.iso"), [ENGINE, KIOSK]);
    assert_eq!(listing(&dir, "t.iso", "1"), listing(&dir, "install.wim", "3"));
    let size = |path: &str| json(&dir, &["look", path, "--json"])["image_files"][0]["size"].as_u64().unwrap();
    assert!(size("t.iso") < size("quay-os-7.iso"));
    let first = fs::read(dir.join("t.iso")).unwrap();
    ok(&dir, &["build", name, "--threads", "1"]);
    assert!(fs::read(dir.join("t.iso")).unwrap() == first, "the same bytes with one thread");
    let (code, error) = fails(&dir, &["plan", stack(&dir, "editions = [\"Quay OS 7 Brige\"]", "")]);
    assert!(code == 2 && error.contains("there is no edition \"Quay OS 7 Brige\""), "{error}");
}

#[test]
fn a_build_takes_the_systems_of_another_release() {
    let (_keep, dir) = with_image();
    ok(
        &dir,
        &[
            "editions",
            "install.wim",
            "rename",
            "2",
            "--name",
            "Next",
            "--display-name",
            "Next",
            "-o",
            "next.wim",
        ],
    );
    ok(&dir, &["build", stack(&dir, "image_from = \"next.wim\"\neditions = [\"Next\"]", "")]);
    assert_eq!(edition_names(&dir, "t.iso"), ["Next"]);
    // From a media whose image file is in parts, into an ordinary one.
    ok(&dir, &["unpack", "quay-os-7.iso", "other"]);
    ok(&dir, &["split", "install.wim", "--limit", "300KiB", "-o", "other/sources/install.swm"]);
    fs::remove_file(dir.join("other/sources/install.wim")).unwrap();
    assert_eq!(edition_names(&dir, "other"), [KIOSK, BRIDGE, ENGINE]);
    fs::remove_file(dir.join("t.iso")).unwrap();
    ok(&dir, &["build", stack(&dir, "image_from = \"other\"\neditions = [1]", "file_limit = \"fat32\"")]);
    assert_eq!(edition_names(&dir, "t.iso"), [KIOSK]);
    assert_eq!(listing(&dir, "t.iso", "1"), listing(&dir, "install.wim", "1"));
    let (code, error) = fails(&dir, &["plan", stack(&dir, "image_from = \"site-files\"", "")]);
    assert!(code == 2 && error.contains("no image file"), "{error}");
}

#[test]
fn damaged_image_files_end_with_exit_code_3() {
    let (_keep, dir) = with_image();
    let sound = fs::read(dir.join("install.wim")).unwrap();
    fs::write(dir.join("cut.wim"), &sound[..sound.len() / 2]).unwrap();
    assert_eq!(fails(&dir, &["look", "cut.wim"]).0, 3);
    let mut unfinished = sound.clone();
    unfinished[16] |= 0x40;
    fs::write(dir.join("unfinished.wim"), &unfinished).unwrap();
    assert!(ok(&dir, &["look", "unfinished.wim"]).contains("still writing"));
    assert_eq!(fails(&dir, &["editions", "unfinished.wim", "keep", "1", "-o", "x.wim"]).0, 4);
    let mut damaged = sound;
    damaged[300_000..300_040].fill(0xA5);
    fs::write(dir.join("damaged.wim"), &damaged).unwrap();
    assert!(ok(&dir, &["look", "install.wim", "--digest", "sha1"]).contains("everything is as it says"));
    let (code, error) = fails(&dir, &["look", "damaged.wim", "--digest", "sha1"]);
    assert!(code == 3 && error.contains("at byte 0xd0"), "{error}");
    let (code, error) = fails(&dir, &["repack", "damaged.wim", "--level", "fast", "-o", "x.wim"]);
    assert!(code == 3 && error.contains("at byte 0x"), "{error}");
    assert_eq!(names(&dir).iter().filter(|name| name.contains("unfinished-")).count(), 0);
    assert!(!dir.join("x.wim").exists());
}

#[test]
fn a_solid_source_becomes_an_ordinary_image_file() {
    let (_keep, dir) = with_image();
    ok(&dir, &["unpack", "quay-os-7.iso", "other"]);
    fs::remove_file(dir.join("other/sources/install.wim")).unwrap();
    let text = b"tide and ferry ".repeat(500);
    // Method 0: the chunk lies in the solid resource as it is.
    let solid = neat_testing::image::hand::solid_file(
        0,
        32768,
        &[&text[..], b"two"].concat(),
        &[("tide.txt", &text), ("two.txt", b"two")],
    );
    fs::write(dir.join("other/sources/install.esd"), solid).unwrap();
    assert!(ok(&dir, &["look", "other"]).contains("sources/install.esd"));
    let text = "[source]\nmedia = \"other\"\neditions = [1]\n[media]\niso = \"t.iso\"\n";
    fs::write(dir.join("t.stack.toml"), text).unwrap();
    assert!(ok(&dir, &["plan", "t.stack.toml", "--all"]).contains("the source is solid"));
    ok(&dir, &["build", "t.stack.toml"]);
    let look = json(&dir, &["look", "t.iso", "--json"]);
    let image = &look["image_files"][0];
    assert_eq!(
        (&image["path"], &image["solid"], &image["method"]),
        (&"sources/install.wim".into(), &false.into(), &"LZX".into())
    );
    assert!(!ok(&dir, &["files", "t.iso"]).contains("install.esd"));
    ok(&dir, &["take", "t.iso", "tide.txt", "--edition", "1", "--to", "out"]);
    assert_eq!(fs::read(dir.join("out/tide.txt")).unwrap(), b"tide and ferry ".repeat(500));
}

/// What is meant is clear where there is only one of it.
#[test]
fn nobody_is_asked_for_what_is_the_only_one() {
    let (_keep, dir) = demo();
    // Of an ISO file its image file is meant.
    ok(&dir, &["editions", "quay-os-7.iso", "keep", "2", "-o", "bridge.wim"]);
    ok(&dir, &["repack", "quay-os-7.iso", "-o", "packed.wim", "--level", "fast"]);
    ok(&dir, &["split", "quay-os-7.iso", "--limit", "500K", "-o", "part.swm"]);
    let (code, said) = fails(&dir, &["repack", "quay-os-7.iso", "-o", "quay-os-7.iso", "--replace"]);
    assert!(code == 4 && said.contains("is the source itself"), "{said}");
    // One edition needs no --edition, and all of it has several words.
    let listed = ok(&dir, &["files", "bridge.wim"]);
    assert!(listed.contains("Quay/System32/lighthouse.scr"), "{listed}");
    assert_eq!(fails(&dir, &["files", "packed.wim"]).0, 2);
    for all in ["/", ".", "*"] {
        let to = format!("all{}", all.len() + usize::from(all.as_bytes()[0]));
        ok(&dir, &["take", "bridge.wim", all, "--to", &to]);
        assert!(dir.join(&to).join("Quay/System32/lighthouse.scr").exists(), "{all}");
    }
    // Folders are merged when what is there may be overwritten.
    ok(&dir, &["take", "bridge.wim", "Quay", "--to", "merged"]);
    fs::write(dir.join("merged/Quay/System32/own.txt"), "mine").unwrap();
    fs::write(dir.join("merged/Quay/System32/lighthouse.scr"), "changed").unwrap();
    assert_eq!(fails(&dir, &["take", "bridge.wim", "Quay", "--to", "merged"]).0, 4);
    ok(&dir, &["take", "bridge.wim", "Quay", "--to", "merged", "--replace"]);
    assert_eq!(fs::read(dir.join("merged/Quay/System32/own.txt")).unwrap(), b"mine");
    assert_eq!(fs::metadata(dir.join("merged/Quay/System32/lighthouse.scr")).unwrap().len(), 45_000);
    // A link in the place of a folder is not followed.
    fs::create_dir(dir.join("elsewhere")).unwrap();
    fs::create_dir(dir.join("linked")).unwrap();
    std::os::unix::fs::symlink(dir.join("elsewhere"), dir.join("linked/Quay")).unwrap();
    let through = neatstack(&dir, &["take", "bridge.wim", "Quay", "--to", "linked", "--replace"]);
    assert_ne!(through.status.code(), Some(0));
    assert_eq!(fs::read_dir(dir.join("elsewhere")).unwrap().count(), 0);
}

#[test]
fn mistakes_are_answered_with_what_was_meant() {
    let (_keep, dir) = demo();
    let (code, said) = fails(&dir, &["inventory", "quay-os-7.iso", "--edition", "Quay OS 7 Brigde"]);
    assert!(code == 2 && said.contains("did you mean \"Quay OS 7 Bridge\"?"), "{said}");
    let layout = ok(&dir, &["schema", "layout", "--example"]);
    fs::write(dir.join("own.layout.toml"), &layout).unwrap();
    ok(&dir, &["inventory", "quay-os-7.iso", "--edition", "2", "--layout", "own.layout.toml"]);
    assert!(ok(&dir, &["schema", "answer", "--example"]).contains("format = 1"));
    assert_eq!(fails(&dir, &["schema", "plan", "--example"]).0, 2);
    // A folder without boot files makes a disc that starts nothing, and that is said.
    let output = support::neatstack(&dir, &["master", "site-files", "-o", "site.iso"]);
    let said = String::from_utf8(output.stderr).unwrap();
    let said = said.split_whitespace().collect::<Vec<_>>().join(" ");
    for text in ["will start no machine", "boot/etfsboot.com", "EFI/BOOT/BOOTX64.EFI", "--bios names another"]
    {
        assert!(said.contains(text), "{text}: {said}");
    }
    let coverage = ok(&dir, &["drivers", "drivers/", "--for", "bridge-console.devices.txt"]);
    assert!(coverage.contains("only for arm64"), "{coverage}");
}

/// A captured system looks like any other: by its own registry, or like an edition of a media.
#[test]
fn a_captured_edition_says_what_it_is() {
    let (_keep, dir) = demo();
    ok(&dir, &["take", "quay-os-7.iso", "/", "--edition", "2", "--to", "tree"]);
    ok(&dir, &["capture", "tree", "-o", "own.wim", "--name", "Own"]);
    let media = &json(&dir, &["editions", "quay-os-7.iso", "--json"])[1];
    let own = &json(&dir, &["editions", "own.wim", "--json"])[0];
    for key in ["architecture", "version", "edition"] {
        assert_eq!(own[key], media[key], "{key}");
    }
    assert_eq!(own["languages"].as_array().unwrap().len(), 3);
    ok(
        &dir,
        &[
            "capture",
            "tree",
            "-o",
            "like.wim",
            "--name",
            "Like",
            "--like",
            "quay-os-7.iso",
            "--like-edition",
            "3",
        ],
    );
    let like = &json(&dir, &["editions", "like.wim", "--json"])[0];
    assert_eq!((&like["edition"], &like["languages"]), (&"EngineRoom".into(), &media["languages"]));
    // What has no system has nothing to say.
    ok(&dir, &["capture", "site-files", "-o", "site.wim", "--name", "Site"]);
    assert_eq!(json(&dir, &["editions", "site.wim", "--json"])[0]["architecture"], "");
    // A registry that cannot be read is captured all the same.
    fs::create_dir_all(dir.join("broken/Quay/System32/config")).unwrap();
    fs::write(dir.join("broken/Quay/System32/config/SOFTWARE"), format!("regf{}", "x".repeat(9000))).unwrap();
    let output = neatstack(&dir, &["capture", "broken", "-o", "broken.wim", "--name", "Broken"]);
    let said = String::from_utf8(output.stderr).unwrap();
    assert!(output.status.success() && said.contains("its registry cannot be read"), "{said}");
    // So a driver for another architecture stays out of it.
    ok(&dir, &["unpack", "quay-os-7.iso", "media"]);
    fs::copy(dir.join("own.wim"), dir.join("media/sources/install.wim")).unwrap();
    fs::write(
        dir.join("own.stack.toml"),
        "[source]\nmedia = \"media\"\n[[driver]]\nfrom = \"drivers/barnacle-arm\"\n[media]\niso = \"o.iso\"\n",
    )
    .unwrap();
    let plan = json(&dir, &["plan", "own.stack.toml", "--json"]);
    assert!(
        plan["editions_work"].to_string().contains("it is for arm64, not for x64"),
        "{}",
        plan["editions_work"]
    );
}

#[test]
fn named_streams_are_listed() {
    use neat_image::{BlobDigest, ImageDraft, Name, Rare, Stream};
    let (_keep, dir) = demo();
    ok(&dir, &["editions", "quay-os-7.iso", "keep", "2", "-o", "plain.wim"]);
    let image = neat_image::open_path(&dir.join("plain.wim")).unwrap();
    let mut draft = ImageDraft::of(&image);
    let mut files = image.files(1).unwrap();
    let id = files.find("Quay/System32/lighthouse.scr").unwrap();
    let content = neat_content::Content::from_bytes(b"from the harbour".to_vec());
    let digest = BlobDigest::of(b"from the harbour");
    draft.add_blob(digest, content);
    let streams = vec![Stream { name: Name::from("origin"), digest, unused: [0; 8] }];
    files.entry_mut(id).set_rare(Rare { streams, ..Rare::default() });
    draft.set_files(1, files).unwrap();
    let job = neat_content::Job::silent();
    let bytes = draft.to_content(&dir, 0, &job).unwrap().to_vec(64 << 20, "image").unwrap();
    fs::write(dir.join("streams.wim"), bytes).unwrap();
    let text = ok(&dir, &["files", "streams.wim", "--streams"]);
    assert!(text.contains("          16  Quay/System32/lighthouse.scr:origin\n"), "{text}");
    assert!(!ok(&dir, &["files", "streams.wim"]).contains(":origin"));
    let all = json(&dir, &["files", "streams.wim", "--streams", "--digest", "sha1", "--json"]);
    let own = all.as_array().unwrap().iter().find(|own| own["kind"] == "stream").unwrap();
    assert_eq!(own["digest"], digest.to_string());
    assert_eq!(fails(&dir, &["files", "quay-os-7.iso", "--streams"]).0, 2);
}

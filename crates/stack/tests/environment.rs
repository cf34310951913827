//! Media of the setup environment alone, and what the environment starts.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod support;

use neat_content::{Content, Tree};
use neat_image::{Files, ImageFile};
use neat_media::read;
use neat_registry::{Hive, text};
use neat_stack::{Weight, install_image_path, open_image, setup_image_path};
use std::fs;
use support::{Bench, DEMO, said};

const ALONE: &str = "only = \"setup-environment\"\n";
const END: &str = "[media]\nlabel = \"BENCH\"\niso = \"t.iso\"\n";

fn bench(rest: &str) -> Bench {
    Bench::new(&format!("{ALONE}{rest}{END}"))
}

fn built(bench: &Bench) -> Tree {
    bench.build();
    read::open(&bench.at("t.iso")).unwrap().tree
}

fn environment(tree: &Tree) -> ImageFile {
    open_image(tree, &setup_image_path(tree).unwrap()).unwrap()
}

fn inside(image: &ImageFile, path: &str) -> Option<Vec<u8>> {
    let files: Files = image.files(1).unwrap();
    let digest = files.entry(files.find(path)?).content();
    let content: Content = neat_image::ImageDraft::of(image).content(digest, path).unwrap();
    Some(content.to_vec(64 << 20, "file").unwrap())
}

fn refused(bench: &Bench) -> String {
    let plan = bench.plan();
    said(&plan, Weight::Refused).join("\n")
}

#[test]
fn the_environment_alone_starts_as_the_media_did() {
    let bench = bench("");
    let plan = bench.plan();
    let platforms: Vec<&str> = plan.output.boot.iter().map(|own| own.platform.as_str()).collect();
    assert_eq!(platforms, ["BIOS", "UEFI"]);
    let tree = built(&bench);
    let files: Vec<String> =
        tree.walk().filter(|step| tree.node(step.id).content().is_some()).map(|step| step.path).collect();
    assert_eq!(files, ["EFI/BOOT/BOOTX64.EFI", "boot/bcd", "boot/bios.img", "quayboot", "sources/boot.wim"]);
    assert!(fs::metadata(bench.at("t.iso")).unwrap().len() < 1 << 20);
    assert_eq!(environment(&tree).header().boot, 1);
    // What it starts is as it was.
    assert!(inside(&environment(&tree), "Quay/System32/winpeshl.ini").is_none());
}

#[test]
fn it_starts_lines_of_ones_own_or_a_prompt() {
    let lines = bench(
        "[environment]\nstart = ['net use S: \\\\store\\bench', 'S:\\menu.cmd']\nscratch = \"512MiB\"\n",
    );
    let image = environment(&built(&lines));
    let launcher = String::from_utf8(inside(&image, "Quay/System32/winpeshl.ini").unwrap()).unwrap();
    assert_eq!(
        launcher,
        "[LaunchApps]\r\n%SYSTEMROOT%\\System32\\wpeinit.exe\r\n\
         %SYSTEMROOT%\\System32\\cmd.exe, /k %SYSTEMROOT%\\System32\\neatstack-start.cmd\r\n"
    );
    let script = String::from_utf8(inside(&image, "Quay/System32/neatstack-start.cmd").unwrap()).unwrap();
    assert_eq!(script, "@echo off\r\nnet use S: \\\\store\\bench\r\nS:\\menu.cmd\r\n");
    let hive = Hive::read(inside(&image, "Quay/System32/config/SYSTEM").unwrap()).unwrap();
    let key = hive.with_control_set("CurrentControlSet\\Services\\FBWF");
    assert_eq!(hive.number_at(&key, "WinPECacheThreshold"), Some(512));
    // A prompt instead, on the media that came out: another's files are not replaced in passing.
    let from = lines.at("t.iso").display().to_string();
    let prompt =
        |rest: &str| bench(&format!("[environment]\nstart = \"prompt\"\n{rest}")).changed("quay.iso", &from);
    let said = refused(&prompt(""));
    assert!(said.contains("winpeshl.ini") && said.contains("`replace = true` in [environment]"), "{said}");
    let again = prompt("replace = true\n");
    let image = environment(&built(&again));
    let launcher = String::from_utf8(inside(&image, "Quay/System32/winpeshl.ini").unwrap()).unwrap();
    assert!(launcher.ends_with("%SYSTEMROOT%\\System32\\cmd.exe\r\n"), "{launcher}");
}

#[test]
fn boot_files_in_a_folder_take_the_environment_of_a_bare_image_file() {
    let own = Bench::alone(&format!(
        "[source]\nmedia = \"boot-files\"\nimage_from = \"tools.wim\"\n{ALONE}\
         [environment]\nedition = \"Quay OS 7 Bridge\"\nkeyboards = [\"00000414\"]\nlanguage = \"nb-NO\"\n\
         wallpaper = \"w.jpg\"\n{END}"
    ));
    let source = read::open(&DEMO.1).unwrap().tree;
    let save = |path: &str, to: &str| {
        let bytes = source.file(path).unwrap().to_vec(64 << 20, "file").unwrap();
        fs::create_dir_all(own.at(to).parent().unwrap()).unwrap();
        fs::write(own.at(to), bytes).unwrap();
    };
    save("boot/bios.img", "boot-files/boot/bios.img");
    save("EFI/BOOT/BOOTX64.EFI", "boot-files/EFI/BOOT/BOOTX64.EFI");
    save("readme.txt", "boot-files/readme.txt");
    save(&install_image_path(&source).unwrap(), "tools.wim");
    fs::write(own.at("w.jpg"), [0xFF, 0xD8, 0xFF, 0xE0, 1, 2, 3]).unwrap();
    assert_eq!(refused(&own), "");
    let tree = built(&own);
    assert!(tree.find("readme.txt").is_none());
    let image = environment(&tree);
    let names: Vec<&str> = image.editions().iter().map(|info| info.name.as_str()).collect();
    assert_eq!(names, ["Quay OS 7 Bridge"]);
    assert_eq!(inside(&image, "Quay/System32/winpe.jpg").unwrap().len(), 7);
    let hive = Hive::read(inside(&image, "Quay/System32/config/DEFAULT").unwrap()).unwrap();
    let value = |key: &str, name: &str| {
        let id = hive.find(key).unwrap();
        text(hive.data(hive.value(id, name).unwrap()))
    };
    assert_eq!(value("Keyboard Layout\\Preload", "1"), "00000414");
    assert_eq!(value("Control Panel\\International", "LocaleName"), "nb-NO");
}

#[test]
fn what_cannot_be_is_said() {
    for (rest, why) in [
        ("editions = [1]\n", "source.editions is about systems"),
        ("[remove]\ncomponents = [\"x\"]\n", "[remove] is about systems"),
        ("[environment]\nstart = \"menu\"\n", "\"menu\" is not known"),
        ("[environment]\nscratch = \"100MiB\"\n", "know no size of 100MiB"),
        ("[environment]\nkeyboards = [\"da\"]\n", "\"da\" is no keyboard"),
        ("[environment]\nedition = \"None\"\n", "None"),
        ("image_from = \"quay.iso\"\n", "is no image file"),
    ] {
        let error = bench(rest).error();
        assert!(error.contains(why), "{why}: {error}");
    }
    for (rest, why) in [
        ("[environment]\nstart = ['echo Grüße']\n", "plain letters"),
        (
            "[environment]\nkeyboards = [\"00000406\"]\n[[leave_out]]\npaths = [\"setup:/**/DEFAULT\"]\nforce = true\n",
            "no hive in which that is set",
        ),
        ("[environment]\nlanguage = \"fi-FI\"\n", "put the language in first"),
        ("[environment]\nwallpaper = \"t.bmp\"\n", "JPEG files alone"),
    ] {
        let own = bench(rest);
        fs::write(own.at("t.bmp"), "BM").unwrap();
        let said = refused(&own);
        assert!(said.contains(why), "{why}: {said}");
    }
    let whole = Bench::new(&format!("[environment]\nedition = 1\n{END}"));
    assert!(whole.error().contains("without `only"));
}

#[test]
fn a_whole_media_gets_another_start_too() {
    let own = Bench::new(&format!("[environment]\nstart = \"prompt\"\n{END}"));
    let tree = built(&own);
    assert!(inside(&environment(&tree), "Quay/System32/winpeshl.ini").is_some());
    assert!(install_image_path(&tree).is_some());
}

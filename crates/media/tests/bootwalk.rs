//! The way of firmware through discs: what is there, one fault at a time.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    missing_docs,
    reason = "a test that cannot go on has failed"
)]

#[allow(dead_code, reason = "other tests use the rest")]
mod support;

use neat_content::{Content, Meta, Tree};
use neat_media::{
    BootCatalog, BootEntry, BootImage, Emulation, ImagePatch, Platform,
    bootwalk::{self, Attachment, Firmware, Walk},
    eltorito::find::{self, plain},
    fat,
    master::{Hybrid, Options},
};
use std::path::Path;
use support::discs::{TIME, add, master, options};

fn tree(files: &[(&str, usize)]) -> Tree {
    let mut tree = Tree::new(Meta::at(TIME));
    for (name, len) in files {
        add(&mut tree, name, vec![0xEB; *len], 1_600_000_000);
    }
    tree
}

/// A FAT image with a loader for x64.
fn uefi_image(loader: &str) -> Content {
    let mut bytes = vec![0; 0x200];
    bytes[..2].copy_from_slice(b"MZ");
    bytes[0x3C] = 0x80;
    bytes[0x80..0x86].copy_from_slice(b"PE\0\0\x64\x86");
    bytes[0x98..0x9A].copy_from_slice(&[0x0B, 0x02]);
    bytes[0x98 + 68] = 10;
    let mut loaders = Tree::new(Meta::at(TIME));
    add(&mut loaders, loader, bytes, 1_600_000_000);
    fat::write::image(&loaders, &fat::write::Options::default()).unwrap()
}

fn walks(path: &Path, tree: &Tree, entries: Vec<BootEntry>, hybrid: Option<Hybrid>) -> Vec<Walk> {
    let boot = (!entries.is_empty()).then(|| BootCatalog { entries, ..BootCatalog::default() });
    master(tree, Options { boot, hybrid, rock_ridge: true, ..options() }, path);
    bootwalk::walk(path).unwrap()
}

fn find(walks: &[Walk], firmware: Firmware, attached: Attachment) -> &Walk {
    walks.iter().find(|walk| walk.firmware == firmware && walk.attached == attached).unwrap()
}

/// What is missing on a way.
fn missing(walk: &Walk) -> String {
    walk.steps.iter().filter(|step| !step.good).map(|step| step.text.clone()).collect::<Vec<_>>().join("; ")
}

#[test]
fn a_disc_of_a_known_loader_is_walked_to_its_own_files() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    let whole =
        [("isolinux/isolinux.bin", 30_000), ("isolinux/isolinux.cfg", 20), ("isolinux/ldlinux.c32", 99)];
    let entry = |tree: &Tree| find::bios_entry(tree, "isolinux/isolinux.bin").unwrap();
    let sound = tree(&whole);
    let all = walks(&path, &sound, vec![entry(&sound)], None);
    let walk = find(&all, Firmware::Bios, Attachment::Disc);
    assert!(walk.is_good(), "{walk:?}");
    assert!(walk.steps.iter().any(|step| step.text == "its boot-info table is right"));
    assert_eq!(bootwalk::claims(&all, Attachment::Disc), [Firmware::Bios]);
    assert!(bootwalk::claims(&all, Attachment::Disk).is_empty());
    // One thing less each time.
    let bare = tree(&whole[..1]);
    let all = walks(&path, &bare, vec![entry(&bare)], None);
    let walk = find(&all, Firmware::Bios, Attachment::Disc);
    assert!(walk.claimed && !walk.is_good() && missing(walk) == "the loader has no isolinux.cfg", "{walk:?}");
    assert!(walk.unknown.iter().any(|text| text.contains("ldlinux.c32")));
    let plain = BootEntry { patch: ImagePatch::default(), ..entry(&sound) };
    let all = walks(&path, &sound, vec![plain], None);
    assert!(missing(find(&all, Firmware::Bios, Attachment::Disc)).contains("needs a boot-info table"));
    let none = BootEntry { load_sectors: 0, ..entry(&sound) };
    let all = walks(&path, &sound, vec![none], None);
    assert!(missing(find(&all, Firmware::Bios, Attachment::Disc)).contains("the load size is 0"));
    let marked = BootEntry { bootable: false, ..entry(&sound) };
    let all = walks(&path, &sound, vec![marked], None);
    let walk = find(&all, Firmware::Bios, Attachment::Disc);
    assert!(!walk.claimed && missing(walk).contains("none of the 1 entries"), "{walk:?}");
    // A byte of the image behind the table changes its sum.
    walks(&path, &sound, vec![entry(&sound)], None);
    let mut bytes = std::fs::read(&path).unwrap();
    let at = bytes.windows(500).rposition(|window| window.iter().all(|byte| *byte == 0xEB)).unwrap();
    bytes[at + 100] = 0;
    std::fs::write(&path, &bytes).unwrap();
    let all = bootwalk::walk(&path).unwrap();
    assert!(missing(find(&all, Firmware::Bios, Attachment::Disc)).contains("names another place or length"));
}

#[test]
fn setup_loaders_diskettes_and_empty_images() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    let without = tree(&[("boot/etfsboot.com", 4096)]);
    let entry = |tree: &Tree, path: &str| find::bios_entry(tree, path).unwrap();
    let all = walks(&path, &without, vec![entry(&without, "boot/etfsboot.com")], None);
    assert!(missing(find(&all, Firmware::Bios, Attachment::Disc)).contains("looks for bootmgr"));
    let with = tree(&[("boot/etfsboot.com", 4096), ("BOOTMGR", 10)]);
    let all = walks(&path, &with, vec![entry(&with, "boot/etfsboot.com")], None);
    assert!(find(&all, Firmware::Bios, Attachment::Disc).is_good());
    let mut zeros = Tree::new(Meta::at(TIME));
    add(&mut zeros, "boot/bios.img", vec![0; 4096], 0);
    let all = walks(&path, &zeros, vec![entry(&zeros, "boot/bios.img")], None);
    assert!(missing(find(&all, Firmware::Bios, Attachment::Disc)).contains("nothing but zeros"));
    let floppy = tree(&[("floppy.img", 1440 << 10)]);
    let image = BootImage::File("floppy.img".into());
    let as_floppy =
        BootEntry { emulation: Emulation::Floppy1440, load_sectors: 1, ..plain(Platform::BIOS, image) };
    let all = walks(&path, &floppy, vec![as_floppy], None);
    assert!(find(&all, Firmware::Bios, Attachment::Disc).is_good());
    let all = walks(&path, &floppy, Vec::new(), None);
    assert_eq!(missing(find(&all, Firmware::Bios, Attachment::Disc)), "there is no boot catalogue");
}

#[test]
fn uefi_images_on_discs_and_in_partitions() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    let files = tree(&[("readme.txt", 10)]);
    let entry = |content: Content| plain(Platform::UEFI, BootImage::Hidden(content));
    let sound = || uefi_image("EFI/BOOT/BOOTX64.EFI");
    let all = walks(&path, &files, vec![entry(sound())], Some(Hybrid { boot_code: None }));
    for attached in [Attachment::Disc, Attachment::Disk] {
        let walk = find(&all, Firmware::Uefi, attached);
        assert!(walk.is_good(), "{walk:?}");
        assert!(walk.steps.iter().any(|step| step.text.ends_with("is a UEFI application for x64")));
    }
    assert_eq!(bootwalk::claims(&all, Attachment::Disk), [Firmware::Uefi]);
    let all = walks(&path, &files, vec![entry(uefi_image("EFI/BOOT/BOOTIA32.EFI"))], None);
    let walk = find(&all, Firmware::Uefi, Attachment::Disc);
    assert!(missing(walk).contains("is for x64, whose firmware looks for bootx64.efi"), "{walk:?}");
    let all = walks(&path, &files, vec![entry(uefi_image("EFI/OTHER/SHELL.EFI"))], None);
    assert_eq!(missing(find(&all, Firmware::Uefi, Attachment::Disc)), "there is no EFI/BOOT/BOOT*.EFI");
    let all = walks(&path, &files, vec![entry(Content::from_bytes(vec![9; 5000]))], None);
    assert!(missing(find(&all, Firmware::Uefi, Attachment::Disc)).contains("is not a FAT file system"));
    let all = walks(&path, &files, Vec::new(), None);
    assert_eq!(missing(find(&all, Firmware::Uefi, Attachment::Disk)), "there is no partition table");
}

//! Sticks: what a second reading says of them, limits, boot code, the way of firmware.

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

use neat_content::{Class, Content, Job, Meta, NodeKind, Output, Source, Tree};
use neat_media::{
    TreeKind, bootwalk, master, read,
    stick::{self, Options, Scheme, StickPlan, UpdateOptions, plan_update},
};
use proptest::prelude::*;
use std::{collections::BTreeMap, fs::File, os::unix::fs::FileExt, path::Path, sync::Arc};
use support::discs::{TIME, add, any_tree};

const MIB: u64 = 1 << 20;

fn options(scheme: Scheme) -> Options {
    Options { scheme, len: None, label: "Ferry 7".into(), time: TIME, seed: [7; 32], manager: None }
}

fn write(plan: &StickPlan, path: &Path) {
    let file = File::options().read(true).write(true).create(true).truncate(true).open(path).unwrap();
    let mut output = Output::new(file, path, None);
    plan.write(&mut output, &Job::silent()).unwrap();
    output.finish().unwrap();
    assert_eq!(std::fs::metadata(path).unwrap().len(), plan.len);
}

fn tree_of(files: &[(&str, usize)]) -> Tree {
    let mut tree = Tree::new(Meta::at(TIME));
    for (path, len) in files {
        add(&mut tree, path, (0..*len).map(|n| (n * 7 % 251) as u8).collect(), 1_600_000_001);
    }
    tree
}

/// Names, bytes and times of `tree` are what the second reading finds.
fn check(path: &Path, tree: &Tree, len: u64) -> neat_testing::stick::Stick {
    let stick = neat_testing::stick::walk(path, len);
    let mut wanted: Vec<String> = tree
        .walk()
        .map(|step| if tree.node(step.id).folder().is_some() { format!("{}/", step.path) } else { step.path })
        .collect();
    wanted.sort();
    assert_eq!(stick.files.keys().cloned().collect::<Vec<_>>(), wanted);
    for step in tree.walk() {
        let node = tree.node(step.id);
        let Some(content) = node.content() else { continue };
        assert!(stick.bytes(path, &step.path) == content.to_vec(1 << 26, "file").unwrap(), "{}", step.path);
        let entry = &stick.files[&step.path];
        let (date, time) = (i64::from(entry.date), i64::from(entry.time));
        let seconds = neat_testing::disc::seconds(
            1980 + (date >> 9),
            date >> 5 & 15,
            date & 31,
            time >> 11,
            time >> 5 & 63,
            (time & 31) * 2,
        );
        assert_eq!(seconds, node.meta.modified.seconds.max(315_532_800) / 2 * 2, "time of {}", step.path);
    }
    stick
}

const FILES: &[(&str, usize)] = &[
    ("EFI/BOOT/BOOTX64.EFI", 70_001),
    ("quayboot", 900),
    ("empty.txt", 0),
    ("sources/install.wim", 3_000_000),
    ("A name with Umlauts – Äöü and 航路図 that is long.txt", 12),
    ("deep/deeper/deepest/README.TXT", 512),
    ("LOWER.txt", 1),
    ("long name one.text", 2),
    ("long name two.text", 3),
    ("long name three.text", 4),
];

#[test]
fn both_schemes_and_all_cluster_sizes() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("stick");
    let tree = tree_of(FILES);
    for scheme in [Scheme::Gpt, Scheme::Mbr] {
        // The least, and one beyond each border of the table; 511 bytes more make no whole block.
        for len in
            [None, Some(36 * MIB), Some(300 * MIB), Some(9 << 30), Some((17 << 30) + 511), Some(33 << 30)]
        {
            let plan = StickPlan::new(&tree, &[], &Options { len, ..options(scheme) }).unwrap();
            write(&plan, &path);
            let stick = check(&path, &tree, plan.len);
            assert_eq!(stick.gpt, scheme == Scheme::Gpt);
            assert_eq!(stick.label, "FERRY 7");
            assert_eq!(stick.free_clusters * stick.cluster_len, plan.free);
            // Every file in one piece.
            for (name, entry) in &stick.files {
                let together = entry.clusters.windows(2).all(|pair| pair[0] + 1 == pair[1]);
                assert!(together, "{name}");
            }
            assert_eq!(&stick.files["quayboot"].short, b"QUAYBOOT   ");
            let media = read::open(&path).unwrap();
            assert_eq!((media.trees.chosen, media.volume.label.as_str()), (TreeKind::Fat, "FERRY 7"));
            let bytes = |tree: &Tree| -> BTreeMap<String, Vec<u8>> {
                let files = tree.walk().filter_map(|step| {
                    Some((step.path, tree.node(step.id).content()?.to_vec(1 << 23, "file").unwrap()))
                });
                files.collect()
            };
            assert!(bytes(&media.tree) == bytes(&tree));
        }
    }
}

#[test]
fn the_same_seed_gives_the_same_bytes_and_another_seed_other_ids() {
    let dir = tempfile::tempdir().unwrap();
    let tree = tree_of(FILES);
    let mut digests = Vec::new();
    for seed in [[7; 32], [7; 32], [8; 32]] {
        let path = dir.path().join("stick");
        write(&StickPlan::new(&tree, &[], &Options { seed, ..options(Scheme::Gpt) }).unwrap(), &path);
        let ids = (0..=48).step_by(16).map(|at| {
            let mut id = [0; 16];
            File::open(&path).unwrap().read_exact_at(&mut id, 512 + 40 + at).unwrap();
            id
        });
        digests.push((std::fs::read(&path).unwrap(), ids.collect::<Vec<_>>()));
    }
    assert!(digests[0].0 == digests[1].0);
    assert!(digests[0].1 != digests[2].1);
}

#[test]
fn what_fat_cannot_hold_is_said_before_anything_is_written() {
    let refused = |tree: &Tree, len: Option<u64>| {
        let error = StickPlan::new(tree, &[], &Options { len, ..options(Scheme::Gpt) }).unwrap_err();
        assert_eq!(error.class(), Class::BadRequest);
        format!("{error} / {}", error.hint())
    };
    let dir = tempfile::tempdir().unwrap();
    let big = dir.path().join("big");
    File::create(&big).unwrap().set_len(4 << 30).unwrap();
    let mut tree = tree_of(&[("a.txt", 1)]);
    tree.put_file("sources/huge.bin", Content::from_path(&big).unwrap(), Meta::at(TIME)).unwrap();
    assert!(refused(&tree, None).contains("sources/huge.bin has 4294967296 bytes"));
    File::create(&big).unwrap().set_len((4 << 30) - 1).unwrap();
    tree.put_file("sources/huge.bin", Content::from_path(&big).unwrap(), Meta::at(TIME)).unwrap();
    StickPlan::new(&tree, &[], &options(Scheme::Gpt)).unwrap();
    for name in ["colon:name", "ends with dot.", "ends with space ", &"x".repeat(256), "tab\tname"] {
        let text = refused(&tree_of(&[("ok", 1), (&format!("folder/{name}"), 1)]), None);
        assert!(text.contains("folder/") && text.contains("cannot hold"), "{text}");
    }
    let mut twice = tree_of(&[("Name.txt", 1)]);
    twice.add(Tree::ROOT, "nAME.TXT", Meta::at(TIME), NodeKind::File(Content::default())).unwrap();
    assert!(refused(&twice, None).contains("one name on FAT"));
    // 21,845 names of two pieces and their own entries, and the label: one too many.
    let mut full = Tree::new(Meta::at(TIME));
    for number in 0..21_845 {
        let name = format!("a long name {number:05}.dat");
        full.put_file(&name, Content::default(), Meta::at(TIME)).unwrap();
    }
    StickPlan::new(&full, &[], &options(Scheme::Gpt)).unwrap();
    full.put_file("ONE.MOR", Content::default(), Meta::at(TIME)).unwrap();
    assert!(refused(&full, None).contains("the root folder needs 65537 directory entries"));
    assert!(refused(&tree_of(&[("a", 1)]), Some(20 * MIB)).contains("too few for FAT32"));
    let text = refused(&tree_of(&[("a", 50 << 20)]), Some(40 * MIB));
    assert!(text.contains("MiB are missing") && text.contains("larger"), "{text}");
}

#[test]
fn links_become_what_they_lead_to() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("stick");
    let mut tree = tree_of(&[("folder/file.txt", 9), ("quayboot", 5)]);
    for (name, target) in [
        ("folder/link.txt", "file.txt"),
        ("up.txt", "./folder/../folder/link.txt"),
        ("round", "round"),
        ("to folder", "folder"),
    ] {
        let (parent, name) = match name.rsplit_once('/') {
            Some((folder, name)) => (tree.find(folder).unwrap(), name),
            None => (Tree::ROOT, name),
        };
        tree.add(parent, name, Meta::at(TIME), NodeKind::Link(target.into())).unwrap();
    }
    let plan = StickPlan::new(&tree, &[], &options(Scheme::Mbr)).unwrap();
    assert!(
        plan.notes.iter().any(|note| note.contains("left out") && note.contains("and 1 more")),
        "{:?}",
        plan.notes
    );
    write(&plan, &path);
    let stick = neat_testing::stick::walk(&path, plan.len);
    assert_eq!(stick.bytes(&path, "up.txt"), stick.bytes(&path, "folder/file.txt"));
    assert_eq!(stick.bytes(&path, "folder/link.txt").len(), 9);
    assert!(!stick.files.contains_key("round"));
}

#[test]
fn assembled_bytes_match_their_sources() {
    let boot = Path::new(env!("CARGO_MANIFEST_DIR")).join("boot");
    neat_testing::assert_assembled(&boot, &[("disk", stick::DISK_CODE), ("record", stick::BOOT_RECORD)]);
}

/// A UEFI application's headers for a processor, and nothing behind them.
fn application(machine: u16, subsystem: u16) -> Vec<u8> {
    let mut bytes = vec![0; 0x200];
    bytes[..2].copy_from_slice(b"MZ");
    bytes[0x3C] = 0x80;
    bytes[0x80..0x84].copy_from_slice(b"PE\0\0");
    bytes[0x84..0x86].copy_from_slice(&machine.to_le_bytes());
    bytes[0x98..0x9A].copy_from_slice(&0x20B_u16.to_le_bytes());
    bytes[0x98 + 68..0x98 + 70].copy_from_slice(&subsystem.to_le_bytes());
    bytes
}

#[test]
fn the_way_of_firmware_through_a_stick_is_walked_by_reading() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("stick");
    let make = |files: &[(&str, Vec<u8>)]| {
        let mut tree = Tree::new(Meta::at(TIME));
        for (name, bytes) in files {
            add(&mut tree, name, bytes.clone(), 1_600_000_000);
        }
        write(&StickPlan::new(&tree, &[], &options(Scheme::Gpt)).unwrap(), &path);
    };
    let texts = |walk: &bootwalk::Walk| {
        walk.steps.iter().map(|step| format!("{} {}", step.good, step.text)).collect::<Vec<_>>().join("\n")
    };
    make(&[
        ("quayboot", vec![1; 600]),
        ("EFI/BOOT/BOOTX64.EFI", application(0x8664, 10)),
        ("EFI/BOOT/grub.cfg", vec![1]),
    ]);
    let walks = bootwalk::walk(&path).unwrap();
    assert_eq!(walks.len(), 2);
    assert!(walks.iter().all(bootwalk::Walk::is_good), "{walks:?}");
    assert_eq!(bootwalk::claims(&walks, bootwalk::Attachment::Disk).len(), 2);
    assert!(walks.iter().all(|walk| !walk.unknown.is_empty()));
    // One fault each.
    for (bytes, wanted) in [
        (application(0xAA64, 10), "is for arm64, whose firmware looks for bootaa64.efi"),
        (application(0x8664, 2), "subsystem 2"),
        (b"MZ but nothing else".repeat(20), "PE header"),
        (vec![7; 300], "does not begin with MZ"),
        (vec![1; 3], "too few"),
    ] {
        make(&[("quayboot", vec![1; 600]), ("EFI/BOOT/BOOTX64.EFI", bytes)]);
        let walks = bootwalk::walk(&path).unwrap();
        let uefi = walks.iter().find(|walk| walk.firmware == bootwalk::Firmware::Uefi).unwrap();
        assert!(uefi.claimed && !uefi.is_good() && texts(uefi).contains(wanted), "{}", texts(uefi));
    }
    // Without a boot manager nothing is claimed for BIOS.
    make(&[("EFI/BOOT/BOOTX64.EFI", application(0x8664, 10))]);
    let walks = bootwalk::walk(&path).unwrap();
    assert!(!walks[0].claimed && walks[1].is_good(), "{walks:?}");
    // The boot manager is gone from the directory: its name is overwritten as deleted.
    make(&[("quayboot", vec![1; 600])]);
    let mut bytes = std::fs::read(&path).unwrap();
    let at = bytes.windows(11).rposition(|window| window == b"QUAYBOOT   ").unwrap();
    bytes[at] = 0xE5;
    std::fs::write(&path, &bytes).unwrap();
    let walks = bootwalk::walk(&path).unwrap();
    assert!(
        walks[0].claimed && texts(&walks[0]).contains("quayboot is not in the root"),
        "{}",
        texts(&walks[0])
    );
    bytes[..440].fill(0);
    std::fs::write(&path, &bytes).unwrap();
    assert!(texts(&bootwalk::walk(&path).unwrap()[0]).contains("no boot code"));
}

/// What both readers and the update see of a stick: paths and bytes.
fn contents(path: &Path, len: u64) -> BTreeMap<String, Vec<u8>> {
    let stick = neat_testing::stick::walk(path, len);
    stick
        .files
        .keys()
        .filter(|name| !name.ends_with('/'))
        .map(|name| (name.clone(), stick.bytes(path, name)))
        .collect()
}

/// Does an update's writes, all or so many of them.
fn apply(path: &Path, tree: &Tree, most: usize) -> usize {
    let source = Source::open(path).unwrap();
    let plan = plan_update(
        &source,
        tree,
        UpdateOptions { time: TIME, quick: false, remove_others: true },
        &Job::silent(),
    )
    .unwrap();
    let file = File::options().write(true).open(path).unwrap();
    let writes: Vec<_> = plan.update.groups.iter().flatten().collect();
    for write in writes.iter().take(most) {
        let bytes = write.content.to_vec(1 << 26, "write").unwrap();
        file.write_all_at(&bytes, plan.start + write.offset).unwrap();
    }
    writes.len()
}

#[test]
fn an_update_cut_off_anywhere_leaves_the_old_stick_or_the_new_one() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("stick");
    let old = tree_of(FILES);
    let plan = StickPlan::new(&old, &[], &options(Scheme::Gpt)).unwrap();
    write(&plan, &path);
    let before = std::fs::read(&path).unwrap();
    let mut new = old.clone();
    add(&mut new, "autounattend.xml", b"<unattend/>".to_vec(), 1_700_000_000);
    add(&mut new, "deep/deeper/new folder/new file.bin", vec![9; 300_000], 1_700_000_000);
    add(&mut new, "sources/install.wim", vec![5; 3_100_000], 1_700_000_000);
    new.remove(new.find("empty.txt").unwrap());
    new.remove(new.find("long name two.text").unwrap());
    let (old_contents, count) = (contents(&path, plan.len), apply(&path, &new, usize::MAX));
    check(&path, &new, plan.len);
    let new_contents = contents(&path, plan.len);
    assert_ne!(old_contents, new_contents);
    let mut seen = [0; 2];
    for most in 0..=count {
        std::fs::write(&path, &before).unwrap();
        assert_eq!(apply(&path, &new, most), count);
        // The second reading insists on tidy tables, so a half-done one is read by ours and by its walk of chains.
        let media = read::open(&path).unwrap();
        let now: BTreeMap<String, Vec<u8>> = media
            .tree
            .walk()
            .filter_map(|step| {
                Some((step.path, media.tree.node(step.id).content()?.to_vec(1 << 23, "file").unwrap()))
            })
            .collect();
        assert!(now == old_contents || now == new_contents, "after {most} writes");
        seen[usize::from(now == new_contents)] += 1;
        // The next update finishes it, tables and all.
        apply(&path, &new, usize::MAX);
        check(&path, &new, plan.len);
    }
    assert!(seen[0] > 3 && seen[1] > 2, "{seen:?}");
}

#[test]
fn an_update_without_room_or_of_another_stick_is_refused() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("stick");
    let tree = tree_of(&[("big.bin", 30 << 20), ("quayboot", 10)]);
    let plan = StickPlan::new(&tree, &[], &Options { len: Some(40 * MIB), ..options(Scheme::Mbr) }).unwrap();
    write(&plan, &path);
    let mut new = tree.clone();
    add(&mut new, "big.bin", vec![1; 30 << 20], 1_700_000_000);
    let update = |tree: &Tree, quick| {
        plan_update(
            &Source::open(&path).unwrap(),
            tree,
            UpdateOptions { time: TIME, quick, remove_others: true },
            &Job::silent(),
        )
    };
    let error = update(&new, false).unwrap_err();
    assert!(error.to_string().contains("MiB are missing"), "{error}");
    // By size and time alone the two are the same.
    add(&mut new, "big.bin", vec![1; 30 << 20], 1_600_000_001);
    assert!(update(&new, true).unwrap().update.is_nothing());
    assert!(update(&tree, false).unwrap().update.is_nothing());
    let mut bytes = std::fs::read(&path).unwrap();
    bytes[MIB as usize + 3..MIB as usize + 11].copy_from_slice(b"mkfs.fat");
    std::fs::write(&path, &bytes).unwrap();
    assert!(update(&new, false).unwrap_err().to_string().contains("not written"), "another maker");
}

#[test]
fn a_disc_and_a_stick_from_one_pass_are_what_each_is_alone() {
    let dir = tempfile::tempdir().unwrap();
    let (iso, img) = (dir.path().join("a.iso"), dir.path().join("a.img"));
    let mut tree = tree_of(FILES);
    add(
        &mut tree,
        "twin of the first.bin",
        (0..70_001).map(|n| (n * 7 % 251) as u8).collect(),
        1_600_000_000,
    );
    let disc = master::Plan::new(&Arc::new(tree), support::discs::options(), &Job::silent()).unwrap();
    let plan = StickPlan::new(disc.tree(), &disc.file_order(), &options(Scheme::Gpt)).unwrap();
    let output = |path: &Path| Output::new(File::create(path).unwrap(), path, None);
    let (mut to_iso, mut to_img) = (output(&iso), output(&img));
    let wanted: Vec<_> = ["quayboot", "sources/install.wim", "empty.txt"]
        .iter()
        .map(|name| disc.tree().find(name).unwrap())
        .collect();
    let together =
        stick::write_with_disc(&disc, &wanted, &mut to_iso, &plan, &mut to_img, &Job::silent()).unwrap();
    to_iso.finish().unwrap();
    to_img.finish().unwrap();
    let (alone_iso, alone_img) = (dir.path().join("b.iso"), dir.path().join("b.img"));
    let mut out = output(&alone_iso);
    let digests = disc.write_and_digest(&wanted, &mut out, &Job::silent()).unwrap();
    out.finish().unwrap();
    write(&plan, &alone_img);
    assert_eq!(together, digests);
    assert!(together[0].is_some() && together[2].is_none());
    assert!(std::fs::read(&iso).unwrap() == std::fs::read(&alone_iso).unwrap());
    assert!(std::fs::read(&img).unwrap() == std::fs::read(&alone_img).unwrap());
    check(&img, disc.tree(), plan.len);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    #[test]
    fn any_tree_that_fat_can_hold_is_held_and_brought_up_to_date(
        first in any_tree(), second in any_tree(), mbr in any::<bool>(),
    ) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("stick");
        let scheme = if mbr { Scheme::Mbr } else { Scheme::Gpt };
        let own = |tree: &Tree| StickPlan::new(tree, &[], &Options { len: Some(64 * MIB), ..options(scheme) });
        let (plan, next) = match (own(&first), own(&second)) {
            (Ok(plan), Ok(next)) => (plan, next),
            (first, second) => {
                let error = first.err().or(second.err()).unwrap();
                prop_assert_eq!(error.class(), Class::BadRequest);
                return Ok(());
            }
        };
        write(&plan, &path);
        check(&path, &plan.tree, plan.len);
        apply(&path, &next.tree, usize::MAX);
        check(&path, &next.tree, plan.len);
    }
}

//! Round trips and properties of mastering and reading.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    missing_docs,
    reason = "a test that cannot go on has failed"
)]

mod support;

use neat_content::{Class, Content, IfThere, Job, Meta, NodeKind, PendingFile, Tree};
use neat_media::{
    BootCatalog, BootEntry, BootImage, Emulation, ImagePatch, Limits, Media, Platform, TreeKind,
    eltorito::find::{self, plain},
    fat,
    master::{Hybrid, JolietNames, Options, Plan, Twins, write_together},
    read,
};
use neat_testing::disc::{
    self, Disc,
    iso::{self, Which},
    udf,
};
use proptest::prelude::*;
use std::{
    path::{Path, PathBuf},
    sync::Arc,
};
use support::discs::{TIME, add, any_tree, check_disc, listing, master, options};

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    #[test]
    fn any_tree_survives_in_every_format(tree in any_tree(), rock_ridge in any::<bool>()) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.iso");
        master(&tree, Options { rock_ridge, ..options() }, &path);
        check_disc(&path, &tree, false);
        let media = read::open(&path).unwrap();
        prop_assert_eq!(listing(&media.tree), listing(&tree));
        // Without UDF, Rock Ridge keeps every name too.
        if rock_ridge {
            let path = dir.path().join("b.iso");
            master(&tree, Options { rock_ridge, udf: false, ..options() }, &path);
            let media = read::open(&path).unwrap();
            prop_assert_eq!(media.trees.chosen, TreeKind::RockRidge);
            prop_assert_eq!(listing(&media.tree), listing(&tree));
        }
    }
}

#[test]
fn the_same_inputs_give_the_same_bytes() {
    let mut tree = Tree::new(Meta::at(TIME));
    add(&mut tree, "a/b.txt", b"hello".to_vec(), 1_600_000_000);
    let dir = tempfile::tempdir().unwrap();
    let (a, b) = (dir.path().join("a.iso"), dir.path().join("b.iso"));
    for path in [&a, &b] {
        master(&tree, Options { hybrid: Some(Hybrid::default()), ..options() }, path);
    }
    assert!(std::fs::read(a).unwrap() == std::fs::read(b).unwrap());
}

#[test]
fn joliet_without_udf_keeps_names_and_identical_files_are_stored_once() {
    let mut tree = Tree::new(Meta::at(TIME));
    add(&mut tree, "one/Ähnlich.txt", vec![7; 300_000], 1_600_000_000);
    add(&mut tree, "two/copy.txt", vec![7; 300_000], 1_600_000_001);
    add(&mut tree, "two/other.txt", vec![8; 300_000], 1_600_000_001);
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    let job = Job::silent();
    assert_eq!(Plan::new(&Arc::new(tree.clone()), options(), &job).unwrap().shared_len(), 300_000);
    master(&tree, Options { udf: false, ..options() }, &path);
    let media = read::open(&path).unwrap();
    assert_eq!(media.trees.chosen, TreeKind::Joliet);
    assert_eq!(listing(&media.tree), listing(&tree));
    assert!(media.size < 700_000, "{}", media.size);
    let disc = Disc::open(&path);
    let walk = iso::walk(&disc, Which::Joliet).unwrap();
    let at = |path: &str| walk.entries.iter().find(|e| e.path == path).unwrap().extents[0].0;
    assert_eq!(at("one/Ähnlich.txt"), at("two/copy.txt"));
    assert_ne!(at("one/Ähnlich.txt"), at("two/other.txt"));
}

#[test]
fn a_file_of_more_than_4_gib_has_sections_and_extents() {
    let dir = tempfile::tempdir().unwrap();
    let big = dir.path().join("big");
    let file = std::fs::File::create(&big).unwrap();
    let len = (9_u64 << 30) + 12_345;
    file.set_len(len).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, b"the end", len - 7).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, b"across", (4 << 30) - 3).unwrap();
    let mut tree = Tree::new(Meta::at(TIME));
    tree.put_file("sources/big.bin", Content::from_path(&big).unwrap(), Meta::at(TIME)).unwrap();
    let path = dir.path().join("a.iso");
    master(&tree, options(), &path);
    check_disc(&path, &tree, true);
    let disc = Disc::open(&path);
    let primary = iso::walk(&disc, Which::Primary).unwrap();
    let entry = primary.entries.iter().find(|e| !e.is_folder).unwrap();
    assert_eq!((entry.extents.len(), entry.len()), (3, len));
    assert_eq!(entry.extents[1].0, entry.extents[0].0 + entry.extents[0].1, "sections follow each other");
    let media = read::open(&path).unwrap();
    let content = media.tree.file("sources/big.bin").unwrap();
    assert_eq!(content.part(len - 7, 7).unwrap().to_vec(7, "end").unwrap(), b"the end");
    assert_eq!(content.part((4 << 30) - 3, 6).unwrap().to_vec(6, "across").unwrap(), b"across");
    use std::os::unix::fs::MetadataExt;
    assert!(std::fs::metadata(&path).unwrap().blocks() * 512 < 64 << 20, "holes stay holes");
}

#[test]
fn a_folder_of_20_000_files_and_a_deep_one() {
    let mut tree = Tree::new(Meta::at(TIME));
    let folder = tree.make_folder("wide", Meta::at(TIME)).unwrap();
    for n in 0..20_000 {
        let content = Content::from_bytes(format!("{n}").into_bytes());
        tree.add(
            folder,
            &format!("a file with a rather long name {n:05}.dat"),
            Meta::at(TIME),
            NodeKind::File(content),
        )
        .unwrap();
    }
    add(&mut tree, &format!("{}end.txt", "deep/".repeat(60)), b"bottom".to_vec(), 1_650_000_000);
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    master(&tree, Options { rock_ridge: true, ..options() }, &path);
    check_disc(&path, &tree, true);
    assert_eq!(read::open(&path).unwrap().tree.counts().files, 20_001);
    let path = dir.path().join("b.iso");
    master(&tree, Options { rock_ridge: true, udf: false, joliet: JolietNames::Off, ..options() }, &path);
    assert_eq!(listing(&read::open(&path).unwrap().tree), listing(&tree));
}

#[test]
fn long_names_are_cut_where_a_format_cannot_hold_them() {
    let mut tree = Tree::new(Meta::at(TIME));
    let (long, wide) = ("n".repeat(254), "航".repeat(127));
    add(&mut tree, &long, b"1".to_vec(), 1);
    add(&mut tree, &wide, b"2".to_vec(), 1);
    add(&mut tree, &"x".repeat(103), b"3".to_vec(), 1);
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    let notes = master(&tree, options(), &path);
    assert!(notes.iter().any(|note| note.contains("Joliet") && note.contains("1 more")), "{notes:?}");
    check_disc(&path, &tree, false);
    let joliet = iso::walk(&Disc::open(&path), Which::Joliet).unwrap();
    assert!(joliet.entries.iter().any(|e| e.path == "x".repeat(103)), "relaxed when it helps");
    // One more than UDF holds: both names stay apart.
    let mut tree = Tree::new(Meta::at(TIME));
    for end in ["a", "b"] {
        add(&mut tree, &format!("{}{end}", "m".repeat(254)), end.as_bytes().to_vec(), 1);
    }
    let notes = master(&tree, options(), &path);
    assert!(notes.iter().any(|note| note.contains("UDF")), "{notes:?}");
    let seen = udf::walk(&Disc::open(&path)).unwrap().entries;
    assert_eq!(seen.len(), 2);
    assert_ne!(seen[0].path, seen[1].path);
}

fn link_tree() -> Tree {
    let mut tree = Tree::new(Meta::at(TIME));
    add(&mut tree, "real/file.txt", b"x".to_vec(), 1_600_000_000);
    for (name, target) in
        [("short", "real/file.txt"), ("up", "../a/./b"), ("root", "/usr/lib"), ("long", &"part/".repeat(180))]
    {
        tree.add(Tree::ROOT, name, Meta::at(TIME), NodeKind::Link(target.trim_end_matches('/').into()))
            .unwrap();
    }
    tree
}

#[test]
fn links_are_kept_in_udf_and_rock_ridge() {
    let tree = link_tree();
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    master(&tree, Options { udf: false, rock_ridge: true, ..options() }, &path);
    let media = read::open(&path).unwrap();
    assert_eq!(media.trees.chosen, TreeKind::RockRidge);
    assert_eq!(listing(&media.tree), listing(&tree));
    master(&tree, options(), &path);
    // Fewer files than a stub would have to be compared with: UDF wins where both hold as many.
    let media = read::open(&path).unwrap();
    assert_eq!(media.trees.chosen, TreeKind::Udf);
    assert_eq!(listing(&media.tree), listing(&tree));
    assert_eq!(udf::walk(&Disc::open(&path)).unwrap().links.len(), 4);
    let notes = master(&tree, Options { udf: false, ..options() }, &path);
    assert!(notes.iter().any(|note| note.contains("4 symbolic links")), "{notes:?}");
}

fn entry(platform: Platform, image: &str) -> BootEntry {
    plain(platform, BootImage::File(image.into()))
}

#[test]
fn boot_entries_of_every_kind_are_written_and_read_back() {
    let mut tree = Tree::new(Meta::at(TIME));
    let image: Vec<u8> = (0..5000_u32).map(|n| (n % 251) as u8).collect();
    for name in ["a.img", "b.img", "twin.bin"] {
        add(&mut tree, name, image.clone(), 1);
    }
    add(&mut tree, "floppy.img", vec![1; 1_474_560], 1);
    let patch = ImagePatch { boot_info_table: true, block_pointer: true };
    let entries = vec![
        BootEntry { load_sectors: 8, load_segment: 0x1234, patch, ..entry(Platform::BIOS, "a.img") },
        BootEntry {
            emulation: Emulation::Floppy1440,
            load_sectors: 1,
            system_type: 6,
            ..entry(Platform::BIOS, "floppy.img")
        },
        BootEntry { bootable: false, load_sectors: 0, ..entry(Platform::UEFI, "b.img") },
        BootEntry {
            load_sectors: 9,
            ..plain(Platform::UEFI, BootImage::Hidden(Content::from_bytes(vec![9; 4608])))
        },
        BootEntry { ..entry(Platform(2), "b.img") },
    ];
    let catalog = BootCatalog { entries: entries.clone(), id: "Brackwater".into(), catalog_path: None };
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    master(&tree, Options { boot: Some(catalog), hybrid: Some(Hybrid::default()), ..options() }, &path);
    let Media { boot, tree: read_tree, partitions, .. } = read::open(&path).unwrap();
    let boot = boot.unwrap();
    assert_eq!(boot.id, "Brackwater");
    assert_eq!(boot.entries.len(), entries.len());
    for (found, wanted) in boot.entries.iter().zip(&entries) {
        let facts = |e: &BootEntry| {
            (e.platform, e.bootable, e.emulation, e.load_segment, e.system_type, e.load_sectors, e.patch)
        };
        assert_eq!(facts(found), facts(wanted));
        match (&found.image, &wanted.image) {
            (BootImage::File(found), BootImage::File(wanted)) => assert_eq!(found, wanted),
            (BootImage::Hidden(found), BootImage::Hidden(wanted)) => {
                assert_eq!(found.to_vec(1 << 20, "image").unwrap(), wanted.to_vec(1 << 20, "image").unwrap())
            }
            other => panic!("{other:?}"),
        }
    }
    // The table is in the copy that firmware loads, and in no other file that had the same bytes.
    let patched = read_tree.file("a.img").unwrap().to_vec(1 << 20, "image").unwrap();
    assert_eq!(patched[8..12], 16_u32.to_le_bytes());
    assert_eq!(patched[12..16], boot.entries[0].location.unwrap().to_le_bytes());
    assert_eq!(patched[16..20], 5000_u32.to_le_bytes());
    assert_eq!(patched[64..2548], image[64..2548]);
    assert_eq!(read_tree.file("twin.bin").unwrap().to_vec(1 << 20, "image").unwrap(), image);
    let partitions = partitions.unwrap();
    assert_eq!((partitions.gpt, partitions.partitions.len(), partitions.boot_code), (true, 2, None));
    assert_eq!(partitions.partitions[0].start, u64::from(boot.entries[2].location.unwrap()) * 2048);
}

#[test]
fn a_hybrid_disc_has_both_tables_and_two_anchors() {
    let mut tree = Tree::new(Meta::at(TIME));
    add(&mut tree, "EFI/BOOT/BOOTX64.EFI", vec![5; 70_000], 1_600_000_000);
    add(&mut tree, "x.img", vec![6; 4096], 1_600_000_000);
    let found = find::find(&tree, TIME).unwrap();
    let boot = find::Found { bios: Some(entry(Platform::BIOS, "x.img")), uefi: found.uefi }.into_catalog();
    let code = neat_media::BootCode::from_file(vec![0xAA; 400]);
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    master(&tree, Options { boot, hybrid: Some(Hybrid { boot_code: Some(code) }), ..options() }, &path);
    check_disc(&path, &tree, true);
    let bytes = std::fs::read(&path).unwrap();
    let last = bytes.len() / 512 - 1;
    let header = |block: usize| &bytes[block * 512..block * 512 + 92];
    assert_eq!(bytes[510..512], [0x55, 0xAA]);
    assert_eq!((bytes[450], disc::le32(&bytes, 454)), (0xEE, 1));
    for (own, other) in [(1, last), (last, 1)] {
        let h = header(own);
        assert_eq!(&h[..8], b"EFI PART");
        assert_eq!((disc::le64(h, 24), disc::le64(h, 32)), (own as u64, other as u64));
        let mut zeroed = h.to_vec();
        zeroed[16..20].fill(0);
        assert_eq!(disc::le32(h, 16), slow_crc32(&zeroed));
        let at = disc::le64(h, 72) as usize * 512;
        assert_eq!(disc::le32(h, 88), slow_crc32(&bytes[at..at + 128 * 128]));
    }
    let entries = &bytes[1024..];
    let (first, end) = (disc::le64(entries, 32) as usize * 512, (disc::le64(entries, 40) as usize + 1) * 512);
    let tree = fat::read::read(&Content::from_bytes(bytes[first..end].to_vec())).unwrap();
    assert_eq!(tree.file("EFI/BOOT/BOOTX64.EFI").unwrap().len(), 70_000);
    let media = read::open(&path).unwrap();
    let bios = media.boot.unwrap().entries[0].location.unwrap();
    assert_eq!(disc::le64(&bytes, 432), u64::from(bios) * 4, "address of the image in the boot code");
    assert_eq!(media.partitions.unwrap().boot_code.unwrap().pointer_skip, Some(0));
}

/// CRC-32 bit by bit (UEFI 5.3.2 names the one of ANSI X3.66).
fn slow_crc32(bytes: &[u8]) -> u32 {
    let mut crc = u32::MAX;
    for byte in bytes {
        crc ^= u32::from(*byte);
        for _ in 0..8 {
            crc = if crc & 1 == 1 { crc >> 1 ^ 0xEDB8_8320 } else { crc >> 1 };
        }
    }
    !crc
}

#[test]
fn unpacking_and_mastering_gives_an_equal_media() {
    let mut tree = link_tree();
    for n in 0..12 {
        add(
            &mut tree,
            &format!("Ordner {n}/Datei ü{n}.txt"),
            vec![n; 3000 + usize::from(n)],
            1_600_000_000 + i64::from(n),
        );
    }
    add(&mut tree, "boot/x.img", vec![3; 4096], 1_500_000_000);
    let hidden = tree.find("Ordner 3/Datei ü3.txt").unwrap();
    tree.node_mut(hidden).meta.hidden = true;
    let entries = vec![
        BootEntry { load_sectors: 8, load_segment: 0x800, ..entry(Platform::BIOS, "boot/x.img") },
        plain(Platform::UEFI, BootImage::Hidden(Content::from_bytes(vec![7; 2048]))),
    ];
    let options = Options {
        boot: Some(BootCatalog { entries, ..BootCatalog::default() }),
        hybrid: Some(Hybrid { boot_code: Some(neat_media::BootCode::from_file(vec![0x90; 100])) }),
        ..options()
    };
    let dir = tempfile::tempdir().unwrap();
    let (first, second, folder) = (dir.path().join("a.iso"), dir.path().join("b.iso"), dir.path().join("a"));
    master(&tree, options.clone(), &first);
    neat_media::folder::unpack(&read::open(&first).unwrap(), &folder, &Job::silent()).unwrap();
    let media = read::open(&folder).unwrap();
    assert_eq!(media.volume, options.volume.clone());
    let again = Options {
        volume: media.volume.clone(),
        boot: media.boot.clone(),
        hybrid: Some(Hybrid { boot_code: media.partitions.unwrap().boot_code }),
        ..options
    };
    master(&media.tree, again, &second);
    let (a, b) = (read::open(&first).unwrap(), read::open(&second).unwrap());
    assert_eq!(listing(&a.tree), listing(&b.tree));
    assert_eq!(
        (a.volume, a.partitions, a.tree.node(Tree::ROOT).meta.modified),
        (b.volume, b.partitions, b.tree.node(Tree::ROOT).meta.modified)
    );
    assert_eq!(format!("{:?}", a.boot), format!("{:?}", b.boot));
    assert!(b.tree.node(b.tree.find("Ordner 3/Datei ü3.txt").unwrap()).meta.hidden);
    assert!(
        neat_media::folder::unpack(&read::open(&first).unwrap(), &folder, &Job::silent()).is_err(),
        "never into a full folder"
    );
}

#[test]
fn fat_images_of_each_kind_hold_what_was_put_in() {
    for least_len in [0, 20 << 20, 140 << 20] {
        let mut tree = Tree::new(Meta::at(TIME));
        add(&mut tree, "EFI/BOOT/BOOTX64.EFI", vec![1; 100_001], 1_600_000_000);
        add(&mut tree, "a long name with ü.conf", b"text".to_vec(), 1_600_000_000);
        add(&mut tree, "lower.txt", Vec::new(), 1_600_000_000);
        for n in 0..100 {
            add(&mut tree, &format!("many/file number {n}"), vec![n; usize::from(n) * 50], 1_600_000_000);
        }
        let image =
            fat::write::image(&tree, &fat::write::Options { label: "ferry".into(), time: TIME, least_len })
                .unwrap();
        assert!(image.len() >= least_len);
        assert_eq!(fat::read::volume_len(&image).unwrap(), Some(image.len()));
        let read = fat::read::read(&image).unwrap();
        let files = |tree: &Tree| {
            listing(tree).into_iter().filter(|(_, what)| !what.starts_with("folder")).collect::<Vec<_>>()
        };
        assert_eq!(files(&read), files(&tree));
    }
}

/// Bytes of a small disc to damage.
fn small_disc(dir: &Path) -> (PathBuf, Vec<u8>) {
    let mut tree = Tree::new(Meta::at(TIME));
    for n in 0..10 {
        add(&mut tree, &format!("folder{}/file{n}", n % 3), vec![n; 3000], 1_600_000_000);
    }
    let path = dir.join("a.iso");
    let boot =
        BootCatalog { entries: vec![entry(Platform::BIOS, "folder0/file0")], ..BootCatalog::default() };
    master(&tree, Options { boot: Some(boot), rock_ridge: true, ..options() }, &path);
    let bytes = std::fs::read(&path).unwrap();
    (path, bytes)
}

#[test]
fn damage_anywhere_never_panics_and_cut_media_say_where() {
    let dir = tempfile::tempdir().unwrap();
    let (path, bytes) = small_disc(dir.path());
    // Every third byte of the structures, one at a time, set to values that hurt: fields have two bytes and more.
    let interesting = (0x8000..0xB000)
        .chain(0x1_0000..0x1_1000)
        .chain(0x2_0000..0x2_A000)
        .chain(0x8_0000..0x8_2800.min(bytes.len()));
    let file = std::fs::File::options().write(true).open(&path).unwrap();
    for at in interesting.step_by(3) {
        for value in [0x00, 0xFF] {
            std::os::unix::fs::FileExt::write_all_at(&file, &[value], at as u64).unwrap();
            let _ = read::open(&path);
        }
        std::os::unix::fs::FileExt::write_all_at(&file, &bytes[at..=at], at as u64).unwrap();
    }
    for len in [33_000, 40_000, 70_000, 300_000, 540_000, bytes.len() - 3 * 2048 - 1] {
        std::fs::write(&path, &bytes[..len]).unwrap();
        let error = read::open(&path).expect_err("a cut media").to_string();
        assert!(error.contains("at byte 0x"), "{len}: {error}");
    }
}

/// Content that counts how often it is made.
struct Counted {
    bytes: Vec<u8>,
    times: std::sync::atomic::AtomicUsize,
}

impl neat_content::Producer for Counted {
    fn len(&self) -> u64 {
        self.bytes.len() as u64
    }

    fn produce(
        &self,
        range: std::ops::Range<u64>,
        _job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> neat_content::Result<()>,
    ) -> neat_content::Result<()> {
        self.times.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        each(&self.bytes[range.start as usize..range.end as usize])
    }
}

#[test]
fn discs_written_together_read_what_they_share_once_and_are_as_if_written_alone() {
    let dir = tempfile::tempdir().unwrap();
    let job = Job::silent();
    let shared =
        Arc::new(Counted { bytes: (0..3_000_000_u32).map(|n| (n % 251) as u8).collect(), times: 0.into() });
    let mut base = Tree::new(Meta::at(TIME));
    base.put_file("big.bin", Content::deferred(shared.clone()), Meta::at(TIME)).unwrap();
    for name in ["a.txt", "b.txt"] {
        base.put_file(name, Content::from_bytes(b"twins".as_slice()), Meta::at(TIME)).unwrap();
    }
    let twins = Twins::find(&base, &job).unwrap();
    let trees: Vec<Tree> = ["one", "two", "a much longer answer"]
        .into_iter()
        .map(|answer| {
            let mut tree = base.clone();
            tree.put_file(
                "answers/own.txt",
                Content::from_bytes(answer.repeat(200).into_bytes()),
                Meta::at(TIME),
            )
            .unwrap();
            // What differs from the others is no twin of theirs any more.
            tree.put_file("b.txt", Content::from_bytes(answer.as_bytes()), Meta::at(TIME)).unwrap();
            tree
        })
        .collect();
    let plans: Vec<Plan> = trees
        .iter()
        .map(|tree| Plan::with_twins(&Arc::new(tree.clone()), options(), &twins, &job).unwrap())
        .collect();
    let wanted: Vec<_> =
        trees.iter().map(|tree| vec![tree.find("big.bin").unwrap(), tree.find("b.txt").unwrap()]).collect();
    let paths: Vec<PathBuf> = (0..3).map(|number| dir.path().join(format!("{number}.iso"))).collect();
    let mut pending = Vec::new();
    let mut outputs = Vec::new();
    for path in &paths {
        let (file, output) = PendingFile::create_output(path, IfThere::Replace, None).unwrap();
        pending.push(file);
        outputs.push(output);
    }
    let all: Vec<&Plan> = plans.iter().collect();
    let digests = write_together(&all, &wanted, &mut outputs, &job).unwrap();
    assert_eq!(shared.times.load(std::sync::atomic::Ordering::Relaxed), 1);
    for (pending, output) in pending.into_iter().zip(outputs) {
        pending.commit(output.finish().unwrap().0).unwrap();
    }
    assert_eq!(digests[0][0], digests[2][0]);
    assert_ne!(digests[0][1], digests[2][1]);
    for (tree, path) in trees.iter().zip(&paths) {
        let alone = dir.path().join("alone.iso");
        master(tree, options(), &alone);
        assert!(std::fs::read(&alone).unwrap() == std::fs::read(path).unwrap());
        assert_eq!(listing(&read::open(path).unwrap().tree), listing(tree));
    }
}

#[test]
fn each_limit_refuses_what_the_others_take() {
    let dir = tempfile::tempdir().unwrap();
    let own = Limits::default();
    let refused = |path: &Path, limits: &Limits| {
        let error = read::open_with(path, limits).map(drop).expect_err("a limit");
        assert_eq!(error.class(), Class::LimitExceeded, "{error}");
        error.to_string()
    };
    let mut tree = Tree::new(Meta::at(TIME));
    for n in 0..200 {
        add(&mut tree, &format!("file number {n}"), vec![1; 10], 1_600_000_000);
    }
    let (plain, udf) = (dir.path().join("plain.iso"), dir.path().join("udf.iso"));
    master(&tree, Options { udf: false, ..options() }, &plain);
    master(&tree, options(), &udf);
    for path in [&plain, &udf] {
        assert_eq!(read::open_with(path, &own).unwrap().tree.counts().files, 200);
    }
    assert!(refused(&plain, &Limits { entries: 100, ..own }).contains("entries of the media"));
    assert!(refused(&plain, &Limits { directory: 2048, ..own }).contains("directory"));

    // One of two trees that is refused is left for the other; here that is refused too.
    assert!(refused(&udf, &Limits { entries: 100, ..own }).contains("entries of the media"));

    let image =
        fat::write::image(&tree, &fat::write::Options { label: String::new(), time: TIME, least_len: 0 });
    let stick = dir.path().join("stick.img");
    std::fs::write(&stick, image.unwrap().to_vec(1 << 30, "").unwrap()).unwrap();
    assert_eq!(read::open_with(&stick, &own).unwrap().tree.counts().files, 200);
    assert!(refused(&stick, &Limits { allocation_table: 100, ..own }).contains("file allocation table"));
    assert!(refused(&stick, &Limits { entries: 100, ..own }).contains("entries of the media"));

    let folder = dir.path().join("folder");
    std::fs::create_dir(&folder).unwrap();
    (0..20).for_each(|n| std::fs::write(folder.join(n.to_string()), "").unwrap());
    let error = read::open_with(&folder, &Limits { entries: 10, ..own }).err().unwrap();
    assert!(error.to_string().contains("more than 10 entries"), "{error}");
}

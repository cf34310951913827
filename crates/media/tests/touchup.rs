//! Small changes to finished discs: what a second reading says of them, and that they can be taken back.

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

use neat_content::{Class, Content, DigestKind, Job, Meta, Timestamp, Tree, digest_of};
use neat_media::{
    BootCatalog, BootCode, BootEntry, BootImage, ImagePatch, Media, Platform, TreeKind,
    eltorito::find::plain,
    master::{Hybrid, JolietNames, Options},
    read,
    touchup::{self, Action, Disc, Outcome},
};
use neat_testing::disc::{
    Disc as Seen,
    iso::{self, Which},
};
use proptest::prelude::*;
use std::path::Path;
use support::discs::{TIME, add, any_tree, check_disc, file_len, listing, master, name, options};

const LATER: Timestamp = Timestamp::from_seconds(1_720_000_000);

fn put(path: &str, bytes: impl Into<Vec<u8>>) -> Action {
    Action::Put { content: Content::from_bytes(bytes.into()), modified: LATER, path: path.into() }
}

fn hide(path: &str) -> Action {
    Action::Hide { path: path.into() }
}

fn show(path: &str) -> Action {
    Action::Show { path: path.into() }
}

fn apply(path: &Path, actions: Vec<Action>) -> neat_content::Result<Outcome> {
    Disc::open(path)?.apply(actions, LATER, &Job::silent())
}

fn digest(path: &Path) -> String {
    digest_of(&Content::from_path(path).unwrap(), DigestKind::Sha256, &Job::silent()).unwrap()
}

fn small_tree() -> Tree {
    let mut tree = Tree::new(Meta::at(TIME));
    for name in
        ["setup.exe", "sources/boot.wim", "sources/install.wim", "sources/product.ini", "docs/a/readme.txt"]
    {
        add(&mut tree, name, name.as_bytes().repeat(200), 1_600_000_000);
    }
    tree
}

/// The same change to the tree that a disc must show.
fn put_into(tree: &mut Tree, path: &str, bytes: &[u8]) {
    let meta = Meta::at(LATER);
    if let Some(id) = tree.find(path) {
        let meta = Meta { modified: LATER, ..tree.node(id).meta };
        tree.put_file(path, Content::from_bytes(bytes.to_vec()), meta).unwrap();
        return;
    }
    if let Some((folder, _)) = path.rsplit_once('/') {
        tree.make_folder(folder, meta).unwrap();
    }
    tree.put_file(path, Content::from_bytes(bytes.to_vec()), meta).unwrap();
}

#[test]
fn files_are_put_hidden_shown_and_taken_back_in_every_tree() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    let mut tree = small_tree();
    master(&tree, Options { rock_ridge: true, ..options() }, &path);
    let mut digests = vec![digest(&path)];
    let mut step = |actions: Vec<Action>, tree: &Tree| {
        let outcome = apply(&path, actions).unwrap();
        check_disc(&path, tree, true);
        assert_eq!(listing(&read::open(&path).unwrap().tree), listing(tree));
        digests.push(digest(&path));
        outcome
    };
    put_into(&mut tree, "autounattend.xml", b"<unattend/>");
    let outcome = step(vec![put("autounattend.xml", "<unattend/>")], &tree);
    assert_eq!(outcome.changes[0].trees.len(), 3);
    assert!(!outcome.changes[0].replaced);
    put_into(&mut tree, "sources/product.ini", b"other");
    put_into(&mut tree, "new/folder/file with a name.txt", b"1");
    let outcome =
        step(vec![put("SOURCES/Product.ini", "other"), put("new/folder/file with a name.txt", "1")], &tree);
    assert!(outcome.changes[0].replaced);
    assert_eq!(outcome.changes[0].path, "sources/product.ini");
    let whole = tree.clone();
    tree.remove(tree.find("sources/product.ini").unwrap());
    tree.remove(tree.find("docs").unwrap());
    step(vec![hide("sources/product.ini"), hide("docs")], &tree);
    assert_eq!(touchup::list(&path).unwrap().hidden, ["sources/product.ini", "docs"]);
    step(vec![show("sources/PRODUCT.INI"), show("docs")], &whole);
    let history = touchup::list(&path).unwrap();
    assert_eq!((history.touchups.len(), history.hidden.len()), (4, 0));
    digests.pop();
    while let Some(former) = digests.pop() {
        Disc::open(&path).unwrap().undo(Some(1)).unwrap();
        assert_eq!(digest(&path), former);
    }
    let error = Disc::open(&path).unwrap().undo(Some(1)).unwrap_err();
    assert_eq!(error.class(), Class::BadRequest);
}

#[test]
fn what_cannot_be_done_is_said_and_changes_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    master(&small_tree(), options(), &path);
    let before = digest(&path);
    for (action, message) in [
        (hide("sources/notes.txt"), "is not on the disc"),
        (show("sources/product.ini"), "is not hidden"),
        (put("sources", "x"), "is a folder on the disc"),
        (put("setup.exe/x", "x"), "is a file on the disc"),
        (put("a/../b", "x"), "cannot be a path"),
        (put("/", "x"), "no path"),
    ] {
        let error = apply(&path, vec![put("good.txt", "x"), action]).unwrap_err();
        assert!(error.to_string().contains(message), "{error}");
        assert_eq!(digest(&path), before);
    }
    apply(&path, vec![hide("setup.exe")]).unwrap();
    let error = apply(&path, vec![hide("setup.exe")]).unwrap_err();
    assert!(error.to_string().contains("hidden already"), "{error}");
    apply(&path, vec![put("setup.exe", "another")]).unwrap();
    let error = apply(&path, vec![show("setup.exe")]).unwrap_err();
    assert!(error.to_string().contains("meanwhile"), "{error}");
    Disc::open(&path).unwrap().undo(None).unwrap();
    assert_eq!(digest(&path), before);
}

#[test]
fn a_folder_that_is_full_moves_and_everything_follows() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    let mut tree = small_tree();
    for number in 0..60 {
        add(&mut tree, &format!("sources/inner {number}/part.dat"), vec![number; 10], 1_600_000_000);
    }
    for rock_ridge in [false, true] {
        master(&tree, Options { rock_ridge, ..options() }, &path);
        let before = digest(&path);
        let mut tree = tree.clone();
        // Into the root and a folder with many below it, until both have grown by sectors.
        for number in 0..40 {
            let bytes = vec![number; 3000];
            let names = [
                format!("a rather long name {number}.txt"),
                format!("sources/a rather long name {number}.txt"),
            ];
            names.iter().for_each(|name| put_into(&mut tree, name, &bytes));
            apply(&path, names.iter().map(|name| put(name, bytes.clone())).collect()).unwrap();
        }
        check_disc(&path, &tree, true);
        assert_eq!(listing(&read::open(&path).unwrap().tree), listing(&tree));
        Disc::open(&path).unwrap().undo(None).unwrap();
        assert_eq!(digest(&path), before);
    }
}

#[test]
fn discs_with_one_kind_of_tree_only() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    for (rock_ridge, joliet) in
        [(false, JolietNames::Off), (true, JolietNames::Off), (false, JolietNames::Auto)]
    {
        let mut tree = small_tree();
        master(&tree, Options { rock_ridge, joliet, udf: false, ..options() }, &path);
        put_into(&mut tree, "sources/new file.txt", b"new");
        put_into(&mut tree, "sources/boot.wim", &[9; 5000]);
        apply(&path, vec![put("sources/new file.txt", "new"), put("sources/boot.wim", [9; 5000])]).unwrap();
        let disc = Seen::open(&path);
        let walk = iso::walk(&disc, Which::Primary).unwrap();
        let seen = walk.entries.iter().find(|entry| entry.path == "SOURCES/NEW_FILE.TXT").unwrap();
        assert_eq!(seen.bytes(&disc), b"new");
        if rock_ridge || joliet == JolietNames::Auto {
            assert_eq!(listing(&read::open(&path).unwrap().tree), listing(&tree));
        }
    }
}

#[test]
fn a_file_of_more_than_4_gib_is_put() {
    let dir = tempfile::tempdir().unwrap();
    let (path, big) = (dir.path().join("a.iso"), dir.path().join("big"));
    let mut tree = small_tree();
    master(&tree, Options { rock_ridge: true, ..options() }, &path);
    // Many names for the same bytes in memory, so that the disc's file is the only large one, and mostly holes.
    std::fs::File::create(&big).unwrap().set_len((4 << 30) + 5).unwrap();
    let content = Content::from_path(&big).unwrap();
    let before = std::fs::read(&path).unwrap();
    let to = "sources/install.wim".to_owned();
    apply(&path, vec![Action::Put { content: content.clone(), modified: LATER, path: to.clone() }]).unwrap();
    tree.put_file(&to, content, Meta::at(LATER)).unwrap();
    check_disc(&path, &tree, true);
    let primary = iso::walk(&Seen::open(&path), Which::Primary).unwrap();
    assert_eq!(primary.entries.iter().find(|e| e.path == "SOURCES/INSTALL.WIM").unwrap().extents.len(), 2);
    apply(&path, vec![put(&to, "small again")]).unwrap();
    put_into(&mut tree, &to, b"small again");
    check_disc(&path, &tree, true);
    Disc::open(&path).unwrap().undo(None).unwrap();
    assert!(std::fs::read(&path).unwrap() == before);
}

#[test]
fn firmware_finds_a_boot_image_that_was_put_over() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    let mut tree = small_tree();
    let image = |letter: u8, len: usize| vec![letter; len];
    add(&mut tree, "boot/bios.img", image(1, 5000), 1_600_000_000);
    add(&mut tree, "boot/efi.img", image(2, 40_000), 1_600_000_000);
    let patch = ImagePatch { boot_info_table: true, block_pointer: false };
    let bios = BootEntry { patch, ..plain(Platform::BIOS, BootImage::File("boot/bios.img".into())) };
    let uefi = plain(Platform::UEFI, BootImage::File("boot/efi.img".into()));
    let boot = BootCatalog { entries: vec![bios, uefi], ..BootCatalog::default() };
    let code = BootCode { bytes: vec![0x90; 400], pointer_skip: Some(4) };
    let hybrid = Some(Hybrid { boot_code: Some(code) });
    master(&tree, Options { boot: Some(boot), hybrid, rock_ridge: true, ..options() }, &path);
    let before = std::fs::read(&path).unwrap();
    let old = read::open(&path).unwrap();
    apply(&path, vec![put("boot/bios.img", image(3, 9000)), put("boot/efi.img", image(4, 70_000))]).unwrap();
    // Something that has nothing to do with booting comes after, and leaves all of it right.
    apply(&path, vec![put("readme.txt", "x"), hide("setup.exe")]).unwrap();
    let new = read::open(&path).unwrap();
    assert!(new.warnings.is_empty(), "{:?}", new.warnings);
    let entries = |media: &Media| media.boot.as_ref().unwrap().entries.clone();
    for (old, new) in entries(&old).iter().zip(entries(&new)) {
        assert!(new.location.unwrap() > old.location.unwrap());
        assert_eq!((new.patch, new.platform, new.emulation), (old.patch, old.platform, old.emulation));
        assert!(matches!(&new.image, BootImage::File(path) if path.starts_with("boot/")));
    }
    let bytes = std::fs::read(&path).unwrap();
    let word = |at: usize| u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap());
    let at = entries(&new)[0].location.unwrap() as usize * 2048;
    let sum = bytes[at + 64..at + 9000]
        .chunks(4)
        .fold(0_u32, |sum, four| sum.wrapping_add(u32::from_le_bytes(four.try_into().unwrap())));
    assert_eq!(
        [word(at + 8), word(at + 12), word(at + 16), word(at + 20)],
        [16, (at / 2048) as u32, 9000, sum]
    );
    assert_eq!(word(432), (at / 512 + 4) as u32, "the code in the first block");
    // The partition of the UEFI image, in both tables, which are where they must be.
    let table = new.partitions.clone().unwrap();
    let efi = entries(&new)[1].location.unwrap();
    assert!(
        table.gpt && table.partitions.iter().any(|p| p.start == u64::from(efi) * 2048 && p.len == 70_144)
    );
    let last = bytes.len() / 512 - 1;
    let header = |block: usize| {
        let header = &bytes[block * 512..block * 512 + 92];
        assert_eq!(&header[..8], b"EFI PART", "block {block}");
        let mut unsealed = header.to_vec();
        unsealed[16..20].fill(0);
        assert_eq!(crc32fast::hash(&unsealed), word(block * 512 + 16), "header at block {block}");
        let long = |at: usize| u64::from_le_bytes(header[at..at + 8].try_into().unwrap()) as usize;
        let entries = &bytes[long(72) * 512..][..128 * 128];
        assert_eq!(crc32fast::hash(entries), word(block * 512 + 88), "entries of block {block}");
        (long(24), long(32), entries.to_vec())
    };
    let (first, backup) = (header(1), header(last));
    assert_eq!((first.0, first.1, backup.0, backup.1), (1, last, last, 1));
    assert!(first.2 == backup.2);
    Disc::open(&path).unwrap().undo(None).unwrap();
    assert!(std::fs::read(&path).unwrap() == before);
}

#[test]
fn names_that_need_continuation_areas_move_with_their_folder() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    let mut tree = small_tree();
    for number in 0..12 {
        add(&mut tree, &format!("sources/{}{number}", "long ".repeat(45)), vec![number; 9], 1_600_000_000);
    }
    master(&tree, Options { rock_ridge: true, udf: false, joliet: JolietNames::Off, ..options() }, &path);
    for number in 20..40 {
        let name = format!("sources/{}{number}", "other ".repeat(38));
        put_into(&mut tree, &name, &[number]);
        apply(&path, vec![put(&name, [number])]).unwrap();
    }
    let media = read::open(&path).unwrap();
    assert_eq!(media.trees.chosen, TreeKind::RockRidge);
    assert_eq!(listing(&media.tree), listing(&tree));
}

/// One change, by which file it is about: a fraction of those that are there.
#[derive(Clone, Debug)]
enum Change {
    New(Vec<String>, usize, u8),
    Replace(f64, usize, u8),
    Hide(f64),
    Show,
}

fn any_change() -> impl Strategy<Value = Change> {
    prop_oneof![
        (proptest::collection::vec(name(), 1..4), file_len(), any::<u8>())
            .prop_map(|(p, l, f)| Change::New(p, l, f)),
        (0.0..1.0, file_len(), any::<u8>()).prop_map(|(which, l, f)| Change::Replace(which, l, f)),
        (0.0..1.0).prop_map(Change::Hide),
        Just(Change::Show),
    ]
}

/// A disc's tree with what is hidden, as a plain map would have it.
#[derive(Clone)]
struct Expected {
    tree: Tree,
    hidden: Vec<(String, Tree)>,
}

impl Expected {
    fn pick(&self, which: f64, folders: bool) -> Option<String> {
        let paths: Vec<String> = self
            .tree
            .walk()
            .filter(|step| folders || self.tree.node(step.id).content().is_some())
            .map(|step| step.path)
            .collect();
        (!paths.is_empty()).then(|| paths[(which * paths.len() as f64) as usize].clone())
    }

    /// What the change is on this disc, done here too; `None` when there is nothing to do it with.
    fn act(&mut self, change: &Change) -> Option<Action> {
        match change {
            Change::New(parts, len, fill) => {
                let path = parts.join("/");
                // Names that differ only in case are one file for a touch-up, and parts must not be files.
                let mut front = String::new();
                for part in parts {
                    let at = if front.is_empty() { part.clone() } else { format!("{front}/{part}") };
                    match (self.tree.find_ignoring_case(&at), self.tree.find(&at)) {
                        (Some(_), None) => return None,
                        (_, Some(id)) if self.tree.node(id).folder().is_none() || at == path => return None,
                        _ => {}
                    }
                    front = at;
                }
                put_into(&mut self.tree, &path, &vec![*fill; *len]);
                Some(put(&path, vec![*fill; *len]))
            }
            Change::Replace(which, len, fill) => {
                let path = self.pick(*which, false)?;
                put_into(&mut self.tree, &path, &vec![*fill; *len]);
                Some(put(&path, vec![*fill; *len]))
            }
            Change::Hide(which) => {
                let path = self.pick(*which, true)?;
                let before = self.tree.clone();
                self.tree.remove(self.tree.find(&path).unwrap());
                self.hidden.push((path.clone(), before));
                Some(hide(&path))
            }
            Change::Show => {
                // The latest: then the tree is as it was before, whatever else is hidden.
                let (path, before) = self.hidden.pop()?;
                self.tree = before;
                Some(show(&path))
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    #[test]
    fn any_changes_to_any_disc_keep_every_rule_and_go_back(
        tree in any_tree(),
        rock_ridge in any::<bool>(),
        rounds in proptest::collection::vec(proptest::collection::vec(any_change(), 1..5), 1..4),
    ) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.iso");
        master(&tree, Options { rock_ridge, ..options() }, &path);
        let mut expected = Expected { tree, hidden: Vec::new() };
        let mut digests = Vec::new();
        for round in rounds {
            // What is put between hiding and showing would be lost with the tree of before, so each round hides anew.
            expected.hidden.clear();
            let mut actions: Vec<Action> = Vec::new();
            for change in &round {
                if !matches!(change, Change::Hide(_) | Change::Show) && !expected.hidden.is_empty() {
                    continue;
                }
                actions.extend(expected.act(change));
            }
            if actions.is_empty() {
                continue;
            }
            digests.push(digest(&path));
            let outcome = apply(&path, actions).unwrap();
            prop_assert!(outcome.changes.iter().all(|change| change.trees.len() == 3), "{:?}", outcome.changes);
            check_disc(&path, &expected.tree, false);
            prop_assert_eq!(listing(&read::open(&path).unwrap().tree), listing(&expected.tree));
        }
        while let Some(former) = digests.pop() {
            Disc::open(&path).unwrap().undo(Some(1)).unwrap();
            prop_assert_eq!(digest(&path), former);
        }
    }
}

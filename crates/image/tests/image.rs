//! Image files written, read a second way, changed, split, and damaged.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    clippy::precedence,
    missing_docs,
    reason = "tests say what they expect by failing"
)]

use neat_content::{Class, Content, IfThere, Job, PendingFile};
use neat_image::{
    BlobDigest, Compression, Entry, Files, ImageDraft, ImageFile, Level, Limits, Method, Name, Packing, Rare,
    Rename, SolidCompression, Stored, Stream, Times, Unpacker, capture, join, metadata, split, usage,
    xml::Element,
};
use neat_testing::image::{
    container::{Walked, place, u64_at, walk},
    data::{SHAPES, Shape, bytes},
    hand::{by_hand, metadata_of, solid_file},
};
use proptest::prelude::*;
use std::{collections::BTreeMap, fs, os::unix::fs::symlink, path::Path};

fn all(content: &Content) -> Vec<u8> {
    content.to_vec(1 << 30, "image file").unwrap()
}

fn open(bytes: &[u8]) -> ImageFile {
    ImageFile::open("test.wim", Content::from_bytes(bytes)).unwrap()
}

const LZX: Compression = Compression { method: Method::Lzx, chunk_len: 32768, level: Level::Fast };

/// Paths of an edition and their content.
type List<'a> = Vec<(&'a str, Vec<u8>)>;

/// A draft with editions given as lists of path and content.
fn draft_of(editions: &[(&str, List<'_>)], compression: Option<Compression>) -> ImageDraft {
    let mut draft = ImageDraft::new(compression);
    for (name, list) in editions {
        let mut files = Files::new(Times { created: 1, accessed: 2, written: 3 });
        for (path, content) in list {
            let (folders, file) = path.rsplit_once('/').unwrap_or(("", path));
            let mut at = Files::ROOT;
            for folder in folders.split('/').filter(|folder| !folder.is_empty()) {
                at = match files.child(at, folder) {
                    Some(id) => id,
                    None => files.add(at, Entry::folder(folder, Times::default())).unwrap(),
                };
            }
            let digest = if content.is_empty() { BlobDigest::NONE } else { BlobDigest::of(content) };
            files
                .add(at, Entry::file(file, 0x20, Times { created: 7, accessed: 8, written: 9 }, digest))
                .unwrap();
            draft.add_blob(digest, Content::from_bytes(content.as_slice()));
        }
        draft.add_edition(files, capture::image_element(name, "", 5)).unwrap();
    }
    draft
}

fn finished(draft: &ImageDraft) -> Vec<u8> {
    all(&draft.to_content(&std::env::temp_dir(), 0, &Job::silent()).unwrap())
}

fn three_editions() -> Vec<u8> {
    let shared = bytes(Shape::Program, 300_000, 1);
    let text = bytes(Shape::Text, 90_000, 2);
    let list = |own: u64| {
        vec![
            ("sys/shared.bin", shared.clone()),
            ("sys/deep/er/text.txt", text.clone()),
            ("own.bin", bytes(Shape::Random, 40_000, own)),
            ("empty", Vec::new()),
            ("again.txt", text.clone()),
        ]
    };
    let mut draft = draft_of(&[("One", list(11)), ("Two", list(12)), ("Three", list(13))], Some(LZX));
    draft.set_integrity(true);
    draft.set_boot(Some(2)).unwrap();
    finished(&draft)
}

#[test]
fn what_is_written_is_what_a_second_reading_finds() {
    let walked = walk(&three_editions());
    assert_eq!((walked.editions.len(), walked.blobs.len(), walked.boot), (3, 5, 2));
    let two = &walked.editions[1];
    assert_eq!(two["/own.bin"].content, bytes(Shape::Random, 40_000, 12));
    assert_eq!((two["/own.bin"].attributes, two["/own.bin"].written), (0x20, 9));
    assert!(two["/empty"].content.is_empty() && two.contains_key("/sys/deep/er"));
    for count in
        ["<DIRCOUNT>3<", "<FILECOUNT>5<", "<TOTALBYTES>520000<", "<HARDLINKBYTES>0<", "IMAGE INDEX=\"3\""]
    {
        assert!(walked.xml.contains(count), "{count} in {}", walked.xml);
    }
}

#[test]
fn every_method_chunk_size_and_shape_comes_back() {
    let source = open(&three_editions());
    let before = walk(&three_editions()).editions;
    let mut shapes: Vec<(String, Vec<u8>)> = Vec::new();
    for shape in SHAPES {
        for len in [1, 32767, 32768, 32769, 70_000] {
            shapes.push((format!("{shape:?}-{len}"), bytes(shape, len, len as u64)));
        }
    }
    let list: Vec<(&str, Vec<u8>)> =
        shapes.iter().map(|(name, bytes)| (name.as_str(), bytes.clone())).collect();
    let methods = [
        (Method::Xpress, 4096),
        (Method::Xpress, 65536),
        (Method::Lzx, 32768),
        (Method::Lzx, 1 << 21),
        (Method::Lzms, 1 << 17),
    ];
    for (method, chunk_len) in methods {
        for level in [Level::Fast, Level::Good, Level::Max] {
            let compression = Compression { method, chunk_len, level };
            let written = finished(&draft_of(&[("Shapes", list.clone())], Some(compression)));
            let walked = walk(&written);
            for (name, bytes) in &shapes {
                assert!(walked.editions[0][&format!("/{name}")].content == *bytes, "{compression:?} {name}");
            }
            let image = open(&written);
            for (digest, blob) in image.blobs() {
                blob.stored.to_vec(digest, 1 << 20, "blob").unwrap();
            }
            let mut draft = ImageDraft::of(&source);
            draft.repack(Some(compression)).unwrap();
            assert!(walk(&finished(&draft)).editions == before, "{compression:?}");
        }
    }
    let mut draft = ImageDraft::of(&source);
    draft.repack(None).unwrap();
    let plain = finished(&draft);
    assert!(walk(&plain).editions == before && plain.len() > 500_000);
    assert!(ImageDraft::of(&source).repack(Some(Compression { chunk_len: 4096, ..LZX })).is_err());
    assert!(
        ImageDraft::of(&source)
            .repack(Some(Compression { method: Method::Lzms, chunk_len: 1 << 27, ..LZX }))
            .is_err()
    );
}

#[test]
fn one_thread_and_many_write_the_same_bytes() {
    let dir = tempfile::tempdir().unwrap();
    let source = open(&three_editions());
    let mut draft = ImageDraft::of(&source);
    draft.repack(Some(Compression { level: Level::Max, ..LZX })).unwrap();
    let write = |threads: usize| {
        let path = dir.path().join(format!("{threads}.wim"));
        let (pending, mut output) = PendingFile::create_output(&path, IfThere::Replace, None).unwrap();
        draft.write(&mut output, threads, &Job::silent()).unwrap();
        pending.commit(output.finish().unwrap().0).unwrap();
        fs::read(path).unwrap()
    };
    let one = write(1);
    assert!(one == write(7));
    assert!(one == finished(&draft), "a file and lazy content are the same");
}

/// The packed bytes of a blob.
fn packed<'a>(file: &'a [u8], walked: &Walked, digest: &str) -> &'a [u8] {
    let place = walked.blobs[digest].0;
    &file[place.offset..place.offset + place.len]
}

#[test]
fn what_stays_is_copied_as_it_is() {
    let file = three_editions();
    let before = walk(&file);
    let source = open(&file);
    let sizes = usage(&source).unwrap();
    let mut draft = ImageDraft::of(&source);
    draft.select(&[3, 1]).unwrap();
    assert_eq!(draft.bytes_to_pack().unwrap(), 0);
    let written = finished(&draft);
    let after = walk(&written);
    assert_eq!((after.editions.len(), after.blobs.len(), after.boot), (2, 4, 0));
    assert!(after.editions == [before.editions[2].clone(), before.editions[0].clone()]);
    for digest in after.blobs.keys() {
        assert_eq!(packed(&written, &after, digest), packed(&file, &before, digest), "{digest}");
    }
    let saved = (file.len() - written.len()) as u64;
    assert!(saved >= sizes[1].only_here && saved < sizes[1].only_here + 3000, "{saved} {sizes:?}");
    assert_ne!(after.guid, before.guid);
    assert_eq!(finished(&draft), written, "the same bytes every time");
    assert!(after.xml.contains("<NAME>Three</NAME>") && !after.xml.contains("Two"));

    // One file changed in one edition: one blob more, the others as they were.
    let mut draft = ImageDraft::of(&source);
    let new = bytes(Shape::Text, 5000, 77);
    draft.add_blob(BlobDigest::of(&new), Content::from_bytes(new.as_slice()));
    let files = draft.edit(1).unwrap();
    let own = files.find("OWN.bin").unwrap();
    files.entry_mut(own).set_content(BlobDigest::of(&new));
    let deep = files.find("sys/deep").unwrap();
    files.remove(deep);
    let written = finished(&draft);
    let after = walk(&written);
    assert_eq!(after.editions[0]["/own.bin"].content, new);
    assert!(
        !after.editions[0].contains_key("/sys/deep/er/text.txt") && after.editions[1] == before.editions[1]
    );
    assert_eq!((after.blobs.len(), after.boot), (5, 2));
    for digest in after.blobs.keys().filter(|digest| before.blobs.contains_key(*digest)) {
        assert_eq!(packed(&written, &after, digest), packed(&file, &before, digest), "{digest}");
    }
    assert!(
        after.xml.contains("<DIRCOUNT>1</DIRCOUNT><FILECOUNT>4</FILECOUNT><TOTALBYTES>395000</TOTALBYTES>")
    );
}

#[test]
fn editions_are_renamed_and_combined() {
    let file = three_editions();
    let source = open(&file);
    let mut draft = ImageDraft::of(&source);
    let rename = Rename { name: Some("Zwei & mehr".into()), flags: Some("F".into()), ..Rename::default() };
    draft.rename(2, &rename).unwrap();
    assert!(
        draft.rename(1, &Rename { name: Some("zwei & MEHR".into()), ..Rename::default() }).is_err(),
        "taken"
    );
    let image = open(&finished(&draft));
    assert_eq!((image.editions()[1].name.as_str(), image.editions()[1].flags.as_str()), ("Zwei & mehr", "F"));
    assert_eq!(image.find_edition("f").unwrap(), 2);
    let hint = image.find_edition("Vier").unwrap_err().hint().to_string();
    assert!(hint.contains("2 \"Zwei & mehr\""), "{hint}");

    let other = finished(&draft_of(
        &[("Other", vec![("a", bytes(Shape::Program, 300_000, 1)), ("b", bytes(Shape::Text, 10, 1))])],
        Some(Compression { method: Method::Xpress, chunk_len: 32768, level: Level::Fast }),
    ));
    let mut draft = ImageDraft::of(&source);
    draft.append(&open(&other), &[1]).unwrap();
    assert!(ImageDraft::of(&source).append(&source, &[1]).is_err(), "the same name twice");
    let walked = walk(&finished(&draft));
    assert_eq!((walked.editions.len(), walked.blobs.len()), (4, 6), "what both have is stored once");
    assert_eq!(walked.editions[3]["/a"].content, bytes(Shape::Program, 300_000, 1));
}

#[test]
fn parts_are_split_and_joined_and_wrong_ones_named() {
    let list: Vec<(String, Vec<u8>)> =
        (0..14).map(|n| (format!("f{n}"), bytes(Shape::Random, 20_000 + n as usize, n + 3))).collect();
    let list: Vec<(&str, Vec<u8>)> =
        list.iter().map(|(name, bytes)| (name.as_str(), bytes.clone())).collect();
    let mut draft = draft_of(&[("E", list.clone())], Some(LZX));
    draft.set_integrity(true);
    let file = finished(&draft);
    let image = open(&file);
    let parts: Vec<Vec<u8>> = split(&image, 70_000, &Job::silent()).unwrap().iter().map(all).collect();
    assert!(parts.len() == 5 && parts.iter().all(|part| part.len() <= 70_000), "{}", parts.len());
    let walked: Vec<Walked> = parts.iter().map(|part| walk(part)).collect();
    for (n, part) in walked.iter().enumerate() {
        assert_eq!((part.part, &part.guid), ((n + 1, 5), &file[24..40].to_vec()));
        assert_eq!(part.editions.len(), usize::from(n == 0));
    }
    let blobs: usize = walked.iter().map(|part| part.blobs.len()).sum();
    assert_eq!(blobs, 14, "each blob is in one part");
    let named = |order: &[usize]| -> Vec<(String, Content)> {
        order.iter().map(|n| (format!("p{}.swm", n + 1), Content::from_bytes(parts[*n].as_slice()))).collect()
    };
    let joined = ImageFile::open_parts(named(&[3, 0, 4, 2, 1])).unwrap();
    let whole = all(&join(&joined, &Job::silent()).unwrap());
    assert!(walk(&whole).editions == walk(&file).editions);
    assert!(whole == file, "split and joined is what it was");
    let message = |order: &[usize]| match ImageFile::open_parts(named(order)) {
        Err(error) => error.to_string(),
        Ok(_) => panic!("{order:?} opened"),
    };
    assert!(message(&[0, 1, 2, 4]).contains("part 4 is missing"));
    assert!(message(&[0, 1, 2, 3, 4, 1]).contains("part 2 twice"));
    let mut foreign = named(&[0, 1, 2, 3, 4]);
    foreign[2].1 = Content::from_bytes(three_editions());
    let error = ImageFile::open_parts(foreign).err().unwrap();
    assert!(error.to_string().contains("p3.swm, which belongs to another"), "{error}");
    assert_eq!(error.class(), Class::Corrupt);
    let error = split(&image, 20_500, &Job::silent()).unwrap_err();
    assert!(error.to_string().contains("/f") && error.to_string().contains("edition 1"), "{error}");
    assert!(split(&image, 300, &Job::silent()).is_err());
}

#[test]
fn a_folder_is_captured_with_all_it_has() {
    let dir = tempfile::tempdir().unwrap();
    let root = dir.path().join("root");
    fs::create_dir_all(root.join("sub/leer")).unwrap();
    fs::write(root.join("sub/ä 航路.txt"), "one").unwrap();
    fs::write(root.join("big.bin"), bytes(Shape::Program, 200_000, 4)).unwrap();
    fs::hard_link(root.join("big.bin"), root.join("sub/linked.bin")).unwrap();
    fs::write(root.join("empty"), "").unwrap();
    fs::write(root.join("skip.tmp"), "x").unwrap();
    symlink("sub/ä 航路.txt", root.join("link")).unwrap();
    symlink("sub", root.join("folder-link")).unwrap();
    let sparse = fs::File::create(root.join("sparse")).unwrap();
    sparse.set_len(1 << 20).unwrap();
    let mut locked = fs::metadata(root.join("empty")).unwrap().permissions();
    locked.set_readonly(true);
    fs::set_permissions(root.join("empty"), locked).unwrap();

    let options = capture::Options { exclude: vec!["*.TMP".into()], ..capture::Options::default() };
    let capture = |options: &capture::Options| capture::capture(&root, options, &Job::silent());
    let mut draft = ImageDraft::new(Some(LZX));
    capture(&options).unwrap().add_to(&mut draft, "Captured", "").unwrap();
    let file = finished(&draft);
    let walked = walk(&file);
    let found = &walked.editions[0];
    let names: Vec<&str> = found.keys().map(String::as_str).collect();
    assert_eq!(
        names,
        [
            "/big.bin",
            "/empty",
            "/folder-link",
            "/link",
            "/sparse",
            "/sub",
            "/sub/leer",
            "/sub/linked.bin",
            "/sub/ä 航路.txt"
        ]
    );
    assert_eq!(found["/sub/ä 航路.txt"].content, b"one");
    assert_eq!(found["/big.bin"].link, found["/sub/linked.bin"].link);
    assert!(found["/big.bin"].link != 0 && found["/empty"].link == 0);
    assert_eq!((found["/empty"].attributes, found["/sparse"].attributes & 0x200), (0x21, 0x200));
    assert_eq!(found["/sparse"].content.len(), 1 << 20);
    assert_eq!((found["/link"].attributes, found["/folder-link"].attributes), (0x400, 0x410));
    assert_eq!(found["/link"].link as u32, 0xA000_000C);
    let image = open(&file);
    let files = image.files(1).unwrap();
    let (tree, notes) = neat_image::to_tree(&image, 1, &files).unwrap();
    assert!(notes.is_empty(), "{notes:?}");
    let link = tree.node(tree.find("link").unwrap());
    assert!(matches!(&link.kind, neat_content::NodeKind::Link(target) if target == "sub/ä 航路.txt"));
    assert!(walked.xml.contains("<DIRCOUNT>2</DIRCOUNT><FILECOUNT>7</FILECOUNT>"), "{}", walked.xml);
    assert!(walked.xml.contains("<HARDLINKBYTES>200000</HARDLINKBYTES>"), "{}", walked.xml);

    for bad in ["a:b", "Nul.txt", "SKIP.tmp", "end."] {
        fs::write(root.join(bad), "x").unwrap();
    }
    let error = capture(&capture::Options::default()).err().unwrap();
    assert_eq!(error.class(), Class::Unsafe);
    assert!(error.to_string().contains("and 3 more"), "{error}");
    let lenient = capture::Options { skip_bad_names: true, ..capture::Options::default() };
    assert_eq!(capture(&lenient).unwrap().notes.len(), 4);
}

/// Solid compression with chunks small enough for the slow decoder.
fn small_solid() -> SolidCompression {
    SolidCompression { chunk_len: 1 << 17, ..SolidCompression::new(Level::Fast) }
}

#[test]
fn solid_files_are_written_cut_and_changed() {
    let ordinary = three_editions();
    let before = walk(&ordinary);
    let mut draft = ImageDraft::of(&open(&ordinary));
    draft.repack_solid(small_solid()).unwrap();
    let solid = finished(&draft);
    // The second reading knows nothing of ours: tables, chunks, trees, digests, references.
    let walked = walk(&solid);
    assert_eq!((walked.editions.clone(), walked.boot), (before.editions.clone(), 2));
    // 300,000 bytes alone make three chunks; what is left fits into two resources of one.
    assert!(walked.solids >= 3, "{}", walked.solids);
    let image = open(&solid);
    assert_eq!(image.solid_count(), walked.solids);
    assert_eq!(image.header().compression, Some((Method::Lzms, SolidCompression::TREE_CHUNK)));
    assert!(solid.len() < ordinary.len());
    // Renamed: everything is copied, to the byte.
    let mut renamed = ImageDraft::of(&image);
    renamed.rename(1, &Rename { name: Some("Other".into()), ..Rename::default() }).unwrap();
    assert_eq!(renamed.bytes_to_pack().unwrap(), 0);
    let renamed = walk(&finished(&renamed));
    assert_eq!((renamed.solids, &renamed.editions), (walked.solids, &before.editions));
    // Fewer editions: resources are copied whole, or written anew where something in them is wanted no more.
    let mut fewer = ImageDraft::of(&image);
    fewer.select(&[3]).unwrap();
    let copied = finished(&fewer);
    assert!(fewer.left_in_solids().unwrap() >= 80_000);
    fewer.put_into_solid(small_solid()).unwrap();
    let anew = finished(&fewer);
    assert!(anew.len() + 70_000 < copied.len(), "{} {}", anew.len(), copied.len());
    let walked = walk(&anew);
    assert_eq!((walked.editions.len(), &walked.editions[0]), (1, &before.editions[2]));
    assert_eq!(open(&anew).blobs().count(), 3);
    // The resource with what all have was copied.
    let resource = |file: &[u8]| {
        let image = open(file);
        let shared = BlobDigest::of(&bytes(Shape::Program, 300_000, 1));
        match &image.blob(shared).unwrap().packing {
            Packing::Solid { group, .. } => group.bytes().to_vec(1 << 20, "resource").unwrap(),
            _ => panic!("it is not solid"),
        }
    };
    assert!(resource(&anew) == resource(&solid));
    // Reading one content decodes its own chunk and no other: damage elsewhere does not matter, and is found by `check`.
    let mut damaged = solid.clone();
    let (own, other) =
        (BlobDigest::of(&bytes(Shape::Text, 90_000, 2)), BlobDigest::of(&bytes(Shape::Program, 300_000, 1)));
    let place = |digest: BlobDigest| match &image.blob(digest).unwrap().packing {
        Packing::Solid { group, .. } => (group.offset() as usize, group.packed_len() as usize),
        _ => panic!("it is not solid"),
    };
    assert_ne!(place(own).0, place(other).0);
    let (at, len) = place(other);
    damaged[at + len / 2..at + len].fill(0x55);
    let half = open(&damaged);
    assert!(half.blob(own).unwrap().to_vec(own, 1 << 20, "own").unwrap() == bytes(Shape::Text, 90_000, 2));
    assert!(half.blob(other).unwrap().to_vec(other, 1 << 20, "other").is_err());
    let outcome = neat_image::check(&half, 2, &Job::silent()).unwrap();
    assert!(outcome.damage.iter().any(|damage| damage.count == 3), "{:?}", outcome.damage);
    // What is read of it is known to come from its file, so that a change of that is noticed.
    let dir = tempfile::tempdir().unwrap();
    fs::write(dir.path().join("solid.esd"), &solid).unwrap();
    let on_disk = neat_image::open_path(&dir.path().join("solid.esd")).unwrap();
    let (tree, _) = neat_image::to_tree(&on_disk, 1, &on_disk.files(1).unwrap()).unwrap();
    let mut sources = 0;
    let content = tree.node(tree.find("sys/shared.bin").unwrap()).content().unwrap();
    content.for_each_source(&mut |_| sources += 1);
    assert_eq!(sources, 1);
    // New content joins; an ordinary file becomes solid on the way; parts are cut and joined.
    let mut both = ImageDraft::of(&image);
    let other =
        open(&finished(&draft_of(&[("Four", vec![("new", bytes(Shape::Text, 50_000, 9))])], Some(LZX))));
    both.append(&other, &[1]).unwrap();
    both.put_into_solid(small_solid()).unwrap();
    let both = walk(&finished(&both));
    assert_eq!(both.editions[3]["/new"].content, bytes(Shape::Text, 50_000, 9));
    let parts = split(&image, 200_000, &Job::silent()).unwrap();
    assert!(parts.len() > 1);
    let named = parts.iter().enumerate().map(|(n, part)| (format!("{n}"), part.clone())).collect();
    let joined = join(&ImageFile::open_parts(named).unwrap(), &Job::silent()).unwrap();
    assert_eq!(walk(&joined.to_vec(1 << 30, "joined").unwrap()).editions, before.editions);
    // And back.
    let mut back = ImageDraft::of(&image);
    back.repack(Some(LZX)).unwrap();
    assert_eq!(walk(&finished(&back)).editions, before.editions);
}

#[test]
fn solid_files_depend_on_no_number_of_threads_and_memory_sets_the_chunk() {
    let source = open(&three_editions());
    let dir = tempfile::tempdir().unwrap();
    let write = |threads: usize, memory: u64| {
        let mut draft = ImageDraft::of(&source);
        draft.repack_solid(SolidCompression { memory, ..small_solid() }).unwrap();
        let path = dir.path().join(format!("{threads}-{memory}.esd"));
        let (pending, mut output) = PendingFile::create_output(&path, IfThere::Replace, None).unwrap();
        draft.write(&mut output, threads, &Job::silent()).unwrap();
        pending.commit(output.finish().unwrap().0).unwrap();
        fs::read(&path).unwrap()
    };
    let one = write(1, 1 << 30);
    assert!(one == write(5, 1 << 30) && one == write(5, 30 << 20));
    let large = SolidCompression::new(Level::Fast);
    assert_eq!(large.fitted().unwrap().chunk_len, 64 << 20);
    assert!(SolidCompression::needed(2, 64 << 20) <= SolidCompression::MEMORY);
    let tight = SolidCompression { memory: 200 << 20, ..large }.fitted().unwrap();
    assert_eq!(tight.chunk_len, 8 << 20);
    assert!(SolidCompression { memory: 1 << 20, ..large }.fitted().is_err());
    assert!(SolidCompression { chunk_len: 5000, ..large }.fitted().is_err());
}

#[test]
fn a_chunk_that_promises_what_cannot_be_is_refused() {
    let text = bytes(Shape::Text, 3000, 1);
    let names: [(&str, &[u8]); 1] = [("a", &text)];
    // Stored, and longer than its content: two bytes more than there are.
    let longer = [text.as_slice(), &[0, 0]].concat();
    let error =
        ImageFile::open("t", Content::from_bytes(solid_file(3, 32768, &longer, &names))).err().unwrap();
    assert!(error.to_string().contains("no larger than before compression"), "{error}");
    // An odd number of packed bytes.
    let image = open(&solid_file(3, 32768, &text[..999], &names));
    let digest = BlobDigest::of(&text);
    let error = image.blob(digest).unwrap().to_vec(digest, 1 << 20, "blob").unwrap_err();
    assert!(error.to_string().contains("length of the compressed data"), "{error}");
}

#[test]
fn solid_files_are_read_cut_and_made_ordinary() {
    let texts = [bytes(Shape::Text, 3000, 1), bytes(Shape::Text, 2000, 2), bytes(Shape::Random, 900, 3)];
    let digests: Vec<BlobDigest> = texts.iter().map(|text| BlobDigest::of(text)).collect();
    let whole: Vec<u8> = texts.concat();
    let items: Vec<neat_testing::image::lzms::Item> =
        whole.iter().map(|byte| neat_testing::image::lzms::Item::Literal(*byte)).collect();
    // Random bytes may hold opcodes, but no two calls that name one place.
    let lzms = neat_testing::image::lzms::encode(&items, whole.len());
    let mut lzx = vec![0; whole.len()];
    let len = neat_image::codec::lzx::Encoder::new(32768, Level::Max).encode(&whole, &mut lzx).unwrap();
    lzx.truncate(len);
    for (method, chunk, packed) in [(3_u32, 32768_u32, lzms), (2, 32768, lzx), (0, 32768, whole.clone())] {
        if packed.len() >= whole.len() && method != 0 {
            continue;
        }
        let names: Vec<(&str, &[u8])> =
            ["a", "b", "c"].into_iter().zip(texts.iter().map(Vec::as_slice)).collect();
        let file = solid_file(method, chunk, &packed, &names);
        let image = open(&file);
        assert_eq!(image.solid_count(), 1);
        for (text, digest) in texts.iter().zip(&digests) {
            let read = image.blob(*digest).unwrap().to_vec(*digest, 1 << 20, "blob").unwrap();
            assert!(read == *text, "method {method}");
        }
        // Renamed, the solid resource is copied whole.
        let mut draft = ImageDraft::of(&image);
        draft.rename(1, &Rename { name: Some("Other".into()), ..Rename::default() }).unwrap();
        let renamed = open(&finished(&draft));
        assert_eq!((renamed.solid_count(), renamed.editions()[0].name.as_str()), (1, "Other"));
        let text = renamed.blob(digests[1]).unwrap().to_vec(digests[1], 1 << 20, "blob").unwrap();
        assert!(text == texts[1]);
        // Split keeps it whole, and repacked it is an ordinary file.
        let parts = split(&image, 1 << 20, &Job::silent()).unwrap();
        assert_eq!(parts.len(), 1);
        draft.repack(Some(LZX)).unwrap();
        let walked = walk(&finished(&draft));
        assert_eq!(walked.editions[0]["/b"].content, texts[1]);
    }
}

#[test]
fn blobs_of_4_gib_have_tables_twice_as_wide() {
    const CHUNK: usize = 1 << 21;
    let count = (1_u64 << 32) / CHUNK as u64 + 1;
    let raw_len = (1_u64 << 32) + 5;
    let mut packed = vec![0; CHUNK];
    let len = neat_image::codec::lzx::Encoder::new(CHUNK, Level::Fast)
        .encode(&vec![7; CHUNK], &mut packed)
        .unwrap();
    packed.truncate(len);
    let mut resource: Vec<u8> = (1..count).flat_map(|n| (n * len as u64).to_le_bytes()).collect();
    (1..count).for_each(|_| resource.extend_from_slice(&packed));
    resource.extend([7; 5]);
    let stored = Stored {
        bytes: Content::from_bytes(resource),
        offset: 0,
        raw_len,
        packing: Packing::Chunks { method: Method::Lzx, chunk_len: CHUNK as u32 },
    };
    let mut seen = 0;
    let result =
        Unpacker::default().unpack(&stored, 0..stored.raw_len, &Job::silent(), &mut |block: &[u8]| {
            assert!(block[0] == 7 && block[block.len() - 1] == 7);
            seen += block.len() as u64;
            Ok(())
        });
    result.unwrap();
    assert_eq!(seen, raw_len);
    // A part is had without the rest, also behind 4 GiB.
    for (start, end) in [(0, 1), (raw_len - 6, raw_len), (CHUNK as u64 - 1, CHUNK as u64 + 1), (9, 9)] {
        let mut part = Vec::new();
        let mut take = |block: &[u8]| {
            part.extend_from_slice(block);
            Ok(())
        };
        Unpacker::default().unpack(&stored, start..end, &Job::silent(), &mut take).unwrap();
        assert_eq!(part, vec![7; (end - start) as usize]);
    }
}

#[test]
fn promises_that_are_not_kept_end_with_an_error() {
    let tree = metadata_of(&[]);
    let tree_entry =
        |raw_len: u64, flags: u64| ([tree.len() as u64 | flags << 56, 208, raw_len], BlobDigest::of(&tree).0);
    let class = |file: &[u8]| match ImageFile::open("t", Content::from_bytes(file)) {
        Err(error) => error.class(),
        Ok(image) => match image.files(1) {
            Err(error) => error.class(),
            Ok(_) => panic!("it opened"),
        },
    };
    let sound =
        by_hand(0x10D00, 0x40002, 32768, std::slice::from_ref(&tree), &[tree_entry(tree.len() as u64, 2)], 1);
    open(&sound).files(1).unwrap();
    // A kibibyte that claims a tebibyte; 2^63 bytes; more chunks than there are bytes.
    for raw_len in [1 << 40, 1 << 63, 1 << 30] {
        let file =
            by_hand(0x10D00, 0x40002, 32768, std::slice::from_ref(&tree), &[tree_entry(raw_len, 6)], 1);
        assert!(matches!(class(&file), Class::Corrupt | Class::LimitExceeded), "{raw_len:#x}");
    }
    for (at, value) in
        [(8, 200_u32), (12, 0x20000), (16, 0x60002), (20, 12345), (40, 0x1_0002), (44, 9), (120, 4)]
    {
        let mut file = sound.clone();
        file[at..at + 4].copy_from_slice(&value.to_le_bytes());
        assert!(matches!(class(&file), Class::Corrupt | Class::Unsupported), "{at}");
    }
    // A folder that holds itself.
    let mut files = Files::new(Times::default());
    files.add(Files::ROOT, Entry::folder("loop", Times::default())).unwrap();
    let mut looped = metadata::write(&files).unwrap();
    let root_list = u64_at(&looped, 8 + 16) as u64;
    let child = root_list as usize;
    looped[child + 16..child + 24].copy_from_slice(&root_list.to_le_bytes());
    let error = metadata::read(&looped).unwrap_err();
    assert!(matches!(error, neat_content::Error::Loop { .. }), "{error}");
    // A name that climbs.
    for name in ["..", "a/b", "a\\b"] {
        let mut files = Files::new(Times::default());
        files.add(Files::ROOT, Entry::file(name, 0, Times::default(), BlobDigest::NONE)).unwrap();
        assert!(metadata::read(&metadata::write(&files).unwrap()).is_err(), "{name}");
    }
}

#[test]
fn a_damaged_blob_is_named_with_edition_path_and_offset() {
    let mut file = three_editions();
    let walked = walk(&file);
    let digest = neat_testing::image::container::sha1(&bytes(Shape::Random, 40_000, 12));
    let at = walked.blobs[&digest].0.offset;
    file[at + 100] ^= 1;
    let image = open(&file);
    let files = image.files(2).unwrap();
    let (tree, _) = neat_image::to_tree(&image, 2, &files).unwrap();
    let error = tree.file("own.bin").unwrap().to_vec(1 << 20, "x").unwrap_err();
    let text = error.to_string();
    assert!(text.contains("edition 2, /own.bin") && text.contains(&format!("{at:#x}")), "{text}");
    assert_eq!(error.class(), Class::Corrupt);
    let error = image.check_integrity(&Job::silent()).unwrap_err();
    assert!(error.to_string().contains("at byte 0xd0"), "{error}");
    let mut draft = ImageDraft::of(&image);
    draft.repack(Some(LZX)).unwrap();
    assert!(draft.to_content(&std::env::temp_dir(), 0, &Job::silent()).is_err());
}

#[test]
fn cut_files_never_open_as_if_they_were_whole() {
    let file = three_editions();
    for len in (0..file.len()).step_by(997) {
        assert!(ImageFile::open("t", Content::from_bytes(&file[..len])).is_err(), "{len}");
    }
}

fn names() -> impl Strategy<Value = Name> {
    prop::collection::vec(
        prop_oneof![0x21_u16..0x7F, 0xC0_u16..0x250, 0xD800_u16..0xDFFF, 0x4E00_u16..0x4F00],
        1..12,
    )
    .prop_map(|units| {
        let units: Vec<u16> = units
            .into_iter()
            .map(|unit| if unit == 0x2F || unit == 0x5C || unit == 0x2E { 0x5F } else { unit })
            .collect();
        Name::from_units(units)
    })
}

prop_compose! {
    fn entries()(
        name in names(), short in prop::option::of(names()), folder in any::<bool>(), digest in any::<[u8; 20]>(),
        attributes in any::<u32>(), times in any::<[u64; 3]>(), link in any::<u64>(),
        streams in prop::collection::vec((names(), any::<[u8; 20]>(), any::<[u8; 8]>()), 0..3),
        extra in prop::collection::vec(1..255_u8, 0..5), parent in any::<prop::sample::Index>(),
    ) -> (Entry, prop::sample::Index) {
        let times = Times { created: times[0], accessed: times[1], written: times[2] };
        let mut entry = if folder { Entry::folder(name, times) } else { Entry::file(name, attributes & !0x400, times, BlobDigest(digest)) };
        entry.set_hard_link(link);
        entry.set_rare(Rare {
            short_name: short.unwrap_or_default(),
            streams: streams.into_iter().map(|(name, digest, unused)| Stream { name, digest: BlobDigest(digest), unused }).collect(),
            extra: extra.iter().flat_map(|byte| [*byte; 8]).collect(),
            ..Rare::default()
        });
        (entry, parent)
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(80))]

    #[test]
    fn random_trees_come_back(list in prop::collection::vec(entries(), 0..40), security in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..60), 0..4)) {
        let mut files = Files::new(Times { created: 1, accessed: 2, written: 3 });
        files.security = security.into_iter().map(Vec::into_boxed_slice).collect();
        for (entry, parent) in list {
            let folders: Vec<_> = files.ids().filter(|id| files.entry(*id).is_folder()).collect();
            // A name may be taken already; then there is one entry fewer.
            let _ = files.add(*parent.get(&folders), entry);
        }
        let bytes = metadata::write(&files).unwrap();
        let again = metadata::read(&bytes).unwrap();
        let list = |files: &Files| -> BTreeMap<Vec<String>, String> {
            files.ids().map(|id| {
                let mut path = Vec::new();
                let mut at = id;
                while at != Files::ROOT {
                    path.push(format!("{:?}", files.entry(at).name.units()));
                    at = files.entry(at).parent();
                }
                let entry = files.entry(id);
                let shown = format!("{:?} {:x} {:?} {:?} {} {:?} {:?}", entry.short_name(), entry.attributes, entry.times, entry.digest, entry.hard_link(), entry.streams(), entry.extra());
                (path, shown)
            }).collect()
        };
        prop_assert_eq!(list(&again), list(&files));
        prop_assert_eq!(&again.security, &files.security);
        prop_assert!(metadata::write(&again).unwrap() == bytes, "written again it is the same");
    }

    #[test]
    fn changed_files_never_panic(changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..30)) {
        let list = vec![("a/b", bytes(Shape::Text, 40_000, 1)), ("c", bytes(Shape::Random, 50, 1))];
        let mut file = finished(&draft_of(&[("E", list)], Some(LZX)));
        // Most bytes are content; half of the changes go where the structure is.
        let table = place(&file, 48).offset;
        for (n, (index, value)) in changes.iter().enumerate() {
            let at = match n % 3 {
                0 => index.index(208),
                1 => table + index.index(file.len() - table),
                _ => index.index(file.len()),
            };
            file[at] = *value;
        }
        let Ok(image) = ImageFile::open("t", Content::from_bytes(file)) else { return Ok(()) };
        for number in 1..=image.editions().len().min(9) {
            if let Ok(files) = image.files(number) {
                let _ = neat_image::to_tree(&image, number, &files).map(|(tree, _)| {
                    tree.walk().filter_map(|step| tree.node(step.id).content().cloned()).for_each(|content| {
                        let _ = content.to_vec(1 << 20, "x");
                    });
                });
            }
        }
        let _ = image.check_integrity(&Job::silent());
        let _ = ImageDraft::of(&image).to_content(Path::new("/nowhere"), 1, &Job::silent());
    }
}

#[test]
fn unknown_elements_stay() {
    let file = three_editions();
    let image = open(&file);
    let mut xml = image.edition_xml(1).unwrap().clone();
    xml.set("ODD", Some("kept <&>"));
    let mut draft = ImageDraft::new(Some(LZX));
    draft.add_edition((*ImageDraft::of(&image).files(1).unwrap()).clone(), xml).unwrap();
    assert!(draft.to_content(Path::new("."), 0, &Job::silent()).is_err(), "its content is nowhere");
    for (digest, blob) in image.blobs() {
        draft.add_blob(digest, blob.stored.content(digest, "x"));
    }
    let again = open(&finished(&draft));
    assert_eq!(again.edition_xml(1).and_then(|image| image.text_at(&["ODD"])).unwrap(), "kept <&>");
    assert!(Element::parse(&again.xml().to_text()).is_ok());
}

#[test]
fn kept_fuzz_inputs_are_written_as_they_are_read() {
    let kept = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/kept");
    let mut seen = 0;
    for entry in fs::read_dir(kept).unwrap() {
        seen += 1;
        let Ok(text) = String::from_utf8(fs::read(entry.unwrap().path()).unwrap()) else { continue };
        if let Ok(root) = Element::parse(&text) {
            assert_eq!(Element::parse(&root.to_text()).unwrap(), root);
        }
    }
    assert!(seen >= 3);
}

#[test]
fn each_limit_refuses_what_the_others_take() {
    let file = three_editions();
    let opened = |limits: &Limits| {
        let parts = vec![("test.wim".to_owned(), Content::from_bytes(file.as_slice()))];
        ImageFile::open_parts_with(parts, limits)?.files(1).map(drop)
    };
    opened(&Limits::default()).unwrap();
    let own = Limits::default();
    for (limits, what) in [
        (Limits { table: 50, ..own }, "resource table"),
        (Limits { xml: 100, ..own }, "XML data"),
        (Limits { elements: 10, ..own }, "elements of the XML data"),
        (Limits { element_depth: 2, ..own }, "depth of the XML data"),
        (Limits { metadata: 100, ..own }, "tree"),
        (Limits { depth: 1, ..own }, "depth of folders"),
    ] {
        let error = opened(&limits).unwrap_err();
        assert!(error.class() == Class::LimitExceeded && error.to_string().contains(what), "{what}: {error}");
    }
    // One descriptor, and a tree that is nothing but its root.
    let mut tree = vec![0; 24];
    tree[0] = 24;
    tree[4] = 1;
    tree[8] = 8;
    tree.extend(&metadata_of(&[])[8..]);
    metadata::read_with(&tree, &own).unwrap();
    let error = metadata::read_with(&tree, &Limits { descriptors: 0, ..own }).unwrap_err();
    assert_eq!(error.class(), Class::LimitExceeded, "{error}");
}

//! Discs assembled by hand, byte by byte from the standards, in forms that our own writer never makes.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "a test that cannot go on has failed"
)]

use neat_content::{Class, Content, IfThere, Job, Timestamp, Tree};
use neat_media::{
    Media, TreeKind, read,
    touchup::{Action, Disc},
};
use std::{path::Path, sync::Arc};

/// A disc image that grows as it is written to.
struct Image(Vec<u8>);

impl Image {
    fn put(&mut self, at: usize, bytes: &[u8]) {
        if self.0.len() < at + bytes.len() {
            self.0.resize((at + bytes.len()).next_multiple_of(2048), 0);
        }
        self.0[at..at + bytes.len()].copy_from_slice(bytes);
    }
    fn open(&self) -> neat_content::Result<Media> {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("disc");
        std::fs::write(&path, &self.0).unwrap();
        // The file stays open in the media, so the folder may go.
        read::open(&path)
    }
}

fn file(media: &Media, path: &str) -> Vec<u8> {
    media.tree.file(path).unwrap_or_else(|| panic!("no {path}")).to_vec(1 << 24, "file").unwrap()
}

mod udf {
    use super::*;

    fn crc(bytes: &[u8]) -> u16 {
        bytes.iter().fold(0, |mut crc: u16, byte| {
            crc ^= u16::from(*byte) << 8;
            for _ in 0..8 {
                crc = if crc & 0x8000 == 0 { crc << 1 } else { (crc << 1) ^ 0x1021 };
            }
            crc
        })
    }

    /// A descriptor: `body` is what follows the 16 bytes of the tag.
    fn descriptor(identifier: u16, location: u32, body: &[u8]) -> Vec<u8> {
        let mut d = Vec::new();
        d.extend(identifier.to_le_bytes());
        d.extend([3, 0, 0, 0, 0, 0]);
        d.extend(crc(body).to_le_bytes());
        d.extend((body.len() as u16).to_le_bytes());
        d.extend(location.to_le_bytes());
        d[4] = d.iter().fold(0, |sum: u8, byte| sum.wrapping_add(*byte));
        d.extend(body);
        d
    }

    fn words(list: &[u32]) -> Vec<u8> {
        list.iter().flat_map(|word| word.to_le_bytes()).collect()
    }

    fn long_ad(len: u32, block: u32, partition: u16) -> Vec<u8> {
        [words(&[len, block]), partition.to_le_bytes().to_vec(), vec![0; 6]].concat()
    }

    const TIME: [u8; 12] = [0, 0x10, 0xE8, 0x07, 5, 6, 7, 8, 9, 0, 0, 0];

    /// File entry (261) or extended file entry (266).
    fn entry(
        extended: bool,
        location: u32,
        file_type: u8,
        allocation: u8,
        len: u64,
        descriptors: &[u8],
    ) -> Vec<u8> {
        let mut body = words(&[0]);
        body.extend([4, 0, 0, 0, 1, 0, 0, file_type, 0, 0, 0, 0, 0, 0, allocation, 0]);
        body.extend(words(&[u32::MAX, u32::MAX, 0x14A5]));
        body.extend([1, 0, 0, 0, 0, 0, 0, 0]);
        body.extend(len.to_le_bytes());
        if extended {
            body.extend(len.to_le_bytes());
        }
        body.extend(len.div_ceil(2048).to_le_bytes());
        body.extend(TIME.repeat(if extended { 4 } else { 3 }));
        body.extend(words(&[1]));
        if extended {
            body.extend(words(&[0]));
        }
        body.extend(vec![0; 16 * (1 + usize::from(extended)) + 32 + 8]);
        body.extend(words(&[0, descriptors.len() as u32]));
        assert_eq!(body.len() + 16, if extended { 216 } else { 176 });
        body.extend(descriptors);
        descriptor(if extended { 266 } else { 261 }, location, &body)
    }

    fn identifier(location: u32, characteristics: u8, block: u32, partition: u16, name: &[u8]) -> Vec<u8> {
        let mut body = vec![1, 0, characteristics, name.len() as u8];
        body.extend(long_ad(2048, block, partition));
        body.extend([0, 0]);
        body.extend(name);
        body.resize((body.len() + 16).next_multiple_of(4) - 16, 0);
        descriptor(257, location, &body)
    }

    /// Where the anchor is, and whether file entries are in a metadata partition as UDF 2.50 has it.
    #[derive(Clone, Copy)]
    struct Form {
        anchor_from_end: Option<usize>,
        metadata: bool,
    }

    const START: u32 = 300;
    /// Sectors of the whole disc.
    const SECTORS: usize = 700;

    /// The disc: a root with one file for each kind of allocation. `loops` makes the continuation lead to itself and
    /// a folder hold its parent.
    fn disc(form: Form, loops: bool) -> Image {
        let mut image = Image(vec![0; SECTORS * 2048]);
        for (number, id) in [b"BEA01", b"NSR03", b"TEA01"].iter().enumerate() {
            image.put((16 + number) * 2048 + 1, *id);
        }
        let sector = form.anchor_from_end.map_or(256, |from_end| SECTORS - 1 - from_end);
        let sequence = words(&[16 * 2048, 32, 16 * 2048, 48]);
        image.put(sector * 2048, &descriptor(2, sector as u32, &[sequence, vec![0; 480]].concat()));

        let mut partition = words(&[1]);
        partition.extend([1, 0, 0, 0, 0]);
        partition.extend(b"+NSR03");
        partition.resize(188 - 16, 0);
        partition.extend(words(&[START, 350]));
        partition.resize(496, 0);
        let mut maps = vec![1, 6, 1, 0, 0, 0];
        let meta_partition = u16::from(form.metadata);
        if form.metadata {
            let mut map = vec![2, 64, 0, 0, 0];
            map.extend(b"*UDF Metadata Partition");
            map.resize(36, 0);
            map.extend([1, 0, 0, 0]);
            map.extend(words(&[0, 1, u32::MAX, 32]));
            map.resize(64, 0);
            maps.extend(map);
        }
        let mut logical = words(&[2]);
        logical.resize(84 - 16, 0);
        let mut label = [vec![16, 0x82, 0x2A, 0x6D, 0x77], vec![0; 122], vec![5]].concat();
        logical.append(&mut label);
        logical.extend(words(&[2048]));
        logical.extend(b"\0*OSTA UDF Compliant\0\0\0\0");
        logical.extend([0x50, 0x02, 0, 0, 0, 0, 0, 0]);
        logical.extend(long_ad(2048, 0, meta_partition));
        logical.extend(words(&[maps.len() as u32, 1 + u32::from(form.metadata)]));
        logical.resize(440 - 16, 0);
        logical.extend(&maps);
        for (number, (tag, body)) in [(5, partition), (6, logical), (8, vec![0; 496])].iter().enumerate() {
            image.put((32 + number) * 2048, &descriptor(*tag, 32 + number as u32, body));
        }

        // Block numbers: of metadata in its own partition, of data in the physical one.
        let physical = |block: usize| (START as usize + block) * 2048;
        // The metadata file's entry is block 0 of the physical partition, its content lies in two runs.
        let meta = |block: usize| {
            if !form.metadata {
                return physical(block + 100);
            }
            if block < 8 { physical(100 + block) } else { physical(200 + block - 8) }
        };
        if form.metadata {
            let runs = words(&[8 * 2048, 100, 24 * 2048, 200]);
            image.put(physical(0), &entry(true, 0, 250, 0, 32 * 2048, &runs));
        }
        let place = |block: u32| if form.metadata { block } else { block + 100 };
        let mut set = vec![0; 400 - 16];
        set.extend(long_ad(2048, place(2), meta_partition));
        set.resize(496, 0);
        image.put(meta(0), &descriptor(256, place(0), &set));
        if !form.metadata {
            // The file set is at block 0 as the logical volume says.
            image.put(physical(0), &descriptor(256, 0, &set));
        }

        let latin = |name: &str| [vec![8], name.bytes().collect()].concat();
        let mut names = identifier(place(2), 0x0A, place(2), meta_partition, &[]);
        for (block, characteristics, name) in [
            (3, 0, latin("short")),
            (4, 0, latin("long")),
            (5, 0, latin("extended")),
            (6, 0, latin("embedded")),
            (7, 0, latin("continued")),
            (9, 1, vec![16, 0x82, 0x2A]),
            (3, 4, latin("deleted")),
            (10, 2, latin("folder")),
        ] {
            names.extend(identifier(place(2), characteristics, place(block), meta_partition, &name));
        }
        image.put(meta(2), &entry(true, place(2), 4, 3, names.len() as u64, &names));
        for block in 0..8 {
            image.put(physical(20 + block), &vec![b'a' + block as u8; 2048]);
        }
        image.put(
            meta(3),
            &entry(
                false,
                place(3),
                5,
                0,
                5000,
                &words(&[
                    if form.metadata { 4096 } else { 5000 },
                    20,
                    if form.metadata { 904 } else { 0 },
                    22,
                ]),
            ),
        );
        // In the metadata partition short descriptors would mean blocks of that partition, so data need long ones.
        if form.metadata {
            image.put(
                meta(3),
                &entry(false, place(3), 5, 1, 5000, &[long_ad(4096, 20, 0), long_ad(904, 22, 0)].concat()),
            );
        }
        image.put(
            meta(4),
            &entry(
                false,
                place(4),
                5,
                1,
                6000,
                &[long_ad(2048, 25, 0), long_ad(2048 | 2 << 30, 0, 0), long_ad(1904, 23, 0)].concat(),
            ),
        );
        let extended_ad = |len: u32, block: u32| [words(&[len, len, len, block]), vec![0; 4]].concat();
        image.put(
            meta(5),
            &entry(true, place(5), 5, 2, 3000, &[extended_ad(2048, 26), extended_ad(952, 20)].concat()),
        );
        image.put(meta(6), &entry(true, place(6), 5, 3, 11, b"in the entry"));
        let to = |block: u32| long_ad(2048 | 3 << 30, place(block), meta_partition);
        image.put(meta(7), &entry(false, place(7), 5, 1, 2048 + 10, &[long_ad(2048, 24, 0), to(8)].concat()));
        let rest = if loops { to(8) } else { long_ad(10, 27, 0) };
        image.put(meta(8), &descriptor(258, place(8), &[words(&[0, rest.len() as u32]), rest].concat()));
        image.put(meta(9), &entry(false, place(9), 5, 3, 0, &[]));
        let mut inside = identifier(place(10), 0x0A, place(2), meta_partition, &[]);
        if loops {
            inside.extend(identifier(place(10), 2, place(2), meta_partition, &latin("again")));
        }
        image.put(meta(10), &entry(false, place(10), 4, 3, inside.len() as u64, &inside));
        image
    }

    #[test]
    fn every_kind_of_allocation_and_every_anchor() {
        for anchor_from_end in [None, Some(0), Some(256)] {
            for metadata in [false, true] {
                let media = disc(Form { anchor_from_end, metadata }, false).open().unwrap();
                assert_eq!(
                    (media.trees.chosen, media.trees.udf, media.trees.iso9660),
                    (TreeKind::Udf, Some(0x0250), false)
                );
                assert_eq!(media.volume.label, "\u{822A}\u{6D77}");
                let of = |letters: &[(u8, usize)]| {
                    letters.iter().flat_map(|(letter, len)| vec![*letter; *len]).collect::<Vec<_>>()
                };
                assert_eq!(file(&media, "short"), of(&[(b'a', 2048), (b'b', 2048), (b'c', 904)]));
                assert_eq!(file(&media, "long"), of(&[(b'f', 2048), (0, 2048), (b'd', 1904)]));
                assert_eq!(file(&media, "extended"), of(&[(b'g', 2048), (b'a', 952)]));
                assert_eq!(file(&media, "embedded"), b"in the entr");
                assert_eq!(file(&media, "continued"), of(&[(b'e', 2048), (b'h', 10)]));
                let hidden = media.tree.find("\u{822A}").unwrap();
                assert!(media.tree.node(hidden).meta.hidden);
                assert!(media.tree.find("deleted").is_none() && media.tree.find("folder").is_some());
                // 6 May 2024, 07:08:09.
                assert_eq!(media.tree.node(hidden).meta.modified.seconds, 1_714_979_289);
            }
        }
    }

    #[test]
    fn every_form_is_touched_up_and_taken_back() {
        for anchor_from_end in [None, Some(0), Some(256)] {
            for metadata in [false, true] {
                let image = disc(Form { anchor_from_end, metadata }, false);
                let dir = tempfile::tempdir().unwrap();
                let path = dir.path().join("disc");
                std::fs::write(&path, &image.0).unwrap();
                let put = |path: &str, letter: u8, len: usize| Action::Put {
                    content: Content::from_bytes(vec![letter; len]),
                    modified: Timestamp::from_seconds(5),
                    path: path.into(),
                };
                let actions = vec![
                    put("new/folder/\u{8239}", b'z', 5000),
                    put("embedded", b'y', 3000),
                    put("continued", b'x', 3),
                    put("folder/inside", b'w', 1),
                    Action::Hide { path: "long".into() },
                ];
                let result = Disc::open(&path).unwrap().apply(actions, Timestamp::default(), &Job::silent());
                if metadata {
                    assert_eq!(result.unwrap_err().class(), Class::Unsupported);
                    assert!(std::fs::read(&path).unwrap() == image.0);
                    continue;
                }
                result.unwrap();
                let media = read::open(&path).unwrap();
                assert_eq!(file(&media, "new/folder/\u{8239}"), [b'z'; 5000]);
                assert_eq!(file(&media, "embedded"), [b'y'; 3000]);
                assert_eq!(file(&media, "continued"), b"xxx");
                assert_eq!(file(&media, "folder/inside"), b"w");
                assert_eq!(file(&media, "extended").len(), 3000);
                assert!(media.tree.find("long").is_none() && media.tree.find("deleted").is_none());
                assert!(media.tree.node(media.tree.find("\u{822A}").unwrap()).meta.hidden);
                Disc::open(&path).unwrap().undo(None).unwrap();
                assert!(std::fs::read(&path).unwrap() == image.0);
            }
        }
    }

    #[test]
    fn loops_end_with_an_error_that_says_where() {
        let form = Form { anchor_from_end: None, metadata: false };
        let error = disc(form, true).open().unwrap_err();
        assert_eq!(error.class(), Class::Corrupt);
        assert!(error.to_string().contains("loop") && error.to_string().contains("at byte 0x"), "{error}");
    }

    #[test]
    fn lengths_that_overflow_are_refused_in_bounded_memory() {
        for claimed in [1_u64 << 40, 1 << 62, u64::MAX] {
            let mut image = disc(Form { anchor_from_end: None, metadata: false }, false);
            let at = (START as usize + 103) * 2048;
            image.put(at, &entry(false, 103, 5, 0, claimed, &words(&[5000, 20])));
            let error = image.open().unwrap_err();
            assert_eq!(error.class(), Class::Corrupt, "{error}");
            assert!(error.to_string().contains("information_length"), "{error}");
        }
    }
}

mod iso {
    use super::*;

    fn both16(value: u16) -> Vec<u8> {
        [value.to_le_bytes(), value.to_be_bytes()].concat()
    }
    fn both32(value: u32) -> Vec<u8> {
        [value.to_le_bytes(), value.to_be_bytes()].concat()
    }

    /// A directory record with a system use area; `gap` is the interleave gap.
    fn record(identifier: &[u8], sector: u32, len: u32, flags: u8, gap: u8, area: &[u8]) -> Vec<u8> {
        let mut r = vec![0, 0];
        r.extend(both32(sector));
        r.extend(both32(len));
        r.extend([124, 5, 6, 7, 8, 9, 0, flags, u8::from(gap > 0), gap]);
        r.extend(both16(1));
        r.push(identifier.len() as u8);
        r.extend(identifier);
        r.resize(r.len().next_multiple_of(2), 0);
        r.extend(area);
        r.resize(r.len().next_multiple_of(2), 0);
        r[0] = r.len() as u8;
        r
    }

    fn name(name: &str) -> Vec<u8> {
        [b"NM".to_vec(), vec![5 + name.len() as u8, 1, 0], name.bytes().collect()].concat()
    }
    fn location(signature: [u8; 2], sector: u32) -> Vec<u8> {
        [signature.to_vec(), vec![12, 1], both32(sector)].concat()
    }

    /// A disc whose root, in sector 20, holds `records` after its own two.
    fn disc(records: &[Vec<u8>], announce: bool) -> Image {
        let mut image = Image(vec![0; 60 * 2048]);
        let mut primary = vec![1];
        primary.extend(b"CD001\x01\0");
        primary.resize(40, b' ');
        primary.extend(b"BY_HAND");
        primary.resize(72, b' ');
        primary.resize(80, 0);
        primary.extend(both32(60));
        primary.resize(120, 0);
        primary.extend([both16(1), both16(1), both16(2048)].concat());
        primary.resize(156, 0);
        primary.extend(record(&[0], 20, 2048, 2, 0, &[]));
        image.put(16 * 2048, &primary);
        image.put(17 * 2048, b"\xFFCD001\x01");
        let sp: &[u8] = if announce { &[b'S', b'P', 7, 1, 0xBE, 0xEF, 0, b'R', b'R', 5, 1, 0] } else { &[] };
        let own = [record(&[0], 20, 2048, 2, 0, sp), record(&[1], 20, 2048, 2, 0, &[])];
        image.put(20 * 2048, &[own.concat(), records.concat()].concat());
        image
    }

    #[test]
    fn relocated_folders_are_shown_where_they_belong() {
        let mut image = disc(
            &[
                record(b"DEEP.;1", 0, 0, 0, 0, &[name("deep folder"), location(*b"CL", 31)].concat()),
                record(b"RR_MOVED", 30, 2048, 2, 0, &name("rr_moved")),
            ],
            true,
        );
        let dots = |own: u32, parent: u32| {
            [record(&[0], own, 2048, 2, 0, &[]), record(&[1], parent, 2048, 2, 0, &location(*b"PL", 20))]
                .concat()
        };
        image.put(
            30 * 2048,
            &[
                dots(30, 20),
                record(b"MOVED", 31, 2048, 2, 0, &[name("moved"), vec![b'R', b'E', 4, 1]].concat()),
            ]
            .concat(),
        );
        image.put(31 * 2048, &[dots(31, 30), record(b"F.;1", 40, 5, 0, 0, &name("file"))].concat());
        image.put(40 * 2048, b"there");
        let media = image.open().unwrap();
        assert_eq!(media.trees.chosen, TreeKind::RockRidge);
        let paths: Vec<_> = media.tree.walk().map(|step| step.path).collect();
        assert_eq!(paths, ["deep folder", "deep folder/file"]);
        assert_eq!(file(&media, "deep folder/file"), b"there");
    }

    #[test]
    fn sections_are_joined_and_interleaved_files_refused() {
        let parts = [
            record(b"BIG.BIN;1", 40, 4096, 0x80, 0, &[]),
            record(b"BIG.BIN;1", 50, 2048, 0x80, 0, &[]),
            record(b"BIG.BIN;1", 45, 7, 0, 0, &[]),
        ];
        let mut image = disc(&parts, false);
        for (sector, letter) in [(40, b'1'), (41, b'2'), (50, b'3'), (45, b'4')] {
            image.put(sector * 2048, &[letter; 2048]);
        }
        let media = image.open().unwrap();
        let wanted: Vec<u8> = [(b'1', 2048), (b'2', 2048), (b'3', 2048), (b'4', 7)]
            .iter()
            .flat_map(|(letter, len)| vec![*letter; *len])
            .collect();
        assert_eq!(file(&media, "BIG.BIN"), wanted);
        assert_eq!(media.volume.label, "BY_HAND");
        let error = disc(&parts[..2], false).open().unwrap_err().to_string();
        assert!(error.contains("last section of BIG.BIN"), "{error}");
        let error = disc(&[record(b"MIX.BIN;1", 40, 4096, 0, 3, &[])], false).open().unwrap_err();
        assert_eq!(error.class(), Class::Unsupported);
        assert!(
            error.to_string().contains("interleaved file MIX.BIN")
                && error.to_string().contains("at byte 0xa05e"),
            "{error}"
        );
    }

    #[test]
    fn old_versions_and_associated_files_are_left_out_and_said() {
        let media = disc(
            &[
                record(b"A.TXT;2", 40, 5, 0, 0, &[]),
                record(b"A.TXT;1", 41, 5, 0, 0, &[]),
                record(b"B.TXT;1", 42, 5, 4, 0, &[]),
            ],
            false,
        )
        .open()
        .unwrap();
        assert_eq!(media.tree.counts().files, 1);
        assert_eq!(media.warnings.len(), 2, "{:?}", media.warnings);
    }

    #[test]
    fn folders_that_lead_back_and_extents_past_the_end_are_refused() {
        let error = disc(&[record(b"SUB", 20, 2048, 2, 0, &[])], false).open().unwrap_err().to_string();
        assert!(error.contains("loop") && error.contains("at byte 0xa044"), "{error}");
        for (sector, len) in [(59, 4096), (u32::MAX, 1), (40, u32::MAX)] {
            let error = disc(&[record(b"FAR.;1", sector, len, 0, 0, &[])], false).open().unwrap_err();
            assert!(error.to_string().contains("content of FAR"), "{error}");
            let error = disc(&[record(b"FAR", sector, len, 2, 0, &[])], false).open().unwrap_err();
            assert!([Class::Corrupt, Class::LimitExceeded].contains(&error.class()), "{error}");
        }
        for climbing in ["..", "a/b", "../../etc/x"] {
            let error = disc(&[record(b"X.;1", 40, 5, 0, 0, &name(climbing))], true).open().unwrap_err();
            assert!(error.to_string().contains("file_identifier at byte 0x"), "{error}");
        }
    }

    #[test]
    fn a_stub_beside_a_real_tree_is_passed_over() {
        // A bridge whose UDF side holds the files and whose ISO 9660 side holds a note, made by joining two discs.
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("real");
        let mut tree = Tree::default();
        for n in 0..4 {
            let content = neat_content::Content::from_bytes(vec![n; 10]);
            tree.put_file(
                &format!("file{n}"),
                content,
                neat_content::Meta::at(neat_content::Timestamp::default()),
            )
            .unwrap();
        }
        write(&tree, &path);
        let mut bytes = Image(std::fs::read(&path).unwrap());
        // The Joliet descriptor becomes a terminator, and the root of the primary tree loses all but two records.
        let root =
            u32::from_le_bytes(bytes.0[16 * 2048 + 158..16 * 2048 + 162].try_into().unwrap()) as usize * 2048;
        bytes.put(17 * 2048, &[255]);
        let keep = root + 34 + 34 + usize::from(bytes.0[root + 68]);
        let end = root + 2048;
        bytes.0[keep..end].fill(0);
        let media = bytes.open().unwrap();
        assert_eq!((media.trees.chosen, media.tree.counts().files), (TreeKind::Udf, 4));
        // Eight files make it a disc whose other tree a touch-up leaves alone.
        let mut larger = tree.clone();
        let path_of_stub = dir.path().join("stub");
        for n in 4..8 {
            let content = Content::from_bytes(vec![n; 10]);
            larger
                .put_file(&format!("file{n}"), content, neat_content::Meta::at(Timestamp::default()))
                .unwrap();
        }
        write(&larger, &path_of_stub);
        let mut stub = Image(std::fs::read(&path_of_stub).unwrap());
        stub.put(17 * 2048, &[255]);
        stub.0[keep..end].fill(0);
        std::fs::write(&path_of_stub, &stub.0).unwrap();
        let content = Content::from_bytes(*b"new");
        let put = Action::Put { content, modified: Timestamp::default(), path: "new".into() };
        let outcome = Disc::open(&path_of_stub)
            .unwrap()
            .apply(vec![put], Timestamp::default(), &Job::silent())
            .unwrap();
        assert_eq!(outcome.changes[0].trees, [TreeKind::Udf]);
        // And the other way round: a damaged anchor leaves the ISO 9660 side, with a note.
        let mut bytes = Image(std::fs::read(&path).unwrap());
        for descriptor in [256 * 2048, bytes.0.len() - 2048] {
            bytes.put(descriptor, &[0; 512]);
        }
        let media = bytes.open().unwrap();
        assert_eq!(
            (media.trees.chosen, media.tree.counts().files, media.warnings.len()),
            (TreeKind::Joliet, 4, 1)
        );
    }

    fn write(tree: &Tree, path: &Path) {
        let job = neat_content::Job::silent();
        let plan = neat_media::master::Plan::new(
            &Arc::new(tree.clone()),
            neat_media::master::Options::default(),
            &job,
        )
        .unwrap();
        let (pending, mut output) =
            neat_content::PendingFile::create_output(path, IfThere::Replace, None).unwrap();
        plan.write(&mut output, &job).unwrap();
        pending.commit(output.finish().unwrap().0).unwrap();
    }
}

//! Content, outputs and trees against plain vectors and maps that do the same, with any steps in any order.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs, reason = "tests say what they expect by failing")]

use neat_content::{
    Class, Clip, Content, DigestKind, Error, IfThere, Job, Meta, NodeKind, Output, PendingFile,
    PendingFolder, Piece, Producer, ReadAt, Result, Source, Spool, Timestamp, Tree, commit_together,
    damage_apart, digest_of,
};
use proptest::prelude::*;
use std::{
    collections::BTreeMap,
    fs,
    ops::Range,
    path::Path,
    sync::{Arc, LazyLock},
};

/// A file with bytes that tell where they are.
static FILE: LazyLock<(tempfile::TempDir, Arc<Source>, Vec<u8>)> = LazyLock::new(|| {
    let dir = tempfile::tempdir().unwrap();
    let bytes: Vec<u8> = (0..5000_u32).map(|n| (n * 7 % 251) as u8).collect();
    let path = dir.path().join("source");
    fs::write(&path, &bytes).unwrap();
    let source = Source::open(&path).unwrap();
    (dir, source, bytes)
});

/// Counts up, and can only begin at the start.
struct Counter(u64);

impl Producer for Counter {
    fn len(&self) -> u64 {
        self.0
    }

    fn produce(
        &self,
        range: Range<u64>,
        _: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        let mut clip = Clip::new(range);
        for block in (0..self.0).map(|n| n as u8).collect::<Vec<_>>().chunks(7) {
            if clip.is_done() {
                break;
            }
            clip.push(block, each)?;
        }
        Ok(())
    }
}

#[derive(Clone, Debug)]
enum Made {
    Bytes(Vec<u8>),
    Zeros(u16),
    File(u16, u16),
    Counted(u8),
    Part(Box<Made>, u16, u16),
    Joined(Vec<Made>),
    Patched(Box<Made>, u16, Vec<u8>),
}

fn made() -> impl Strategy<Value = Made> {
    let leaf = prop_oneof![
        proptest::collection::vec(any::<u8>(), 0..40).prop_map(Made::Bytes),
        (0_u16..300).prop_map(Made::Zeros),
        (0_u16..5000, 0_u16..300).prop_map(|(at, len)| Made::File(at, len)),
        any::<u8>().prop_map(Made::Counted),
    ];
    leaf.prop_recursive(4, 24, 4, |inner| {
        prop_oneof![
            (inner.clone(), any::<u16>(), any::<u16>()).prop_map(|(own, a, b)| Made::Part(
                Box::new(own),
                a,
                b
            )),
            proptest::collection::vec(inner.clone(), 0..4).prop_map(Made::Joined),
            (inner, any::<u16>(), proptest::collection::vec(any::<u8>(), 0..9))
                .prop_map(|(own, at, bytes)| Made::Patched(Box::new(own), at, bytes)),
        ]
    })
}

/// The content, and what it should hold.
fn build(own: &Made) -> (Content, Vec<u8>) {
    match own {
        Made::Bytes(bytes) => (Content::from_bytes(bytes.as_slice()), bytes.clone()),
        Made::Zeros(len) => (Content::zeros(u64::from(*len)), vec![0; usize::from(*len)]),
        Made::File(at, len) => {
            let (_, source, bytes) = &*FILE;
            let (at, len) = (usize::from(*at), usize::from(*len).min(bytes.len() - usize::from(*at)));
            let piece = Piece::Extent { source: Arc::clone(source), offset: at as u64, len: len as u64 };
            (Content::from_pieces([piece]).unwrap(), bytes[at..at + len].to_vec())
        }
        Made::Counted(len) => {
            let content = Content::deferred(Arc::new(Counter(u64::from(*len))));
            (content, (0..*len).collect())
        }
        Made::Part(inner, a, b) => {
            let (content, bytes) = build(inner);
            let at = usize::from(*a) % (bytes.len() + 1);
            let len = usize::from(*b) % (bytes.len() - at + 1);
            (content.part(at as u64, len as u64).unwrap(), bytes[at..at + len].to_vec())
        }
        Made::Joined(all) => {
            let (contents, bytes): (Vec<_>, Vec<_>) = all.iter().map(build).unzip();
            (Content::joined(contents).unwrap(), bytes.concat())
        }
        Made::Patched(inner, at, patch) => {
            let (content, mut bytes) = build(inner);
            let patch = &patch[..patch.len().min(bytes.len())];
            let at = usize::from(*at) % (bytes.len() - patch.len() + 1);
            bytes[at..at + patch.len()].copy_from_slice(patch);
            (content.patched(at as u64, patch).unwrap(), bytes)
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn content_is_the_bytes_that_it_was_made_of(own in made(), cut in any::<[u16; 2]>(), block in 1_usize..64) {
        let (content, bytes) = build(&own);
        prop_assert_eq!(content.len(), bytes.len() as u64);
        prop_assert_eq!(content.is_empty(), bytes.is_empty());
        prop_assert_eq!(&content.to_vec(1 << 20, "content").unwrap(), &bytes);
        let mut blocks = Vec::new();
        let mut longest = 0;
        content
            .for_each_block(block, &Job::silent(), &mut |own| {
                longest = longest.max(own.len());
                blocks.extend_from_slice(own);
                Ok(())
            })
            .unwrap();
        prop_assert_eq!(&blocks, &bytes);
        prop_assert!(longest <= block);
        // Any part of it, read at once.
        let at = usize::from(cut[0]) % (bytes.len() + 1);
        let len = usize::from(cut[1]) % (bytes.len() - at + 1);
        let mut buffer = vec![9; len];
        content.read_exact_at(at as u64, &mut buffer).unwrap();
        prop_assert_eq!(&buffer, &bytes[at..at + len]);
        // What lies behind its end is an error, never zeros.
        prop_assert!(content.part(at as u64, bytes.len() as u64 + 1).is_err());
        prop_assert!(content.read_exact_at(bytes.len() as u64, &mut [0]).is_err());
        if !bytes.is_empty() {
            prop_assert_eq!(content.to_vec(bytes.len() as u64 - 1, "x").unwrap_err().class(), Class::LimitExceeded);
        }
        let plain = Content::from_bytes(bytes.as_slice());
        for kind in [DigestKind::Sha1, DigestKind::Sha256] {
            let digest = digest_of(&content, kind, &Job::silent()).unwrap();
            prop_assert_eq!(digest, digest_of(&plain, kind, &Job::silent()).unwrap());
        }
    }

    #[test]
    fn an_output_is_what_was_written_to_it(steps in proptest::collection::vec(step(), 0..30)) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("out");
        let (pending, mut output) = PendingFile::create_output(&path, IfThere::Refuse, None).unwrap();
        let mut model: Vec<u8> = Vec::new();
        for step in &steps {
            match step {
                Step::Bytes(bytes) => {
                    output.write_bytes(bytes).unwrap();
                    model.extend(bytes);
                }
                Step::Zeros(len) => {
                    output.write_zeros(u64::from(*len)).unwrap();
                    model.resize(model.len() + usize::from(*len), 0);
                }
                Step::Content(own) => {
                    let (content, bytes) = build(own);
                    output.write_content(&content, &Job::silent()).unwrap();
                    model.extend(bytes);
                }
                Step::Pad(to) => {
                    let to = usize::from(*to);
                    let written = output.pad_to(to as u64);
                    if to < model.len() {
                        prop_assert!(written.is_err());
                    } else {
                        written.unwrap();
                        model.resize(to, 0);
                    }
                }
                Step::Patch(at, bytes) => {
                    let at = usize::from(*at) % (model.len() + 1);
                    let patched = output.patch(at as u64, bytes);
                    if at + bytes.len() > model.len() {
                        prop_assert!(patched.is_err());
                    } else {
                        patched.unwrap();
                        model[at..at + bytes.len()].copy_from_slice(bytes);
                    }
                }
                Step::Rewind(to) => {
                    let to = usize::from(*to) % (model.len() + 1);
                    output.rewind(to as u64).unwrap();
                    model.truncate(to);
                    prop_assert!(output.rewind(to as u64 + 1).is_err());
                }
                Step::Look => {
                    prop_assert_eq!(&output.written().unwrap().to_vec(1 << 24, "out").unwrap(), &model);
                }
            }
            prop_assert_eq!(output.position(), model.len() as u64);
        }
        prop_assert!(!path.exists());
        pending.commit(output.finish().unwrap().0).unwrap();
        prop_assert_eq!(fs::read(&path).unwrap(), model);
        prop_assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 1);
    }

    #[test]
    fn a_spool_holds_the_same_in_memory_and_in_a_file(
        blocks in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..50), 0..12),
        in_memory in 0_usize..300,
        cut in any::<u16>(),
    ) {
        let mut spool = Spool::new(in_memory, &std::env::temp_dir());
        let mut model = Vec::new();
        for block in &blocks {
            spool.push(block).unwrap();
            model.extend_from_slice(block);
        }
        prop_assert_eq!(spool.content().unwrap().to_vec(1 << 20, "spool").unwrap(), model.clone());
        let to = usize::from(cut) % (model.len() + 1);
        spool.truncate(to as u64);
        model.truncate(to);
        spool.push(b"end").unwrap();
        model.extend(b"end");
        prop_assert_eq!(spool.len(), model.len() as u64);
        prop_assert_eq!(spool.content().unwrap().to_vec(1 << 20, "spool").unwrap(), model);
    }

    #[test]
    fn a_tree_is_the_map_of_its_paths(steps in proptest::collection::vec(tree_step(), 0..40)) {
        let meta = Meta::at(Timestamp::from_seconds(1));
        let mut tree = Tree::new(meta);
        // Files by their path without regard to case: the path as it is, and what is in it.
        let mut model: BTreeMap<String, (String, u8)> = BTreeMap::new();
        for (path, what) in steps {
            let folded = path.to_lowercase();
            let is_folder = model.keys().any(|own| own.starts_with(&format!("{folded}/")));
            let parents: Vec<String> = folded.match_indices('/').map(|(at, _)| folded[..at].to_owned()).collect();
            let under_file = parents.iter().any(|own| model.contains_key(own));
            if let Some(byte) = what {
                let put = tree.put_file(&path, Content::from_bytes([byte].as_slice()), meta);
                // Folders stay when what was in them goes.
                if under_file || is_folder {
                    prop_assert!(put.is_err(), "{}", path);
                } else if let Ok(id) = put {
                    let real = tree.path(id);
                    prop_assert_eq!(real.to_lowercase(), folded.clone());
                    model.insert(folded, (real, byte));
                } else {
                    let id = tree.find_ignoring_case(&path).unwrap();
                    prop_assert!(tree.node(id).folder().is_some());
                }
            } else if let Some(id) = tree.find_ignoring_case(&path) {
                tree.remove(id);
                model.retain(|own, _| *own != folded && !own.starts_with(&format!("{folded}/")));
            }
        }
        let found: BTreeMap<String, (String, u8)> = tree
            .walk()
            .filter_map(|step| match &tree.node(step.id).kind {
                NodeKind::File(content) => {
                    Some((step.path.to_lowercase(), (step.path, content.to_vec(1, "file").unwrap()[0])))
                }
                _ => None,
            })
            .collect();
        prop_assert_eq!(&found, &model);
        prop_assert_eq!(tree.counts().files, model.len() as u64);
        for (folded, (path, _)) in &model {
            prop_assert_eq!(tree.find_ignoring_case(folded), tree.find(path));
            prop_assert!(tree.file(path).is_some());
        }
    }
}

#[derive(Clone, Debug)]
enum Step {
    Bytes(Vec<u8>),
    Zeros(u16),
    Content(Made),
    Pad(u16),
    Patch(u16, Vec<u8>),
    Rewind(u16),
    Look,
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        proptest::collection::vec(any::<u8>(), 0..60).prop_map(Step::Bytes),
        any::<u16>().prop_map(Step::Zeros),
        made().prop_map(Step::Content),
        any::<u16>().prop_map(Step::Pad),
        (any::<u16>(), proptest::collection::vec(any::<u8>(), 0..20))
            .prop_map(|(at, bytes)| Step::Patch(at, bytes)),
        any::<u16>().prop_map(Step::Rewind),
        Just(Step::Look),
    ]
}

fn tree_step() -> impl Strategy<Value = (String, Option<u8>)> {
    let name = prop_oneof![Just("a"), Just("A"), Just("b"), Just("Über"), Just("üBER"), Just("c.txt")];
    let path = proptest::collection::vec(name, 1..4).prop_map(|names| names.join("/"));
    (path, proptest::option::weighted(0.8, any::<u8>()))
}

fn names(dir: &Path) -> Vec<String> {
    let mut all: Vec<String> =
        fs::read_dir(dir).unwrap().map(|own| own.unwrap().file_name().into_string().unwrap()).collect();
    all.sort();
    all
}

fn started(path: &Path, there: IfThere, text: &str) -> Result<(PendingFile, fs::File)> {
    let (pending, mut output) = PendingFile::create_output(path, there, None)?;
    output.write_bytes(text.as_bytes())?;
    Ok((pending, output.finish()?.0))
}

#[test]
fn names_appear_whole_together_or_not_at_all() {
    let dir = tempfile::tempdir().unwrap();
    let at = |name: &str| dir.path().join(name);
    // What is given up leaves nothing.
    drop(started(&at("a"), IfThere::Refuse, "given up").unwrap());
    assert_eq!(names(dir.path()), [""; 0]);
    let both = vec![
        started(&at("a"), IfThere::Refuse, "one").unwrap(),
        started(&at("b"), IfThere::Refuse, "two").unwrap(),
    ];
    commit_together(both).unwrap();
    assert_eq!(names(dir.path()), ["a", "b"]);
    // A name that somebody took in between is not overwritten, and the other one does not appear either.
    let late = vec![
        started(&at("c"), IfThere::Refuse, "three").unwrap(),
        started(&at("d"), IfThere::Refuse, "four").unwrap(),
    ];
    fs::write(at("d"), "somebody's").unwrap();
    assert!(commit_together(late).is_err());
    assert_eq!(fs::read_to_string(at("d")).unwrap(), "somebody's");
    assert_eq!(names(dir.path()), ["a", "b", "d"]);
    // Replaced only when that is meant.
    assert!(started(&at("a"), IfThere::Refuse, "x").and_then(|(own, file)| own.commit(file)).is_err());
    let (pending, file) = started(&at("a"), IfThere::replace(true), "anew").unwrap();
    assert_eq!(fs::read_to_string(at("a")).unwrap(), "one");
    pending.commit(file).unwrap();
    assert_eq!(fs::read_to_string(at("a")).unwrap(), "anew");

    let folder = PendingFolder::create(&at("folder")).unwrap();
    fs::write(folder.path().join("inside"), "x").unwrap();
    assert!(!at("folder").exists());
    folder.commit().unwrap();
    assert_eq!(names(&at("folder")), ["inside"]);
    drop(PendingFolder::create(&at("other")).unwrap());
    assert_eq!(names(dir.path()), ["a", "b", "d", "folder"]);
}

#[test]
fn a_source_that_changes_is_noticed_where_it_is_used() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("source");
    fs::write(&path, vec![1; 200_000]).unwrap();
    let source = Source::open(&path).unwrap();
    let content = Content::from_source(Arc::clone(&source));
    source.check_unchanged().unwrap();
    // Cut short: what is missing is never zeros.
    fs::OpenOptions::new().write(true).open(&path).unwrap().set_len(1000).unwrap();
    assert!(source.check_unchanged().is_err());
    let out = dir.path().join("out");
    let copied = (|| {
        let (_pending, mut output) = PendingFile::create_output(&out, IfThere::Refuse, None)?;
        output.write_content(&content, &Job::silent())?;
        output.finish()
    })();
    assert!(copied.is_err() && !out.exists());
    assert_eq!(names(dir.path()), ["source"]);
}

#[test]
fn what_the_system_refuses_is_never_taken_for_damage() {
    let io = || Error::io("read", Path::new("disk"))(std::io::Error::other("a bad sector"));
    let damage = || Error::bad_field("Header", "magic", 0, "this", "that");
    assert!(damage_apart::<()>(Err(io())).is_err());
    assert!(damage_apart::<()>(Err(io().within("a place"))).is_err());
    assert!(damage_apart::<()>(Err(damage())).unwrap().is_err());
    assert!(damage_apart(Ok(1)).unwrap().is_ok());
    assert_eq!((io().class(), damage().class()), (Class::Io, Class::Corrupt));
    assert_eq!(io().within("a").within("b").class(), Class::Io);
    let digested = Output::new(tempfile::tempfile().unwrap(), Path::new("out"), Some(DigestKind::Sha256));
    let mut digested = digested;
    digested.write_bytes(b"abc").unwrap();
    // What is digested already cannot be taken back.
    assert!(digested.patch(0, b"x").is_err() && digested.rewind(0).is_err());
    let (_, digest) = digested.finish().unwrap();
    assert_eq!(digest.unwrap(), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
}

//! Discs made for tests, and what must be true of every one.

use neat_content::{Content, Folder, IfThere, Job, Meta, NodeKind, PendingFile, Timestamp, Tree};
use neat_media::{
    VolumeIdentity,
    master::{Options, Plan},
};
use neat_testing::disc::{
    Disc, Seen,
    iso::{self, Which},
    udf,
};
use proptest::prelude::*;
use std::{collections::BTreeMap, path::Path, sync::Arc};

pub const TIME: Timestamp = Timestamp::from_seconds(1_700_000_000);

pub fn options() -> Options {
    let volume = VolumeIdentity {
        label: "TEST_DISC".into(),
        publisher: "NOBODY".into(),
        created: Some(TIME),
        modified: Some(TIME),
        ..VolumeIdentity::default()
    };
    Options { volume, time: TIME, ..Options::default() }
}

pub fn master(tree: &Tree, options: Options, path: &Path) -> Vec<String> {
    let job = Job::silent();
    let plan = Plan::new(&Arc::new(tree.clone()), options, &job).unwrap();
    let (pending, mut output) = PendingFile::create_output(path, IfThere::Replace, None).unwrap();
    plan.write(&mut output, &job).unwrap();
    assert_eq!(output.position(), plan.len());
    pending.commit(output.finish().unwrap().0).unwrap();
    plan.notes().to_vec()
}

/// Paths with content, times and targets: what must be the same after a round trip.
pub fn listing(tree: &Tree) -> BTreeMap<String, String> {
    let describe = |step: neat_content::Step| {
        let node = tree.node(step.id);
        let time = node.meta.modified.seconds;
        let what = match &node.kind {
            NodeKind::Folder(_) => format!("folder {time}"),
            NodeKind::Link(target) => format!("link {target}"),
            NodeKind::File(content) if content.len() > 1 << 22 => format!("{} bytes {time}", content.len()),
            NodeKind::File(content) => format!("{:?} {time}", content.to_vec(1 << 23, "file").unwrap()),
        };
        (step.path, what)
    };
    tree.walk().map(describe).collect()
}

pub fn add(tree: &mut Tree, path: &str, bytes: Vec<u8>, seconds: i64) {
    let meta = Meta::at(Timestamp::from_seconds(seconds));
    tree.put_file(path, Content::from_bytes(bytes), meta).unwrap();
}

/// Checks a disc with the second reading: rules of all formats, names and bytes of `tree`, one extent behind all
/// trees.
pub fn check_disc(path: &Path, tree: &Tree, joliet_intact: bool) {
    let disc = Disc::open(path);
    let udf = udf::walk(&disc).expect("a UDF volume");
    let joliet = iso::walk(&disc, Which::Joliet).expect("a Joliet tree");
    let primary = iso::walk(&disc, Which::Primary).expect("a primary tree");
    let wanted: Vec<String> = {
        let mut paths: Vec<_> = tree
            .walk()
            .filter(|s| !matches!(tree.node(s.id).kind, NodeKind::Link(_)))
            .map(|s| s.path)
            .collect();
        paths.sort();
        paths
    };
    let paths = |seen: &[Seen]| seen.iter().map(|e| e.path.clone()).collect::<Vec<_>>();
    assert_eq!(paths(&udf.entries), wanted, "names in UDF");
    if joliet_intact {
        assert_eq!(paths(&joliet.entries), wanted, "names in Joliet");
    }
    let strange = |seen: &[Seen]| {
        seen.iter().map(|e| e.path.clone()).filter(|path| !wanted.contains(path)).collect::<Vec<_>>()
    };
    assert_eq!(
        (primary.entries.len(), joliet.entries.len()),
        (wanted.len(), wanted.len()),
        "other names in Joliet: {:?}; wanted {wanted:?}",
        strange(&joliet.entries)
    );
    assert_eq!(
        (udf.label.as_str(), primary.label.as_str(), joliet.label.as_str()),
        ("TEST_DISC", "TEST_DISC", "TEST_DISC")
    );
    assert_eq!(primary.sectors * 2048, disc.len);
    for entry in &udf.entries {
        let node = tree.node(tree.find(&entry.path).unwrap());
        assert_eq!(entry.modified, node.meta.modified.seconds, "time of {}", entry.path);
        if let Some(content) = node.content().filter(|content| content.len() < 1 << 23) {
            assert!(
                entry.bytes(&disc) == content.to_vec(1 << 23, "file").unwrap(),
                "bytes of {}",
                entry.path
            );
        }
    }
    // UDF and ISO 9660 cut long files at different lengths, so starts and lengths are compared.
    let starts = |seen: &[Seen]| {
        let mut s: Vec<_> =
            seen.iter().filter(|e| !e.is_folder && e.len() > 0).map(|e| (e.extents[0].0, e.len())).collect();
        s.sort_unstable();
        s
    };
    assert_eq!(starts(&udf.entries), starts(&joliet.entries));
    assert_eq!(starts(&udf.entries), starts(&primary.entries));
}

pub fn name() -> impl Strategy<Value = String> {
    let part = prop_oneof![
        "[a-zA-Z0-9_ .-]{1,12}",
        "[ÄÖÜäöüßéñ]{1,8}",
        "[航海路図船]{1,8}",
        "[🚢⛴⚓🛟]{1,5}",
        "[a-z]{60,70}\\.[a-z]{3}",
        "[*:;?\\\\\"<>|]{1,4}",
        "[A-Z]{1,3}~[0-9]",
    ];
    (
        part,
        prop_oneof![
            Just(String::new()),
            Just(".txt".into()),
            Just(".".into()),
            Just(";1".into()),
            Just(".tar.gz".into())
        ],
    )
        .prop_map(|(a, b)| format!("{a}{b}"))
        .prop_filter("a name", |name| neat_content::check_name(name).is_ok())
}

pub fn file_len() -> impl Strategy<Value = usize> {
    prop_oneof![Just(0), Just(1), Just(2047), Just(2048), Just(2049), 0_usize..9000]
}

pub fn any_tree() -> impl Strategy<Value = Tree> {
    let entry = (proptest::collection::vec(name(), 1..5), file_len(), 0_i64..4_000_000_000, any::<u8>());
    proptest::collection::vec(entry, 0..40).prop_map(|entries| {
        let mut tree = Tree::new(Meta::at(TIME));
        for (parts, len, seconds, fill) in entries {
            let meta = Meta::at(Timestamp::from_seconds(seconds));
            let mut at = Tree::ROOT;
            let (last, folders) = parts.split_last().unwrap();
            for folder in folders {
                at = match tree.child(at, folder) {
                    Some(id) => id,
                    None => tree.add(at, folder, meta, NodeKind::Folder(Folder::default())).unwrap(),
                };
                if tree.node(at).folder().is_none() {
                    break;
                }
            }
            if tree.node(at).folder().is_some() && tree.child(at, last).is_none() {
                tree.add(at, last, meta, NodeKind::File(Content::from_bytes(vec![fill; len]))).unwrap();
            }
        }
        tree
    })
}

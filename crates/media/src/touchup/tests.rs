//! A touch-up stopped at every write, and with every byte of a write missing.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use super::*;
use crate::master::{Options, Plan};
use neat_content::{Error, IfThere, Meta, PendingFile, Source, Tree};
use std::{collections::BTreeMap, fs};

/// A store that lets so many operations through and fails from then on, as a machine does that stops.
struct Failing {
    inner: FileStore,
    left: usize,
    /// Bytes of the write that fails which still get through.
    torn: usize,
}

impl Failing {
    fn step(&mut self) -> Result<()> {
        if self.left == 0 {
            return Err(Error::refused("the machine stopped", "start it again"));
        }
        self.left -= 1;
        Ok(())
    }
}

impl commit::Store for Failing {
    fn write_at(&mut self, offset: u64, bytes: &[u8]) -> Result<()> {
        if self.left == 0 && self.torn > 0 {
            let len = std::mem::take(&mut self.torn).min(bytes.len());
            self.inner.write_at(offset, &bytes[..len])?;
        }
        self.step()?;
        self.inner.write_at(offset, bytes)
    }
    fn set_len(&mut self, len: u64) -> Result<()> {
        self.step()?;
        self.inner.set_len(len)
    }
    fn sync(&mut self) -> Result<()> {
        self.step()?;
        self.inner.sync()
    }
}

fn disc(path: &Path, files: usize) {
    let mut tree = Tree::new(Meta::at(Timestamp::from_seconds(1)));
    for number in 0..files {
        let content = Content::from_bytes(format!("{number}").repeat(900).into_bytes());
        let name = format!("sources/a file with a long name {number}.dat");
        tree.put_file(&name, content, Meta::at(Timestamp::from_seconds(1))).unwrap();
    }
    let plan = Plan::new(&Arc::new(tree), Options { rock_ridge: true, ..Options::default() }, &Job::silent())
        .unwrap();
    let (pending, mut output) = PendingFile::create_output(path, IfThere::Replace, None).unwrap();
    plan.write(&mut output, &Job::silent()).unwrap();
    pending.commit(output.finish().unwrap().0).unwrap();
}

/// What each tree of a disc shows: names with the first byte and length of their contents.
fn trees(path: &Path) -> Vec<BTreeMap<String, (u64, u64)>> {
    let source = Source::open(path).unwrap();
    let descriptors = crate::iso9660::read::read_descriptors(&source).unwrap();
    let mut trees = vec![crate::udf::read::read(&source, &crate::Limits::default()).unwrap().tree];
    for (descriptor, kind) in
        [(descriptors.primary, TreeKind::Iso9660), (descriptors.joliet, TreeKind::Joliet)]
    {
        trees.push(
            crate::iso9660::read::read_tree(&source, &descriptor.unwrap(), kind, &crate::Limits::default())
                .unwrap()
                .tree,
        );
    }
    let listing = |tree: &Tree| {
        let files = tree.walk().filter_map(|step| {
            let content = tree.node(step.id).content()?;
            Some((step.path, (content.offset_in(&source).unwrap_or(0), content.len())))
        });
        files.collect()
    };
    trees.iter().map(listing).collect()
}

fn actions() -> Vec<Action> {
    let put = |path: &str| Action::Put {
        content: Content::from_bytes(vec![5; 9000]),
        modified: Timestamp::from_seconds(2),
        path: path.into(),
    };
    vec![
        put("sources/an answer.xml"),
        put("sources/a file with a long name 7.dat"),
        put("new/folder/file"),
        Action::Hide { path: "sources/a file with a long name 100.dat".into() },
    ]
}

fn undo(path: &Path) -> Result<History> {
    Disc::open(path)?.undo(None)
}

fn store(path: &Path) -> FileStore {
    FileStore { file: File::options().read(true).write(true).open(path).unwrap(), path: path.into() }
}

#[test]
fn stopped_at_any_write_a_disc_is_the_old_or_the_new_one() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    disc(&path, 200);
    let (old_bytes, old) = (fs::read(&path).unwrap(), trees(&path));
    Disc::open(&path).unwrap().apply(actions(), Timestamp::default(), &Job::silent()).unwrap();
    let (new_bytes, new) = (fs::read(&path).unwrap(), trees(&path));
    assert_ne!(old, new);
    let (mut finished, mut settled) = (false, 0);
    for left in 0.. {
        for torn in [0, 1, 700, 4096] {
            fs::write(&path, &old_bytes).unwrap();
            let source = Source::open(&path).unwrap();
            let mut failing = Failing { inner: store(&path), left, torn };
            let result = apply_to(&source, &mut failing, actions(), Timestamp::default(), &Job::silent());
            finished = result.is_ok();
            let now = trees(&path);
            if torn == 0 {
                assert!(
                    now == old || now == new,
                    "every tree is old, or every tree is new, after {left} writes"
                );
            }
            // The next run takes back what was not finished, to the last byte.
            let was_cut_off = is_unfinished(&Source::open(&path).unwrap()).unwrap();
            settled += usize::from(was_cut_off);
            let next = Disc::open(&path).unwrap();
            assert_eq!(next.settled, was_cut_off);
            let bytes = fs::read(&path).unwrap();
            if finished {
                assert!(bytes == new_bytes);
            } else if was_cut_off {
                assert!(bytes == old_bytes, "the old bytes after {left} writes and {torn} bytes");
            } else {
                // Cut off before the first sector was whole, or only the last sync is missing.
                let now = trees(&path);
                assert!(now == old || bytes == new_bytes, "after {left} writes and {torn} bytes");
            }
        }
        if finished {
            assert!(left >= 8, "there are so many writes");
            break;
        }
    }
    assert!(settled > 10);
}

#[test]
fn directories_far_behind_the_descriptors_change_over_with_all_other_trees() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    disc(&path, 2500);
    let source = Source::open(&path).unwrap();
    let descriptors = crate::iso9660::read::read_descriptors(&source).unwrap();
    let far = descriptors.primary.unwrap().root.location.little.get();
    assert!(u64::from(far) * SECTOR > 1 << 20, "sector {far}");
    let (old_bytes, old) = (fs::read(&path).unwrap(), trees(&path));
    // One that fits beside the others in its sector.
    let hide = || vec![Action::Hide { path: "sources/a file with a long name 100.dat".into() }];
    let mut seen = [false; 2];
    for left in 0.. {
        fs::write(&path, &old_bytes).unwrap();
        let mut failing = Failing { inner: store(&path), left, torn: 0 };
        let source = Source::open(&path).unwrap();
        let finished = apply_to(&source, &mut failing, hide(), Timestamp::default(), &Job::silent()).is_ok();
        let now = trees(&path);
        let is_old = now == old;
        seen[usize::from(is_old)] = true;
        assert!(is_old || now.iter().all(|tree| tree.len() == old[0].len() - 1), "after {left} writes");
        if finished {
            break;
        }
    }
    assert_eq!(seen, [true; 2]);
    undo(&path).unwrap();
    assert!(fs::read(&path).unwrap() == old_bytes);
}

#[test]
fn stopped_while_taking_back_the_next_run_finishes() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    disc(&path, 200);
    let old_bytes = fs::read(&path).unwrap();
    Disc::open(&path).unwrap().apply(actions(), Timestamp::default(), &Job::silent()).unwrap();
    let new_bytes = fs::read(&path).unwrap();
    for left in 0.. {
        fs::write(&path, &new_bytes).unwrap();
        let source = Source::open(&path).unwrap();
        let (trailer, record) = journal::chain(&source).unwrap().remove(0);
        let mut failing = Failing { inner: store(&path), left, torn: 0 };
        let finished = commit::take_back(&source, &trailer, &record.regions, &mut failing).is_ok();
        let cut_off = is_unfinished(&Source::open(&path).unwrap()).unwrap();
        drop(Disc::open(&path).unwrap());
        let bytes = fs::read(&path).unwrap();
        assert!(bytes == if finished || cut_off || left > 0 { &old_bytes } else { &new_bytes }[..]);
        if finished {
            break;
        }
    }
}

#[test]
fn a_record_that_lies_is_refused() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.iso");
    disc(&path, 200);
    Disc::open(&path).unwrap().apply(actions(), Timestamp::default(), &Job::silent()).unwrap();
    let bytes = fs::read(&path).unwrap();
    let trailer = journal::Trailer::read(&bytes, bytes.len() as u64).unwrap().unwrap();
    let rewrite = |trailer: &journal::Trailer| {
        let mut bytes = bytes.clone();
        let at = bytes.len() - SECTOR as usize;
        trailer.put_into(&mut bytes[at..]);
        fs::write(&path, &bytes).unwrap();
        (list(&path), undo(&path))
    };
    let long = bytes.len() as u64;
    for wrong in [
        journal::Trailer { old_len: long, ..trailer.clone() },
        journal::Trailer { old_len: u64::MAX, ..trailer.clone() },
        journal::Trailer { record_at: u64::MAX - 5, ..trailer.clone() },
        journal::Trailer { record_len: long, ..trailer.clone() },
        journal::Trailer { record_at: trailer.record_at + 1, ..trailer.clone() },
        // A former end in the middle of the record.
        journal::Trailer { old_len: 4096, ..trailer.clone() },
    ] {
        let (listed, undone) = rewrite(&wrong);
        assert!(listed.is_err() && undone.is_err(), "{wrong:?}");
    }
    // One changed bit of the record.
    let mut bytes = bytes.clone();
    bytes[trailer.record_at as usize + 40] ^= 1;
    fs::write(&path, &bytes).unwrap();
    assert!(list(&path).is_err() && undo(&path).is_err());
    assert!(fs::read(&path).unwrap() == bytes, "nothing was taken back by a record that is not whole");
}

//! Content that is written before its digest is known.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "tests say what they expect by failing"
)]

use neat_content::{Clip, Content, Error, IfThere, Job, PendingFile, Producer, Result};
use neat_image::{
    BlobDigest, Compression, Entry, Files, ImageDraft, ImageFile, Level, Method, Outcomes, Times, Unread,
    capture::image_element, check,
};
use neat_testing::image::container::walk;
use std::{ops::Range, path::Path, sync::Arc};

const LZX: Compression = Compression { method: Method::Lzx, chunk_len: 32768, level: Level::Fast };

/// Bytes that cannot be compressed.
fn noise(len: usize, mut seed: u64) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(len);
    while bytes.len() < len {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        bytes.push(seed as u8);
    }
    bytes
}

fn text(len: usize, word: &str) -> Vec<u8> {
    word.bytes().cycle().take(len).collect()
}

/// Content whose end cannot be read.
struct Broken(u64);

impl Producer for Broken {
    fn len(&self) -> u64 {
        self.0
    }
    fn produce(
        &self,
        range: Range<u64>,
        _job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        Clip::new(range).push(&text(self.0 as usize / 2, "half "), each)?;
        Err(Error::bad_field("Unit", "data", 0x77, "sound data", "noise"))
    }
}

/// Writes the contents, named by number, as an edition behind those of `old`.
fn write(
    path: &Path,
    contents: &[Content],
    compression: Option<Compression>,
    old: Option<&ImageFile>,
    (threads, passes_damage): (usize, bool),
) -> Result<Vec<usize>> {
    let mut draft = old.map_or_else(|| ImageDraft::new(compression), ImageDraft::of);
    let (pending, mut output) = PendingFile::create_output(path, IfThere::Replace, None)?;
    let mut damaged = Vec::new();
    let name = |n: usize| format!("file {n}");
    let (content, source) = (|n: usize| contents[n].clone(), Content::default());
    let unread =
        Unread { count: contents.len(), content: &content, source: &source, name: &name, passes_damage };
    let number = draft.editions().len() + 1;
    draft.write_unread(&unread, &mut output, threads, &Job::silent(), &mut |draft, outcomes: Outcomes| {
        let mut files = Files::new(Times::default());
        for (n, digest) in outcomes.digests.into_iter().enumerate() {
            let Some(digest) = digest else { continue };
            files.add(Files::ROOT, Entry::file(format!("{n:04}").as_str(), 0, Times::default(), digest))?;
        }
        for (n, error) in outcomes.damaged {
            assert!(error.to_string().contains(&format!("file {n}")), "{error}");
            damaged.push(n);
        }
        draft.add_edition(files, image_element(&format!("edition {number}"), "", 5))
    })?;
    pending.commit(output.finish()?.0)?;
    Ok(damaged)
}

fn contents() -> Vec<Vec<u8>> {
    vec![
        text(100_000, "all aboard "),
        noise(100_000, 3),
        text(10, "short"),
        // One that shrinks in a part alone.
        [noise(40_000, 5), text(40_000, "ferry ")].concat(),
        text(100_000, "all aboard "),
        noise(32_768, 9),
        vec![7],
        noise(300_000, 11),
        text(32_768 * 3, "x"),
        noise(100_000, 3),
    ]
}

/// What another reader finds in the file: the content of each name of the last edition. It compares all digests and
/// counts of references by itself.
fn second_reading(path: &Path) -> Vec<Vec<u8>> {
    let walked = walk(&std::fs::read(path).unwrap());
    walked.editions.into_iter().next_back().unwrap().into_values().map(|found| found.content).collect()
}

#[test]
fn content_is_stored_once_and_another_reader_finds_it() {
    let dir = tempfile::tempdir().unwrap();
    let all: Vec<Content> = contents().into_iter().map(Content::from_bytes).collect();
    for compression in [None, Some(LZX), Some(Compression { method: Method::Xpress, ..LZX })] {
        let path = dir.path().join("one.wim");
        write(&path, &all, compression, None, (0, false)).unwrap();
        assert!(second_reading(&path) == contents(), "{compression:?}");
        let image = neat_image::open_path(&path).unwrap();
        assert!(check(&image, 0, &Job::silent()).unwrap().damage.is_empty());
        assert_eq!(image.blob_count(), 8);
        let once = std::fs::read(&path).unwrap();
        write(&path, &all, compression, None, (1, false)).unwrap();
        assert!(std::fs::read(&path).unwrap() == once, "threads change the bytes");
    }
}

#[test]
fn what_other_editions_have_is_not_stored_again() {
    let dir = tempfile::tempdir().unwrap();
    let (one, two) = (dir.path().join("one.wim"), dir.path().join("two.wim"));
    let all: Vec<Content> = contents().into_iter().map(Content::from_bytes).collect();
    write(&one, &all, Some(LZX), None, (0, false)).unwrap();
    let old = neat_image::open_path(&one).unwrap();
    let more: Vec<Content> = all.iter().cloned().chain([Content::from_bytes(noise(5000, 77))]).collect();
    write(&two, &more, None, Some(&old), (0, false)).unwrap();
    assert!(second_reading(&two)[..10] == contents());
    let image = neat_image::open_path(&two).unwrap();
    assert_eq!((image.editions().len(), image.blob_count()), (2, 9));
    assert!(check(&image, 0, &Job::silent()).unwrap().damage.is_empty());
    let files = image.files(2).unwrap();
    assert_eq!(files.entry(files.find("0010").unwrap()).digest, BlobDigest::of(&noise(5000, 77)));
}

#[test]
fn what_is_damaged_ends_everything_or_is_passed_over() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("one.wim");
    let mut all: Vec<Content> = contents().into_iter().map(Content::from_bytes).collect();
    all.insert(2, Content::deferred(Arc::new(Broken(200_000))));
    all.push(Content::deferred(Arc::new(Broken(9))));
    let error = write(&path, &all, Some(LZX), None, (0, false)).unwrap_err().to_string();
    assert!(error.contains("file 2") && error.contains("0x77"), "{error}");
    assert!(!path.exists());
    for compression in [None, Some(LZX)] {
        let damaged = write(&path, &all, compression, None, (0, true)).unwrap();
        assert_eq!(damaged, [2, 11]);
        let image = neat_image::open_path(&path).unwrap();
        assert!(check(&image, 0, &Job::silent()).unwrap().damage.is_empty());
        assert_eq!((image.blob_count(), image.files(1).unwrap().len()), (8, 11));
    }
}

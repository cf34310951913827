//! Content that is written before its digest is known, so that it is read once.

use crate::{
    BlobDigest, Compression,
    pack::{Packed, RawBlob, pack},
    part_write::{OpenResource, Placed},
    sink::Sink,
};
use neat_content::{Content, Error, Event, Job, Result};
use std::{
    collections::HashMap,
    sync::{Mutex, OnceLock, PoisonError},
};

/// Content of which nobody knows the digests yet.
pub struct Unread<'a> {
    /// How many there are.
    pub count: usize,
    /// Each, by its place in the order in which they are read; none of them is empty. It is asked for more than once.
    pub content: &'a (dyn Fn(usize) -> Content + Sync),
    /// What they all come from.
    pub source: &'a Content,
    /// What each is called in errors, by its place.
    pub name: &'a (dyn Fn(usize) -> String + Sync),
    /// Whether what is damaged is passed over and told, instead of ending everything.
    pub passes_damage: bool,
}

/// What came of the contents.
pub struct Outcomes {
    /// The digest of each; nothing of what could not be read.
    pub digests: Vec<Option<BlobDigest>>,
    /// What could not be read, by its place, and why.
    pub damaged: Vec<(usize, Error)>,
}

struct Blob<'a> {
    all: &'a Unread<'a>,
    number: usize,
    found: OnceLock<BlobDigest>,
    damage: &'a Mutex<HashMap<usize, Error>>,
}

impl Blob<'_> {
    fn content(&self) -> Content {
        (self.all.content)(self.number)
    }

    fn is_damaged(&self) -> bool {
        self.damage.lock().unwrap_or_else(PoisonError::into_inner).contains_key(&self.number)
    }
}

impl RawBlob for Blob<'_> {
    fn len(&self) -> u64 {
        self.content().len()
    }
    fn is_digested(&self) -> bool {
        true
    }
    fn digested(&self, found: BlobDigest) -> Result<()> {
        let _first = self.found.set(found);
        Ok(())
    }
    fn failed(&self, error: Error) -> Result<()> {
        use neat_content::Class;
        let is_damage = !matches!(error.class(), Class::Io | Class::Cancelled | Class::Internal);
        if !self.all.passes_damage || !is_damage {
            return Err(error);
        }
        self.damage.lock().unwrap_or_else(PoisonError::into_inner).insert(self.number, error);
        Ok(())
    }
    fn read(&self, job: &Job<'_>, each: &mut dyn FnMut(&[u8]) -> Result<()>) -> Result<()> {
        self.content().for_each_block(256 << 10, job, each)
    }
    fn name(&self) -> String {
        (self.all.name)(self.number)
    }
}

/// What was written: each digest once, where it is and how long it was. Sorted by digest, in half the room of a map.
#[derive(Clone, Default)]
pub(crate) struct Written(Vec<(BlobDigest, (Placed, u64))>);

impl Written {
    fn of(map: HashMap<BlobDigest, (Placed, u64)>) -> Self {
        let mut sorted = Vec::with_capacity(map.len());
        sorted.extend(map);
        sorted.sort_unstable_by_key(|(digest, _)| *digest);
        Self(sorted)
    }

    /// Where the content with this digest is, and its length.
    pub(crate) fn get(&self, digest: BlobDigest) -> Option<(Placed, u64)> {
        let found = self.0.binary_search_by_key(&digest, |(digest, _)| *digest).ok()?;
        Some(self.0[found].1)
    }
}

/// Writes the contents one after another. What is there already, as `is_known` says or because an earlier one was the
/// same, is taken back.
pub(crate) fn write_unread(
    unread: &Unread<'_>,
    compression: Option<Compression>,
    threads: usize,
    is_known: &dyn Fn(BlobDigest) -> bool,
    sink: &mut dyn Sink,
    job: &Job<'_>,
) -> Result<(Outcomes, Written)> {
    let damage = Mutex::default();
    let blobs: Vec<Blob<'_>> = (0..unread.count)
        .map(|number| Blob { all: unread, number, found: OnceLock::new(), damage: &damage })
        .collect();
    let total = blobs.iter().map(RawBlob::len).sum();
    let step = if compression.is_some() { "reading and compressing" } else { "reading and writing" };
    job.event(Event::StepStarted { step, total_bytes: Some(total) });
    let mut written: HashMap<BlobDigest, (Placed, u64)> = HashMap::new();
    let mut current: Option<OpenResource> = None;
    let mut number = 0;
    let chunk_len = compression.map_or(u32::MAX, |compression| compression.chunk_len);
    let all: Vec<&dyn RawBlob> = blobs.iter().map(|blob| blob as &dyn RawBlob).collect();
    pack(&all, compression, (threads, 4), job, &mut |packed| match packed {
        Packed::Chunk(bytes, raw_len) => {
            let open = match &mut current {
                Some(open) => open,
                None => current.insert(OpenResource::start(blobs[number].len(), chunk_len, sink)?),
            };
            job.event(Event::BytesDone(raw_len as u64));
            open.chunk(bytes, raw_len, sink)
        }
        Packed::End(ended) => {
            number = ended + 1;
            let Some(open) = current.take().filter(|open| !open.is_empty()) else { return Ok(()) };
            let blob = &blobs[ended];
            let digest = blob.found.get().copied().unwrap_or_default();
            if blob.is_damaged() || is_known(digest) || written.contains_key(&digest) {
                return sink.rewind(open.begin());
            }
            let raw_len = blob.len();
            let placed = match open.stored(raw_len, sink.position()) {
                Some(placed) => placed,
                None => open.end(raw_len, &|| blob.name(), sink, &mut |sink| {
                    blob.read(job, &mut |bytes| sink.bytes(bytes))
                })?,
            };
            written.insert(digest, (placed, raw_len));
            Ok(())
        }
    })?;
    job.event(Event::StepFinished);
    drop(all);
    let mut digests: Vec<Option<BlobDigest>> =
        blobs.into_iter().map(|blob| blob.found.into_inner()).collect();
    let damage = damage.into_inner().unwrap_or_else(PoisonError::into_inner);
    let mut damaged: Vec<(usize, Error)> = damage.into_iter().collect();
    damaged.sort_unstable_by_key(|(n, _)| *n);
    damaged.iter().for_each(|(n, _)| digests[*n] = None);
    if digests.iter().filter(|own| own.is_none()).count() != damaged.len() {
        return Err(Error::internal("content was written and not digested"));
    }
    Ok((Outcomes { digests, damaged }, Written::of(written)))
}

//! Compressing blobs on all cores, in order and with bounded memory.

use crate::{
    BlobDigest, Method,
    codec::{Level, lzms, lzx, xpress},
    digest::BlobHasher,
    threads::{thread_count, thread_failed},
};
use neat_content::{Error, Job, Result};
use std::{
    collections::BTreeMap,
    sync::{
        Arc, Condvar, Mutex, PoisonError,
        mpsc::{Receiver, Sender, SyncSender, channel, sync_channel},
    },
};

/// How new blobs are compressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Compression {
    /// The method.
    pub method: Method,
    /// Bytes of a chunk before compression.
    pub chunk_len: u32,
    /// How hard the encoder tries.
    pub level: Level,
}

impl Compression {
    /// Checks the length of a chunk.
    ///
    /// # Errors
    /// `BadRequest` when it is none that the method has.
    pub fn check(self) -> Result<()> {
        let (least, most) = self.method.chunk_range();
        if self.chunk_len.is_power_of_two() && (least..=most).contains(&self.chunk_len) {
            return Ok(());
        }
        Err(Error::request(
            format!("{} bytes is no chunk size for {}", self.chunk_len, self.method.name()),
            format!("use a power of two from {} KiB to {} KiB", least >> 10, most >> 10),
        ))
    }
}

/// An encoder of any method.
enum Encoder {
    Xpress(Box<xpress::Encoder>),
    Lzx(Box<lzx::Encoder>),
    Lzms(Box<lzms::Encoder>),
    /// Nothing is compressed.
    Store,
}

impl Encoder {
    /// For chunks of which none is longer than `longest`.
    fn new(compression: Option<Compression>, longest: usize) -> Self {
        let Some(compression) = compression else { return Self::Store };
        let (chunk_len, level) = (compression.chunk_len as usize, compression.level);
        match compression.method {
            Method::Xpress => Self::Xpress(Box::new(xpress::Encoder::new(chunk_len, level))),
            Method::Lzx => Self::Lzx(Box::new(lzx::Encoder::new(chunk_len, level))),
            // It alone takes memory by the chunk, and its chunks are large.
            Method::Lzms => Self::Lzms(Box::new(lzms::Encoder::new(longest, level))),
        }
    }

    fn encode(&mut self, raw: &[u8], packed: &mut [u8]) -> Option<usize> {
        match self {
            Self::Xpress(encoder) => encoder.encode(raw, packed),
            Self::Lzx(encoder) => encoder.encode(raw, packed),
            Self::Lzms(encoder) => encoder.encode(raw, packed),
            Self::Store => None,
        }
    }
}

/// A blob to be compressed, or several that are compressed as one.
pub(crate) trait RawBlob: Sync {
    /// Bytes before compression.
    fn len(&self) -> u64;
    /// Whether its digest is wanted; not where `read` compares it.
    fn is_digested(&self) -> bool;
    /// Takes the digest of its bytes; fails if it must be another.
    fn digested(&self, found: BlobDigest) -> Result<()>;
    /// Takes that reading it failed; fails with the error where that is the end of everything.
    fn failed(&self, error: Error) -> Result<()> {
        Err(error)
    }
    /// Calls `each` with its bytes in order.
    fn read(&self, job: &Job<'_>, each: &mut dyn FnMut(&[u8]) -> Result<()>) -> Result<()>;
    /// What it is called in errors.
    fn name(&self) -> String;
}

/// What comes out, in order.
pub(crate) enum Packed<'a> {
    /// The next chunk of the blob: its bytes for the file and its length before.
    Chunk(&'a [u8], usize),
    /// The blob with this number is complete.
    End(usize),
}

/// The digest of a blob whose chunks are on their way. Each worker adds its chunk when those before are in.
struct Digesting<'a> {
    blob: &'a dyn RawBlob,
    state: Mutex<(u64, BlobHasher)>,
    turn: Condvar,
}

impl<'a> Digesting<'a> {
    fn of(blob: &'a dyn RawBlob) -> Option<Arc<Self>> {
        let state = Mutex::new((0, BlobHasher::default()));
        blob.is_digested().then(|| Arc::new(Self { blob, state, turn: Condvar::new() }))
    }

    /// Adds chunk `number`, after those before it. They went to workers earlier, and a worker does this first of all, so
    /// nobody waits for one that waits. After the last chunk, the blob gets its digest.
    fn add(&self, number: u64, bytes: &[u8], is_last: bool) -> Result<()> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        while state.0 != number {
            state = self.turn.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
        state.1.add(bytes);
        state.0 += 1;
        let found = is_last.then(|| std::mem::take(&mut state.1).finish());
        drop(state);
        self.turn.notify_all();
        found
            .map_or(Ok(()), |found| self.blob.digested(found))
            .map_err(|error| error.within(self.blob.name()))
    }
}

/// One chunk on its way.
struct Chunk<'a> {
    sequence: u64,
    /// The digest that it belongs to, and its number there.
    digesting: Option<(Arc<Digesting<'a>>, u64)>,
    raw: Vec<u8>,
    packed: Vec<u8>,
    /// Bytes of `packed` that count; nothing if the chunk does not shrink.
    packed_len: Option<usize>,
    /// The blob that ends with this chunk.
    ends: Option<usize>,
}

/// Bytes that are handed on at once where nothing is compressed.
const STORED_AT_ONCE: usize = 256 << 10;

/// Compresses `blobs`, or only reads and digests them, and hands everything to `sink` on this thread. With any number of threads the same bytes come
/// out. Each thread holds `ahead` chunks at most.
pub(crate) fn pack<'a>(
    blobs: &[&'a dyn RawBlob],
    compression: Option<Compression>,
    (threads, ahead): (usize, usize),
    job: &Job<'_>,
    sink: &mut dyn FnMut(Packed<'_>) -> Result<()>,
) -> Result<()> {
    compression.map_or(Ok(()), Compression::check)?;
    let threads = thread_count(threads);
    let chunk_len = compression.map_or(STORED_AT_ONCE, |compression| compression.chunk_len as usize);
    let longest = blobs.iter().map(|blob| blob.len()).max().unwrap_or(0).min(chunk_len as u64) as usize;
    // Each chunk on its way needs a buffer, and there are only so many.
    let buffers = threads * ahead + 1;
    let (give_back, free) = channel::<Chunk<'a>>();
    for _ in 0..buffers {
        let chunk = Chunk {
            sequence: 0,
            digesting: None,
            raw: Vec::new(),
            packed: Vec::new(),
            packed_len: None,
            ends: None,
        };
        give_back.send(chunk).map_err(|_| thread_failed())?;
    }
    let (to_work, work) = sync_channel::<Chunk<'a>>(buffers);
    let (to_write, done) = channel::<Result<Chunk<'a>>>();
    let work = Mutex::new(work);
    std::thread::scope(|scope| {
        for _ in 0..threads {
            let (work, to_write) = (&work, to_write.clone());
            scope.spawn(move || compress(Encoder::new(compression, longest), work, &to_write));
        }
        scope.spawn(move || {
            if let Err(error) = read_all(blobs, chunk_len, job, &free, &to_work) {
                // The writer has gone when this fails, and then it has an error of its own.
                let _ = to_write.send(Err(error));
            }
        });
        // Receivers and senders that end here let the other threads end.
        write_all(done, give_back, sink)
    })
}

/// Cuts the blobs into chunks. This one thread only reads; digests are the workers' business.
fn read_all<'a>(
    blobs: &[&'a dyn RawBlob],
    chunk_len: usize,
    job: &Job<'_>,
    free: &Receiver<Chunk<'a>>,
    to_work: &SyncSender<Chunk<'a>>,
) -> Result<()> {
    let gone = || Error::Cancelled;
    let mut sequence = 0;
    for (number, blob) in blobs.iter().enumerate() {
        job.check()?;
        let digesting = Digesting::of(*blob);
        let mut own = 0;
        let mut fresh = || -> Result<Chunk<'a>> {
            let mut chunk = free.recv().map_err(|_| gone())?;
            chunk.raw.clear();
            chunk.ends = None;
            chunk.sequence = sequence;
            chunk.digesting = digesting.as_ref().map(|digesting| (Arc::clone(digesting), own));
            sequence += 1;
            own += 1;
            Ok(chunk)
        };
        let mut chunk = fresh()?;
        let result = blob.read(job, &mut |mut bytes| {
            while !bytes.is_empty() {
                if chunk.raw.len() == chunk_len {
                    let full = std::mem::replace(&mut chunk, fresh()?);
                    to_work.send(full).map_err(|_| gone())?;
                }
                let (now, later) = bytes.split_at(bytes.len().min(chunk_len - chunk.raw.len()));
                chunk.raw.extend_from_slice(now);
                bytes = later;
            }
            Ok(())
        });
        if let Err(error) = result {
            blob.failed(error.within(blob.name()))?;
        }
        chunk.ends = Some(number);
        to_work.send(chunk).map_err(|_| gone())?;
    }
    Ok(())
}

fn compress<'a>(
    mut encoder: Encoder,
    work: &Mutex<Receiver<Chunk<'a>>>,
    to_write: &Sender<Result<Chunk<'a>>>,
) {
    loop {
        // The lock is held while waiting: whoever has it gets the next chunk.
        let next = work.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(mut chunk) = next else { return };
        let digested = match chunk.digesting.take() {
            Some((digesting, number)) => digesting.add(number, &chunk.raw, chunk.ends.is_some()),
            None => Ok(()),
        };
        let result = digested.map(|()| {
            // A chunk that does not shrink is stored as it is.
            let room = if matches!(encoder, Encoder::Store) { 0 } else { chunk.raw.len().saturating_sub(1) };
            chunk.packed.resize(room, 0);
            chunk.packed_len = encoder.encode(&chunk.raw, &mut chunk.packed);
            chunk
        });
        if to_write.send(result).is_err() {
            return;
        }
    }
}

#[expect(clippy::needless_pass_by_value, reason = "when it returns, nobody is to wait for buffers any more")]
fn write_all<'a>(
    done: Receiver<Result<Chunk<'a>>>,
    give_back: Sender<Chunk<'a>>,
    sink: &mut dyn FnMut(Packed<'_>) -> Result<()>,
) -> Result<()> {
    let mut next = 0;
    let mut early: BTreeMap<u64, Chunk<'a>> = BTreeMap::new();
    for chunk in done {
        let chunk = chunk?;
        early.insert(chunk.sequence, chunk);
        while let Some(chunk) = early.remove(&next) {
            next += 1;
            let bytes = chunk.packed_len.map_or(chunk.raw.as_slice(), |len| &chunk.packed[..len]);
            if !chunk.raw.is_empty() {
                sink(Packed::Chunk(bytes, chunk.raw.len()))?;
            }
            if let Some(number) = chunk.ends {
                sink(Packed::End(number))?;
            }
            // Nobody takes buffers any more when all is read.
            let _ = give_back.send(chunk);
        }
    }
    Ok(())
}

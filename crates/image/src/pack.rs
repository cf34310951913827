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

/// What a chunk is digested for.
#[derive(Default)]
enum Digested<'a> {
    /// Nothing.
    #[default]
    Not,
    /// It is all of this blob.
    Whole(&'a dyn RawBlob),
    /// It is the chunk of this number of a blob.
    Part(Arc<Digesting<'a>>, u64),
}

/// One chunk on its way.
#[derive(Default)]
struct Chunk<'a> {
    digested: Digested<'a>,
    raw: Vec<u8>,
    packed: Vec<u8>,
    /// Bytes of `packed` that count; nothing if the chunk does not shrink.
    packed_len: Option<usize>,
    /// The blob that ends with this chunk.
    ends: Option<usize>,
}

impl Chunk<'_> {
    /// Digests its bytes, for whom it is wanted.
    fn digest(&mut self) -> Result<()> {
        match std::mem::take(&mut self.digested) {
            Digested::Not => Ok(()),
            Digested::Whole(blob) => {
                let found = BlobDigest::of(&self.raw);
                blob.digested(found).map_err(|error| error.within(blob.name()))
            }
            Digested::Part(digesting, number) => digesting.add(number, &self.raw, self.ends.is_some()),
        }
    }
}

/// Chunks that go from thread to thread together: one, or several small blobs. Handing each of them on by itself took as
/// long as everything else (500,000 files of 3 KB).
struct Batch<'a> {
    sequence: u64,
    /// Those from `used` on are only there for their buffers.
    chunks: Vec<Chunk<'a>>,
    used: usize,
}

/// Longest blob that shares a batch, in bytes: the buffers of all chunks but the first never hold more.
const SMALL: usize = 16 << 10;
/// Most chunks of a batch.
const MOST_TOGETHER: usize = 64;
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
    // Each batch on its way needs buffers, and there are only so many.
    let buffers = threads * ahead + 1;
    let (give_back, free) = channel::<Batch<'a>>();
    for _ in 0..buffers {
        let batch = Batch { sequence: 0, chunks: Vec::new(), used: 0 };
        give_back.send(batch).map_err(|_| thread_failed())?;
    }
    let (to_work, work) = sync_channel::<Batch<'a>>(buffers);
    let (to_write, done) = channel::<Result<Batch<'a>>>();
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

/// Gathers chunks in batches and sends these on.
struct Gathering<'a, 'c> {
    free: &'c Receiver<Batch<'a>>,
    to_work: &'c SyncSender<Batch<'a>>,
    current: Option<Batch<'a>>,
    next: u64,
}

impl<'a> Gathering<'a, '_> {
    /// An empty chunk; of the current batch where it may be `together` with what is there.
    fn chunk(&mut self, together: bool) -> Result<&mut Chunk<'a>> {
        let has_room = self.current.as_ref().is_some_and(|batch| together && batch.used < MOST_TOGETHER);
        if !has_room {
            self.send()?;
        }
        let mut batch = if let Some(batch) = self.current.take() {
            batch
        } else {
            let batch = self.free.recv().map_err(|_| Error::Cancelled)?;
            self.next += 1;
            Batch { sequence: self.next - 1, used: 0, ..batch }
        };
        if batch.chunks.len() == batch.used {
            batch.chunks.push(Chunk::default());
        }
        batch.used += 1;
        self.current = Some(batch);
        let chunk = self.last()?;
        chunk.raw.clear();
        chunk.ends = None;
        Ok(chunk)
    }

    /// The chunk that was begun last.
    fn last(&mut self) -> Result<&mut Chunk<'a>> {
        let batch = self.current.as_mut().filter(|batch| batch.used > 0);
        batch
            .map(|batch| &mut batch.chunks[batch.used - 1])
            .ok_or_else(|| Error::internal("a chunk is filled that was not begun"))
    }

    /// Sends the current batch on. Nobody takes it where another thread failed, which says so itself.
    fn send(&mut self) -> Result<()> {
        match self.current.take() {
            Some(batch) => self.to_work.send(batch).map_err(|_| Error::Cancelled),
            None => Ok(()),
        }
    }
}

/// Cuts the blobs into chunks. This one thread only reads; digests are the workers' business.
fn read_all<'a>(
    blobs: &[&'a dyn RawBlob],
    chunk_len: usize,
    job: &Job<'_>,
    free: &Receiver<Batch<'a>>,
    to_work: &SyncSender<Batch<'a>>,
) -> Result<()> {
    let mut gathering = Gathering { free, to_work, current: None, next: 0 };
    let mut was_small = false;
    for (number, blob) in blobs.iter().enumerate() {
        job.check()?;
        let is_small = blob.len() <= SMALL.min(chunk_len) as u64;
        let digesting = if is_small { None } else { Digesting::of(*blob) };
        let mut own = 0;
        let mut digested = || {
            own += 1;
            match &digesting {
                Some(digesting) => Digested::Part(Arc::clone(digesting), own - 1),
                None if is_small && blob.is_digested() => Digested::Whole(*blob),
                None => Digested::Not,
            }
        };
        gathering.chunk(is_small && was_small)?.digested = digested();
        was_small = is_small;
        let result = blob.read(job, &mut |mut bytes| {
            while !bytes.is_empty() {
                let mut chunk = gathering.last()?;
                if chunk.raw.len() == chunk_len {
                    chunk = gathering.chunk(false)?;
                    chunk.digested = digested();
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
        gathering.last()?.ends = Some(number);
    }
    gathering.send()
}

fn compress<'a>(
    mut encoder: Encoder,
    work: &Mutex<Receiver<Batch<'a>>>,
    to_write: &Sender<Result<Batch<'a>>>,
) {
    loop {
        // The lock is held while waiting: whoever has it gets the next batch.
        let next = work.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(mut batch) = next else { return };
        let used = batch.used;
        let mut done = Ok(());
        for chunk in batch.chunks.iter_mut().take(used) {
            done = chunk.digest();
            if done.is_err() {
                break;
            }
            // A chunk that does not shrink is stored as it is.
            let room = if matches!(encoder, Encoder::Store) { 0 } else { chunk.raw.len().saturating_sub(1) };
            chunk.packed.resize(room, 0);
            chunk.packed_len = encoder.encode(&chunk.raw, &mut chunk.packed);
        }
        if to_write.send(done.map(|()| batch)).is_err() {
            return;
        }
    }
}

#[expect(clippy::needless_pass_by_value, reason = "when it returns, nobody is to wait for buffers any more")]
fn write_all<'a>(
    done: Receiver<Result<Batch<'a>>>,
    give_back: Sender<Batch<'a>>,
    sink: &mut dyn FnMut(Packed<'_>) -> Result<()>,
) -> Result<()> {
    let mut next = 0;
    let mut early: BTreeMap<u64, Batch<'a>> = BTreeMap::new();
    for batch in done {
        let batch = batch?;
        early.insert(batch.sequence, batch);
        while let Some(batch) = early.remove(&next) {
            next += 1;
            for chunk in batch.chunks.iter().take(batch.used) {
                let bytes = chunk.packed_len.map_or(chunk.raw.as_slice(), |len| &chunk.packed[..len]);
                if !chunk.raw.is_empty() {
                    sink(Packed::Chunk(bytes, chunk.raw.len()))?;
                }
                if let Some(number) = chunk.ends {
                    sink(Packed::End(number))?;
                }
            }
            // Nobody takes buffers any more when all is read.
            let _ = give_back.send(batch);
        }
    }
    Ok(())
}

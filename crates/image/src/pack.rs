//! Compressing blobs on all cores, in order and with bounded memory.

use crate::{
    BlobDigest, Method,
    codec::{Level, lzx, xpress},
    digest::BlobHasher,
    threads::{thread_count, thread_failed},
};
use neat_content::{Error, Job, Result};
use std::{
    collections::BTreeMap,
    sync::{
        Mutex, PoisonError,
        mpsc::{Receiver, Sender, SyncSender, channel, sync_channel},
    },
};

/// How new blobs are compressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Compression {
    /// The method; LZMS can only be read.
    pub method: Method,
    /// Bytes of a chunk before compression.
    pub chunk_len: u32,
    /// How hard the encoder tries.
    pub level: Level,
}

impl Compression {
    /// Checks that there is an encoder for it.
    ///
    /// # Errors
    /// `BadRequest` when there is none, or the length of a chunk is none that the method has.
    pub fn check(self) -> Result<()> {
        if self.method == Method::Lzms {
            return Err(Error::request(
                "LZMS can be read and not written",
                "use LZX, which setup reads everywhere",
            ));
        }
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

/// An encoder of either method.
enum Encoder {
    Xpress(Box<xpress::Encoder>),
    Lzx(Box<lzx::Encoder>),
}

impl Encoder {
    fn new(compression: Compression) -> Self {
        let chunk_len = compression.chunk_len as usize;
        match compression.method {
            Method::Xpress => Self::Xpress(Box::new(xpress::Encoder::new(chunk_len, compression.level))),
            Method::Lzx | Method::Lzms => {
                Self::Lzx(Box::new(lzx::Encoder::new(chunk_len, compression.level)))
            }
        }
    }

    fn encode(&mut self, raw: &[u8], packed: &mut [u8]) -> Option<usize> {
        match self {
            Self::Xpress(encoder) => encoder.encode(raw, packed),
            Self::Lzx(encoder) => encoder.encode(raw, packed),
        }
    }
}

/// A blob to be compressed.
pub(crate) trait RawBlob: Sync {
    /// Its digest, which is checked while it is read.
    fn digest(&self) -> BlobDigest;
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

/// One chunk on its way.
struct Chunk {
    sequence: u64,
    raw: Vec<u8>,
    packed: Vec<u8>,
    /// Bytes of `packed` that count; nothing if the chunk does not shrink.
    packed_len: Option<usize>,
    /// The blob that ends with this chunk.
    ends: Option<usize>,
}

/// Compresses `blobs` and hands everything to `sink` on this thread. With any number of threads the same bytes come
/// out.
pub(crate) fn pack(
    blobs: &[&dyn RawBlob],
    compression: Compression,
    threads: usize,
    job: &Job<'_>,
    sink: &mut dyn FnMut(Packed<'_>) -> Result<()>,
) -> Result<()> {
    compression.check()?;
    let threads = thread_count(threads);
    // Each chunk on its way needs a buffer, and there are only so many.
    let buffers = threads * 4 + 2;
    let (give_back, free) = channel::<Chunk>();
    for _ in 0..buffers {
        let chunk = Chunk { sequence: 0, raw: Vec::new(), packed: Vec::new(), packed_len: None, ends: None };
        give_back.send(chunk).map_err(|_| thread_failed())?;
    }
    let (to_work, work) = sync_channel::<Chunk>(buffers);
    let (to_write, done) = channel::<Result<Chunk>>();
    let work = Mutex::new(work);
    std::thread::scope(|scope| {
        for _ in 0..threads {
            let (work, to_write) = (&work, to_write.clone());
            scope.spawn(move || compress(compression, work, &to_write));
        }
        scope.spawn(move || {
            if let Err(error) = read_all(blobs, compression.chunk_len as usize, job, &free, &to_work) {
                // The writer has gone when this fails, and then it has an error of its own.
                let _ = to_write.send(Err(error));
            }
        });
        // Receivers and senders that end here let the other threads end.
        write_all(done, give_back, sink)
    })
}

/// Cuts the blobs into chunks.
fn read_all(
    blobs: &[&dyn RawBlob],
    chunk_len: usize,
    job: &Job<'_>,
    free: &Receiver<Chunk>,
    to_work: &SyncSender<Chunk>,
) -> Result<()> {
    let gone = || Error::Cancelled;
    let mut sequence = 0;
    let mut fresh = || -> Result<Chunk> {
        let mut chunk = free.recv().map_err(|_| gone())?;
        chunk.raw.clear();
        chunk.ends = None;
        chunk.sequence = sequence;
        sequence += 1;
        Ok(chunk)
    };
    for (number, blob) in blobs.iter().enumerate() {
        job.check()?;
        let mut hasher = BlobHasher::default();
        let mut chunk = fresh()?;
        let result = blob.read(job, &mut |mut bytes| {
            hasher.add(bytes);
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
        result.map_err(|error| error.within(blob.name()))?;
        let found = hasher.finish();
        if found != blob.digest() {
            let error = Error::Mismatch {
                expected: format!("content with the SHA-1 {}", blob.digest()),
                found: found.to_string(),
                hint: "the file is damaged, or changed while it was in use".into(),
            };
            return Err(error.within(blob.name()));
        }
        chunk.ends = Some(number);
        to_work.send(chunk).map_err(|_| gone())?;
    }
    Ok(())
}

fn compress(compression: Compression, work: &Mutex<Receiver<Chunk>>, to_write: &Sender<Result<Chunk>>) {
    let mut encoder = Encoder::new(compression);
    loop {
        // The lock is held while waiting: whoever has it gets the next chunk.
        let next = work.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(mut chunk) = next else { return };
        // A chunk that does not shrink is stored as it is.
        let room = chunk.raw.len().saturating_sub(1);
        chunk.packed.resize(room, 0);
        chunk.packed_len = encoder.encode(&chunk.raw, &mut chunk.packed);
        if to_write.send(Ok(chunk)).is_err() {
            return;
        }
    }
}

#[expect(clippy::needless_pass_by_value, reason = "when it returns, nobody is to wait for buffers any more")]
fn write_all(
    done: Receiver<Result<Chunk>>,
    give_back: Sender<Chunk>,
    sink: &mut dyn FnMut(Packed<'_>) -> Result<()>,
) -> Result<()> {
    let mut next = 0;
    let mut early: BTreeMap<u64, Chunk> = BTreeMap::new();
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

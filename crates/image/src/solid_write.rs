//! Writing solid resources: many blobs compressed as one.

use crate::{
    Compression, Level, Method,
    codec::lzms,
    layout::{RawSolidHeader, SOLID_HEADER_LEN},
    pack::{Packed, RawBlob, pack},
    part_write::{Body, Resource},
    sink::Sink,
    threads::thread_count,
};
use neat_content::{Error, Event, Job, Result};
use std::ops::Range;
use zerocopy::IntoBytes;

/// How blobs are compressed in solid resources, always with LZMS.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SolidCompression {
    /// How hard the encoder tries.
    pub level: Level,
    /// Bytes of a chunk before compression; a power of two.
    pub chunk_len: u32,
    /// Bytes of memory that compressing may take; they decide how many threads work and, when not even one could, how
    /// large chunks are.
    pub memory: u64,
}

impl SolidCompression {
    /// Memory unless something else is said: what two threads need with the customary chunks, and some more.
    pub const MEMORY: u64 = 2 << 30;
    /// The chunk of the resources that are not solid, the trees: in bytes.
    pub const TREE_CHUNK: u32 = 128 << 10;
    /// Smallest chunk that a lack of memory leads to, in bytes.
    const LEAST: u32 = 1 << 20;

    /// The customary chunk, in the memory that is taken unless something else is said.
    pub const fn new(level: Level) -> Self {
        Self { level, chunk_len: lzms::MAX_CHUNK_LEN as u32, memory: Self::MEMORY }
    }

    /// Checks the length of a chunk, and makes it smaller where the memory forbids it. The machine decides nothing: the
    /// same numbers give the same file everywhere.
    ///
    /// # Errors
    /// `BadRequest` for a length that there is not, and for too little memory.
    pub fn fitted(mut self) -> Result<Self> {
        self.chunks().check()?;
        while self.chunk_len > Self::LEAST && Self::needed(1, self.chunk_len) > self.memory {
            self.chunk_len /= 2;
        }
        let needed = Self::needed(1, self.chunk_len);
        if needed > self.memory {
            return Err(Error::request(
                format!("{} MiB of memory are not enough to compress solid resources", self.memory >> 20),
                format!("give it {} MiB or more", needed.div_ceil(1 << 20)),
            ));
        }
        Ok(self)
    }

    /// How blobs in solid resources are compressed.
    pub(crate) const fn chunks(self) -> Compression {
        Compression { method: Method::Lzms, chunk_len: self.chunk_len, level: self.level }
    }

    /// How the trees are compressed.
    pub(crate) const fn trees(self) -> Compression {
        Compression { method: Method::Lzms, chunk_len: Self::TREE_CHUNK, level: self.level }
    }

    /// Bytes that `threads` threads need: each an encoder and a chunk before and after, and one chunk more is being read.
    pub fn needed(threads: usize, chunk_len: u32) -> u64 {
        let chunk = u64::from(chunk_len);
        threads as u64 * (lzms::Encoder::memory(chunk_len as usize) + 2 * chunk) + 2 * chunk
    }

    /// How many threads work when `wanted` would (0: as many as there are cores), on chunks of which the longest has
    /// `longest` bytes.
    fn threads(self, wanted: usize, longest: u64) -> usize {
        let longest = longest.min(u64::from(self.chunk_len)) as u32;
        let fits = |threads: &usize| Self::needed(*threads, longest) <= self.memory;
        (1..=thread_count(wanted)).rev().find(fits).unwrap_or(1)
    }
}

/// A solid resource to be written.
pub(crate) struct NewSolid {
    /// Its blobs among all, and where each begins before compression.
    pub members: Vec<(usize, u64)>,
    pub raw_len: u64,
    /// Where it was put, and its bytes there.
    pub offset: u64,
    pub len: u64,
}

/// Puts the blobs that are not kept together, in their order, to resources of one chunk: a blob is never in two unless
/// it alone is longer, so reading one decodes no more than it must, parts of a split file can be filled, and dropping
/// editions leaves little behind.
pub(crate) fn group(blobs: &[Resource], chunk_len: u32) -> Vec<NewSolid> {
    let mut groups: Vec<NewSolid> = Vec::new();
    for (number, blob) in blobs.iter().enumerate() {
        // Content without bytes cannot lie in a resource.
        if matches!(blob.body, Body::Kept(_)) || blob.raw_len == 0 {
            continue;
        }
        match groups.last_mut() {
            Some(group) if group.raw_len + blob.raw_len <= u64::from(chunk_len) => {
                group.members.push((number, group.raw_len));
                group.raw_len += blob.raw_len;
            }
            _ => {
                groups.push(NewSolid {
                    members: vec![(number, 0)],
                    raw_len: blob.raw_len,
                    offset: 0,
                    len: 0,
                });
            }
        }
    }
    groups
}

/// The bytes of all blobs of a resource, one after another.
struct Joined<'a> {
    blobs: Vec<&'a Resource>,
    raw_len: u64,
}

impl RawBlob for Joined<'_> {
    fn len(&self) -> u64 {
        self.raw_len
    }

    /// Each blob has its own, which reading it compares.
    fn is_digested(&self) -> bool {
        false
    }
    fn digested(&self, _found: crate::BlobDigest) -> Result<()> {
        Ok(())
    }

    fn read(&self, job: &Job<'_>, each: &mut dyn FnMut(&[u8]) -> Result<()>) -> Result<()> {
        for blob in &self.blobs {
            blob.read_checked(job, each).map_err(|error| error.within(blob.name()))?;
        }
        Ok(())
    }

    fn name(&self) -> String {
        "a solid resource".into()
    }
}

/// Writes solid resources to `sink` and notes where each is.
pub(crate) fn write_groups(
    groups: &mut [NewSolid],
    blobs: &[Resource],
    solid: SolidCompression,
    threads: usize,
    sink: &mut dyn Sink,
    job: &Job<'_>,
) -> Result<()> {
    let joined: Vec<Joined<'_>> = groups
        .iter()
        .map(|group| Joined {
            blobs: group.members.iter().map(|(number, _)| &blobs[*number]).collect(),
            raw_len: group.raw_len,
        })
        .collect();
    let Some(longest) = groups.iter().map(|group| group.raw_len).max() else { return Ok(()) };
    let total = groups.iter().map(|group| group.raw_len).sum();
    job.event(Event::StepStarted { step: "compressing into solid resources", total_bytes: Some(total) });
    let all: Vec<&dyn RawBlob> = joined.iter().map(|one| one as &dyn RawBlob).collect();
    let threads = solid.threads(threads, longest);
    let mut sizes: Vec<u8> = Vec::new();
    let mut opened = 0;
    pack(&all, Some(solid.chunks()), (threads, 1), job, &mut |packed| match packed {
        Packed::Chunk(bytes, raw_len) => {
            if sizes.is_empty() {
                let group = &mut groups[opened];
                group.offset = sink.position();
                let header = RawSolidHeader {
                    original_size: group.raw_len.into(),
                    chunk_size: solid.chunk_len.into(),
                    method: 3.into(),
                };
                sink.bytes(header.as_bytes())?;
                sink.bytes(&vec![0; table(group.raw_len, solid.chunk_len).len()])?;
            }
            sizes.extend((bytes.len() as u32).to_le_bytes());
            job.event(Event::BytesDone(raw_len as u64));
            sink.bytes(bytes)
        }
        Packed::End(number) => {
            let group = &mut groups[number];
            let place = table(group.raw_len, solid.chunk_len);
            if sizes.len() != place.len() {
                return Err(Error::mismatch(
                    format!("{} bytes for a solid resource", group.raw_len),
                    "another number",
                    "the source changed while it was in use",
                ));
            }
            sink.patch(group.offset + place.start as u64, &sizes)?;
            group.len = sink.position() - group.offset;
            sizes.clear();
            opened = number + 1;
            Ok(())
        }
    })?;
    job.event(Event::StepFinished);
    Ok(())
}

/// Where the table of chunks lies in a resource of `raw_len` bytes before compression.
fn table(raw_len: u64, chunk_len: u32) -> Range<usize> {
    let start = SOLID_HEADER_LEN as usize;
    start..start + 4 * raw_len.div_ceil(u64::from(chunk_len)) as usize
}

//! Disks whose blocks lie somewhere: found when they are read.

use neat_content::{Content, Job, Producer, ReadAt, Result, Source};
use std::{
    collections::HashMap,
    ops::Range,
    sync::{Arc, Mutex, PoisonError},
};

/// Bytes that are read at once.
const AT_ONCE: u64 = 1 << 20;

/// Where a stretch of a disk lies.
pub(crate) enum Lies {
    /// Nowhere; it reads as zeros.
    Nowhere,
    /// In a file, or another disk, from this byte on.
    In(Content, u64),
    /// In memory, from this byte on.
    Held(Arc<[u8]>, usize),
}

/// A stretch of a disk.
pub(crate) struct Span {
    pub lies: Lies,
    /// Bytes that lie there one after another; more than none.
    pub len: u64,
}

/// Says where each byte of a disk lies.
pub(crate) trait BlockMap: Send + Sync {
    /// Length of the disk in bytes.
    fn len(&self) -> u64;
    /// Where the bytes from `at` on lie.
    fn span(&self, at: u64) -> Result<Span>;
    /// The files that the disk consists of.
    fn files(&self) -> Vec<Content>;
}

/// The disk that a map describes.
pub(crate) fn disk(map: impl BlockMap + 'static) -> Content {
    if map.len() == 0 { Content::default() } else { Content::deferred(Arc::new(Mapped(map))) }
}

struct Mapped<M>(M);

impl<M: BlockMap> Producer for Mapped<M> {
    fn len(&self) -> u64 {
        self.0.len()
    }

    fn produce(
        &self,
        range: Range<u64>,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        let mut buffer = Vec::new();
        let mut at = range.start;
        while at < range.end {
            job.check()?;
            let span = self.0.span(at)?;
            let len = span.len.clamp(1, range.end - at).min(AT_ONCE);
            match span.lies {
                Lies::Held(bytes, start) => {
                    // A piece that is too short for what it stands for would be a fault of ours; it reads as damage.
                    let end = start.saturating_add(len as usize);
                    let part = bytes.get(start..end).ok_or_else(|| neat_content::Error::Truncated {
                        what: "unpacked cluster".into(),
                        offset: at,
                        wanted: len,
                        available: bytes.as_ref().len().saturating_sub(start) as u64,
                    })?;
                    each(part)?;
                }
                Lies::Nowhere => {
                    buffer.clear();
                    buffer.resize(len as usize, 0);
                    each(&buffer)?;
                }
                Lies::In(content, offset) => {
                    buffer.resize(len as usize, 0);
                    content.read_exact_at(offset, &mut buffer)?;
                    each(&buffer)?;
                }
            }
            at += len;
        }
        Ok(())
    }

    fn sources(&self, found: &mut dyn FnMut(&Arc<Source>)) {
        for file in self.0.files() {
            file.for_each_source(found);
        }
    }
}

/// What lies behind a disk where it has nothing itself; zeros behind its end.
pub(crate) fn behind(parent: Option<&Content>, at: u64, len: u64) -> Span {
    match parent {
        Some(parent) if at < parent.len() => {
            Span { lies: Lies::In(parent.clone(), at), len: len.min(parent.len() - at) }
        }
        _ => Span { lies: Lies::Nowhere, len },
    }
}

/// Tables and unpacked clusters that were read last, by where they lie.
pub(crate) struct Recent {
    limit: usize,
    kept: Mutex<Kept>,
}

/// What is kept, and how many bytes it has.
type Kept = (HashMap<u64, Arc<[u8]>>, usize);

impl Recent {
    /// Keeps about `limit` bytes.
    pub(crate) fn new(limit: usize) -> Self {
        Self { limit, kept: Mutex::default() }
    }

    /// What lies at `place`, read with `read` unless it is known.
    pub(crate) fn get(&self, place: u64, read: impl FnOnce() -> Result<Vec<u8>>) -> Result<Arc<[u8]>> {
        if let Some(known) = self.kept.lock().unwrap_or_else(PoisonError::into_inner).0.get(&place) {
            return Ok(Arc::clone(known));
        }
        let bytes: Arc<[u8]> = read()?.into();
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.1 + bytes.as_ref().len() > self.limit {
            *kept = Default::default();
        }
        kept.1 += bytes.as_ref().len();
        kept.0.insert(place, Arc::clone(&bytes));
        Ok(bytes)
    }
}

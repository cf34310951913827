//! The name of a blob.

use crate::threads::{thread_count, thread_failed};
use neat_content::{Content, Job, Result};
use sha1::Digest as _;
use std::{
    fmt,
    sync::atomic::{AtomicUsize, Ordering},
};

/// SHA-1 of a blob's content, by which trees refer to it.
#[derive(Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct BlobDigest(pub [u8; 20]);

impl BlobDigest {
    /// No content at all.
    pub const NONE: Self = Self([0; 20]);

    /// Whether it stands for no content.
    pub fn is_none(&self) -> bool {
        *self == Self::NONE
    }

    /// The digest of bytes in memory.
    pub fn of(bytes: &[u8]) -> Self {
        let mut hasher = BlobHasher::default();
        hasher.add(bytes);
        hasher.finish()
    }
}

impl fmt::Display for BlobDigest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl fmt::Debug for BlobDigest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

/// Digests content as it comes.
#[derive(Clone, Default)]
pub struct BlobHasher(sha1::Sha1);

impl BlobHasher {
    /// Adds bytes.
    pub fn add(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The digest of all that was added.
    pub fn finish(self) -> BlobDigest {
        BlobDigest(self.0.finalize().into())
    }
}

/// Digests `count` contents on `threads` threads (0: as many as there are cores); `content` gives them by number, and
/// `done` hears of the bytes.
pub(crate) fn digest_each(
    count: usize,
    threads: usize,
    job: &Job<'_>,
    content: &(dyn Fn(usize) -> Result<Content> + Sync),
    done: &(dyn Fn(u64) + Sync),
) -> Result<Vec<BlobDigest>> {
    let next = AtomicUsize::new(0);
    let work = || -> Result<Vec<(usize, BlobDigest)>> {
        let mut found = Vec::new();
        loop {
            let n = next.fetch_add(1, Ordering::Relaxed);
            if n >= count {
                return Ok(found);
            }
            let mut hasher = BlobHasher::default();
            content(n)?.for_each_block(256 << 10, job, &mut |block| {
                hasher.add(block);
                done(block.len() as u64);
                Ok(())
            })?;
            found.push((n, hasher.finish()));
        }
    };
    let mut digests = vec![BlobDigest::NONE; count];
    std::thread::scope(|scope| -> Result<()> {
        let threads: Vec<_> = (0..thread_count(threads)).map(|_| scope.spawn(work)).collect();
        for thread in threads {
            let found = thread.join().unwrap_or_else(|_| Err(thread_failed()))?;
            found.into_iter().for_each(|(n, digest)| digests[n] = digest);
        }
        Ok(())
    })?;
    Ok(digests)
}

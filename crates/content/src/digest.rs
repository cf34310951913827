//! Digests, computed on a thread of their own so that copying does not wait for them.

use crate::{Content, Error, Job, Result};
use sha2::Digest as _;
use std::{
    fmt::Write as _,
    sync::mpsc::{Receiver, SyncSender, sync_channel},
    thread::JoinHandle,
};

/// Which digest.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum DigestKind {
    /// SHA-1 (FIPS 180-4), 20 bytes; what image files name their content by.
    Sha1,
    /// SHA-256 (FIPS 180-4), 32 bytes.
    Sha256,
}

impl DigestKind {
    /// What it is called in lists and options.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Sha1 => "sha1",
            Self::Sha256 => "sha256",
        }
    }
}

enum Hasher {
    Sha1(sha1::Sha1),
    Sha256(sha2::Sha256),
}

impl Hasher {
    fn new(kind: DigestKind) -> Self {
        match kind {
            DigestKind::Sha1 => Self::Sha1(sha1::Sha1::default()),
            DigestKind::Sha256 => Self::Sha256(sha2::Sha256::default()),
        }
    }
    fn update(&mut self, bytes: &[u8]) {
        match self {
            Self::Sha1(hasher) => hasher.update(bytes),
            Self::Sha256(hasher) => hasher.update(bytes),
        }
    }
    fn finish(self) -> String {
        let bytes = match self {
            Self::Sha1(hasher) => hasher.finalize().to_vec(),
            Self::Sha256(hasher) => hasher.finalize().to_vec(),
        };
        bytes.iter().fold(String::with_capacity(64), |mut text, byte| {
            // Writing to a string cannot fail.
            let _ = write!(text, "{byte:02x}");
            text
        })
    }
}

/// Number of blocks that may wait for the digesting thread.
const BLOCKS_WAITING: usize = 4;

/// Digests a stream of blocks, on another thread when there are many.
pub struct Digester(Worker);

enum Worker {
    Here(Box<Hasher>),
    Thread { blocks: SyncSender<Vec<u8>>, used: Receiver<Vec<u8>>, thread: JoinHandle<Hasher> },
}

/// Up to this many bytes a thread costs more than it saves.
const HERE_UP_TO: u64 = 256 * 1024;

impl Digester {
    /// A digester for `len` bytes.
    pub fn for_len(kind: DigestKind, len: u64) -> Self {
        if len <= HERE_UP_TO { Self(Worker::Here(Box::new(Hasher::new(kind)))) } else { Self::start(kind) }
    }

    /// A digester with a thread of its own.
    pub fn start(kind: DigestKind) -> Self {
        let (blocks, incoming) = sync_channel::<Vec<u8>>(BLOCKS_WAITING);
        let (give_back, used) = sync_channel::<Vec<u8>>(BLOCKS_WAITING + 2);
        let thread = std::thread::spawn(move || {
            let mut hasher = Hasher::new(kind);
            for block in incoming {
                hasher.update(&block);
                // When the other side has gone or has enough blocks, this one is simply freed.
                let _ = give_back.try_send(block);
            }
            hasher
        });
        Self(Worker::Thread { blocks, used, thread })
    }

    /// An empty buffer to fill, an old one where possible.
    pub fn buffer(&self) -> Vec<u8> {
        let old = if let Worker::Thread { used, .. } = &self.0 { used.try_recv().ok() } else { None };
        let mut buffer = old.unwrap_or_default();
        buffer.clear();
        buffer
    }

    /// Adds a block; waits while the thread is behind.
    pub fn add(&mut self, block: Vec<u8>) {
        match &mut self.0 {
            Worker::Here(hasher) => hasher.update(&block),
            // Sending fails only if the thread has panicked, which `finish` reports.
            Worker::Thread { blocks, .. } => drop(blocks.send(block)),
        }
    }

    /// Adds a copy of `bytes`.
    pub fn add_slice(&mut self, bytes: &[u8]) {
        if let Worker::Here(hasher) = &mut self.0 {
            return hasher.update(bytes);
        }
        let mut block = self.buffer();
        block.extend_from_slice(bytes);
        self.add(block);
    }

    /// The digest in lower-case hexadecimal.
    ///
    /// # Errors
    /// `Internal` when the thread that digests is gone.
    pub fn finish(self) -> Result<String> {
        match self.0 {
            Worker::Here(hasher) => Ok(hasher.finish()),
            Worker::Thread { blocks, thread, .. } => {
                drop(blocks);
                let hasher = thread.join().map_err(|_| Error::internal("the digesting thread failed"))?;
                Ok(hasher.finish())
            }
        }
    }
}

/// The digest of `content` in lower-case hexadecimal.
///
/// # Errors
/// As [`Content::for_each_block`].
pub fn digest_of(content: &Content, kind: DigestKind, job: &Job<'_>) -> Result<String> {
    let mut digester = Digester::for_len(kind, content.len());
    content.for_each_block(1024 * 1024, job, &mut |block| {
        digester.add_slice(block);
        Ok(())
    })?;
    digester.finish()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn digests_match_the_published_examples() {
        // FIPS 180-4 example messages.
        let abc = Content::from_bytes(b"abc".to_vec());
        let job = Job::silent();
        assert_eq!(
            digest_of(&abc, DigestKind::Sha1, &job).unwrap(),
            "a9993e364706816aba3e25717850c26c9cd0d89d"
        );
        assert_eq!(
            digest_of(&abc, DigestKind::Sha256, &job).unwrap(),
            "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"
        );
        let million = Content::from_bytes(vec![b'a'; 1_000_000]);
        assert_eq!(
            digest_of(&million, DigestKind::Sha1, &job).unwrap(),
            "34aa973cd4c4daa4f61eeb2bdbad27316534016f"
        );
    }
}

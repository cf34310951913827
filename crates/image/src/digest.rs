//! The name of a blob.

use sha1::Digest as _;
use std::fmt;

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

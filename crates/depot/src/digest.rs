//! The digests that an index holds.

use neat_content::{Content, DigestKind, Digester, Event, Job, Result};

/// Bytes read at a time.
const BLOCK: usize = 1 << 20;

/// Digests of a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Digests {
    /// SHA-256, which vendors publish.
    pub sha256: String,
    /// BLAKE3, which is checked as fast as a file arrives.
    pub blake3: String,
}

/// Reads `content` once for both digests.
pub fn digests_of(content: &Content, job: &Job<'_>) -> Result<Digests> {
    let mut sha256 = Digester::for_len(DigestKind::Sha256, content.len());
    let mut blake3 = blake3::Hasher::new();
    content.for_each_block(BLOCK, job, &mut |block| {
        sha256.add_slice(block);
        blake3.update(block);
        job.event(Event::BytesDone(block.len() as u64));
        Ok(())
    })?;
    Ok(Digests { sha256: sha256.finish()?, blake3: blake3.finalize().to_hex().to_string() })
}

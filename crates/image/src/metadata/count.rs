//! What the XML data says about an edition's files, counted.

use super::Files;
use crate::BlobDigest;
use std::collections::HashSet;

/// Numbers that the XML data gives of an edition, as the systems that made such files count them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct EditionCounts {
    /// Folders without the root; one that is a reparse point is a file here.
    pub folders: u64,
    /// Files, and folders that are reparse points.
    pub files: u64,
    /// Bytes of the files' ordinary content, each name counted; named streams and the data of reparse points are not.
    pub bytes: u64,
    /// Bytes of it that hard links save.
    pub hard_link_bytes: u64,
}

impl Files {
    /// Counts the files; `len_of` gives the length of a blob.
    pub fn count(&self, len_of: &dyn Fn(BlobDigest) -> u64) -> EditionCounts {
        let mut counts = EditionCounts::default();
        let mut groups = HashSet::new();
        for id in self.ids().skip(1) {
            let entry = self.entry(id);
            if entry.is_folder() && !entry.is_reparse() {
                counts.folders += 1;
                continue;
            }
            counts.files += 1;
            if entry.is_reparse() {
                continue;
            }
            let digest = entry.content();
            let len = if digest.is_none() { 0 } else { len_of(digest) };
            counts.bytes += len;
            if entry.hard_link() != 0 && !groups.insert(entry.hard_link()) {
                counts.hard_link_bytes += len;
            }
        }
        counts
    }
}

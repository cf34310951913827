//! Which content the trees of a draft name.

use super::{DraftTree, ImageDraft};
use crate::BlobDigest;
use neat_content::Result;
use std::collections::HashSet;

/// Content that trees name, each once: a bit for each blob of each source, and the digests of what no source has.
#[derive(Clone, Default)]
pub(super) struct Named {
    /// By source, then by the place of the blob among those of the source.
    listed: Vec<Vec<u64>>,
    new: HashSet<BlobDigest>,
}

impl Named {
    /// Notes a digest; whether `draft` has its content.
    fn add(&mut self, digest: BlobDigest, draft: &ImageDraft) -> bool {
        let listed = draft.sources.iter().enumerate().find_map(|(n, own)| Some((n, own.place_of(digest)?)));
        let Some((source, place)) = listed else {
            self.new.insert(digest);
            return draft.new_blobs.contains_key(&digest) || draft.written.get(digest).is_some();
        };
        if self.listed.len() <= source {
            self.listed.resize(source + 1, Vec::new());
        }
        let bits = &mut self.listed[source];
        if bits.is_empty() {
            bits.resize(draft.sources[source].blob_count().div_ceil(64), 0);
        }
        bits[place / 64] |= 1 << (place % 64);
        true
    }

    /// Whether the blob at a place of a source is named.
    pub(super) fn has(&self, source: usize, place: usize) -> bool {
        let word = self.listed.get(source).and_then(|bits| bits.get(place / 64));
        word.is_some_and(|word| word >> (place % 64) & 1 == 1)
    }

    /// What is named and in no source.
    pub(super) const fn new_ones(&self) -> &HashSet<BlobDigest> {
        &self.new
    }

    fn join(&mut self, other: &Self) {
        self.new.extend(&other.new);
        self.listed.resize(self.listed.len().max(other.listed.len()), Vec::new());
        for (own, other) in self.listed.iter_mut().zip(&other.listed) {
            own.resize(own.len().max(other.len()), 0);
            own.iter_mut().zip(other).for_each(|(own, other)| *own |= other);
        }
    }
}

impl ImageDraft {
    /// What one edition, numbered from 1, names. Its tree is read: what is damaged is not copied on.
    ///
    /// # Errors
    /// `Mismatch` for content that is not there; `Corrupt` where the tree cannot be read.
    fn named_in(&self, number: usize) -> Result<Named> {
        let (mut named, mut missing) = (Named::default(), None);
        self.each_digest(number, &mut |digest| {
            if !named.add(digest, self) {
                missing.get_or_insert(digest);
            }
        })?;
        match missing {
            Some(digest) => Err(self.missing(number, digest)?),
            None => Ok(named),
        }
    }

    /// As [`ImageDraft::named_in`], of files that are not in the draft yet.
    pub(super) fn named_by(&self, number: usize, files: &crate::Files) -> Result<Named> {
        let mut named = Named::default();
        for id in files.ids() {
            for digest in files.entry(id).digests() {
                if !named.add(digest, self) {
                    return Err(super::plan::missing(number, files, digest));
                }
            }
        }
        Ok(named)
    }

    /// What all editions name; everything that there is where no edition was left out or changed, so that what no tree
    /// names stays too.
    pub(super) fn named(&self) -> Result<Named> {
        let mut all = Named::default();
        for (n, edition) in self.editions.iter().enumerate() {
            match &edition.tree {
                DraftTree::Settled(settled) => all.join(&settled.named),
                DraftTree::Kept(..) | DraftTree::Edited(_) => all.join(&self.named_in(n + 1)?),
            }
        }
        if self.is_complete() {
            for (digest, _) in self.sources.iter().flat_map(crate::ImageFile::blobs) {
                all.add(digest, self);
            }
        }
        Ok(all)
    }
}

//! What a draft comes to: which resources are kept as they lie in a source, which are unpacked, which are new.

use super::{DraftTree, ImageDraft, written_tree};
use crate::{
    BlobDigest, Compression, Files, ImageFile, Packing, Solid, Stored,
    digest::BlobHasher,
    file::ListedBlob,
    metadata::EditionCounts,
    part_write::{Body, PartPlan, Resource, finish_part, start_part, write_part},
    sink::Gather,
    unread::{Outcomes, Unread, write_unread},
    xml::{Child, Element},
};
use neat_content::{Advice, Content, Error, Hold, Job, Output, Result};
use std::{
    collections::{HashMap, HashSet},
    path::Path,
    sync::Arc,
};

/// Bytes of a tree that are held in memory until they are written.
const TREE_IN_MEMORY: usize = 8 << 20;

impl ImageDraft {
    /// How the new file will be compressed where it is not solid.
    fn compression(&self) -> Option<Compression> {
        if let Some(solid) = self.solid {
            return Some(solid.trees());
        }
        let (method, chunk_len) = self.declared?;
        Some(Compression { method, chunk_len, level: self.new_level })
    }

    /// The solid resources of the sources of which blobs that are not named lie in them too; none of interest unless
    /// new ones are made.
    fn incomplete_solids(
        &self,
        is_named: &dyn Fn(usize, usize, BlobDigest) -> bool,
    ) -> HashSet<*const Solid> {
        let mut unused = HashSet::new();
        if self.solid.is_some() {
            for (n, place, digest, blob) in self.listed_blobs() {
                if let Packing::Solid { group, .. } = &blob.stored.packing
                    && !is_named(n, place, digest)
                {
                    unused.insert(Arc::as_ptr(group));
                }
            }
        }
        unused
    }

    /// The blobs of all sources: number of the source, place in it, digest, and what the tables say.
    fn listed_blobs(&self) -> impl Iterator<Item = (usize, usize, BlobDigest, ListedBlob)> {
        self.sources.iter().enumerate().flat_map(|(n, source)| {
            source.blobs().enumerate().map(move |(place, (digest, blob))| (n, place, digest, blob))
        })
    }

    /// Bytes before compression that lie in solid resources of the sources beside what this draft has, and would be
    /// copied along.
    ///
    /// # Errors
    /// `Corrupt` where a tree cannot be read.
    pub fn left_in_solids(&self) -> Result<u64> {
        if self.repack || self.solid.is_some() || self.sources.iter().all(|source| source.solid_count() == 0)
        {
            return Ok(0);
        }
        let references = self.references()?;
        let mut kept: HashMap<*const Solid, u64> = HashMap::new();
        let mut seen = HashSet::new();
        for (digest, blob) in self.sources.iter().flat_map(ImageFile::blobs) {
            if let Packing::Solid { group, .. } = &blob.stored.packing
                && references.contains_key(&digest)
                && seen.insert(digest)
            {
                let left = kept.entry(Arc::as_ptr(group)).or_insert(group.raw_len());
                *left = left.saturating_sub(blob.stored.raw_len);
            }
        }
        Ok(kept.values().sum())
    }

    /// Whether a blob can be copied as it lies in its source.
    fn is_kept(&self, stored: &Stored, incomplete: &HashSet<*const Solid>) -> bool {
        match &stored.packing {
            // Where everything is to be stored as it is, this is.
            Packing::Plain => self.solid.is_none() && (!self.repack || self.declared.is_none()),
            Packing::Solid { group, .. } => !self.repack && !incomplete.contains(&Arc::as_ptr(group)),
            Packing::Chunks { method, chunk_len } => {
                !self.repack && self.solid.is_none() && self.declared == Some((*method, *chunk_len))
            }
        }
    }

    fn body(&self, stored: &Stored, incomplete: &HashSet<*const Solid>) -> Body {
        if self.is_kept(stored, incomplete) {
            Body::Kept(stored.clone())
        } else {
            Body::Unpacked(stored.clone())
        }
    }

    /// A tree keeps its form where the file has it too.
    fn tree_body(&self, stored: &Stored) -> Body {
        let kept = !self.repack
            && match &stored.packing {
                Packing::Chunks { method, chunk_len } => self.declared == Some((*method, *chunk_len)),
                _ => true,
            };
        if kept { Body::Kept(stored.clone()) } else { Body::Unpacked(stored.clone()) }
    }

    /// By what content is put together in solid resources: ending, then name. What is alike lies side by side, such as
    /// one file in several versions.
    fn likeness(&self) -> Result<HashMap<BlobDigest, String>> {
        let mut likeness = HashMap::new();
        for number in 1..=self.editions.len() {
            self.walk(number, &mut |_, _, seen| {
                for digest in seen.digests() {
                    likeness.entry(digest).or_insert_with(|| {
                        let units: Vec<u16> = seen.name_units().collect();
                        let name = String::from_utf16_lossy(&units).to_lowercase();
                        let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending);
                        format!("{ending}\0{name}")
                    });
                }
            })?;
        }
        Ok(likeness)
    }

    /// How many names each blob has, counted in the trees. Every tree is read: what is damaged is not copied on.
    fn references(&self) -> Result<HashMap<BlobDigest, u32>> {
        let mut references: HashMap<BlobDigest, u32> = HashMap::new();
        for number in 1..=self.editions.len() {
            let mut missing = None;
            self.each_digest(number, &mut |digest| {
                if let Some(count) = references.get_mut(&digest) {
                    *count += 1;
                    return;
                }
                let is_there = self.new_blobs.contains_key(&digest)
                    || self.written.get(digest).is_some()
                    || self.sources.iter().any(|source| source.blob_len(digest).is_some());
                if !is_there {
                    missing.get_or_insert(digest);
                }
                references.insert(digest, 1);
            })?;
            if let Some(digest) = missing {
                return Err(self.missing(number, digest)?);
            }
        }
        if self.is_complete() {
            // Nothing is dropped: also what no tree names stays, as the tables have it.
            references.clear();
            for (digest, blob) in self.sources.iter().flat_map(ImageFile::blobs) {
                let count = references.entry(digest).or_default();
                *count = count.saturating_add(blob.references);
            }
        }
        Ok(references)
    }

    /// Calls `each` with what the entries of an edition, numbered from 1, name, with repetitions.
    pub(super) fn each_digest(&self, number: usize, each: &mut dyn FnMut(BlobDigest)) -> Result<()> {
        match number.checked_sub(1).and_then(|n| self.editions.get(n)).map(|own| &own.tree) {
            Some(DraftTree::Edited(files)) => {
                files.ids().flat_map(|id| files.entry(id).digests()).for_each(each);
                Ok(())
            }
            _ => self.walk(number, &mut |_, _, seen| seen.digests().for_each(&mut *each)),
        }
    }

    /// Says which file of an edition names content that is not there.
    pub(super) fn missing(&self, number: usize, digest: BlobDigest) -> Result<Error> {
        Ok(missing(number, &*self.files(number)?, digest))
    }

    /// Unpacks and digests what would be copied as it lies in its source, on `threads` threads (0: as many as there are
    /// cores). What is compressed anew is checked on the way in any case.
    ///
    /// # Errors
    /// `Mismatch` for the first content that is damaged, and how many there are; `Io` and `Cancelled`.
    pub fn verify(&self, threads: usize, job: &Job<'_>) -> Result<()> {
        let plan = self.plan()?;
        let kept: Vec<(BlobDigest, Stored)> = plan
            .blobs
            .iter()
            .chain(&plan.metadata)
            .filter_map(|resource| match &resource.body {
                Body::Kept(stored) => Some((resource.digest, stored.clone())),
                _ => None,
            })
            .collect();
        let mut wrong = crate::check::verify(&kept, threads, job)?;
        wrong.sort_by_key(|(digest, _)| *digest);
        let count = wrong.len();
        match wrong.into_iter().next() {
            None => Ok(()),
            Some((_, error)) => Err(Error::mismatch(
                format!("{} sound contents", kept.len()),
                format!("{count} that are damaged, such as this: {error}"),
                Advice::CheckAll,
            )),
        }
    }

    /// Whether the draft has exactly the editions of its sources, so that the tables know what the trees would tell.
    pub(super) fn is_complete(&self) -> bool {
        let mut kept: Vec<(usize, usize)> = Vec::new();
        for edition in &self.editions {
            match edition.tree {
                DraftTree::Kept(source, number) => kept.push((source, number)),
                DraftTree::Edited(_) | DraftTree::Settled(_) => return false,
            }
        }
        kept.sort_unstable();
        let all = self.sources.iter().enumerate();
        kept.into_iter()
            .eq(all.flat_map(|(n, source)| (1..=source.editions().len()).map(move |number| (n, number))))
    }

    pub(crate) fn plan(&self) -> Result<PartPlan> {
        let references = self.references()?;
        let incomplete = self.incomplete_solids(&|_, _, digest| references.contains_key(&digest));
        let mut blobs = Vec::with_capacity(references.len());
        for (digest, references) in references {
            let new = match self.written.get(digest) {
                Some((placed, len)) => Some((len, Body::Written(placed))),
                None => self.new_blobs.get(&digest).map(|own| (own.len(), Body::New(own.clone()))),
            };
            let (raw_len, body) = match (self.listed(digest), new) {
                (Some(blob), _) => (blob.stored.raw_len, self.body(&blob.stored, &incomplete)),
                (None, Some(new)) => new,
                (None, None) => continue,
            };
            blobs.push(Resource { digest, references, raw_len, body, tree_of: None });
        }
        sort_as_in_sources(&mut blobs, &self.sources);
        if self.solid.is_some() {
            let likeness = self.likeness()?;
            blobs.sort_by_cached_key(|resource| {
                let fresh = !matches!(resource.body, Body::Kept(_));
                fresh.then(|| (likeness.get(&resource.digest).cloned(), resource.raw_len, resource.digest))
            });
        }
        let mut metadata = Vec::with_capacity(self.editions.len());
        let mut xml = self.xml.clone();
        for (n, edition) in self.editions.iter().enumerate() {
            let own_number = n + 1;
            let mut image = edition.xml.clone();
            match &edition.tree {
                DraftTree::Kept(source, number) => {
                    let (digest, stored) = self.sources[*source].metadata(*number)?;
                    metadata.push(Resource {
                        digest,
                        references: 1,
                        raw_len: stored.raw_len,
                        body: self.tree_body(stored),
                        tree_of: Some(own_number),
                    });
                }
                DraftTree::Edited(files) => {
                    let hold = Hold::new(TREE_IN_MEMORY, &std::env::temp_dir());
                    let (content, digest) = written_tree(files, &hold)?;
                    let counts = files.count(&|digest| self.blob_len(digest));
                    set_counts(&mut image, counts);
                    metadata.push(tree_resource(digest, content, own_number));
                }
                DraftTree::Settled(settled) => {
                    set_counts(&mut image, settled.counts);
                    metadata.push(tree_resource(settled.digest, settled.content.clone(), own_number));
                }
            }
            image.set_only_attribute("INDEX", &(n + 1).to_string());
            xml.children.push(Child::Element(image));
        }
        let compression = self.compression();
        let mut plan = PartPlan {
            flags: self.flags,
            declared: self.declared,
            compression,
            solid: self.solid,
            guid: self.guid,
            part: 1,
            parts: 1,
            editions: self.editions.len() as u32,
            boot: self.boot.map_or(0, |boot| boot as u32 + 1),
            blobs,
            metadata,
            xml,
            integrity: self.integrity,
        };
        plan.guid = derived_guid(&plan);
        Ok(plan)
    }

    /// Writes the image file to `output`, with `threads` threads (0: as many as there are cores).
    ///
    /// # Errors
    /// `Io`, `Corrupt` for trees and content that cannot be read, `Cancelled`.
    pub fn write(&self, output: &mut Output, threads: usize, job: &Job<'_>) -> Result<()> {
        write_part(&self.plan()?, threads, output, job)
    }

    /// Writes the image file to `output`, content of which nobody knows the digests first: it is read once. `describe`
    /// then gets what came of each and adds the edition that names it.
    ///
    /// # Errors
    /// As [`ImageDraft::write`], those of reading the content, and those of `describe`. `BadRequest` for solid resources,
    /// whose content is put in order beforehand.
    pub fn write_unread(
        &mut self,
        unread: &Unread<'_>,
        output: &mut Output,
        threads: usize,
        job: &Job<'_>,
        describe: &mut dyn FnMut(&mut Self, Outcomes) -> Result<()>,
    ) -> Result<()> {
        if self.solid.is_some() || self.repack {
            return Err(Error::request(
                "content that is read once cannot go into solid resources",
                "write the image file first and repack it then",
            ));
        }
        start_part(output)?;
        let compression = self.compression();
        let is_known = |digest| self.listed(digest).is_some();
        let (outcomes, written) = write_unread(unread, compression, threads, &is_known, output, job)?;
        output.note_sources(unread.source);
        self.written = written;
        describe(self, outcomes)?;
        // What was described waits as it will be written: its tree takes several times as much.
        for number in 1..=self.editions.len() {
            if let DraftTree::Edited(files) = &self.editions[number - 1].tree {
                let files = Arc::clone(files);
                self.settle_shared(number, files, &Hold::new(TREE_IN_MEMORY, &std::env::temp_dir()))?;
            }
        }
        finish_part(&self.plan()?, threads, output, job)
    }

    /// The image file as lazy content: what stays as it is becomes extents of the sources. What must be compressed is
    /// compressed now; a lot of it goes to an unnamed file in `folder`.
    ///
    /// # Errors
    /// As [`ImageDraft::write`].
    pub fn to_content(&self, folder: &Path, threads: usize, job: &Job<'_>) -> Result<Content> {
        let mut gather = Gather::new(folder);
        write_part(&self.plan()?, threads, &mut gather, job)?;
        gather.finish()
    }

    /// Bytes before compression that writing would compress, changed trees among them; 0 when everything stays as it is.
    ///
    /// # Errors
    /// `Corrupt` where a tree cannot be read.
    pub fn bytes_to_pack(&self) -> Result<u64> {
        let named = self.named()?;
        let incomplete = self.incomplete_solids(&|source, place, _| named.has(source, place));
        let listed = self.listed_blobs().filter(|(source, place, ..)| named.has(*source, *place));
        let anew = listed.filter(|(.., blob)| !self.is_kept(&blob.stored, &incomplete));
        let new = named.new_ones().iter().map(|digest| self.new_blobs.get(digest).map_or(0, Content::len));
        let fresh = anew.map(|(.., blob)| blob.stored.raw_len).chain(new);
        let trees = self.editions.iter().map(|edition| match &edition.tree {
            DraftTree::Settled(settled) => settled.content.len(),
            // One that is still open is short.
            DraftTree::Kept(..) | DraftTree::Edited(_) => 0,
        });
        Ok(fresh.chain(trees).sum())
    }
}

/// Says which file of an edition names content that is not there.
pub(super) fn missing(number: usize, files: &Files, digest: BlobDigest) -> Error {
    let id = files.ids().find(|id| files.entry(*id).digests().any(|own| own == digest));
    let path = id.map(|id| files.path(id)).unwrap_or_default();
    Error::mismatch(
        format!("the content of /{path} in edition {number}, with the SHA-1 {digest}"),
        "no such blob in the file",
        "a part of the file is missing, or the file is damaged",
    )
}

fn tree_resource(digest: BlobDigest, content: Content, number: usize) -> Resource {
    let (raw_len, body) = (content.len(), Body::New(content));
    Resource { digest, references: 1, raw_len, body, tree_of: Some(number) }
}

/// Says in the XML data how much an edition has.
fn set_counts(image: &mut Element, counts: EditionCounts) {
    for (element, number) in [
        ("DIRCOUNT", counts.folders),
        ("FILECOUNT", counts.files),
        ("TOTALBYTES", counts.bytes),
        ("HARDLINKBYTES", counts.hard_link_bytes),
    ] {
        image.set(element, Some(&number.to_string()));
    }
}

/// Blobs of sources in the order of their places there, so that neighbours are copied together; then new ones by
/// digest, so that the order is always the same.
fn sort_as_in_sources(blobs: &mut [Resource], sources: &[ImageFile]) {
    let mut parts: HashMap<BlobDigest, (usize, usize)> = HashMap::new();
    for (s, source) in sources.iter().enumerate() {
        for (digest, blob) in source.blobs() {
            parts.entry(digest).or_insert((s, blob.part));
        }
    }
    let key = |resource: &Resource| {
        let place = parts.get(&resource.digest).copied().unwrap_or((usize::MAX, 0));
        let offset = match &resource.body {
            Body::Kept(stored) | Body::Unpacked(stored) => match &stored.packing {
                Packing::Solid { group, start } => (group.offset(), *start),
                _ => (stored.offset, 0),
            },
            Body::New(_) => (0, 0),
            Body::Written(placed) => (placed.offset, 0),
        };
        (place, offset, resource.digest)
    };
    if parts.is_empty() {
        // Keys cost nothing to find then, and a list of them would be as long as the one that is sorted.
        blobs.sort_unstable_by_key(key);
    } else {
        blobs.sort_by_cached_key(key);
    }
}

/// Another file has another GUID, but the same changes to the same file always the same one: a name-based identifier
/// in the form of RFC 9562, version 8.
fn derived_guid(plan: &PartPlan) -> [u8; 16] {
    let mut hasher = BlobHasher::default();
    hasher.add(&plan.guid);
    hasher.add(plan.xml.to_text().as_bytes());
    hasher.add(format!("{:?}{:?}{}", plan.declared, plan.compression, plan.boot).as_bytes());
    if let Some(solid) = plan.solid {
        hasher.add(format!("solid {}", solid.chunk_len).as_bytes());
    }
    plan.metadata.iter().chain(&plan.blobs).for_each(|resource| hasher.add(&resource.digest.0));
    let BlobDigest(digest) = hasher.finish();
    let mut guid = [0; 16];
    guid.copy_from_slice(&digest[..16]);
    // Stored with its first three fields little-endian, so the version is in byte 7.
    guid[7] = guid[7] & 0x0F | 0x80;
    guid[8] = guid[8] & 0x3F | 0x80;
    guid
}

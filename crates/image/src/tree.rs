//! An edition as a tree of names over lazy content, for everything that works on any media.

use crate::{
    BlobDigest, Entry, Files, ImageFile,
    layout::{ATTRIBUTE_HIDDEN, TAG_MOUNT_POINT, TAG_SYMLINK},
    metadata::Times,
    stored::read_part,
};
use neat_content::{
    Content, Error, Folder, Job, Meta, NodeId, NodeKind, Piece, Producer, Result, Source, Tree,
};
use std::{ops::Range, sync::Arc};

/// Largest data of a reparse point that is read, in bytes.
const MAX_REPARSE_LEN: u64 = 16 << 10;

/// The files of an edition, numbered from 1, as a tree; with it, what could not be taken along.
///
/// Symbolic links become links with `/` between the parts; other reparse points and named streams are left out and
/// named. Units of names that are no characters are written as `\u{…}`.
///
/// # Errors
/// `Corrupt` where an entry names content that is not there.
pub fn to_tree(image: &ImageFile, number: usize, files: &Files) -> Result<(Tree, Vec<String>)> {
    let root = files.entry(Files::ROOT);
    let mut tree = Tree::new(meta_of(root));
    let contents = InEdition::of(image, number)?;
    let mut warnings = Vec::new();
    let mut pending: Vec<(crate::EntryId, NodeId)> = vec![(Files::ROOT, Tree::ROOT)];
    while let Some((folder, node)) = pending.pop() {
        for id in files.entry(folder).children() {
            let entry = files.entry(*id);
            let name = entry.name.to_string();
            let place = || format!("edition {number}, /{}", files.path(*id));
            let kind = if let Some(reparse) = entry.reparse() {
                if let Some(target) = link_target(image, entry).map_err(|error| error.within(place()))? {
                    NodeKind::Link(target)
                } else {
                    warnings.push(format!(
                        "/{} is a reparse point of the kind {:#x}",
                        files.path(*id),
                        reparse.tag
                    ));
                    continue;
                }
            } else if entry.is_folder() {
                NodeKind::Folder(Folder::default())
            } else {
                NodeKind::File(contents.content(entry.content(), &place)?)
            };
            let named = entry.streams().iter().filter(|stream| !stream.name.is_empty()).count();
            if named > 0 {
                warnings.push(format!("/{} has named streams ({named})", files.path(*id)));
            }
            let child = tree.add(node, &name, meta_of(entry), kind).map_err(|error| error.within(place()))?;
            if entry.is_folder() && !entry.is_reparse() {
                pending.push((*id, child));
            }
        }
    }
    Ok((tree, warnings))
}

fn meta_of(entry: &Entry) -> Meta {
    Meta {
        modified: Times::to_timestamp(entry.times.written),
        mode: None,
        hidden: entry.attributes & ATTRIBUTE_HIDDEN != 0,
    }
}

/// All blobs of an image file one after another, in the order of their digests: the files of an edition are parts of it.
/// An edition has a hundred thousand; what one takes, and what it is called, is found when it is read.
struct InEdition {
    image: ImageFile,
    number: usize,
    /// Where each blob begins, and the end.
    starts: Vec<u64>,
}

impl InEdition {
    fn of(image: &ImageFile, number: usize) -> Result<Arc<Self>> {
        let mut starts = Vec::with_capacity(image.blob_count() + 1);
        let mut end = 0_u64;
        starts.push(end);
        for place in 0..image.blob_count() {
            end = end.checked_add(image.raw_len_at(place)).ok_or_else(|| Error::Limit {
                what: "bytes of all content".into(),
                offset: 0,
                limit: u64::MAX,
                found: u64::MAX,
            })?;
            starts.push(end);
        }
        Ok(Arc::new(Self { image: image.clone(), number, starts }))
    }

    /// The content with this digest.
    fn content(self: &Arc<Self>, digest: BlobDigest, named: &dyn Fn() -> String) -> Result<Content> {
        if digest.is_none() {
            return Ok(Content::default());
        }
        let Some(place) = self.image.place_of(digest) else {
            return Err(missing(digest).within(named()));
        };
        let (start, len) = (self.starts[place], self.image.raw_len_at(place));
        Content::from_pieces([Piece::Deferred {
            producer: Arc::clone(self) as Arc<dyn Producer>,
            start,
            len,
        }])
    }

    /// Whose content it is: the first file in the edition that has it.
    fn file_with(&self, digest: BlobDigest) -> String {
        let path = self.image.files(self.number).ok().and_then(|files| {
            let id = files.ids().find(|id| files.entry(*id).digests().any(|own| own == digest))?;
            Some(files.path(id))
        });
        format!("edition {}, /{}", self.number, path.unwrap_or_default())
    }
}

impl Producer for InEdition {
    fn len(&self) -> u64 {
        self.starts.last().copied().unwrap_or(0)
    }

    fn sources(&self, found: &mut dyn FnMut(&Arc<Source>)) {
        for part in self.image.parts() {
            part.content.for_each_source(found);
        }
    }

    fn produce(
        &self,
        range: Range<u64>,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        // The last that begins there: others have no bytes.
        let place = self.starts.partition_point(|start| *start <= range.start).saturating_sub(1);
        let (digest, stored) = self.image.blob_at(place);
        let start = self.starts[place];
        if range.end > start + stored.raw_len {
            return Err(Error::internal("content of an edition is read across the end of a file"));
        }
        let named = || self.file_with(digest);
        read_part(&stored, digest, range.start - start..range.end - start, &named, job, each)
    }
}

fn missing(digest: BlobDigest) -> Error {
    Error::mismatch(
        format!("content with the SHA-1 {digest}"),
        "no such blob in the file",
        "a part of the file is missing, or the file is damaged",
    )
}

/// The content with this digest, lazily. `place` says in errors whose it is.
///
/// # Errors
/// `Corrupt` where the image file does not have it.
pub fn content_of(image: &ImageFile, digest: BlobDigest, place: &str) -> Result<Content> {
    if digest.is_none() {
        return Ok(Content::default());
    }
    match image.blob(digest) {
        Some(stored) => Ok(stored.content(digest, place)),
        None => Err(missing(digest).within(place)),
    }
}

/// Where a symbolic link or a mount point leads, with `/` between the parts; nothing for other reparse points.
///
/// # Errors
/// `Corrupt` where its data cannot be read.
pub fn link_target(image: &ImageFile, entry: &Entry) -> Result<Option<String>> {
    let Some(reparse) = entry.reparse() else { return Ok(None) };
    if !matches!(reparse.tag, TAG_SYMLINK | TAG_MOUNT_POINT) {
        return Ok(None);
    }
    let digest = entry.content();
    let Some(stored) = image.blob(digest) else { return Ok(None) };
    let data = stored.to_vec(digest, MAX_REPARSE_LEN, "the data of a reparse point")?;
    Ok(link_target_of(reparse.tag, &data))
}

/// The same from the tag and the data of a reparse point.
pub fn link_target_of(tag: u32, data: &[u8]) -> Option<String> {
    // Names begin after four 16-bit numbers; a symbolic link has 32 bits of flags between ([MS-FSCC] 2.1.2.4, 2.1.2.5).
    let names_at = match tag {
        TAG_SYMLINK => 12,
        TAG_MOUNT_POINT => 8,
        _ => return None,
    };
    let number =
        |at: usize| data.get(at..at + 2).map(|two| usize::from(u16::from_le_bytes([two[0], two[1]])));
    let name = |offset: Option<usize>, len: Option<usize>| {
        let start = names_at + offset?;
        let units =
            data.get(start..start + len?)?.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]]));
        Some(units.collect::<Vec<u16>>()).filter(|units| !units.is_empty())
    };
    // The name for people first, then the one for the system.
    let units = name(number(4), number(6)).or_else(|| name(number(0), number(2)))?;
    Some(String::from_utf16_lossy(&units).replace('\\', "/").replace('\0', ""))
}

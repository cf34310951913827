//! An edition as a tree of names over lazy content, for everything that works on any media.

use crate::{
    BlobDigest, Entry, Files, ImageFile,
    layout::{ATTRIBUTE_HIDDEN, TAG_MOUNT_POINT, TAG_SYMLINK},
    metadata::Times,
    stored::Unpacked,
};
use neat_content::{Content, Error, Folder, Job, Meta, NodeId, NodeKind, Producer, Result, Source, Tree};
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
    let mut warnings = Vec::new();
    let mut pending: Vec<(crate::EntryId, NodeId)> = vec![(Files::ROOT, Tree::ROOT)];
    while let Some((folder, node)) = pending.pop() {
        let path = files.path(folder);
        let slash = if path.is_empty() { "" } else { "/" };
        let inside: Arc<str> = format!("edition {number}, /{path}{slash}").into();
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
                NodeKind::File(content_in(image, entry.content(), &inside, &name)?)
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

/// The content of a file in an edition. An edition has a hundred thousand: what it takes is found when it is read.
struct InEdition {
    image: ImageFile,
    digest: BlobDigest,
    len: u64,
    /// The edition and the folder, with a slash at the end, as errors name them.
    folder: Arc<str>,
    name: Box<str>,
}

impl Producer for InEdition {
    fn len(&self) -> u64 {
        self.len
    }

    fn sources(&self, found: &mut dyn FnMut(&Arc<Source>)) {
        if let Some(stored) = self.image.blob(self.digest) {
            stored.for_each_source(found);
        }
    }

    fn produce(
        &self,
        range: Range<u64>,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        let place = format!("{}{}", self.folder, self.name);
        let Some(stored) = self.image.blob(self.digest) else {
            return Err(missing(self.digest).within(place));
        };
        Unpacked { stored, digest: self.digest, place: place.into() }.produce(range, job, each)
    }
}

fn content_in(image: &ImageFile, digest: BlobDigest, folder: &Arc<str>, name: &str) -> Result<Content> {
    if digest.is_none() {
        return Ok(Content::default());
    }
    let Some(len) = image.blob_len(digest) else {
        return Err(missing(digest).within(format!("{folder}{name}")));
    };
    let (image, folder) = (image.clone(), Arc::clone(folder));
    Ok(Content::deferred(Arc::new(InEdition { image, digest, len, folder, name: name.into() })))
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
    // Names begin after four 16-bit numbers; a symbolic link has 32 bits of flags between ([MS-FSCC] 2.1.2.4, 2.1.2.5).
    let names_at = match reparse.tag {
        TAG_SYMLINK => 12,
        TAG_MOUNT_POINT => 8,
        _ => return Ok(None),
    };
    let digest = entry.content();
    let Some(stored) = image.blob(digest) else { return Ok(None) };
    let data = stored.to_vec(digest, MAX_REPARSE_LEN, "the data of a reparse point")?;
    let number =
        |at: usize| data.get(at..at + 2).map(|two| usize::from(u16::from_le_bytes([two[0], two[1]])));
    let name = |offset: Option<usize>, len: Option<usize>| {
        let start = names_at + offset?;
        let units =
            data.get(start..start + len?)?.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]]));
        Some(units.collect::<Vec<u16>>()).filter(|units| !units.is_empty())
    };
    // The name for people first, then the one for the system.
    let units = name(number(4), number(6)).or_else(|| name(number(0), number(2)));
    Ok(units.map(|units| String::from_utf16_lossy(&units).replace('\\', "/").replace('\0', "")))
}

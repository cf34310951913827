//! A new image file being put together from others.

mod named;
mod plan;

use crate::{
    BlobDigest, BlobHasher, Compression, EditionInfo, Files, ImageFile, Limits, Method, SolidCompression,
    file::{ListedBlob, find_edition},
    layout::{FLAG_READONLY, FLAG_REPARSE_FIX},
    metadata::{self, EditionCounts},
    unread::Written,
    xml::{Child, Element},
};
use named::Named;
use neat_content::{Advice, Content, Error, Hold, Result};
use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};

/// A new image file: which editions it has, and what changed in them. Nothing is read or written until it is written.
#[derive(Clone)]
pub struct ImageDraft {
    sources: Vec<ImageFile>,
    editions: Vec<DraftEdition>,
    /// Content that no source has.
    new_blobs: HashMap<BlobDigest, Content>,
    /// Content that lies in the output already.
    written: Written,
    /// The XML data without the editions.
    xml: Element,
    flags: u32,
    guid: [u8; 16],
    boot: Option<usize>,
    integrity: bool,
    /// Method and chunk size of the file.
    declared: Option<(Method, u32)>,
    new_level: crate::codec::Level,
    repack: bool,
    /// How what is not kept as it lies in a source is put into solid resources, if it is.
    solid: Option<SolidCompression>,
}

#[derive(Clone)]
struct DraftEdition {
    xml: Element,
    tree: DraftTree,
}

#[derive(Clone)]
enum DraftTree {
    /// As in a source, by its number there.
    Kept(usize, usize),
    Edited(Arc<Files>),
    /// Changed, and as it will be written.
    Settled(Settled),
}

/// A tree that is finished: its bytes, held in memory or in an unnamed file.
#[derive(Clone)]
struct Settled {
    content: Content,
    digest: BlobDigest,
    counts: EditionCounts,
    named: Named,
}

impl Settled {
    fn bytes(&self) -> Result<Vec<u8>> {
        self.content.to_vec(self.content.len(), "tree of an edition")
    }
}

/// New names of an edition; what is left out stays.
#[derive(Clone, Debug, Default)]
pub struct Rename {
    /// Name, unique in the file.
    pub name: Option<String>,
    /// Description.
    pub description: Option<String>,
    /// The name that setup shows.
    pub display_name: Option<String>,
    /// The description that setup shows.
    pub display_description: Option<String>,
    /// A word that setup knows the edition by.
    pub flags: Option<String>,
}

/// A tree as it will be written, waiting in `hold`, and its digest. It is nowhere in memory as a whole, unless `hold` has
/// the room.
pub(super) fn written_tree(files: &Files, hold: &Hold) -> Result<(Content, BlobDigest)> {
    let mut hasher = BlobHasher::default();
    let mut spool = hold.spool(metadata::written_len(files)?);
    metadata::write_to(files, &mut |block| {
        hasher.add(block);
        spool.push(block)
    })?;
    Ok((spool.content()?, hasher.finish()))
}

impl ImageDraft {
    /// A draft with no editions; new content is compressed with `compression`, or not at all.
    pub fn new(compression: Option<Compression>) -> Self {
        Self {
            sources: Vec::new(),
            editions: Vec::new(),
            new_blobs: HashMap::new(),
            written: Written::default(),
            xml: Element::with_text("WIM", ""),
            flags: 0,
            guid: [0; 16],
            boot: None,
            integrity: false,
            declared: compression.map(|compression| (compression.method, compression.chunk_len)),
            new_level: compression.map_or(crate::codec::Level::Fast, |compression| compression.level),
            repack: false,
            solid: None,
        }
    }

    /// A draft with all editions of `source`, and its method.
    pub fn of(source: &ImageFile) -> Self {
        let header = source.header();
        let mut xml = source.xml().clone();
        xml.children.retain(|child| !matches!(child, Child::Element(element) if element.name == "IMAGE"));
        let mut draft = Self {
            xml,
            flags: header.flags & (FLAG_READONLY | FLAG_REPARSE_FIX),
            guid: header.guid,
            boot: (header.boot as usize).checked_sub(1),
            integrity: header.has_integrity(),
            declared: header.compression,
            ..Self::new(None)
        };
        draft.add_editions(source, &(1..=source.editions().len()).collect::<Vec<_>>());
        draft
    }

    /// Adds editions of `source` by their numbers there.
    ///
    /// # Errors
    /// `BadRequest` for a number that is not there; `Corrupt` where a tree cannot be read.
    pub fn append(&mut self, source: &ImageFile, numbers: &[usize]) -> Result<()> {
        for number in numbers {
            source.metadata(*number)?;
        }
        self.add_editions(source, numbers);
        self.check_names()
    }

    /// The same; an edition whose name is taken gets `mark` behind its names, so that people can tell them apart.
    ///
    /// # Errors
    /// As [`ImageDraft::append`].
    pub fn append_apart(&mut self, source: &ImageFile, numbers: &[usize], mark: &str) -> Result<()> {
        for number in numbers {
            source.metadata(*number)?;
        }
        let before = self.editions.len();
        self.add_editions(source, numbers);
        for number in before + 1..=self.editions.len() {
            let all = self.editions();
            let own = all[number - 1].clone();
            let is_taken =
                |name: &str| all[..number - 1].iter().any(|other| other.name.eq_ignore_ascii_case(name));
            if !is_taken(&own.name) {
                continue;
            }
            for (element, name) in [("NAME", &own.name), ("DISPLAYNAME", &own.display_name)] {
                if !name.is_empty() {
                    self.editions[number - 1].xml.set(element, Some(&format!("{name} {mark}")));
                }
            }
        }
        self.check_names()
    }

    /// Bytes, as they are stored, of what the editions from number `first` on name, and of what none before them names.
    ///
    /// # Errors
    /// `Corrupt` where a tree cannot be read.
    pub fn stored_from(&self, first: usize) -> Result<(u64, u64)> {
        let mut seen: HashSet<BlobDigest> = HashSet::new();
        let mut own: HashSet<BlobDigest> = HashSet::new();
        for number in 1..=self.editions.len() {
            let of = if number < first { &mut seen } else { &mut own };
            self.walk(number, &mut |_, _, entry| {
                of.extend(entry.digests().filter(|digest| !digest.is_none()));
            })?;
        }
        let sum =
            |digests: &mut dyn Iterator<Item = &BlobDigest>| digests.map(|own| self.packed_len(*own)).sum();
        Ok((sum(&mut own.iter()), sum(&mut own.difference(&seen))))
    }

    fn add_editions(&mut self, source: &ImageFile, numbers: &[usize]) {
        let index = self.sources.len();
        self.sources.push(source.clone());
        self.editions.extend(numbers.iter().map(|number| DraftEdition {
            xml: source.edition_xml(*number).cloned().unwrap_or_else(|| Element::with_text("IMAGE", "")),
            tree: DraftTree::Kept(index, *number),
        }));
    }

    /// Adds an edition with these files; `xml` is its `IMAGE` element, whose counts are filled in. Its content must be
    /// in a source or added with [`ImageDraft::add_blob`].
    ///
    /// # Errors
    /// `BadRequest` for content that was not added.
    pub fn add_edition(&mut self, files: Files, xml: Element) -> Result<()> {
        self.editions.push(DraftEdition { xml, tree: DraftTree::Edited(Arc::new(files)) });
        self.check_names()
    }

    /// Adds content that editions may name.
    pub fn add_blob(&mut self, digest: BlobDigest, content: Content) {
        self.new_blobs.insert(digest, content);
    }

    /// What the editions are, in order.
    pub fn editions(&self) -> Vec<EditionInfo> {
        self.editions.iter().map(|edition| EditionInfo::of(&edition.xml)).collect()
    }

    /// The number of the edition that `wanted` names.
    ///
    /// # Errors
    /// `BadRequest` when none or several fit, naming what there is.
    pub fn find_edition(&self, wanted: &str) -> Result<usize> {
        let name = self
            .sources
            .first()
            .and_then(|source| source.parts().first())
            .map_or("the image file", |part| &part.name);
        find_edition(&self.editions(), wanted, name)
    }

    /// Keeps these editions, numbered from 1, in this order. At least one must stay; none may be named twice.
    ///
    /// # Errors
    /// `BadRequest` for no number, one that is not there, or one named twice.
    pub fn select(&mut self, numbers: &[usize]) -> Result<()> {
        if numbers.is_empty() {
            return Err(Error::request("no edition would be left", "keep at least one"));
        }
        let mut seen = HashSet::new();
        for number in numbers {
            if *number == 0 || *number > self.editions.len() {
                return Err(Error::request(
                    format!("there is no edition {number}"),
                    format!("the editions are 1 to {}", self.editions.len()),
                ));
            }
            if !seen.insert(*number) {
                return Err(Error::request(
                    format!("edition {number} is named twice"),
                    "name each edition once",
                ));
            }
        }
        self.boot = self.boot.and_then(|boot| numbers.iter().position(|number| *number == boot + 1));
        self.editions = numbers.iter().map(|number| self.editions[number - 1].clone()).collect();
        Ok(())
    }

    /// Gives an edition, numbered from 1, new names.
    ///
    /// # Errors
    /// `BadRequest` for a number that is not there, or a name that another edition has.
    pub fn rename(&mut self, number: usize, rename: &Rename) -> Result<()> {
        let Some(edition) = number.checked_sub(1).and_then(|n| self.editions.get_mut(n)) else {
            return Err(Error::request(format!("there is no edition {number}"), Advice::ListEditions));
        };
        for (element, text) in [
            ("NAME", &rename.name),
            ("DESCRIPTION", &rename.description),
            ("DISPLAYNAME", &rename.display_name),
            ("DISPLAYDESCRIPTION", &rename.display_description),
            ("FLAGS", &rename.flags),
        ] {
            if let Some(text) = text {
                if text.chars().any(char::is_control) {
                    return Err(Error::request(format!("{text:?} has control characters"), "leave them out"));
                }
                edition.xml.set(element, Some(text));
            }
        }
        self.check_names()
    }

    fn check_names(&self) -> Result<()> {
        let mut seen: HashMap<String, usize> = HashMap::new();
        for (n, info) in self.editions().iter().enumerate() {
            if let Some(first) =
                seen.insert(info.name.to_lowercase(), n + 1).filter(|_| !info.name.is_empty())
            {
                return Err(Error::request(
                    format!("editions {first} and {} would both be called {:?}", n + 1, info.name),
                    "names are unique in an image file; rename one first",
                ));
            }
        }
        Ok(())
    }

    /// Sets which edition, numbered from 1, is the one that boots.
    ///
    /// # Errors
    /// `BadRequest` for a number that is not there.
    pub fn set_boot(&mut self, number: Option<usize>) -> Result<()> {
        if number.is_some_and(|number| number == 0 || number > self.editions.len()) {
            return Err(Error::request(
                "there is no such edition",
                format!("the editions are 1 to {}", self.editions.len()),
            ));
        }
        self.boot = number.map(|number| number - 1);
        Ok(())
    }

    /// Says that reparse points were made fit for other places, where they say so.
    pub const fn set_reparse_fixed(&mut self) {
        self.flags |= FLAG_REPARSE_FIX;
    }

    /// Whether an integrity table is written.
    pub const fn set_integrity(&mut self, wanted: bool) {
        self.integrity = wanted;
    }

    /// Compresses everything anew, or stores it as it is.
    ///
    /// # Errors
    /// `BadRequest` for a length of chunks that the method does not have.
    pub fn repack(&mut self, compression: Option<Compression>) -> Result<()> {
        if let Some(compression) = compression {
            compression.check()?;
            self.new_level = compression.level;
        }
        self.declared = compression.map(|compression| (compression.method, compression.chunk_len));
        self.repack = true;
        self.solid = None;
        Ok(())
    }

    /// How hard the encoder tries with new content, where what stays is not compressed anew.
    pub const fn set_level(&mut self, level: crate::codec::Level) {
        self.new_level = level;
    }

    /// Puts everything into solid resources, compressed anew. Trees stay by themselves.
    ///
    /// # Errors
    /// `BadRequest` for a length of chunks that there is not, or too little memory.
    pub fn repack_solid(&mut self, solid: SolidCompression) -> Result<()> {
        self.put_into_solid(solid)?;
        self.repack = true;
        Ok(())
    }

    /// Puts into solid resources what is not in one already, and anew what lies in one with content that no edition of
    /// this draft has. Other solid resources of the sources stay as they are.
    ///
    /// # Errors
    /// As [`ImageDraft::repack_solid`].
    pub fn put_into_solid(&mut self, solid: SolidCompression) -> Result<()> {
        let solid = solid.fitted()?;
        self.declared = Some((Method::Lzms, SolidCompression::TREE_CHUNK));
        self.new_level = solid.level;
        self.solid = Some(solid);
        Ok(())
    }

    /// The files of an edition, numbered from 1, to be changed.
    ///
    /// # Errors
    /// `BadRequest` for a number that is not there; `Corrupt` where the tree cannot be read.
    pub fn edit(&mut self, number: usize) -> Result<&mut Files> {
        let files = self.files(number)?;
        let edition = &mut self.editions[number - 1];
        edition.tree = DraftTree::Edited(files);
        match &mut edition.tree {
            DraftTree::Edited(files) => Ok(Arc::make_mut(files)),
            DraftTree::Kept(..) | DraftTree::Settled(_) => {
                Err(Error::internal("an edition that was opened is not open"))
            }
        }
    }

    /// The files of an edition, numbered from 1.
    ///
    /// # Errors
    /// `BadRequest` for a number that is not there; `Corrupt` where the tree cannot be read.
    pub fn files(&self, number: usize) -> Result<Arc<Files>> {
        match number.checked_sub(1).and_then(|n| self.editions.get(n)).map(|edition| &edition.tree) {
            Some(DraftTree::Edited(files)) => Ok(Arc::clone(files)),
            Some(DraftTree::Settled(settled)) => Ok(Arc::new(metadata::read(&settled.bytes()?)?)),
            Some(DraftTree::Kept(source, number)) => Ok(Arc::new(self.sources[*source].files(*number)?)),
            None => Err(Error::request(format!("there is no edition {number}"), Advice::ListEditions)),
        }
    }

    /// Goes through the entries of an edition, numbered from 1, as [`metadata::walk`] does.
    ///
    /// # Errors
    /// As [`ImageDraft::files`].
    pub fn walk(&self, number: usize, each: &mut dyn FnMut(u32, u32, &metadata::Seen<'_>)) -> Result<()> {
        let bytes = match number.checked_sub(1).and_then(|n| self.editions.get(n)).map(|own| &own.tree) {
            Some(DraftTree::Kept(source, number)) => return self.sources[*source].walk(*number, each),
            Some(DraftTree::Settled(settled)) => settled.bytes()?,
            Some(DraftTree::Edited(files)) => metadata::write(files)?,
            None => {
                return Err(Error::request(format!("there is no edition {number}"), Advice::ListEditions));
            }
        };
        metadata::walk(&bytes, &Limits::default(), each)
    }

    /// Gives an edition, numbered from 1, other files.
    ///
    /// # Errors
    /// `BadRequest` for a number that is not there.
    pub fn set_files(&mut self, number: usize, files: Files) -> Result<()> {
        *self.edit(number)? = files;
        Ok(())
    }

    /// Gives an edition, numbered from 1, its last files: they wait in `hold` as they will be written. Their content must
    /// have been added.
    ///
    /// # Errors
    /// `BadRequest` for a number that is not there; `Io` of the unnamed file.
    pub fn settle(&mut self, number: usize, files: Files, hold: &Hold) -> Result<()> {
        self.settle_shared(number, Arc::new(files), hold)
    }

    /// The same for files that the draft has already.
    fn settle_shared(&mut self, number: usize, files: Arc<Files>, hold: &Hold) -> Result<()> {
        let (written, (counts, named)) = rayon::join(
            || written_tree(&files, hold),
            || (files.count(&|digest| self.blob_len(digest)), self.named_by(number, &files)),
        );
        let ((content, digest), named) = (written?, named?);
        drop(files);
        let settled = Settled { content, digest, counts, named };
        match number.checked_sub(1).and_then(|n| self.editions.get_mut(n)) {
            Some(edition) => edition.tree = DraftTree::Settled(settled),
            None => {
                return Err(Error::request(format!("there is no edition {number}"), Advice::ListEditions));
            }
        }
        Ok(())
    }

    /// Says in the XML data of an edition, numbered from 1, which version its system has now: major, minor, build, and
    /// the build of the update. Does nothing where the XML data has no version.
    pub fn set_version(&mut self, number: usize, version: [u64; 4]) {
        if let Some(edition) = number.checked_sub(1).and_then(|n| self.editions.get_mut(n)) {
            crate::info::set_version(&mut edition.xml, version);
        }
    }

    /// Describes the system of an edition, numbered from 1, in its XML data, in an element of this name.
    pub fn set_system(&mut self, number: usize, element: &str, info: &crate::SystemInfo) {
        if let Some(edition) = number.checked_sub(1).and_then(|n| self.editions.get_mut(n)) {
            crate::info::set_system(&mut edition.xml, element, info);
        }
    }

    /// Adds a language to those that the XML data of an edition, numbered from 1, lists.
    pub fn add_language(&mut self, number: usize, language: &str) {
        if let Some(edition) = number.checked_sub(1).and_then(|n| self.editions.get_mut(n)) {
            crate::info::add_language(&mut edition.xml, language);
        }
    }

    /// Content that an edition may name, lazily. `place` says in errors whose it is.
    ///
    /// # Errors
    /// `Corrupt` when no source and nothing that was added has it.
    pub fn content(&self, digest: BlobDigest, place: &str) -> Result<Content> {
        if let Some(content) = self.new_blobs.get(&digest) {
            return Ok(content.clone());
        }
        let source = self.sources.iter().find(|source| source.blob_len(digest).is_some());
        match source.or(self.sources.first()) {
            Some(source) => crate::tree::content_of(source, digest, place),
            None if digest.is_none() => Ok(Content::default()),
            None => Err(Error::internal(format!("no source has the content with the SHA-1 {digest}"))),
        }
    }

    /// Bytes that a blob takes in its source; of new content, its length.
    pub fn packed_len(&self, digest: BlobDigest) -> u64 {
        match self.sources.iter().find_map(|source| source.packed_len(digest)) {
            Some(len) => len,
            None => match self.written.get(digest) {
                Some((_, len)) => len,
                None => self.new_blobs.get(&digest).map_or(0, Content::len),
            },
        }
    }

    fn listed(&self, digest: BlobDigest) -> Option<ListedBlob> {
        self.sources.iter().find_map(|source| source.listed(digest))
    }

    /// Length of a blob that an edition may name; 0 if nobody has it.
    pub fn blob_len(&self, digest: BlobDigest) -> u64 {
        match self.sources.iter().find_map(|source| source.blob_len(digest)) {
            Some(len) => len,
            None => match self.written.get(digest) {
                Some((_, len)) => len,
                None => self.new_blobs.get(&digest).map_or(0, Content::len),
            },
        }
    }
}

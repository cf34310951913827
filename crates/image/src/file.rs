//! An image file, opened.

use crate::{
    BlobDigest, EditionInfo, Files, Header, Limits, Packing, Solid, Stored,
    blobs::BlobTable,
    metadata,
    part::{Row, Table, read_table, read_xml},
    xml::Element,
};
use neat_content::{Content, Error, Job, Result, nearest};
use std::sync::Arc;

/// An image file with all its parts, opened for reading. Cheap to clone.
#[derive(Clone)]
pub struct ImageFile {
    inner: Arc<Inner>,
}

struct Inner {
    parts: Vec<OpenPart>,
    blobs: BlobTable,
    /// The solid resources of each part.
    solids: Vec<Vec<Arc<Solid>>>,
    metadata: Vec<(BlobDigest, Stored)>,
    xml: Element,
    editions: Vec<EditionInfo>,
    warnings: Vec<String>,
    limits: Limits,
}

/// A blob in the resource tables.
#[derive(Clone)]
pub struct ListedBlob {
    /// Where and how it lies.
    pub stored: Stored,
    /// Which of the files holds it, from 0.
    pub part: usize,
    /// How many names it has in all editions, as the table says.
    pub references: u32,
}

/// One file of it.
pub struct OpenPart {
    /// What it is called in messages.
    pub name: String,
    /// Its bytes.
    pub content: Content,
    /// Its header.
    pub header: Header,
}

/// What a part that was given is called, and its bytes.
pub type NamedContent = (String, Content);

impl ImageFile {
    /// Opens an image file that is not split.
    ///
    /// # Errors
    /// `Corrupt` for what is none or damaged, `Unsupported` for other versions and methods, `BadRequest` for one part
    /// of several.
    pub fn open(name: &str, content: Content) -> Result<Self> {
        Self::open_parts(vec![(name.to_owned(), content)])
    }

    /// Opens all parts of an image file, in any order.
    ///
    /// Fails if one is missing, foreign or there twice, naming it.
    ///
    /// # Errors
    /// As [`ImageFile::open`]; `BadRequest` when parts are missing, there twice, or of different image files.
    pub fn open_parts(files: Vec<NamedContent>) -> Result<Self> {
        Self::open_parts_with(files, &Limits::default())
    }

    /// As [`ImageFile::open_parts`], with limits of the caller's, which hold for everything read of it later too.
    ///
    /// # Errors
    /// As [`ImageFile::open_parts`]; `LimitExceeded` for more than the limits allow.
    pub fn open_parts_with(files: Vec<NamedContent>, limits: &Limits) -> Result<Self> {
        let mut parts = Vec::with_capacity(files.len());
        for (name, content) in files {
            let header = Header::read(&content).map_err(|error| error.within(&name))?;
            parts.push(OpenPart { name, content, header });
        }
        check_parts(&mut parts)?;
        let mut inner = Inner {
            parts: Vec::new(),
            blobs: BlobTable::default(),
            metadata: Vec::new(),
            xml: Element::default(),
            editions: Vec::new(),
            solids: Vec::new(),
            warnings: Vec::new(),
            limits: *limits,
        };
        let mut rows = Vec::new();
        for part in &parts {
            let table =
                read_table(&part.content, &part.header, limits).map_err(|error| error.within(&part.name))?;
            inner.add(table, &mut rows);
            if part.header.is_unfinished() {
                inner.warnings.push(format!("{} says that somebody was still writing to it", part.name));
            }
        }
        inner.blobs = BlobTable::of(rows);
        let first = &parts[0];
        let expected = first.header.editions as usize;
        if inner.metadata.len() != expected {
            let error = Error::bad_field(
                "Header",
                "image_count",
                44,
                format!("{} as in the resource table", inner.metadata.len()),
                expected,
            );
            return Err(error.within(&first.name));
        }
        let text =
            read_xml(&first.content, &first.header, limits).map_err(|error| error.within(&first.name))?;
        if text.is_empty() {
            inner.xml = Element::with_text("WIM", "");
            inner.warnings.push("there is no XML data, so the editions have no names".into());
        } else {
            inner.xml = Element::parse_with(&text, limits)
                .map_err(|error| error.within(format!("XML data of {}", first.name)))?;
        }
        inner.editions = (1..=expected)
            .map(|number| inner.image_element(number).map(EditionInfo::of).unwrap_or_default())
            .collect();
        if inner.solids.iter().any(|solids| !solids.is_empty()) && is_ours(&first.header.guid) {
            inner.warnings.push(
                "its solid resources are as this program writes them, which no reader of another maker has confirmed yet"
                    .into(),
            );
        }
        inner.parts = parts;
        Ok(Self { inner: Arc::new(inner) })
    }

    /// The files it consists of, in order.
    pub fn parts(&self) -> &[OpenPart] {
        &self.inner.parts
    }

    /// The header of the first part.
    pub fn header(&self) -> &Header {
        &self.inner.parts[0].header
    }

    /// The editions in order.
    pub fn editions(&self) -> &[EditionInfo] {
        &self.inner.editions
    }

    /// Number of solid resources.
    pub fn solid_count(&self) -> usize {
        self.inner.solids.iter().map(Vec::len).sum()
    }

    /// The largest chunk of its solid resources before compression, in bytes; nothing without any.
    pub fn solid_chunk_len(&self) -> Option<u32> {
        self.inner.solids.iter().flatten().map(|solid| solid.chunk_len()).max()
    }

    /// Bytes of all its files.
    pub fn len(&self) -> u64 {
        self.inner.parts.iter().map(|part| part.content.len()).sum()
    }

    /// Whether it has no bytes, which no image file has.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// What was unusual but not wrong enough to stop.
    pub fn warnings(&self) -> &[String] {
        &self.inner.warnings
    }

    /// The whole XML data.
    pub fn xml(&self) -> &Element {
        &self.inner.xml
    }

    /// The `IMAGE` element of an edition, numbered from 1.
    pub fn edition_xml(&self, number: usize) -> Option<&Element> {
        self.inner.image_element(number)
    }

    /// Where a blob lies.
    pub fn blob(&self, digest: BlobDigest) -> Option<Stored> {
        self.listed(digest).map(|blob| blob.stored)
    }

    /// Length of a blob before compression.
    pub fn blob_len(&self, digest: BlobDigest) -> Option<u64> {
        self.inner.blobs.get(digest).map(|row| row.raw_len)
    }

    /// Bytes that a blob takes in the file; of a solid one its share of the resource, by length.
    pub fn packed_len(&self, digest: BlobDigest) -> Option<u64> {
        self.place_of(digest).map(|place| self.packed_len_at(place))
    }

    /// Digest and place in the file of the blob at a place, which must be there.
    pub(crate) fn blob_at(&self, place: usize) -> (BlobDigest, Stored) {
        let (digest, row) = self.inner.blobs.row(place);
        (digest, self.inner.listed(row).stored)
    }

    /// As [`ImageFile::blob_len`], by the place of the blob, which must be there.
    pub(crate) fn raw_len_at(&self, place: usize) -> u64 {
        self.inner.blobs.row(place).1.raw_len
    }

    /// As [`ImageFile::packed_len`], by the place of the blob, which must be there.
    pub(crate) fn packed_len_at(&self, place: usize) -> u64 {
        let (_, row) = self.inner.blobs.row(place);
        if row.solid == Row::APART { row.len } else { self.inner.listed(row).stored.packed_len() }
    }

    /// A blob as the tables list it.
    pub(crate) fn listed(&self, digest: BlobDigest) -> Option<ListedBlob> {
        self.inner.blobs.get(digest).map(|row| self.inner.listed(row))
    }

    /// Where a blob stands among [`ImageFile::blobs`].
    pub(crate) fn place_of(&self, digest: BlobDigest) -> Option<usize> {
        self.inner.blobs.place(digest)
    }

    /// All blobs, in the order of their digests.
    pub fn blobs(&self) -> impl Iterator<Item = (BlobDigest, ListedBlob)> {
        self.inner.blobs.iter().map(|(digest, row)| (digest, self.inner.listed(row)))
    }

    /// Number of blobs.
    pub fn blob_count(&self) -> usize {
        self.inner.blobs.len()
    }

    /// The metadata resource of an edition, numbered from 1, and its digest.
    ///
    /// # Errors
    /// `BadRequest` for a number that is not there.
    pub fn metadata(&self, number: usize) -> Result<(BlobDigest, &Stored)> {
        let found = number.checked_sub(1).and_then(|n| self.inner.metadata.get(n));
        found.map(|(digest, stored)| (*digest, stored)).ok_or_else(|| {
            let count = self.inner.metadata.len();
            Error::request(
                format!("there is no edition {number} in {}", self.inner.parts[0].name),
                if count == 1 {
                    "there is only edition 1".to_owned()
                } else {
                    format!("the editions are 1 to {count}")
                },
            )
        })
    }

    /// The files of an edition, numbered from 1.
    ///
    /// # Errors
    /// `BadRequest` for a number that is not there; `Corrupt` where the tree cannot be read.
    pub fn files(&self, number: usize) -> Result<Files> {
        self.in_tree(number, |bytes| metadata::read_with(bytes, &self.inner.limits))
    }

    /// Goes through the entries of an edition, numbered from 1, as [`metadata::walk`] does.
    ///
    /// # Errors
    /// As [`ImageFile::files`].
    pub fn walk(&self, number: usize, each: &mut dyn FnMut(u32, u32, &metadata::Seen<'_>)) -> Result<()> {
        self.in_tree(number, |bytes| metadata::walk(bytes, &self.inner.limits, each))
    }

    fn in_tree<T>(&self, number: usize, read: impl FnOnce(&[u8]) -> Result<T>) -> Result<T> {
        let (digest, stored) = self.metadata(number)?;
        let place = format!("edition {number} of {}", self.inner.parts[0].name);
        let bytes = stored.to_vec(digest, self.inner.limits.metadata, "the edition's tree");
        bytes.and_then(|bytes| read(&bytes)).map_err(|error| error.within(place))
    }

    /// The number of the edition that `wanted` names: a number, a name, a display name or a flag word, in any case.
    ///
    /// # Errors
    /// `BadRequest` when none or several fit, naming what there is.
    pub fn find_edition(&self, wanted: &str) -> Result<usize> {
        find_edition(&self.inner.editions, wanted, &self.inner.parts[0].name)
    }

    /// Digests the content between header and table of each part and compares it with its integrity table. Parts
    /// without one pass.
    ///
    /// # Errors
    /// `Corrupt`, with the piece, where a digest differs; `Io`, `Cancelled`.
    pub fn check_integrity(&self, job: &Job<'_>) -> Result<()> {
        for part in &self.inner.parts {
            crate::integrity::check(part, job).map_err(|error| error.within(&part.name))?;
        }
        Ok(())
    }
}

impl Inner {
    /// Adds the table of the next part, its blobs to `rows`.
    fn add(&mut self, mut table: Table, rows: &mut Vec<(BlobDigest, Row)>) {
        self.metadata.append(&mut table.metadata);
        self.solids.push(table.solids);
        if rows.is_empty() { *rows = table.blobs } else { rows.append(&mut table.blobs) }
    }

    fn listed(&self, row: &Row) -> ListedBlob {
        let part = usize::from(row.part);
        let OpenPart { content, header, .. } = &self.parts[part];
        let stored = row.stored(content, header, &self.solids[part]);
        ListedBlob { stored, part, references: row.references }
    }

    fn image_element(&self, number: usize) -> Option<&Element> {
        let wanted = number.to_string();
        self.xml
            .elements()
            .find(|element| element.name == "IMAGE" && element.attribute("INDEX").as_deref() == Some(&wanted))
    }
}

/// Whether a file has a GUID as [`ImageDraft`](crate::ImageDraft) derives it, in the form of RFC 9562, version 8. Other
/// writers choose theirs by chance, version 4.
fn is_ours(guid: &[u8; 16]) -> bool {
    guid[7] >> 4 == 8 && guid[8] >> 6 == 2
}

/// The number of the edition that `wanted` names among `editions` of the file `file`.
pub(crate) fn find_edition(editions: &[EditionInfo], wanted: &str, file: &str) -> Result<usize> {
    let wanted = wanted.trim();
    if let Ok(number) = wanted.parse::<usize>()
        && (1..=editions.len()).contains(&number)
    {
        return Ok(number);
    }
    let ways: [fn(&EditionInfo) -> &str; 3] =
        [|info| info.name.as_str(), |info| info.display_name.as_str(), |info| info.flags.as_str()];
    for way in ways {
        let fits = |info: &EditionInfo| way(info).to_lowercase() == wanted.to_lowercase();
        let mut found = editions.iter().enumerate().filter(|(_, info)| fits(info)).map(|(n, _)| n + 1);
        match (found.next(), found.next()) {
            (Some(number), None) => return Ok(number),
            (Some(first), Some(second)) => {
                return Err(Error::request(
                    format!("{wanted:?} is the name of edition {first} and of edition {second} in {file}"),
                    "give the number",
                ));
            }
            _ => {}
        }
    }
    let names: Vec<String> =
        editions.iter().enumerate().map(|(n, info)| format!("{} {:?}", n + 1, info.name)).collect();
    let near = nearest(wanted, editions.iter().map(|info| info.name.as_str()));
    let hint = match near {
        Some(near) => format!("did you mean {near:?}? It holds {}", names.join(", ")),
        None if names.is_empty() => "it holds none".to_owned(),
        None => format!("it holds {}", names.join(", ")),
    };
    Err(Error::request(format!("there is no edition {wanted:?} in {file}"), hint))
}

fn check_parts(parts: &mut [OpenPart]) -> Result<()> {
    let Some(first) = parts.first() else {
        return Err(Error::request("no part of an image file was given", "name at least one"));
    };
    let (guid, total) = (first.header.guid, first.header.parts);
    if let Some(foreign) = parts.iter().find(|part| part.header.guid != guid || part.header.parts != total) {
        return Err(Error::Mismatch {
            expected: format!("parts of one image file: {} is one of {total}", first.name),
            found: format!("{}, which belongs to another", foreign.name),
            hint: "leave that file out; parts of one file carry the same GUID".into(),
        });
    }
    parts.sort_by_key(|part| part.header.part);
    if let Some(pair) = parts.windows(2).find(|pair| pair[0].header.part == pair[1].header.part) {
        return Err(Error::Mismatch {
            expected: format!("each of the {total} parts once"),
            found: format!("part {} twice: {} and {}", pair[0].header.part, pair[0].name, pair[1].name),
            hint: "leave one of the two out".into(),
        });
    }
    let missing = (1..=total).find(|number| !parts.iter().any(|part| part.header.part == *number));
    if let Some(missing) = missing {
        return Err(Error::Mismatch {
            expected: format!("all {total} parts of {}", parts[0].name),
            found: format!("{} of them; part {missing} is missing", parts.len()),
            hint: "put it beside the others".into(),
        });
    }
    Ok(())
}

impl Stored {
    /// Bytes that the blob takes in its file; of a solid one its share of the resource, by length.
    pub fn packed_len(&self) -> u64 {
        match &self.packing {
            Packing::Solid { group, .. } if group.raw_len() > 0 => {
                (u128::from(group.packed_len()) * u128::from(self.raw_len) / u128::from(group.raw_len()))
                    as u64
            }
            _ => self.bytes.len(),
        }
    }
}

/// Names that the other parts of the file called `name` may have, among `names`: what differs only in the number before
/// the ending, as in `install.swm`, `install2.swm`.
pub fn sibling_names<'a>(name: &str, names: impl Iterator<Item = &'a str>) -> Vec<&'a str> {
    let stem = |name: &str| -> Option<(String, String)> {
        let (stem, ending) = name.rsplit_once('.')?;
        Some((stem.trim_end_matches(|c: char| c.is_ascii_digit()).to_lowercase(), ending.to_lowercase()))
    };
    let own = stem(name);
    names.filter(|other| own.is_some() && stem(other) == own).collect()
}

/// Opens the image file that the file `path` is, or is a part of; the other parts are looked for beside it.
///
/// # Errors
/// As [`ImageFile::open_parts`]; `Io`.
pub fn open_path(path: &std::path::Path) -> Result<ImageFile> {
    let source = neat_content::Source::open(path)?;
    let content = Content::from_source(source);
    let shown = path.display().to_string();
    let header = Header::read(&content).map_err(|error| error.within(&shown))?;
    let mut files = vec![(shown, content)];
    if header.parts > 1 {
        let folder = path
            .parent()
            .filter(|folder| !folder.as_os_str().is_empty())
            .unwrap_or(std::path::Path::new("."));
        let own = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let listed = std::fs::read_dir(folder).map_err(Error::io("list", folder))?;
        let names: Vec<String> =
            listed.flatten().filter_map(|entry| entry.file_name().into_string().ok()).collect();
        for name in sibling_names(&own, names.iter().map(String::as_str)) {
            if name == own {
                continue;
            }
            let other = folder.join(name);
            let content = Content::from_source(neat_content::Source::open(&other)?);
            // What only looks like a part by its name is none.
            if Header::read(&content)
                .is_ok_and(|other| other.guid == header.guid && other.parts == header.parts)
            {
                files.push((other.display().to_string(), content));
            }
        }
    }
    ImageFile::open_parts(files)
}

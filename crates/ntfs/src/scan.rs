//! All files of a volume, from its file table, read once from the start to the end.

use crate::{
    Volume,
    record::{self, Body, FOLDER, IN_USE, Record, Reference, kind},
    resident::InRecord,
    streams::{Kept, Value},
    system_compressed,
};
use neat_content::{Content, Error, FieldReader, Job, ReadAt, Result};
use neat_image::{
    Name, Times,
    layout::{ATTRIBUTE_REPARSE, ATTRIBUTE_SPARSE},
};
use std::{collections::HashMap, sync::Arc};

/// Bytes of the file table that are read at once.
const AT_ONCE: u64 = 1 << 20;
/// Longest data of a reparse point, in bytes ([MS-FSCC] 2.1.2).
const LONGEST_REPARSE: u64 = 16 << 10;
/// Longest descriptor that a file has itself, in bytes.
const LONGEST_DESCRIPTOR: u64 = 256 << 10;

/// A file or folder.
pub(crate) struct Found {
    pub reference: Reference,
    pub is_folder: bool,
    pub attributes: u32,
    pub times: Times,
    /// Who may do what with it.
    pub security: Security,
    /// Whether names in the folder that differ in case alone are different.
    pub minds_case: bool,
    pub content: Option<Placed>,
    /// What most do not have.
    pub more: Option<Box<More>>,
}

/// A descriptor: of the volume, or of files themselves, as older volumes and other systems have them.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Security {
    /// By its number among those of the volume.
    OfVolume(u32),
    /// By its place in [`Scanned::descriptors`].
    OfFiles(u32),
}

/// Content, and where on the volume it begins. There may be hundreds of thousands, and most are of two simple kinds.
pub(crate) enum Placed {
    /// `len` bytes from byte `start` of record `record` on, read again when it is wanted.
    Record { record: u64, start: u16, len: u32 },
    /// Bytes that lie together on the volume.
    Together { at: u64, len: u64 },
    /// Everything else.
    Other(Box<(Content, u64)>),
}

impl Placed {
    fn other(content: Content, at: u64) -> Self {
        Self::Other(Box::new((content, at)))
    }

    /// Bytes.
    pub(crate) fn len(&self) -> u64 {
        match self {
            Self::Record { len, .. } => (*len).into(),
            Self::Together { len, .. } => *len,
            Self::Other(own) => own.0.len(),
        }
    }

    /// Where it begins, in bytes from the start of the volume.
    pub(crate) fn at(&self, volume: &Volume) -> u64 {
        match self {
            Self::Record { record, .. } => volume.record_offset(*record),
            Self::Together { at, .. } => *at,
            Self::Other(own) => own.1,
        }
    }

    /// The content.
    pub(crate) fn content(&self, volume: &Arc<Volume>) -> Content {
        match self {
            Self::Record { record, start, len } => InRecord::content(volume, *record, *start, *len),
            // That it lies on the volume was seen when it was found.
            Self::Together { at, len } => volume.content.part(*at, *len).unwrap_or_default(),
            Self::Other(own) => own.0.clone(),
        }
    }
}

#[derive(Default)]
pub(crate) struct More {
    pub streams: Vec<(Name, Placed)>,
    /// Kind and data of a reparse point.
    pub reparse: Option<(u32, Placed)>,
    pub object_id: Option<[u8; 16]>,
    /// Whether it has extended attributes.
    pub has_extended: bool,
    /// What cannot be read of it.
    pub damage: Option<Error>,
}

/// A name that a file has in a folder.
pub(crate) struct Link {
    /// Its place among the files.
    pub of: u32,
    pub folder: Reference,
    pub is_short: bool,
    pub name: Name,
}

/// What the file table holds.
#[derive(Default)]
pub(crate) struct Scanned {
    pub files: Vec<Found>,
    pub links: Vec<Link>,
    /// Descriptors that files have themselves, each once.
    pub descriptors: HashMap<Box<[u8]>, u32>,
    /// Records that are in use and cannot be read.
    pub damaged: Vec<(u64, Error)>,
}

/// Reads the whole file table.
pub(crate) fn scan(volume: &Arc<Volume>, job: &Job<'_>) -> Result<Scanned> {
    let len = volume.geometry().record;
    let in_use = volume.table_map();
    let mut scanned = Scanned::default();
    // Room for all at once, as far as records really lie on the volume: growing takes twice as much for a moment.
    let count =
        in_use.as_ref().map_or(0, |map| map.iter().map(|byte| byte.count_ones() as usize).sum::<usize>());
    let count = count.min(usize::try_from(volume.table.len() / len).unwrap_or(0));
    scanned.files.reserve_exact(count);
    scanned.links.reserve_exact(count);
    let per_block = (AT_ONCE / len).max(1);
    let mut block = Vec::new();
    let mut number = 0;
    while number < volume.records() {
        job.check()?;
        let count = per_block.min(volume.records() - number);
        block.resize((count * len) as usize, 0);
        volume.table.read_exact_at(number * len, &mut block)?;
        for bytes in block.chunks_exact_mut(len as usize) {
            if let Err(error) = scanned.add(volume, number, bytes) {
                if error.is_io() {
                    return Err(error);
                }
                // What is not in use may hold anything.
                let is_used = in_use.as_ref().is_none_or(|map| {
                    map.get((number / 8) as usize).is_some_and(|byte| byte >> (number % 8) & 1 == 1)
                });
                if is_used {
                    scanned.damaged.push((number, error));
                }
            }
            number += 1;
        }
    }
    Ok(scanned)
}

impl Scanned {
    fn add(&mut self, volume: &Arc<Volume>, number: u64, bytes: &mut [u8]) -> Result<()> {
        if bytes.iter().take(4).all(|byte| *byte == 0) && bytes.iter().all(|byte| *byte == 0) {
            return Ok(());
        }
        let at = volume.record_offset(number);
        record::put_back(bytes, *b"FILE", at)?;
        let record = Record::parse(bytes, number, at)?;
        // A record that continues another is read with it.
        if record.flags & IN_USE == 0 || record.base.is_some() {
            return Ok(());
        }
        let values = volume.values(&record)?;
        let of = self.files.len() as u32;
        let mut builder = Builder::new(volume, &record, &mut self.descriptors);
        let before = self.links.len();
        for value in values {
            let damage = match value {
                Ok(value) if value.kind == kind::NAME => {
                    link(&value, of).map(|link| self.links.push(link)).err()
                }
                Ok(value) => builder.take(value).err(),
                Err(error) => Some(error),
            };
            if let Some(error) = damage {
                builder.more().damage.get_or_insert(error);
            }
        }
        if self.links.len() == before {
            return Ok(());
        }
        self.files.push(builder.finish());
        Ok(())
    }
}

/// A name ($FILE_NAME).
fn link(value: &Value, of: u32) -> Result<Link> {
    let Kept::Here { bytes, .. } = &value.body else {
        return Err(Error::bad_field(
            "FileName",
            "place",
            value.at,
            "a value in the record",
            "one in clusters",
        ));
    };
    let mut fields = FieldReader::new(bytes, value.at, "FileName");
    let folder = Reference::from_raw(fields.u64_le()?);
    fields.seek(0x40)?;
    let (len, space) = (usize::from(fields.u8()?), fields.u8()?);
    let units: Vec<u16> =
        fields.take(2 * len)?.chunks_exact(2).map(|two| u16::from_le_bytes([two[0], two[1]])).collect();
    Ok(Link { of, folder, is_short: space == 2, name: Name::from_units(units) })
}

struct Builder<'a> {
    volume: &'a Arc<Volume>,
    descriptors: &'a mut HashMap<Box<[u8]>, u32>,
    found: Found,
    packed: Option<(Value, Content)>,
    way: Option<system_compressed::Way>,
    /// Length of the ordinary content.
    len: u64,
}

impl<'a> Builder<'a> {
    fn new(
        volume: &'a Arc<Volume>,
        record: &Record<'_>,
        descriptors: &'a mut HashMap<Box<[u8]>, u32>,
    ) -> Self {
        let found = Found {
            reference: record.reference,
            is_folder: record.flags & FOLDER != 0,
            attributes: 0,
            times: Times::default(),
            security: Security::OfVolume(0),
            minds_case: false,
            content: None,
            more: None,
        };
        Self { volume, descriptors, found, packed: None, way: None, len: 0 }
    }

    fn more(&mut self) -> &mut More {
        self.found.more.get_or_insert_default()
    }

    fn take(&mut self, value: Value) -> Result<()> {
        match value.kind {
            kind::STANDARD => self.standard(&value),
            kind::DATA => self.data(value),
            kind::SECURITY => {
                let bytes = self.volume.bytes(&value, LONGEST_DESCRIPTOR, "security descriptor")?;
                let next = self.descriptors.len() as u32;
                let number = match self.descriptors.get(bytes.as_slice()) {
                    Some(number) => *number,
                    None => *self.descriptors.entry(bytes.into()).or_insert(next),
                };
                self.found.security = Security::OfFiles(number);
                Ok(())
            }
            kind::OBJECT_ID => {
                if let Kept::Here { bytes, .. } = &value.body {
                    self.more().object_id = bytes.first_chunk().copied();
                }
                Ok(())
            }
            kind::EXTENDED => {
                self.more().has_extended = true;
                Ok(())
            }
            kind::REPARSE => self.reparse(&value),
            _ => Ok(()),
        }
    }

    /// $STANDARD_INFORMATION: times, attributes, the number of the descriptor.
    fn standard(&mut self, value: &Value) -> Result<()> {
        let bytes = self.volume.bytes(value, 4096, "standard information")?;
        let mut fields = FieldReader::new(&bytes, value.at, "StandardInformation");
        let (created, written, _changed, accessed) =
            (fields.u64_le()?, fields.u64_le()?, fields.u64_le()?, fields.u64_le()?);
        self.found.times = Times { created, accessed, written };
        self.found.attributes = fields.u32_le()?;
        fields.skip(4)?;
        let version = fields.u32_le()?;
        self.found.minds_case = self.found.is_folder && version & 1 != 0;
        // Older volumes have no number here.
        if fields.remaining() >= 12 {
            fields.skip(8)?;
            let number = fields.u32_le()?;
            if matches!(self.found.security, Security::OfVolume(_)) {
                self.found.security = Security::OfVolume(number);
            }
        }
        Ok(())
    }

    fn data(&mut self, value: Value) -> Result<()> {
        if value.is_named(system_compressed::STREAM) {
            let content = value.content(&self.volume.content, self.volume.geometry().cluster)?;
            self.packed = Some((value, content));
            return Ok(());
        }
        let placed = self.placed(&value);
        if value.name.is_empty() {
            self.len = value.len();
            self.found.content = Some(placed?);
        } else {
            let placed = placed?;
            self.more().streams.push((Name::from_units(value.name), placed));
        }
        Ok(())
    }

    fn placed(&self, value: &Value) -> Result<Placed> {
        let cluster = self.volume.geometry().cluster;
        if let Kept::Here { bytes, record, start } = &value.body {
            // A record is shorter than this.
            return Ok(Placed::Record { record: *record, start: *start as u16, len: bytes.len() as u32 });
        }
        if let Some((at, len)) = value.together(cluster) {
            self.volume.content.part(at, len)?;
            return Ok(Placed::Together { at, len });
        }
        Ok(Placed::other(value.content(&self.volume.content, cluster)?, value.place(cluster)))
    }

    /// A reparse point ([MS-FSCC] 2.1.2.1): tag, length, reserved, data.
    fn reparse(&mut self, value: &Value) -> Result<()> {
        let bytes = self.volume.bytes(value, LONGEST_REPARSE, "reparse point")?;
        let mut fields = FieldReader::new(&bytes, value.at, "ReparsePoint");
        let tag = fields.u32_le()?;
        let len = usize::from(fields.u16_le()?);
        fields.skip(2)?;
        // Where the tag is not one of the system's own, an identifier of 16 bytes comes before the data and is not
        // counted ([MS-FSCC] 2.1.2.3); it belongs to what is kept.
        let guid = if tag >> 31 == 0 { 16 } else { 0 };
        let data = fields.take(len + guid)?;
        if tag == system_compressed::TAG {
            self.way = Some(system_compressed::way(data, value.at)?);
            return Ok(());
        }
        let placed = Placed::other(Content::from_bytes(data), value.place(self.volume.geometry().cluster));
        self.more().reparse = Some((tag, placed));
        Ok(())
    }

    fn finish(mut self) -> Found {
        match (self.way, self.packed.take()) {
            (Some(way), Some((value, packed))) => {
                let at = value.place(self.volume.geometry().cluster);
                let content = system_compressed::content(way, packed, self.len);
                self.found.content = Some(Placed::other(content, at));
                // To whoever opens it, it is a file like others.
                self.found.attributes &= !(ATTRIBUTE_REPARSE | ATTRIBUTE_SPARSE);
            }
            (Some(_), None) => {
                let at = self.volume.record_offset(self.found.reference.number);
                let error =
                    Error::bad_field("SystemCompression", "stream", at, "the stream of the chunks", "none");
                self.more().damage.get_or_insert(error);
            }
            (None, Some((value, content))) => {
                let at = value.place(self.volume.geometry().cluster);
                self.more().streams.push((Name::from_units(value.name), Placed::other(content, at)));
            }
            (None, None) => {}
        }
        self.found
    }
}

impl Volume {
    /// Which records of the file table are in use, if that can be read.
    fn table_map(&self) -> Option<Vec<u8>> {
        let bytes = self.record_bytes(0).ok()?;
        let record = Record::parse(&bytes, 0, self.record_offset(0)).ok()?;
        let values = self.values(&record).ok()?;
        let map = values.into_iter().flatten().find(|value| value.kind == 0xB0)?;
        self.bytes(&map, 1 << 30, "map of the file table").ok()
    }

    /// What the value of a record's attribute is, from byte `start` of the record on.
    pub(crate) fn in_record(&self, number: u64, start: usize, len: usize) -> Result<Vec<u8>> {
        let bytes = self.record_bytes(number)?;
        let record = Record::parse(&bytes, number, self.record_offset(number))?;
        for attribute in record.attributes() {
            if let Body::Here { value, start: own } = attribute?.body
                && own == start
                && value.len() == len
            {
                return Ok(value.to_vec());
            }
        }
        Err(Error::failed(
            format!("record {number} of the file table changed while it was in use"),
            "let nothing write to the disk and try again",
        ))
    }
}

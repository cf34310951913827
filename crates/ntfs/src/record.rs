//! A record of the file table and the attributes in it.

use neat_content::{Error, FieldReader, Result};

/// Bytes that one number of the update sequence stands for.
const STRIDE: usize = 512;
/// Ends the attributes of a record.
const END: u32 = 0xFFFF_FFFF;

/// The record is in use.
pub(crate) const IN_USE: u16 = 1;
/// The record is a folder's.
pub(crate) const FOLDER: u16 = 2;

/// Kinds of attributes.
pub(crate) mod kind {
    pub(crate) const STANDARD: u32 = 0x10;
    pub(crate) const LIST: u32 = 0x20;
    pub(crate) const NAME: u32 = 0x30;
    pub(crate) const OBJECT_ID: u32 = 0x40;
    pub(crate) const SECURITY: u32 = 0x50;
    pub(crate) const VOLUME_NAME: u32 = 0x60;
    pub(crate) const VOLUME_INFORMATION: u32 = 0x70;
    pub(crate) const DATA: u32 = 0x80;
    pub(crate) const INDEX_ROOT: u32 = 0x90;
    pub(crate) const INDEX_BLOCKS: u32 = 0xA0;
    pub(crate) const REPARSE: u32 = 0xC0;
    pub(crate) const EXTENDED: u32 = 0xE0;
}

/// A record's number and how often it was used anew.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct Reference {
    pub number: u64,
    pub sequence: u16,
}

impl Reference {
    pub(crate) const fn from_raw(raw: u64) -> Self {
        Self { number: raw & 0xFFFF_FFFF_FFFF, sequence: (raw >> 48) as u16 }
    }
}

/// A record in memory, its last bytes of each sector put back.
pub(crate) struct Record<'a> {
    bytes: &'a [u8],
    /// Where it lies, in bytes from the start of the volume.
    pub at: u64,
    pub reference: Reference,
    pub flags: u16,
    /// The record that this one continues.
    pub base: Option<Reference>,
    first: usize,
}

/// Puts back the two bytes at the end of each sector that the update sequence keeps, and checks that all sectors were
/// written together. `at` is where the bytes lie in the volume.
pub(crate) fn put_back(bytes: &mut [u8], magic: [u8; 4], at: u64) -> Result<()> {
    let structure = "UpdateSequence";
    if bytes.len() < STRIDE || bytes[..4] != magic {
        let found = String::from_utf8_lossy(bytes.get(..4).unwrap_or_default()).into_owned();
        let expected = format!("{:?}", String::from_utf8_lossy(&magic));
        return Err(Error::bad_field("Record", "signature", at, expected, format!("{found:?}")));
    }
    let start = usize::from(u16::from_le_bytes([bytes[4], bytes[5]]));
    let count = usize::from(u16::from_le_bytes([bytes[6], bytes[7]]));
    let strides = bytes.len() / STRIDE;
    if count != strides + 1 {
        return Err(Error::bad_field(structure, "count", at + 6, (strides + 1).to_string(), count));
    }
    let end = start + 2 * count;
    if start < 8 || end > STRIDE - 2 {
        return Err(Error::bad_field(structure, "place", at + 4, "one in the first sector", start));
    }
    let sequence: Vec<[u8; 2]> = bytes[start..end].chunks_exact(2).map(|two| [two[0], two[1]]).collect();
    for (n, kept) in sequence.iter().skip(1).enumerate() {
        let last = (n + 1) * STRIDE - 2;
        let found = [bytes[last], bytes[last + 1]];
        if found != sequence[0] {
            let [expected, found] =
                [sequence[0], found].map(|two| format!("{:#06x}", u16::from_le_bytes(two)));
            return Err(Error::bad_field(structure, "number", at + last as u64, expected, found));
        }
        bytes[last..last + 2].copy_from_slice(kept);
    }
    Ok(())
}

impl<'a> Record<'a> {
    /// Reads the head of record `number`, whose bytes are as [`put_back`] leaves them.
    pub(crate) fn parse(bytes: &'a [u8], number: u64, at: u64) -> Result<Self> {
        let mut fields = FieldReader::new(bytes, at, "Record");
        fields.seek(0x10)?;
        let sequence = fields.u16_le()?;
        fields.skip(2)?;
        let first = usize::from(fields.u16_le()?);
        let flags = fields.u16_le()?;
        let used = fields.u32_le()? as usize;
        fields.skip(4)?;
        let base = fields.u64_le()?;
        if used > bytes.len() || first > used || first < 0x28 || !first.is_multiple_of(8) {
            return Err(Error::bad_field(
                "Record",
                "bytes in use",
                at + 0x14,
                format!("attributes within {} bytes", bytes.len()),
                format!("{first} to {used}"),
            ));
        }
        Ok(Self {
            bytes: &bytes[..used],
            at,
            reference: Reference { number, sequence },
            flags,
            base: (base != 0).then(|| Reference::from_raw(base)),
            first,
        })
    }

    /// Its attributes in order; ends after the first that is wrong.
    pub(crate) fn attributes(&self) -> impl Iterator<Item = Result<Attribute<'a>>> + use<'a> {
        let (bytes, at, mut next) = (self.bytes, self.at, Some(self.first));
        std::iter::from_fn(move || {
            let start = next?;
            let found = Attribute::parse(bytes, start, at);
            next = match &found {
                Ok(Some((_, len))) => Some(start + len),
                _ => None,
            };
            found.map(|found| found.map(|(attribute, _)| attribute)).transpose()
        })
    }
}

/// An attribute as it stands in a record.
#[derive(Clone, Copy)]
pub(crate) struct Attribute<'a> {
    pub kind: u32,
    /// Its name in UTF-16, little-endian.
    name: &'a [u8],
    pub flags: u16,
    /// Where it stands, in bytes from the start of the volume.
    pub at: u64,
    pub body: Body<'a>,
}

/// Where an attribute's value is.
#[derive(Clone, Copy)]
pub(crate) enum Body<'a> {
    /// In the record, from this byte of the record on.
    Here { value: &'a [u8], start: usize },
    /// In clusters.
    Clusters(Clusters<'a>),
}

/// A stretch of a value that lies in clusters.
#[derive(Clone, Copy)]
pub(crate) struct Clusters<'a> {
    /// First and last cluster of the value that it tells of; the last is one less than the first for none.
    pub first: u64,
    pub last: u64,
    /// Clusters that are compressed together, as a power of two; 0 for none.
    pub unit: u8,
    /// Bytes of the whole value, and those of them that were ever written. Only in the first stretch.
    pub size: u64,
    pub valid: u64,
    /// The list of runs.
    pub runs: &'a [u8],
}

/// Flags of an attribute.
pub(crate) const COMPRESSED: u16 = 0x00FF;
pub(crate) const ENCRYPTED: u16 = 0x4000;

impl<'a> Attribute<'a> {
    /// The attribute at `start`, and its length.
    fn parse(record: &'a [u8], start: usize, base: u64) -> Result<Option<(Self, usize)>> {
        let at = base + start as u64;
        let rest = record.get(start..).unwrap_or_default();
        let mut head = FieldReader::new(rest, at, "Attribute");
        let kind = head.u32_le()?;
        if kind == END {
            return Ok(None);
        }
        let len = head.u32_le()? as usize;
        if len < 0x18 || !len.is_multiple_of(8) || len > rest.len() {
            let expected = format!("a multiple of 8 up to {}", rest.len());
            return Err(Error::bad_field("Attribute", "length", at + 4, expected, len));
        }
        let bytes = &rest[..len];
        let mut fields = FieldReader::new(bytes, at, "Attribute");
        fields.skip(8)?;
        let is_outside = fields.u8()? != 0;
        let name_len = usize::from(fields.u8()?) * 2;
        let name_at = usize::from(fields.u16_le()?);
        let flags = fields.u16_le()?;
        fields.skip(2)?;
        let part = |field: &'static str, start: usize, len: usize| {
            start.checked_add(len).and_then(|end| bytes.get(start..end)).ok_or_else(|| {
                let expected = format!("a part of the {} bytes", bytes.len());
                Error::bad_field("Attribute", field, at, expected, format!("{len} bytes from {start} on"))
            })
        };
        let name = if name_len == 0 { &[][..] } else { part("name", name_at, name_len)? };
        let body = if is_outside {
            let (first, last) = (fields.u64_le()?, fields.u64_le()?);
            let runs_at = usize::from(fields.u16_le()?);
            let unit = fields.u8()?;
            fields.skip(5)?;
            let (_allocated, size, valid) = (fields.u64_le()?, fields.u64_le()?, fields.u64_le()?);
            if last.wrapping_add(1) < first || unit > 8 {
                let found = format!("{first} to {last}, units of 2^{unit} clusters");
                return Err(Error::bad_field("Attribute", "clusters", at + 0x10, "rising numbers", found));
            }
            let runs = bytes.get(runs_at..).unwrap_or_default();
            Body::Clusters(Clusters { first, last, unit, size, valid, runs })
        } else {
            let value_len = fields.u32_le()? as usize;
            let value_at = usize::from(fields.u16_le()?);
            Body::Here { value: part("value", value_at, value_len)?, start: start + value_at }
        };
        Ok(Some((Self { kind, name, flags, at, body }, len)))
    }

    pub(crate) fn name_units(&self) -> impl Iterator<Item = u16> + use<'a> {
        self.name.chunks_exact(2).map(|two| u16::from_le_bytes([two[0], two[1]]))
    }

    pub(crate) const fn has_name(&self) -> bool {
        !self.name.is_empty()
    }
}

//! The record of a touch-up inside the disc's file, from which it is taken back.
//!
//! The format is ours. A touched file ends with a sector in which bytes 512 to 640 are a [`Trailer`]; the first 512
//! bytes are left to a UDF anchor and the last 512 to the backup header of a GPT, which must be there too. The
//! trailer says how long the file was before and where the [`Record`] lies: what was done, and the former bytes of
//! everything that was changed in place. What lies behind the former end needs no record: it is cut off. Each
//! former end has its own trailer, so that touch-ups are taken back one after another.

use super::SECTOR;
use neat_content::{DigestKind, Digester, Error, ReadAt, Result, read_vec};
use serde::{Deserialize, Serialize};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned, little_endian as le};

const MAGIC: [u8; 16] = *b"neatstack touch\n";
const VERSION: u32 = 1;
/// Where the trailer stands in the last sector.
const TRAILER_AT: usize = 512;
/// Largest record that is read, in bytes.
const MAX_RECORD_LEN: u64 = 256 << 20;
/// Touch-ups followed on one disc.
const MAX_TOUCHUPS: usize = 10_000;

/// The changes in place are being written, or a run was cut off while they were.
const STATE_OPEN: u32 = 1;
/// Everything is written.
const STATE_DONE: u32 = 2;

/// End of a touched file.
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawTrailer {
    magic: [u8; 16],
    version: le::U32,
    state: le::U32,
    /// Bytes of the file before.
    old_len: le::U64,
    /// First byte of the record.
    record_at: le::U64,
    /// Bytes of the record.
    record_len: le::U64,
    /// SHA-256 of the record, in hexadecimal digits.
    record_digest: [u8; 64],
    /// CRC-32 of the fields before.
    crc: le::U32,
}
const _: () = assert!(size_of::<RawTrailer>() == 116);

/// Start of a record.
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawRecord {
    magic: [u8; 16],
    version: le::U32,
    /// Bytes of the JSON text that follows.
    text_len: le::U32,
    /// Regions after it.
    regions: le::U32,
}

/// Start of a region; its bytes follow.
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawRegion {
    offset: le::U64,
    len: le::U32,
}

/// What the end of a touched file says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Trailer {
    /// Whether all of the touch-up is written.
    pub done: bool,
    /// Bytes of the file before.
    pub old_len: u64,
    /// First byte of the record.
    pub record_at: u64,
    /// Bytes of the record.
    pub record_len: u64,
    /// SHA-256 of the record.
    pub record_digest: String,
}

impl Trailer {
    /// Puts the trailer into the file's last sector.
    pub(super) fn put_into(&self, sector: &mut [u8]) {
        let mut raw = RawTrailer {
            magic: MAGIC,
            version: VERSION.into(),
            state: if self.done { STATE_DONE } else { STATE_OPEN }.into(),
            old_len: self.old_len.into(),
            record_at: self.record_at.into(),
            record_len: self.record_len.into(),
            record_digest: [0; 64],
            crc: 0.into(),
        };
        raw.record_digest.copy_from_slice(&self.record_digest.as_bytes()[..64]);
        raw.crc = crc32fast::hash(&raw.as_bytes()[..112]).into();
        sector[TRAILER_AT..TRAILER_AT + size_of::<RawTrailer>()].copy_from_slice(raw.as_bytes());
    }

    /// The trailer of a file of `len` bytes, if it has one whose numbers can be right.
    pub(super) fn read<R: ReadAt + ?Sized>(reader: &R, len: u64) -> Result<Option<Self>> {
        if !len.is_multiple_of(SECTOR) || len < SECTOR || len > reader.len() {
            return Ok(None);
        }
        let mut bytes = [0; size_of::<RawTrailer>()];
        reader.read_exact_at(len - SECTOR + TRAILER_AT as u64, &mut bytes)?;
        let Ok(raw) = RawTrailer::read_from_bytes(&bytes) else { return Ok(None) };
        if raw.magic != MAGIC || raw.crc.get() != crc32fast::hash(&bytes[..112]) {
            return Ok(None);
        }
        let at = len - SECTOR + TRAILER_AT as u64;
        let bad = |field, at: u64, expected: String, found: u64| {
            Err(Error::bad_field("TouchupTrailer", field, at, expected, found))
        };
        if raw.version.get() != VERSION {
            return Err(Error::Unsupported {
                what: format!("a touch-up record of version {}", raw.version.get()),
                offset: at + 16,
            });
        }
        let (old_len, record_at, record_len) = (raw.old_len.get(), raw.record_at.get(), raw.record_len.get());
        if old_len > len - SECTOR {
            return bad("old_len", at + 24, format!("at most {}", len - SECTOR), old_len);
        }
        if record_at < old_len || record_at.checked_add(record_len).is_none_or(|end| end > len - SECTOR) {
            return bad(
                "record_at",
                at + 32,
                format!("a record between {old_len} and {}", len - SECTOR),
                record_at,
            );
        }
        Ok(Some(Self {
            done: raw.state.get() == STATE_DONE,
            old_len,
            record_at,
            record_len,
            record_digest: String::from_utf8_lossy(&raw.record_digest).into_owned(),
        }))
    }
}

/// What a touch-up does with a file or folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Verb {
    /// A new file, or other bytes for one that is there.
    Put,
    /// Taken out of the directories.
    Hide,
    /// Brought back into them.
    Show,
}

/// One thing that a touch-up did.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    /// What was done.
    pub verb: Verb,
    /// Path on the disc, as the disc spells it.
    pub path: String,
    /// Bytes of the file that was put.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub bytes: Option<u64>,
    /// Whether a file of that name was there before.
    #[serde(default)]
    pub replaced: bool,
    /// Trees in which it was done.
    pub trees: Vec<crate::TreeKind>,
    /// What else is worth knowing.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub notes: Vec<String>,
    /// What `show` needs to bring it back.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(super) removed: Vec<Removed>,
}

/// Directory entries that were taken out of one tree.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Removed {
    /// Which tree, counted in the order in which they are found.
    pub tree: usize,
    /// Folder, as this tree spells it.
    pub folder: Vec<String>,
    /// The entries as they were recorded.
    pub entries: Vec<Vec<u8>>,
}

/// What the JSON part of a record holds.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Story {
    /// When, in seconds since 1970.
    pub time: i64,
    /// What was done, in order.
    pub changes: Vec<Change>,
    /// What is hidden afterwards, so that nobody has to read all records for that.
    #[serde(default)]
    pub hidden: Vec<Change>,
}

/// A record as it is read.
pub(super) struct Record {
    pub story: Story,
    /// Position and former bytes.
    pub regions: Vec<(u64, Vec<u8>)>,
}

/// The bytes of a record.
pub(super) fn encode<'a>(
    story: &Story,
    regions: impl ExactSizeIterator<Item = (u64, &'a [u8])>,
) -> Result<Vec<u8>> {
    let text = serde_json::to_vec(story).map_err(|error| {
        Error::request(format!("the touch-up cannot be recorded: {error}"), "report this")
    })?;
    let head = RawRecord {
        magic: MAGIC,
        version: VERSION.into(),
        text_len: (text.len() as u32).into(),
        regions: (regions.len() as u32).into(),
    };
    let mut bytes = [head.as_bytes(), &text].concat();
    for (offset, old) in regions {
        let raw = RawRegion { offset: offset.into(), len: (old.len() as u32).into() };
        bytes.extend(raw.as_bytes());
        bytes.extend(old);
    }
    Ok(bytes)
}

/// SHA-256 of a record's bytes.
pub(super) fn digest(bytes: &[u8]) -> Result<String> {
    let mut digester = Digester::for_len(DigestKind::Sha256, bytes.len() as u64);
    digester.add_slice(bytes);
    digester.finish()
}

/// The record that `trailer` points at; `None` when it is not complete.
pub(super) fn read_record<R: ReadAt + ?Sized>(reader: &R, trailer: &Trailer) -> Result<Option<Record>> {
    let at = trailer.record_at;
    let bytes = read_vec(reader, at, trailer.record_len, MAX_RECORD_LEN, "touch-up record")?;
    if digest(&bytes)? != trailer.record_digest {
        return Ok(None);
    }
    let bad =
        |field, expected: &str, found: u64| Error::bad_field("TouchupRecord", field, at, expected, found);
    let (head, rest) = RawRecord::read_from_prefix(&bytes)
        .map_err(|_| bad("size", "28 bytes or more", bytes.len() as u64))?;
    if head.magic != MAGIC || head.version.get() != VERSION {
        return Err(bad("version", "1", head.version.get().into()));
    }
    let text_len = head.text_len.get() as usize;
    let text = rest.get(..text_len).ok_or_else(|| bad("text_len", "what is there", text_len as u64))?;
    let story = serde_json::from_slice(text)
        .map_err(|error| Error::bad_field("TouchupRecord", "text", at, "a record of ours", error))?;
    let mut rest = &rest[text_len..];
    let mut regions = Vec::new();
    for _ in 0..head.regions.get() {
        let (raw, after) = RawRegion::read_from_prefix(rest)
            .map_err(|_| bad("regions", "as many as it says", regions.len() as u64))?;
        let (offset, len) = (raw.offset.get(), raw.len.get() as usize);
        let old = after.get(..len).ok_or_else(|| bad("region.len", "what is there", len as u64))?;
        if offset.checked_add(len as u64).is_none_or(|end| end > trailer.old_len) {
            return Err(bad("region.offset", "a place in the former file", offset));
        }
        regions.push((offset, old.to_vec()));
        rest = &after[len..];
    }
    Ok(Some(Record { story, regions }))
}

/// Where the touch-ups of the file are described, the latest first.
fn trailers<R: ReadAt + ?Sized>(reader: &R) -> Result<Vec<Trailer>> {
    let mut found = Vec::new();
    let mut len = reader.len();
    while let Some(trailer) = Trailer::read(reader, len)? {
        if found.len() == MAX_TOUCHUPS {
            let (limit, seen) = (MAX_TOUCHUPS as u64, found.len() as u64 + 1);
            return Err(Error::Limit { what: "number of touch-ups".into(), offset: len, limit, found: seen });
        }
        len = trailer.old_len;
        found.push(trailer);
    }
    Ok(found)
}

fn whole_record<R: ReadAt + ?Sized>(reader: &R, trailer: &Trailer) -> Result<Record> {
    read_record(reader, trailer)?.ok_or_else(|| {
        let at = trailer.record_at;
        Error::bad_field("TouchupRecord", "digest", at, &trailer.record_digest, "another")
    })
}

/// All touch-ups that the file has, the latest first.
pub(super) fn chain<R: ReadAt + ?Sized>(reader: &R) -> Result<Vec<(Trailer, Record)>> {
    let with_record = |trailer| whole_record(reader, &trailer).map(|record| (trailer, record));
    trailers(reader)?.into_iter().map(with_record).collect()
}

/// How many touch-ups the file has.
pub(super) fn count<R: ReadAt + ?Sized>(reader: &R) -> Result<usize> {
    trailers(reader).map(|trailers| trailers.len())
}

/// The latest touch-up, if there is one.
pub(super) fn latest<R: ReadAt + ?Sized>(reader: &R) -> Result<Option<(Trailer, Record)>> {
    let Some(trailer) = Trailer::read(reader, reader.len())? else { return Ok(None) };
    let record = whole_record(reader, &trailer)?;
    Ok(Some((trailer, record)))
}

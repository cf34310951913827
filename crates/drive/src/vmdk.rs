//! VMDK: the published "Virtual Disk Format 5.0". Sectors of 512 bytes.

use crate::{
    Disk, Form,
    map::{BlockMap, Lies, Recent, Span, disk},
    open::Opening,
};
use neat_content::{Content, Error, FieldReader, ReadAt, Result, Source, read_vec};
use std::io::Read;

/// The first bytes of an extent that has only what was written.
pub(crate) const MAGIC: &[u8] = b"KDMV";
const SECTOR: u64 = 512;
/// The place of the directory stands at the end.
const AT_END: u64 = u64::MAX;
const COMPRESSED: u32 = 1 << 16;
const LONGEST_DESCRIPTOR: u64 = 1 << 20;
/// Longest directory that is followed, in bytes.
const LONGEST_DIRECTORY: u64 = 64 << 20;
/// Most extents of a disk.
const MOST_EXTENTS: usize = 4096;

/// Whether a file begins as a descriptor does.
pub(crate) fn is_descriptor(start: &[u8]) -> bool {
    start.starts_with(b"# Disk DescriptorFile")
}

/// Opens the disk in `file`, which is an extent with a descriptor inside, or a descriptor.
pub(crate) fn open(file: &Content, opening: &Opening<'_>) -> Result<Disk> {
    let found = |content| Disk { content, form: Form::Vmdk, notes: Vec::new() };
    let mut start = [0; 4];
    file.read_exact_at(0, &mut start)?;
    if start == MAGIC {
        let extent = Extent::read(file)?;
        if let Some(text) = &extent.descriptor {
            check_stands_alone(text)?;
        }
        return Ok(found(disk(extent)));
    }
    let text = read_vec(file, 0, file.len(), LONGEST_DESCRIPTOR, "descriptor")?;
    let text = String::from_utf8_lossy(&text).into_owned();
    check_stands_alone(&text)?;
    let mut parts = Vec::new();
    for (n, line) in text.lines().enumerate() {
        if let Some(part) =
            extent_line(line, opening).map_err(|error| error.within(format!("line {}", n + 1)))?
        {
            parts.push(part);
        }
        if parts.len() > MOST_EXTENTS {
            let limit = MOST_EXTENTS as u64;
            return Err(Error::Limit {
                what: "number of extents".into(),
                offset: 0,
                limit,
                found: limit + 1,
            });
        }
    }
    if parts.is_empty() {
        return Err(Error::mismatch("extents of a disk", "none", "the descriptor is damaged"));
    }
    Ok(found(Content::joined(parts)?))
}

fn check_stands_alone(text: &str) -> Result<()> {
    let parent = text.lines().find_map(|line| line.trim().strip_prefix("parentCID="));
    if parent.is_some_and(|id| !id.trim().eq_ignore_ascii_case("ffffffff")) {
        return Err(Error::request(
            "the disk stands on another one",
            "convert it into a disk that stands on its own, with the program that made it",
        ));
    }
    Ok(())
}

/// An extent as a line of the descriptor names it: access, sectors, kind, file, first sector.
fn extent_line(line: &str, opening: &Opening<'_>) -> Result<Option<Content>> {
    let mut words = line.splitn(4, ' ');
    if !matches!(words.next(), Some("RW" | "RDONLY" | "NOACCESS")) {
        return Ok(None);
    }
    let bad = || {
        Error::mismatch(
            "an extent: access, sectors, kind, file",
            format!("{line:?}"),
            "the descriptor is damaged",
        )
    };
    let (sectors, kind) = words.next().zip(words.next()).ok_or_else(bad)?;
    let len = sectors.parse::<u64>().ok().and_then(|count| count.checked_mul(SECTOR)).ok_or_else(bad)?;
    if kind == "ZERO" {
        return Ok(Some(Content::zeros(len)));
    }
    let rest = words.next().and_then(|rest| rest.strip_prefix('"')).ok_or_else(bad)?;
    let (name, rest) = rest.rsplit_once('"').ok_or_else(bad)?;
    let path = opening.beside(name)?;
    let file = Content::from_source(Source::open(&path)?);
    let whole = match kind {
        "FLAT" | "VMFS" => {
            let first = rest.trim().parse::<u64>().unwrap_or(0);
            let start = first.checked_mul(SECTOR).ok_or_else(bad)?;
            file.part(start, len).map_err(|error| error.within(path.display()))?
        }
        "SPARSE" => disk(Extent::read(&file).map_err(|error| error.within(path.display()))?),
        other => {
            return Err(Error::Unsupported { what: format!("an extent of the kind {other:?}"), offset: 0 });
        }
    };
    whole.part(0, len).map(Some).map_err(|error| error.within(path.display()))
}

/// An extent that has only what was written, in grains.
struct Extent {
    file: Content,
    len: u64,
    /// Bytes of a grain.
    grain: u64,
    /// Entries of a table.
    per_table: u64,
    directory: Vec<u32>,
    is_compressed: bool,
    descriptor: Option<String>,
    tables: Recent,
    unpacked: Recent,
}

impl Extent {
    fn read(file: &Content) -> Result<Self> {
        let mut at = 0;
        loop {
            let head = read_vec(file, at, SECTOR, SECTOR, "header")?;
            let mut fields = FieldReader::new(&head, at, "VmdkHeader");
            if fields.take(4)? != MAGIC {
                return Err(Error::bad_field("VmdkHeader", "signature", at, "\"KDMV\"", "another"));
            }
            fields.skip(4)?;
            let flags = fields.u32_le()?;
            let (sectors, grain) = (fields.u64_le()?, fields.u64_le()?);
            let (text_at, text_len) = (fields.u64_le()?, fields.u64_le()?);
            let per_table = u64::from(fields.u32_le()?);
            fields.skip(8)?;
            let directory_at = fields.u64_le()?;
            if directory_at == AT_END {
                // Written from start to end: the header that counts stands before the last mark.
                let end = file.len().checked_sub(2 * SECTOR).filter(|end| at == 0 && *end > 0);
                at = end
                    .ok_or_else(|| Error::bad_field("VmdkHeader", "directory", at + 56, "a place", "none"))?;
                continue;
            }
            if !(1..=1 << 15).contains(&grain) || !(1..=1 << 16).contains(&per_table) || sectors > 1 << 50 {
                let found = format!("{sectors} sectors, {grain} a grain, {per_table} a table");
                return Err(Error::bad_field(
                    "VmdkHeader",
                    "sizes",
                    at + 12,
                    "sizes that there can be",
                    found,
                ));
            }
            let (grain, len) = (grain * SECTOR, sectors * SECTOR);
            let count = len.div_ceil(grain).div_ceil(per_table);
            let place = directory_at.saturating_mul(SECTOR);
            let directory = read_vec(file, place, count * 4, LONGEST_DIRECTORY, "directory of grains")?;
            let descriptor = if text_at == 0 || text_len == 0 {
                None
            } else {
                let (place, len) = (text_at.saturating_mul(SECTOR), text_len.saturating_mul(SECTOR));
                let text = read_vec(file, place, len, LONGEST_DESCRIPTOR, "descriptor")?;
                Some(String::from_utf8_lossy(&text).into_owned())
            };
            return Ok(Self {
                file: file.clone(),
                len,
                grain,
                per_table,
                directory: directory.chunks_exact(4).map(little).collect(),
                is_compressed: flags & COMPRESSED != 0,
                descriptor,
                tables: Recent::new(16 << 20),
                unpacked: Recent::new(8 << 20),
            });
        }
    }

    fn unpack(&self, place: u64, number: u64) -> Result<Vec<u8>> {
        let wanted = self.grain.min(self.len - number * self.grain);
        let head = read_vec(&self.file, place, 12, 12, "mark of a grain")?;
        let mut fields = FieldReader::new(&head, place, "VmdkGrain");
        let (sector, len) = (fields.u64_le()?, u64::from(fields.u32_le()?));
        if sector * SECTOR != number * self.grain {
            let expected = (number * self.grain / SECTOR).to_string();
            return Err(Error::bad_field("VmdkGrain", "sector", place, expected, sector));
        }
        let packed = read_vec(&self.file, place + 12, len, 2 * self.grain + 4096, "compressed grain")?;
        let mut raw = Vec::with_capacity(self.grain as usize);
        let done = flate2::read::ZlibDecoder::new(packed.as_slice()).take(self.grain).read_to_end(&mut raw);
        let short = (raw.len() as u64) < wanted;
        if let Some(found) = done
            .err()
            .map(|error| error.to_string())
            .or_else(|| short.then(|| format!("{} bytes", raw.len())))
        {
            return Err(Error::bad_field("VmdkGrain", "data", place + 12, format!("{wanted} bytes"), found));
        }
        Ok(raw)
    }
}

fn little(four: &[u8]) -> u32 {
    four.iter().rev().fold(0, |all, byte| all << 8 | u32::from(*byte))
}

impl BlockMap for Extent {
    fn len(&self) -> u64 {
        self.len
    }

    fn span(&self, at: u64) -> Result<Span> {
        let (number, skip) = (at / self.grain, at % self.grain);
        let len = (self.grain - skip).min(self.len - at);
        let nowhere = Ok(Span { lies: Lies::Nowhere, len });
        let table = self.directory.get((number / self.per_table) as usize).copied().unwrap_or(0);
        if table == 0 {
            return nowhere;
        }
        let table_at = u64::from(table) * SECTOR;
        let table = self.tables.get(table_at, || {
            read_vec(&self.file, table_at, self.per_table * 4, 1 << 20, "table of grains")
        })?;
        let start = ((number % self.per_table) * 4) as usize;
        let grain = table.get(start..start + 4).map_or(0, little);
        // One means zeros, where the header says so; sector 1 is never a grain's.
        if grain <= 1 {
            return nowhere;
        }
        let place = u64::from(grain) * SECTOR;
        if self.is_compressed {
            let bytes = self.unpacked.get(place, || self.unpack(place, number))?;
            return Ok(Span { lies: Lies::Held(bytes, skip as usize), len });
        }
        let there = self.file.len().saturating_sub(place + skip);
        if there == 0 {
            let expected = format!("a grain within {} bytes", self.file.len());
            let at = table_at + start as u64;
            return Err(Error::bad_field("VmdkTable", "grain", at, expected, format!("{place:#x}")));
        }
        Ok(Span { lies: Lies::In(self.file.clone(), place + skip), len: len.min(there) })
    }

    fn files(&self) -> Vec<Content> {
        vec![self.file.clone()]
    }
}

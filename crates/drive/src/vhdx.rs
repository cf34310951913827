//! VHDX: [MS-VHDX], the published description.

use crate::{
    Disk, Form,
    map::{BlockMap, Lies, Recent, Span, behind, disk},
    open::Opening,
    vhdx_log,
};
use neat_content::{Content, Error, FieldReader, Result, read_vec};
use std::collections::HashMap;

/// The first bytes.
pub(crate) const MAGIC: &[u8] = b"vhdxfile";

type Guid = [u8; 16];

const fn guid(a: u32, b: u16, c: u16, rest: [u8; 8]) -> Guid {
    let (a, b, c, d) = (a.to_le_bytes(), b.to_le_bytes(), c.to_le_bytes(), rest);
    [a[0], a[1], a[2], a[3], b[0], b[1], c[0], c[1], d[0], d[1], d[2], d[3], d[4], d[5], d[6], d[7]]
}

const BLOCKS: Guid = guid(0x2DC2_7766, 0xF623, 0x4200, [0x9D, 0x64, 0x11, 0x5E, 0x9B, 0xFD, 0x4A, 0x08]);
const METADATA: Guid = guid(0x8B7C_A206, 0x4790, 0x4B9A, [0xB8, 0xFE, 0x57, 0x5F, 0x05, 0x0F, 0x88, 0x6E]);
const PARAMETERS: Guid = guid(0xCAA1_6737, 0xFA36, 0x4D43, [0xB3, 0xB6, 0x33, 0xF0, 0xAA, 0x44, 0xE7, 0x6B]);
const DISK_SIZE: Guid = guid(0x2FA5_4224, 0xCD1B, 0x4876, [0xB2, 0x11, 0x5D, 0xBE, 0xD8, 0x3B, 0xF4, 0xB8]);
const SECTOR_SIZE: Guid = guid(0x8141_BF1D, 0xA96F, 0x4709, [0xBA, 0x47, 0xF2, 0x33, 0xA8, 0xFA, 0xAB, 0x5F]);
const PARENT: Guid = guid(0xA8D3_5F2D, 0xB30B, 0x454D, [0xAB, 0xF7, 0xD3, 0xD8, 0x48, 0x34, 0xAB, 0x0C]);
const PHYSICAL: Guid = guid(0xCDA3_48C7, 0x445D, 0x4471, [0x9C, 0xC9, 0xE9, 0x88, 0x52, 0x51, 0xC5, 0x56]);
const PAGE_83: Guid = guid(0xBECA_12AB, 0xB2E6, 0x4523, [0x93, 0xEF, 0xC3, 0x09, 0xE0, 0x00, 0xC7, 0x46]);

const MIB: u64 = 1 << 20;
/// Longest table of blocks that is read, in bytes: 64 TiB of 1 MiB blocks.
const LONGEST_TABLE: u64 = 512 << 20;

/// What of the header counts.
struct Header {
    sequence: u64,
    log_id: Guid,
    log_len: u64,
    log_at: u64,
}

/// Opens the disk in `file`.
pub(crate) fn open(file: &Content, opening: &Opening<'_>) -> Result<Disk> {
    let headers = [64 << 10, 128 << 10].map(|at| header(file, at));
    let newest = headers.into_iter().flatten().max_by_key(|header| header.sequence);
    let Some(header) = newest else {
        return Err(Error::bad_field("VhdxHeader", "checksum", 64 << 10, "one header that is whole", "none"));
    };
    let (mut file, mut notes) = (file.clone(), Vec::new());
    if header.log_id != [0; 16] {
        let (replayed, count) = vhdx_log::replay(&file, header.log_at, header.log_len, header.log_id)?;
        file = replayed;
        notes.push(format!(
            "the disk was not closed: {} of its log applied in memory",
            neat_content::counted(count as u64, "entry", "entries")
        ));
    }
    let regions = [192 << 10, 256 << 10].into_iter().find_map(|at| regions(&file, at));
    let Some(regions) = regions else {
        return Err(Error::bad_field(
            "VhdxRegions",
            "checksum",
            192 << 10,
            "one table that is whole",
            "none",
        ));
    };
    let region = |id: Guid, what: &str| {
        regions.get(&id).copied().ok_or_else(|| {
            Error::bad_field("VhdxRegions", "entries", 192 << 10, format!("a place for the {what}"), "none")
        })
    };
    let ((blocks_at, blocks_len), metadata) = (region(BLOCKS, "blocks")?, region(METADATA, "metadata")?);
    let items = Items::read(&file, metadata)?;
    let (block, has_parent, len, sector) = items.sizes(&file)?;
    let parent = if has_parent {
        let parent = items.open_parent(&file, opening)?;
        notes.extend(parent.notes);
        Some(parent.content)
    } else {
        None
    };
    // Behind this many blocks stands an entry for a map of sectors.
    let ratio = (1_u64 << 23) * sector / block;
    let count = len.div_ceil(block);
    let groups = count.div_ceil(ratio);
    let entries = if has_parent { groups * (ratio + 1) } else { count + count.saturating_sub(1) / ratio };
    if entries * 8 > blocks_len {
        let expected = format!("at least {} bytes", entries * 8);
        return Err(Error::bad_field("VhdxRegions", "length", blocks_at, expected, blocks_len));
    }
    let table = read_vec(&file, blocks_at, entries * 8, LONGEST_TABLE, "table of blocks")?;
    let table = table.chunks_exact(8).map(little).collect();
    let map = Map {
        file,
        parent,
        len,
        block,
        sector,
        ratio,
        table,
        table_at: blocks_at,
        maps: Recent::new(32 << 20),
    };
    Ok(Disk { content: disk(map), form: Form::Vhdx, notes })
}

fn little(bytes: &[u8]) -> u64 {
    bytes.iter().rev().fold(0, |all, byte| all << 8 | u64::from(*byte))
}

/// Bytes whose sum, at byte 4 of them, fits.
fn summed(file: &Content, at: u64, len: u64, magic: &[u8]) -> Option<Vec<u8>> {
    let mut bytes = read_vec(file, at, len, len, "header").ok()?;
    let own = u32::from_le_bytes(*bytes.get(4..)?.first_chunk()?);
    bytes[4..8].fill(0);
    (bytes.starts_with(magic) && crc32c::crc32c(&bytes) == own).then_some(bytes)
}

fn header(file: &Content, at: u64) -> Option<Header> {
    let bytes = summed(file, at, 4096, b"head")?;
    let mut fields = FieldReader::new(&bytes, at, "VhdxHeader");
    fields.seek(8).ok()?;
    let sequence = fields.u64_le().ok()?;
    fields.seek(48).ok()?;
    let log_id = fields.array().ok()?;
    fields.skip(4).ok()?;
    let (log_len, log_at) = (u64::from(fields.u32_le().ok()?), fields.u64_le().ok()?);
    Some(Header { sequence, log_id, log_len, log_at })
}

/// Where the parts of the file lie, and how long they are.
fn regions(file: &Content, at: u64) -> Option<HashMap<Guid, (u64, u64)>> {
    let bytes = summed(file, at, 64 << 10, b"regi")?;
    let count = u32::from_le_bytes(*bytes.get(8..)?.first_chunk()?) as usize;
    let entries = bytes.get(16..)?.chunks_exact(32).take(count);
    Some(
        entries
            .filter_map(|entry| {
                Some((*entry.first_chunk()?, (little(&entry[16..24]), little(&entry[24..28]))))
            })
            .collect(),
    )
}

/// The items of the metadata: where each lies, and how long it is.
struct Items(HashMap<Guid, (u64, u64)>);

impl Items {
    fn read(file: &Content, (at, len): (u64, u64)) -> Result<Self> {
        let bytes = read_vec(file, at, len.min(64 << 10), 64 << 10, "metadata")?;
        let mut fields = FieldReader::new(&bytes, at, "VhdxMetadata");
        if fields.take(8)? != b"metadata" {
            return Err(Error::bad_field("VhdxMetadata", "signature", at, "\"metadata\"", "another"));
        }
        fields.skip(2)?;
        let count = fields.u16_le()?;
        let mut items = HashMap::new();
        for n in 0..usize::from(count) {
            fields.seek(32 + 32 * n)?;
            let entry = fields.offset();
            let id: Guid = fields.array()?;
            let (offset, item_len) = (u64::from(fields.u32_le()?), u64::from(fields.u32_le()?));
            let is_required = fields.u32_le()? & 4 != 0;
            let known = [PARAMETERS, DISK_SIZE, SECTOR_SIZE, PARENT, PHYSICAL, PAGE_83].contains(&id);
            if is_required && !known {
                return Err(Error::Unsupported { what: "an item that is required".into(), offset: entry });
            }
            if offset + item_len > len {
                let expected = format!("one within {len} bytes");
                return Err(Error::bad_field("VhdxMetadata", "item", entry, expected, offset));
            }
            items.insert(id, (at + offset, item_len));
        }
        Ok(Self(items))
    }

    fn bytes(&self, file: &Content, id: Guid, what: &str) -> Result<Vec<u8>> {
        let (at, len) = self
            .0
            .get(&id)
            .copied()
            .ok_or_else(|| Error::bad_field("VhdxMetadata", "items", 0, format!("the {what}"), "none"))?;
        read_vec(file, at, len, 64 << 10, what)
    }

    /// Bytes of a block, whether the disk stands on another, its length, bytes of a sector.
    fn sizes(&self, file: &Content) -> Result<(u64, bool, u64, u64)> {
        let number = |id, len: usize, what: &str| -> Result<u64> {
            let bytes = self.bytes(file, id, what)?;
            let own = bytes.get(..len).ok_or_else(|| Error::Truncated {
                what: what.into(),
                offset: self.0.get(&id).map_or(0, |(at, _)| *at),
                wanted: len as u64,
                available: bytes.len() as u64,
            })?;
            Ok(little(own))
        };
        let parameters = number(PARAMETERS, 8, "parameters")?;
        let (block, flags) = (parameters & 0xFFFF_FFFF, parameters >> 32);
        let at = self.0.get(&PARAMETERS).map_or(0, |(at, _)| *at);
        if !block.is_power_of_two() || !(MIB..=256 * MIB).contains(&block) {
            let expected = "a power of two from 1 to 256 MiB";
            return Err(Error::bad_field("VhdxMetadata", "block size", at, expected, block));
        }
        let (len, sector) =
            (number(DISK_SIZE, 8, "size of the disk")?, number(SECTOR_SIZE, 4, "size of a sector")?);
        if ![512, 4096].contains(&sector) {
            let at = self.0.get(&SECTOR_SIZE).map_or(0, |(at, _)| *at);
            return Err(Error::bad_field("VhdxMetadata", "sector size", at, "512 or 4096", sector));
        }
        if len > 64 << 40 {
            let at = self.0.get(&DISK_SIZE).map_or(0, |(at, _)| *at);
            return Err(Error::Limit {
                what: "size of the disk".into(),
                offset: at,
                limit: 64 << 40,
                found: len,
            });
        }
        Ok((block, flags & 2 != 0, len, sector))
    }

    /// The disk behind ([MS-VHDX] 2.6.2.6): by the name that is relative, or by that of the file alone.
    fn open_parent(&self, file: &Content, opening: &Opening<'_>) -> Result<Disk> {
        let bytes = self.bytes(file, PARENT, "place of the disk behind")?;
        let at = self.0.get(&PARENT).map_or(0, |(at, _)| *at);
        let mut fields = FieldReader::new(&bytes, at, "VhdxParent");
        fields.seek(18)?;
        let count = usize::from(fields.u16_le()?);
        let text = |start: u64, len: u64| -> Option<String> {
            let own = bytes.get(start as usize..(start + len) as usize)?;
            let units: Vec<u16> =
                own.chunks_exact(2).map(|two| u16::from_le_bytes([two[0], two[1]])).collect();
            Some(String::from_utf16_lossy(&units))
        };
        let mut named = HashMap::new();
        for n in 0..count {
            fields.seek(20 + 12 * n)?;
            let (key_at, value_at) = (u64::from(fields.u32_le()?), u64::from(fields.u32_le()?));
            let (key_len, value_len) = (u64::from(fields.u16_le()?), u64::from(fields.u16_le()?));
            if let Some((key, value)) = text(key_at, key_len).zip(text(value_at, value_len)) {
                named.insert(key, value.replace('\\', "/"));
            }
        }
        let mut last = None;
        for key in ["relative_path", "absolute_win32_path", "volume_path"] {
            let Some(name) = named.get(key) else { continue };
            let short = name.trim_start_matches("./").to_owned();
            let own = name.rsplit('/').next().unwrap_or_default().to_owned();
            for name in [short, own] {
                match opening.parent(&name, false) {
                    Ok(parent) => return Ok(parent),
                    Err(error) if error.is_io() => return Err(error),
                    Err(error) => last = Some(error),
                }
            }
        }
        Err(last.unwrap_or_else(|| Error::bad_field("VhdxParent", "names", at, "a path", "none")))
    }
}

struct Map {
    file: Content,
    parent: Option<Content>,
    len: u64,
    block: u64,
    sector: u64,
    ratio: u64,
    table: Vec<u64>,
    table_at: u64,
    maps: Recent,
}

impl Map {
    fn stored(&self, entry: u64, number: u64, skip: u64, len: u64) -> Result<Span> {
        let place = (entry >> 20).saturating_mul(MIB).saturating_add(skip);
        let there = self.file.len().saturating_sub(place);
        if entry >> 20 == 0 || there == 0 {
            let expected = format!("a block within {} bytes", self.file.len());
            let at = self.table_at + number * 8;
            return Err(Error::bad_field("VhdxBlocks", "place", at, expected, format!("{place:#x}")));
        }
        Ok(Span { lies: Lies::In(self.file.clone(), place), len: len.min(there) })
    }
}

impl BlockMap for Map {
    fn len(&self) -> u64 {
        self.len
    }

    fn span(&self, at: u64) -> Result<Span> {
        let (block, skip) = (at / self.block, at % self.block);
        let len = (self.block - skip).min(self.len - at);
        let number = block + block / self.ratio;
        let entry = self.table.get(number as usize).copied().unwrap_or(0);
        match entry & 7 {
            // Not present: what stands behind, or nothing.
            0 => Ok(behind(self.parent.as_ref(), at, len)),
            1..=3 => Ok(Span { lies: Lies::Nowhere, len }),
            6 => self.stored(entry, number, skip, len),
            7 if self.parent.is_some() => {
                let map_number = (block / self.ratio) * (self.ratio + 1) + self.ratio;
                let map_entry = self.table.get(map_number as usize).copied().unwrap_or(0);
                if map_entry & 7 != 6 {
                    let at = self.table_at + map_number * 8;
                    return Err(Error::bad_field(
                        "VhdxBlocks",
                        "map of sectors",
                        at,
                        "one that is there",
                        map_entry,
                    ));
                }
                let map_at = (map_entry >> 20).saturating_mul(MIB);
                let map =
                    self.maps.get(map_at, || read_vec(&self.file, map_at, MIB, MIB, "map of sectors"))?;
                // The map covers all blocks up to the next one.
                let first = (block % self.ratio) * (self.block / self.sector) + skip / self.sector;
                let is_here = |n: u64| map.get((n / 8) as usize).is_some_and(|byte| byte >> (n % 8) & 1 == 1);
                let here = is_here(first);
                let most = len.div_ceil(self.sector);
                let count = (1..most).take_while(|n| is_here(first + n) == here).count() as u64 + 1;
                let len = len.min(count * self.sector - skip % self.sector);
                if here {
                    self.stored(entry, number, skip, len)
                } else {
                    Ok(behind(self.parent.as_ref(), at, len))
                }
            }
            other => {
                let at = self.table_at + number * 8;
                Err(Error::bad_field("VhdxBlocks", "state", at, "one that there is", other))
            }
        }
    }

    fn files(&self) -> Vec<Content> {
        std::iter::once(self.file.clone()).chain(self.parent.clone()).collect()
    }
}

//! qcow2, versions 2 and 3: the public specification that comes with its emulator (`docs/interop/qcow2.txt`).

use crate::{
    Disk, Form,
    map::{BlockMap, Lies, Recent, Span, behind, disk},
    open::Opening,
};
use neat_content::{Content, Error, FieldReader, Result, read_vec};
use std::io::Read;

/// The first bytes.
pub(crate) const MAGIC: [u8; 4] = *b"QFI\xFB";
/// Longest first table that is followed, in bytes: 4 PiB of 64 KiB clusters.
const LONGEST_FIRST_TABLE: u64 = 64 << 20;
/// Bytes of tables that are kept.
const TABLES: usize = 32 << 20;
/// Bytes of unpacked clusters that are kept.
const UNPACKED: usize = 8 << 20;
/// Where a cluster lies, in an entry of either table.
const OFFSET: u64 = 0x00FF_FFFF_FFFF_FE00;
const COMPRESSED: u64 = 1 << 62;

#[derive(Clone, Copy, PartialEq, Eq)]
enum Packing {
    Deflate,
    Zstd,
}

struct Map {
    file: Content,
    parent: Option<Content>,
    cluster_bits: u32,
    len: u64,
    first: Vec<u64>,
    packing: Packing,
    /// Whether each cluster has 32 parts of its own.
    has_parts: bool,
    has_zeros: bool,
    tables: Recent,
    unpacked: Recent,
}

/// Opens the disk in `file`.
pub(crate) fn open(file: &Content, opening: &Opening<'_>) -> Result<Disk> {
    let head = read_vec(file, 0, file.len().min(4096), 4096, "header")?;
    let mut fields = FieldReader::new(&head, 0, "Qcow2Header");
    fields.skip(4)?;
    let version = fields.u32_be()?;
    if !(2..=3).contains(&version) {
        return Err(Error::Unsupported {
            what: format!("version {version} of this form of a disk"),
            offset: 4,
        });
    }
    let (parent_at, parent_len) = (fields.u64_be()?, u64::from(fields.u32_be()?));
    let cluster_bits = fields.u32_be()?;
    let len = fields.u64_be()?;
    let crypt = fields.u32_be()?;
    let (first_len, first_at) = (u64::from(fields.u32_be()?), fields.u64_be()?);
    if !(9..=21).contains(&cluster_bits) {
        return Err(Error::bad_field("Qcow2Header", "cluster bits", 20, "9 to 21", cluster_bits));
    }
    if crypt != 0 {
        return Err(Error::request(
            "the disk is encrypted",
            "convert it into one that is not, with the program that made it",
        ));
    }
    let (mut features, mut packing, mut extensions_at) = (0, Packing::Deflate, 72);
    if version == 3 {
        fields.seek(72)?;
        features = fields.u64_be()?;
        fields.seek(100)?;
        extensions_at = u64::from(fields.u32_be()?);
        if extensions_at >= 105 && features & 1 << 3 != 0 {
            packing = match fields.u8()? {
                0 => Packing::Deflate,
                1 => Packing::Zstd,
                other => {
                    return Err(Error::Unsupported { what: format!("compression {other}"), offset: 104 });
                }
            };
        }
    }
    if features & 1 << 2 != 0 {
        return Err(Error::request(
            "the disk's data lies in another file",
            "name that file, which is the disk as it is",
        ));
    }
    if features & !0x1F != 0 {
        return Err(Error::Unsupported { what: format!("features {features:#x}"), offset: 72 });
    }
    let mut notes = Vec::new();
    if features & 1 << 1 != 0 {
        notes.push("the disk says of itself that it is damaged".to_owned());
    }
    let has_parts = features & 1 << 4 != 0;
    let entry = if has_parts { 16 } else { 8 };
    let per_table = (1_u64 << cluster_bits) / entry;
    let needed = len.div_ceil(1 << cluster_bits).div_ceil(per_table);
    if needed > first_len || len > 1 << 62 {
        let expected = format!("at most {} clusters", first_len.saturating_mul(per_table));
        return Err(Error::bad_field("Qcow2Header", "size", 24, expected, len));
    }
    let first = read_vec(file, first_at, needed * 8, LONGEST_FIRST_TABLE, "first table of clusters")?;
    let first = first.chunks_exact(8).map(|eight| number(eight) & OFFSET).collect();
    let parent = if parent_at == 0 || parent_len == 0 {
        None
    } else {
        let name = read_vec(file, parent_at, parent_len, 1023, "name of the disk behind")?;
        let form = parent_form(&head, extensions_at as usize);
        let parent = opening.parent(&String::from_utf8_lossy(&name), form.as_deref() == Some("raw"))?;
        notes.extend(parent.notes);
        Some(parent.content)
    };
    let map = Map {
        file: file.clone(),
        parent,
        cluster_bits,
        len,
        first,
        packing,
        has_parts,
        has_zeros: version == 3,
        tables: Recent::new(TABLES),
        unpacked: Recent::new(UNPACKED),
    };
    Ok(Disk { content: disk(map), form: Form::Qcow2, notes })
}

fn number(eight: &[u8]) -> u64 {
    eight.iter().fold(0, |all, byte| all << 8 | u64::from(*byte))
}

/// What form the disk behind has, as an extension of the header says.
fn parent_form(head: &[u8], start: usize) -> Option<String> {
    let mut at = start;
    while let Some([a, b, c, d, e, f, g, h]) = head.get(at..at + 8) {
        let (kind, len) =
            (u32::from_be_bytes([*a, *b, *c, *d]), u32::from_be_bytes([*e, *f, *g, *h]) as usize);
        match kind {
            0 => return None,
            0xE279_2ACA => {
                let text = head.get(at + 8..at.checked_add(8)?.checked_add(len)?)?;
                return Some(String::from_utf8_lossy(text).into_owned());
            }
            _ => at = at.checked_add(8)?.checked_add(len)?.checked_next_multiple_of(8)?,
        }
    }
    None
}

impl Map {
    const fn cluster(&self) -> u64 {
        1 << self.cluster_bits
    }

    /// The entry for a cluster of the disk, and where it stands: what lies where, and of which parts.
    fn entry(&self, cluster: u64) -> Result<(u64, u64, u64)> {
        let width = if self.has_parts { 16 } else { 8 };
        let per_table = self.cluster() / width;
        let table_at = self.first.get((cluster / per_table) as usize).copied().unwrap_or(0);
        if table_at == 0 {
            return Ok((0, 0, 0));
        }
        let table = self
            .tables
            .get(table_at, || read_vec(&self.file, table_at, self.cluster(), 2 << 20, "table of clusters"))?;
        let start = ((cluster % per_table) * width) as usize;
        let entry = number(&table[start..start + 8]);
        let parts = if self.has_parts { number(&table[start + 8..start + 16]) } else { 0 };
        Ok((entry, parts, table_at + start as u64))
    }

    fn unpack(&self, entry: u64, place: u64) -> Result<Span> {
        let bits = 62 - (self.cluster_bits - 8);
        let at = entry & ((1 << bits) - 1);
        let sectors = (entry & (COMPRESSED - 1)) >> bits;
        let len = ((sectors + 1) * 512 - at % 512).min(self.file.len().saturating_sub(at));
        let cluster = self.cluster();
        let bytes = self.unpacked.get(at, || {
            let packed = read_vec(&self.file, at, len, cluster + 1024, "compressed cluster")?;
            let mut raw = Vec::with_capacity(cluster as usize);
            let done = match self.packing {
                Packing::Deflate => {
                    flate2::read::DeflateDecoder::new(packed.as_slice()).take(cluster).read_to_end(&mut raw)
                }
                Packing::Zstd => {
                    let decoder = ruzstd::decoding::StreamingDecoder::new(packed.as_slice());
                    decoder
                        .map_err(std::io::Error::other)
                        .and_then(|decoder| decoder.take(cluster).read_to_end(&mut raw))
                }
            };
            if let Some(found) = done
                .err()
                .map(|error| error.to_string())
                .or_else(|| (raw.len() as u64 != cluster).then(|| format!("{} bytes", raw.len())))
            {
                return Err(Error::bad_field(
                    "CompressedCluster",
                    "data",
                    at,
                    format!("{cluster} bytes"),
                    found,
                )
                .within(format!("cluster named at byte {place:#x}")));
            }
            Ok(raw)
        })?;
        Ok(Span { lies: Lies::Held(bytes, 0), len: cluster })
    }

    /// Where the bytes of a cluster that is not compressed lie, from `skip` on.
    fn plain(&self, (entry, parts, place): (u64, u64, u64), at: u64, skip: u64) -> Result<Span> {
        let (cluster, offset) = (self.cluster(), entry & OFFSET);
        let (is_stored, is_zero, len) = if self.has_parts {
            let part = cluster / 32;
            let n = skip / part;
            (parts >> n & 1 == 1, parts >> (32 + n) & 1 == 1, part - skip % part)
        } else {
            (offset != 0, self.has_zeros && entry & 1 == 1, cluster - skip)
        };
        let len = len.min(self.len - at);
        if is_zero {
            return Ok(Span { lies: Lies::Nowhere, len });
        }
        if !is_stored {
            return Ok(behind(self.parent.as_ref(), at, len));
        }
        if offset == 0 || offset.checked_add(skip + len).is_none_or(|end| end > self.file.len()) {
            // The end of the last cluster may never have been written.
            let there = self.file.len().saturating_sub(offset.saturating_add(skip));
            if offset == 0 || there == 0 {
                let expected = format!("a cluster within {} bytes", self.file.len());
                return Err(Error::bad_field(
                    "ClusterTable",
                    "offset",
                    place,
                    expected,
                    format!("{offset:#x}"),
                ));
            }
            return Ok(Span { lies: Lies::In(self.file.clone(), offset + skip), len: len.min(there) });
        }
        Ok(Span { lies: Lies::In(self.file.clone(), offset + skip), len })
    }
}

impl BlockMap for Map {
    fn len(&self) -> u64 {
        self.len
    }

    fn span(&self, at: u64) -> Result<Span> {
        let (number, skip) = (at >> self.cluster_bits, at & (self.cluster() - 1));
        let entry = self.entry(number)?;
        if entry.0 & COMPRESSED == 0 {
            return self.plain(entry, at, skip);
        }
        let span = self.unpack(entry.0, entry.2)?;
        let Lies::Held(bytes, _) = span.lies else { return Ok(span) };
        Ok(Span { lies: Lies::Held(bytes, skip as usize), len: span.len - skip })
    }

    fn files(&self) -> Vec<Content> {
        std::iter::once(self.file.clone()).chain(self.parent.clone()).collect()
    }
}

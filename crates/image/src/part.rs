//! One file of an image file: its header, tables and XML data.

use crate::{
    BlobDigest, Limits, Method, Packing, Solid, Stored,
    layout::{
        FLAG_COMPRESSION, FLAG_LZMS, FLAG_LZX, FLAG_WRITE_IN_PROGRESS, FLAG_XPRESS, HEADER_LEN, MAGIC,
        RESOURCE_COMPRESSED, RESOURCE_FREE, RESOURCE_METADATA, RESOURCE_SOLID, RESOURCE_SPANNED, RawHeader,
        RawPlace, RawTableEntry, SOLID_MARK, TABLE_ENTRY_LEN, VERSION, VERSION_OLD, VERSION_SOLID,
    },
    xml,
};
use neat_content::{Content, Error, ReadAt, Result};
use std::sync::Arc;
use zerocopy::FromBytes;

/// What the header says, checked.
#[derive(Clone, Debug)]
pub struct Header {
    /// See the constants `FLAG_…` in [`crate::layout`].
    pub flags: u32,
    /// Version of the layout.
    pub version: u32,
    /// The method of resources that are not solid, and bytes of a chunk before compression.
    pub compression: Option<(Method, u32)>,
    /// The same in all parts.
    pub guid: [u8; 16],
    /// Number of the part, from 1.
    pub part: u16,
    /// Number of parts.
    pub parts: u16,
    /// Number of editions.
    pub editions: u32,
    /// Number of the edition that boots, from 1; 0 for none.
    pub boot: u32,
    table: RawPlace,
    xml: RawPlace,
    integrity: RawPlace,
}

impl Header {
    /// Reads and checks the header. Whether it is an image file at all is told by [`is_image_file`].
    ///
    /// # Errors
    /// `Corrupt` with the field and the offset, `Unsupported` for other versions and methods.
    pub fn read(file: &Content) -> Result<Self> {
        const STRUCTURE: &str = "Header";
        let mut bytes = [0; HEADER_LEN as usize];
        file.read_exact_at(0, &mut bytes)?;
        let Ok(raw) = RawHeader::read_from_bytes(&bytes) else {
            return Err(Error::Unsupported { what: STRUCTURE.into(), offset: 0 });
        };
        if raw.magic != MAGIC {
            return Err(Error::bad_field(
                STRUCTURE,
                "magic",
                0,
                "MSWIM",
                String::from_utf8_lossy(&raw.magic).escape_debug(),
            ));
        }
        if u64::from(raw.header_size.get()) != HEADER_LEN {
            return Err(Error::bad_field(
                STRUCTURE,
                "header_size",
                8,
                HEADER_LEN.to_string(),
                raw.header_size,
            ));
        }
        let version = raw.version.get();
        if ![VERSION, VERSION_OLD, VERSION_SOLID].contains(&version) {
            return Err(Error::Unsupported {
                what: format!("version {version:#x} of the layout"),
                offset: 12,
            });
        }
        let flags = raw.flags.get();
        let chunk_len = raw.chunk_size.get();
        let method = match flags & (FLAG_COMPRESSION | FLAG_XPRESS | FLAG_LZX | FLAG_LZMS) & !FLAG_COMPRESSION
        {
            _ if flags & FLAG_COMPRESSION == 0 => None,
            FLAG_XPRESS => Some(Method::Xpress),
            FLAG_LZX => Some(Method::Lzx),
            FLAG_LZMS => Some(Method::Lzms),
            other => {
                return Err(Error::bad_field(
                    STRUCTURE,
                    "flags",
                    16,
                    "one method of compression",
                    format!("{other:#x}"),
                ));
            }
        };
        if let Some(method) = method {
            method.check_chunk_len(chunk_len, STRUCTURE, 20)?;
        }
        let (part, parts) = (raw.part_number.get(), raw.total_parts.get());
        if part == 0 || part > parts {
            return Err(Error::bad_field(STRUCTURE, "part_number", 40, format!("1 to {parts}"), part));
        }
        let editions = raw.image_count.get();
        if raw.boot_index.get() > editions {
            return Err(Error::bad_field(
                STRUCTURE,
                "boot_index",
                120,
                format!("0 to {editions}"),
                raw.boot_index,
            ));
        }
        let header = Self {
            flags,
            version,
            compression: method.map(|method| (method, chunk_len)),
            guid: raw.guid,
            part,
            parts,
            editions,
            boot: raw.boot_index.get(),
            table: raw.resource_table,
            xml: raw.xml,
            integrity: raw.integrity,
        };
        for (field, at, place) in [
            ("resource_table", 48, header.table),
            ("xml", 72, header.xml),
            ("integrity", 124, header.integrity),
        ] {
            let end = place.offset.get().checked_add(place.size());
            if place.size() > 0 && end.is_none_or(|end| end > file.len()) {
                return Err(Error::bad_field(
                    STRUCTURE,
                    field,
                    at,
                    format!("a place inside the {} bytes of the file", file.len()),
                    format!("{} bytes at {:#x}", place.size(), place.offset),
                ));
            }
        }
        Ok(header)
    }

    /// Whether somebody was writing to the file when it was left.
    pub const fn is_unfinished(&self) -> bool {
        self.flags & FLAG_WRITE_IN_PROGRESS != 0
    }

    /// Where the resource table ends; the integrity table stands for what lies between the header and here.
    pub(crate) fn table_end(&self) -> u64 {
        self.table.offset.get() + self.table.size()
    }

    /// Whether there is an integrity table.
    pub fn has_integrity(&self) -> bool {
        self.integrity.size() > 0
    }

    pub(crate) const fn integrity(&self) -> RawPlace {
        self.integrity
    }
}

/// Whether the content begins like an image file.
pub fn is_image_file(file: &Content) -> bool {
    let mut magic = [0; MAGIC.len()];
    file.len() >= HEADER_LEN && file.read_exact_at(0, &mut magic).is_ok() && magic == MAGIC
}

/// A blob in the resource table, in few bytes: an image file has a hundred thousand and more.
#[derive(Clone, Copy, Default)]
pub(crate) struct Row {
    /// Where it begins in its part; of a solid blob, the place of its entry.
    pub offset: u64,
    /// Bytes in the part; of a solid blob, its position in the resource before compression.
    pub len: u64,
    pub raw_len: u64,
    /// How many names it has, as the table says.
    pub references: u32,
    /// Number of the solid resource among those of its part; [`Row::APART`] for none.
    pub solid: u32,
    pub part: u16,
    pub is_packed: bool,
}

impl Row {
    pub(crate) const APART: u32 = u32::MAX;

    fn of(stored: &Stored, references: u32, part: u16, solids: &[Arc<Solid>]) -> Self {
        let row = Self {
            offset: stored.offset,
            len: stored.bytes.len(),
            raw_len: stored.raw_len,
            references,
            solid: Self::APART,
            part,
            is_packed: matches!(stored.packing, Packing::Chunks { .. }),
        };
        match &stored.packing {
            Packing::Solid { group, start } => {
                // It is one of the last; a resource is followed by its blobs.
                let solid = solids.iter().rposition(|own| Arc::ptr_eq(own, group)).unwrap_or(0);
                Self { len: *start, solid: solid as u32, ..row }
            }
            _ => row,
        }
    }

    /// The blob as it lies in a part with this content and header, and these solid resources.
    pub(crate) fn stored(&self, content: &Content, header: &Header, solids: &[Arc<Solid>]) -> Stored {
        let (offset, raw_len) = (self.offset, self.raw_len);
        if let Some(group) = solids.get(self.solid as usize) {
            let packing = Packing::Solid { group: Arc::clone(group), start: self.len };
            return Stored { bytes: Content::default(), offset, raw_len, packing };
        }
        // That it lies inside was checked when the table was read.
        let bytes = content.part(offset, self.len).unwrap_or_default();
        let packing = match header.compression {
            Some((method, chunk_len)) if self.is_packed => Packing::Chunks { method, chunk_len },
            _ => Packing::Plain,
        };
        Stored { bytes, offset, raw_len, packing }
    }
}

/// What the resource table lists.
pub(crate) struct Table {
    /// The trees of the editions, in order.
    pub metadata: Vec<(BlobDigest, Stored)>,
    pub blobs: Vec<(BlobDigest, Row)>,
    pub solids: Vec<Arc<Solid>>,
}

/// Reads a table or XML data that may be compressed like any resource.
fn read_resource(
    file: &Content,
    header: &Header,
    place: RawPlace,
    limit: u64,
    what: &str,
) -> Result<Vec<u8>> {
    if place.size() == 0 {
        return Ok(Vec::new());
    }
    let stored = stored_at(file, header, place, what)?;
    if stored.raw_len > limit {
        return Err(Error::Limit {
            what: format!("size in bytes of {what}"),
            offset: stored.offset,
            limit,
            found: stored.raw_len,
        });
    }
    let mut bytes = Vec::new();
    let all = 0..stored.raw_len;
    crate::stored::Unpacker::default().unpack(&stored, all, &neat_content::Job::silent(), &mut |block| {
        bytes.extend_from_slice(block);
        Ok(())
    })?;
    Ok(bytes)
}

fn stored_at(file: &Content, header: &Header, place: RawPlace, what: &str) -> Result<Stored> {
    let offset = place.offset.get();
    let bytes = file.part(offset, place.size()).map_err(|_| Error::Truncated {
        what: what.into(),
        offset,
        wanted: place.size(),
        available: file.len().saturating_sub(offset),
    })?;
    let packing = match header.compression {
        Some((method, chunk_len)) if place.flags() & RESOURCE_COMPRESSED != 0 => {
            Packing::Chunks { method, chunk_len }
        }
        _ if place.flags() & RESOURCE_COMPRESSED != 0 => {
            return Err(Error::bad_field(
                "ResourceHeader",
                "flags",
                offset,
                "no compression in a file without a method",
                place.flags(),
            ));
        }
        _ => Packing::Plain,
    };
    let raw_len = place.original_size.get();
    if matches!(packing, Packing::Plain) && raw_len != place.size() {
        return Err(Error::bad_field(
            "ResourceHeader",
            "original_size",
            offset,
            format!("{} for an uncompressed resource", place.size()),
            raw_len,
        ));
    }
    Ok(Stored { bytes, offset, raw_len, packing })
}

/// Reads the resource table.
pub(crate) fn read_table(file: &Content, header: &Header, limits: &Limits) -> Result<Table> {
    let bytes = read_resource(file, header, header.table, limits.table, "resource table")?;
    let base = header.table.offset.get();
    let mut table = Table { metadata: Vec::new(), blobs: Vec::new(), solids: Vec::new() };
    // A run of solid resources and then their blobs; positions of blobs count through the whole run.
    let mut run: Vec<Arc<Solid>> = Vec::new();
    let mut run_has_blobs = false;
    let cache = Arc::default();
    for (n, entry) in bytes.chunks_exact(TABLE_ENTRY_LEN).enumerate() {
        let at = base + (n * TABLE_ENTRY_LEN) as u64;
        let Ok(raw) = RawTableEntry::read_from_bytes(entry) else { continue };
        let flags = raw.place.flags();
        if flags & RESOURCE_FREE != 0 {
            continue;
        }
        if flags & RESOURCE_SPANNED != 0 {
            return Err(Error::Unsupported {
                what: "resource that is continued in another part".into(),
                offset: at,
            });
        }
        if raw.part_number.get() != header.part {
            return Err(Error::bad_field(
                "ResourceTableEntry",
                "part_number",
                at + 24,
                header.part.to_string(),
                raw.part_number,
            ));
        }
        let digest = BlobDigest(raw.digest);
        let references = raw.reference_count.get();
        if flags & RESOURCE_SOLID == 0 {
            run.clear();
            run_has_blobs = false;
            let what = if flags & RESOURCE_METADATA != 0 { "tree of an edition" } else { "blob" };
            let stored = stored_at(file, header, raw.place, what)?;
            if flags & RESOURCE_METADATA != 0 {
                table.metadata.push((digest, stored));
            } else {
                table.blobs.push((digest, Row::of(&stored, references, header.part - 1, &[])));
            }
            continue;
        }
        if raw.place.original_size.get() == SOLID_MARK {
            if std::mem::take(&mut run_has_blobs) {
                run.clear();
            }
            let offset = raw.place.offset.get();
            let bytes = file.part(offset, raw.place.size()).map_err(|_| Error::Truncated {
                what: "solid resource".into(),
                offset,
                wanted: raw.place.size(),
                available: file.len().saturating_sub(offset),
            })?;
            let solid = Arc::new(Solid::open(bytes, offset, Arc::clone(&cache))?);
            table.solids.push(Arc::clone(&solid));
            run.push(solid);
            continue;
        }
        run_has_blobs = true;
        let (start, len) = (raw.place.offset.get(), raw.place.size());
        let stored = solid_blob(&run, start, len, at)?;
        table.blobs.push((digest, Row::of(&stored, references, header.part - 1, &table.solids)));
    }
    Ok(table)
}

/// The blob at `start` of a run of solid resources.
fn solid_blob(run: &[Arc<Solid>], start: u64, len: u64, at: u64) -> Result<Stored> {
    let mut first = 0_u64;
    for group in run {
        let end = first.saturating_add(group.raw_len());
        if start < end || (len == 0 && start == end) {
            if start.checked_add(len).is_none_or(|stop| stop > end) {
                break;
            }
            return Ok(Stored {
                bytes: Content::default(),
                offset: at,
                raw_len: len,
                packing: Packing::Solid { group: Arc::clone(group), start: start - first },
            });
        }
        first = end;
    }
    Err(Error::bad_field(
        "ResourceTableEntry",
        "offset",
        at + 8,
        "a place inside a solid resource listed before",
        format!("{len} bytes at {start}"),
    ))
}

/// Reads the XML data as text; empty when there is none.
pub(crate) fn read_xml(file: &Content, header: &Header, limits: &Limits) -> Result<String> {
    let bytes = read_resource(file, header, header.xml, limits.xml, "XML data")?;
    xml::decode(&bytes, header.xml.offset.get())
}

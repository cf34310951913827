//! Bytes to a hive.

use crate::{
    Hive, KeyId, Limits, ValueKind,
    layout::{self, BLOCK, DATA_INLINE, NONE, RawBase, RawBin, RawKey, RawSecurity, RawValue},
    model::{Bytes, Key, Name, Security, Value},
};
use neat_content::{Error, Result};
use std::{cmp::Ordering, collections::HashMap, sync::Arc};
use zerocopy::FromBytes;

/// Largest file that is taken for a hive.
pub const LARGEST: u64 = 512 << 20;

/// Whether these first bytes of a file are a hive's.
pub fn is_hive(first: &[u8]) -> bool {
    first.starts_with(b"regf")
}

impl Hive {
    /// Reads a hive file. Transaction logs are not looked at: [`Hive::is_dirty`] says whether there may be changes in
    /// them only.
    ///
    /// # Errors
    /// `Corrupt` with the structure and the offset, `LimitExceeded` for more than is ever read.
    pub fn read(bytes: impl Into<Vec<u8>>) -> Result<Self> {
        Self::read_with(bytes, &Limits::default())
    }

    /// As [`Hive::read`], with limits of the caller's.
    ///
    /// # Errors
    /// As [`Hive::read`].
    pub fn read_with(bytes: impl Into<Vec<u8>>, limits: &Limits) -> Result<Self> {
        let source: Arc<Vec<u8>> = Arc::new(bytes.into());
        let base = Base::check(&source, limits)?;
        let cells = Cells::check(&source, base.bins_len)?;
        let mut reader = Reader {
            used: vec![0; base.bins_len / 8 / 64 + 1],
            keys: Vec::new(),
            securities: Vec::new(),
            by_cell: HashMap::new(),
            own: Vec::new(),
            source_len: source.len(),
            cells,
            has_segments: base.minor >= layout::BIG_DATA_MINOR,
        };
        reader.read_keys(base.root, limits.depth)?;
        let Reader { keys, securities, own, .. } = reader;
        let mut notes = base.notes;
        let mut hive = Self {
            base: source[..BLOCK].into(),
            source,
            own,
            is_overfull: false,
            minor: base.minor,
            keys,
            securities,
            notes: Vec::new(),
            is_dirty: base.is_dirty,
            now: None,
            is_edited: false,
        };
        if !hive.is_in_order() {
            notes.push("keys are not in the order of their names; they will be when it is written".into());
            hive.sort();
        }
        hive.notes = notes;
        Ok(hive)
    }

    fn is_in_order(&self) -> bool {
        let ascends = |pair: &[KeyId]| {
            let next = &self.key(pair[1]).name;
            self.order(&self.key(pair[0]).name, self.units(next)) == Ordering::Less
        };
        self.keys.iter().all(|key| key.children.windows(2).all(ascends))
    }

    fn sort(&mut self) {
        let lists: Vec<Vec<KeyId>> = self
            .keys
            .iter()
            .map(|key| {
                let mut children = key.children.clone();
                children.sort_by(|a, b| self.order(&self.key(*a).name, self.units(&self.key(*b).name)));
                children
            })
            .collect();
        for (key, children) in self.keys.iter_mut().zip(lists) {
            key.children = children;
        }
    }
}

/// What the base block says.
struct Base {
    minor: u32,
    root: u32,
    bins_len: usize,
    is_dirty: bool,
    notes: Vec<String>,
}

impl Base {
    fn check(bytes: &[u8], limits: &Limits) -> Result<Self> {
        let bad = |field, offset, expected: &str, found: String| {
            Err(Error::bad_field("base block", field, offset, expected, found))
        };
        let Some((raw, _)) = bytes.get(..BLOCK).and_then(|block| RawBase::ref_from_prefix(block).ok()) else {
            return Err(Error::Truncated {
                what: "base block".into(),
                offset: 0,
                wanted: BLOCK as u64,
                available: bytes.len() as u64,
            });
        };
        if raw.signature != *b"regf" {
            return bad("signature", 0, "regf", String::from_utf8_lossy(&raw.signature).into_owned());
        }
        if raw.checksum.get() != raw.computed_checksum() {
            return bad(
                "checksum",
                508,
                &format!("{:#x}", raw.computed_checksum()),
                format!("{:#x}", raw.checksum),
            );
        }
        let (major, minor) = (raw.major.get(), raw.minor.get());
        if major != 1 || !(layout::OLDEST_MINOR..=layout::NEWEST_MINOR).contains(&minor) {
            return Err(Error::Unsupported { what: format!("hive version {major}.{minor}"), offset: 20 });
        }
        if raw.file_type.get() != 0 {
            return bad("file type", 28, "0, a hive", format!("{}, a transaction log", raw.file_type));
        }
        let bins_len = raw.bins_len.get() as usize;
        if bins_len == 0 || !bins_len.is_multiple_of(BLOCK) || bins_len as u64 > limits.hive {
            return bad(
                "hive bins data size",
                40,
                &format!("a multiple of 4096, at most {}", limits.hive),
                format!("{bins_len:#x}"),
            );
        }
        let mut notes = Vec::new();
        let is_dirty = raw.primary_sequence != raw.secondary_sequence;
        if is_dirty {
            notes.push(
                "it was not closed properly: changes may lie in its transaction logs, which were not replayed".into(),
            );
        }
        Ok(Self { minor, root: raw.root.get(), bins_len, is_dirty, notes })
    }
}

/// The bins of a hive.
#[derive(Clone, Copy)]
struct Cells<'a> {
    bins: &'a [u8],
}

impl<'a> Cells<'a> {
    /// Checks every bin's header.
    fn check(bytes: &'a [u8], len: usize) -> Result<Self> {
        let bins = bytes.get(BLOCK..BLOCK + len).ok_or_else(|| Error::Truncated {
            what: "bins of the hive".into(),
            offset: BLOCK as u64,
            wanted: len as u64,
            available: (bytes.len() - BLOCK) as u64,
        })?;
        let mut at = 0;
        while at < len {
            let offset = (BLOCK + at) as u64;
            let bad = |field, skip, expected: String, found: String| {
                Err(Error::bad_field("hive bin", field, offset + skip, expected, found))
            };
            let Ok((bin, _)) = RawBin::ref_from_prefix(&bins[at..]) else {
                return bad("header", 0, "32 bytes".into(), "the end".into());
            };
            if bin.signature != *b"hbin" {
                return bad(
                    "signature",
                    0,
                    "hbin".into(),
                    String::from_utf8_lossy(&bin.signature).into_owned(),
                );
            }
            if bin.offset.get() as usize != at {
                return bad("offset", 4, format!("{at:#x}"), format!("{:#x}", bin.offset));
            }
            let bin_len = bin.len.get() as usize;
            if bin_len == 0 || !bin_len.is_multiple_of(BLOCK) || bin_len > len - at {
                return bad(
                    "size",
                    8,
                    "a multiple of 4096 that ends with the bins".into(),
                    format!("{bin_len:#x}"),
                );
            }
            at += bin_len;
        }
        Ok(Self { bins })
    }

    /// Position in the file.
    fn place(cell: u32) -> u64 {
        u64::from(cell) + BLOCK as u64
    }

    /// The bytes of a cell in use, after its size, and where they begin in the file.
    fn get(self, cell: u32, what: &'static str) -> Result<(&'a [u8], u32)> {
        let at = cell as usize;
        let bad = |expected: &str, found: String| {
            Err(Error::bad_field("cell", what, Self::place(cell), expected, found))
        };
        let Some(size) =
            self.bins.get(at..).and_then(<[u8]>::first_chunk::<4>).filter(|_| cell.is_multiple_of(8))
        else {
            return bad("the offset of a cell", format!("{cell:#x}"));
        };
        let size = i32::from_le_bytes(*size);
        if size >= 0 {
            return bad("a cell in use", format!("a free one of {size} bytes"));
        }
        let len = size.unsigned_abs() as usize;
        if len < 8 || !len.is_multiple_of(8) || len > self.bins.len() - at {
            return bad("a size that is a multiple of 8 and ends inside the bins", format!("{size}"));
        }
        Ok((&self.bins[at + 4..at + len], (at + 4 + BLOCK) as u32))
    }
}

struct Reader<'a> {
    cells: Cells<'a>,
    /// One bit for each possible cell: whether it was read.
    used: Vec<u64>,
    keys: Vec<Key>,
    securities: Vec<Security>,
    /// Number of the security descriptor of each cell.
    by_cell: HashMap<u32, u32>,
    /// Values that lie in several cells, put together, and where they are counted from.
    own: Vec<u8>,
    source_len: usize,
    has_segments: bool,
}

impl<'a> Reader<'a> {
    /// A cell that nothing else uses; so that nothing is read twice, however the file is made.
    fn take(&mut self, cell: u32, what: &'static str) -> Result<(&'a [u8], u32)> {
        let found = self.cells.get(cell, what)?;
        let bit = cell as usize / 8;
        let word = &mut self.used[bit / 64];
        if *word >> (bit % 64) & 1 == 1 {
            return Err(Error::Loop { what: format!("{what} of a hive"), offset: Cells::place(cell) });
        }
        *word |= 1 << (bit % 64);
        Ok(found)
    }

    /// Reads the root key and everything below it.
    fn read_keys(&mut self, root: u32, deepest: usize) -> Result<()> {
        // A cell, the key it is in, and its level.
        let mut pending = vec![(root, KeyId(0), 0_usize)];
        while let Some((cell, parent, level)) = pending.pop() {
            if level > deepest {
                return Err(Error::Limit {
                    what: "levels of keys".into(),
                    offset: Cells::place(cell),
                    limit: deepest as u64,
                    found: level as u64,
                });
            }
            let id = KeyId(self.keys.len() as u32);
            let (raw, key) = self.key(cell, parent)?;
            self.keys.push(key);
            if level > 0 {
                self.keys[parent.0 as usize].children.push(id);
            }
            let count = raw.subkeys.get();
            if count > 0 {
                let start = pending.len();
                self.list(raw.subkey_list.get(), count, |cell| pending.push((cell, id, level + 1)))?;
                // Taken from the end, so that keys come in the order of the list.
                pending[start..].reverse();
            }
        }
        Ok(())
    }

    fn key(&mut self, cell: u32, parent: KeyId) -> Result<(&'a RawKey, Key)> {
        let (bytes, start) = self.take(cell, "key")?;
        let (raw, name) = parse::<RawKey>(bytes, *b"nk", start, "key")?;
        let name_len = usize::from(raw.name_len.get());
        let is_wide = raw.flags.get() & layout::KEY_NARROW_NAME == 0;
        let name = name_at(name, name_len, is_wide, start + size_of::<RawKey>() as u32, "name of a key")?;
        let class_len = usize::from(raw.class_len.get());
        let class = if class_len == 0 || raw.class.get() == NONE {
            Bytes::EMPTY
        } else {
            let (bytes, start) = self.take(raw.class.get(), "class name")?;
            inside(bytes, class_len, start, "class name")?
        };
        let values = self.values(raw)?;
        let security = self.security(raw.security.get())?;
        let key = Key {
            name,
            class,
            flags: raw.flags.get() & !layout::KEY_NARROW_NAME,
            written: raw.written.get(),
            access: raw.access.get(),
            user_bits: raw.user_bits.get(),
            work: raw.work.get(),
            security,
            parent,
            children: Vec::new(),
            values,
            is_removed: false,
        };
        Ok((raw, key))
    }

    /// Calls `child` with the cell of each key of a list.
    fn list(&mut self, cell: u32, count: u32, mut child: impl FnMut(u32)) -> Result<()> {
        let (bytes, start) = self.take(cell, "list of keys")?;
        let mut found = 0_u64;
        if bytes.starts_with(b"ri") {
            for (inner, _) in entries(bytes, 4, start)? {
                let (bytes, start) = self.take(inner, "list of keys")?;
                found += leaf(bytes, start, &mut child)?;
            }
        } else {
            found = leaf(bytes, start, &mut child)?;
        }
        if found != u64::from(count) {
            return Err(Error::bad_field(
                "list of keys",
                "number of entries",
                u64::from(start) + 2,
                format!("{count} as the key says"),
                found,
            ));
        }
        Ok(())
    }

    fn values(&mut self, raw: &RawKey) -> Result<Vec<Value>> {
        let count = raw.values.get() as usize;
        if count == 0 {
            return Ok(Vec::new());
        }
        let (bytes, start) = self.take(raw.value_list.get(), "list of values")?;
        let list = bytes.get(..count.saturating_mul(4)).ok_or_else(|| Error::Truncated {
            what: "list of values".into(),
            offset: start.into(),
            wanted: count as u64 * 4,
            available: bytes.len() as u64,
        })?;
        let cells = list.chunks_exact(4).map(|cell| u32::from_le_bytes([cell[0], cell[1], cell[2], cell[3]]));
        cells.map(|cell| self.value(cell)).collect()
    }

    fn value(&mut self, cell: u32) -> Result<Value> {
        let (bytes, start) = self.take(cell, "value")?;
        let (raw, name) = parse::<RawValue>(bytes, *b"vk", start, "value")?;
        let name_len = usize::from(raw.name_len.get());
        let is_wide = raw.flags.get() & layout::VALUE_NARROW_NAME == 0;
        let name = name_at(name, name_len, is_wide, start + size_of::<RawValue>() as u32, "name of a value")?;
        let len = raw.data_len.get();
        let data = if len & DATA_INLINE != 0 {
            let len = len & !DATA_INLINE;
            if len > 4 {
                return Err(Error::bad_field(
                    "value",
                    "data size",
                    u64::from(start) + 4,
                    "at most 4 inside it",
                    len,
                ));
            }
            Bytes { start: start + 8, len }
        } else if len == 0 {
            Bytes::EMPTY
        } else {
            self.data(raw.data.get(), len as usize)?
        };
        Ok(Value {
            name,
            kind: raw.kind.get(),
            data,
            flags: raw.flags.get() & !layout::VALUE_NARROW_NAME,
            spare: raw.spare.get(),
        })
    }

    fn data(&mut self, cell: u32, len: usize) -> Result<Bytes> {
        let (bytes, start) = self.take(cell, "data of a value")?;
        if !(self.has_segments && len > layout::SEGMENT && bytes.starts_with(b"db")) {
            return inside(bytes, len, start, "data of a value");
        }
        let field = |at: usize| bytes.get(at..at + 4).map(|b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]));
        let count = bytes.get(2..4).map_or(0, |b| usize::from(u16::from_le_bytes([b[0], b[1]])));
        let wanted = len.div_ceil(layout::SEGMENT);
        let (Some(list), true) = (field(4), count == wanted) else {
            return Err(Error::bad_field(
                "big data",
                "number of segments",
                u64::from(start) + 2,
                format!("{wanted} for {len} bytes"),
                count,
            ));
        };
        let (list, list_start) = self.take(list, "list of segments")?;
        let list = list.get(..count * 4).ok_or_else(|| Error::Truncated {
            what: "list of segments".into(),
            offset: list_start.into(),
            wanted: count as u64 * 4,
            available: list.len() as u64,
        })?;
        // No more than the cells themselves hold, each of which is used once.
        let mut all = Vec::new();
        for cell in list.chunks_exact(4) {
            let cell = u32::from_le_bytes([cell[0], cell[1], cell[2], cell[3]]);
            let (bytes, start) = self.take(cell, "segment of a value")?;
            let part = (len - all.len()).min(layout::SEGMENT);
            inside(bytes, part, start, "segment of a value")?;
            all.extend_from_slice(&bytes[..part]);
        }
        let start = self.source_len + self.own.len();
        self.own.extend_from_slice(&all);
        // The cells lie in the source, so together they are no longer than that.
        Ok(Bytes { start: start as u32, len: all.len() as u32 })
    }

    /// The number of the security descriptor in a cell; [`NONE`] if there is none.
    fn security(&mut self, cell: u32) -> Result<u32> {
        // Hives that no system made may have keys without one.
        if cell == NONE {
            return Ok(NONE);
        }
        if let Some(number) = self.by_cell.get(&cell) {
            return Ok(*number);
        }
        let (bytes, start) = self.take(cell, "security descriptor")?;
        let (raw, rest) = parse::<RawSecurity>(bytes, *b"sk", start, "security descriptor")?;
        let at = start + size_of::<RawSecurity>() as u32;
        let descriptor = inside(rest, raw.len.get() as usize, at, "security descriptor")?;
        let number = self.securities.len() as u32;
        self.securities.push(Security { reserved: raw.reserved.get(), descriptor });
        self.by_cell.insert(cell, number);
        Ok(number)
    }
}

/// The structure at the start of a cell, and what follows it.
fn parse<'a, T: FromBytes + zerocopy::KnownLayout + zerocopy::Immutable + zerocopy::Unaligned>(
    bytes: &'a [u8],
    signature: [u8; 2],
    start: u32,
    what: &'static str,
) -> Result<(&'a T, &'a [u8])> {
    if !bytes.starts_with(&signature) {
        let expected = String::from_utf8_lossy(&signature).into_owned();
        let found = String::from_utf8_lossy(&bytes[..2.min(bytes.len())]).into_owned();
        return Err(Error::bad_field(what, "signature", start.into(), expected, format!("{found:?}")));
    }
    T::ref_from_prefix(bytes).map_err(|_| Error::Truncated {
        what: what.into(),
        offset: start.into(),
        wanted: size_of::<T>() as u64,
        available: bytes.len() as u64,
    })
}

fn inside(bytes: &[u8], len: usize, start: u32, what: &str) -> Result<Bytes> {
    if len > bytes.len() {
        return Err(Error::Truncated {
            what: what.into(),
            offset: start.into(),
            wanted: len as u64,
            available: bytes.len() as u64,
        });
    }
    Ok(Bytes { start, len: len as u32 })
}

fn name_at(bytes: &[u8], len: usize, is_wide: bool, start: u32, what: &str) -> Result<Name> {
    Ok(Name { bytes: inside(bytes, len, start, what)?, is_wide })
}

/// Calls `child` with each key of a list that is no list of lists; returns their number.
fn leaf(bytes: &[u8], start: u32, child: &mut impl FnMut(u32)) -> Result<u64> {
    let width = match bytes.get(..2) {
        Some(b"lf" | b"lh") => 8,
        Some(b"li") => 4,
        other => {
            let found = String::from_utf8_lossy(other.unwrap_or_default()).into_owned();
            return Err(Error::bad_field(
                "list of keys",
                "signature",
                start.into(),
                "lf, lh, li or ri",
                found,
            ));
        }
    };
    let entries = entries(bytes, width, start)?;
    let count = entries.len();
    entries.for_each(|(cell, _)| child(cell));
    Ok(count as u64)
}

/// Entries of a list: a cell, and what follows it there.
fn entries(bytes: &[u8], width: usize, start: u32) -> Result<impl ExactSizeIterator<Item = (u32, &[u8])>> {
    let count = bytes.get(2..4).map_or(0, |b| usize::from(u16::from_le_bytes([b[0], b[1]])));
    let list = bytes.get(4..4 + count * width).ok_or_else(|| Error::Truncated {
        what: "list of keys".into(),
        offset: start.into(),
        wanted: (4 + count * width) as u64,
        available: bytes.len() as u64,
    })?;
    Ok(list
        .chunks_exact(width)
        .map(|entry| (u32::from_le_bytes([entry[0], entry[1], entry[2], entry[3]]), &entry[4..])))
}

impl Hive {
    /// The value with the type and data of another hive's.
    pub(crate) fn same_value(&self, value: &Value, other: &Self, theirs: &Value) -> bool {
        value.kind == theirs.kind && self.data(value) == other.data(theirs)
    }

    /// Type and data of a value.
    pub fn content<'a>(&'a self, value: &'a Value) -> (ValueKind, &'a [u8]) {
        (value.kind(), self.data(value))
    }
}

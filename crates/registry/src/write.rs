//! A hive to bytes: compact, every cell in its bin, lists in order.

use crate::{
    Hive, KeyId,
    layout::{self, BIN_HEADER, BLOCK, DATA_INLINE, NONE, RawBase, RawBin, RawKey, RawSecurity, RawValue},
    model::{Key, Name, Value},
};
use neat_content::{Error, Result};
use zerocopy::{FromBytes, IntoBytes};

/// Bytes that are put together before they are passed on.
const WINDOW: usize = 1 << 20;

impl Hive {
    /// The bytes of a hive file that holds what this hive holds: without gaps, with both sequence numbers equal, and
    /// always the same for the same hive.
    ///
    /// Fails only if it would be larger than a hive can be.
    ///
    /// # Errors
    /// `LimitExceeded` when it would be larger than any hive is.
    pub fn write(&self) -> Result<Vec<u8>> {
        let mut bytes = Vec::new();
        self.write_to(&mut |_, part| {
            bytes.extend_from_slice(part);
            Ok(())
        })?;
        Ok(bytes)
    }

    /// The same bytes part by part, in order, each with the length of all: a whole hive may be large, and need not be in
    /// memory twice.
    ///
    /// # Errors
    /// As [`Hive::write`], and those of `sink`.
    pub fn write_to(&self, sink: &mut dyn FnMut(u64, &[u8]) -> Result<()>) -> Result<()> {
        // The first pass gives every cell its place, the second writes, by the same walk.
        let mut writer = Writer::new(self);
        writer.walk(&mut Out::default(), &mut |_| Ok(()))?;
        let len = writer.bins.end;
        let sink = &mut |part: &[u8]| sink((BLOCK + len) as u64, part);
        if self.is_overfull || len as u64 + BLOCK as u64 > crate::read::LARGEST {
            return Err(Error::Limit {
                what: "bytes of a hive".into(),
                offset: 0,
                limit: crate::read::LARGEST,
                found: len as u64,
            });
        }
        let mut base = vec![0; BLOCK];
        self.write_base(&mut base, len);
        sink(&base)?;
        writer.bins = Bins { written: Some(self.written()), ..Bins::default() };
        let mut out = Out::default();
        writer.walk(&mut out, sink)?;
        // Every bin is complete at the end.
        out.place(len, 0);
        sink(&out.bytes)
    }

    fn write_base(&self, bytes: &mut [u8], len: usize) {
        let base = &mut bytes[..BLOCK];
        base.copy_from_slice(&self.base);
        if let Ok((raw, _)) = RawBase::mut_from_prefix(base) {
            let sequence = raw.primary_sequence.get().max(raw.secondary_sequence.get());
            raw.primary_sequence = sequence.into();
            raw.secondary_sequence = sequence.into();
            raw.root = (BIN_HEADER as u32).into();
            raw.bins_len = (len as u32).into();
            raw.checksum = raw.computed_checksum().into();
        }
    }
}

/// The part of the bins that is being written. Places are counted from the first bin.
#[derive(Default)]
struct Out {
    /// Place of the first byte in `bytes`; what lay before is passed on.
    start: usize,
    bytes: Vec<u8>,
}

impl Out {
    /// The `len` bytes at `at`, which is not passed on yet.
    fn place(&mut self, at: usize, len: usize) -> &mut [u8] {
        let from = at - self.start;
        if self.bytes.len() < from + len {
            self.bytes.resize(from + len, 0);
        }
        &mut self.bytes[from..from + len]
    }

    /// Passes on what lies before `at`, if it is worth it: nothing there is written any more.
    fn pass_on(&mut self, at: usize, sink: &mut dyn FnMut(&[u8]) -> Result<()>) -> Result<()> {
        if at - self.start < WINDOW {
            return Ok(());
        }
        self.place(at, 0);
        sink(&self.bytes[..at - self.start])?;
        self.bytes.drain(..at - self.start);
        self.start = at;
        Ok(())
    }

    /// Makes a free cell of what a bin has left.
    fn free(&mut self, at: usize, len: usize) {
        self.place(at, 4).copy_from_slice(&(len as i32).to_le_bytes());
    }
}

/// Gives out places for cells, bin after bin, and when the bins are written, begins each.
#[derive(Default)]
struct Bins {
    /// The time in the first bin, when they are written.
    written: Option<u64>,
    /// Next free byte in the last bin.
    next: usize,
    /// End of the last bin.
    end: usize,
}

impl Bins {
    /// Place of a cell that holds `len` bytes.
    fn take(&mut self, len: usize, out: &mut Out) -> usize {
        let size = (len + 4).next_multiple_of(8);
        if size > self.end - self.next {
            let bin = (size + BIN_HEADER).next_multiple_of(BLOCK);
            if let Some(written) = self.written {
                if self.end > self.next {
                    out.free(self.next, self.end - self.next);
                }
                let header = RawBin {
                    signature: *b"hbin",
                    offset: (self.end as u32).into(),
                    len: (bin as u32).into(),
                    reserved: 0.into(),
                    written: if self.end == 0 { written.into() } else { 0.into() },
                    spare: 0.into(),
                };
                out.place(self.end, BIN_HEADER).copy_from_slice(header.as_bytes());
            }
            self.next = self.end + BIN_HEADER;
            self.end += bin;
        }
        let at = self.next;
        self.next += size;
        at
    }
}

struct Writer<'a> {
    hive: &'a Hive,
    bins: Bins,
    /// Cell of each key.
    keys: Vec<u32>,
    /// Cell of each security descriptor that is used.
    securities: Vec<u32>,
    /// How many keys have each.
    references: Vec<u32>,
}

impl<'a> Writer<'a> {
    fn new(hive: &'a Hive) -> Self {
        let mut references = vec![0; hive.securities.len()];
        for id in hive.walk() {
            if let Some(count) = references.get_mut(hive.key(id).security as usize) {
                *count += 1;
            }
        }
        let securities = vec![0; references.len()];
        Self { hive, bins: Bins::default(), keys: vec![0; hive.keys.len()], securities, references }
    }

    const fn is_writing(&self) -> bool {
        self.bins.written.is_some()
    }

    /// Takes a cell for `parts`; writes it in the second pass.
    fn cell(&mut self, out: &mut Out, parts: &[&[u8]]) -> u32 {
        let len = parts.iter().map(|part| part.len()).sum();
        let at = self.bins.take(len, out);
        if self.is_writing() {
            let size = (len + 4).next_multiple_of(8);
            let place = out.place(at, size);
            place[..4].copy_from_slice(&(-(size as i32)).to_le_bytes());
            let mut next = 4;
            for part in parts {
                place[next..next + part.len()].copy_from_slice(part);
                next += part.len();
            }
        }
        at as u32
    }

    /// The root key, the security descriptors, then key after key.
    fn walk(&mut self, out: &mut Out, sink: &mut dyn FnMut(&[u8]) -> Result<()>) -> Result<()> {
        let hive = self.hive;
        for id in hive.walk() {
            if self.is_writing() {
                // A key's cells come after all of the key before.
                out.pass_on(self.bins.next, sink)?;
            }
            self.key(id, out);
            if id == Hive::ROOT {
                self.security(out);
            }
        }
        // The end of the last bin is one free cell.
        let (next, end) = (self.bins.next, self.bins.end);
        if self.is_writing() && end > next {
            out.free(next, end - next);
        }
        Ok(())
    }

    fn security(&mut self, out: &mut Out) {
        let hive = self.hive;
        let used: Vec<usize> = (0..self.references.len()).filter(|n| self.references[*n] > 0).collect();
        for (n, number) in used.iter().enumerate() {
            let security = &hive.securities[*number];
            let descriptor = hive.bytes(security.descriptor);
            let raw = RawSecurity {
                signature: *b"sk",
                reserved: security.reserved.into(),
                next: self.securities[used[(n + 1) % used.len()]].into(),
                previous: self.securities[used[(n + used.len() - 1) % used.len()]].into(),
                references: self.references[*number].into(),
                len: (descriptor.len() as u32).into(),
            };
            self.securities[*number] = self.cell(out, &[raw.as_bytes(), descriptor]);
        }
    }

    fn key(&mut self, id: KeyId, out: &mut Out) {
        let hive = self.hive;
        let key = hive.key(id);
        let name = hive.bytes(key.name.bytes);
        // What follows the key decides what it says, so its place is taken first and it is written last.
        let len = size_of::<RawKey>() + name.len();
        let at = self.bins.take(len, out);
        self.keys[id.0 as usize] = at as u32;
        let class = hive.bytes(key.class);
        let class_cell = if class.is_empty() { NONE } else { self.cell(out, &[class]) };
        let subkey_list = self.subkeys(key, out);
        let value_list = self.values(&key.values, out);
        if !self.is_writing() {
            return;
        }
        let name_len = |name: &Name| (hive.bytes(name.bytes).len() * if name.is_wide { 1 } else { 2 }) as u32;
        let children = || key.children.iter().map(|child| hive.key(*child));
        let longest = |lens: &mut dyn Iterator<Item = u32>| lens.max().unwrap_or(0);
        let narrow = if key.name.is_wide { 0 } else { layout::KEY_NARROW_NAME };
        // Whatever a damaged hive said of it.
        let root = if id == Hive::ROOT { layout::KEY_ROOT } else { 0 };
        let raw = RawKey {
            signature: *b"nk",
            flags: (key.flags & !(layout::KEY_VOLATILE | layout::KEY_ROOT) | root | narrow).into(),
            written: key.written.into(),
            access: key.access.into(),
            parent: if id == Hive::ROOT { NONE.into() } else { self.keys[key.parent.0 as usize].into() },
            subkeys: (key.children.len() as u32).into(),
            volatile_subkeys: 0.into(),
            subkey_list: subkey_list.into(),
            volatile_list: NONE.into(),
            values: (key.values.len() as u32).into(),
            value_list: value_list.into(),
            security: self.securities.get(key.security as usize).copied().unwrap_or(NONE).into(),
            class: class_cell.into(),
            longest_subkey: (longest(&mut children().map(|child| name_len(&child.name))) as u16).into(),
            user_bits: key.user_bits.into(),
            longest_class: longest(&mut children().map(|child| hive.bytes(child.class).len() as u32)).into(),
            longest_value_name: longest(&mut key.values.iter().map(|value| name_len(&value.name))).into(),
            longest_value: longest(&mut key.values.iter().map(|value| hive.data(value).len() as u32)).into(),
            work: key.work.into(),
            name_len: (name.len() as u16).into(),
            class_len: (class.len() as u16).into(),
        };
        let size = (len + 4).next_multiple_of(8);
        let place = out.place(at, size);
        place[..4].copy_from_slice(&(-(size as i32)).to_le_bytes());
        place[4..4 + size_of::<RawKey>()].copy_from_slice(raw.as_bytes());
        place[4 + size_of::<RawKey>()..4 + len].copy_from_slice(name);
    }

    /// The list of keys in a key: one list, or a list of lists.
    fn subkeys(&mut self, key: &Key, out: &mut Out) -> u32 {
        if key.children.is_empty() {
            return NONE;
        }
        let lists: Vec<u32> =
            key.children.chunks(layout::LIST_ENTRIES).map(|children| self.leaf(children, out)).collect();
        if let [only] = lists.as_slice() {
            return *only;
        }
        let mut list = Vec::with_capacity(4 + lists.len() * 4);
        list.extend_from_slice(b"ri");
        list.extend_from_slice(&(lists.len() as u16).to_le_bytes());
        lists.iter().for_each(|cell| list.extend_from_slice(&cell.to_le_bytes()));
        self.cell(out, &[&list])
    }

    fn leaf(&mut self, children: &[KeyId], out: &mut Out) -> u32 {
        let hive = self.hive;
        let mut list = vec![0; 4 + children.len() * 8];
        if self.is_writing() {
            let has_hashes = hive.minor >= layout::HASH_MINOR;
            list[..2].copy_from_slice(if has_hashes { b"lh" } else { b"lf" });
            list[2..4].copy_from_slice(&(children.len() as u16).to_le_bytes());
            for (child, entry) in children.iter().zip(list[4..].chunks_exact_mut(8)) {
                let units = hive.units(&hive.key(*child).name);
                let hint =
                    if has_hashes { layout::name_hash(units).to_le_bytes() } else { first_letters(units) };
                entry[..4].copy_from_slice(&self.keys[child.0 as usize].to_le_bytes());
                entry[4..].copy_from_slice(&hint);
            }
        }
        self.cell(out, &[&list])
    }

    fn values(&mut self, values: &[Value], out: &mut Out) -> u32 {
        if values.is_empty() {
            return NONE;
        }
        let mut list = Vec::with_capacity(values.len() * 4);
        for value in values {
            list.extend_from_slice(&self.value(value, out).to_le_bytes());
        }
        self.cell(out, &[&list])
    }

    fn value(&mut self, value: &Value, out: &mut Out) -> u32 {
        let hive = self.hive;
        let data = hive.data(value);
        let mut len = data.len() as u32;
        let place = if data.len() <= 4 {
            len |= DATA_INLINE;
            let mut four = [0; 4];
            four[..data.len()].copy_from_slice(data);
            u32::from_le_bytes(four)
        } else if data.len() > layout::SEGMENT && hive.minor >= layout::BIG_DATA_MINOR {
            self.segments(data, out)
        } else {
            self.cell(out, &[data])
        };
        let name = hive.bytes(value.name.bytes);
        let narrow = if value.name.is_wide { 0 } else { layout::VALUE_NARROW_NAME };
        let raw = RawValue {
            signature: *b"vk",
            name_len: (name.len() as u16).into(),
            data_len: len.into(),
            data: place.into(),
            kind: value.kind.into(),
            flags: (value.flags | narrow).into(),
            spare: value.spare.into(),
        };
        self.cell(out, &[raw.as_bytes(), name])
    }

    /// Data too large for one cell.
    fn segments(&mut self, data: &[u8], out: &mut Out) -> u32 {
        // Systems leave room for one more word after each segment.
        const TAIL: [u8; 4] = [0; 4];
        let mut list = Vec::new();
        for segment in data.chunks(layout::SEGMENT) {
            list.extend_from_slice(&self.cell(out, &[segment, &TAIL]).to_le_bytes());
        }
        let count = (list.len() / 4) as u16;
        let list = self.cell(out, &[&list]);
        self.cell(out, &[b"db", &count.to_le_bytes(), &list.to_le_bytes(), &TAIL])
    }
}

/// The first four letters of a name, as lists of older versions have them; none of a name with other letters.
fn first_letters(units: impl Iterator<Item = u16>) -> [u8; 4] {
    let mut letters = [0; 4];
    for (letter, unit) in letters.iter_mut().zip(units) {
        let Ok(byte) = u8::try_from(unit) else { return [0; 4] };
        *letter = byte;
    }
    letters
}

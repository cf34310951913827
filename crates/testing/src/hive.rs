//! A second reading of hive files, straight from the description, that also checks everything a sound hive has.

use std::collections::{BTreeMap, BTreeSet};

/// Values of a key by name in capitals: name as written, type, data.
pub type Values = BTreeMap<String, (String, u32, Vec<u8>)>;
/// Keys by path in capitals.
pub type Keys = BTreeMap<String, (String, Values)>;

pub struct Checker<'a> {
    bytes: &'a [u8],
    /// Cells in use and how often something refers to them.
    cells: BTreeMap<u32, (usize, u32)>,
    securities: BTreeMap<u32, u32>,
    pub keys: Keys,
}

pub fn u16_at(bytes: &[u8], at: usize) -> u16 {
    u16::from_le_bytes(bytes[at..at + 2].try_into().unwrap())
}

pub fn u32_at(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap())
}

/// Reads a hive and panics if anything about it is unsound.
pub fn check(bytes: &[u8]) -> Keys {
    assert_eq!(&bytes[..4], b"regf");
    assert_eq!(u32_at(bytes, 4), u32_at(bytes, 8), "sequence numbers");
    assert_eq!((0..127).fold(0, |sum, n| sum ^ u32_at(bytes, n * 4)), u32_at(bytes, 508), "checksum");
    let bins_len = u32_at(bytes, 40) as usize;
    assert_eq!(bytes.len(), 4096 + bins_len);
    let mut checker =
        Checker { bytes, cells: BTreeMap::new(), securities: BTreeMap::new(), keys: Keys::new() };
    let mut bin = 0;
    while bin < bins_len {
        let header = &bytes[4096 + bin..];
        assert_eq!(&header[..4], b"hbin");
        assert_eq!(u32_at(header, 4) as usize, bin);
        let len = u32_at(header, 8) as usize;
        assert!(len > 0 && len.is_multiple_of(4096) && bin + len <= bins_len);
        let mut at = bin + 32;
        while at < bin + len {
            let size = u32_at(bytes, 4096 + at) as i32;
            let cell = size.unsigned_abs() as usize;
            assert!(cell >= 8 && cell.is_multiple_of(8) && at + cell <= bin + len, "cell {at:#x} of {size}");
            if size < 0 {
                checker.cells.insert(at as u32, (cell - 4, 0));
            }
            at += cell;
        }
        assert_eq!(at, bin + len);
        bin += len;
    }
    let root = u32_at(bytes, 36);
    checker.key(root, u32::MAX, "");
    checker.ring();
    for (cell, (_, uses)) in &checker.cells {
        assert_eq!(*uses, 1, "cell {cell:#x} is used {uses} times");
    }
    checker.keys
}

impl<'a> Checker<'a> {
    fn cell(&mut self, cell: u32) -> &'a [u8] {
        let (len, uses) = self.cells.get_mut(&cell).unwrap_or_else(|| panic!("no cell at {cell:#x}"));
        *uses += 1;
        let start = 4096 + cell as usize + 4;
        &self.bytes[start..start + *len]
    }

    fn text(bytes: &[u8], narrow: bool) -> String {
        if narrow {
            return bytes.iter().map(|byte| char::from(*byte)).collect();
        }
        let units: Vec<u16> = bytes.chunks(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
        String::from_utf16_lossy(&units)
    }

    fn key(&mut self, cell: u32, parent: u32, path: &str) -> (String, usize) {
        let key = self.cell(cell);
        assert_eq!(&key[..2], b"nk");
        let flags = u16_at(key, 2);
        assert_eq!(flags & 4 != 0, parent == u32::MAX, "only the root is marked as one");
        assert_eq!(u32_at(key, 16), parent, "parent of {path}");
        let name_len = usize::from(u16_at(key, 72));
        let name = Self::text(&key[76..76 + name_len], flags & 0x20 != 0);
        let path = if parent == u32::MAX { String::new() } else { format!("{path}\\{name}") };
        let class_len = usize::from(u16_at(key, 74));
        if class_len > 0 {
            self.cell(u32_at(key, 48));
        } else {
            assert_eq!(u32_at(key, 48), u32::MAX);
        }
        *self.securities.entry(u32_at(key, 44)).or_default() += 1;
        let values = self.values(key);
        assert!(self.keys.insert(path.to_uppercase(), (path.clone(), values)).is_none(), "{path} twice");
        let count = u32_at(key, 20);
        let children = if count == 0 { Vec::new() } else { self.list(u32_at(key, 28), true) };
        assert_eq!(children.len() as u32, count);
        let mut last: Option<String> = None;
        let (mut longest, mut longest_class) = (0, 0);
        for (child, hint, kind) in children {
            let (name, class) = self.key(child, cell, &path);
            longest = longest.max(name.encode_utf16().count() * 2);
            longest_class = longest_class.max(class);
            let upper = name.to_uppercase();
            assert!(
                last.is_none_or(|last| last.encode_utf16().lt(upper.encode_utf16())),
                "{upper} out of order"
            );
            match &kind {
                b"lh" => {
                    let hash = upper
                        .encode_utf16()
                        .fold(0_u32, |h, c| h.wrapping_mul(37).wrapping_add(u32::from(c)));
                    assert_eq!(u32::from_le_bytes(hint), hash, "hash of {name}");
                }
                b"lf" => {
                    let bytes: Vec<u8> = name.chars().take(4).map(|c| c as u8).collect();
                    assert!(hint.starts_with(&bytes) || hint == [0; 4]);
                }
                _ => {}
            }
            last = Some(upper);
        }
        assert_eq!(usize::from(u16_at(key, 52)), longest, "longest name in {path}");
        assert_eq!(u32_at(key, 56) as usize, longest_class);
        (name, class_len)
    }

    fn list(&mut self, cell: u32, may_nest: bool) -> Vec<(u32, [u8; 4], [u8; 2])> {
        let list = self.cell(cell);
        let count = usize::from(u16_at(list, 2));
        let kind: [u8; 2] = list[..2].try_into().unwrap();
        match &kind {
            b"lf" | b"lh" => (0..count)
                .map(|n| (u32_at(list, 4 + n * 8), list[8 + n * 8..12 + n * 8].try_into().unwrap(), kind))
                .collect(),
            b"li" => (0..count).map(|n| (u32_at(list, 4 + n * 4), [0; 4], kind)).collect(),
            b"ri" if may_nest => (0..count).flat_map(|n| self.list(u32_at(list, 4 + n * 4), false)).collect(),
            other => panic!("list of kind {other:?}"),
        }
    }

    fn values(&mut self, key: &[u8]) -> Values {
        let count = u32_at(key, 36) as usize;
        let mut values = Values::new();
        let (mut longest_name, mut longest_data) = (0, 0);
        if count > 0 {
            let list = self.cell(u32_at(key, 40));
            for n in 0..count {
                let value = self.cell(u32_at(list, n * 4));
                assert_eq!(&value[..2], b"vk");
                let name_len = usize::from(u16_at(value, 2));
                let name = Self::text(&value[20..20 + name_len], u16_at(value, 16) & 1 != 0);
                let len = u32_at(value, 4);
                let data = if len & 1 << 31 != 0 {
                    value[8..8 + (len & 0x7FFF_FFFF) as usize].to_vec()
                } else {
                    self.data(u32_at(value, 8), len as usize)
                };
                longest_name = longest_name.max(name.encode_utf16().count() * 2);
                longest_data = longest_data.max(data.len());
                let old = values.insert(name.to_uppercase(), (name, u32_at(value, 12), data));
                assert!(old.is_none());
            }
        }
        assert_eq!(u32_at(key, 60) as usize, longest_name);
        assert_eq!(u32_at(key, 64) as usize, longest_data);
        values
    }

    fn data(&mut self, cell: u32, len: usize) -> Vec<u8> {
        let minor = u32_at(self.bytes, 24);
        let data = self.cell(cell);
        if len <= 16344 || minor < 4 {
            return data[..len].to_vec();
        }
        assert_eq!(&data[..2], b"db");
        let count = usize::from(u16_at(data, 2));
        let list = self.cell(u32_at(data, 4));
        let mut all = Vec::new();
        for n in 0..count {
            let segment = self.cell(u32_at(list, n * 4));
            all.extend_from_slice(&segment[..(len - all.len()).min(16344)]);
        }
        assert_eq!(all.len(), len);
        all
    }

    /// Every descriptor in use stands once in one ring and knows how many keys have it.
    fn ring(&mut self) {
        let used = std::mem::take(&mut self.securities);
        let start = *used.keys().next().unwrap();
        let (mut at, mut seen) = (start, BTreeSet::new());
        loop {
            assert!(seen.insert(at), "the ring does not close");
            let cell = self.cell(at);
            assert_eq!(&cell[..2], b"sk");
            assert_eq!(u32_at(cell, 12), used[&at], "references of {at:#x}");
            let next = u32_at(cell, 4);
            assert_eq!(u32_at(&self.bytes[4096 + next as usize + 4..], 8), at, "back from {next:#x}");
            if next == start {
                break;
            }
            at = next;
        }
        assert_eq!(seen.len(), used.len());
    }
}

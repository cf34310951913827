//! A second reading of discs, written straight from the standards and sharing no code with the crate: it follows
//! every pointer, checks every rule that a writer must keep, and panics at the first that is broken.

pub mod iso;
pub mod udf;

use std::{fs::File, os::unix::fs::FileExt, path::Path};

/// What a tree says of a file.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Seen {
    pub path: String,
    /// Extents as first byte and length; empty for a folder.
    pub extents: Vec<(u64, u64)>,
    pub is_folder: bool,
    pub modified: i64,
}

impl Seen {
    pub fn len(&self) -> u64 {
        self.extents.iter().map(|(_, len)| len).sum()
    }
    pub fn bytes(&self, disc: &Disc) -> Vec<u8> {
        self.extents.iter().flat_map(|(at, len)| disc.bytes(*at, *len as usize)).collect()
    }
}

/// A disc image.
pub struct Disc {
    file: File,
    pub len: u64,
}

impl Disc {
    pub fn open(path: &Path) -> Self {
        let file = File::open(path).unwrap();
        let len = file.metadata().unwrap().len();
        Self { file, len }
    }
    pub fn bytes(&self, at: u64, len: usize) -> Vec<u8> {
        let mut bytes = vec![0; len];
        self.file
            .read_exact_at(&mut bytes, at)
            .unwrap_or_else(|error| panic!("{len} bytes at {at:#x}: {error}"));
        bytes
    }
    pub fn sector(&self, number: u64) -> Vec<u8> {
        self.bytes(number * 2048, 2048)
    }
}

pub fn le16(b: &[u8], at: usize) -> u16 {
    u16::from_le_bytes(b[at..at + 2].try_into().unwrap())
}
pub fn le32(b: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(b[at..at + 4].try_into().unwrap())
}
pub fn le64(b: &[u8], at: usize) -> u64 {
    u64::from_le_bytes(b[at..at + 8].try_into().unwrap())
}
pub fn be16(b: &[u8], at: usize) -> u16 {
    u16::from_be_bytes(b[at..at + 2].try_into().unwrap())
}
pub fn be32(b: &[u8], at: usize) -> u32 {
    u32::from_be_bytes(b[at..at + 4].try_into().unwrap())
}
/// A number in both byte orders.
pub fn both32(b: &[u8], at: usize) -> u32 {
    assert_eq!(le32(b, at), be32(b, at + 4), "both byte orders at {at}");
    le32(b, at)
}
pub fn both16(b: &[u8], at: usize) -> u16 {
    assert_eq!(le16(b, at), be16(b, at + 2), "both byte orders at {at}");
    le16(b, at)
}
/// Seconds since 1970 of a civil date, by counting days.
pub fn seconds(year: i64, month: i64, day: i64, hour: i64, minute: i64, second: i64) -> i64 {
    let leap = |y: i64| (y % 4 == 0 && y % 100 != 0) || y % 400 == 0;
    let years: i64 = (1970..year).map(|y| 365 + i64::from(leap(y))).sum();
    let months = [31, 28 + i64::from(leap(year)), 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
    let days = years + months[..month as usize - 1].iter().sum::<i64>() + day - 1;
    ((days * 24 + hour) * 60 + minute) * 60 + second
}

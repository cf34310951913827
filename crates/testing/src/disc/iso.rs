//! ECMA-119 and Joliet, walked by the book.

use super::{Disc, Seen, be16, be32, both16, both32, le16, le32, seconds};
use std::collections::{HashMap, VecDeque};

/// A volume descriptor's tree.
pub struct IsoWalk {
    pub entries: Vec<Seen>,
    pub label: String,
    pub sectors: u64,
}

/// Which descriptor.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Which {
    Primary,
    Joliet,
}

/// Walks the tree of a descriptor and checks all rules; `None` when the disc has no such descriptor.
pub fn walk(disc: &Disc, which: Which) -> Option<IsoWalk> {
    let descriptor = (16..48)
        .map(|n| disc.sector(n))
        .take_while(|s| &s[1..6] == b"CD001" && s[0] != 255)
        .find(|s| match which {
            Which::Primary => s[0] == 1,
            Which::Joliet => s[0] == 2 && &s[88..90] == b"%/",
        })?;
    assert_eq!(descriptor[6], 1, "version");
    assert_eq!(descriptor[881], 1, "file structure version");
    assert_eq!((both16(&descriptor, 120), both16(&descriptor, 124), both16(&descriptor, 128)), (1, 1, 2048));
    let sectors = u64::from(both32(&descriptor, 80));
    assert!(sectors * 2048 <= disc.len, "the volume ends after the file");
    let root = (u64::from(both32(&descriptor, 158)), both32(&descriptor, 166));
    let joliet = which == Which::Joliet;
    let label_bytes = &descriptor[40..72];
    let label = if joliet { utf16(label_bytes) } else { String::from_utf8(label_bytes.to_vec()).unwrap() };

    let table_len = both32(&descriptor, 132) as usize;
    let little = disc.bytes(u64::from(le32(&descriptor, 140)) * 2048, table_len);
    let big = disc.bytes(u64::from(be32(&descriptor, 148)) * 2048, table_len);
    let table = path_table(&little, &big);

    let mut entries = Vec::new();
    // Directories in the order of the path table: number, parent number, path, extent.
    let mut numbers: HashMap<u64, usize> = HashMap::new();
    let mut queue = VecDeque::from([(root, root, String::new(), Vec::from([0_u8]))]);
    let mut visited = Vec::new();
    while let Some((own, parent, path, identifier)) = queue.pop_front() {
        let number = visited.len() + 1;
        assert!(numbers.insert(own.0, number).is_none(), "two directories at sector {}", own.0);
        visited.push((own.0, parent.0, identifier));
        let bytes = disc.bytes(own.0 * 2048, own.1 as usize);
        assert_eq!(own.1 % 2048, 0, "a directory is a whole number of sectors");
        let records = records(&bytes);
        let special = |index: usize, id: u8| {
            assert_eq!(records[index].identifier, [id]);
            (u64::from(records[index].location), records[index].len)
        };
        assert_eq!(special(0, 0), own, "own record of /{path}");
        assert_eq!(special(1, 1), parent, "parent's record of /{path}");
        let mut index = 2;
        let mut last: Option<Vec<u8>> = None;
        while index < records.len() {
            let record = &records[index];
            let name = if joliet {
                joliet_name(&record.identifier)
            } else {
                primary_name(&record.identifier, record.flags & 2 != 0)
            };
            let key = sort_key(&record.identifier, joliet);
            if let Some(last) = &last {
                assert!(*last < key, "order in /{path} at {name}");
            }
            last = Some(key);
            let full = if path.is_empty() { name } else { format!("{path}/{name}") };
            if record.flags & 2 != 0 {
                queue.push_back((
                    (u64::from(record.location), record.len),
                    own,
                    full.clone(),
                    record.identifier.clone(),
                ));
                entries.push(Seen {
                    path: full,
                    extents: Vec::new(),
                    is_folder: true,
                    modified: record.modified,
                });
                index += 1;
                continue;
            }
            let mut extents = Vec::new();
            loop {
                let part = &records[index];
                assert_eq!(part.identifier, record.identifier, "sections of one file stand together");
                if part.len > 0 {
                    extents.push((u64::from(part.location) * 2048, u64::from(part.len)));
                    assert!(u64::from(part.location) + u64::from(part.len).div_ceil(2048) <= sectors);
                }
                index += 1;
                if part.flags & 0x80 == 0 {
                    break;
                }
                assert_eq!(part.len % 2048, 0, "a section that others follow is a whole number of sectors");
            }
            entries.push(Seen { path: full, extents, is_folder: false, modified: record.modified });
        }
    }
    let expected: Vec<_> =
        visited.iter().map(|(own, parent, id)| (*own as u32, numbers[parent] as u16, id.clone())).collect();
    check_path_table(&table, &expected);
    entries.sort();
    Some(IsoWalk { entries, label: label.trim_end().to_owned(), sectors })
}

struct Record {
    location: u32,
    len: u32,
    flags: u8,
    identifier: Vec<u8>,
    modified: i64,
}

fn records(bytes: &[u8]) -> Vec<Record> {
    let mut found = Vec::new();
    for sector in bytes.chunks(2048) {
        let mut at = 0;
        while at < 2048 && sector[at] != 0 {
            let len = usize::from(sector[at]);
            assert!(at + len <= 2048, "a record crosses a sector");
            assert_eq!(len % 2, 0, "a record has an odd length");
            let r = &sector[at..at + len];
            let id_len = usize::from(r[32]);
            assert!(33 + id_len <= len);
            assert_eq!((r[1], r[26], r[27]), (0, 0, 0));
            assert_eq!(both16(r, 28), 1);
            let t = &r[18..25];
            let modified = seconds(
                1900 + i64::from(t[0]),
                t[1].into(),
                t[2].into(),
                t[3].into(),
                t[4].into(),
                t[5].into(),
            ) - i64::from(t[6] as i8) * 900;
            found.push(Record {
                location: both32(r, 2),
                len: both32(r, 10),
                flags: r[25],
                identifier: r[33..33 + id_len].to_vec(),
                modified,
            });
            at += len;
        }
        assert!(sector[at..].iter().all(|b| *b == 0), "something behind the last record of a sector");
    }
    found
}

fn utf16(bytes: &[u8]) -> String {
    let units: Vec<u16> = bytes.chunks(2).map(|p| be16(p, 0)).collect();
    String::from_utf16(&units).expect("whole characters")
}

fn joliet_name(identifier: &[u8]) -> String {
    assert!(identifier.len() <= 2 * (103 + 2));
    let name = utf16(identifier);
    assert!(!name.chars().any(|c| c < ' ' || "*/:?\\".contains(c)), "{name}");
    name.strip_suffix(";1").unwrap_or(&name).to_owned()
}

fn primary_name(identifier: &[u8], folder: bool) -> String {
    let text = String::from_utf8(identifier.to_vec()).unwrap();
    let d = |s: &str| s.chars().all(|c| c.is_ascii_uppercase() || c.is_ascii_digit() || c == '_');
    if folder {
        assert!(d(&text) && text.len() <= 31, "{text}");
        return text;
    }
    let name = text.strip_suffix(";1").expect("a version");
    let (base, extension) = name.split_once('.').expect("a full stop");
    assert!(d(base) && d(extension) && base.len() + extension.len() <= 30 && !name.is_empty(), "{text}");
    name.trim_end_matches('.').to_owned()
}

/// What ECMA-119 9.3 compares: name, then extension, each padded with something lower than all characters.
fn sort_key(identifier: &[u8], joliet: bool) -> Vec<u8> {
    let units: Vec<u16> = if joliet {
        identifier.chunks(2).map(|p| be16(p, 0)).collect()
    } else {
        identifier.iter().map(|b| u16::from(*b)).collect()
    };
    let is_file = units.ends_with(&[u16::from(b';'), u16::from(b'1')]);
    let units = if is_file { &units[..units.len() - 2] } else { &units[..] };
    let dot = units.iter().rposition(|u| *u == u16::from(b'.')).filter(|_| is_file);
    let (base, extension) = match dot {
        Some(at) => (&units[..at], &units[at + 1..]),
        None => (units, &[][..]),
    };
    let padded = |part: &[u16], to: usize| -> Vec<u8> {
        part.iter().copied().chain(std::iter::repeat(0)).take(to).flat_map(u16::to_be_bytes).collect()
    };
    [padded(base, 110), padded(extension, 110)].concat()
}

fn path_table(little: &[u8], big: &[u8]) -> Vec<(u32, u16, Vec<u8>)> {
    let mut rows = Vec::new();
    let mut at = 0;
    while at < little.len() {
        let len = usize::from(little[at]);
        assert_eq!((little[at], little[at + 1]), (big[at], big[at + 1]));
        let row = (le32(little, at + 2), le16(little, at + 6), little[at + 8..at + 8 + len].to_vec());
        assert_eq!(row, (be32(big, at + 2), be16(big, at + 6), big[at + 8..at + 8 + len].to_vec()));
        rows.push(row);
        at += 8 + len + len % 2;
    }
    assert_eq!(at, little.len());
    rows
}

/// The table lists the directories by depth, then parent, then identifier (ECMA-119 6.9.1), which is the order in
/// which a walk by breadth meets them when every directory is sorted.
fn check_path_table(table: &[(u32, u16, Vec<u8>)], expected: &[(u32, u16, Vec<u8>)]) {
    assert_eq!(table.len(), expected.len(), "directories in the path table");
    for (number, (row, wanted)) in table.iter().zip(expected).enumerate() {
        assert_eq!(row, wanted, "row {} of the path table", number + 1);
    }
}

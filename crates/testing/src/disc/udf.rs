//! ECMA-167 with UDF 1.02, walked by the book.

use super::{Disc, Seen, le16, le32, le64, seconds};
use std::collections::HashSet;

/// What a UDF volume says.
pub struct UdfWalk {
    pub entries: Vec<Seen>,
    pub links: Vec<(String, Vec<u8>)>,
    pub label: String,
}

/// Walks the volume and checks all rules; `None` when there is none.
pub fn walk(disc: &Disc) -> Option<UdfWalk> {
    let sequence: Vec<Vec<u8>> = (16..48).map(|n| disc.sector(n)).map(|s| s[1..6].to_vec()).collect();
    let at = sequence.iter().position(|id| id == b"BEA01")?;
    assert_eq!((sequence[at + 1].as_slice(), sequence[at + 2].as_slice()), (&b"NSR02"[..], &b"TEA01"[..]));

    let last = disc.len / 2048 - 1;
    let anchors: Vec<_> =
        [256, last, last - 256].into_iter().filter(|n| le16(&disc.sector(*n), 0) == 2).collect();
    assert!(anchors.len() >= 2, "an anchor is at two of 256, N and N - 256");
    let first = tagged(disc, anchors[0], 2, anchors[0] as u32);
    for other in &anchors[1..] {
        assert_eq!(tagged(disc, *other, 2, *other as u32)[16..32], first[16..32], "anchors agree");
    }
    let (main_len, main, reserve_len, reserve) =
        (le32(&first, 16), le32(&first, 20), le32(&first, 24), le32(&first, 28));
    assert!(main_len >= 16 * 2048 && reserve_len >= 16 * 2048);
    let mut found = Vec::new();
    for (index, tag) in [1_u16, 4, 5, 6, 7, 8].into_iter().enumerate() {
        let (a, b) = (main + index as u32, reserve + index as u32);
        let descriptor = tagged(disc, a.into(), tag, a);
        assert_eq!(descriptor[16..], tagged(disc, b.into(), tag, b)[16..], "the reserve sequence is a copy");
        found.push(descriptor);
    }
    let (partition, logical) = (&found[2], &found[3]);
    assert_eq!(&partition[25..31], b"+NSR02");
    let (start, blocks) = (le32(partition, 188), le32(partition, 192));
    assert!(u64::from(start + blocks) <= last + 1);
    assert_eq!(le32(logical, 212), 2048);
    assert_eq!(&logical[217..236], b"*OSTA UDF Compliant");
    assert_eq!(le16(logical, 240), 0x0102);
    assert_eq!((le32(logical, 264), le32(logical, 268)), (6, 1));
    let label = dstring(&logical[84..212]);
    let integrity_at = le32(logical, 436);
    let integrity = tagged(disc, integrity_at.into(), 9, integrity_at);
    assert_eq!(le32(&integrity, 28), 1, "the volume is closed");
    assert_eq!((le32(&integrity, 80), le32(&integrity, 84)), (0, blocks), "free space and size");

    let mut walk = Walk {
        disc,
        start,
        blocks,
        entries: Vec::new(),
        links: Vec::new(),
        ids: HashSet::new(),
        files: 0,
        folders: 0,
    };
    let set = walk.block(le32(logical, 252), 256);
    assert_eq!(dstring(&set[112..240]), label);
    let root = le32(&set, 404);
    walk.folder(root, root, String::new(), 0);
    let implementation_use = &integrity[88 + 32..];
    assert_eq!(
        (le32(implementation_use, 0), le32(implementation_use, 4)),
        (walk.files, walk.folders),
        "counts of files and folders"
    );
    assert!(le64(&integrity, 40) > walk.ids.iter().max().copied().unwrap(), "next unique id");
    let Walk { mut entries, links, .. } = walk;
    entries.sort();
    Some(UdfWalk { entries, links, label })
}

/// A descriptor at `sector` with the tag that it must have.
fn tagged(disc: &Disc, sector: u64, tag: u16, location: u32) -> Vec<u8> {
    let bytes = disc.sector(sector);
    check_tag(&bytes, tag, location);
    bytes
}

fn check_tag(b: &[u8], tag: u16, location: u32) {
    assert_eq!(le16(b, 0), tag, "tag at block {location}");
    assert_eq!(le16(b, 2), 2, "descriptor version");
    let sum: u32 = (0..16).filter(|n| *n != 4).map(|n| u32::from(b[n])).sum();
    assert_eq!(u32::from(b[4]), sum % 256, "tag checksum at block {location}");
    let covered = &b[16..16 + usize::from(le16(b, 10))];
    assert_eq!(le16(b, 8), slow_crc(covered), "CRC at block {location}");
    assert_eq!(le32(b, 12), location, "tag location");
}

/// ECMA-167 7.2.6, bit by bit.
fn slow_crc(bytes: &[u8]) -> u16 {
    let mut crc = 0_u16;
    for byte in bytes {
        for bit in (0..8).rev() {
            let top = crc >> 15 & 1 ^ u16::from(byte >> bit & 1);
            crc <<= 1;
            if top == 1 {
                crc ^= 0x1021;
            }
        }
    }
    crc
}

fn text(bytes: &[u8]) -> String {
    match bytes[0] {
        8 => bytes[1..].iter().map(|b| char::from(*b)).collect(),
        16 => String::from_utf16(
            &bytes[1..].chunks(2).map(|p| u16::from_be_bytes([p[0], p[1]])).collect::<Vec<_>>(),
        )
        .unwrap(),
        other => panic!("compression id {other}"),
    }
}

fn dstring(field: &[u8]) -> String {
    let len = usize::from(*field.last().unwrap());
    if len == 0 { String::new() } else { text(&field[..len]) }
}

fn time(b: &[u8]) -> i64 {
    assert_eq!(le16(b, 0), 0x1000, "local time with offset 0");
    seconds(le16(b, 2).into(), b[4].into(), b[5].into(), b[6].into(), b[7].into(), b[8].into())
}

struct Walk<'a> {
    disc: &'a Disc,
    start: u32,
    blocks: u32,
    entries: Vec<Seen>,
    links: Vec<(String, Vec<u8>)>,
    ids: HashSet<u64>,
    files: u32,
    folders: u32,
}

impl Walk<'_> {
    fn block(&self, block: u32, tag: u16) -> Vec<u8> {
        assert!(block < self.blocks, "block {block} of {}", self.blocks);
        tagged(self.disc, u64::from(self.start + block), tag, block)
    }

    /// Extents of a file entry, and its content when it stands in the entry itself.
    fn extents(&self, entry: &[u8]) -> (Vec<(u64, u64)>, Option<Vec<u8>>) {
        let (attributes, len) = (le32(entry, 168) as usize, le32(entry, 172) as usize);
        let area = &entry[176 + attributes..176 + attributes + len];
        let information = le64(entry, 56);
        match le16(entry, 34) & 7 {
            0 => {
                let ads: Vec<(u64, u64)> =
                    area.chunks(8).map(|ad| (u64::from(le32(ad, 4)), u64::from(le32(ad, 0)))).collect();
                assert_eq!(ads.iter().map(|(_, len)| len).sum::<u64>(), information);
                assert_eq!(le64(entry, 64), information.div_ceil(2048), "blocks recorded");
                for (index, (block, len)) in ads.iter().enumerate() {
                    assert!(*len > 0 && *len < 1 << 30, "type 0 and below 1 GiB");
                    assert!(index + 1 == ads.len() || len % 2048 == 0);
                    assert!(block + len.div_ceil(2048) <= self.blocks.into());
                }
                (
                    ads.into_iter()
                        .map(|(block, len)| ((u64::from(self.start) + block) * 2048, len))
                        .collect(),
                    None,
                )
            }
            3 => (Vec::new(), Some(area.to_vec())),
            other => panic!("allocation kind {other}"),
        }
    }

    fn folder(&mut self, own: u32, parent: u32, path: String, _depth: usize) {
        let mut pending = vec![(own, parent, path)];
        while let Some((own, parent, path)) = pending.pop() {
            let entry = self.block(own, 261);
            assert_eq!((entry[27], le16(&entry, 20)), (4, 4), "a directory with strategy 4");
            self.folders += 1;
            assert!(self.ids.insert(le64(&entry, 160)), "unique id");
            assert_eq!(le64(&entry, 160) == 0, path.is_empty(), "only the root has id 0");
            let (extents, _) = self.extents(&entry);
            let bytes: Vec<u8> =
                extents.iter().flat_map(|(at, len)| self.disc.bytes(*at, *len as usize)).collect();
            let base = ((extents[0].0 / 2048) as u32) - self.start;
            let (mut at, mut subfolders, mut first) = (0, 0, true);
            while at < bytes.len() {
                let fid = &bytes[at..];
                let name_len = usize::from(fid[19]);
                check_tag(fid, 257, base + (at / 2048) as u32);
                assert_eq!((le16(fid, 16), le16(fid, 36)), (1, 0));
                let target = le32(fid, 24);
                assert_eq!(first, fid[18] & 8 != 0, "the parent comes first, and once");
                if first {
                    assert_eq!((target, name_len, fid[18]), (parent, 0, 0x0A));
                    first = false;
                } else {
                    let name = text(&fid[38..38 + name_len]);
                    let full = if path.is_empty() { name } else { format!("{path}/{name}") };
                    let child = self.block(target, 261);
                    let is_folder = child[27] == 4;
                    assert_eq!(is_folder, fid[18] & 2 != 0);
                    let modified = time(&child[84..96]);
                    if is_folder {
                        subfolders += 1;
                        pending.push((target, own, full.clone()));
                        self.entries.push(Seen {
                            path: full,
                            extents: Vec::new(),
                            is_folder: true,
                            modified,
                        });
                    } else {
                        self.files += 1;
                        assert!(self.ids.insert(le64(&child, 160)), "unique id");
                        assert_eq!(le16(&child, 48), 1, "one name");
                        match self.extents(&child) {
                            (_, Some(components)) => self.links.push((full, components)),
                            (extents, None) => {
                                self.entries.push(Seen { path: full, extents, is_folder: false, modified })
                            }
                        }
                    }
                }
                at += (38 + name_len).next_multiple_of(4);
            }
            assert_eq!(le16(&entry, 48), 1 + subfolders, "names of a directory");
        }
    }
}

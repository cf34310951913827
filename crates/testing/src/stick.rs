//! A second reading of sticks: partition tables by the UEFI specification (5.2, 5.3) and FAT32 by Microsoft's
//! specification 1.03, sharing no code with the crate. It checks every rule that a writer must keep.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs::File,
    os::unix::fs::FileExt,
    path::Path,
};

/// What was found.
pub struct Stick {
    pub gpt: bool,
    /// Of the file system.
    pub start: u64,
    pub len: u64,
    pub label: String,
    pub cluster_len: u64,
    /// Bytes of each file by its path; folders end with `/` and have none.
    pub files: BTreeMap<String, Entry>,
    /// Runs of clusters of each file, by path.
    pub free_clusters: u64,
}

pub struct Entry {
    pub len: u64,
    pub clusters: Vec<u32>,
    pub date: u16,
    pub time: u16,
    pub short: [u8; 11],
}

struct Reader(File);

impl Reader {
    fn bytes(&self, at: u64, len: usize) -> Vec<u8> {
        let mut bytes = vec![0; len];
        let mut done = 0;
        while done < len {
            match self.0.read_at(&mut bytes[done..], at + done as u64).unwrap() {
                // Behind the end of a simulated device's file is what was never written.
                0 => break,
                read => done += read,
            }
        }
        bytes
    }
}

fn le16(b: &[u8], at: usize) -> u16 {
    u16::from_le_bytes(b[at..at + 2].try_into().unwrap())
}
fn le32(b: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(b[at..at + 4].try_into().unwrap())
}
fn le64(b: &[u8], at: usize) -> u64 {
    u64::from_le_bytes(b[at..at + 8].try_into().unwrap())
}

/// CRC-32 of the UEFI specification, bit by bit.
fn crc32(bytes: &[u8]) -> u32 {
    !bytes.iter().fold(!0_u32, |sum, byte| {
        (0..8).fold(
            sum ^ u32::from(*byte),
            |sum, _| {
                if sum & 1 == 1 { sum >> 1 ^ 0xEDB8_8320 } else { sum >> 1 }
            },
        )
    })
}

/// The partition, from the tables of a disk of `disk_len` bytes: whether there is a GPT, first byte, bytes.
fn partition(reader: &Reader, disk_len: u64) -> (bool, u64, u64) {
    let mbr = reader.bytes(0, 512);
    assert_eq!(&mbr[510..], &[0x55, 0xAA], "signature of the first block");
    assert!(mbr[..440].iter().any(|byte| *byte != 0), "boot code");
    let records: Vec<&[u8]> = mbr[446..510].chunks(16).collect();
    assert!(records[1..].iter().all(|record| record.iter().all(|byte| *byte == 0)), "one record");
    let (first, count) = (u64::from(le32(records[0], 8)), u64::from(le32(records[0], 12)));
    if records[0][4] == 0x0C {
        assert_eq!(records[0][0], 0x80, "active");
        assert!((first + count) * 512 <= disk_len, "the partition ends on the disk");
        return (false, first * 512, count * 512);
    }
    assert_eq!((records[0][4], records[0][0], first), (0xEE, 0, 1), "protective");
    let last = disk_len / 512 - 1;
    assert_eq!(count, last.min(0xFFFF_FFFF), "blocks of the protective record");
    let header = |block: u64, other: u64, entries_at: u64| {
        let bytes = reader.bytes(block * 512, 512);
        assert_eq!(&bytes[..8], b"EFI PART", "header at block {block}");
        assert_eq!((le32(&bytes, 8), le32(&bytes, 12)), (0x0001_0000, 92));
        let mut open = bytes[..92].to_vec();
        open[16..20].fill(0);
        assert_eq!(crc32(&open), le32(&bytes, 16), "checksum of the header at block {block}");
        assert_eq!((le64(&bytes, 24), le64(&bytes, 32), le64(&bytes, 72)), (block, other, entries_at));
        assert_eq!((le64(&bytes, 40), le64(&bytes, 48)), (34, last - 33), "usable blocks");
        assert_eq!((le32(&bytes, 80), le32(&bytes, 84)), (128, 128));
        let entries = reader.bytes(entries_at * 512, 128 * 128);
        assert_eq!(crc32(&entries), le32(&bytes, 88), "checksum of the entries");
        assert!(bytes[56..72].iter().any(|byte| *byte != 0), "a disk has an identifier");
        (entries, bytes[56..72].to_vec())
    };
    let (entries, guid) = header(1, last, 2);
    assert!(header(last, 1, last - 32) == (entries.clone(), guid), "the backup says the same");
    let used: Vec<&[u8]> = entries.chunks(128).filter(|entry| entry[..16] != [0; 16]).collect();
    assert_eq!(used.len(), 1);
    let basic_data =
        [0xA2, 0xA0, 0xD0, 0xEB, 0xE5, 0xB9, 0x33, 0x44, 0x87, 0xC0, 0x68, 0xB6, 0xB7, 0x26, 0x99, 0xC7];
    assert_eq!(used[0][..16], basic_data);
    assert_eq!(le64(used[0], 48), 4, "BIOS is to start it");
    let (first, end) = (le64(used[0], 32), le64(used[0], 40));
    assert!(first >= 34 && end <= last - 33 && first < end);
    (true, first * 512, (end - first + 1) * 512)
}

/// Walks a stick of `disk_len` bytes in the file at `path`.
pub fn walk(path: &Path, disk_len: u64) -> Stick {
    let reader = Reader(File::open(path).unwrap());
    let (gpt, start, len) = partition(&reader, disk_len);
    assert_eq!(start % (1 << 20), 0, "aligned to 1 MiB");
    let boot = reader.bytes(start, 512);
    assert_eq!(&boot[510..], &[0x55, 0xAA]);
    assert!(boot[0] == 0xEB && boot[2] == 0x90, "a jump over the parameters");
    assert_eq!((le16(&boot, 11), boot[16], boot[21]), (512, 2, 0xF8));
    assert_eq!((le16(&boot, 17), le16(&boot, 19), le16(&boot, 22)), (0, 0, 0), "fields of the smaller kinds");
    assert_eq!(u64::from(le32(&boot, 28)) * 512, start, "hidden sectors");
    let total = u64::from(le32(&boot, 32));
    assert!(total * 512 <= len && (total + 2048) * 512 > len, "it fills the partition");
    let cluster_len = u64::from(boot[13]) * 512;
    assert!(boot[13].is_power_of_two() && cluster_len <= 32_768);
    let (reserved, fat_sectors) = (u64::from(le16(&boot, 14)), u64::from(le32(&boot, 36)));
    assert_eq!((le16(&boot, 40), le16(&boot, 42), le16(&boot, 48), le16(&boot, 50)), (0, 0, 1, 6));
    assert_eq!((boot[66], &boot[82..90]), (0x29, &b"FAT32   "[..]));
    let data = reserved + 2 * fat_sectors;
    let clusters = (total - data) * 512 / cluster_len;
    assert!((65_525..0x0FFF_FFF5).contains(&clusters), "{clusters} clusters are FAT32");
    assert!((clusters + 2) * 4 <= fat_sectors * 512);
    // The table of the specification: clusters by the size of the volume.
    assert!(total > 66_600, "too small for FAT32");
    let sizes = [(532_480, 512), (16_777_216, 4096), (33_554_432, 8192), (67_108_864, 16_384)];
    let wanted = sizes.iter().find(|(most, _)| total <= *most).map_or(32_768, |(_, size)| *size);
    assert_eq!(cluster_len, wanted, "cluster size of {total} sectors");
    assert!(reader.bytes(start + 6 * 512, 512) == boot, "the copy of the boot sector");
    let fats: Vec<Vec<u8>> = (0..2)
        .map(|copy| reader.bytes(start + (reserved + copy * fat_sectors) * 512, (fat_sectors * 512) as usize))
        .collect();
    assert!(fats[0] == fats[1], "both tables");
    let fat = |cluster: u32| le32(&fats[0], cluster as usize * 4) & 0x0FFF_FFFF;
    assert_eq!((fat(0), fat(1)), (0x0FFF_FFF8, 0x0FFF_FFFF));
    let mut seen: BTreeSet<u32> = BTreeSet::new();
    let mut chain = |first: u32, what: &str| -> Vec<u32> {
        let mut list = Vec::new();
        let mut cluster = first;
        while cluster < 0x0FFF_FFF8 {
            assert!(cluster >= 2 && u64::from(cluster) < clusters + 2, "{what}: cluster {cluster}");
            assert!(seen.insert(cluster), "{what}: cluster {cluster} belongs to two");
            list.push(cluster);
            cluster = fat(cluster);
        }
        list
    };
    let place = |cluster: u32| start + data * 512 + u64::from(cluster - 2) * cluster_len;
    let root = le32(&boot, 44);
    let mut label = String::new();
    let mut files = BTreeMap::new();
    let mut folders = vec![(String::new(), root, 0_u32, chain(root, "root"))];
    while let Some((folder, own, parent, list)) = folders.pop() {
        let bytes: Vec<u8> =
            list.iter().flat_map(|cluster| reader.bytes(place(*cluster), cluster_len as usize)).collect();
        let mut long: Vec<(u8, u8, Vec<u16>)> = Vec::new();
        let mut names: BTreeSet<String> = BTreeSet::new();
        let mut shorts: BTreeSet<Vec<u8>> = BTreeSet::new();
        let mut ended = false;
        for (index, raw) in bytes.chunks(32).enumerate() {
            if ended || raw[0] == 0 {
                assert!(raw.iter().all(|byte| *byte == 0), "{folder}: nothing behind the end");
                ended = true;
                continue;
            }
            if raw[11] == 0x0F {
                assert_eq!((raw[12], le16(raw, 26)), (0, 0));
                let places = [1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30];
                long.push((raw[0], raw[13], places.iter().map(|at| le16(raw, *at)).collect()));
                continue;
            }
            let short: [u8; 11] = raw[..11].try_into().unwrap();
            let first = u32::from(le16(raw, 20)) << 16 | u32::from(le16(raw, 26));
            if raw[11] & 0x08 != 0 {
                assert!(folder.is_empty() && long.is_empty(), "the label stands in the root");
                let text = String::from_utf8(short.to_vec()).unwrap();
                text.trim_end().clone_into(&mut label);
                continue;
            }
            if !folder.is_empty() && index < 2 {
                assert_eq!(
                    (&short, first),
                    if index == 0 { (b".          ", own) } else { (b"..         ", parent) }
                );
                assert_eq!(raw[11], 0x10);
                continue;
            }
            assert!(shorts.insert(short.to_vec()), "{folder}: short name {short:?} is there twice");
            let allowed = |byte: u8| {
                byte.is_ascii_uppercase()
                    || byte.is_ascii_digit()
                    || byte == b' '
                    || b"!#$%&'()-@^_`{}~".contains(&byte)
            };
            assert!(short[0] != b' ' && short.iter().all(|byte| allowed(*byte)), "{short:?}");
            let name = if long.is_empty() {
                let part = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).unwrap().trim_end().to_owned();
                let (base, extension) = (part(&short[..8]), part(&short[8..]));
                if extension.is_empty() { base } else { format!("{base}.{extension}") }
            } else {
                let sum = short.iter().fold(0_u8, |sum, byte| sum.rotate_right(1).wrapping_add(*byte));
                let count = long.len() as u8;
                let mut units = Vec::new();
                for (position, (order, own_sum, piece)) in long.iter().enumerate() {
                    let wanted = count - position as u8;
                    assert_eq!(*order, if position == 0 { wanted | 0x40 } else { wanted });
                    assert_eq!(*own_sum, sum, "checksum of a long name");
                    units.splice(0..0, piece.iter().copied());
                }
                if let Some(end) = units.iter().position(|unit| *unit == 0) {
                    assert!(units[end + 1..].iter().all(|unit| *unit == 0xFFFF));
                    units.truncate(end);
                }
                String::from_utf16(&units).unwrap()
            };
            long.clear();
            assert!(names.insert(name.to_lowercase()), "{folder}: {name} is there twice");
            let path = format!("{folder}{name}");
            let mut entry = Entry {
                len: le32(raw, 28).into(),
                clusters: Vec::new(),
                date: le16(raw, 24),
                time: le16(raw, 22),
                short,
            };
            if raw[11] & 0x10 != 0 {
                assert_eq!(entry.len, 0);
                let list = chain(first, &path);
                folders.push((format!("{path}/"), first, if folder.is_empty() { 0 } else { own }, list));
                files.insert(format!("{path}/"), entry);
                continue;
            }
            if entry.len == 0 {
                assert_eq!(first, 0, "{path}: an empty file has no cluster");
            } else {
                entry.clusters = chain(first, &path);
                assert_eq!(entry.clusters.len() as u64, entry.len.div_ceil(cluster_len), "{path}");
            }
            files.insert(path, entry);
        }
    }
    // Nothing is marked as used that belongs to nobody, and FSInfo has counted right.
    let used = (2..clusters as u32 + 2).filter(|cluster| fat(*cluster) != 0).count() as u64;
    assert_eq!(used, seen.len() as u64, "clusters in use");
    assert!(fats[0][(clusters as usize + 2) * 4..].iter().all(|byte| *byte == 0));
    for sector in [1, 7] {
        let info = reader.bytes(start + sector * 512, 512);
        assert_eq!(
            (&info[..4], &info[484..488], &info[508..]),
            (&b"RRaA"[..], &b"rrAa"[..], &[0, 0, 0x55, 0xAA][..])
        );
        assert_eq!(u64::from(le32(&info, 488)), clusters - used, "free clusters");
        assert_eq!(fat(le32(&info, 492)), 0, "the next free cluster is free");
    }
    Stick { gpt, start, len, label, cluster_len, files, free_clusters: clusters - used }
}

impl Stick {
    /// The bytes of a file.
    pub fn bytes(&self, path: &Path, name: &str) -> Vec<u8> {
        let reader = Reader(File::open(path).unwrap());
        let boot = reader.bytes(self.start, 512);
        let data = u64::from(le16(&boot, 14)) + 2 * u64::from(le32(&boot, 36));
        let entry = &self.files[name];
        let place = |cluster: &u32| self.start + data * 512 + u64::from(cluster - 2) * self.cluster_len;
        let mut bytes: Vec<u8> = entry
            .clusters
            .iter()
            .flat_map(|cluster| reader.bytes(place(cluster), self.cluster_len as usize))
            .collect();
        bytes.truncate(entry.len as usize);
        bytes
    }
}

//! A second reading of image files, by the numbers of the layout's description, that checks what it reads.

use super::{lzms, lzx, xpress};
use sha1::{Digest, Sha1};
use std::collections::{BTreeMap, HashMap};

pub fn u16_at(bytes: &[u8], at: usize) -> usize {
    usize::from(u16::from_le_bytes(bytes[at..at + 2].try_into().unwrap()))
}

pub fn u32_at(bytes: &[u8], at: usize) -> usize {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize
}

pub fn u64_at(bytes: &[u8], at: usize) -> usize {
    u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap()) as usize
}

/// The digest that tables list bytes by.
pub fn digest(bytes: &[u8]) -> [u8; 20] {
    Sha1::digest(bytes).into()
}

pub fn sha1(bytes: &[u8]) -> String {
    digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// What is known of a file in an edition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    pub attributes: usize,
    pub written: usize,
    pub link: usize,
    pub content: Vec<u8>,
    pub streams: Vec<(String, Vec<u8>)>,
}

/// A place in the file: offset, bytes there, bytes before compression, flags.
#[derive(Clone, Copy, Debug)]
pub struct Place {
    pub offset: usize,
    pub len: usize,
    pub raw_len: usize,
    pub flags: u8,
}

pub fn place(bytes: &[u8], at: usize) -> Place {
    let size = u64_at(bytes, at);
    Place {
        offset: u64_at(bytes, at + 8),
        len: size & ((1 << 56) - 1),
        raw_len: u64_at(bytes, at + 16),
        flags: (size >> 56) as u8,
    }
}

pub struct Walked {
    pub guid: Vec<u8>,
    pub part: (usize, usize),
    pub boot: usize,
    pub xml: String,
    /// Place and reference count of each blob.
    pub blobs: BTreeMap<String, (Place, usize)>,
    pub editions: Vec<BTreeMap<String, Found>>,
    /// Number of solid resources.
    pub solids: usize,
}

fn resource(file: &[u8], place: Place) -> Vec<u8> {
    let bytes = &file[place.offset..place.offset + place.len];
    if place.flags & 4 == 0 {
        assert_eq!(place.len, place.raw_len);
        return bytes.to_vec();
    }
    let (flags, chunk) = (u32_at(file, 16), u32_at(file, 20));
    let count = place.raw_len.div_ceil(chunk);
    assert!(place.raw_len < 1 << 32 && place.len < place.raw_len, "it shrank, else it would be stored");
    let table = 4 * (count - 1);
    let start = |n: usize| if n == 0 { table } else { table + u32_at(bytes, 4 * (n - 1)) };
    let mut raw = Vec::new();
    for n in 0..count {
        let end = if n + 1 < count { start(n + 1) } else { bytes.len() };
        let packed = &bytes[start(n)..end];
        let want = chunk.min(place.raw_len - n * chunk);
        match () {
            () if packed.len() == want => raw.extend_from_slice(packed),
            () if flags & 0x20000 != 0 => raw.extend(xpress::decode(packed, want).unwrap()),
            () if flags & 0x40000 != 0 => raw.extend(lzx::decode(packed, want, chunk).unwrap()),
            () if flags & 0x80000 != 0 => raw.extend(lzms::decode(packed, want).unwrap().0),
            () => panic!("flags {flags:#x}"),
        }
    }
    raw
}

/// Reads a whole file, one part or all there is; checks digests, reference counts, counts of the XML data and the
/// integrity table.
pub fn walk(file: &[u8]) -> Walked {
    assert_eq!(&file[..8], b"MSWIM\0\0\0");
    assert_eq!(u32_at(file, 8), 208);
    let (table, xml) = (place(file, 48), place(file, 72));
    let part = (u16_at(file, 40), u16_at(file, 42));
    let mut blobs = BTreeMap::new();
    let mut contents = HashMap::new();
    let mut trees = Vec::new();
    let mut ends = vec![(0, 208)];
    // The run of solid resources that blobs after it lie in.
    let mut solid: Vec<u8> = Vec::new();
    let (mut solids, mut run_is_open) = (0, false);
    for entry in file[table.offset..table.offset + table.len].chunks_exact(50) {
        let (place, digest) =
            (place(entry, 0), entry[30..].iter().map(|byte| format!("{byte:02x}")).collect::<String>());
        assert_eq!(u16_at(entry, 24), part.0);
        if place.flags & 0x10 != 0 && place.raw_len == 1 << 32 {
            if !run_is_open {
                solid.clear();
            }
            run_is_open = true;
            solids += 1;
            solid.extend(solid_resource(&file[place.offset..place.offset + place.len]));
            ends.push((place.offset, place.offset + place.len));
            continue;
        }
        if place.flags & 0x10 != 0 {
            run_is_open = false;
            assert_eq!(place.len, place.raw_len);
            let raw = solid[place.offset..place.offset + place.len].to_vec();
            assert_eq!(sha1(&raw), digest);
            assert!(blobs.insert(digest.clone(), (place, u32_at(entry, 26))).is_none(), "a blob twice");
            contents.insert(digest, raw);
            continue;
        }
        ends.push((place.offset, place.offset + place.len));
        let raw = resource(file, place);
        assert_eq!(sha1(&raw), digest);
        if place.flags & 2 != 0 {
            assert_eq!(u32_at(entry, 26), 1);
            trees.push((raw, place));
        } else {
            assert!(blobs.insert(digest.clone(), (place, u32_at(entry, 26))).is_none(), "a blob twice");
            contents.insert(digest, raw);
        }
    }
    assert_eq!(u32_at(file, 12), if solids > 0 { 3584 } else { 0x10D00 });
    // Resources lie one after another without overlapping.
    ends.sort_unstable();
    assert!(ends.windows(2).all(|pair| pair[0].1 <= pair[1].0), "{ends:?}");
    assert_eq!(xml.offset, table.offset + table.len);
    let units: Vec<u16> = file[xml.offset..xml.offset + xml.len]
        .chunks_exact(2)
        .map(|c| u16::from_le_bytes([c[0], c[1]]))
        .collect();
    let xml_text = String::from_utf16(&units).unwrap().trim_start_matches('\u{feff}').to_owned();
    assert!(xml_text.contains(&format!("<TOTALBYTES>{}</TOTALBYTES>", xml.offset)), "{xml_text}");
    check_integrity(file, table);
    let boot = u32_at(file, 120);
    let boot_place = place(file, 96);
    assert_eq!(boot_place.len, if boot == 0 || part.0 > 1 { 0 } else { trees[boot - 1].1.len });
    if part.0 == 1 {
        assert_eq!(trees.len(), u32_at(file, 44));
    } else {
        assert!(trees.is_empty());
    }
    let mut counted: HashMap<String, usize> = HashMap::new();
    let editions: Vec<_> = trees.iter().map(|(tree, _)| read_tree(tree, &contents, &mut counted)).collect();
    if part == (1, 1) {
        for (digest, (_, count)) in &blobs {
            assert_eq!(counted.get(digest).copied().unwrap_or(0), *count, "references of {digest}");
        }
    }
    Walked { guid: file[24..40].to_vec(), part, boot, xml: xml_text, blobs, editions, solids }
}

/// Unpacks a solid resource of LZMS chunks: its length, the length of a chunk, the method, the packed lengths of all
/// chunks, the chunks.
fn solid_resource(bytes: &[u8]) -> Vec<u8> {
    let (raw_len, chunk) = (u64_at(bytes, 0), u32_at(bytes, 8));
    assert_eq!(u32_at(bytes, 12), 3, "the method is LZMS");
    let count = raw_len.div_ceil(chunk);
    let mut at = 16 + 4 * count;
    let mut raw = Vec::new();
    for n in 0..count {
        let len = u32_at(bytes, 16 + 4 * n);
        let want = chunk.min(raw_len - n * chunk);
        let packed = &bytes[at..at + len];
        assert!(len > 0 && len <= want, "chunk {n}");
        if len == want {
            raw.extend_from_slice(packed);
        } else {
            raw.extend(lzms::decode(packed, want).unwrap().0);
        }
        at += len;
    }
    assert_eq!((at, raw.len()), (bytes.len(), raw_len));
    raw
}

fn check_integrity(file: &[u8], table: Place) {
    let integrity = place(file, 124);
    if integrity.len == 0 {
        return;
    }
    let bytes = &file[integrity.offset..integrity.offset + integrity.len];
    let (size, count, chunk) = (u32_at(bytes, 0), u32_at(bytes, 4), u32_at(bytes, 8));
    assert_eq!((size, size), (integrity.len, 12 + 20 * count));
    let covered = &file[208..table.offset + table.len];
    assert_eq!(covered.chunks(chunk).len(), count);
    for (n, piece) in covered.chunks(chunk).enumerate() {
        let digest: String =
            bytes[12 + 20 * n..32 + 20 * n].iter().map(|byte| format!("{byte:02x}")).collect();
        assert_eq!(sha1(piece), digest, "piece {n}");
    }
}

fn read_tree(
    tree: &[u8],
    contents: &HashMap<String, Vec<u8>>,
    counted: &mut HashMap<String, usize>,
) -> BTreeMap<String, Found> {
    let mut found = BTreeMap::new();
    let root = u32_at(tree, 0).next_multiple_of(8).max(8);
    let mut pending = vec![(String::new(), root)];
    let mut is_root = true;
    while let Some((folder, mut at)) = pending.pop() {
        while u64_at(tree, at) > 8 {
            let length = u64_at(tree, at);
            let name_len = u16_at(tree, at + 100);
            let name: Vec<u16> = (0..name_len / 2).map(|n| u16_at(tree, at + 102 + 2 * n) as u16).collect();
            let path = format!("{folder}/{}", String::from_utf16_lossy(&name));
            let mut content = |digest: &[u8]| -> Vec<u8> {
                if digest.iter().all(|byte| *byte == 0) {
                    return Vec::new();
                }
                let digest: String = digest.iter().map(|byte| format!("{byte:02x}")).collect();
                *counted.entry(digest.clone()).or_default() += 1;
                contents.get(&digest).cloned().unwrap_or_default()
            };
            let own = content(&tree[at + 64..at + 84]);
            let mut next = (at + length).next_multiple_of(8);
            let mut streams = Vec::new();
            for _ in 0..u16_at(tree, at + 96) {
                let name_len = u16_at(tree, next + 36);
                let name: Vec<u16> =
                    (0..name_len / 2).map(|n| u16_at(tree, next + 38 + 2 * n) as u16).collect();
                streams.push((String::from_utf16_lossy(&name), content(&tree[next + 16..next + 36])));
                next = (next + u64_at(tree, next)).next_multiple_of(8);
            }
            let attributes = u32_at(tree, at + 8);
            let list = u64_at(tree, at + 16);
            if attributes & 0x10 != 0 && list != 0 {
                pending.push((if is_root { String::new() } else { path.clone() }, list));
            }
            if !is_root {
                let entry = Found {
                    attributes,
                    written: u64_at(tree, at + 56),
                    link: u64_at(tree, at + 88),
                    content: own,
                    streams,
                };
                assert!(found.insert(path, entry).is_none(), "a name twice");
            }
            at = next;
            if std::mem::take(&mut is_root) {
                break;
            }
        }
    }
    found
}

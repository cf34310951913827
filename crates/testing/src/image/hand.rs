//! Image files put together by hand, of forms that the crate reads and never writes.

use super::container::digest;

/// An image file put together by hand: header, these resources, table entries (place, digest), XML data.
pub fn by_hand(
    version: u32,
    flags: u32,
    chunk: u32,
    resources: &[Vec<u8>],
    entries: &[([u64; 3], [u8; 20])],
    editions: u32,
) -> Vec<u8> {
    let mut file = vec![0; 208];
    resources.iter().for_each(|resource| file.extend_from_slice(resource));
    let table = file.len() as u64;
    for (place, digest) in entries {
        place.iter().for_each(|number| file.extend(number.to_le_bytes()));
        file.extend([1, 0, 1, 0, 0, 0]);
        file.extend(digest);
    }
    let xml = file.len() as u64;
    file.extend(wide("\u{feff}<WIM><IMAGE INDEX=\"1\"><NAME>Hand</NAME></IMAGE></WIM>"));
    let end = file.len() as u64;
    file[..8].copy_from_slice(b"MSWIM\0\0\0");
    for (at, number) in [(8, 208), (12, version), (16, flags), (20, chunk), (40, 0x1_0001), (44, editions)] {
        file[at..at + 4].copy_from_slice(&number.to_le_bytes());
    }
    for (at, start, stop) in [(48, table, xml), (72, xml, end)] {
        for (n, number) in [(stop - start) | 2 << 56, start, stop - start].iter().enumerate() {
            file[at + 8 * n..at + 8 * n + 8].copy_from_slice(&number.to_le_bytes());
        }
    }
    file
}

fn wide(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

/// An entry of a tree: length, attributes, no security, its list at `list`, no times, one digest, no streams, a name.
fn entry(name: &str, attributes: u32, list: u64, digest: [u8; 20]) -> Vec<u8> {
    let name = wide(name);
    let end = if name.is_empty() { 102 } else { 102 + name.len() + 2 };
    let mut bytes = vec![0; end.next_multiple_of(8)];
    let len = bytes.len() as u64;
    bytes[..8].copy_from_slice(&len.to_le_bytes());
    bytes[8..12].copy_from_slice(&attributes.to_le_bytes());
    bytes[12..16].copy_from_slice(&u32::MAX.to_le_bytes());
    bytes[16..24].copy_from_slice(&list.to_le_bytes());
    bytes[64..84].copy_from_slice(&digest);
    bytes[100..102].copy_from_slice(&(name.len() as u16).to_le_bytes());
    bytes[102..102 + name.len()].copy_from_slice(&name);
    bytes
}

/// The tree of an edition: no security descriptors, a root, and in it files of these names and digests.
pub fn metadata_of(names: &[(&str, [u8; 20])]) -> Vec<u8> {
    let mut bytes = vec![8, 0, 0, 0, 0, 0, 0, 0];
    let root = entry("", 0x10, 0, [0; 20]);
    let list = (bytes.len() + root.len() + 8) as u64;
    bytes.extend(entry("", 0x10, list, [0; 20]));
    bytes.extend([0; 8]);
    for (name, digest) in names {
        bytes.extend(entry(name, 0x20, 0, *digest));
    }
    bytes.extend([0; 8]);
    bytes
}

/// A solid image file with one edition of these files, whose bytes lie one after another in one chunk.
pub fn solid_file(method: u32, chunk: u32, packed: &[u8], list: &[(&str, &[u8])]) -> Vec<u8> {
    let whole: u64 = list.iter().map(|(_, bytes)| bytes.len() as u64).sum();
    let mut solid: Vec<u8> = whole.to_le_bytes().to_vec();
    solid.extend(chunk.to_le_bytes());
    solid.extend(method.to_le_bytes());
    solid.extend((packed.len() as u32).to_le_bytes());
    solid.extend(packed);
    let names: Vec<(&str, [u8; 20])> = list.iter().map(|(name, bytes)| (*name, digest(bytes))).collect();
    let tree = metadata_of(&names);
    let (solid_len, tree_len) = (solid.len() as u64, tree.len() as u64);
    let mut entries = vec![
        ([tree_len | 2 << 56, 208 + solid_len, tree_len], digest(&tree)),
        ([solid_len | 0x10 << 56, 208, 1 << 32], [0; 20]),
    ];
    let mut start = 0;
    for (_, bytes) in list {
        let len = bytes.len() as u64;
        entries.push(([len | 0x10 << 56, start, len], digest(bytes)));
        start += len;
    }
    by_hand(0xE00, 0x80002, 32768, &[solid, tree], &entries, 1)
}

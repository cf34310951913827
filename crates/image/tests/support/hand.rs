//! Image files put together by hand, of forms that the crate reads and never writes.

use neat_image::{BlobDigest, Entry, Files, Times, metadata};

/// An image file put together by hand: header, these resources, table entries (place, digest), XML data.
pub fn by_hand(
    version: u32,
    flags: u32,
    chunk: u32,
    resources: &[Vec<u8>],
    entries: &[([u64; 3], BlobDigest)],
    editions: u32,
) -> Vec<u8> {
    let mut file = vec![0; 208];
    resources.iter().for_each(|resource| file.extend_from_slice(resource));
    let table = file.len() as u64;
    for (place, digest) in entries {
        place.iter().for_each(|number| file.extend(number.to_le_bytes()));
        file.extend([1, 0, 1, 0, 0, 0]);
        file.extend(digest.0);
    }
    let xml = file.len() as u64;
    file.extend(neat_image::xml::encode("<WIM><IMAGE INDEX=\"1\"><NAME>Hand</NAME></IMAGE></WIM>"));
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

pub fn metadata_of(names: &[(&str, BlobDigest)]) -> Vec<u8> {
    let mut files = Files::new(Times::default());
    for (name, digest) in names {
        files.add(Files::ROOT, Entry::file(*name, 0x20, Times::default(), *digest)).unwrap();
    }
    metadata::write(&files).unwrap()
}

/// A solid image file with one edition of these files, whose bytes lie one after another in one chunk.
pub fn solid_file(method: u32, chunk: u32, packed: &[u8], list: &[(&str, &[u8])]) -> Vec<u8> {
    let whole: u64 = list.iter().map(|(_, bytes)| bytes.len() as u64).sum();
    let mut solid: Vec<u8> = whole.to_le_bytes().to_vec();
    solid.extend(chunk.to_le_bytes());
    solid.extend(method.to_le_bytes());
    solid.extend((packed.len() as u32).to_le_bytes());
    solid.extend(packed);
    let names: Vec<(&str, BlobDigest)> =
        list.iter().map(|(name, bytes)| (*name, BlobDigest::of(bytes))).collect();
    let tree = metadata_of(&names);
    let (solid_len, tree_len) = (solid.len() as u64, tree.len() as u64);
    let mut entries = vec![
        ([tree_len | 2 << 56, 208 + solid_len, tree_len], BlobDigest::of(&tree)),
        ([solid_len | 0x10 << 56, 208, 1 << 32], BlobDigest::NONE),
    ];
    let mut start = 0;
    for (_, bytes) in list {
        let len = bytes.len() as u64;
        entries.push(([len | 0x10 << 56, start, len], BlobDigest::of(bytes)));
        start += len;
    }
    by_hand(0xE00, 0x80002, 32768, &[solid, tree], &entries, 1)
}

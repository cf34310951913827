//! Archives as others make them.

use std::io::{Cursor, Write};

/// A cabinet with one folder.
pub fn cabinet(files: &[(&str, Vec<u8>)], method: cab::CompressionType) -> Vec<u8> {
    let mut builder = cab::CabinetBuilder::new();
    let folder = builder.add_folder(method);
    for (name, _) in files {
        folder.add_file(*name);
    }
    let mut writer = builder.build(Cursor::new(Vec::new())).unwrap();
    let mut next = files.iter();
    while let Some(mut file) = writer.next_file().unwrap() {
        file.write_all(&next.next().unwrap().1).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

/// A cabinet written field by field from [MS-CAB]: stored folders of these bytes, and files by name, folder, first byte and
/// length, wherever they lie.
pub fn raw_cabinet(folders: &[&[u8]], files: &[(&str, u16, u32, u32)]) -> Vec<u8> {
    const BLOCK: usize = 1000;
    let mut table = Vec::new();
    for (name, folder, offset, len) in files {
        table.extend(len.to_le_bytes());
        table.extend(offset.to_le_bytes());
        table.extend(folder.to_le_bytes());
        // 2026-02-03 04:05:06, archive.
        table.extend(((46_u16 << 9) | (2 << 5) | 3).to_le_bytes());
        table.extend(((4_u16 << 11) | (5 << 5) | 3).to_le_bytes());
        table.extend(0x20_u16.to_le_bytes());
        table.extend(name.as_bytes());
        table.push(0);
    }
    let files_at = 36 + 8 * folders.len();
    let mut data_at = files_at + table.len();
    let (mut heads, mut data) = (Vec::new(), Vec::new());
    for bytes in folders {
        heads.extend((data_at as u32).to_le_bytes());
        heads.extend((bytes.chunks(BLOCK).count() as u16).to_le_bytes());
        heads.extend(0_u16.to_le_bytes());
        for block in bytes.chunks(BLOCK) {
            data.extend(0_u32.to_le_bytes());
            data.extend((block.len() as u16).to_le_bytes());
            data.extend((block.len() as u16).to_le_bytes());
            data.extend(block);
            data_at += 8 + block.len();
        }
    }
    let mut whole = b"MSCF\0\0\0\0".to_vec();
    whole.extend((data_at as u32).to_le_bytes());
    whole.extend(0_u32.to_le_bytes());
    whole.extend((files_at as u32).to_le_bytes());
    whole.extend(0_u32.to_le_bytes());
    whole.extend([3, 1]);
    whole.extend((folders.len() as u16).to_le_bytes());
    whole.extend((files.len() as u16).to_le_bytes());
    whole.extend([0; 6]);
    [whole, heads, table, data].concat()
}

/// A zip file.
pub fn zip_file(files: &[(&str, Vec<u8>)]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in files {
        writer.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
        writer.write_all(bytes).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

/// A program that is nothing but a first letter and noise before and after what it carries.
pub fn program(inner: &[u8]) -> Vec<u8> {
    let mut bytes = b"MZ\x90\0".to_vec();
    bytes.extend((0..70_000_u32).map(|n| (n.wrapping_mul(0x9E37_79B9) >> 24) as u8));
    bytes.extend_from_slice(b"MSCF but no cabinet");
    bytes.extend_from_slice(inner);
    bytes
}

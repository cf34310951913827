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

//! Volumes that ship with the tests, and what must be read from them.
//!
//! They hold made-up data. Each was made by a general-purpose library and by hand; its listing was confirmed by other
//! readers.

use std::{fs, io::Read, path::Path};

/// Unpacks a sample.
pub fn unpacked(name: &str) -> Vec<u8> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/samples").join(name);
    let packed = fs::File::open(path).unwrap();
    let mut bytes = Vec::new();
    ruzstd::decoding::StreamingDecoder::new(packed).unwrap().read_to_end(&mut bytes).unwrap();
    bytes
}

/// The bytes of a volume.
pub fn image(name: &str) -> Vec<u8> {
    unpacked(&format!("{name}.img.zst"))
}

//! Disks that ship with the tests: 6 MiB, of which every third 32 KiB are zeros.

use neat_content::{Content, ReadAt};
use std::{fs, io::Read, path::Path};

/// What lies on the disk.
pub fn known() -> Vec<u8> {
    let sector = |n: u32| {
        let number = if (n / 64).is_multiple_of(3) { 0 } else { (n / 16).wrapping_mul(2_654_435_761) };
        number.to_le_bytes().repeat(128)
    };
    (0..12_288).flat_map(sector).collect()
}

pub fn sample(name: &str) -> Vec<u8> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/samples").join(format!("{name}.zst"));
    let mut bytes = Vec::new();
    let packed = fs::File::open(path).unwrap();
    ruzstd::decoding::StreamingDecoder::new(packed).unwrap().read_to_end(&mut bytes).unwrap();
    bytes
}

pub fn bytes_of(content: &Content) -> Vec<u8> {
    content.to_vec(1 << 30, "disk").unwrap()
}

pub fn read(content: &Content, from: usize, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    content.read_exact_at(from as u64, &mut bytes).unwrap();
    bytes
}

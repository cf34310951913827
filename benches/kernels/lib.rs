//! What the kernels are measured on: a mix of text and executables of this machine, in chunks of 32 KiB.

use std::{fs, path::Path};

/// Bytes of a chunk.
pub const CHUNK: usize = 32768;
/// Bytes of each kind.
const HALF: usize = 3 << 20;

/// Chunks of the programs that build this and of the text in this repository and its dependencies.
pub fn chunks() -> Vec<Vec<u8>> {
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    let mut program = Vec::new();
    for place in ["/usr/bin", "/usr/lib/x86_64-linux-gnu"] {
        gather(Path::new(place), &|bytes| bytes.starts_with(b"\x7fELF"), &mut program);
    }
    let mut text = Vec::new();
    for place in ["/usr/share/doc", "/usr/share/common-licenses"] {
        gather(Path::new(place), &|bytes| std::str::from_utf8(bytes).is_ok(), &mut text);
    }
    gather(&here.join("../../crates"), &|bytes| std::str::from_utf8(bytes).is_ok(), &mut text);
    let whole = |bytes: Vec<u8>| bytes.chunks_exact(CHUNK).map(<[u8]>::to_vec).collect::<Vec<_>>();
    let mut chunks = whole(program);
    chunks.extend(whole(text));
    chunks
}

/// Files of a folder that are of a kind, spread over all there are, until there is enough.
fn gather(folder: &Path, fits: &dyn Fn(&[u8]) -> bool, into: &mut Vec<u8>) {
    let mut pending = vec![folder.to_owned()];
    let mut files = Vec::new();
    while let Some(folder) = pending.pop() {
        for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
            match entry.file_type() {
                Ok(kind) if kind.is_dir() => pending.push(entry.path()),
                Ok(kind) if kind.is_file() => files.push(entry.path()),
                _ => {}
            }
        }
    }
    files.sort();
    let step = (files.len() / 97).max(1);
    for first in 0..step {
        for path in files.iter().skip(first).step_by(step) {
            let Ok(bytes) = fs::read(path) else { continue };
            if bytes.len() >= 4096 && fits(&bytes) {
                into.extend_from_slice(&bytes[..bytes.len().min(128 << 10)]);
            }
            if into.len() >= HALF {
                into.truncate(HALF);
                return;
            }
        }
    }
}

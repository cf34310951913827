//! Programs that carry an archive: it is found by its signature, and nothing is run.

use super::PackKind;
use crate::Limits;
use neat_content::{Content, Error, Job, Result};

/// Header of a cabinet ([MS-CAB] 2.1): signature, reserved, size of the cabinet.
const CABINET: [u8; 8] = *b"MSCF\0\0\0\0";
/// Header of the first file of a zip file.
const ZIP: [u8; 4] = *b"PK\x03\x04";

/// The archive in a program: its kind, and the part of the program that it takes.
pub(crate) fn archive_in(program: &Content, limits: &Limits) -> Result<(PackKind, Content)> {
    if program.len() > limits.program {
        return Err(Error::Limit {
            what: "bytes of a program".into(),
            offset: 0,
            limit: limits.program,
            found: program.len(),
        });
    }
    let mut found = None;
    // A block and what follows it as far as a header needs.
    let mut tail: Vec<u8> = Vec::new();
    let mut base = 0_u64;
    program.for_each_block(1 << 20, &Job::silent(), &mut |block| {
        if found.is_none() {
            tail.extend_from_slice(block);
            found = search(&tail, base, program.len());
            let keep = tail.len().min(HEADER - 1);
            base += (tail.len() - keep) as u64;
            tail.drain(..tail.len() - keep);
        }
        Ok(())
    })?;
    match found {
        Some((PackKind::Cabinet, at, len)) => Ok((PackKind::Cabinet, program.part(at, len)?)),
        // A zip file is read from its end, and its offsets may count from the program's start.
        Some((kind, ..)) => Ok((kind, program.clone())),
        None => Err(Error::Mismatch {
            expected: "a program that carries a cabinet or a zip file".into(),
            found: "none in it".into(),
            hint: "unpack it where it runs, and name the folder".into(),
        }),
    }
}

/// Bytes of a cabinet's header that are looked at.
const HEADER: usize = 36;

/// The first archive that begins in `bytes`, which lie at `base` in a program of `len` bytes: kind, place, length.
fn search(bytes: &[u8], base: u64, len: u64) -> Option<(PackKind, u64, u64)> {
    for at in 0..bytes.len().saturating_sub(HEADER - 1) {
        let place = base + at as u64;
        let rest = &bytes[at..];
        if rest.starts_with(&CABINET) {
            let size = u64::from(u32::from_le_bytes([rest[8], rest[9], rest[10], rest[11]]));
            // Version 1.3 is the only one there is.
            let is_one = rest[24..26] == [3, 1] && size >= HEADER as u64 && size <= len - place;
            if is_one {
                return Some((PackKind::Cabinet, place, size));
            }
        }
        if rest.starts_with(&ZIP) && rest[4] <= 63 && rest[5] == 0 {
            return Some((PackKind::Zip, place, len - place));
        }
    }
    None
}

//! The log of a VHDX ([MS-VHDX] 2.3): what was begun and not finished is applied in memory.

use neat_content::{Content, Error, FieldReader, Piece, Result, read_vec};
use std::collections::BTreeMap;

const SECTOR: u64 = 4096;
const HEAD: usize = 64;
const DESCRIPTOR: usize = 32;
/// Longest log that is read, in bytes.
const LONGEST: u64 = 256 << 20;

/// An entry of the log.
struct Entry {
    sequence: u64,
    /// Where the first entry that still counts begins.
    tail: u64,
    len: u64,
    /// How long the file must be.
    file_len: u64,
    writes: Vec<Write>,
}

enum Write {
    Zeros { at: u64, len: u64 },
    Data { at: u64, bytes: Box<[u8]> },
}

/// The file as it is once the log at `at`, `len` bytes long, has been applied; `id` says whose entries count. Returns
/// how many were.
pub(crate) fn replay(file: &Content, at: u64, len: u64, id: [u8; 16]) -> Result<(Content, usize)> {
    if len == 0 || !len.is_multiple_of(SECTOR) {
        return Err(Error::bad_field("VhdxHeader", "log length", at, "a multiple of 4096", len));
    }
    let log = read_vec(file, at, len, LONGEST, "log")?;
    let entries = newest(&log, id, at);
    if entries.is_empty() {
        return Err(Error::bad_field("VhdxLog", "entries", at, "a whole sequence of them", "none"));
    }
    let mut overlay: BTreeMap<u64, Option<Box<[u8]>>> = BTreeMap::new();
    let count = entries.len();
    let mut file_len = file.len();
    for entry in entries {
        file_len = file_len.max(entry.file_len);
        for write in entry.writes {
            match write {
                Write::Data { at, bytes } => {
                    overlay.insert(at, Some(bytes));
                }
                Write::Zeros { at, len } => {
                    if len / SECTOR > LONGEST / SECTOR {
                        let limit = LONGEST;
                        return Err(Error::Limit {
                            what: "zeros of a log entry".into(),
                            offset: at,
                            limit,
                            found: len,
                        });
                    }
                    for n in 0..len / SECTOR {
                        overlay.insert(at + n * SECTOR, None);
                    }
                }
            }
        }
    }
    // A file that was to grow and did not has nothing there yet.
    if file_len > file.len().saturating_add(64 << 30) {
        return Err(Error::Limit {
            what: "length of the file".into(),
            offset: at,
            limit: file.len(),
            found: file_len,
        });
    }
    let grown = Content::joined([file.clone(), Content::zeros(file_len - file.len())])?;
    let (mut pieces, mut position) = (Vec::new(), 0_u64);
    for (start, bytes) in overlay {
        if start < position || start + SECTOR > grown.len() {
            return Err(Error::bad_field(
                "VhdxLog",
                "place",
                at,
                "one within the file",
                format!("{start:#x}"),
            ));
        }
        pieces.extend(grown.part(position, start - position)?.pieces().iter().cloned());
        match bytes {
            Some(bytes) => pieces.extend(Content::from_bytes(bytes).pieces().iter().cloned()),
            None => pieces.push(Piece::Zeros(SECTOR)),
        }
        position = start + SECTOR;
    }
    pieces.extend(grown.part(position, grown.len() - position)?.pieces().iter().cloned());
    Ok((Content::from_pieces(pieces)?, count))
}

/// The entries of the newest whole sequence, in order ([MS-VHDX] 2.3.3).
fn newest(log: &[u8], id: [u8; 16], base: u64) -> Vec<Entry> {
    let len = log.len() as u64;
    let mut best: Vec<Entry> = Vec::new();
    let mut start = 0;
    while start < len {
        let mut sequence: Vec<Entry> = Vec::new();
        let (mut at, mut covered) = (start, 0);
        while let Some(entry) = entry_at(log, at, id, base) {
            let follows = sequence.last().is_none_or(|last| entry.sequence == last.sequence + 1);
            if !follows || covered + entry.len > len {
                break;
            }
            covered += entry.len;
            at = (at + entry.len) % len;
            sequence.push(entry);
        }
        // It is whole when its last entry says that it began here or within.
        let whole = sequence.last().is_some_and(|last| {
            let mut from = start;
            sequence.iter().any(|entry| {
                let is_tail = from == last.tail;
                from = (from + entry.len) % len;
                is_tail
            })
        });
        let newer = sequence.last().map(|last| last.sequence) > best.last().map(|last| last.sequence);
        // Starting inside a sequence gives its rest; the longest is the one that counts.
        if whole && (newer || best.is_empty()) {
            let tail = sequence.last().map_or(start, |last| last.tail);
            let mut from = start;
            let skip = sequence.iter().position(|entry| {
                let is_tail = from == tail;
                from = (from + entry.len) % len;
                is_tail
            });
            best = sequence.split_off(skip.unwrap_or(0));
        }
        start += SECTOR;
    }
    best
}

/// Bytes of the log, which leads from its end back to its start.
fn around(log: &[u8], at: u64, len: u64) -> Option<Vec<u8>> {
    let (at, len) = (at as usize, len as usize);
    if len > log.len() || at >= log.len() {
        return None;
    }
    let first = len.min(log.len() - at);
    Some([&log[at..at + first], &log[..len - first]].concat())
}

/// The entry at a place of the log, if a whole one is there.
fn entry_at(log: &[u8], at: u64, id: [u8; 16], base: u64) -> Option<Entry> {
    let head = around(log, at, SECTOR)?;
    let mut fields = FieldReader::new(&head, base + at, "VhdxLogEntry");
    if fields.take(4).ok()? != b"loge" {
        return None;
    }
    let sum = fields.u32_le().ok()?;
    let len = u64::from(fields.u32_le().ok()?);
    let tail = u64::from(fields.u32_le().ok()?);
    let sequence = fields.u64_le().ok()?;
    let count = fields.u32_le().ok()? as usize;
    fields.skip(4).ok()?;
    if fields.array::<16>().ok()? != id || len == 0 || !len.is_multiple_of(SECTOR) || sequence == 0 {
        return None;
    }
    fields.skip(8).ok()?;
    let file_len = fields.u64_le().ok()?;
    let mut bytes = around(log, at, len)?;
    bytes[4..8].fill(0);
    if crc32c::crc32c(&bytes) != sum {
        return None;
    }
    let writes = writes(&bytes, count, sequence)?;
    Some(Entry { sequence, tail, len, file_len, writes })
}

fn writes(entry: &[u8], count: usize, sequence: u64) -> Option<Vec<Write>> {
    let described = HEAD.checked_add(count.checked_mul(DESCRIPTOR)?)?;
    let mut data_at = described.next_multiple_of(SECTOR as usize);
    let mut writes = Vec::with_capacity(count.min(entry.len() / DESCRIPTOR));
    for n in 0..count {
        let start = HEAD + n * DESCRIPTOR;
        let descriptor = entry.get(start..start + DESCRIPTOR)?;
        let number = |from: usize, len: usize| {
            descriptor[from..from + len].iter().rev().fold(0_u64, |all, byte| all << 8 | u64::from(*byte))
        };
        let at = number(16, 8);
        if number(24, 8) != sequence || !at.is_multiple_of(SECTOR) {
            return None;
        }
        match &descriptor[..4] {
            b"zero" => writes.push(Write::Zeros { at, len: number(8, 8) }),
            b"desc" => {
                let sector = entry.get(data_at..data_at + SECTOR as usize)?;
                data_at += SECTOR as usize;
                let high = u32::from_le_bytes(*sector[4..].first_chunk()?);
                let low = u32::from_le_bytes(*sector.last_chunk()?);
                if !sector.starts_with(b"data") || u64::from(high) << 32 | u64::from(low) != sequence {
                    return None;
                }
                // The ends of the sector, which the marks took, stand in the descriptor.
                let mut bytes = sector.to_vec();
                bytes[..8].copy_from_slice(&descriptor[8..16]);
                bytes[SECTOR as usize - 4..].copy_from_slice(&descriptor[4..8]);
                writes.push(Write::Data { at, bytes: bytes.into() });
            }
            _ => return None,
        }
    }
    Some(writes)
}

//! Compressing.

use super::{FIRST, HEADER_LEN, LONGEST, SHORTEST, SIGNATURE, SingleForm, WINDOW};
use neat_content::{Error, Result, Timestamp};
use std::io::{Cursor, Write};

/// Bits of a byte of content, and of a match, with the bit that tells them apart.
const LITERAL_COST: u32 = 9;
const MATCH_COST: u32 = 17;
/// Places that are looked at for the longest match of one place.
const MOST_TRIES: usize = 512;
/// Bytes that are looked at together; a match ends with them.
const SEGMENT: usize = 1 << 20;
/// Bits of the hash of three bytes.
const HASH_BITS: u32 = 14;

/// The name of a file when it is compressed by itself; nothing for names without an ending of three letters, which have no
/// such form.
pub fn single_name(name: &str) -> Option<String> {
    let (stem, ending) = name.rsplit_once('.')?;
    let is_usual = !stem.is_empty() && ending.len() == 3 && ending.is_ascii() && !ending.ends_with('_');
    is_usual.then(|| format!("{stem}.{}_", &ending[..2]))
}

/// Compresses the file `name`, as it is called when it is not compressed, by itself. `modified` is kept by cabinets, to two
/// seconds.
///
/// # Errors
/// `Request` for names that have no such form, and for contents that are too long for one (4 GiB; cabinets 2 GiB).
pub fn compress_single(name: &str, bytes: &[u8], form: SingleForm, modified: Timestamp) -> Result<Vec<u8>> {
    let too_long =
        || Error::request(format!("{name} is too long to be compressed by itself"), "leave it as it is");
    if single_name(name).is_none() {
        let message = format!("{name} cannot be compressed by itself: its ending has not three letters");
        return Err(Error::request(message, "leave it as it is"));
    }
    match form {
        SingleForm::Older => {
            let len = u32::try_from(bytes.len()).map_err(|_| too_long())?;
            let last = name.bytes().next_back().unwrap_or_default();
            let mut out = Vec::with_capacity(bytes.len() / 2 + HEADER_LEN);
            out.extend_from_slice(&SIGNATURE);
            out.extend_from_slice(&[b'A', last]);
            out.extend_from_slice(&len.to_le_bytes());
            encode(bytes, &mut out);
            Ok(out)
        }
        SingleForm::Cabinet => {
            if bytes.len() > 0x7FFF_8000 {
                return Err(too_long());
            }
            let mut builder = cab::CabinetBuilder::new();
            let file = builder.add_folder(cab::CompressionType::MsZip).add_file(name);
            let moment = time::OffsetDateTime::from_unix_timestamp(modified.seconds);
            if let Ok(moment) = moment.map(|own| time::PrimitiveDateTime::new(own.date(), own.time())) {
                file.set_datetime(moment);
            }
            let failed =
                |error: std::io::Error| Error::request(format!("{name}: {error}"), "leave it as it is");
            let mut writer = builder.build(Cursor::new(Vec::new())).map_err(failed)?;
            while let Some(mut file) = writer.next_file().map_err(failed)? {
                file.write_all(bytes).map_err(failed)?;
            }
            Ok(writer.finish().map_err(failed)?.into_inner())
        }
    }
}

/// Writes the items of `bytes`: of all ways through the longest matches of a segment, one with the fewest bits.
fn encode(bytes: &[u8], out: &mut Vec<u8>) {
    let mut finder = Finder::new();
    let (mut group, mut items) = (0, 8);
    for start in (0..bytes.len()).step_by(SEGMENT) {
        let end = (start + SEGMENT).min(bytes.len());
        let matches = finder.longest(bytes, start, end);
        let ways = best_ways(&matches);
        let mut at = start;
        while at < end {
            if items == 8 {
                (group, items) = (out.len(), 0);
                out.push(0);
            }
            let len = usize::from(ways[at - start]);
            if len < SHORTEST {
                out[group] |= 1 << items;
                out.push(bytes[at]);
                at += 1;
            } else {
                // Where the match begins in the window: the content's own place there, less the distance.
                let place = (FIRST + at - usize::from(matches[at - start].1)) % WINDOW;
                out.push(place as u8);
                out.push((place >> 4) as u8 & 0xF0 | (len - SHORTEST) as u8);
                at += len;
            }
            items += 1;
        }
    }
}

/// How many bytes the first item of the best way from each place takes, by the longest match of each.
fn best_ways(matches: &[(u8, u16)]) -> Vec<u8> {
    let mut ways = vec![1; matches.len()];
    // Bits from each place to the end.
    let mut bits = vec![0_u32; matches.len() + 1];
    for at in (0..matches.len()).rev() {
        let (mut cost, mut way) = (bits[at + 1] + LITERAL_COST, 1);
        for len in SHORTEST..=usize::from(matches[at].0) {
            // The longer one where both are the same: fewer items to read.
            if bits[at + len] + MATCH_COST <= cost {
                (cost, way) = (bits[at + len] + MATCH_COST, len as u8);
            }
        }
        (bits[at], ways[at]) = (cost, way);
    }
    ways
}

/// Finds what came before.
struct Finder {
    /// The last place with each hash of three bytes.
    heads: Vec<u32>,
    /// The place before each of the window with the same hash.
    before: Vec<u32>,
}

/// Stands for no place.
const NONE: u32 = u32::MAX;

impl Finder {
    fn new() -> Self {
        Self { heads: vec![NONE; 1 << HASH_BITS], before: vec![NONE; WINDOW] }
    }

    /// Of each place from `start` to `end` the longest match before it that ends there too, and its distance.
    fn longest(&mut self, bytes: &[u8], start: usize, end: usize) -> Vec<(u8, u16)> {
        let mut found = vec![(0, 0); end - start];
        for at in start..end {
            let Some(&[a, b, c]) = bytes.get(at..at + SHORTEST) else { break };
            let hash = u32::from_le_bytes([a, b, c, 0]).wrapping_mul(0x9E37_79B1) >> (32 - HASH_BITS);
            let head = &mut self.heads[hash as usize];
            let most = LONGEST.min(end - at);
            let mut other = *head;
            let mut best = (0, 0);
            for _ in 0..MOST_TRIES {
                // A place that is a whole window away has been written over when it is read.
                if other == NONE || at - other as usize >= WINDOW {
                    break;
                }
                let from = other as usize;
                let len = (0..most).take_while(|n| bytes[from + n] == bytes[at + n]).count();
                if len > best.0 {
                    best = (len, at - from);
                    if len == most {
                        break;
                    }
                }
                other = self.before[from % WINDOW];
            }
            if best.0 >= SHORTEST {
                found[at - start] = (best.0 as u8, best.1 as u16);
            }
            self.before[at % WINDOW] = *head;
            *head = at as u32;
        }
        found
    }
}

//! Continuation areas of a directory that moves.
//!
//! Some readers only look for them behind the directory whose records point at them, so they move along.

use super::{SECTOR, directory::Raw, draft::Draft};
use crate::iso9660::{
    read::next_record,
    rock_ridge::{self, CONTINUATION_LEN},
};
use crate::units::BlockNumber;
use neat_content::{Error, Result, read_vec};

/// Continuations of one record that are followed.
const MAX_DEPTH: usize = 64;
/// Copies the continuation areas of `record` behind `areas`, which will begin at block `first`, and lets the record
/// point there. `skip` bytes come before every system use area.
pub(super) fn move_along(
    record: &mut Raw,
    skip: usize,
    draft: &Draft,
    block_len: u64,
    first: BlockNumber,
    areas: &mut Vec<u8>,
) -> Result<()> {
    let at = match next_record(record, 0, 0)? {
        Some(found) => record.len() - found.system_use.len() + skip,
        None => return Ok(()),
    };
    if let Some(area) = record.get_mut(at..) {
        move_areas(area, draft, block_len, first, areas, 0)?;
    }
    Ok(())
}

fn move_areas(
    area: &mut [u8],
    draft: &Draft,
    block_len: u64,
    first: BlockNumber,
    areas: &mut Vec<u8>,
    depth: usize,
) -> Result<()> {
    let Some(at) = pointer(area) else { return Ok(()) };
    let word =
        |at: usize| area.get(at..at + 4).and_then(|word| word.try_into().ok()).map_or(0, u32::from_le_bytes);
    let (block, start, len) = (BlockNumber(word(at + 4)), word(at + 12), word(at + 20));
    let offset = block.byte_offset(block_len) + u64::from(start);
    if depth == MAX_DEPTH {
        return Err(Error::Loop { what: "chain of continuation areas".into(), offset });
    }
    let mut next = read_vec(draft, offset, len.into(), SECTOR, "continuation area")?;
    move_areas(&mut next, draft, block_len, first, areas, depth + 1)?;
    // Each within one sector, as they were.
    let sector_len = SECTOR as usize;
    if areas.len() % sector_len + next.len() > sector_len {
        areas.resize(areas.len().next_multiple_of(sector_len), 0);
    }
    let blocks = (areas.len() as u64 / block_len) as u32;
    let place = rock_ridge::continuation(first.after(blocks).0, (areas.len() as u64 % block_len) as u32, len);
    area[at..at + CONTINUATION_LEN].copy_from_slice(&place);
    areas.extend(next);
    Ok(())
}

/// Where the `CE` entry of an area stands.
fn pointer(area: &[u8]) -> Option<usize> {
    let mut at = 0;
    while let Some([first, second, len, _]) =
        area.get(at..at + 4).and_then(|head| <[u8; 4]>::try_from(head).ok())
    {
        if [first, second] == *b"CE" && area.len() >= at + CONTINUATION_LEN {
            return Some(at);
        }
        if [first, second] == *b"ST" || len < 4 {
            return None;
        }
        at += usize::from(len);
    }
    None
}

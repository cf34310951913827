//! Security descriptors, each stored once for all files that have it (`$Secure`, stream `$SDS`).
//!
//! The stream consists of blocks of 256 KiB, each followed by a copy of it.

use neat_content::{Content, FieldReader, Job, Result};
use std::collections::HashMap;

const BLOCK: usize = 256 << 10;
const HEAD: usize = 20;
/// Longest stream that is read, in bytes: a million descriptors.
const LONGEST: u64 = 512 << 20;
/// Longest descriptor: four lists of at most 64 KiB, shared.
const LONGEST_DESCRIPTOR: usize = 256 << 10;

/// Descriptors by their numbers.
#[derive(Default)]
pub(crate) struct Descriptors {
    pub by_number: HashMap<u32, Box<[u8]>>,
    /// How many are damaged in both copies.
    pub damaged: usize,
}

/// Reads all of them from the stream.
pub(crate) fn read(stream: &Content, job: &Job<'_>) -> Result<Descriptors> {
    let mut found = Descriptors::default();
    let len = stream.len().min(LONGEST);
    let mut start = 0;
    while start < len {
        job.check()?;
        let part = |from: u64| -> Result<Vec<u8>> {
            let end = len.min(from.saturating_add(BLOCK as u64));
            stream.part(from.min(end), end - from.min(end))?.to_vec(BLOCK as u64, "security descriptors")
        };
        let (block, copy) = (part(start)?, part(start + BLOCK as u64)?);
        read_block(&block, &copy, start, &mut found);
        start += 2 * BLOCK as u64;
    }
    Ok(found)
}

fn read_block(block: &[u8], copy: &[u8], start: u64, found: &mut Descriptors) {
    let mut at = 0;
    while at + HEAD <= block.len() {
        let entry = [block, copy].into_iter().find_map(|bytes| entry(bytes, at, start));
        match entry {
            Some((number, descriptor)) => {
                let len = HEAD + descriptor.len();
                found.by_number.entry(number).or_insert_with(|| descriptor.into());
                at = (at + len).next_multiple_of(16);
            }
            // Behind the last entry of a block there is nothing.
            None if block[at..].iter().all(|byte| *byte == 0) => break,
            // What is damaged is passed over to where the next may begin.
            None => {
                found.damaged +=
                    usize::from(at % 16 == 0 && block[at..at + HEAD].iter().any(|byte| *byte != 0));
                at += 16;
            }
        }
    }
}

/// The entry at `at` of a block that begins at `start`, if it is sound.
fn entry(block: &[u8], at: usize, start: u64) -> Option<(u32, &[u8])> {
    let mut fields = FieldReader::new(block.get(at..)?, start + at as u64, "SecurityDescriptor");
    let (hash, number) = (fields.u32_le().ok()?, fields.u32_le().ok()?);
    let (place, len) = (fields.u64_le().ok()?, fields.u32_le().ok()? as usize);
    if place != start + at as u64 || len <= HEAD || len - HEAD > LONGEST_DESCRIPTOR {
        return None;
    }
    let descriptor = fields.take(len - HEAD).ok()?;
    (hash_of(descriptor) == hash).then_some((number, descriptor))
}

fn hash_of(descriptor: &[u8]) -> u32 {
    descriptor.chunks_exact(4).fold(0_u32, |hash, four| {
        u32::from_le_bytes([four[0], four[1], four[2], four[3]]).wrapping_add(hash.rotate_left(3))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn stream(damage_first: bool) -> Vec<u8> {
        let mut block = vec![0; BLOCK];
        let descriptor: Vec<u8> = (1..=48).collect();
        let mut at = 0;
        for number in 0x100..0x103_u32 {
            let entry = [
                hash_of(&descriptor).to_le_bytes().as_slice(),
                &number.to_le_bytes(),
                &(at as u64).to_le_bytes(),
                &((HEAD + descriptor.len()) as u32).to_le_bytes(),
                &descriptor,
            ]
            .concat();
            block[at..at + entry.len()].copy_from_slice(&entry);
            at = (at + entry.len()).next_multiple_of(16);
        }
        let copy = block[..at].to_vec();
        if damage_first {
            block[30] ^= 1;
        }
        block.extend(copy);
        block
    }

    #[test]
    fn a_damaged_descriptor_is_read_from_the_copy() {
        for damaged in [false, true] {
            let found = read(&Content::from_bytes(stream(damaged)), &Job::silent()).unwrap();
            assert_eq!((found.by_number.len(), found.damaged), (3, 0));
            assert_eq!(&*found.by_number[&0x102], (1..=48).collect::<Vec<u8>>());
        }
    }

    #[test]
    fn one_that_is_damaged_in_both_is_counted() {
        let mut bytes = stream(true);
        bytes[BLOCK + 30] ^= 1;
        let found = read(&Content::from_bytes(bytes), &Job::silent()).unwrap();
        assert_eq!(found.by_number.len(), 2);
        assert!(found.damaged > 0);
    }
}

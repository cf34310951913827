//! What loaders want written into their image's copy on the disc.

use crate::{ImagePatch, units::Sector};
use neat_content::{Content, Error, Job, ReadAt, Result};

/// Sector of the primary volume descriptor.
const PRIMARY_SECTOR: u32 = 16;
/// Where the boot-info table stands in an image.
const TABLE_AT: u64 = 8;
/// First byte that the table's checksum covers.
const CHECKSUM_FROM: usize = 64;
/// Where the block pointer stands in an image.
const POINTER_AT: u64 = 2548;
/// Largest image that is patched, in bytes.
const MAX_IMAGE_LEN: u64 = 64 << 20;

/// Blocks of 512 bytes from the image's start to the block that the pointer means.
const POINTER_SKIP: u64 = 5;

/// Which patches the image at sector `location` carries; `rest` begins with it.
pub(super) fn detect(rest: &Content, location: Sector) -> Result<ImagePatch> {
    let mut patch = ImagePatch::default();
    let mut table = [0; 8];
    if rest.len() >= 64 {
        rest.read_exact_at(TABLE_AT, &mut table)?;
        let word = |at: usize| u32::from_le_bytes([table[at], table[at + 1], table[at + 2], table[at + 3]]);
        patch.boot_info_table = word(0) == PRIMARY_SECTOR && word(4) == location.0;
    }
    if rest.len() >= POINTER_AT + 8 {
        rest.read_exact_at(POINTER_AT, &mut table)?;
        patch.block_pointer = u64::from_le_bytes(table) == u64::from(location.0) * 4 + POINTER_SKIP;
    }
    Ok(patch)
}

/// The image's length in bytes as its boot-info table has it.
pub(super) fn recorded_len(rest: &Content) -> Result<u64> {
    let mut len = [0; 4];
    rest.read_exact_at(TABLE_AT + 8, &mut len)?;
    Ok(u64::from(u32::from_le_bytes(len)))
}

/// The image as it is written to sector `location`.
pub(crate) fn apply(image: &Content, patch: ImagePatch, location: Sector) -> Result<Content> {
    let mut patched = image.clone();
    let too_short = |wanted: u64| {
        Error::request(
            format!("the boot image has {} bytes, and the patch asked for needs {wanted}", image.len()),
            "leave the patch off or give the right image",
        )
    };
    // The pointer first: the table's checksum covers it.
    if patch.block_pointer {
        if image.len() < POINTER_AT + 8 {
            return Err(too_short(POINTER_AT + 8));
        }
        let pointer = u64::from(location.0) * 4 + POINTER_SKIP;
        patched = patched.patched(POINTER_AT, &pointer.to_le_bytes())?;
    }
    if patch.boot_info_table {
        if image.len() < CHECKSUM_FROM as u64 {
            return Err(too_short(CHECKSUM_FROM as u64));
        }
        if image.len() > MAX_IMAGE_LEN {
            return Err(Error::Limit {
                what: "size in bytes of a boot image with a boot-info table".into(),
                offset: 0,
                limit: MAX_IMAGE_LEN,
                found: image.len(),
            });
        }
        let mut table = Vec::with_capacity(56);
        for word in [PRIMARY_SECTOR, location.0, image.len() as u32, checksum(&patched)?] {
            table.extend(word.to_le_bytes());
        }
        table.resize(56, 0);
        patched = patched.patched(TABLE_AT, &table)?;
    }
    Ok(patched)
}

/// Whether length and sum in the boot-info table of the image at sector `location` are right; `None` when that cannot be
/// told.
pub(crate) fn is_table_right(image: &Content, location: Option<u32>) -> Option<bool> {
    let patch = ImagePatch { boot_info_table: true, block_pointer: false };
    let wanted = apply(image, patch, Sector(location?)).ok()?;
    let mut tables = [[0; 16]; 2];
    for (table, image) in tables.iter_mut().zip([image, &wanted]) {
        image.read_exact_at(TABLE_AT, table).ok()?;
    }
    Some(tables[0] == tables[1])
}

/// Sum of the image's 32-bit words from byte 64 on, a last partial word padded with zeros.
fn checksum(image: &Content) -> Result<u32> {
    let mut bytes = Vec::with_capacity(image.len() as usize);
    image.for_each_block(64 * 1024, &Job::silent(), &mut |block| {
        bytes.extend_from_slice(block);
        Ok(())
    })?;
    let word = |chunk: &[u8]| {
        let mut word = [0; 4];
        word[..chunk.len()].copy_from_slice(chunk);
        u32::from_le_bytes(word)
    };
    Ok(bytes[CHECKSUM_FROM..].chunks(4).fold(0_u32, |sum, chunk| sum.wrapping_add(word(chunk))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patches_are_put_in_and_recognised() {
        let image = Content::from_bytes((0..3001_u32).map(|n| n as u8).collect::<Vec<_>>());
        let both = ImagePatch { boot_info_table: true, block_pointer: true };
        let patched = apply(&image, both, Sector(77)).unwrap();
        assert_eq!(detect(&patched, Sector(77)).unwrap(), both);
        assert_eq!(detect(&patched, Sector(78)).unwrap(), ImagePatch::default());
        assert_eq!(recorded_len(&patched).unwrap(), 3001);
        let bytes = patched.to_vec(4000, "image").unwrap();
        let mut sum = 0_u32;
        let mut padded = bytes.clone();
        padded.resize(3004, 0);
        for at in (64..3004).step_by(4) {
            sum = sum.wrapping_add(u32::from_le_bytes(padded[at..at + 4].try_into().unwrap()));
        }
        assert_eq!(bytes[20..24], sum.to_le_bytes());
        assert_eq!(bytes[24..64], [0; 40]);
        assert_eq!(apply(&patched, both, Sector(77)).unwrap().to_vec(4000, "image").unwrap(), bytes);
        assert!(
            apply(&Content::zeros(63), ImagePatch { boot_info_table: true, block_pointer: false }, Sector(1))
                .is_err()
        );
    }
}

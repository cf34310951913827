//! Names in the indexes of folders, asked for only where a record of the file table is damaged.

use crate::{
    Volume,
    record::{self, Record, Reference, kind},
};
use neat_content::{FieldReader, Job, Result};
use std::collections::HashMap;

/// Longest index that is read, in bytes.
const LONGEST: u64 = 1 << 30;

/// What the index of a folder calls the records in `wanted`. The blocks are taken in the order in which they lie, so
/// that it does not matter whether the tree that they form is one.
pub(crate) fn names_in(
    volume: &Volume,
    folder: u64,
    wanted: &HashMap<u64, usize>,
    job: &Job<'_>,
    found: &mut dyn FnMut(u64, Vec<u16>),
) -> Result<()> {
    let bytes = volume.record_bytes(folder)?;
    let record = Record::parse(&bytes, folder, volume.record_offset(folder))?;
    for value in volume.values(&record)?.into_iter().flatten() {
        job.check()?;
        match value.kind {
            kind::INDEX_ROOT => {
                let bytes = volume.bytes(&value, LONGEST, "index")?;
                entries(bytes.get(0x10..).unwrap_or_default(), value.at, wanted, found);
            }
            kind::INDEX_BLOCKS => {
                let mut bytes = volume.bytes(&value, LONGEST, "index")?;
                for block in bytes.chunks_exact_mut(volume.geometry().index_block as usize) {
                    if record::put_back(block, *b"INDX", value.at).is_ok() {
                        entries(&block[0x18..], value.at, wanted, found);
                    }
                }
            }
            _ => {}
        }
    }
    Ok(())
}

/// Goes through the entries of a node, which begins with where they lie.
fn entries(node: &[u8], at: u64, wanted: &HashMap<u64, usize>, found: &mut dyn FnMut(u64, Vec<u16>)) {
    let mut walk = || -> Result<()> {
        let mut fields = FieldReader::new(node, at, "Index");
        let (first, end) = (fields.u32_le()? as usize, fields.u32_le()? as usize);
        let mut start = first;
        while start < end {
            fields.seek(start)?;
            let file = Reference::from_raw(fields.u64_le()?);
            let (len, key_len) = (usize::from(fields.u16_le()?), usize::from(fields.u16_le()?));
            let flags = fields.u16_le()?;
            // The last entry has no name.
            if flags & 2 != 0 || len < 0x10 {
                break;
            }
            if wanted.contains_key(&file.number) && key_len >= 0x42 {
                fields.skip(2 + 0x40)?;
                let (count, space) = (usize::from(fields.u8()?), fields.u8()?);
                if space != 2 {
                    let units = fields.take(2 * count)?;
                    found(
                        file.number,
                        units.chunks_exact(2).map(|two| u16::from_le_bytes([two[0], two[1]])).collect(),
                    );
                }
            }
            start += len;
        }
        Ok(())
    };
    // A damaged node tells of fewer names, which is all that is lost.
    let _ended = walk();
}

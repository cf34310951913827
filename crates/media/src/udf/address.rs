//! From addresses in a volume to bytes of its file, and the tags by which descriptors are known.

use super::{
    cs0,
    layout::{LbAddr, Tag},
};
use neat_content::{Error, Result};
use zerocopy::FromBytes;

/// A run of content; `None` where nothing is recorded and zeros are read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Extent {
    /// First byte in the file that holds the volume.
    pub offset: Option<u64>,
    /// Bytes.
    pub len: u64,
}

/// How blocks of one partition map are found.
#[derive(Clone, Debug)]
pub(crate) enum Map {
    /// Sectors of the volume from `start` on.
    Physical { start: u64, blocks: u64 },
    /// Blocks inside the metadata file of UDF 2.50 (UDF 2.2.10).
    Metadata { extents: Vec<Extent> },
}

/// Position of `len` bytes at `address`. `at` is where the address stands, for errors.
pub(crate) fn locate(
    maps: &[Map],
    block_size: u64,
    address: LbAddr,
    len: u64,
    at: u64,
    end: u64,
) -> Result<u64> {
    let (block, number) = (u64::from(address.block.get()), usize::from(address.partition.get()));
    let map = maps.get(number).ok_or_else(|| {
        Error::bad_field("LbAddr", "partition", at, format!("below {}", maps.len()), number)
    })?;
    match map {
        Map::Physical { start, blocks } => {
            let needed = len.div_ceil(block_size);
            if block + needed > *blocks {
                return Err(Error::bad_field(
                    "LbAddr",
                    "block",
                    at,
                    format!("{needed} blocks inside a partition of {blocks}"),
                    block,
                ));
            }
            let offset = (start + block) * block_size;
            if offset + len > end {
                let available = end.saturating_sub(offset);
                return Err(Error::Truncated { what: "extent".into(), offset, wanted: len, available });
            }
            Ok(offset)
        }
        Map::Metadata { extents } => {
            let mut position = block * block_size;
            for extent in extents {
                if position < extent.len {
                    if position + len > extent.len {
                        break;
                    }
                    // Where nothing is recorded there is no descriptor either.
                    let Some(offset) = extent.offset else { break };
                    return Ok(offset + position);
                }
                position -= extent.len;
            }
            Err(Error::bad_field("LbAddr", "block", at, "a block of the metadata file", block))
        }
    }
}

/// Checks a descriptor's tag: checksum, identifier, CRC. `at` is its position in bytes.
pub(crate) fn check_tag(bytes: &[u8], at: u64, expected: Option<u16>) -> Result<Tag> {
    let (tag, body) = Tag::read_from_prefix(bytes).map_err(|_| Error::Truncated {
        what: "descriptor tag".into(),
        offset: at,
        wanted: 16,
        available: bytes.len() as u64,
    })?;
    let sum = bytes[..16]
        .iter()
        .enumerate()
        .filter(|(index, _)| *index != 4)
        .fold(0_u8, |sum, (_, byte)| sum.wrapping_add(*byte));
    if sum != tag.checksum {
        return Err(Error::bad_field(
            "Tag",
            "checksum",
            at + 4,
            format!("{sum:#04x}"),
            format!("{:#04x}", tag.checksum),
        ));
    }
    let identifier = tag.identifier.get();
    if let Some(expected) = expected.filter(|expected| *expected != identifier) {
        return Err(Error::bad_field("Tag", "identifier", at, expected.to_string(), identifier));
    }
    let covered = body.get(..usize::from(tag.crc_length.get())).ok_or_else(|| {
        Error::bad_field(
            "Tag",
            "crc_length",
            at + 10,
            format!("at most {}", body.len()),
            tag.crc_length.get(),
        )
    })?;
    let crc = cs0::crc(covered);
    if crc != tag.crc.get() {
        return Err(Error::bad_field(
            "Tag",
            "crc",
            at + 8,
            format!("{crc:#06x}"),
            format!("{:#06x}", tag.crc.get()),
        ));
    }
    Ok(tag)
}

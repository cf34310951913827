//! File entries and where their content lies.

use super::{
    address::{Extent, Map, check_tag, locate},
    layout::{
        ALLOCATION_EMBEDDED, ALLOCATION_EXTENDED, ALLOCATION_LONG, ALLOCATION_SHORT, AllocationExtent,
        ExtendedFileEntry, FileEntry, LbAddr, TAG_ALLOCATION_EXTENT, TAG_EXTENDED_FILE_ENTRY, TAG_FILE_ENTRY,
    },
};
use neat_content::{Error, FieldReader, ReadAt, Result, Timestamp, read_vec};
use zerocopy::FromBytes;

/// Continuations of allocation descriptors followed for one file.
const MAX_CONTINUATIONS: usize = 16_384;

/// A file entry of either kind.
#[derive(Clone, Debug)]
pub(crate) struct IcbFile {
    pub file_type: u8,
    pub allocation: u16,
    pub permissions: u32,
    pub len: u64,
    pub modified: Timestamp,
    /// Allocation descriptors, or the content itself, and where they stand.
    descriptors: Vec<u8>,
    descriptors_at: u64,
    partition: u16,
}

impl IcbFile {
    /// Reads the entry at `address`, which stands at byte `at`.
    pub(crate) fn read<R: ReadAt>(
        reader: &R,
        maps: &[Map],
        block_size: u64,
        address: LbAddr,
        at: u64,
    ) -> Result<Self> {
        let offset = locate(maps, block_size, address, block_size, at, reader.len())?;
        let bytes = read_vec(reader, offset, block_size, 4096, "file entry")?;
        let tag = check_tag(&bytes, offset, None)?;
        let bad = |field, at: u64, expected: &str, found: u64| {
            Error::bad_field("FileEntry", field, offset + at, expected, found)
        };
        let (fixed, icb, permissions, len, modified, attributes, descriptors) = match tag.identifier.get() {
            TAG_FILE_ENTRY => {
                let (e, _) = FileEntry::read_from_prefix(&bytes)
                    .map_err(|_| bad("size", 0, "176 bytes", bytes.len() as u64))?;
                (
                    176,
                    e.icb_tag,
                    e.permissions,
                    e.information_length,
                    e.modified,
                    e.extended_attributes_length,
                    e.allocation_descriptors_length,
                )
            }
            TAG_EXTENDED_FILE_ENTRY => {
                let (e, _) = ExtendedFileEntry::read_from_prefix(&bytes)
                    .map_err(|_| bad("size", 0, "216 bytes", bytes.len() as u64))?;
                (
                    216,
                    e.icb_tag,
                    e.permissions,
                    e.information_length,
                    e.modified,
                    e.extended_attributes_length,
                    e.allocation_descriptors_length,
                )
            }
            other => return Err(bad("tag.identifier", 0, "261 or 266", other.into())),
        };
        if icb.strategy.get() != 4 {
            return Err(Error::Unsupported {
                what: format!("ICB strategy {}", icb.strategy.get()),
                offset: offset + 20,
            });
        }
        let (attributes, descriptors) = (u64::from(attributes.get()), u64::from(descriptors.get()));
        let start = fixed + attributes;
        if start + descriptors > bytes.len() as u64 {
            return Err(bad(
                "allocation_descriptors_length",
                fixed - 4,
                &format!("at most {}", (bytes.len() as u64).saturating_sub(start)),
                descriptors,
            ));
        }
        Ok(Self {
            file_type: icb.file_type,
            allocation: icb.flags.get() & 7,
            permissions: permissions.get(),
            len: len.get(),
            modified: modified.to_timestamp(),
            descriptors: bytes[start as usize..(start + descriptors) as usize].to_vec(),
            descriptors_at: offset + start,
            partition: address.partition.get(),
        })
    }

    /// Where the content lies, exactly `self.len` bytes, in at most `most` extents.
    pub(crate) fn extents<R: ReadAt>(
        &self,
        reader: &R,
        maps: &[Map],
        block_size: u64,
        most: usize,
    ) -> Result<Vec<Extent>> {
        let mut extents = Vec::new();
        let mut left = self.len;
        if self.allocation == ALLOCATION_EMBEDDED {
            if left > self.descriptors.len() as u64 {
                return Err(Error::Truncated {
                    what: "content inside a file entry".into(),
                    offset: self.descriptors_at,
                    wanted: left,
                    available: self.descriptors.len() as u64,
                });
            }
            return Ok(vec![Extent { offset: Some(self.descriptors_at), len: left }]);
        }
        let (mut bytes, mut at) = (self.descriptors.clone(), self.descriptors_at);
        for _ in 0..MAX_CONTINUATIONS {
            let mut fields = FieldReader::new(&bytes, at, "AllocationDescriptor");
            let mut next = None;
            while left > 0 {
                let position = fields.offset();
                let Some((kind, len, address)) = self.next_descriptor(&mut fields)? else { break };
                if len == 0 {
                    break;
                }
                if kind == 3 {
                    next = Some((address, len, position));
                    break;
                }
                let used = len.min(left);
                let offset = if kind == 0 {
                    Some(locate(maps, block_size, address, used, position, reader.len())?)
                } else {
                    None
                };
                left -= used;
                extents.push(Extent { offset, len: used });
                if extents.len() > most {
                    return Err(Error::Limit {
                        what: "extents of a file".into(),
                        offset: position,
                        limit: most as u64,
                        found: extents.len() as u64,
                    });
                }
            }
            let Some((address, len, position)) = next else {
                if left > 0 {
                    // What no descriptor covers reads as zeros (ECMA-167 4/12.1 allows a shorter body), but a bomb
                    // claims it in one number: a media's own size is the most a sound file can miss.
                    if left > reader.len() {
                        return Err(Error::bad_field(
                            "FileEntry",
                            "information_length",
                            self.descriptors_at,
                            "no more than its extents hold",
                            self.len,
                        ));
                    }
                    extents.push(Extent { offset: None, len: left });
                }
                return Ok(extents);
            };
            at = locate(maps, block_size, address, len.min(block_size), position, reader.len())?;
            let block = read_vec(reader, at, block_size, 4096, "allocation extent")?;
            check_tag(&block, at, Some(TAG_ALLOCATION_EXTENT))?;
            let (header, rest) = AllocationExtent::read_from_prefix(&block)
                .map_err(|_| Error::bad_field("AllocationExtent", "size", at, "24 bytes", block.len()))?;
            let count = header.length.get() as usize;
            bytes = rest
                .get(..count)
                .ok_or_else(|| {
                    Error::bad_field(
                        "AllocationExtent",
                        "length",
                        at + 20,
                        format!("at most {}", rest.len()),
                        count,
                    )
                })?
                .to_vec();
            at += 24;
        }
        Err(Error::Loop { what: "chain of allocation extents".into(), offset: at })
    }

    /// Type, length in bytes and place of the next descriptor; `None` at the end.
    fn next_descriptor(&self, fields: &mut FieldReader<'_>) -> Result<Option<(u32, u64, LbAddr)>> {
        let size = match self.allocation {
            ALLOCATION_SHORT => 8,
            ALLOCATION_LONG => 16,
            ALLOCATION_EXTENDED => 20,
            other => {
                return Err(Error::bad_field(
                    "IcbTag",
                    "flags",
                    self.descriptors_at,
                    "allocation kind 0 to 3",
                    other,
                ));
            }
        };
        if fields.remaining() < size {
            return Ok(None);
        }
        let word = fields.u32_le()?;
        let (kind, len) = (word >> 30, u64::from(word & 0x3FFF_FFFF));
        if self.allocation == ALLOCATION_EXTENDED {
            fields.skip(8)?;
        }
        let block = fields.u32_le()?;
        let partition = if self.allocation == ALLOCATION_SHORT { self.partition } else { fields.u16_le()? };
        match self.allocation {
            ALLOCATION_LONG => fields.skip(6)?,
            ALLOCATION_EXTENDED => fields.skip(2)?,
            _ => {}
        }
        Ok(Some((kind, len, LbAddr { block: block.into(), partition: partition.into() })))
    }
}

//! Opening a UDF volume: from the anchors to the root directory.

use super::{
    address::{Extent, Map, check_tag, locate},
    allocation::IcbFile,
    cs0,
    layout::{
        ANCHOR_SECTOR, Anchor, ExtentAd, FileSet, LbAddr, LogicalVolume, Partition, PrimaryVolume,
        TAG_ANCHOR, TAG_FILE_SET, TAG_LOGICAL_VOLUME, TAG_PARTITION, TAG_POINTER, TAG_PRIMARY,
        TAG_TERMINATING,
    },
};
use crate::Limits;
use neat_content::{Error, FieldReader, ReadAt, Result, read_vec};
use zerocopy::FromBytes;

/// Descriptors read from one sequence.
const MAX_DESCRIPTORS: u64 = 256;
/// Partition maps of one logical volume.
const MAX_MAPS: u32 = 16;
/// Block sizes tried, the usual one of discs first.
const BLOCK_SIZES: [u64; 4] = [2048, 512, 1024, 4096];

/// An open volume.
pub(crate) struct Volume<R> {
    pub reader: R,
    pub block_size: u64,
    pub revision: u16,
    pub label: String,
    pub maps: Vec<Map>,
    pub root: LbAddr,
    /// Where the descriptors of the volume are.
    pub frame: Frame,
}

/// Where the descriptors of a volume are.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Frame {
    /// Position of the anchor in bytes.
    pub anchor_at: u64,
    /// Main and reserve sequence.
    pub sequences: [ExtentAd; 2],
    /// Integrity descriptors.
    pub integrity: ExtentAd,
}

/// Whether the volume recognition sequence (ECMA-167 2/8) announces UDF.
pub(crate) fn is_announced<R: ReadAt + ?Sized>(reader: &R) -> Result<bool> {
    let mut offset = 32 * 1024;
    for _ in 0..64 {
        let mut identifier = [0; 6];
        if offset + 2048 > reader.len() {
            return Ok(false);
        }
        reader.read_exact_at(offset, &mut identifier)?;
        match &identifier[1..] {
            b"NSR02" | b"NSR03" => return Ok(true),
            // With blocks of 4,096 bytes every second of these sectors is empty (ECMA-167 2/8.4).
            b"BEA01" | b"CD001" | b"BOOT2" | b"CDW02" | b"\0\0\0\0\0" => {}
            _ => return Ok(false),
        }
        offset += 2048;
    }
    Ok(false)
}

impl<R: ReadAt> Volume<R> {
    /// Opens the volume; fails if no anchor is where one must be (UDF 2.2.3: at 256, N or N − 256).
    pub(crate) fn open(reader: R) -> Result<Self> {
        let mut first_error = None;
        for block_size in BLOCK_SIZES {
            let sectors = reader.len() / block_size;
            let last = sectors.saturating_sub(1);
            for sector in [ANCHOR_SECTOR, last, last.saturating_sub(256), sectors.saturating_sub(256)] {
                let Ok(anchor) = read_anchor(&reader, sector, block_size) else { continue };
                for sequence in [anchor.main, anchor.reserve] {
                    match Opening::read(&reader, sequence, block_size)
                        .and_then(|opening| opening.finish(&reader, block_size))
                    {
                        Ok(parts) => {
                            let frame = Frame {
                                anchor_at: sector * block_size,
                                sequences: [anchor.main, anchor.reserve],
                                integrity: parts.integrity,
                            };
                            return Ok(parts.into_volume(reader, block_size, frame));
                        }
                        Err(error) => first_error = first_error.or(Some(error)),
                    }
                }
            }
        }
        Err(first_error.unwrap_or_else(|| {
            Error::bad_field(
                "AnchorVolumeDescriptorPointer",
                "tag",
                ANCHOR_SECTOR * 2048,
                "an anchor at sector 256, N or N − 256",
                "none",
            )
        }))
    }
}

fn read_anchor<R: ReadAt>(reader: &R, sector: u64, block_size: u64) -> Result<Anchor> {
    let at = sector * block_size;
    let bytes = read_vec(reader, at, 512, 512, "anchor")?;
    let tag = check_tag(&bytes, at, Some(TAG_ANCHOR))?;
    // A tag in the wrong place is left over from something else, such as a disc image inside this one.
    if u64::from(tag.location.get()) != sector {
        return Err(Error::bad_field("Tag", "location", at + 12, sector.to_string(), tag.location.get()));
    }
    Anchor::read_from_bytes(&bytes)
        .map_err(|_| Error::bad_field("Anchor", "size", at, "512 bytes", bytes.len()))
}

/// What a volume descriptor sequence holds.
#[derive(Default)]
struct Opening {
    primary: Option<(u32, PrimaryVolume)>,
    partitions: Vec<Partition>,
    logical: Option<(u32, LogicalVolume, Vec<u8>, u64)>,
}

struct Parts {
    revision: u16,
    label: String,
    maps: Vec<Map>,
    root: LbAddr,
    integrity: ExtentAd,
}

impl Parts {
    fn into_volume<R>(self, reader: R, block_size: u64, frame: Frame) -> Volume<R> {
        let Self { revision, label, maps, root, .. } = self;
        Volume { reader, block_size, revision, label, maps, root, frame }
    }
}

impl Opening {
    fn read<R: ReadAt>(reader: &R, sequence: ExtentAd, block_size: u64) -> Result<Self> {
        let mut opening = Self::default();
        let (mut sector, mut left) =
            (u64::from(sequence.location.get()), u64::from(sequence.length.get()) / block_size);
        let mut hops = 0;
        while left > 0 {
            hops += 1;
            let at = sector * block_size;
            if hops > MAX_DESCRIPTORS {
                return Err(Error::Loop { what: "volume descriptor sequence".into(), offset: at });
            }
            let bytes = read_vec(reader, at, block_size, 4096, "volume descriptor")?;
            // An unrecorded sector ends the sequence (ECMA-167 3/8.4.2).
            if bytes[..16] == [0; 16] {
                break;
            }
            let tag = check_tag(&bytes, at, None)?;
            let number = u32::from_le_bytes([bytes[16], bytes[17], bytes[18], bytes[19]]);
            match tag.identifier.get() {
                TAG_PRIMARY => {
                    if let Ok((primary, _)) = PrimaryVolume::read_from_prefix(&bytes)
                        && opening.primary.as_ref().is_none_or(|(old, _)| number >= *old)
                    {
                        opening.primary = Some((number, primary));
                    }
                }
                TAG_PARTITION => opening
                    .partitions
                    .extend(Partition::read_from_prefix(&bytes).map(|(partition, _)| partition)),
                TAG_LOGICAL_VOLUME => {
                    if let Ok((logical, rest)) = LogicalVolume::read_from_prefix(&bytes)
                        && opening.logical.as_ref().is_none_or(|(old, ..)| number >= *old)
                    {
                        opening.logical = Some((number, logical, rest.to_vec(), at + 440));
                    }
                }
                TAG_POINTER => {
                    let mut fields = FieldReader::new(&bytes[20..28], at + 20, "VolumeDescriptorPointer");
                    (left, sector) = (u64::from(fields.u32_le()?) / block_size, u64::from(fields.u32_le()?));
                    continue;
                }
                TAG_TERMINATING => break,
                _ => {}
            }
            sector += 1;
            left -= 1;
        }
        Ok(opening)
    }

    fn finish<R: ReadAt>(self, reader: &R, block_size: u64) -> Result<Parts> {
        let missing =
            |what: &'static str| Error::bad_field("VolumeDescriptorSequence", what, 0, "one", "none");
        let (_, logical, map_bytes, maps_at) =
            self.logical.ok_or_else(|| missing("logical volume descriptor"))?;
        if u64::from(logical.logical_block_size.get()) != block_size {
            return Err(Error::bad_field(
                "LogicalVolume",
                "logical_block_size",
                maps_at - 440 + 212,
                block_size.to_string(),
                logical.logical_block_size.get(),
            ));
        }
        let maps = read_maps(reader, &logical, &map_bytes, maps_at, &self.partitions, block_size)?;
        let file_set_address = logical.contents_use.location;
        let at = locate(&maps, block_size, file_set_address, 512, maps_at - 440 + 248, reader.len())?;
        let bytes = read_vec(reader, at, 512, 512, "file set descriptor")?;
        check_tag(&bytes, at, Some(TAG_FILE_SET))?;
        let file_set = FileSet::read_from_bytes(&bytes).map_err(|_| missing("file set descriptor"))?;
        let mut label = cs0::decode_dstring(&logical.logical_volume_identifier);
        if label.is_empty() {
            label = self
                .primary
                .as_ref()
                .map(|(_, primary)| cs0::decode_dstring(&primary.volume_identifier))
                .unwrap_or_default();
        }
        Ok(Parts {
            revision: u16::from_le_bytes([logical.domain.suffix[0], logical.domain.suffix[1]]),
            label,
            maps,
            root: file_set.root.location,
            integrity: logical.integrity_sequence,
        })
    }
}

fn read_maps<R: ReadAt>(
    reader: &R,
    logical: &LogicalVolume,
    bytes: &[u8],
    at: u64,
    partitions: &[Partition],
    block_size: u64,
) -> Result<Vec<Map>> {
    let count = logical.partition_maps.get();
    if count > MAX_MAPS {
        let (limit, found) = (u64::from(MAX_MAPS), u64::from(count));
        return Err(Error::Limit { what: "number of partition maps".into(), offset: at, limit, found });
    }
    let physical = |number: u16, at: u64| {
        let partition = partitions.iter().find(|partition| partition.number.get() == number);
        partition
            .map(|partition| Map::Physical {
                start: partition.start.get().into(),
                blocks: partition.length.get().into(),
            })
            .ok_or_else(|| {
                Error::bad_field(
                    "PartitionMap",
                    "partition_number",
                    at,
                    "the number of a partition descriptor",
                    number,
                )
            })
    };
    let mut fields = FieldReader::new(bytes, at, "PartitionMap");
    let mut maps: Vec<Map> = Vec::new();
    for _ in 0..count {
        let at = fields.offset();
        let (kind, len) = (fields.u8()?, fields.u8()?);
        let body = fields.take(usize::from(len).saturating_sub(2))?;
        let mut body = FieldReader::new(body, at + 2, "PartitionMap");
        match kind {
            1 => {
                body.skip(2)?;
                maps.push(physical(body.u16_le()?, at + 4)?);
            }
            2 => {
                body.skip(3)?;
                let identifier = body.take(23)?;
                if !identifier.starts_with(b"*UDF Metadata Partition") {
                    let name = String::from_utf8_lossy(identifier);
                    return Err(Error::Unsupported {
                        what: format!("the partition map {}", name.trim_end_matches('\0')),
                        offset: at,
                    });
                }
                body.skip(8 + 2)?;
                let base = physical(body.u16_le()?, at + 38)?;
                let (main, mirror) = (body.u32_le()?, body.u32_le()?);
                let extents = metadata_extents(reader, &base, main, block_size, at).or_else(|error| {
                    metadata_extents(reader, &base, mirror, block_size, at).map_err(|_| error)
                })?;
                maps.push(Map::Metadata { extents });
            }
            _ => return Err(Error::bad_field("PartitionMap", "map_type", at, "1 or 2", kind)),
        }
    }
    Ok(maps)
}

fn metadata_extents<R: ReadAt>(
    reader: &R,
    base: &Map,
    block: u32,
    block_size: u64,
    at: u64,
) -> Result<Vec<Extent>> {
    let address = LbAddr { block: block.into(), partition: 0.into() };
    let maps = std::slice::from_ref(base);
    let file = IcbFile::read(reader, maps, block_size, address, at)?;
    file.extents(reader, maps, block_size, Limits::default().extents)
}

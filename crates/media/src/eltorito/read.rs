//! Reading boot catalogs.

use super::{
    layout::{BOOTABLE, EXTENSION, LAST_SECTION, MORE_SECTIONS, RawEntry, SectionHeader, ValidationEntry},
    patch,
};
use crate::units::Sector;
use crate::{BootCatalog, BootEntry, BootImage, Emulation, Platform, disk, fat};
use neat_content::{Content, Error, ReadAt, Result, Source, Tree, read_vec};
use std::{collections::HashMap, sync::Arc};
use zerocopy::FromBytes;

/// Bytes of a catalog that are read: more entries than any firmware looks at.
const CATALOG_LEN: u64 = 2048 * 4;

/// Reads the catalog in sector `location`, whose number stands at byte `at`. `tree` tells which files the images
/// are.
pub(crate) fn read(source: &Arc<Source>, location: u32, at: u64, tree: &Tree) -> Result<BootCatalog> {
    let offset = u64::from(location) * 2048;
    let available = source.len().saturating_sub(offset).min(CATALOG_LEN);
    if available < 64 {
        return Err(Error::bad_field(
            "BootRecord",
            "boot_catalog",
            at,
            format!("a sector below {}", source.len() / 2048),
            location,
        ));
    }
    let bytes = read_vec(source, offset, available, CATALOG_LEN, "boot catalog")?;
    let files = file_offsets(source, tree);
    let (validation, rest) = ValidationEntry::read_from_prefix(&bytes).map_err(|_| short(offset))?;
    let bad = |field, at: u64, expected: &str, found: u16| {
        Error::bad_field("ValidationEntry", field, offset + at, expected, format!("{found:#x}"))
    };
    if validation.header_id != 1 {
        return Err(bad("header_id", 0, "1", validation.header_id.into()));
    }
    if validation.key != [0x55, 0xAA] {
        return Err(bad("key", 30, "55 AA", u16::from_be_bytes(validation.key)));
    }
    let sum = bytes[..32]
        .chunks_exact(2)
        .fold(0_u16, |sum, word| sum.wrapping_add(u16::from_le_bytes([word[0], word[1]])));
    if sum != 0 {
        return Err(bad("checksum", 28, "words that add up to 0", sum));
    }
    let id = validation.id.split(|byte| *byte == 0).next().unwrap_or_default();
    let mut catalog = BootCatalog {
        entries: Vec::new(),
        id: String::from_utf8_lossy(id).trim_end().to_owned(),
        catalog_path: files.get(&offset).cloned(),
    };
    let mut entries = rest.chunks_exact(32).zip((offset + 32..).step_by(32));
    let Some((default, default_at)) = entries.next() else { return Ok(catalog) };
    catalog.entries.extend(entry(source, default, default_at, Platform(validation.platform), &files)?);
    while let Some((bytes, _)) = entries.next() {
        let Ok(header) = SectionHeader::read_from_bytes(bytes) else { break };
        if ![MORE_SECTIONS, LAST_SECTION].contains(&header.indicator) {
            break;
        }
        let mut wanted = header.entries.get();
        while wanted > 0 {
            let Some((bytes, at)) = entries.next() else { return Err(short(offset)) };
            if bytes[0] == EXTENSION {
                continue;
            }
            wanted -= 1;
            catalog.entries.extend(entry(source, bytes, at, Platform(header.platform), &files)?);
        }
        if header.indicator == LAST_SECTION {
            break;
        }
    }
    Ok(catalog)
}

fn short(offset: u64) -> Error {
    Error::Truncated { what: "boot catalog".into(), offset, wanted: CATALOG_LEN + 32, available: CATALOG_LEN }
}

/// Where each file begins, to find the one that a boot image is. Of files that share their content the first
/// counts.
fn file_offsets(source: &Arc<Source>, tree: &Tree) -> HashMap<u64, String> {
    let mut offsets = HashMap::new();
    for step in tree.walk() {
        if let Some(offset) = tree.node(step.id).content().and_then(|content| content.offset_in(source)) {
            offsets.entry(offset).or_insert(step.path);
        }
    }
    offsets
}

fn entry(
    source: &Arc<Source>,
    bytes: &[u8],
    at: u64,
    platform: Platform,
    files: &HashMap<u64, String>,
) -> Result<Option<BootEntry>> {
    let Ok(raw) = RawEntry::read_from_bytes(bytes) else { return Ok(None) };
    let location = raw.load_rba.get();
    // Some writers leave an empty entry where a disc has nothing for the default platform.
    if raw.indicator != BOOTABLE && location == 0 {
        return Ok(None);
    }
    let emulation = Emulation::from_code(raw.media_type)
        .ok_or_else(|| Error::bad_field("BootEntry", "media_type", at + 1, "0 to 4", raw.media_type))?;
    let offset = u64::from(location) * 2048;
    if offset >= source.len() {
        return Err(Error::bad_field(
            "BootEntry",
            "load_rba",
            at + 8,
            format!("a sector below {}", source.len() / 2048),
            location,
        ));
    }
    let load_sectors = raw.sector_count.get();
    let rest = Content::from_source(Arc::clone(source)).part(offset, source.len() - offset)?;
    let known = files.get(&offset);
    let patch = patch::detect(&rest, Sector(location))?;
    let image = match known {
        Some(path) => BootImage::File(path.clone()),
        None => BootImage::Hidden(
            rest.part(0, image_len(&rest, emulation, load_sectors, patch.boot_info_table)?.min(rest.len()))?,
        ),
    };
    Ok(Some(BootEntry {
        platform,
        bootable: raw.indicator == BOOTABLE,
        emulation,
        load_segment: raw.load_segment.get(),
        system_type: raw.system_type,
        load_sectors,
        image,
        location: Some(location),
        patch,
    }))
}

/// Length of an image that no file shows: what it says of itself, else what is loaded.
fn image_len(rest: &Content, emulation: Emulation, load_sectors: u16, boot_info_table: bool) -> Result<u64> {
    let loaded = (u64::from(load_sectors) * 512).max(2048);
    if let Some(len) = emulation.floppy_len() {
        return Ok(len);
    }
    if emulation == Emulation::HardDisk {
        return Ok(disk::mbr_extent(rest)?.unwrap_or(loaded).max(loaded));
    }
    if boot_info_table {
        return Ok(patch::recorded_len(rest)?.max(loaded));
    }
    Ok(fat::read::volume_len(rest)?.unwrap_or(0).max(loaded))
}

//! Making boot catalogs.

use super::layout::{BOOTABLE, LAST_SECTION, MORE_SECTIONS, RawEntry, SectionHeader, ValidationEntry};
use crate::{BootCatalog, BootEntry, units::Sector};
use neat_content::{Error, Result};
use zerocopy::IntoBytes;

/// The catalog's sector. `location` gives each entry's first sector.
pub(crate) fn catalog(catalog: &BootCatalog, location: &dyn Fn(usize) -> Sector) -> Result<Vec<u8>> {
    let Some(first) = catalog.entries.first() else {
        return Err(Error::request("a boot catalog needs an entry", "give a boot image"));
    };
    let mut id = [0; 24];
    let text = catalog.id.as_bytes();
    let len = text.len().min(id.len());
    id[..len].copy_from_slice(&text[..len]);
    let mut validation = ValidationEntry {
        header_id: 1,
        platform: first.platform.0,
        reserved: 0.into(),
        id,
        checksum: 0.into(),
        key: [0x55, 0xAA],
    };
    let sum = validation
        .as_bytes()
        .chunks_exact(2)
        .fold(0_u16, |sum, word| sum.wrapping_add(u16::from_le_bytes([word[0], word[1]])));
    validation.checksum = sum.wrapping_neg().into();
    let mut bytes = validation.as_bytes().to_vec();
    bytes.extend(raw(first, location(0)).as_bytes());
    let others: Vec<(usize, &BootEntry)> = catalog.entries.iter().enumerate().skip(1).collect();
    let sections: Vec<&[(usize, &BootEntry)]> =
        others.chunk_by(|(_, a), (_, b)| a.platform == b.platform).collect();
    for (number, section) in sections.iter().enumerate() {
        let indicator = if number + 1 == sections.len() { LAST_SECTION } else { MORE_SECTIONS };
        let header = SectionHeader {
            indicator,
            platform: section[0].1.platform.0,
            entries: (section.len() as u16).into(),
            id: [0; 28],
        };
        bytes.extend(header.as_bytes());
        for (index, entry) in *section {
            bytes.extend(raw(entry, location(*index)).as_bytes());
        }
    }
    if bytes.len() > 2048 {
        return Err(Error::Limit {
            what: "bytes of the boot catalog".into(),
            offset: 0,
            limit: 2048,
            found: bytes.len() as u64,
        });
    }
    bytes.resize(2048, 0);
    Ok(bytes)
}

fn raw(entry: &BootEntry, location: Sector) -> RawEntry {
    RawEntry {
        indicator: if entry.bootable { BOOTABLE } else { 0 },
        media_type: entry.emulation.code(),
        load_segment: entry.load_segment.into(),
        system_type: entry.system_type,
        unused: 0,
        sector_count: entry.load_sectors.into(),
        load_rba: location.0.into(),
        rest: [0; 20],
    }
}

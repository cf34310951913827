//! The first sector: how the volume is laid out.

use neat_content::{Content, Error, ReadAt, Result};

/// Length in bytes of the part of the first sector that is read.
const SECTOR: usize = 512;
/// Largest cluster that the file system has, in bytes.
const LARGEST_CLUSTER: u64 = 2 << 20;
/// Sizes of records and index blocks that are followed, in bytes.
const RECORD_SIZES: std::ops::RangeInclusive<u64> = 512..=65_536;

/// How a volume is laid out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Geometry {
    /// Bytes of a sector.
    pub sector: u32,
    /// Bytes of a cluster.
    pub cluster: u64,
    /// Number of clusters.
    pub clusters: u64,
    /// First cluster of the file table.
    pub table: u64,
    /// First cluster of the copy of its first records.
    pub mirror: u64,
    /// Bytes of a record of the file table.
    pub record: u64,
    /// Bytes of a block of a folder's index.
    pub index_block: u64,
    /// The volume's number.
    pub serial: u64,
}

/// Whether a volume begins as one of this file system does.
pub fn is_ntfs(start: &[u8]) -> bool {
    start.get(3..11) == Some(b"NTFS    ")
}

/// Whether a volume begins as one does that is encrypted as a whole.
pub fn is_encrypted(start: &[u8]) -> bool {
    start.get(3..11) == Some(b"-FVE-FS-")
}

/// Reads the first sector of `volume`, or its copy in the last one where the first is damaged.
pub(crate) fn read(volume: &Content) -> Result<Geometry> {
    let mut start = [0; SECTOR];
    volume.read_exact_at(0, &mut start)?;
    if is_encrypted(&start) {
        return Err(Error::request(
            "the volume is encrypted as a whole",
            "switch the encryption off in the system it belongs to and wait until it has ended",
        ));
    }
    let first = parse(&start, 0);
    let Err(error) = first else { return first };
    // Another file system is not looked behind.
    if !is_ntfs(&start) && start.iter().any(|byte| *byte != 0) {
        return Err(error);
    }
    // The copy lies in the last sector, which is that of the file system or, older, the middle one.
    let at = volume.len().saturating_sub(SECTOR as u64);
    volume.read_exact_at(at, &mut start)?;
    parse(&start, at).map_err(|_| error)
}

fn parse(sector: &[u8; SECTOR], at: u64) -> Result<Geometry> {
    let bad = |field: &'static str, offset: u64, expected: &str, found: String| {
        Error::bad_field("BootSector", field, at + offset, expected, found)
    };
    let number = |offset: usize, len: usize| {
        sector[offset..offset + len].iter().rev().fold(0_u64, |number, byte| number << 8 | u64::from(*byte))
    };
    if !is_ntfs(sector) {
        return Err(bad("name", 3, "\"NTFS    \"", format!("{:?}", String::from_utf8_lossy(&sector[3..11]))));
    }
    let bytes = number(0x0B, 2);
    if !bytes.is_power_of_two() || !(256..=4096).contains(&bytes) {
        return Err(bad("sector size", 0x0B, "256 to 4096, a power of two", bytes.to_string()));
    }
    // Above 128 the byte is a negative power of two.
    let per_cluster = match number(0x0D, 1) {
        few @ 1..=128 => few,
        power @ 244..=255 => 1 << (256 - power),
        other => return Err(bad("sectors of a cluster", 0x0D, "a power of two", other.to_string())),
    };
    let cluster = bytes * per_cluster;
    if !per_cluster.is_power_of_two() || cluster > LARGEST_CLUSTER {
        return Err(bad("cluster size", 0x0D, "at most 2 MiB, a power of two", cluster.to_string()));
    }
    let clusters = number(0x28, 8) / per_cluster;
    if clusters == 0 || clusters.checked_mul(cluster).is_none_or(|all| all > 1 << 62) {
        return Err(bad(
            "number of sectors",
            0x28,
            "a volume that there can be",
            number(0x28, 8).to_string(),
        ));
    }
    let unit = |field: &'static str, offset: usize| {
        let size = match sector[offset] as i8 {
            count @ 1.. => cluster.checked_mul(count as u64),
            power @ -31..=-1 => Some(1 << -power),
            _ => None,
        };
        size.filter(|size| RECORD_SIZES.contains(size) && size.is_power_of_two())
            .ok_or_else(|| bad(field, offset as u64, "512 to 65536 bytes", format!("{:#x}", sector[offset])))
    };
    let place = |field: &'static str, offset: usize| {
        let first = number(offset, 8);
        if first < clusters {
            return Ok(first);
        }
        Err(bad(field, offset as u64, "a cluster of the volume", first.to_string()))
    };
    Ok(Geometry {
        sector: bytes as u32,
        cluster,
        clusters,
        table: place("file table", 0x30)?,
        mirror: number(0x38, 8),
        record: unit("record size", 0x40)?,
        index_block: unit("index block size", 0x44)?,
        serial: number(0x48, 8),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sector() -> [u8; SECTOR] {
        let mut sector = [0; SECTOR];
        sector[3..11].copy_from_slice(b"NTFS    ");
        sector[0x0B..0x0D].copy_from_slice(&512_u16.to_le_bytes());
        sector[0x0D] = 8;
        sector[0x28..0x30].copy_from_slice(&800_u64.to_le_bytes());
        sector[0x30] = 4;
        sector[0x40] = 0xF6;
        sector[0x44] = 1;
        sector
    }

    #[test]
    fn sizes_are_counts_or_powers() {
        let read = parse(&sector(), 0).unwrap();
        assert_eq!((read.cluster, read.clusters, read.record, read.index_block), (4096, 100, 1024, 4096));
        let mut large = sector();
        large[0x0D] = 0xF4;
        large[0x28..0x30].copy_from_slice(&(4096 * 100_u64).to_le_bytes());
        large[0x44] = 0xF4;
        let read = parse(&large, 0).unwrap();
        assert_eq!((read.cluster, read.clusters, read.index_block), (2 << 20, 100, 4096));
    }

    #[test]
    fn what_cannot_be_is_told_with_its_place() {
        for (at, byte, place) in [
            (0x0B, 1, "0xb"),
            (0x0D, 3, "0xd"),
            (0x0D, 0, "0xd"),
            (0x28, 1, "0x30"),
            (0x31, 1, "0x30"),
            (0x40, 0, "0x40"),
        ] {
            let mut bad = sector();
            bad[at] = byte;
            if at == 0x28 {
                bad[0x29] = 0;
                bad[0x28] = 8;
            }
            let error = parse(&bad, 0).unwrap_err().to_string();
            assert!(error.contains(place), "{at:#x}: {error}");
        }
    }
}

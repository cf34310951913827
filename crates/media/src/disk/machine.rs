//! Partition tables of machines' disks: with numbers, logical partitions, blocks of 4096 bytes.

use super::{
    layout::{BLOCK, Mbr, TYPE_PROTECTIVE},
    read::{mbr_kind, read_gpt, read_mbr},
};
use neat_content::{Error, ReadAt, Result, read_vec};
use zerocopy::FromBytes;

/// Kinds of MBR partitions that hold others.
const EXTENDED: [u8; 3] = [0x05, 0x0F, 0x85];
/// Most logical partitions.
const MOST_LOGICAL: usize = 128;

/// A partition of a machine's disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MachinePartition {
    /// Its number: of a GPT the place of its entry, of an MBR 1 to 4, logical ones from 5 on.
    pub number: u32,
    /// What kind the table says it is, for people.
    pub kind: String,
    /// Name, where the table has one.
    pub name: String,
    /// First byte.
    pub start: u64,
    /// Number of bytes.
    pub len: u64,
    /// Whether BIOS boot code is told to start it.
    pub active: bool,
}

/// The partition table of a machine's disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MachineTable {
    /// Whether it is a GPT; else an MBR.
    pub gpt: bool,
    /// Bytes of a block, as far as the table tells.
    pub block: u64,
    /// The partitions, by number.
    pub partitions: Vec<MachinePartition>,
}

/// Reads the table at the start of a disk; nothing where there is none. A GPT whose checksums are wrong is an error.
///
/// # Errors
/// `Corrupt` with the field and the offset, `Io`.
pub fn read_machine<R: ReadAt + ?Sized>(reader: &R) -> Result<Option<MachineTable>> {
    let Some(mbr) = read_mbr(reader)? else { return Ok(None) };
    if mbr.records.iter().any(|record| record.kind == TYPE_PROTECTIVE) {
        // Where the disk's blocks are larger, the header is in the second of those.
        for block in [BLOCK, 4096] {
            if let Some(found) = read_gpt(reader, block)? {
                let partitions = found
                    .into_iter()
                    .map(|(number, own)| MachinePartition {
                        number,
                        kind: own.kind,
                        name: own.name,
                        start: own.start,
                        len: own.len,
                        active: own.active,
                    })
                    .collect();
                return Ok(Some(MachineTable { gpt: true, block, partitions }));
            }
        }
    }
    let mut partitions = Vec::new();
    for (number, record) in (1..).zip(&mbr.records) {
        let (start, count) = (record.start.get(), record.count.get());
        // A file system's own first sector may have numbers here that say nothing.
        if count == 0 || record.kind == 0 || !matches!(record.status, 0 | 0x80) || start == 0 {
            continue;
        }
        if EXTENDED.contains(&record.kind) {
            logical(reader, u64::from(start), &mut partitions)?;
        } else {
            partitions.push(MachinePartition {
                number,
                kind: mbr_kind(record.kind),
                name: String::new(),
                start: u64::from(start) * BLOCK,
                len: u64::from(count) * BLOCK,
                active: record.status == 0x80,
            });
        }
    }
    partitions.sort_by_key(|own| own.number);
    Ok((!partitions.is_empty()).then_some(MachineTable { gpt: false, block: BLOCK, partitions }))
}

/// Follows the chain of tables in an extended partition, of which each has a partition and the place of the next.
fn logical<R: ReadAt + ?Sized>(reader: &R, base: u64, found: &mut Vec<MachinePartition>) -> Result<()> {
    let mut at = base;
    for number in 5..5 + MOST_LOGICAL as u32 {
        let bytes = read_vec(reader, at * BLOCK, BLOCK, BLOCK, "table of a logical partition")?;
        let Some(table) = Mbr::read_from_bytes(&bytes).ok().filter(|own| own.signature == [0x55, 0xAA])
        else {
            return Err(Error::bad_field(
                "ExtendedTable",
                "signature",
                at * BLOCK + 510,
                "0x55 0xAA",
                "another",
            ));
        };
        let [own, next, ..] = table.records;
        if own.count.get() > 0 && own.kind != 0 {
            found.push(MachinePartition {
                number,
                kind: mbr_kind(own.kind),
                name: String::new(),
                start: (at + u64::from(own.start.get())) * BLOCK,
                len: u64::from(own.count.get()) * BLOCK,
                active: own.status == 0x80,
            });
        }
        if next.count.get() == 0 || !EXTENDED.contains(&next.kind) {
            return Ok(());
        }
        let following = base + u64::from(next.start.get());
        // Each lies behind the one before it, so that the chain ends.
        if following <= at {
            return Err(Error::Loop { what: "chain of logical partitions".into(), offset: at * BLOCK });
        }
        at = following;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn record(bytes: &mut [u8], at: usize, kind: u8, start: u32, count: u32) {
        bytes[at + 4] = kind;
        bytes[at + 8..at + 12].copy_from_slice(&start.to_le_bytes());
        bytes[at + 12..at + 16].copy_from_slice(&count.to_le_bytes());
    }

    fn table(disk: &mut [u8], sector: usize, records: &[(u8, u32, u32)]) {
        for (n, (kind, start, count)) in records.iter().enumerate() {
            record(disk, sector * 512 + 446 + 16 * n, *kind, *start, *count);
        }
        disk[sector * 512 + 510] = 0x55;
        disk[sector * 512 + 511] = 0xAA;
    }

    #[test]
    fn logical_partitions_are_numbered_from_five() {
        let mut disk = vec![0; 512 * 64];
        table(&mut disk, 0, &[(0x07, 1, 4), (0x05, 10, 40)]);
        table(&mut disk, 10, &[(0x07, 1, 4), (0x05, 10, 10)]);
        table(&mut disk, 20, &[(0x83, 2, 5)]);
        let read = read_machine(disk.as_slice()).unwrap().unwrap();
        let found: Vec<(u32, u64, u64)> =
            read.partitions.iter().map(|own| (own.number, own.start / 512, own.len / 512)).collect();
        assert_eq!(found, [(1, 1, 4), (5, 11, 4), (6, 22, 5)]);
        // A chain that leads back ends with an error.
        table(&mut disk, 20, &[(0x83, 2, 5), (0x05, 0, 40)]);
        assert!(matches!(read_machine(disk.as_slice()), Err(Error::Loop { offset: 10240, .. })));
    }
}

//! How large the parts of a FAT file system are, and its reserved sectors.

use super::layout::{Bpb, Bpb32, BpbTail, FatKind, SECTOR};
use super::names::label;
use super::ours;
use crate::units::Cluster;
use zerocopy::{FromZeros, IntoBytes};

/// Reserved sectors of FAT32, at least: boot sector, FSInfo, the copies of both, room for a boot record's second part, and
/// the record of files.
pub(super) const RESERVED_32: u64 = ours::FIRST_SECTOR + ours::SECTORS;
/// Sector of the second part of a boot record.
const RECORD_REST_AT: usize = 12;
/// Where code begins in the boot sector of FAT32, behind its parameters.
const CODE_AT: usize = 90;
/// What stands in the boot sector of every file system that is made here.
pub(super) const OEM_NAME: [u8; 8] = *b"NEATSTK ";

/// Code in the boot sector of a FAT32 file system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BootRecord {
    /// The boot sector (512 bytes), then what goes into the reserved sectors from 12 on.
    pub bytes: Vec<u8>,
}

/// The parts of a file system.
#[derive(Clone, Copy, Debug)]
pub(super) struct Shape {
    pub kind: FatKind,
    pub cluster_len: u64,
    pub clusters: u64,
    /// Sectors before the first table.
    pub reserved: u64,
    /// Sectors of one table.
    pub fat_sectors: u64,
    pub root_entries: u64,
    /// Sectors in all.
    pub total_sectors: u64,
}

/// What the boot sector says besides.
#[derive(Clone, Debug, Default)]
pub(super) struct BootSector<'a> {
    pub label: &'a str,
    pub serial: u32,
    /// Sectors before the file system on the disk.
    pub hidden_sectors: u32,
    pub record: Option<&'a BootRecord>,
    pub root_cluster: Cluster,
}

impl Shape {
    /// First byte of the first table.
    pub(super) const fn fat_start(&self) -> u64 {
        self.reserved * SECTOR
    }

    /// First byte of the root of FAT12 and FAT16.
    pub(super) const fn root_start(&self) -> u64 {
        (self.reserved + 2 * self.fat_sectors) * SECTOR
    }

    /// First byte of cluster 2.
    pub(super) const fn data_start(&self) -> u64 {
        self.root_start() + self.root_entries * 32
    }

    /// The reserved sectors; on FAT32 with FSInfo and the copies.
    pub(super) fn reserved_bytes(&self, boot: &BootSector<'_>, free: u64, next_free: Cluster) -> Vec<u8> {
        let total = self.total_sectors;
        let small_total = u16::try_from(total).unwrap_or(0);
        let is_32 = self.kind == FatKind::Fat32;
        let bpb = Bpb {
            jump: [0xEB, if is_32 { 0x58 } else { 0x3C }, 0x90],
            oem_name: OEM_NAME,
            bytes_per_sector: (SECTOR as u16).into(),
            sectors_per_cluster: (self.cluster_len / SECTOR) as u8,
            reserved_sectors: (self.reserved as u16).into(),
            fat_count: 2,
            root_entries: (self.root_entries as u16).into(),
            total_sectors_16: if is_32 { 0 } else { small_total }.into(),
            media: 0xF8,
            fat_sectors_16: if is_32 { 0 } else { self.fat_sectors as u16 }.into(),
            sectors_per_track: if is_32 { 63 } else { 32 }.into(),
            heads: if is_32 { 255 } else { 64 }.into(),
            hidden_sectors: boot.hidden_sectors.into(),
            total_sectors_32: if is_32 || small_total == 0 { total as u32 } else { 0 }.into(),
        };
        let kind = match self.kind {
            FatKind::Fat12 => *b"FAT12   ",
            FatKind::Fat16 => *b"FAT16   ",
            FatKind::Fat32 => *b"FAT32   ",
        };
        let tail = BpbTail {
            drive: 0x80,
            reserved: 0,
            signature: 0x29,
            serial: boot.serial.into(),
            label: label(if boot.label.is_empty() { "NO NAME" } else { boot.label }),
            kind,
        };
        let mut sector = bpb.as_bytes().to_vec();
        if is_32 {
            let mut block = Bpb32::new_zeroed();
            block.fat_sectors = (self.fat_sectors as u32).into();
            block.root_cluster = boot.root_cluster.0.into();
            block.fs_info = 1.into();
            block.backup_boot = 6.into();
            sector.extend(block.as_bytes());
        }
        sector.extend(tail.as_bytes());
        match boot.record.and_then(|record| record.bytes.get(CODE_AT..512)) {
            Some(code) if is_32 => sector.extend(code),
            _ => {
                // Started by mistake: INT 18h hands over to the next boot device.
                sector.extend([0xCD, 0x18, 0xEB, 0xFE]);
                sector.resize(510, 0);
                sector.extend([0x55, 0xAA]);
            }
        }
        if !is_32 {
            return sector;
        }
        let mut third = vec![0; 512];
        third[510..].copy_from_slice(&[0x55, 0xAA]);
        let front = [sector, fs_info(free, next_free), third].concat();
        let mut sectors = front.clone();
        sectors.resize(6 * 512, 0);
        sectors.extend(front);
        sectors.resize(RECORD_REST_AT * 512, 0);
        sectors.extend(boot.record.and_then(|record| record.bytes.get(512..)).unwrap_or_default());
        sectors.resize((self.reserved * SECTOR) as usize, 0);
        sectors
    }
}

/// The FSInfo sector (section 5).
pub(super) fn fs_info(free: u64, next_free: Cluster) -> Vec<u8> {
    let mut info = vec![0; 512];
    info[..4].copy_from_slice(b"RRaA");
    info[484..488].copy_from_slice(b"rrAa");
    info[488..492].copy_from_slice(&(free as u32).to_le_bytes());
    info[492..496].copy_from_slice(&next_free.0.to_le_bytes());
    info[508..512].copy_from_slice(&[0, 0, 0x55, 0xAA]);
    info
}

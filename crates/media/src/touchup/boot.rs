//! Keeping boot entries right: the boot catalogue, boot-info tables, partition tables.

use super::{SECTOR, draft::Draft};
use crate::units::Sector;
use crate::{
    BootCode, BootEntry, ImagePatch, Platform,
    disk::{
        self,
        layout::{BLOCK, GptEntry, GptHeader, Mbr, TYPE_PROTECTIVE},
    },
    eltorito::{
        self,
        layout::{BOOTABLE, RawEntry},
        patch,
    },
    iso9660::read::read_descriptors,
};
use neat_content::{Content, Error, Meta, Result, Timestamp, Tree, read_vec};
use zerocopy::{FromBytes, IntoBytes};

/// Bytes of a boot catalogue that are looked at.
const CATALOG_LEN: u64 = 2048 * 4;
/// Largest table of partitions, in bytes.
const MAX_ENTRIES_LEN: u64 = 1 << 20;

/// How the disc starts.
pub(super) struct Boot {
    /// First byte of the boot catalogue.
    pub catalog_at: Option<u64>,
    entries: Vec<BootEntry>,
    /// How the code in the first block finds the BIOS boot image.
    pointer_skip: Option<u64>,
}

/// Reads how the disc starts.
pub(super) fn open(draft: &Draft) -> Result<Boot> {
    let source = draft.source();
    let descriptors = read_descriptors(source)?;
    let mut boot = Boot { catalog_at: None, entries: Vec::new(), pointer_skip: None };
    if let Some((sector, at)) = descriptors.boot_catalog {
        boot.catalog_at = Some(u64::from(sector) * SECTOR);
        // Which files the images are is found by their places, so no tree is needed.
        let nothing = Tree::new(Meta::at(Timestamp::default()));
        boot.entries = eltorito::read::read(source, sector, at, &nothing)?.entries;
    }
    let bios =
        boot.entries.iter().find(|entry| entry.platform == Platform::BIOS).and_then(|entry| entry.location);
    // A table that cannot be read is no part of how this disc starts; it stays as it is.
    let table = disk::read(source, bios).ok().flatten();
    boot.pointer_skip = table.and_then(|table| table.boot_code).and_then(|code| code.pointer_skip);
    Ok(boot)
}

impl Boot {
    /// What is worth knowing of a file at byte `offset` that is hidden.
    pub(super) fn mentions(&self, offset: u64) -> Option<String> {
        let platforms: Vec<&str> = self.entries_at(offset).map(|entry| entry.platform.name()).collect();
        (!platforms.is_empty()).then(|| {
            format!(
                "it is a boot image: {} firmware finds it by its place and still starts it",
                platforms.join(" and ")
            )
        })
    }

    fn entries_at(&self, offset: u64) -> impl Iterator<Item = &BootEntry> {
        let is_here =
            move |entry: &&BootEntry| entry.location.is_some_and(|at| u64::from(at) * SECTOR == offset);
        self.entries.iter().filter(is_here)
    }

    /// Content that takes the place of the file at byte `old`, as it goes to byte `new`: a boot image gets the
    /// tables that the old one had.
    pub(super) fn prepared(&self, content: &Content, old: u64, new: u64) -> Result<Content> {
        let tables = self.entries_at(old).fold(ImagePatch::default(), |all, entry| ImagePatch {
            boot_info_table: all.boot_info_table | entry.patch.boot_info_table,
            block_pointer: all.block_pointer | entry.patch.block_pointer,
        });
        patch::apply(content, tables, Sector((new / SECTOR) as u32))
    }

    /// Lets everything that pointed at the file at bytes `old` point at `new`. Says what changed.
    pub(super) fn repoint(&self, draft: &mut Draft, old: (u64, u64), new: (u64, u64)) -> Result<Vec<String>> {
        let mut notes = Vec::new();
        let (Ok(old_sector), Ok(new_sector)) = (u32::try_from(old.0 / SECTOR), u32::try_from(new.0 / SECTOR))
        else {
            return Ok(notes);
        };
        let mut platforms: Vec<&str> = self.entries_at(old.0).map(|entry| entry.platform.name()).collect();
        platforms.dedup();
        if let Some(catalog_at) = self.catalog_at.filter(|_| !platforms.is_empty()) {
            let len = draft.old_len().saturating_sub(catalog_at).min(CATALOG_LEN);
            let catalog = read_vec(draft, catalog_at, len, CATALOG_LEN, "boot catalogue")?;
            for (number, bytes) in catalog.chunks_exact(32).enumerate().skip(1) {
                let Ok(mut entry) = RawEntry::read_from_bytes(bytes) else { continue };
                if ![BOOTABLE, 0].contains(&entry.indicator) || entry.load_rba.get() != old_sector {
                    continue;
                }
                entry.load_rba = new_sector.into();
                // An entry that loads the whole image goes on doing so; one that loads the beginning, too.
                let blocks = |len: u64| u16::try_from(len.div_ceil(BLOCK)).unwrap_or(u16::MAX);
                if entry.sector_count.get() == blocks(old.1) {
                    entry.sector_count = blocks(new.1).into();
                }
                draft.write(catalog_at + number as u64 * 32, entry.as_bytes())?;
            }
            notes.push(format!(
                "boot image for {}: the boot catalogue points at the new one",
                platforms.join(" and ")
            ));
        }
        self.repoint_partitions(draft, old, new, &mut notes)?;
        Ok(notes)
    }

    fn repoint_partitions(
        &self,
        draft: &mut Draft,
        old: (u64, u64),
        new: (u64, u64),
        notes: &mut Vec<String>,
    ) -> Result<()> {
        let Some(mut mbr) = read_mbr(draft)? else { return Ok(()) };
        let (old_block, new_block) = (old.0 / BLOCK, new.0 / BLOCK);
        let count = new.1.div_ceil(BLOCK);
        let mut changed = false;
        let has_bios = self.entries_at(old.0).any(|entry| entry.platform == Platform::BIOS);
        if let Some(skip) = self.pointer_skip.filter(|_| has_bios) {
            let at = BootCode::POINTER_AT;
            mbr.boot_code[at..at + 8].copy_from_slice(&(new_block + skip).to_le_bytes());
            changed = true;
        }
        for record in &mut mbr.records {
            if record.kind != 0
                && record.kind != TYPE_PROTECTIVE
                && u64::from(record.start.get()) == old_block
                && old_block != 0
            {
                let (Ok(start), Ok(count)) = (u32::try_from(new_block), u32::try_from(count)) else {
                    continue;
                };
                (record.start, record.count) = (start.into(), count.into());
                changed = true;
            }
        }
        if changed {
            draft.write(0, mbr.as_bytes())?;
        }
        let Some((mut header, mut entries)) = read_gpt(draft)? else {
            notes.extend(changed.then(|| "the partition table points at the new image".to_owned()));
            return Ok(());
        };
        let size = header.entry_size.get() as usize;
        let mut any = false;
        for bytes in entries.chunks_exact_mut(size) {
            let Ok((entry, _)) = GptEntry::mut_from_prefix(bytes) else { continue };
            if entry.kind != [0; 16] && entry.first_lba.get() == old_block {
                entry.first_lba = new_block.into();
                entry.last_lba = (new_block + count.max(1) - 1).into();
                any = true;
            }
        }
        if any {
            header.entries_crc = crc32fast::hash(&entries).into();
            draft.write(header.entries_lba.get() * BLOCK, &entries)?;
            seal(&mut header);
            draft.write(BLOCK, header.as_bytes())?;
        }
        notes.extend((any || changed).then(|| "the partition table points at the new image".to_owned()));
        Ok(())
    }
}

fn read_mbr(draft: &Draft) -> Result<Option<Mbr>> {
    if draft.old_len() < SECTOR {
        return Ok(None);
    }
    let bytes = read_vec(draft, 0, BLOCK, BLOCK, "master boot record")?;
    Ok(Mbr::read_from_bytes(&bytes).ok().filter(|mbr| {
        mbr.signature == [0x55, 0xAA]
            && mbr.records.iter().any(|record| record.kind != 0 && record.count.get() > 0)
    }))
}

/// The primary header and its entries, if they are sound.
fn read_gpt(draft: &Draft) -> Result<Option<(GptHeader, Vec<u8>)>> {
    if draft.old_len() < SECTOR {
        return Ok(None);
    }
    let bytes = read_vec(draft, BLOCK, BLOCK, BLOCK, "GPT header")?;
    let Ok((header, _)) = GptHeader::read_from_prefix(&bytes) else { return Ok(None) };
    let (count, size) = (u64::from(header.entry_count.get()), u64::from(header.entry_size.get()));
    let mut unsealed = header;
    unsealed.header_crc = 0.into();
    let is_sound = header.signature == *b"EFI PART"
        && header.header_size.get() == 92
        && crc32fast::hash(unsealed.as_bytes()) == header.header_crc.get()
        && (128..=4096).contains(&size)
        && count * size <= MAX_ENTRIES_LEN;
    let Some(at) = header.entries_lba.get().checked_mul(BLOCK).filter(|_| is_sound) else { return Ok(None) };
    let entries = read_vec(draft, at, count * size, MAX_ENTRIES_LEN, "GPT entries")?;
    Ok((crc32fast::hash(&entries) == header.entries_crc.get()).then_some((header, entries)))
}

fn seal(header: &mut GptHeader) {
    header.header_crc = 0.into();
    header.header_crc = crc32fast::hash(header.as_bytes()).into();
}

/// Backup of a GPT for the end of a longer file: the entries and the header's block.
pub(super) type Backup = (Vec<u8>, Vec<u8>);

/// Lets partition tables reach to the new end at byte `len`. Gives the backup of a GPT for it.
pub(super) fn set_len(draft: &mut Draft, len: u64) -> Result<Option<Backup>> {
    let Some(mut mbr) = read_mbr(draft)? else { return Ok(None) };
    let (old_blocks, blocks) = (draft.old_len() / BLOCK, len / BLOCK);
    let source_mbr = {
        let bytes = read_vec(draft.source(), 0, BLOCK, BLOCK, "master boot record")?;
        Mbr::read_from_bytes(&bytes)
            .map_err(|_| Error::bad_field("Mbr", "size", 0, "512 bytes", bytes.len()))?
    };
    for (record, former) in mbr.records.iter_mut().zip(&source_mbr.records) {
        let (start, count) = (u64::from(former.start.get()), u64::from(former.count.get()));
        // A partition around the whole disc, to its end or to the cylinder that its end is rounded to.
        let is_whole = former.kind != 0 && start <= 64 && start + count + 64 >= old_blocks;
        if is_whole && record.start == former.start && start + count < blocks {
            record.count = u32::try_from(blocks - start).unwrap_or(u32::MAX).into();
        }
    }
    draft.write(0, mbr.as_bytes())?;
    let Some((mut header, entries)) = read_gpt(draft)? else { return Ok(None) };
    let entry_blocks = (entries.len() as u64).div_ceil(SECTOR) * (SECTOR / BLOCK);
    let last = blocks - 1;
    // The backup's entries lie in whole sectors before the last one.
    let entries_at = blocks - SECTOR / BLOCK - entry_blocks;
    header.alternate_lba = last.into();
    header.last_usable_lba = (entries_at - 1).into();
    seal(&mut header);
    draft.write(BLOCK, header.as_bytes())?;
    let mut backup =
        GptHeader { my_lba: last.into(), alternate_lba: 1.into(), entries_lba: entries_at.into(), ..header };
    seal(&mut backup);
    let mut block = backup.as_bytes().to_vec();
    block.resize(BLOCK as usize, 0);
    Ok(Some((entries, block)))
}

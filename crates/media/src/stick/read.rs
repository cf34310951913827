//! Reading sticks: a disk, or its image, with a FAT file system.

use crate::{Limits, Media, MediaForm, TreeKind, TreesFound, VolumeIdentity, disk, fat};
use neat_content::{Content, ReadAt, Result, Source, damage_apart};
use std::sync::Arc;

/// Where the file system of a stick lies, in bytes: in its first partition that has one, or the whole disk.
///
/// # Errors
/// `Corrupt` for a partition table or file system that cannot be; `Io`.
pub fn volume_extent(source: &Arc<Source>) -> Result<Option<(u64, u64)>> {
    let whole = Content::from_source(Arc::clone(source));
    let fits = |start: u64, len: u64| -> Result<Option<(u64, u64)>> {
        if start >= whole.len() {
            return Ok(None);
        }
        let part = whole.part(start, len.min(whole.len() - start))?;
        let found = if part.len() < 512 { None } else { fat::read::volume_len(&part)? };
        Ok(found.filter(|found| *found <= part.len()).map(|found| (start, found)))
    };
    // A file system without partitions is a sound boot sector too, so its own words count first.
    if whole.len() >= 512
        && let Some(found) = fits(0, whole.len())?
    {
        return Ok(Some(found));
    }
    let table = damage_apart(disk::read(source, None))?.unwrap_or(None);
    for partition in table.iter().flat_map(|table| &table.partitions) {
        if let Some(found) = fits(partition.start, partition.len)? {
            return Ok(Some(found));
        }
    }
    Ok(None)
}

/// Compares the copies of the file allocation table; says where they differ.
pub(crate) fn check_tables(source: &Arc<Source>) -> Result<Vec<String>> {
    let Some((start, len)) = volume_extent(source)? else { return Ok(Vec::new()) };
    fat::read::compare_tables(&Content::from_source(Arc::clone(source)).part(start, len)?, start)
}

/// Opens a stick; `None` when there is no FAT file system on it.
pub(crate) fn open(source: &Arc<Source>, limits: &Limits) -> Result<Option<Media>> {
    let Some((start, len)) = volume_extent(source)? else { return Ok(None) };
    let volume = Content::from_source(Arc::clone(source)).part(start, len)?;
    let (tree, label) = fat::read::read_with(&volume, limits)?;
    let mut warnings = Vec::new();
    let partitions = damage_apart(disk::read(source, None))?.unwrap_or_else(|error| {
        warnings.push(format!("the partition table is not used: {error}"));
        None
    });
    let volume = VolumeIdentity { label, ..VolumeIdentity::default() };
    let trees = TreesFound { chosen: TreeKind::Fat, ..TreesFound::default() };
    let partitions = partitions.filter(|_| start > 0);
    Ok(Some(Media {
        form: MediaForm::Stick,
        tree,
        volume,
        trees,
        boot: None,
        partitions,
        size: source.len(),
        warnings,
        private: source.is_private(),
    }))
}

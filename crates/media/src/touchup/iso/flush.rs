//! Writing changed directories, and what leads to them.

use super::super::directory::{Directory, fixed, identifier, is_special, set_extent};
use super::super::draft::{Draft, Fresh};
use super::super::tree::{Format, Key};
use super::super::{SECTOR, susp, tables};
use super::{IsoTree, MAX_DIRECTORY_LEN};
use crate::TreeKind;
use crate::iso9660::layout::{BothU32, FLAG_DIRECTORY, MAX_DIRECTORIES};
use crate::iso9660::read::next_record;
use crate::units::BlockNumber;
use neat_content::{Error, Result, read_vec};
use zerocopy::IntoBytes;

impl IsoTree {
    /// Writes what changed into the draft.
    pub(super) fn write_directories(&mut self, draft: &mut Draft) -> Result<()> {
        // A directory that moves changes its parent, which may have to move for that.
        while let Some(key) = self.next_to_move(draft) {
            for key in self.with_all_below(draft, key)? {
                self.relocate(draft, key)?;
            }
        }
        let mut writes = Vec::new();
        for directory in self.directories.values_mut() {
            let at = directory.location.byte_offset(self.block);
            let bytes = directory.to_bytes();
            for number in directory.changed_sectors() {
                let start = number * SECTOR as usize;
                writes.push((at + start as u64, bytes[start..start + SECTOR as usize].to_vec()));
            }
            directory.is_written(bytes);
        }
        for (at, bytes) in writes {
            draft.write(at, &bytes)?;
        }
        if self.tables_changed { tables::rebuild(self, draft) } else { Ok(()) }
    }

    pub(in crate::touchup) fn next_to_move(&self, draft: &Draft) -> Option<Key> {
        let must_move = |directory: &Directory| {
            let at = self.offset(directory.location);
            if directory.has_grown() {
                return true;
            }
            let changed = if draft.is_fresh(at) { Vec::new() } else { directory.changed_sectors() };
            let is_near = self.at_once.as_ref().is_none_or(|range| {
                changed.iter().all(|number| range.contains(&(at + (*number as u64 + 1) * SECTOR - 1)))
            });
            changed.len() > 1 || !is_near && !directory.is_pinned
        };
        self.directories.iter().find(|(_, directory)| must_move(directory)).map(|(key, _)| *key)
    }

    /// A directory and those below it, each before its own.
    pub(in crate::touchup) fn with_all_below(&mut self, draft: &Draft, key: Key) -> Result<Vec<Key>> {
        let mut keys = vec![key];
        let mut next = 0;
        while let Some(key) = keys.get(next).copied() {
            next += 1;
            for item in self.items(draft, key)?.iter().filter(|item| item.is_folder) {
                keys.push(self.enter(draft, key, item)?);
            }
            if keys.len() > MAX_DIRECTORIES {
                let (limit, found) = (MAX_DIRECTORIES as u64, keys.len() as u64);
                let offset = self.offset(key.0);
                return Err(Error::Limit { what: "number of folders".into(), offset, limit, found });
            }
        }
        Ok(keys)
    }

    /// Gives a directory a new place in fresh space and lets its parent and its children point there.
    pub(in crate::touchup) fn relocate(&mut self, draft: &mut Draft, key: Key) -> Result<()> {
        let location = self.block_of(draft.end())?;
        let directory = self.directory(key)?;
        let (old, len, parent) = (directory.location, directory.len() as u32, directory.parent);
        if directory.is_pinned {
            let what = "a full folder that Rock Ridge shows elsewhere than it lies, or that shows such a one";
            return Err(Error::Unsupported { what: what.into(), offset: self.offset(old) });
        }
        let (block, skip, rock_ridge) = (self.block, self.skip, self.kind == TreeKind::RockRidge);
        let first_area = self.block_of(draft.end() + u64::from(len))?;
        let mut areas = Vec::new();
        let directory = self.directory(key)?;
        for raw in directory.records_mut() {
            if rock_ridge {
                susp::move_along(raw, skip, draft, block, first_area, &mut areas)?;
            }
            match identifier(raw) {
                [0] => set_extent(raw, location, len),
                [1] if parent.is_none() => set_extent(raw, location, len),
                _ => {}
            }
        }
        let bytes = directory.to_bytes();
        directory.move_to(location, bytes.clone());
        draft.append(Fresh::Bytes(bytes), SECTOR);
        draft.append(Fresh::Bytes(areas), SECTOR);
        self.tables_changed = true;
        for child in self.directories.values_mut().filter(|child| child.parent == Some(key)) {
            child.set_parent_extent(location, len);
        }
        let Some(parent) = parent else { return self.set_root(draft, location, len) };
        for raw in self.directory(parent)?.records_mut() {
            let own = fixed(raw);
            if own.flags & FLAG_DIRECTORY != 0 && !is_special(raw) && own.location.little.get() == old.0 {
                set_extent(raw, location, len);
            }
        }
        Ok(())
    }

    pub(in crate::touchup) fn set_root(
        &self,
        draft: &mut Draft,
        location: BlockNumber,
        len: u32,
    ) -> Result<()> {
        for at in &self.descriptors {
            draft.write(at + 156 + 2, BothU32::from(location.0).as_bytes())?;
            draft.write(at + 156 + 10, BothU32::from(len).as_bytes())?;
        }
        Ok(())
    }

    /// Lets the directory at `child` say where its parent is.
    pub(in crate::touchup) fn set_parent(
        &mut self,
        draft: &mut Draft,
        child: BlockNumber,
        location: BlockNumber,
        len: u32,
    ) -> Result<()> {
        let offset = self.offset(child);
        let bytes = read_vec(draft, offset, self.block, SECTOR, "directory")?;
        let own = next_record(&bytes, 0, offset)?.map_or(0, |record| usize::from(record.raw.length));
        if own < bytes.len()
            && let Some(above) = next_record(&bytes, own, offset)?
            && above.identifier == [1]
        {
            draft.write_early(above.offset + 2, BothU32::from(location.0).as_bytes())?;
            draft.write_early(above.offset + 10, BothU32::from(len).as_bytes())?;
        }
        if let Some(known) = self.directories.values_mut().find(|known| known.location == child) {
            known.set_parent_extent(location, len);
        }
        Ok(())
    }

    /// Lets the descriptors say how long the volume is.
    pub(super) fn write_len(&self, draft: &mut Draft, len: u64) -> Result<()> {
        let blocks = self.block_of(len)?;
        for at in &self.descriptors {
            draft.write(at + 80, BothU32::from(blocks.0).as_bytes())?;
        }
        Ok(())
    }

    /// The extents of all directories below the root, in the order of a path table: location, number of the parent
    /// from 1, identifier. Read as they are in the draft.
    pub(in crate::touchup) fn directory_list(
        &self,
        draft: &Draft,
    ) -> Result<Vec<(BlockNumber, u16, Vec<u8>)>> {
        let at = self.descriptors.first().copied().unwrap_or(0);
        let bytes = read_vec(draft, at, SECTOR, SECTOR, "volume descriptor")?;
        let root = fixed(&bytes[156..190]);
        let mut list = vec![(BlockNumber(root.location.little.get()), 1_u16, vec![0])];
        let mut lens = vec![root.data_length.little.get()];
        let mut next = 0;
        while next < list.len() {
            let location = list[next].0;
            let offset = self.offset(location);
            let bytes = read_vec(draft, offset, lens[next].into(), MAX_DIRECTORY_LEN, "directory")?;
            let directory = Directory::parse(bytes, offset, location, None)?;
            for raw in directory.records().filter(|raw| !is_special(raw)) {
                let own = fixed(raw);
                if own.flags & FLAG_DIRECTORY == 0 {
                    continue;
                }
                if list.len() >= MAX_DIRECTORIES {
                    let (limit, found) = (MAX_DIRECTORIES as u64, list.len() as u64 + 1);
                    return Err(Error::Limit { what: "number of folders".into(), offset, limit, found });
                }
                list.push((
                    BlockNumber(own.location.little.get()),
                    next as u16 + 1,
                    identifier(raw).to_vec(),
                ));
                lens.push(own.data_length.little.get());
            }
            next += 1;
        }
        Ok(list)
    }
}

//! A disc as it will be: the file as it is, changed sectors over it, fresh space behind it.

use super::SECTOR;
use neat_content::{Content, Error, ReadAt, Result, Source};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// What lies in fresh space.
#[derive(Debug)]
pub(super) enum Fresh {
    /// Structures, which may still change.
    Bytes(Vec<u8>),
    /// A file's bytes.
    Content(Content),
}

impl Fresh {
    fn len(&self) -> u64 {
        match self {
            Self::Bytes(bytes) => bytes.len() as u64,
            Self::Content(content) => content.len(),
        }
    }
}

/// A run of changed bytes of the file.
pub(super) struct Region {
    /// First byte in the file.
    pub offset: u64,
    /// What was there.
    pub old: Vec<u8>,
    /// What will be there.
    pub new: Vec<u8>,
    /// Whether it only says the way back, so that it may be written before anything changes over.
    pub early: bool,
}

/// The changes to a disc before anything is written.
#[derive(Debug)]
pub(super) struct Draft {
    source: Arc<Source>,
    /// Changed sectors of the file by their number; the last may be shorter.
    changed: BTreeMap<u64, Vec<u8>>,
    /// Those of them that only say the way back.
    early: BTreeSet<u64>,
    /// By position.
    fresh: BTreeMap<u64, Fresh>,
    end: u64,
}

impl Draft {
    pub(super) fn new(source: Arc<Source>) -> Self {
        let end = source.len().next_multiple_of(SECTOR);
        Self { source, changed: BTreeMap::new(), early: BTreeSet::new(), fresh: BTreeMap::new(), end }
    }

    /// Bytes that the file has now.
    pub(super) fn old_len(&self) -> u64 {
        self.source.len()
    }

    /// First byte behind everything, a multiple of the sector size.
    pub(super) const fn end(&self) -> u64 {
        self.end
    }

    pub(super) const fn source(&self) -> &Arc<Source> {
        &self.source
    }

    /// Whether `offset` lies in fresh space, where nothing points yet.
    pub(super) fn is_fresh(&self, offset: u64) -> bool {
        offset >= self.source.len()
    }

    /// What lies in fresh space, in the order of its position.
    pub(super) fn fresh(&self) -> impl Iterator<Item = (u64, &Fresh)> {
        self.fresh.iter().map(|(offset, fresh)| (*offset, fresh))
    }

    /// Gives `fresh` a place at a multiple of `alignment` and says where.
    pub(super) fn append(&mut self, fresh: Fresh, alignment: u64) -> u64 {
        let offset = self.end.next_multiple_of(alignment.max(SECTOR));
        self.end = (offset + fresh.len()).next_multiple_of(SECTOR);
        // Something without bytes has no place of its own, so it must not take another's.
        if fresh.len() > 0 {
            self.fresh.insert(offset, fresh);
        }
        offset
    }

    /// The same as [`Draft::write`] for what only says the way back: its sectors may be written first.
    pub(super) fn write_early(&mut self, offset: u64, bytes: &[u8]) -> Result<()> {
        let sectors = offset / SECTOR..(offset + bytes.len() as u64).div_ceil(SECTOR);
        let new: Vec<u64> = sectors.filter(|number| !self.changed.contains_key(number)).collect();
        let early: BTreeSet<u64> = self.early.iter().copied().chain(new).collect();
        self.write(offset, bytes)?;
        self.early = early;
        Ok(())
    }

    /// Puts `bytes` at `offset`, which is in the file or in structures that were appended.
    pub(super) fn write(&mut self, offset: u64, bytes: &[u8]) -> Result<()> {
        if self.is_fresh(offset) {
            if let Some((start, Fresh::Bytes(piece))) = self.fresh.range_mut(..=offset).next_back() {
                let at = (offset - start) as usize;
                if let Some(slot) = piece.get_mut(at..at + bytes.len()) {
                    slot.copy_from_slice(bytes);
                    return Ok(());
                }
            }
            return Err(Error::bad_field("Draft", "offset", offset, "a place in fresh structures", "none"));
        }
        if offset + bytes.len() as u64 > self.source.len() {
            let (wanted, available) = (bytes.len() as u64, self.source.len() - offset);
            return Err(Error::Truncated { what: "structure".into(), offset, wanted, available });
        }
        let mut done = 0;
        while done < bytes.len() {
            let at = offset + done as u64;
            let (number, start) = (at / SECTOR, (at % SECTOR) as usize);
            self.early.remove(&number);
            let len = SECTOR.min(self.source.len().saturating_sub(number * SECTOR)) as usize;
            if !self.changed.contains_key(&number) {
                let mut old = vec![0; len];
                self.source.read_exact_at(number * SECTOR, &mut old)?;
                self.changed.insert(number, old);
            }
            let step = (len - start).min(bytes.len() - done);
            if let Some(sector) = self.changed.get_mut(&number) {
                sector[start..start + step].copy_from_slice(&bytes[done..done + step]);
            }
            done += step;
        }
        Ok(())
    }

    /// The changed runs of the file in rising order. Sectors whose bytes are the old ones are left out unless `all`.
    pub(super) fn regions(&self, all: bool) -> Result<Vec<Region>> {
        let mut regions: Vec<Region> = Vec::new();
        for (number, new) in &self.changed {
            let offset = number * SECTOR;
            let mut old = vec![0; new.len()];
            self.source.read_exact_at(offset, &mut old)?;
            if !all && old == *new {
                continue;
            }
            let early = self.early.contains(number);
            match regions.last_mut() {
                Some(last) if last.offset + last.old.len() as u64 == offset && last.early == early => {
                    last.old.extend(old);
                    last.new.extend(new);
                }
                _ => regions.push(Region { offset, old, new: new.clone(), early }),
            }
        }
        Ok(regions)
    }

    fn read_fresh(&self, offset: u64, buffer: &mut [u8]) -> Result<()> {
        buffer.fill(0);
        let end = offset + buffer.len() as u64;
        let first = self.fresh.range(..=offset).next_back().map_or(offset, |(start, _)| *start);
        for (start, fresh) in self.fresh.range(first..end) {
            let (from, to) = (offset.max(*start), end.min(start + fresh.len()));
            if from >= to {
                continue;
            }
            let slot = &mut buffer[(from - offset) as usize..(to - offset) as usize];
            match fresh {
                Fresh::Bytes(bytes) => bytes.read_exact_at(from - start, slot)?,
                Fresh::Content(content) => content.read_exact_at(from - start, slot)?,
            }
        }
        Ok(())
    }
}

impl ReadAt for Draft {
    fn len(&self) -> u64 {
        self.end.max(self.source.len())
    }

    fn read_exact_at(&self, offset: u64, buffer: &mut [u8]) -> Result<()> {
        let wanted = buffer.len() as u64;
        let end =
            offset.checked_add(wanted).filter(|end| *end <= self.len()).ok_or_else(|| Error::Truncated {
                what: "disc".into(),
                offset,
                wanted,
                available: self.len().saturating_sub(offset),
            })?;
        let old_len = self.source.len();
        let in_file = old_len.clamp(offset, end) - offset;
        let (front, back) = buffer.split_at_mut(in_file as usize);
        if !front.is_empty() {
            self.source.read_exact_at(offset, front)?;
            for (number, sector) in self.changed.range(offset / SECTOR..(offset + in_file).div_ceil(SECTOR)) {
                let start = number * SECTOR;
                let (from, to) = (offset.max(start), (offset + in_file).min(start + sector.len() as u64));
                front[(from - offset) as usize..(to - offset) as usize]
                    .copy_from_slice(&sector[(from - start) as usize..(to - start) as usize]);
            }
        }
        if back.is_empty() { Ok(()) } else { self.read_fresh(offset + in_file, back) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_draft_reads_as_the_disc_will_be() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("disc");
        std::fs::write(&path, vec![7_u8; 5000]).unwrap();
        let mut draft = Draft::new(Source::open(&path).unwrap());
        assert_eq!(draft.end(), 6144);
        draft.write(2040, &[1; 20]).unwrap();
        let bytes = draft.append(Fresh::Bytes(vec![2; 10]), 2048);
        let content = draft.append(Fresh::Content(Content::from_bytes(vec![3_u8; 3000])), 4096);
        assert_eq!((bytes, content, draft.end()), (6144, 8192, 12288));
        draft.write(bytes + 4, &[9]).unwrap();
        assert!(draft.write(bytes + 9, &[9, 9]).is_err(), "past the structures");
        assert!(draft.write(4999, &[9, 9]).is_err(), "past the file");
        let mut all = vec![0; 12288];
        draft.read_exact_at(0, &mut all).unwrap();
        let mut wanted = vec![7; 5000];
        wanted[2040..2060].fill(1);
        wanted.resize(6144, 0);
        wanted.extend([2; 10]);
        wanted[6148] = 9;
        wanted.resize(8192, 0);
        wanted.extend([3; 3000]);
        wanted.resize(12288, 0);
        assert!(all == wanted);
        let regions = draft.regions(false).unwrap();
        assert_eq!((regions.len(), regions[0].offset, regions[0].old.len()), (1, 0, 4096));
    }
}

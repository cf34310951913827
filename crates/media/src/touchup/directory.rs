//! One ECMA-119 directory in memory: records in their sectors.

use super::{SECTOR, tree::Key};
use crate::iso9660::{
    layout::{DirectoryRecord, FLAG_ASSOCIATED},
    names::{Flavor, Identifier},
    read::next_record,
};
use crate::units::BlockNumber;
use neat_content::Result;
use std::cmp::Ordering;
use zerocopy::FromBytes;

/// A record's bytes, whole.
pub(super) type Raw = Vec<u8>;

/// The fixed part of a record; a copy.
pub(super) fn fixed(raw: &[u8]) -> DirectoryRecord {
    DirectoryRecord::read_from_prefix(raw).map(|(fixed, _)| fixed).unwrap_or_default()
}

/// The identifier as recorded, with the version.
pub(super) fn identifier(raw: &[u8]) -> &[u8] {
    raw.get(33..33 + usize::from(fixed(raw).identifier_length)).unwrap_or_default()
}

/// Whether the record is the directory's own or its parent's.
pub(super) fn is_special(raw: &[u8]) -> bool {
    matches!(identifier(raw), [0 | 1])
}

/// Puts first block and length in bytes into a record.
pub(super) fn set_extent(raw: &mut [u8], location: BlockNumber, len: u32) {
    if let Ok((fixed, _)) = DirectoryRecord::mut_from_prefix(raw) {
        fixed.location = location.0.into();
        fixed.data_length = len.into();
        fixed.extended_attribute_length = 0;
    }
}

/// A directory.
#[derive(Debug)]
pub(super) struct Directory {
    /// Block where it lies.
    pub location: BlockNumber,
    /// The parent's key; `None` for the root.
    pub parent: Option<Key>,
    /// Whether it stays where it is, because Rock Ridge shows it elsewhere than it lies or it shows such a one.
    pub is_pinned: bool,
    original: Vec<u8>,
    sectors: Vec<Vec<Raw>>,
}

impl Directory {
    /// Takes apart the bytes of the directory at `location`, which lie at byte `offset`.
    pub(super) fn parse(
        bytes: Vec<u8>,
        offset: u64,
        location: BlockNumber,
        parent: Option<Key>,
    ) -> Result<Self> {
        let mut sectors = Vec::new();
        let sector_len = SECTOR as usize;
        for start in (0..bytes.len()).step_by(sector_len) {
            let mut records = Vec::new();
            let mut at = start;
            while at < (start + sector_len).min(bytes.len())
                && let Some(record) = next_record(&bytes, at, offset)?
            {
                let len = usize::from(record.raw.length);
                records.push(bytes[at..at + len].to_vec());
                at += len;
            }
            sectors.push(records);
        }
        Ok(Self { location, parent, is_pinned: false, original: bytes, sectors })
    }

    /// All records in order.
    pub(super) fn records(&self) -> impl Iterator<Item = &Raw> {
        self.sectors.iter().flatten()
    }

    /// All records, to be changed without a change of their length.
    pub(super) fn records_mut(&mut self) -> impl Iterator<Item = &mut Raw> {
        self.sectors.iter_mut().flatten()
    }

    /// Bytes that the directory takes.
    pub(super) fn len(&self) -> u64 {
        (self.original.len() as u64).max(self.sectors.len() as u64 * SECTOR)
    }

    /// Whether it needs more sectors than it has.
    pub(super) fn has_grown(&self) -> bool {
        self.len() > self.original.len() as u64
    }

    pub(super) fn to_bytes(&self) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(self.len() as usize);
        for sector in &self.sectors {
            let start = bytes.len();
            sector.iter().for_each(|record| bytes.extend(record));
            bytes.resize(start + SECTOR as usize, 0);
        }
        bytes.resize(self.len() as usize, 0);
        bytes
    }

    /// The sectors, counted from the directory's start, whose bytes are no longer what they were.
    pub(super) fn changed_sectors(&self) -> Vec<usize> {
        let bytes = self.to_bytes();
        let sector_len = SECTOR as usize;
        let old = self.original.chunks(sector_len).map(Some).chain(std::iter::repeat(None));
        let differing = bytes.chunks(sector_len).zip(old).enumerate();
        differing.filter(|(_, (new, old))| Some(*new) != *old).map(|(number, _)| number).collect()
    }

    /// Says that the directory lies at `location` now, with `bytes`, which are the present ones.
    pub(super) fn move_to(&mut self, location: BlockNumber, bytes: Vec<u8>) {
        self.location = location;
        self.original = bytes;
    }

    /// Says that `bytes`, which are the present ones, are written.
    pub(super) fn is_written(&mut self, bytes: Vec<u8>) {
        self.original = bytes;
    }

    /// Says of the present bytes of the first sector that they were always there: the place of the parent, which is
    /// written at once wherever it stands.
    pub(super) fn set_parent_extent(&mut self, location: BlockNumber, len: u32) {
        let own: usize = self.records().next().map_or(0, Vec::len);
        if let Some(record) = self.records_mut().nth(1).filter(|record| identifier(record) == [1]) {
            set_extent(record, location, len);
        }
        if let Some(record) = self.original.get_mut(own..) {
            set_extent(record, location, len);
        }
    }

    /// Puts a record where the order of ECMA-119 9.3 wants it, behind others of the same identifier: into its sector
    /// when that has room, else everything is laid out anew.
    pub(super) fn insert(&mut self, record: Raw, flavor: Flavor) {
        let key = Order::of(&record, flavor);
        let last = self.sectors.iter().rposition(|sector| !sector.is_empty()).unwrap_or(0);
        if self.sectors.is_empty() {
            self.sectors.push(Vec::new());
        }
        let mut place = (last, self.sectors[last].len());
        'search: for (number, sector) in self.sectors.iter().enumerate() {
            for (index, other) in sector.iter().enumerate() {
                if !is_special(other) && Order::of(other, flavor).order(&key) == Ordering::Greater {
                    place = (number, index);
                    break 'search;
                }
            }
        }
        let (number, index) = place;
        let has_room =
            |sector: &Vec<Raw>| sector.iter().map(Vec::len).sum::<usize>() + record.len() <= SECTOR as usize;
        if has_room(&self.sectors[number]) {
            self.sectors[number].insert(index, record);
        } else if index == 0 && number > 0 && has_room(&self.sectors[number - 1]) {
            self.sectors[number - 1].push(record);
        } else if index == self.sectors[number].len() && self.sectors.get(number + 1).is_some_and(has_room) {
            self.sectors[number + 1].insert(0, record);
        } else {
            self.sectors[number].insert(index, record);
            self.pack();
        }
    }

    /// Lays the records out anew, each within one sector (ECMA-119 6.8.1.1).
    fn pack(&mut self) {
        let mut packed: Vec<Vec<Raw>> = vec![Vec::new()];
        let mut used = 0;
        for record in std::mem::take(&mut self.sectors).into_iter().flatten() {
            if used + record.len() > SECTOR as usize {
                packed.push(Vec::new());
                used = 0;
            }
            used += record.len();
            if let Some(sector) = packed.last_mut() {
                sector.push(record);
            }
        }
        self.sectors = packed;
    }

    /// Takes out all records with an identifier: all sections of a file and what is associated with it.
    pub(super) fn remove(&mut self, wanted: &[u8]) -> Vec<Raw> {
        let mut removed = Vec::new();
        for sector in &mut self.sectors {
            removed.extend(sector.extract_if(.., |record| identifier(record) == wanted));
        }
        removed
    }

    /// Puts `record` in the place of the only section with its identifier; `false` when lengths differ or there is
    /// not exactly one.
    pub(super) fn replace(&mut self, record: &Raw) -> bool {
        let is_other = |other: &&mut Raw| {
            identifier(other) == identifier(record) && fixed(other).flags & FLAG_ASSOCIATED == 0
        };
        let mut found: Vec<&mut Raw> = self.records_mut().filter(is_other).collect();
        match found.as_mut_slice() {
            [only] if only.len() == record.len() => {
                only.clone_from(record);
                true
            }
            _ => false,
        }
    }
}

/// What records are ordered by.
struct Order(Identifier);

impl Order {
    fn of(raw: &[u8], flavor: Flavor) -> Self {
        let is_folder = fixed(raw).flags & crate::iso9660::layout::FLAG_DIRECTORY != 0;
        Self(Identifier::from_recorded(identifier(raw), is_folder, flavor))
    }

    fn order(&self, other: &Self) -> Ordering {
        self.0.order(&other.0)
    }
}

//! The blobs of an image file, by digest.

use crate::{BlobDigest, part::Row};

/// A table sorted by digest. An edition has a hundred thousand blobs, and a hash table would take twice the room.
#[derive(Default)]
pub(crate) struct BlobTable {
    rows: Vec<(BlobDigest, Row)>,
    /// Where the digests with each first two bytes begin, and the end. Digests spread evenly, so few rows are left to
    /// look at; where somebody chose them to be alike, halving finds them as well.
    starts: Vec<u32>,
}

impl BlobTable {
    /// The rows of all parts; of the same blob twice, which is wasteful but not wrong, the first one is used.
    pub(crate) fn of(mut rows: Vec<(BlobDigest, Row)>) -> Self {
        rows.sort_by_key(|(digest, _)| *digest);
        rows.dedup_by_key(|(digest, _)| *digest);
        rows.shrink_to_fit();
        let mut starts = Vec::with_capacity(usize::from(u16::MAX) + 2);
        for (n, (digest, _)) in rows.iter().enumerate() {
            starts.resize((bucket(*digest) + 1).max(starts.len()), n as u32);
        }
        starts.resize(usize::from(u16::MAX) + 2, rows.len() as u32);
        Self { rows, starts }
    }

    /// The row of a blob.
    pub(crate) fn get(&self, digest: BlobDigest) -> Option<&Row> {
        self.place(digest).map(|place| &self.rows[place].1)
    }

    /// The row at a place, which must be there.
    pub(crate) fn row(&self, place: usize) -> (BlobDigest, &Row) {
        let (digest, row) = &self.rows[place];
        (*digest, row)
    }

    /// Where a blob stands in the order of digests.
    pub(crate) fn place(&self, digest: BlobDigest) -> Option<usize> {
        let bucket = bucket(digest);
        let (start, end) = (*self.starts.get(bucket)? as usize, *self.starts.get(bucket + 1)? as usize);
        let near = self.rows.get(start..end)?;
        near.binary_search_by_key(&digest, |(own, _)| *own).ok().map(|n| start + n)
    }

    /// All rows, by digest.
    pub(crate) fn iter(&self) -> impl Iterator<Item = (BlobDigest, &Row)> {
        self.rows.iter().map(|(digest, row)| (*digest, row))
    }

    /// Number of blobs.
    pub(crate) const fn len(&self) -> usize {
        self.rows.len()
    }
}

/// The first two bytes of a digest as a number.
const fn bucket(digest: BlobDigest) -> usize {
    let BlobDigest(bytes) = digest;
    u16::from_be_bytes([bytes[0], bytes[1]]) as usize
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_blob_is_found_and_no_other() {
        let digest = |n: u32, alike: bool| {
            let mut bytes = [0; 20];
            let at = if alike { 16 } else { 0 };
            bytes[at..at + 4].copy_from_slice(&n.wrapping_mul(2_654_435_761).to_be_bytes());
            BlobDigest(bytes)
        };
        for (count, alike) in [(0, false), (1, false), (3000, false), (3000, true)] {
            let row = |n: u32| Row { references: n, ..Row::default() };
            let mut rows: Vec<(BlobDigest, Row)> = (0..count).map(|n| (digest(n, alike), row(n))).collect();
            // Another row of the first half comes too late.
            rows.extend((0..count / 2).map(|n| (digest(n, alike), row(n + 5000))));
            let table = BlobTable::of(rows);
            assert_eq!((table.len(), table.iter().count()), (count as usize, count as usize));
            for n in 0..count {
                assert_eq!(table.get(digest(n, alike)).map(|row| row.references), Some(n), "{count} {n}");
            }
            assert!((count..count + 500).all(|n| table.get(digest(n, alike)).is_none()));
            let highest = BlobDigest([0xFF; 20]);
            assert!(table.get(highest).is_none());
            assert!(BlobTable::of(vec![(highest, Row::default())]).get(highest).is_some());
        }
    }
}

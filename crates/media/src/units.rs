//! Numbers that count something, each in a type of its own: a plain `u64` beside them is a number of bytes.

/// Bytes of a [`Sector`].
const SECTOR_LEN: u64 = 2048;

/// Number of a logical sector of 2,048 bytes, from the start of the disc (ECMA-119 6.1.2).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct Sector(pub u32);

impl Sector {
    /// Position of the sector's first byte.
    pub(crate) const fn byte_offset(self) -> u64 {
        self.0 as u64 * SECTOR_LEN
    }

    /// The sector that is `count` sectors further.
    pub(crate) const fn after(self, count: u32) -> Self {
        Self(self.0.saturating_add(count))
    }
}

/// Number of a logical block in a volume, whose size the volume says (ECMA-119 6.2.2, ECMA-167 3/8.8.2): in ECMA-119
/// from the start of the disc, in ECMA-167 from the start of the partition.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct BlockNumber(pub u32);

impl BlockNumber {
    /// Position of the block's first byte, with blocks of `block_len` bytes.
    pub(crate) const fn byte_offset(self, block_len: u64) -> u64 {
        self.0 as u64 * block_len
    }

    /// The block that is `count` blocks further.
    pub(crate) const fn after(self, count: u32) -> Self {
        Self(self.0.saturating_add(count))
    }
}

/// Number of a cluster of a FAT file system; the first that holds data is 2 (section 4).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct Cluster(pub u32);

impl Cluster {
    /// What stands where there is no cluster: of an empty file, and for the root as a parent.
    pub(crate) const NONE: Self = Self(0);
    /// The first one that holds data.
    pub(crate) const FIRST: Self = Self(2);

    /// Bytes from the start of the first data cluster to this one, or `None` for the two numbers that are none.
    pub(crate) const fn into_data(self, cluster_len: u64) -> Option<u64> {
        match self.0.checked_sub(Self::FIRST.0) {
            Some(number) => Some(number as u64 * cluster_len),
            None => None,
        }
    }

    /// The cluster that is `count` clusters further.
    pub(crate) const fn after(self, count: u32) -> Self {
        Self(self.0.saturating_add(count))
    }
}

#[cfg(test)]
mod tests {
    use super::{BlockNumber, Cluster, Sector};

    #[test]
    fn numbers_become_bytes_by_the_size_of_what_they_count() {
        assert_eq!(Sector(16).byte_offset(), 32_768);
        assert_eq!(Sector(u32::MAX).byte_offset(), 8_796_093_020_160);
        assert_eq!(BlockNumber(16).byte_offset(512), 8_192);
        assert_eq!(Cluster(2).into_data(4_096), Some(0));
        assert_eq!(Cluster(5).into_data(4_096), Some(12_288));
        assert_eq!([0, 1].map(|number| Cluster(number).into_data(4_096)), [None, None]);
    }

    #[test]
    fn what_is_behind_the_last_number_stays_at_it() {
        assert_eq!(Sector(u32::MAX - 1).after(9), Sector(u32::MAX));
        assert_eq!(BlockNumber(3).after(4), BlockNumber(7));
        assert_eq!(Cluster::FIRST.after(1), Cluster(3));
    }
}

//! File allocation tables (FAT specification 4), computed when they are written.

use super::layout::FatKind;
use crate::units::Cluster;
use neat_content::{Clip, Job, Producer, Result};
use std::ops::Range;

/// Marks the end of a chain.
pub(super) const END_OF_CHAIN: u32 = 0x0FFF_FFFF;
/// Bytes computed at a time.
const BLOCK: usize = 64 << 10;

/// Neighbouring clusters of one chain.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Run {
    /// First cluster.
    pub first: Cluster,
    /// How many.
    pub count: u32,
    /// What the last one's entry says: the next run's first cluster, or [`END_OF_CHAIN`].
    pub then: u32,
}

/// A table: everything outside its runs is free.
#[derive(Clone, Debug)]
pub(super) struct Table {
    pub kind: FatKind,
    /// In rising order, none over another.
    pub runs: Vec<Run>,
    /// Bytes of the table with its padding.
    pub len: u64,
}

impl Table {
    /// Calls `each` with every entry up to the last that is used.
    fn for_each_entry(&self, each: &mut dyn FnMut(u32) -> Result<()>) -> Result<()> {
        each(0x0FFF_FFF8)?;
        each(END_OF_CHAIN)?;
        let mut next = Cluster::FIRST.0;
        for run in &self.runs {
            for _ in next..run.first.0 {
                each(0)?;
            }
            let behind = run.first.after(run.count).0;
            for next in run.first.0 + 1..behind {
                each(next)?;
            }
            each(run.then)?;
            next = behind;
        }
        Ok(())
    }

    /// The table's bytes.
    pub(super) fn to_bytes(&self) -> Result<Vec<u8>> {
        let mut bytes = Vec::with_capacity(self.len as usize);
        self.produce(0..self.len, &Job::silent(), &mut |block| {
            bytes.extend_from_slice(block);
            Ok(())
        })?;
        Ok(bytes)
    }
}

impl Producer for Table {
    fn len(&self) -> u64 {
        self.len
    }

    fn produce(
        &self,
        range: Range<u64>,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        let mut clip = Clip::new(range);
        let mut block = Vec::with_capacity(BLOCK + 4);
        let mut half: Option<u32> = None;
        let mut done = 0_u64;
        self.for_each_entry(&mut |entry| {
            match (self.kind, half) {
                (FatKind::Fat32, _) => block.extend(entry.to_le_bytes()),
                (FatKind::Fat16, _) => block.extend((entry as u16).to_le_bytes()),
                (FatKind::Fat12, None) => half = Some(entry & 0xFFF),
                (FatKind::Fat12, Some(even)) => {
                    block.extend(&(even | (entry & 0xFFF) << 12).to_le_bytes()[..3]);
                    half = None;
                }
            }
            if block.len() >= BLOCK {
                done += block.len() as u64;
                job.check()?;
                clip.push(&block, each)?;
                block.clear();
            }
            Ok(())
        })?;
        if let Some(even) = half {
            block.extend(&even.to_le_bytes()[..3]);
        }
        done += block.len() as u64;
        clip.push(&block, each)?;
        block.clear();
        block.resize(BLOCK, 0);
        while done < self.len && !clip.is_done() {
            job.check()?;
            let step = (self.len - done).min(BLOCK as u64);
            clip.push(&block[..step as usize], each)?;
            done += step;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
    use super::*;

    /// An entry of a table as the specification says where it stands (section 4.1).
    fn entry(bytes: &[u8], kind: FatKind, cluster: usize) -> u32 {
        let word = |at: usize, len: usize| {
            bytes[at..at + len].iter().rev().fold(0_u32, |value, byte| value << 8 | u32::from(*byte))
        };
        match kind {
            FatKind::Fat12 => word(cluster * 3 / 2, 2) >> (4 * (cluster % 2)) & 0xFFF,
            FatKind::Fat16 => word(cluster * 2, 2),
            FatKind::Fat32 => word(cluster * 4, 4),
        }
    }

    #[test]
    fn chains_stand_in_tables_of_every_kind() {
        let runs = vec![
            Run { first: Cluster(2), count: 1, then: END_OF_CHAIN },
            Run { first: Cluster(4), count: 3, then: 20 },
            Run { first: Cluster(20), count: 2, then: END_OF_CHAIN },
        ];
        for (kind, mask) in [(FatKind::Fat12, 0xFFF), (FatKind::Fat16, 0xFFFF), (FatKind::Fat32, 0x0FFF_FFFF)]
        {
            let bytes = Table { kind, runs: runs.clone(), len: 1024 }.to_bytes().unwrap();
            assert_eq!(bytes.len(), 1024);
            let found: Vec<u32> = (0..24).map(|cluster| entry(&bytes, kind, cluster)).collect();
            let mut wanted = [0; 24];
            wanted[..2].copy_from_slice(&[0x0FFF_FFF8 & mask, mask]);
            (wanted[2], wanted[4], wanted[5], wanted[6]) = (mask, 5, 6, 20);
            (wanted[20], wanted[21]) = (21, mask);
            assert_eq!(found, wanted, "{kind:?}");
        }
    }

    #[test]
    fn a_table_longer_than_a_block_is_whole() {
        let runs = vec![Run { first: Cluster(2), count: 50_000, then: END_OF_CHAIN }];
        let bytes = Table { kind: FatKind::Fat32, runs, len: 300 << 10 }.to_bytes().unwrap();
        assert_eq!(bytes.len(), 300 << 10);
        assert!((2..50_001).all(|cluster| entry(&bytes, FatKind::Fat32, cluster) == cluster as u32 + 1));
        assert_eq!(entry(&bytes, FatKind::Fat32, 50_001), END_OF_CHAIN);
        assert!(bytes[50_002 * 4..].iter().all(|byte| *byte == 0));
    }
}

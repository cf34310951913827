//! File allocation tables (FAT specification 4), computed when they are written.

use super::layout::FatKind;
use neat_content::{Error, Producer, Result};
use std::{io::Write, path::Path};

/// Marks the end of a chain.
pub(super) const END_OF_CHAIN: u32 = 0x0FFF_FFFF;
/// Bytes computed at a time.
const BLOCK: usize = 64 << 10;

/// Neighbouring clusters of one chain.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Run {
    /// First cluster.
    pub first: u32,
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
    fn for_each_entry(&self, each: &mut dyn FnMut(u32) -> std::io::Result<()>) -> std::io::Result<()> {
        each(0x0FFF_FFF8)?;
        each(END_OF_CHAIN)?;
        let mut next = 2;
        for run in &self.runs {
            for _ in next..run.first {
                each(0)?;
            }
            for cluster in run.first..run.first + run.count - 1 {
                each(cluster + 1)?;
            }
            each(run.then)?;
            next = run.first + run.count;
        }
        Ok(())
    }

    /// The table's bytes.
    pub(super) fn to_bytes(&self) -> Result<Vec<u8>> {
        let mut bytes = Vec::with_capacity(self.len as usize);
        self.produce(&mut bytes)?;
        Ok(bytes)
    }
}

impl Producer for Table {
    fn len(&self) -> u64 {
        self.len
    }

    fn produce(&self, sink: &mut dyn Write) -> Result<()> {
        let mut block = Vec::with_capacity(BLOCK + 4);
        let mut half: Option<u32> = None;
        let mut done = 0_u64;
        let failed = Error::io("write", Path::new("a file allocation table"));
        let result = self.for_each_entry(&mut |entry| {
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
                sink.write_all(&block)?;
                block.clear();
            }
            Ok(())
        });
        let result = result.and_then(|()| {
            if let Some(even) = half {
                block.extend(&even.to_le_bytes()[..3]);
            }
            done += block.len() as u64;
            sink.write_all(&block)?;
            block.clear();
            block.resize(BLOCK, 0);
            while done < self.len {
                let step = (self.len - done).min(BLOCK as u64);
                sink.write_all(&block[..step as usize])?;
                done += step;
            }
            Ok(())
        });
        result.map_err(failed)
    }
}

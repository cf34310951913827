//! Writing a draft so that a crash at any moment leaves the disc that was or the disc that will be.
//!
//! 1. The last sector of the longer file, with a trailer that says *open* and how long the file was.
//! 2. Fresh space: contents, structures, the record. Nothing points there yet. Sync.
//! 3. The changed sectors. What makes the change of each tree lies near the volume descriptors, as directories that lie
//!    far behind them move; all of it is one write, the last. Sync.
//! 4. The trailer says *done*. Sync.
//!
//! A run that is cut off before 4 is taken back by [`settle`], with the record where 3 may have begun.

use super::{
    SECTOR,
    draft::{Draft, Fresh, Region},
    journal::{self, Story, Trailer},
};
use crate::system::FileExt;
use neat_content::{Error, Event, Job, ReadAt, Result, SourceSet};
use std::{fs::File, ops::Range, path::PathBuf};

/// Bytes written at a time.
const BLOCK: usize = 1 << 20;
static ZEROS: [u8; BLOCK] = [0; BLOCK];

/// Where a disc is written to.
pub(super) trait Store {
    /// Writes `bytes` at `offset`; the file grows when they reach past its end.
    fn write_at(&mut self, offset: u64, bytes: &[u8]) -> Result<()>;
    /// Cuts the file off.
    fn set_len(&mut self, len: u64) -> Result<()>;
    /// Waits until everything written is kept.
    fn sync(&mut self) -> Result<()>;
}

/// The disc's file.
#[derive(Debug)]
pub(super) struct FileStore {
    pub file: File,
    pub path: PathBuf,
}

impl Store for FileStore {
    fn write_at(&mut self, offset: u64, bytes: &[u8]) -> Result<()> {
        self.file.write_all_at(bytes, offset).map_err(Error::io("write", &self.path))
    }
    fn set_len(&mut self, len: u64) -> Result<()> {
        self.file.set_len(len).map_err(Error::io("cut off", &self.path))
    }
    fn sync(&mut self) -> Result<()> {
        self.file.sync_data().map_err(Error::io("sync", &self.path))
    }
}

/// Keeps nothing of what is written.
#[derive(Debug)]
pub(super) struct Nowhere;

impl Store for Nowhere {
    fn write_at(&mut self, _offset: u64, _bytes: &[u8]) -> Result<()> {
        Ok(())
    }
    fn set_len(&mut self, _len: u64) -> Result<()> {
        Ok(())
    }
    fn sync(&mut self) -> Result<()> {
        Ok(())
    }
}

/// What the end of the longer file is made of, besides the trailer.
#[derive(Default)]
pub(super) struct Ending {
    /// Goes before the last sector: the entries of a GPT's backup.
    pub before: Vec<u8>,
    /// Bytes 0 to 512 of the last sector: an anchor.
    pub anchor: Option<Vec<u8>>,
    /// Bytes 1536 to 2048 of the last sector: the header of a GPT's backup, or an anchor of a volume with small
    /// blocks.
    pub last_block: Option<Vec<u8>>,
    /// What is written last, and with one write.
    pub last_write: Range<u64>,
}

/// Lays out the end, lets `fit` put the new length where the disc says it, and writes. Gives the new length and how
/// many bytes were written.
pub(super) fn commit(
    draft: &mut Draft,
    story: &Story,
    store: &mut dyn Store,
    job: &Job<'_>,
    fit: &mut dyn FnMut(&mut Draft, u64) -> Result<Ending>,
) -> Result<(u64, u64)> {
    let old_len = draft.old_len();
    // Which sectors say the length does not depend on the length, but how long the record is depends on them.
    let provisional = fit(draft, draft.end() + 2 * SECTOR)?;
    let record_at = draft.end();
    let spans: Vec<Region> = draft.regions(true)?;
    let record_len = journal::encode(story, spans.iter().map(|r| (r.offset, &r.old[..])))?.len() as u64;
    let ending_len = (provisional.before.len() as u64).next_multiple_of(SECTOR) + SECTOR;
    let new_len = (record_at + record_len).next_multiple_of(SECTOR) + ending_len;
    let ending = fit(draft, new_len)?;
    let record = journal::encode(story, spans.iter().map(|r| (r.offset, &r.old[..])))?;
    let mut trailer =
        Trailer { done: false, old_len, record_at, record_len, record_digest: journal::digest(&record)? };
    let mut last = vec![0; SECTOR as usize];
    if let Some(anchor) = &ending.anchor {
        last[..512].copy_from_slice(&anchor[..512]);
    }
    if let Some(block) = &ending.last_block {
        last[1536..].copy_from_slice(&block[..512]);
    }
    trailer.put_into(&mut last);
    let regions = draft.regions(false)?;
    let mut counting = Counting { store, written: 0 };
    let result =
        write(draft, &regions, &record, &ending, &mut last, &mut trailer, new_len, &mut counting, job);
    let written = counting.written;
    if let Err(error) = result {
        // What could be written is taken back; if even that fails, the open trailer tells the next run.
        if trailer.done {
            trailer.done = false;
            trailer.put_into(&mut last);
            if store.write_at(new_len - SECTOR, &last).and_then(|()| store.sync()).is_err() {
                return Err(error);
            }
        }
        let former = regions.iter().map(|region| (region.offset, region.old.as_slice()));
        let _ = restore(store, former, old_len);
        return Err(error);
    }
    Ok((new_len, written))
}

#[expect(clippy::too_many_arguments, reason = "one straight sequence, split off for its errors")]
fn write(
    draft: &Draft,
    regions: &[Region],
    record: &[u8],
    ending: &Ending,
    last: &mut [u8],
    trailer: &mut Trailer,
    new_len: u64,
    store: &mut dyn Store,
    job: &Job<'_>,
) -> Result<()> {
    store.write_at(new_len - SECTOR, last)?;
    let mut sources = SourceSet::default();
    let total = draft.fresh().map(|(_, fresh)| fresh_len(fresh)).sum();
    job.event(Event::StepStarted { step: "writing into the disc", total_bytes: Some(total) });
    for (offset, fresh) in draft.fresh() {
        job.check()?;
        match fresh {
            Fresh::Bytes(bytes) => store.write_at(offset, bytes)?,
            Fresh::Content(content) => {
                sources.add(content);
                let mut at = offset;
                content.for_each_block(BLOCK, job, &mut |block| {
                    // The file has just become longer, so zeros are there already.
                    if block != &ZEROS[..block.len()] {
                        store.write_at(at, block)?;
                    }
                    at += block.len() as u64;
                    job.event(Event::BytesDone(block.len() as u64));
                    Ok(())
                })?;
            }
        }
    }
    store.write_at(trailer.record_at, record)?;
    if !ending.before.is_empty() {
        let at = new_len - SECTOR - (ending.before.len() as u64).next_multiple_of(SECTOR);
        store.write_at(at, &ending.before)?;
    }
    job.check()?;
    store.sync()?;
    sources.check_unchanged()?;
    for (offset, bytes) in ordered(draft, regions, &ending.last_write)? {
        store.write_at(offset, &bytes)?;
    }
    store.sync()?;
    trailer.done = true;
    trailer.put_into(last);
    store.write_at(new_len - SECTOR, last)?;
    store.sync()
}

fn fresh_len(fresh: &Fresh) -> u64 {
    match fresh {
        Fresh::Bytes(bytes) => bytes.len() as u64,
        Fresh::Content(content) => content.len(),
    }
}

/// The writes that make the change: all in `last` with one write at the end.
fn ordered(draft: &Draft, regions: &[Region], last: &Range<u64>) -> Result<Vec<(u64, Vec<u8>)>> {
    let end = |region: &Region| region.offset + region.new.len() as u64;
    let (descriptors, others): (Vec<&Region>, Vec<&Region>) =
        regions.iter().partition(|r| !r.early && r.offset >= last.start && end(r) <= last.end);
    let mut writes: Vec<_> = others.iter().map(|region| (region.offset, region.new.clone())).collect();
    if let (Some(first), Some(last)) = (descriptors.first(), descriptors.last()) {
        let mut bytes = vec![0; (end(last) - first.offset) as usize];
        draft.read_exact_at(first.offset, &mut bytes)?;
        writes.push((first.offset, bytes));
    }
    Ok(writes)
}

/// Puts former bytes back and cuts off what came later.
pub(super) fn restore<'a>(
    store: &mut dyn Store,
    regions: impl Iterator<Item = (u64, &'a [u8])>,
    old_len: u64,
) -> Result<()> {
    let mut any = false;
    for (offset, old) in regions {
        store.write_at(offset, old)?;
        any = true;
    }
    if any {
        store.sync()?;
    }
    store.set_len(old_len)?;
    store.sync()
}

/// Takes back a touch-up that was cut off. Says whether there was one.
pub(super) fn settle<R: ReadAt + ?Sized>(reader: &R, store: &mut dyn Store) -> Result<bool> {
    let Some(trailer) = Trailer::read(reader, reader.len())?.filter(|trailer| !trailer.done) else {
        return Ok(false);
    };
    // An incomplete record means that nothing was changed in place yet.
    let record = journal::read_record(reader, &trailer)?;
    let regions = record.map(|record| record.regions).unwrap_or_default();
    restore(store, regions.iter().map(|(offset, old)| (*offset, old.as_slice())), trailer.old_len)?;
    Ok(true)
}

/// Takes back the latest touch-up. A crash on the way leaves an open trailer, so that [`settle`] finishes it.
pub(super) fn take_back<R: ReadAt + ?Sized>(
    reader: &R,
    trailer: &Trailer,
    regions: &[(u64, Vec<u8>)],
    store: &mut dyn Store,
) -> Result<()> {
    let at = reader.len() - SECTOR;
    let mut last = vec![0; SECTOR as usize];
    reader.read_exact_at(at, &mut last)?;
    Trailer { done: false, ..trailer.clone() }.put_into(&mut last);
    store.write_at(at, &last)?;
    store.sync()?;
    restore(store, regions.iter().map(|(offset, old)| (*offset, old.as_slice())), trailer.old_len)
}

/// Counts what is written.
struct Counting<'a> {
    store: &'a mut dyn Store,
    written: u64,
}

impl Store for Counting<'_> {
    fn write_at(&mut self, offset: u64, bytes: &[u8]) -> Result<()> {
        self.written += bytes.len() as u64;
        self.store.write_at(offset, bytes)
    }
    fn set_len(&mut self, len: u64) -> Result<()> {
        self.store.set_len(len)
    }
    fn sync(&mut self) -> Result<()> {
        self.store.sync()
    }
}

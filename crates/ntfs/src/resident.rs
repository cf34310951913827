//! Content that lies in a record of the file table.

use crate::Volume;
use neat_content::{Clip, Content, Job, Producer, Result, Source};
use std::{ops::Range, sync::Arc};

/// A value in a record, read when it is wanted.
pub(crate) struct InRecord {
    volume: Arc<Volume>,
    record: u64,
    start: u32,
    len: u32,
}

impl InRecord {
    /// `len` bytes from byte `start` of record `record` on.
    pub(crate) fn content(volume: &Arc<Volume>, record: u64, start: u16, len: u32) -> Content {
        if len == 0 {
            return Content::default();
        }
        let volume = Arc::clone(volume);
        Content::deferred(Arc::new(Self { volume, record, start: start.into(), len }))
    }
}

impl Producer for InRecord {
    fn len(&self) -> u64 {
        self.len.into()
    }

    fn produce(
        &self,
        range: Range<u64>,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        job.check()?;
        let bytes = self.volume.in_record(self.record, self.start as usize, self.len as usize)?;
        Clip::new(range).push(&bytes, each)
    }

    fn sources(&self, found: &mut dyn FnMut(&Arc<Source>)) {
        self.volume.content.for_each_source(found);
    }
}

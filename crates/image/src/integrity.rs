//! The integrity table: SHA-1 of each piece of what lies between the header and the end of the resource table.

use crate::{
    BlobDigest, OpenPart,
    digest::digest_each,
    layout::{HEADER_LEN, INTEGRITY_CHUNK},
};
use neat_content::{Clip, Content, Error, Event, FieldReader, Job, Producer, Result, Source, read_vec};
use std::{ops::Range, sync::Arc};

/// Bytes of the table's own header.
const TABLE_HEADER_LEN: u64 = 12;

/// Compares a part with its integrity table, if it has one.
pub(crate) fn check(part: &OpenPart, job: &Job<'_>) -> Result<()> {
    let place = part.header.integrity();
    if place.size() == 0 {
        return Ok(());
    }
    let offset = place.offset.get();
    let bytes = read_vec(&part.content, offset, place.size(), 64 << 20, "integrity table")?;
    let mut reader = FieldReader::new(&bytes, offset, "IntegrityTable");
    let (_size, count, piece) = (reader.u32_le()?, reader.u32_le()?, reader.u32_le()?);
    let covered = part.header.table_end().saturating_sub(HEADER_LEN);
    if piece == 0 || u64::from(count) != covered.div_ceil(u64::from(piece)) {
        return Err(Error::bad_field(
            "IntegrityTable",
            "entries",
            offset + 4,
            format!("digests for {covered} bytes"),
            format!("{count} of {piece} bytes each"),
        ));
    }
    job.event(Event::StepStarted { step: "checking integrity", total_bytes: Some(covered) });
    let place_of = |n: u64| {
        let start = HEADER_LEN + n * u64::from(piece);
        (start, u64::from(piece).min(HEADER_LEN + covered - start))
    };
    let content = |n: usize| {
        let (start, len) = place_of(n as u64);
        part.content.part(start, len)
    };
    let digests = digest_each(count as usize, 0, job, &content, &|bytes| job.event(Event::BytesDone(bytes)))?;
    for (n, found) in digests.into_iter().enumerate() {
        let expected = BlobDigest(reader.array()?);
        let (start, len) = place_of(n as u64);
        if found != expected {
            return Err(Error::Mismatch {
                expected: format!("{len} bytes at byte {start:#x} to have the SHA-1 {expected}"),
                found: found.to_string(),
                hint: "the file is damaged; compare its digest with the vendor's".into(),
            });
        }
    }
    job.event(Event::StepFinished);
    Ok(())
}

/// The integrity table of content that is written elsewhere at the same time: digested when the table is written, on
/// all cores, from what the system then still has in memory.
pub(crate) struct IntegrityTable {
    /// What lies between the header and the end of the resource table.
    pub covered: Content,
}

impl IntegrityTable {
    fn count(&self) -> u64 {
        self.covered.len().div_ceil(u64::from(INTEGRITY_CHUNK))
    }
}

impl Producer for IntegrityTable {
    fn len(&self) -> u64 {
        TABLE_HEADER_LEN + 20 * self.count()
    }

    fn sources(&self, found: &mut dyn FnMut(&Arc<Source>)) {
        self.covered.for_each_source(found);
    }

    fn produce(
        &self,
        range: Range<u64>,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        let count = self.count() as usize;
        let piece = u64::from(INTEGRITY_CHUNK);
        let content = |n: usize| {
            let start = n as u64 * piece;
            self.covered.part(start, piece.min(self.covered.len() - start))
        };
        let digests = digest_each(count, 0, job, &content, &|_| ())?;
        let mut bytes = Vec::with_capacity(self.len() as usize);
        bytes.extend((self.len() as u32).to_le_bytes());
        bytes.extend((count as u32).to_le_bytes());
        bytes.extend(INTEGRITY_CHUNK.to_le_bytes());
        digests.iter().for_each(|digest| bytes.extend(digest.0));
        Clip::new(range).push(&bytes, each)
    }
}

//! Files that the system compressed itself: a reparse point says how, a stream holds the chunks.
//!
//! The stream begins with where each chunk but the first starts, counted from behind these numbers; chunks as long as
//! what they stand for are stored as they are.

use neat_content::{Clip, Content, Error, FieldReader, Job, Producer, ReadAt, Result, Source};
use neat_image::codec::{lzx, xpress};
use std::{ops::Range, sync::Arc};

/// The kind of reparse point.
pub(crate) const TAG: u32 = 0x8000_0017;
/// The stream that holds the chunks.
pub(crate) const STREAM: &str = "WofCompressedData";
/// The provider that keeps a file in its own stream; another keeps it in an image file elsewhere.
const PROVIDER_FILE: u32 = 2;

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Method {
    Xpress,
    Lzx,
}

/// How a file is compressed.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) struct Way {
    method: Method,
    chunk: u64,
}

/// What the data of the reparse point says; `at` is where it lies.
pub(crate) fn way(data: &[u8], at: u64) -> Result<Way> {
    let mut fields = FieldReader::new(data, at, "SystemCompression");
    let (_version, provider) = (fields.u32_le()?, fields.u32_le()?);
    if provider != PROVIDER_FILE {
        return Err(Error::Unsupported {
            what: format!("a file whose content is kept elsewhere (provider {provider})"),
            offset: at,
        });
    }
    let (_version, method) = (fields.u32_le()?, fields.u32_le()?);
    let (method, kib) = match method {
        0 => (Method::Xpress, 4),
        1 => (Method::Lzx, 32),
        2 => (Method::Xpress, 8),
        3 => (Method::Xpress, 16),
        other => {
            return Err(Error::Unsupported { what: format!("system compression {other}"), offset: at + 12 });
        }
    };
    Ok(Way { method, chunk: kib << 10 })
}

/// A file of `len` bytes whose chunks lie in `packed`.
pub(crate) fn content(way: Way, packed: Content, len: u64) -> Content {
    if len == 0 { Content::default() } else { Content::deferred(Arc::new(Unpacked { way, packed, len })) }
}

struct Unpacked {
    way: Way,
    packed: Content,
    len: u64,
}

/// Positions of chunks that are read at once.
const AT_ONCE: u64 = 8192;

impl Unpacked {
    fn chunks(&self) -> u64 {
        self.len.div_ceil(self.way.chunk)
    }

    /// Bytes of a position.
    const fn width(&self) -> u64 {
        if self.len > u32::MAX as u64 { 8 } else { 4 }
    }

    /// Where chunks `from` to `to` begin in the stream, and where the last ends.
    fn bounds(&self, from: u64, to: u64) -> Result<Vec<u64>> {
        let (width, count) = (self.width(), self.chunks());
        let base = (count - 1) * width;
        let mut bounds = Vec::with_capacity((to - from + 1) as usize);
        if from == 0 {
            bounds.push(base);
        }
        let (first, last) = (from.max(1), to.min(count - 1));
        let listed = if first <= last { last - first + 1 } else { 0 };
        let mut table = vec![0; (listed * width) as usize];
        self.packed.read_exact_at((first - 1) * width, &mut table)?;
        for number in table.chunks_exact(width as usize) {
            let number = number.iter().rev().fold(0_u64, |all, byte| all << 8 | u64::from(*byte));
            bounds.push(base.saturating_add(number));
        }
        if to == count {
            bounds.push(self.packed.len());
        }
        Ok(bounds)
    }
}

enum Decoder {
    Xpress(Box<xpress::Decoder>),
    Lzx(Box<lzx::Decoder>),
}

impl Producer for Unpacked {
    fn len(&self) -> u64 {
        self.len
    }

    fn produce(
        &self,
        range: Range<u64>,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        if range.is_empty() {
            return Ok(());
        }
        let chunk = self.way.chunk;
        let mut decoder = match self.way.method {
            Method::Xpress => Decoder::Xpress(Box::default()),
            Method::Lzx => Decoder::Lzx(Box::new(lzx::Decoder::new(chunk as usize))),
        };
        let (first, end) = (range.start / chunk, range.end.div_ceil(chunk));
        let mut clip = Clip::new(range);
        clip.skip(first * chunk);
        let (mut raw, mut packed) = (vec![0; chunk as usize], Vec::new());
        let mut number = first;
        while number < end {
            let stop = end.min(number + AT_ONCE);
            let bounds = self.bounds(number, stop)?;
            for pair in bounds.windows(2) {
                job.check()?;
                let raw_len = chunk.min(self.len - number * chunk) as usize;
                let len = pair[1].checked_sub(pair[0]).filter(|len| (1..=raw_len as u64).contains(len));
                let Some(len) = len else {
                    let expected = format!("1 to {raw_len} bytes");
                    let found = format!("{} to {}", pair[0], pair[1]);
                    return Err(Error::bad_field("SystemCompression", "chunk", number, expected, found));
                };
                packed.resize(len as usize, 0);
                self.packed.read_exact_at(pair[0], &mut packed)?;
                if packed.len() == raw_len {
                    clip.push(&packed, each)?;
                } else {
                    let target = &mut raw[..raw_len];
                    match &mut decoder {
                        Decoder::Xpress(decoder) => decoder.decode(&packed, target),
                        Decoder::Lzx(decoder) => decoder.decode(&packed, target),
                    }
                    .map_err(|fault| {
                        Error::mismatch(
                            format!("a sound chunk {number} of a file that the system compressed"),
                            fault.to_string(),
                            "the volume is damaged: repair it in its system, or leave the file out",
                        )
                    })?;
                    clip.push(target, each)?;
                }
                number += 1;
            }
        }
        Ok(())
    }

    fn sources(&self, found: &mut dyn FnMut(&Arc<Source>)) {
        self.packed.for_each_source(found);
    }
}

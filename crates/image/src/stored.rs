//! A blob as it lies in a file, and how to get its bytes.

use crate::{
    BlobDigest,
    codec::{Decoded, Fault, lzms, lzx, xpress},
    digest::BlobHasher,
    solid::Solid,
};
use neat_content::{Clip, Content, Error, Job, Producer, ReadAt, Result, Source};
use std::{cell::RefCell, ops::Range, sync::Arc};

/// A method of compression.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Method {
    /// XPRESS with Huffman codes.
    Xpress,
    /// LZX.
    Lzx,
    /// LZMS.
    Lzms,
}

impl Method {
    /// Its usual name.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Xpress => "XPRESS",
            Self::Lzx => "LZX",
            Self::Lzms => "LZMS",
        }
    }

    /// Smallest and largest chunk in bytes; always a power of two.
    pub const fn chunk_range(self) -> (u32, u32) {
        match self {
            Self::Xpress => (4 << 10, xpress::MAX_CHUNK_LEN as u32),
            Self::Lzx => (lzx::MIN_WINDOW as u32, lzx::MAX_WINDOW as u32),
            Self::Lzms => (4 << 10, lzms::MAX_CHUNK_LEN as u32),
        }
    }

    /// Checks a chunk size that a file names; `offset` is where.
    pub(crate) fn check_chunk_len(self, chunk_len: u32, structure: &'static str, offset: u64) -> Result<()> {
        let (least, most) = self.chunk_range();
        if chunk_len.is_power_of_two() && (least..=most).contains(&chunk_len) {
            return Ok(());
        }
        let expected = format!("a power of two from {least} to {most} for {}", self.name());
        Err(Error::bad_field(structure, "chunk_size", offset, expected, chunk_len))
    }
}

/// How a blob's bytes are put into its file.
#[derive(Clone)]
pub enum Packing {
    /// As they are.
    Plain,
    /// In chunks of their own.
    Chunks {
        /// The method.
        method: Method,
        /// Bytes of a chunk before compression.
        chunk_len: u32,
    },
    /// In a solid resource with other blobs.
    Solid {
        /// The resource.
        group: Arc<Solid>,
        /// Position of the blob among the resource's bytes before compression.
        start: u64,
    },
}

/// A blob as it lies in a file.
#[derive(Clone)]
pub struct Stored {
    /// The bytes in the file; of a solid blob, those of the whole resource.
    pub bytes: Content,
    /// Where they begin in the file.
    pub offset: u64,
    /// Length before compression.
    pub raw_len: u64,
    /// How they are put there.
    pub packing: Packing,
}

pub(crate) fn damaged(method: Method, offset: u64, fault: Fault) -> Error {
    if fault == Fault::Stopped {
        return Error::Cancelled;
    }
    Error::Mismatch {
        expected: format!("{} data at byte {offset:#x}", method.name()),
        found: format!("damaged data: {fault}"),
        hint: "the file is damaged; compare its digest with the vendor's".into(),
    }
}

/// Bytes of a compressed resource that are read at once.
const WINDOW: u64 = 1 << 20;
/// Bytes that are unpacked between two looks at the stop flag.
const GLANCE: u64 = 1 << 20;

/// Decoders and buffers, kept from blob to blob.
#[derive(Default)]
pub struct Unpacker {
    xpress: Option<Box<xpress::Decoder>>,
    lzx: Option<(u32, Box<lzx::Decoder>)>,
    lzms: Option<Box<lzms::Decoder>>,
    packed: Vec<u8>,
    raw: Vec<u8>,
}

impl Unpacker {
    pub(crate) fn decode(
        &mut self,
        method: Method,
        chunk_len: u32,
        packed: &[u8],
        raw: &mut [u8],
        job: &Job<'_>,
    ) -> Decoded {
        match method {
            Method::Xpress => self.xpress.get_or_insert_default().decode(packed, raw),
            Method::Lzx => {
                let (_, decoder) = match self.lzx.take().filter(|(made_for, _)| *made_for == chunk_len) {
                    Some(decoder) => self.lzx.insert(decoder),
                    None => self.lzx.insert((chunk_len, Box::new(lzx::Decoder::new(chunk_len as usize)))),
                };
                decoder.decode(packed, raw)
            }
            Method::Lzms => {
                self.lzms.get_or_insert_default().decode_until(packed, raw, &|| job.check().is_err())
            }
        }
    }

    /// Calls `each` with the blob's bytes in `range`, in order; only the chunks that hold them are decoded. The range
    /// must lie inside the blob.
    ///
    /// # Errors
    /// `BadField` and `Mismatch` for damaged data, `Cancelled` on a stop, and those of `each`.
    pub fn unpack(
        &mut self,
        stored: &Stored,
        range: Range<u64>,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        if range.is_empty() {
            return Ok(());
        }
        match &stored.packing {
            Packing::Plain => stored.bytes.part(range.start, range.end - range.start)?.for_each_block(
                WINDOW as usize,
                job,
                each,
            ),
            Packing::Chunks { method, chunk_len } => {
                self.unpack_chunks(stored, *method, *chunk_len, range, job, each)
            }
            Packing::Solid { group, start } => {
                let (mut at, end) = (*start + range.start, *start + range.end);
                let chunk_len = u64::from(group.chunk_len());
                while at < end {
                    job.check()?;
                    let number = at / chunk_len;
                    let chunk = group.chunk(number as usize, self, job)?;
                    let first = number * chunk_len;
                    let stop = end.min(first + chunk.len());
                    each(&chunk[(at - first) as usize..(stop - first) as usize])?;
                    at = stop;
                }
                Ok(())
            }
        }
    }

    fn unpack_chunks(
        &mut self,
        stored: &Stored,
        method: Method,
        chunk_len: u32,
        range: Range<u64>,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        let table = ChunkTable::read(stored, chunk_len)?;
        let wide = u64::from(chunk_len);
        let numbers = range.start / wide..range.end.div_ceil(wide).min(table.count);
        // The stop flag is looked at after about so many bytes.
        let glance = (GLANCE / wide).max(1);
        let mut window = (0, std::mem::take(&mut self.packed));
        let mut raw = std::mem::take(&mut self.raw);
        window.1.clear();
        let mut clip = Clip::new(range);
        clip.skip(numbers.start * wide);
        let mut each = |bytes: &[u8]| clip.push(bytes, each);
        let result = numbers.clone().try_for_each(|n| {
            if n % glance == 0 {
                job.check()?;
            }
            let (start, end) = table.chunk(n);
            if start < window.0 || end > window.0 + window.1.len() as u64 {
                window.0 = start;
                let wanted = table.chunk(numbers.end - 1).1 - start;
                let len = WINDOW.min(wanted).max(end - start);
                window.1.resize(len as usize, 0);
                stored.bytes.read_exact_at(start, &mut window.1)?;
            }
            let packed = &window.1[(start - window.0) as usize..(end - window.0) as usize];
            let raw_len = (stored.raw_len - n * u64::from(chunk_len)).min(u64::from(chunk_len)) as usize;
            if packed.len() == raw_len {
                return each(packed);
            }
            raw.resize(raw_len, 0);
            self.decode(method, chunk_len, packed, &mut raw, job)
                .map_err(|fault| damaged(method, stored.offset + start, fault))?;
            each(&raw)
        });
        self.packed = window.1;
        self.raw = raw;
        result
    }
}

/// Where the chunks of a resource lie.
struct ChunkTable {
    entries: Vec<u8>,
    wide: bool,
    count: u64,
    len: u64,
    /// First byte of the first chunk, from the start of the resource.
    base: u64,
}

impl ChunkTable {
    /// Reads and checks the table: one entry fewer than chunks, each where a chunk begins after the table; eight bytes
    /// wide when the blob is 4 GiB or more.
    fn read(stored: &Stored, chunk_len: u32) -> Result<Self> {
        let count = stored.raw_len.div_ceil(u64::from(chunk_len));
        let wide = stored.raw_len > u64::from(u32::MAX);
        let width = entry_width(stored.raw_len);
        let len = stored.bytes.len();
        let base = count.saturating_sub(1).saturating_mul(width);
        if base > len {
            return Err(Error::Truncated {
                what: "chunk table".into(),
                offset: stored.offset,
                wanted: base,
                available: len,
            });
        }
        let mut entries = vec![0; base as usize];
        stored.bytes.read_exact_at(0, &mut entries)?;
        let table = Self { entries, wide, count, len, base };
        let mut before = base;
        for n in 1..=count {
            let start = table.start(n);
            let size = start.checked_sub(before);
            if start > len || size.is_none_or(|size| size == 0 || size > u64::from(chunk_len)) {
                return Err(Error::bad_field(
                    "ChunkTable",
                    "offset",
                    stored.offset + (n - 1) * width,
                    "chunks that follow each other inside the resource, none larger than before compression",
                    start,
                ));
            }
            before = start;
        }
        Ok(table)
    }

    /// Where chunk `n` begins, from the start of the resource; of the one after the last, where that ends.
    fn start(&self, n: u64) -> u64 {
        let Some(n) = n.checked_sub(1) else { return self.base };
        let width = if self.wide { 8 } else { 4 };
        let at = n as usize * width;
        match self.entries.get(at..at + width) {
            None => self.len,
            Some(entry) if self.wide => {
                entry.try_into().map_or(0, u64::from_le_bytes).saturating_add(self.base)
            }
            Some(entry) => entry.try_into().map_or(0, |four| u64::from(u32::from_le_bytes(four))) + self.base,
        }
    }

    fn chunk(&self, n: u64) -> (u64, u64) {
        (self.start(n), self.start(n + 1))
    }
}

/// Bytes of an entry in the chunk table of a blob this long.
pub(crate) const fn entry_width(raw_len: u64) -> u64 {
    if raw_len > u32::MAX as u64 { 8 } else { 4 }
}

thread_local! {
    static UNPACKER: RefCell<Unpacker> = RefCell::default();
}

impl Stored {
    /// Calls `each` with the blob's bytes in order and checks at the end that they are those that `digest` names.
    ///
    /// # Errors
    /// `Corrupt` when they are not; `Io`, `Cancelled`, and those of `each`.
    pub fn read(
        &self,
        digest: BlobDigest,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        let mut hasher = BlobHasher::default();
        let mut unpacker = UNPACKER.take();
        let result = unpacker.unpack(self, 0..self.raw_len, job, &mut |block| {
            hasher.add(block);
            each(block)
        });
        UNPACKER.set(unpacker);
        result?;
        let found = hasher.finish();
        if found == digest {
            return Ok(());
        }
        Err(Error::Mismatch {
            expected: format!("the blob at byte {:#x} to have the SHA-1 {digest}", self.offset),
            found: found.to_string(),
            hint: "the file is damaged; compare its digest with the vendor's".into(),
        })
    }

    /// Calls `found` with each file that its bytes lie in.
    pub(crate) fn for_each_source(&self, found: &mut dyn FnMut(&Arc<Source>)) {
        match &self.packing {
            Packing::Solid { group, .. } => group.bytes().for_each_source(found),
            Packing::Plain | Packing::Chunks { .. } => self.bytes.for_each_source(found),
        }
    }

    /// As [`Stored::read`], for a caller who compares the digest: what is told of is only how the bytes are packed.
    pub(crate) fn read_unchecked(
        &self,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        let mut unpacker = UNPACKER.take();
        let result = unpacker.unpack(self, 0..self.raw_len, job, each);
        UNPACKER.set(unpacker);
        result
    }

    /// All bytes, at most `limit`, checked against `digest`. `what` names them in errors.
    ///
    /// # Errors
    /// `LimitExceeded` above `limit`, else as [`Stored::read`].
    pub fn to_vec(&self, digest: BlobDigest, limit: u64, what: &str) -> Result<Vec<u8>> {
        if self.raw_len > limit {
            return Err(Error::Limit {
                what: format!("size in bytes of {what}"),
                offset: self.offset,
                limit,
                found: self.raw_len,
            });
        }
        // What the length promises is only a promise: grow with what really comes.
        let mut bytes = Vec::with_capacity(self.raw_len.min(1 << 20) as usize);
        self.read(digest, &Job::silent(), &mut |block| {
            bytes.extend_from_slice(block);
            Ok(())
        })
        .map_err(|error| error.within(what))?;
        Ok(bytes)
    }

    /// The blob as lazy content, which is checked against `digest` when its last byte is read. `place` says in errors
    /// whose content it is.
    pub fn content(&self, digest: BlobDigest, place: &str) -> Content {
        Content::deferred(Arc::new(Unpacked { stored: self.clone(), digest, place: place.into() }))
    }
}

/// A blob as content.
pub(crate) struct Unpacked {
    pub stored: Stored,
    pub digest: BlobDigest,
    /// Whose it is, in errors.
    pub place: Box<str>,
}

impl Producer for Unpacked {
    fn len(&self) -> u64 {
        self.stored.raw_len
    }

    fn sources(&self, found: &mut dyn FnMut(&Arc<Source>)) {
        self.stored.for_each_source(found);
    }

    /// A part alone has no digest that it could be compared with; the whole is checked.
    fn produce(
        &self,
        range: Range<u64>,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        read_part(&self.stored, self.digest, range, &|| self.place.to_string(), job, each)
    }
}

/// Reads a range of a blob; `named` says in errors whose it is.
///
/// # Errors
/// Those of [`Stored::read`] and of `each`.
pub(crate) fn read_part(
    stored: &Stored,
    digest: BlobDigest,
    range: Range<u64>,
    named: &dyn Fn() -> String,
    job: &Job<'_>,
    each: &mut dyn FnMut(&[u8]) -> Result<()>,
) -> Result<()> {
    // What `each` says is not about this blob.
    let mut refused = None;
    let mut pass_on = |block: &[u8]| {
        each(block).map_err(|error| {
            refused = Some(error);
            Error::Cancelled
        })
    };
    let result = if range == (0..stored.raw_len) {
        stored.read(digest, job, &mut pass_on)
    } else {
        let mut unpacker = UNPACKER.take();
        let result = unpacker.unpack(stored, range, job, &mut pass_on);
        UNPACKER.set(unpacker);
        result
    };
    match refused {
        Some(error) => Err(error),
        None => result.map_err(|error| error.within(named())),
    }
}

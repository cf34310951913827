//! A resource that holds several blobs, and reading it.

use crate::{
    Method, Unpacker,
    codec::lzms,
    layout::{RawSolidHeader, SOLID_HEADER_LEN},
    stored::damaged,
    threads::thread_count,
};
use neat_content::{Content, Error, Job, ReadAt, Result};
use std::sync::{Arc, Mutex, PoisonError};
use zerocopy::FromBytes;

/// A resource that holds several blobs.
pub struct Solid {
    bytes: Content,
    offset: u64,
    raw_len: u64,
    method: Option<Method>,
    chunk_len: u32,
    /// Where each chunk begins in `bytes`, and one more: where the last ends.
    chunks: Vec<u64>,
    /// Chunks that were decoded lately, of all resources of the file.
    cache: Arc<ChunkCache>,
}

impl Solid {
    /// Reads the header and the table of a solid resource that lies at `offset` of its file.
    pub(crate) fn open(bytes: Content, offset: u64, cache: Arc<ChunkCache>) -> Result<Self> {
        const STRUCTURE: &str = "SolidResourceHeader";
        let mut header = [0; SOLID_HEADER_LEN as usize];
        bytes
            .read_exact_at(0, &mut header)
            .map_err(|error| error.within(format!("solid resource at byte {offset:#x}")))?;
        let Ok(header) = RawSolidHeader::read_from_bytes(&header) else {
            return Err(Error::Unsupported { what: STRUCTURE.into(), offset });
        };
        let method = match header.method.get() {
            0 => None,
            1 => Some(Method::Xpress),
            2 => Some(Method::Lzx),
            3 => Some(Method::Lzms),
            other => return Err(Error::bad_field(STRUCTURE, "method", offset + 12, "0 to 3", other)),
        };
        let chunk_len = header.chunk_size.get();
        match method {
            Some(method) => method.check_chunk_len(chunk_len, STRUCTURE, offset + 8)?,
            None if chunk_len == 0 || chunk_len > lzms::MAX_CHUNK_LEN as u32 => {
                return Err(Error::bad_field(STRUCTURE, "chunk_size", offset + 8, "1 to 2^26", chunk_len));
            }
            None => {}
        }
        let raw_len = header.original_size.get();
        let count = raw_len.div_ceil(u64::from(chunk_len));
        let table_len = count.checked_mul(4).filter(|len| *len <= bytes.len() - SOLID_HEADER_LEN);
        let Some(table_len) = table_len else {
            return Err(Error::Truncated {
                what: "chunk table of a solid resource".into(),
                offset: offset + SOLID_HEADER_LEN,
                wanted: count.saturating_mul(4),
                available: bytes.len() - SOLID_HEADER_LEN,
            });
        };
        let mut table = vec![0; table_len as usize];
        bytes.read_exact_at(SOLID_HEADER_LEN, &mut table)?;
        let mut at = SOLID_HEADER_LEN + table_len;
        let mut chunks = Vec::with_capacity(count as usize + 1);
        chunks.push(at);
        for (n, size) in table.chunks_exact(4).enumerate() {
            let size = size.try_into().map_or(0, u32::from_le_bytes);
            at += u64::from(size);
            let most = (raw_len - n as u64 * u64::from(chunk_len)).min(u64::from(chunk_len));
            if at > bytes.len() || u64::from(size) > most || size == 0 {
                return Err(Error::bad_field(
                    "SolidChunkTable",
                    "size",
                    offset + SOLID_HEADER_LEN + 4 * n as u64,
                    "a chunk inside its resource, not empty and no larger than before compression",
                    size,
                ));
            }
            chunks.push(at);
        }
        Ok(Self { bytes, offset, raw_len, method, chunk_len, chunks, cache })
    }

    /// Bytes of all its blobs together.
    pub const fn raw_len(&self) -> u64 {
        self.raw_len
    }

    /// All its bytes in the file.
    pub const fn bytes(&self) -> &Content {
        &self.bytes
    }

    /// Where it begins in the file.
    pub const fn offset(&self) -> u64 {
        self.offset
    }

    /// Bytes in the file.
    pub const fn packed_len(&self) -> u64 {
        self.bytes.len()
    }

    /// Bytes of a chunk before compression.
    pub(crate) const fn chunk_len(&self) -> u32 {
        self.chunk_len
    }

    /// The bytes of chunk `n`, decoded now or lately.
    pub(crate) fn chunk(&self, n: usize, unpacker: &mut Unpacker, job: &Job<'_>) -> Result<Arc<Vec<u8>>> {
        let slot = self.cache.slot((self.offset, n));
        // Whoever wants the same chunk meanwhile waits here; other chunks are decoded beside it.
        let mut held = slot.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(bytes) = held.as_ref() {
            return Ok(Arc::clone(bytes));
        }
        let bytes = Arc::new(self.decode_chunk(n, unpacker, job)?);
        *held = Some(Arc::clone(&bytes));
        drop(held);
        self.cache.holds((self.offset, n), bytes.len());
        Ok(bytes)
    }

    fn decode_chunk(&self, n: usize, unpacker: &mut Unpacker, job: &Job<'_>) -> Result<Vec<u8>> {
        let (start, end) = (self.chunks[n], self.chunks[n + 1]);
        let raw_len = (self.raw_len - n as u64 * u64::from(self.chunk_len)).min(u64::from(self.chunk_len));
        let mut packed = vec![0; (end - start) as usize];
        self.bytes.read_exact_at(start, &mut packed)?;
        match self.method {
            _ if packed.len() as u64 == raw_len => Ok(packed),
            Some(method) => {
                let mut raw = vec![0; raw_len as usize];
                unpacker
                    .decode(method, self.chunk_len, &packed, &mut raw, job)
                    .map_err(|fault| damaged(method, self.offset + start, fault))?;
                Ok(raw)
            }
            None => Err(Error::bad_field(
                "SolidChunkTable",
                "size",
                self.offset + start,
                format!("{raw_len} bytes"),
                packed.len(),
            )),
        }
    }
}

/// A resource by its place in the file, and the number of a chunk.
type ChunkName = (u64, usize);
/// A chunk that is being decoded or is there.
type Slot = Arc<Mutex<Option<Arc<Vec<u8>>>>>;

/// Chunks that were decoded lately, for all solid resources of one file together: blobs are wanted in any order, and
/// a chunk takes long to decode and much memory to keep.
#[derive(Default)]
pub(crate) struct ChunkCache {
    /// The newest last, with the bytes that each holds.
    recent: Mutex<Vec<(ChunkName, Slot, u64)>>,
}

impl ChunkCache {
    /// Bytes that are kept in any case. Beyond that, one chunk for each core and one more: threads go through resources
    /// of their own.
    const KEPT: u64 = 32 << 20;

    fn slot(&self, name: ChunkName) -> Slot {
        let mut recent = self.recent.lock().unwrap_or_else(PoisonError::into_inner);
        let entry = match recent.iter().position(|(own, _, _)| *own == name) {
            Some(at) => recent.remove(at),
            None => (name, Slot::default(), 0),
        };
        let slot = Arc::clone(&entry.1);
        recent.push(entry);
        slot
    }

    /// Notes what a chunk holds, and lets the oldest go when it is too much.
    fn holds(&self, name: ChunkName, bytes: u64) {
        let mut recent = self.recent.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(entry) = recent.iter_mut().find(|(own, _, _)| *own == name) {
            entry.2 = bytes;
        }
        let mut total: u64 = recent.iter().map(|(_, _, bytes)| bytes).sum();
        let most = thread_count(0) + 1;
        while total > Self::KEPT && recent.len() > most {
            total -= recent.remove(0).2;
        }
    }
}

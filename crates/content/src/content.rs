//! Lazy content: a list of pieces that are fetched only when they are written or read.

use crate::{Error, Job, ReadAt, Result, Source, read_at::past_end};
use std::{fmt, ops::Range, path::Path, sync::Arc};

/// A value computed when it is written.
pub trait Producer: Send + Sync {
    /// Length in bytes, known beforehand because layouts are made before anything is written.
    fn len(&self) -> u64;

    /// Whether it produces nothing.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Calls `each` with the bytes of `range`, in order. Computes no more than they need, ends as soon as `each` fails,
    /// and looks at `job` often enough to stop within a tenth of a second.
    ///
    /// # Errors
    /// Those of `each` and of what is read; `Cancelled` when a stop was asked for.
    fn produce(
        &self,
        range: Range<u64>,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()>;

    /// Calls `found` with each file that the bytes are computed from.
    fn sources(&self, _found: &mut dyn FnMut(&Arc<Source>)) {}
}

/// Passes on the part of a stream that lies in a range, for producers that can only begin at the start.
pub struct Clip {
    position: u64,
    range: Range<u64>,
}

impl Clip {
    /// Passes on what lies in `range`, in bytes from the start of the stream.
    pub const fn new(range: Range<u64>) -> Self {
        Self { position: 0, range }
    }

    /// Passes over `count` bytes of the stream.
    pub const fn skip(&mut self, count: u64) {
        self.position += count;
    }

    /// Whether nothing more is wanted.
    pub const fn is_done(&self) -> bool {
        self.position >= self.range.end
    }

    /// Takes the next `bytes` of the stream.
    ///
    /// # Errors
    /// Those of `each`.
    pub fn push(&mut self, bytes: &[u8], each: &mut dyn FnMut(&[u8]) -> Result<()>) -> Result<()> {
        let (start, end) = (self.position, self.position + bytes.len() as u64);
        self.position = end;
        let (from, to) = (self.range.start.max(start), self.range.end.min(end));
        if from < to { each(&bytes[(from - start) as usize..(to - start) as usize]) } else { Ok(()) }
    }
}

/// One piece of content.
#[derive(Clone)]
pub enum Piece {
    /// `len` bytes of a file from `offset` on.
    Extent {
        /// The file.
        source: Arc<Source>,
        /// First byte, from the start of the file.
        offset: u64,
        /// Number of bytes.
        len: u64,
    },
    /// Part of a block in memory.
    Bytes {
        /// The block.
        block: Arc<[u8]>,
        /// First byte of the block that belongs to the piece.
        start: usize,
        /// Number of bytes.
        len: usize,
    },
    /// This many zeros.
    Zeros(u64),
    /// Part of something that is computed when it is written.
    Deferred {
        /// What computes it.
        producer: Arc<dyn Producer>,
        /// First byte of the producer's output that belongs to the piece.
        start: u64,
        /// Number of bytes.
        len: u64,
    },
}

impl Piece {
    /// Length in bytes.
    pub fn len(&self) -> u64 {
        match self {
            Self::Extent { len, .. } | Self::Zeros(len) | Self::Deferred { len, .. } => *len,
            Self::Bytes { len, .. } => *len as u64,
        }
    }

    /// Whether there are no bytes in it.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The part of the piece from `skip` on, `take` bytes long; both must lie within the piece.
    fn part(&self, skip: u64, take: u64) -> Self {
        match self {
            Self::Extent { source, offset, .. } => {
                Self::Extent { source: Arc::clone(source), offset: offset + skip, len: take }
            }
            Self::Bytes { block, start, .. } => {
                Self::Bytes { block: Arc::clone(block), start: start + skip as usize, len: take as usize }
            }
            Self::Zeros(_) => Self::Zeros(take),
            Self::Deferred { producer, start, .. } => {
                Self::Deferred { producer: Arc::clone(producer), start: start + skip, len: take }
            }
        }
    }
}

/// Bytes that are not there yet. Cheap to clone.
#[derive(Clone, Default)]
pub struct Content {
    pieces: Arc<[Piece]>,
    len: u64,
}

impl fmt::Debug for Content {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Content({} bytes in {} pieces)", self.len, self.pieces.len())
    }
}

impl Content {
    /// Content made of `pieces` one after another; neighbouring extents of one file are joined.
    ///
    /// Fails when the lengths add up to more than a 64-bit number holds.
    ///
    /// # Errors
    /// `LimitExceeded` when the lengths add up to more than 64 bits hold.
    pub fn from_pieces(pieces: impl IntoIterator<Item = Piece>) -> Result<Self> {
        let mut joined: Vec<Piece> = Vec::new();
        let mut total = 0_u64;
        for piece in pieces {
            if piece.is_empty() {
                continue;
            }
            total = total.checked_add(piece.len()).ok_or_else(|| Error::Limit {
                what: "size of content in bytes".into(),
                offset: 0,
                limit: u64::MAX,
                found: u64::MAX,
            })?;
            match (joined.last_mut(), &piece) {
                (
                    Some(Piece::Extent { source, offset, len }),
                    Piece::Extent { source: next, offset: next_offset, len: next_len },
                ) if Arc::ptr_eq(source, next) && *offset + *len == *next_offset => *len += next_len,
                (Some(Piece::Zeros(len)), Piece::Zeros(more)) => *len += more,
                _ => joined.push(piece),
            }
        }
        Ok(Self { pieces: joined.into(), len: total })
    }

    /// Content held in memory.
    pub fn from_bytes(bytes: impl Into<Arc<[u8]>>) -> Self {
        let block: Arc<[u8]> = bytes.into();
        let len = <[u8]>::len(&block);
        let pieces: Arc<[Piece]> =
            if len == 0 { Arc::new([]) } else { Arc::new([Piece::Bytes { block, start: 0, len }]) };
        Self { pieces, len: len as u64 }
    }

    /// A whole file.
    pub fn from_source(source: Arc<Source>) -> Self {
        let len = source.len();
        let pieces: Arc<[Piece]> =
            if len == 0 { Arc::new([]) } else { Arc::new([Piece::Extent { source, offset: 0, len }]) };
        Self { pieces, len }
    }

    /// The file at `path`, opened when its bytes are wanted.
    ///
    /// # Errors
    /// `Io` when nothing can be learned of it, `BadRequest` when it is not there or neither a file nor a block device.
    pub fn from_path(path: &Path) -> Result<Self> {
        let metadata = std::fs::metadata(path).map_err(Error::input("examine", path))?;
        if !metadata.is_file() {
            return Err(Error::request(format!("{} is not a file", path.display()), "name a file"));
        }
        Ok(Self::from_source(Source::opened_on_use(path, &metadata)))
    }

    /// `len` zeros.
    pub fn zeros(len: u64) -> Self {
        Self { pieces: if len == 0 { Arc::new([]) } else { Arc::new([Piece::Zeros(len)]) }, len }
    }

    /// What `producer` will write.
    pub fn deferred(producer: Arc<dyn Producer>) -> Self {
        let len = producer.len();
        Self { pieces: Arc::new([Piece::Deferred { producer, start: 0, len }]), len }
    }

    /// Length in bytes.
    pub const fn len(&self) -> u64 {
        self.len
    }

    /// Whether there are no bytes in it.
    pub const fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// The pieces in order.
    pub fn pieces(&self) -> &[Piece] {
        &self.pieces
    }

    /// Whether both are put together from the same pieces, so that their bytes are equal without reading them.
    pub fn is_same(&self, other: &Self) -> bool {
        let same = |(own, other): (&Piece, &Piece)| match (own, other) {
            (
                Piece::Extent { source, offset, len },
                Piece::Extent { source: other_source, offset: other_offset, len: other_len },
            ) => Arc::ptr_eq(source, other_source) && offset == other_offset && len == other_len,
            (
                Piece::Bytes { block, start, len },
                Piece::Bytes { block: other_block, start: other_start, len: other_len },
            ) => Arc::ptr_eq(block, other_block) && start == other_start && len == other_len,
            (Piece::Zeros(len), Piece::Zeros(other_len)) => len == other_len,
            (
                Piece::Deferred { producer, start, len },
                Piece::Deferred { producer: other_producer, start: other_start, len: other_len },
            ) => Arc::ptr_eq(producer, other_producer) && start == other_start && len == other_len,
            _ => false,
        };
        self.len() == other.len()
            && self.pieces().len() == other.pieces().len()
            && self.pieces().iter().zip(other.pieces()).all(same)
    }

    /// The `len` bytes from `offset` on; fails if they are not all there.
    ///
    /// # Errors
    /// `Corrupt` (truncated) when they are not.
    pub fn part(&self, offset: u64, len: u64) -> Result<Self> {
        let end = offset
            .checked_add(len)
            .filter(|end| *end <= self.len)
            .ok_or_else(|| past_end("part of content", offset, len, self.len))?;
        let mut position = 0;
        let mut parts = Vec::new();
        for piece in self.pieces.iter() {
            let (start, stop) = (position.max(offset), (position + piece.len()).min(end));
            if start < stop {
                parts.push(piece.part(start - position, stop - start));
            }
            position += piece.len();
        }
        Self::from_pieces(parts)
    }

    /// The same content with `bytes` in place of as many at `offset`; fails if it is too short for that.
    ///
    /// # Errors
    /// `Corrupt` (truncated) when it is.
    pub fn patched(&self, offset: u64, bytes: &[u8]) -> Result<Self> {
        let after = offset.saturating_add(bytes.len() as u64);
        let (front, middle) = (self.part(0, offset)?, Self::from_bytes(bytes));
        let back = self.part(
            after,
            self.len
                .checked_sub(after)
                .ok_or_else(|| past_end("patched content", offset, bytes.len() as u64, self.len))?,
        )?;
        Self::joined([front, middle, back])
    }

    /// Several contents one after another.
    ///
    /// # Errors
    /// `LimitExceeded` when the lengths add up to more than 64 bits hold.
    pub fn joined(contents: impl IntoIterator<Item = Self>) -> Result<Self> {
        Self::from_pieces(contents.into_iter().flat_map(|content| content.pieces.to_vec()))
    }

    /// Calls `each` with the content's bytes in order, at most `block_len` at a time.
    ///
    /// # Errors
    /// `Io`, those of `each`, `Cancelled` once the job is stopped, and what reading deferred content gives.
    pub fn for_each_block(
        &self,
        block_len: usize,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        let mut buffer = Vec::new();
        for piece in self.pieces.iter() {
            job.check()?;
            match piece {
                Piece::Bytes { block, start, len } => {
                    for chunk in block[*start..start + len].chunks(block_len) {
                        each(chunk)?;
                    }
                }
                Piece::Zeros(len) => {
                    buffer.clear();
                    buffer.resize(block_len.min(*len as usize), 0);
                    let mut left = *len;
                    while left > 0 {
                        job.check()?;
                        let step = left.min(buffer.len() as u64);
                        each(&buffer[..step as usize])?;
                        left -= step;
                    }
                }
                Piece::Extent { source, offset, len } => {
                    use crate::system::FileExt;
                    let file = source.file()?;
                    source.check_open(&file)?;
                    buffer.resize(block_len.min(usize::try_from(*len).unwrap_or(usize::MAX)), 0);
                    let mut done = 0;
                    while done < *len {
                        job.check()?;
                        let step = (*len - done).min(buffer.len() as u64) as usize;
                        file.read_exact_at(&mut buffer[..step], offset + done)
                            .map_err(|error| source.reading_failed(error))?;
                        each(&buffer[..step])?;
                        done += step as u64;
                    }
                    source.check_open(&file)?;
                }
                Piece::Deferred { producer, start, len } => {
                    let mut left = *len;
                    producer.produce(*start..start + len, job, &mut |block| {
                        left = left.checked_sub(block.len() as u64).ok_or_else(|| {
                            Error::internal("computed content is longer than it was said to be")
                        })?;
                        block.chunks(block_len).try_for_each(&mut *each)
                    })?;
                    if left > 0 {
                        return Err(past_end("computed content", *start, *len, start + len - left));
                    }
                }
            }
        }
        Ok(())
    }

    /// Calls `found` with each file that the bytes come from, those of computed values too; more than once for some.
    pub fn for_each_source(&self, found: &mut dyn FnMut(&Arc<Source>)) {
        for piece in self.pieces.iter() {
            match piece {
                Piece::Extent { source, .. } => found(source),
                Piece::Deferred { producer, .. } => producer.sources(found),
                Piece::Bytes { .. } | Piece::Zeros(_) => {}
            }
        }
    }

    /// All bytes in one vector; fails above `limit` bytes. `what` names them in the error.
    ///
    /// # Errors
    /// `LimitExceeded` above `limit`, else as [`Content::for_each_block`].
    pub fn to_vec(&self, limit: u64, what: &str) -> Result<Vec<u8>> {
        crate::read_vec(self, 0, self.len, limit, what)
    }

    /// Where the content's first byte lies in `source`, if it begins with an extent of that file.
    pub fn offset_in(&self, source: &Arc<Source>) -> Option<u64> {
        match self.pieces.first()? {
            Piece::Extent { source: own, offset, .. } if Arc::ptr_eq(own, source) => Some(*offset),
            _ => None,
        }
    }
}

impl ReadAt for Content {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_exact_at(&self, offset: u64, buffer: &mut [u8]) -> Result<()> {
        let wanted = buffer.len() as u64;
        let end = offset
            .checked_add(wanted)
            .filter(|end| *end <= self.len)
            .ok_or_else(|| past_end("content", offset, wanted, self.len))?;
        let mut position = 0;
        for piece in self.pieces.iter() {
            let next = position + piece.len();
            let (start, stop) = (position.max(offset), next.min(end));
            if start < stop {
                let target = &mut buffer[(start - offset) as usize..(stop - offset) as usize];
                match piece.part(start - position, stop - start) {
                    Piece::Extent { source, offset, .. } => source.read_exact_at(offset, target)?,
                    Piece::Bytes { block, start, len } => target.copy_from_slice(&block[start..start + len]),
                    Piece::Zeros(_) => target.fill(0),
                    deferred @ Piece::Deferred { .. } => {
                        let mut filled = 0;
                        Self::from_pieces([deferred])?.for_each_block(
                            64 * 1024,
                            &Job::silent(),
                            &mut |block| {
                                target[filled..filled + block.len()].copy_from_slice(block);
                                filled += block.len();
                                Ok(())
                            },
                        )?;
                    }
                }
            }
            position = next;
            if position >= end {
                break;
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::io::Write;

    struct Counting(u64);
    impl Producer for Counting {
        fn len(&self) -> u64 {
            self.0
        }
        fn produce(
            &self,
            range: Range<u64>,
            _job: &Job<'_>,
            each: &mut dyn FnMut(&[u8]) -> Result<()>,
        ) -> Result<()> {
            let mut clip = Clip::new(range);
            (0..self.0).try_for_each(|n| clip.push(&[n as u8], each))
        }
    }

    fn sample(dir: &Path) -> (Content, Vec<u8>) {
        let path = dir.join("a");
        let file: Vec<u8> = (0..9000_u32).map(|n| (n % 253) as u8).collect();
        std::fs::File::create(&path).unwrap().write_all(&file).unwrap();
        let source = Source::open(&path).unwrap();
        let content = Content::joined([
            Content::from_source(Arc::clone(&source)).part(10, 5000).unwrap(),
            Content::zeros(300),
            Content::deferred(Arc::new(Counting(700))),
            Content::from_bytes(b"end".to_vec()),
        ])
        .unwrap();
        let mut plain = file[10..5010].to_vec();
        plain.extend(std::iter::repeat_n(0, 300));
        plain.extend((0..700_u32).map(|n| n as u8));
        plain.extend(b"end");
        (content, plain)
    }

    proptest! {
        #[test]
        fn parts_and_patches_equal_slices(offset in 0_usize..6003, len in 0_usize..6003, patch in proptest::collection::vec(any::<u8>(), 0..50)) {
            let dir = tempfile::tempdir().unwrap();
            let (content, mut plain) = sample(dir.path());
            let len = len.min(plain.len() - offset);
            let part = content.part(offset as u64, len as u64).unwrap();
            prop_assert_eq!(part.to_vec(1 << 20, "part").unwrap(), &plain[offset..offset + len]);
            let mut blocks = Vec::new();
            part.for_each_block(97, &Job::silent(), &mut |block| { blocks.extend_from_slice(block); Ok(()) }).unwrap();
            prop_assert_eq!(&blocks, &plain[offset..offset + len]);
            if offset + patch.len() <= plain.len() {
                plain[offset..offset + patch.len()].copy_from_slice(&patch);
                prop_assert_eq!(content.patched(offset as u64, &patch).unwrap().to_vec(1 << 20, "patched").unwrap(), plain);
            }
        }
    }

    #[test]
    fn neighbouring_extents_are_joined() {
        let dir = tempfile::tempdir().unwrap();
        let (content, _) = sample(dir.path());
        let again =
            Content::joined([content.part(0, 100).unwrap(), content.part(100, 200).unwrap()]).unwrap();
        assert_eq!(again.pieces().len(), 1);
        assert!(content.part(6000, 4).is_err());
        assert!(content.patched(6002, b"xx").is_err());
    }

    #[test]
    fn a_file_that_changes_length_is_noticed() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("b");
        std::fs::write(&path, b"12345").unwrap();
        let content = Content::from_path(&path).unwrap();
        std::fs::write(&path, b"123").unwrap();
        assert!(content.to_vec(100, "file").unwrap_err().to_string().contains("it had 5 bytes and has 3"));
    }
}

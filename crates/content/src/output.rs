//! The copy engine: content into a file, once, in order.

use crate::{
    Content, DigestKind, Digester, Error, Event, Job, Piece, Result, Source, SourceSet,
    system::{Errno, FileExt, PageAdvice, SeekFrom, copy_file_range, fadvise, seek},
};
use std::{
    fs::File,
    path::{Path, PathBuf},
};

/// Small writes are gathered up to this many bytes.
const BUFFER_LEN: usize = 1024 * 1024;
/// Below this an extent is read into the buffer, because a system call of its own costs more.
const KERNEL_COPY_FROM: u64 = 128 * 1024;
/// Bytes moved between two looks at the stop flag.
const STEP: u64 = 16 * 1024 * 1024;
/// Runs of zeros from this length on become holes.
const HOLE_FROM: u64 = 64 * 1024;

/// Writes a file from its start to its end.
///
/// Large extents are moved by the kernel (`copy_file_range`, which shares blocks where the file system can);
/// with a digest wanted, or where the kernel declines, they go through a large buffer. Holes of a source stay
/// holes.
pub struct Output {
    file: File,
    path: PathBuf,
    position: u64,
    buffer: Vec<u8>,
    digester: Option<Digester>,
    kernel_copy: bool,
    sparse: bool,
    sources: SourceSet,
}

impl Output {
    /// Writes to `file`, which is empty and is called `path` in errors; with `digest`, all bytes are digested
    /// on the way.
    pub fn new(file: File, path: &Path, digest: Option<DigestKind>) -> Self {
        Self {
            file,
            path: path.to_owned(),
            position: 0,
            buffer: Vec::with_capacity(BUFFER_LEN),
            digester: digest.map(Digester::start),
            kernel_copy: digest.is_none(),
            sparse: true,
            sources: SourceSet::default(),
        }
    }

    /// Bytes written so far.
    pub fn position(&self) -> u64 {
        self.position + self.buffer.len() as u64
    }

    fn flush(&mut self) -> Result<()> {
        if self.buffer.is_empty() {
            return Ok(());
        }
        self.file.write_all_at(&self.buffer, self.position).map_err(Error::io("write", &self.path))?;
        self.position += self.buffer.len() as u64;
        if let Some(digester) = &mut self.digester {
            let fresh = digester.buffer();
            digester.add(std::mem::replace(&mut self.buffer, fresh));
        } else {
            self.buffer.clear();
        }
        Ok(())
    }

    /// Appends `bytes`.
    ///
    /// # Errors
    /// `Io`, as on a full disk.
    pub fn write_bytes(&mut self, bytes: &[u8]) -> Result<()> {
        let mut rest = bytes;
        while !rest.is_empty() {
            let room = BUFFER_LEN - self.buffer.len();
            let (now, later) = rest.split_at(rest.len().min(room));
            self.buffer.extend_from_slice(now);
            rest = later;
            if self.buffer.len() == BUFFER_LEN {
                self.flush()?;
            }
        }
        Ok(())
    }

    /// Appends `count` zeros, as a hole where there are many.
    ///
    /// # Errors
    /// `Io`, as on a full disk.
    pub fn write_zeros(&mut self, count: u64) -> Result<()> {
        if count >= HOLE_FROM && self.sparse && self.digester.is_none() {
            self.flush()?;
            self.position += count;
            return Ok(());
        }
        let mut left = count;
        while left > 0 {
            let room = (BUFFER_LEN - self.buffer.len()) as u64;
            let step = left.min(room) as usize;
            self.buffer.resize(self.buffer.len() + step, 0);
            left -= step as u64;
            if self.buffer.len() == BUFFER_LEN {
                self.flush()?;
            }
        }
        Ok(())
    }

    /// Appends zeros up to `position` bytes from the start; fails if that is already behind.
    ///
    /// # Errors
    /// `Internal` when it is; `Io`.
    pub fn pad_to(&mut self, position: u64) -> Result<()> {
        let missing = position.checked_sub(self.position()).ok_or_else(|| {
            Error::internal(format!(
                "the layout of {} has byte {position:#x} where {:#x} is written",
                self.path.display(),
                self.position()
            ))
        })?;
        self.write_zeros(missing)
    }

    /// Appends `content` and reports the bytes to `job`.
    ///
    /// # Errors
    /// `Io` of either side, `Corrupt` when a source is shorter than it was, `Cancelled`.
    pub fn write_content(&mut self, content: &Content, job: &Job<'_>) -> Result<()> {
        self.sources.add(content);
        for piece in content.pieces() {
            job.check()?;
            match piece {
                Piece::Bytes { block, start, len } => {
                    self.write_bytes(&block[*start..start + len])?;
                    job.event(Event::BytesDone(*len as u64));
                }
                Piece::Zeros(len) => {
                    self.write_zeros(*len)?;
                    job.event(Event::BytesDone(*len));
                }
                Piece::Extent { source, offset, len } => self.write_extent(source, *offset, *len, job)?,
                Piece::Deferred { .. } => {
                    let single = Content::from_pieces([piece.clone()])?;
                    single.for_each_block(BUFFER_LEN, job, &mut |block| {
                        job.event(Event::BytesDone(block.len() as u64));
                        self.write_bytes(block)
                    })?;
                }
            }
        }
        Ok(())
    }

    /// Appends `content` like [`Output::write_content`] and digests it on the way.
    ///
    /// # Errors
    /// As [`Output::write_content`].
    pub fn write_digested(&mut self, content: &Content, kind: DigestKind, job: &Job<'_>) -> Result<String> {
        self.sources.add(content);
        let mut digester = Digester::for_len(kind, content.len());
        content.for_each_block(BUFFER_LEN, job, &mut |block| {
            digester.add_slice(block);
            job.event(Event::BytesDone(block.len() as u64));
            self.write_bytes(block)
        })?;
        digester.finish()
    }

    fn write_extent(&mut self, source: &Source, offset: u64, len: u64, job: &Job<'_>) -> Result<()> {
        let file = source.file()?;
        source.check_open(&file)?;
        if len < KERNEL_COPY_FROM {
            self.copy_through_buffer(&file, source, offset, len, job)?;
        } else {
            self.copy_with_holes(&file, source, offset, len, job)?;
        }
        // A file that was cut short meanwhile had no more data, which is not the same as zeros.
        source.check_open(&file)
    }

    fn copy_with_holes(
        &mut self,
        file: &File,
        source: &Source,
        offset: u64,
        len: u64,
        job: &Job<'_>,
    ) -> Result<()> {
        let end = offset + len;
        let mut at = offset;
        while at < end {
            // Seeking to the next data is answered from the extent map; file systems without holes say "here".
            let data = match seek(file, SeekFrom::Data(at)) {
                Ok(data) => data.clamp(at, end),
                // A hole up to the end of the file, unless the file ends earlier.
                Err(Errno::NXIO) => {
                    let found = file.metadata().map_err(Error::io("examine", source.path()))?.len();
                    if found < end {
                        return Err(Error::changed_source(
                            source.path(),
                            format!("it ends at byte {found}, and bytes up to {end} are wanted"),
                        ));
                    }
                    end
                }
                Err(_) => at,
            };
            if data > at {
                self.write_zeros(data - at)?;
                job.event(Event::BytesDone(data - at));
            }
            if data >= end {
                break;
            }
            let hole = seek(file, SeekFrom::Hole(data)).map_or(end, |hole| hole.clamp(data, end));
            // A hole reported where data was found would go round for ever; take the rest as data then.
            let hole = if hole == data { end } else { hole };
            self.copy_data(file, source, data, hole - data, job)?;
            at = hole;
        }
        Ok(())
    }

    fn copy_data(
        &mut self,
        file: &File,
        source: &Source,
        offset: u64,
        len: u64,
        job: &Job<'_>,
    ) -> Result<()> {
        if !self.kernel_copy || len < KERNEL_COPY_FROM {
            return self.copy_through_buffer(file, source, offset, len, job);
        }
        self.flush()?;
        let (mut from, mut left) = (offset, len);
        while left > 0 {
            job.check()?;
            let mut to = self.position;
            match copy_file_range(file, Some(&mut from), &self.file, Some(&mut to), left.min(STEP) as usize) {
                Ok(moved) if moved > 0 => {
                    self.start_writing_out(self.position, moved as u64);
                    self.position += moved as u64;
                    left -= moved as u64;
                    job.event(Event::BytesDone(moved as u64));
                }
                // Nothing moved, or "not between these files": from here on through the buffer, where a real
                // fault of the disk will be reported by read or write.
                _ => {
                    self.kernel_copy = false;
                    return self.copy_through_buffer(file, source, from, left, job);
                }
            }
        }
        Ok(())
    }

    /// Lets the disk begin on what was just written, so that the sync at the end has little left to wait for. This
    /// is the one portable call that starts writing without waiting; pages not yet on the disk stay in memory.
    fn start_writing_out(&self, position: u64, len: u64) {
        let _ = fadvise(&self.file, position, std::num::NonZeroU64::new(len), PageAdvice::DontNeed);
    }

    fn copy_through_buffer(
        &mut self,
        file: &File,
        source: &Source,
        offset: u64,
        len: u64,
        job: &Job<'_>,
    ) -> Result<()> {
        let mut done = 0;
        while done < len {
            job.check()?;
            let start = self.buffer.len();
            let step = (len - done).min((BUFFER_LEN - start) as u64) as usize;
            self.buffer.resize(start + step, 0);
            if let Err(error) = file.read_exact_at(&mut self.buffer[start..], offset + done) {
                self.buffer.truncate(start);
                return Err(source.reading_failed(error));
            }
            done += step as u64;
            job.event(Event::BytesDone(step as u64));
            if self.buffer.len() == BUFFER_LEN {
                self.flush()?;
            }
        }
        Ok(())
    }

    /// Overwrites bytes that were written before. Not for outputs that are digested.
    ///
    /// # Errors
    /// `Internal` when they were not written before; `Io`.
    pub fn patch(&mut self, position: u64, bytes: &[u8]) -> Result<()> {
        if position + bytes.len() as u64 > self.position() || self.digester.is_some() {
            return Err(self.out_of_order(position));
        }
        if position >= self.position {
            let start = (position - self.position) as usize;
            self.buffer[start..start + bytes.len()].copy_from_slice(bytes);
            return Ok(());
        }
        self.flush()?;
        self.file.write_all_at(bytes, position).map_err(Error::io("write", &self.path))
    }

    /// Takes back everything from `position` on. Not for outputs that are digested.
    ///
    /// # Errors
    /// `Internal` when `position` is ahead; `Io`.
    pub fn rewind(&mut self, position: u64) -> Result<()> {
        if position > self.position() || self.digester.is_some() {
            return Err(self.out_of_order(position));
        }
        if position >= self.position {
            self.buffer.truncate((position - self.position) as usize);
            return Ok(());
        }
        self.buffer.clear();
        self.position = position;
        // What is written again may leave holes, and nothing must show through.
        self.file.set_len(position).map_err(Error::io("shorten", &self.path))
    }

    /// What was written so far, for reading it again.
    ///
    /// # Errors
    /// `Io` when the file cannot be opened for reading.
    pub fn written(&mut self) -> Result<Content> {
        self.flush()?;
        self.file.set_len(self.position).map_err(Error::io("set the length of", &self.path))?;
        let file = self.file.try_clone().map_err(Error::io("open again", &self.path))?;
        Ok(Content::from_source(Source::from_file(file, &self.path)?))
    }

    fn out_of_order(&self, position: u64) -> Error {
        Error::internal(format!(
            "byte {position:#x} is not among the {} bytes written to {}",
            self.position(),
            self.path.display()
        ))
    }

    /// Notes that `content` went into this output by another way, so that its sources are compared at the end too.
    pub fn note_sources(&mut self, content: &Content) {
        self.sources.add(content);
    }

    /// Writes what is gathered, gives the file its final length, and returns the digest if one was asked for.
    ///
    /// # Errors
    /// `Failed` when a file that bytes came from is not what it was any more; `Io` when the system refuses to write.
    pub fn finish(mut self) -> Result<(File, Option<String>)> {
        self.flush()?;
        self.sources.check_unchanged()?;
        self.file.set_len(self.position).map_err(Error::io("set the length of", &self.path))?;
        let digest = self.digester.map(Digester::finish).transpose()?;
        Ok((self.file, digest))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest_of;
    use crate::system::MetadataExt;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicBool, Ordering};

    fn write(content: &Content, path: &Path, digest: Option<DigestKind>) -> Option<String> {
        let file = File::options().create_new(true).read(true).write(true).open(path).unwrap();
        let mut output = Output::new(file, path, digest);
        output.write_bytes(b"front").unwrap();
        output.write_content(content, &Job::silent()).unwrap();
        output.write_zeros(70_000).unwrap();
        output.pad_to(content.len() + 5 + 70_001).unwrap();
        assert!(output.pad_to(1).is_err());
        output.finish().unwrap().1
    }

    #[test]
    fn every_way_of_copying_gives_the_same_bytes_and_keeps_holes() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("sparse");
        let file = File::create(&path).unwrap();
        file.set_len(40 << 20).unwrap();
        let data: Vec<u8> = (0..700_000_u32).map(|n| (n % 249) as u8 + 1).collect();
        file.write_all_at(&data, 3 << 20).unwrap();
        file.write_all_at(&data, (20 << 20) + 17).unwrap();
        let content = Content::from_path(&path).unwrap().part(1000, (39 << 20) + 5).unwrap();
        let (plain, hashed) = (dir.path().join("plain"), dir.path().join("hashed"));
        assert_eq!(write(&content, &plain, None), None);
        let digest = write(&content, &hashed, Some(DigestKind::Sha256)).unwrap();
        let (plain_bytes, hashed_bytes) = (std::fs::read(&plain).unwrap(), std::fs::read(&hashed).unwrap());
        assert!(plain_bytes == hashed_bytes);
        let mut expected = b"front".to_vec();
        expected.extend(content.to_vec(1 << 30, "all").unwrap());
        expected.resize(expected.len() + 70_001, 0);
        assert!(plain_bytes == expected);
        let path = dir.path().join("digested");
        let mut output = Output::new(File::create(&path).unwrap(), &path, None);
        let of_content = output.write_digested(&content, DigestKind::Sha1, &Job::silent()).unwrap();
        output.finish().unwrap();
        assert!(std::fs::read(&path).unwrap() == expected[5..5 + content.len() as usize]);
        assert_eq!(of_content, digest_of(&content, DigestKind::Sha1, &Job::silent()).unwrap());
        assert_eq!(
            digest,
            digest_of(&Content::from_path(&plain).unwrap(), DigestKind::Sha256, &Job::silent()).unwrap()
        );
        let allocated = std::fs::metadata(&plain).unwrap().blocks() * 512;
        assert!(allocated < 10 << 20, "holes were filled: {allocated} bytes on disk");
    }

    #[test]
    fn what_was_written_can_be_changed_and_taken_back() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("out");
        let file = File::options().create_new(true).read(true).write(true).open(&path).unwrap();
        let mut output = Output::new(file, &path, None);
        let mut expected: Vec<u8> = (0..2_500_000_u32).map(|n| (n % 241) as u8).collect();
        output.write_bytes(&expected).unwrap();
        for at in [0, 1_048_570, 2_400_000] {
            output.patch(at, b"patched").unwrap();
            expected[at as usize..at as usize + 7].copy_from_slice(b"patched");
        }
        assert!(output.patch(2_499_999, b"xx").is_err());
        for back in [2_450_000, 1_500_000] {
            output.rewind(back).unwrap();
            expected.truncate(back as usize);
            output.write_bytes(b"more").unwrap();
            expected.extend(b"more");
        }
        assert!(output.written().unwrap().to_vec(1 << 30, "all").unwrap() == expected);
        output.write_zeros(200_000).unwrap();
        expected.resize(expected.len() + 200_000, 0);
        output.finish().unwrap();
        assert!(std::fs::read(&path).unwrap() == expected);
    }

    #[test]
    fn a_source_that_is_cut_short_or_written_to_gives_no_output() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("source");
        for (cut_to, held) in [(0, true), (0, false), (500_000, true), (2_999_999, false), (3_000_000, true)]
        {
            std::fs::write(&path, vec![7; 3_000_000]).unwrap();
            let content = if held {
                Content::from_source(Source::open(&path).unwrap())
            } else {
                Content::from_path(&path).unwrap()
            };
            let out = dir.path().join(format!("out-{cut_to}-{held}"));
            let mut output = Output::new(File::create(&out).unwrap(), &out, None);
            // The second half is wanted when the file has been cut; the last case only writes to it.
            output.write_content(&content.part(0, 1_000_000).unwrap(), &Job::silent()).unwrap();
            let file = File::options().write(true).open(&path).unwrap();
            file.set_len(cut_to).unwrap();
            if cut_to == 3_000_000 {
                file.write_all_at(b"x", 5).unwrap();
            }
            let rest = output.write_content(&content.part(1_000_000, 2_000_000).unwrap(), &Job::silent());
            let error = rest.and_then(|()| output.finish().map(drop)).unwrap_err();
            assert_eq!(error.class(), crate::Class::Io, "{error}");
            assert!(error.to_string().contains(&path.display().to_string()), "{error}");
        }
    }

    #[test]
    fn computed_content_ends_at_once_when_the_output_is_full() {
        struct Endless(std::sync::atomic::AtomicU64);
        impl crate::Producer for Endless {
            fn len(&self) -> u64 {
                1 << 40
            }
            fn produce(
                &self,
                range: std::ops::Range<u64>,
                _job: &Job<'_>,
                each: &mut dyn FnMut(&[u8]) -> Result<()>,
            ) -> Result<()> {
                let mut at = range.start;
                while at < range.end {
                    let step = (range.end - at).min(1 << 16);
                    self.0.fetch_add(step, Ordering::Relaxed);
                    each(&vec![1; step as usize])?;
                    at += step;
                }
                Ok(())
            }
        }
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("out");
        std::fs::write(&path, b"").unwrap();
        let producer = Arc::new(Endless(0.into()));
        // Open for reading alone: the first write fails.
        let mut output = Output::new(File::open(&path).unwrap(), &path, None);
        let content = Content::deferred(Arc::clone(&producer) as Arc<dyn crate::Producer>);
        assert_eq!(output.write_content(&content, &Job::silent()).unwrap_err().class(), crate::Class::Io);
        assert!(producer.0.load(Ordering::Relaxed) <= 2 << 20);
        let mut four = [0; 4];
        let before = producer.0.load(Ordering::Relaxed);
        crate::ReadAt::read_exact_at(&content, 1 << 39, &mut four).unwrap();
        assert_eq!((four, producer.0.load(Ordering::Relaxed) - before), ([1; 4], 4));
    }

    #[test]
    fn a_stop_ends_the_copy() {
        let dir = tempfile::tempdir().unwrap();
        let stop = AtomicBool::new(false);
        stop.store(true, Ordering::Relaxed);
        let path = dir.path().join("out");
        let mut output = Output::new(File::create(&path).unwrap(), &path, None);
        let error = output.write_content(&Content::zeros(10), &Job::new(&crate::Silent, &stop)).unwrap_err();
        assert!(matches!(error, Error::Cancelled));
    }
}

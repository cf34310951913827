//! Where an image file is written to: a file, or lazy content for something larger.

use neat_content::{Content, Error, Job, Output, Piece, Result, Spool};
use std::path::Path;

/// Takes bytes one after another; some places are filled in later.
pub(crate) trait Sink {
    /// Bytes taken so far.
    fn position(&self) -> u64;
    /// Takes content.
    fn content(&mut self, content: &Content, job: &Job<'_>) -> Result<()>;
    /// Takes bytes.
    fn bytes(&mut self, bytes: &[u8]) -> Result<()>;
    /// Overwrites bytes taken by [`Sink::bytes`].
    fn patch(&mut self, position: u64, bytes: &[u8]) -> Result<()>;
    /// Forgets everything from `position` on, which was taken by [`Sink::bytes`].
    fn rewind(&mut self, position: u64) -> Result<()>;
    /// What was taken from `from` to `to`.
    fn taken(&mut self, from: u64, to: u64) -> Result<Content>;
}

impl Sink for Output {
    fn position(&self) -> u64 {
        Self::position(self)
    }
    fn content(&mut self, content: &Content, job: &Job<'_>) -> Result<()> {
        self.write_content(content, job)
    }
    fn bytes(&mut self, bytes: &[u8]) -> Result<()> {
        self.write_bytes(bytes)
    }
    fn patch(&mut self, position: u64, bytes: &[u8]) -> Result<()> {
        Self::patch(self, position, bytes)
    }
    fn rewind(&mut self, position: u64) -> Result<()> {
        Self::rewind(self, position)
    }
    fn taken(&mut self, from: u64, to: u64) -> Result<Content> {
        self.written()?.part(from, to - from)
    }
}

/// Bytes that are held in memory up to this number, and beyond it in a file without a name.
const IN_MEMORY: usize = 64 << 20;

/// Gathers an image file as lazy content: extents of its sources stay extents; what is new is held here.
pub(crate) struct Gather {
    segments: Vec<(u64, Segment)>,
    position: u64,
    held: Spool,
}

enum Segment {
    Content(Content),
    /// Position among what is held, and length.
    Held(u64, u64),
}

impl Segment {
    fn len(&self) -> u64 {
        match self {
            Self::Content(content) => content.len(),
            Self::Held(_, len) => *len,
        }
    }
}

impl Gather {
    /// Large new data goes to an unnamed file in `folder`.
    pub(crate) fn new(folder: &Path) -> Self {
        Self { segments: Vec::new(), position: 0, held: Spool::new(IN_MEMORY, folder) }
    }

    /// All of it.
    pub(crate) fn finish(self) -> Result<Content> {
        let end = self.position;
        self.joined(0, end)
    }

    fn joined(&self, from: u64, to: u64) -> Result<Content> {
        let held = self.held.content()?;
        let mut pieces: Vec<Piece> = Vec::new();
        for (start, segment) in &self.segments {
            let content = match segment {
                Segment::Content(content) => content.clone(),
                Segment::Held(at, len) => held.part(*at, *len)?,
            };
            let (first, last) = (from.max(*start), to.min(start + content.len()));
            if first < last {
                pieces.extend(content.part(first - start, last - first)?.pieces().to_vec());
            }
        }
        Content::from_pieces(pieces)
    }
}

impl Sink for Gather {
    fn position(&self) -> u64 {
        self.position
    }

    fn content(&mut self, content: &Content, _job: &Job<'_>) -> Result<()> {
        if !content.is_empty() {
            self.segments.push((self.position, Segment::Content(content.clone())));
            self.position += content.len();
        }
        Ok(())
    }

    fn bytes(&mut self, bytes: &[u8]) -> Result<()> {
        if bytes.is_empty() {
            return Ok(());
        }
        let at = self.held.len();
        self.held.push(bytes)?;
        match self.segments.last_mut() {
            Some((_, Segment::Held(start, len))) if *start + *len == at => *len += bytes.len() as u64,
            _ => self.segments.push((self.position, Segment::Held(at, bytes.len() as u64))),
        }
        self.position += bytes.len() as u64;
        Ok(())
    }

    fn patch(&mut self, position: u64, bytes: &[u8]) -> Result<()> {
        let index = self.segments.partition_point(|(start, _)| *start <= position);
        let Some((start, Segment::Held(at, len))) = index.checked_sub(1).and_then(|n| self.segments.get(n))
        else {
            return Err(misplaced(position));
        };
        if position + bytes.len() as u64 > start + len {
            return Err(misplaced(position));
        }
        let at = at + (position - start);
        self.held.patch(at, bytes)
    }

    fn rewind(&mut self, position: u64) -> Result<()> {
        while let Some((start, segment)) = self.segments.last_mut() {
            let end = *start + segment.len();
            if end <= position {
                break;
            }
            let Segment::Held(at, len) = segment else { return Err(misplaced(position)) };
            *len = position.saturating_sub(*start);
            self.held.truncate(*at + *len);
            if *len > 0 {
                break;
            }
            self.segments.pop();
        }
        self.position = position;
        Ok(())
    }

    fn taken(&mut self, from: u64, to: u64) -> Result<Content> {
        self.joined(from, to)
    }
}

fn misplaced(position: u64) -> Error {
    Error::internal(format!("byte {position:#x}, which is to be filled in, was not written before"))
}

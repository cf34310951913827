//! What comes from outside as one thing: a folder, a cabinet, a zip file, a tar file packed with zstd, or a program
//! that carries one of these in itself. Opened, each is a tree of names over content.

mod archive;
mod cabinet;
mod program;

use crate::Limits;
use archive::Unpacked;
pub(crate) use archive::{path_of, read_cabinet};
use neat_content::{Content, Error, ReadAt, Result, Source, Timestamp, Tree, damage_apart};
pub(crate) use program::archive_in;
use std::{
    io::{self, Read, Seek, SeekFrom},
    path::Path,
    sync::{Arc, Mutex, PoisonError},
};

/// What a pack is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PackKind {
    /// A folder of this machine.
    Folder,
    /// A cabinet.
    Cabinet,
    /// A zip file.
    Zip,
    /// A tar file packed with zstd.
    TarZstd,
    /// A program that carries a cabinet or a zip file and would unpack it. It is not run.
    Program,
}

impl PackKind {
    /// A word for it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Folder => "folder",
            Self::Cabinet => "cabinet",
            Self::Zip => "zip file",
            Self::TarZstd => "tar file packed with zstd",
            Self::Program => "self-extracting program",
        }
    }
}

/// An opened pack.
#[derive(Debug)]
pub struct Pack {
    /// What it is.
    pub kind: PackKind,
    /// Its files.
    pub tree: Tree,
    /// What was left out or is unusual.
    pub notes: Vec<String>,
}

impl Pack {
    /// Opens what lies at `path`. Archives are unpacked into memory, or into a temporary file when they are large.
    ///
    /// # Errors
    /// `Io`, `Corrupt` for damaged archives, `LimitExceeded` for what unpacks to too much, `BadRequest` for other
    /// files.
    pub fn open(path: &Path) -> Result<Self> {
        Self::open_with(path, &Limits::default())
    }

    /// As [`Pack::open`], with limits of the caller's.
    ///
    /// # Errors
    /// As [`Pack::open`].
    pub fn open_with(path: &Path, limits: &Limits) -> Result<Self> {
        if path.is_dir() {
            let (tree, notes) = neat_media::folder::read_tree(path)?;
            return Ok(Self { kind: PackKind::Folder, tree, notes });
        }
        let source = Source::open(path)?;
        let modified = source.modified();
        Self::of_content_with(&Content::from_source(source), modified, limits)
            .map_err(|error| error.within(path.display()))
    }

    /// Puts the content of files that are compressed each by itself (`keel.sy_`) in their place, under their full names.
    /// What is damaged stays, with a note.
    ///
    /// # Errors
    /// What the system refuses to read.
    pub fn expand_single(&mut self, limits: &Limits) -> Result<()> {
        crate::single::expand_all(&mut self.tree, limits, &mut self.notes)
    }

    /// Whether a file with the name of an archive or a program is one that must open, or something else that only has
    /// such a name: cabinets of another maker, installers.
    ///
    /// # Errors
    /// `Io` when it cannot be read.
    pub fn is_one(name: &str, content: &Content) -> Result<bool> {
        /// Cabinets of another form, which some installers have.
        const OTHER_CABINET: &[u8] = b"ISc(";
        let lower = name.to_lowercase();
        if !lower.ends_with(".exe") {
            let mut first = [0; 4];
            let len = content.len().min(4) as usize;
            content.read_exact_at(0, &mut first[..len])?;
            return Ok(first != OTHER_CABINET);
        }
        if kind_of(content)? != Some(PackKind::Program) {
            return Ok(false);
        }
        Ok(match damage_apart(program::archive_in(content, &Limits::default()))? {
            Ok((PackKind::Cabinet, _)) => true,
            // Four bytes that look like the start of a zip file are in many programs.
            Ok((_, part)) => archive::has_zip_directory(&part)?,
            Err(_) => false,
        })
    }

    /// Opens an archive that lies in another, or on a media.
    ///
    /// # Errors
    /// As [`Pack::open`].
    pub fn of_content(content: &Content, modified: Timestamp) -> Result<Self> {
        Self::of_content_with(content, modified, &Limits::default())
    }

    /// As [`Pack::of_content`], with limits of the caller's.
    ///
    /// # Errors
    /// As [`Pack::open`].
    pub fn of_content_with(content: &Content, modified: Timestamp, limits: &Limits) -> Result<Self> {
        let Some(kind) = kind_of(content)? else {
            return Err(Error::Mismatch {
                expected: "a folder, a cabinet, a zip file or a self-extracting program".into(),
                found: "something else".into(),
                hint: "unpack it yourself and name the folder".into(),
            });
        };
        let mut unpacked = Unpacked::new(content.len(), modified, limits);
        let mut inner = kind;
        let mut part = content.clone();
        if kind == PackKind::Program {
            (inner, part) = program::archive_in(content, limits)?;
        }
        let fault = Fault::default();
        fault.first(match inner {
            PackKind::Cabinet => unpacked.add_cabinet(&part, &fault),
            PackKind::Zip => unpacked.add_zip(&part, &fault),
            _ => unpacked.add_tar_zstd(&part, &fault),
        })?;
        let (tree, notes) = unpacked.finish()?;
        Ok(Self { kind, tree, notes })
    }
}

/// What a file is, by its first bytes.
pub(crate) fn kind_of(content: &Content) -> Result<Option<PackKind>> {
    let mut first = [0; 4];
    let len = content.len().min(4) as usize;
    content.read_exact_at(0, &mut first[..len])?;
    Ok(match &first[..len] {
        b"MSCF" => Some(PackKind::Cabinet),
        b"PK\x03\x04" | b"PK\x05\x06" => Some(PackKind::Zip),
        [0x28, 0xB5, 0x2F, 0xFD] => Some(PackKind::TarZstd),
        [b'M', b'Z', ..] => Some(PackKind::Program),
        _ => None,
    })
}

/// Content as a file with a position. A fault of reading is kept apart: the libraries that read archives make text of
/// it, and what the system refused is no damage of the archive.
pub(crate) struct Cursor {
    content: Arc<Content>,
    position: u64,
    fault: Fault,
}

/// Where a cursor leaves what went wrong with reading.
#[derive(Clone, Default)]
pub(crate) struct Fault(Arc<Mutex<Option<Error>>>);

impl Fault {
    fn set(&self, error: Error) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
    }

    /// The error of `result`, or what reading left, which comes before it.
    pub(crate) fn first<T>(&self, result: Result<T>) -> Result<T> {
        match self.0.lock().unwrap_or_else(PoisonError::into_inner).take() {
            Some(error) if result.is_err() => Err(error),
            _ => result,
        }
    }
}

impl Cursor {
    pub(crate) fn new(content: &Content, fault: &Fault) -> Self {
        Self { content: Arc::new(content.clone()), position: 0, fault: fault.clone() }
    }
}

impl Read for Cursor {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let rest = self.content.len().saturating_sub(self.position);
        let len = rest.min(buffer.len() as u64) as usize;
        self.content.read_exact_at(self.position, &mut buffer[..len]).map_err(|error| {
            let text = error.to_string();
            self.fault.set(error);
            io::Error::other(text)
        })?;
        self.position += len as u64;
        Ok(len)
    }
}

impl Seek for Cursor {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let position = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.content.len().checked_add_signed(by),
            SeekFrom::Current(by) => self.position.checked_add_signed(by),
        };
        self.position = position.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidInput))?;
        Ok(self.position)
    }
}

//! Bytes that are held until they are written: in memory, and in a file without a name when there are many.

use crate::{Content, Error, Job, Producer, Result, Source, system::FileExt};
use std::{
    fs::File,
    io::Write,
    ops::Range,
    path::{Path, PathBuf},
    sync::Arc,
};

/// Where results wait until they are written.
#[derive(Clone, Debug)]
pub struct Hold {
    folder: PathBuf,
    in_memory: usize,
    kept: u64,
}

impl Hold {
    /// Each is held in memory up to `in_memory` bytes; what is longer waits in an unnamed file in `folder`.
    pub fn new(in_memory: usize, folder: &Path) -> Self {
        Self { folder: folder.to_owned(), in_memory, kept: u64::MAX }
    }

    /// Of what is longer than `kept` bytes only the length is noted: for a plan, which writes nothing. To read such
    /// content is an error.
    #[must_use]
    pub fn measuring_beyond(self, kept: u64) -> Self {
        Self { kept, ..self }
    }

    /// Begins a result that will have `len` bytes.
    pub fn spool(&self, len: u64) -> Spool {
        Spool { is_measured: len > self.kept, ..Spool::new(self.in_memory, &self.folder) }
    }
}

/// Takes bytes one after another and gives them out as content.
pub struct Spool {
    memory: Vec<u8>,
    in_memory: usize,
    file: Option<File>,
    len: u64,
    folder: PathBuf,
    /// Whether only the length is noted.
    is_measured: bool,
}

impl Spool {
    /// Holds up to `in_memory` bytes in memory, and more in an unnamed file in `folder`.
    pub fn new(in_memory: usize, folder: &Path) -> Self {
        let folder = folder.to_owned();
        Self { memory: Vec::new(), in_memory, file: None, len: 0, folder, is_measured: false }
    }

    /// Bytes held.
    pub const fn len(&self) -> u64 {
        self.len
    }

    /// Whether nothing is held.
    pub const fn is_empty(&self) -> bool {
        self.len == 0
    }

    fn failed(&self) -> impl FnOnce(std::io::Error) -> Error + use<> {
        Error::io("write a temporary file in", &self.folder)
    }

    /// Takes bytes.
    ///
    /// # Errors
    /// `Io` of the temporary file that takes what memory shall not.
    pub fn push(&mut self, bytes: &[u8]) -> Result<()> {
        if self.is_measured {
            self.len += bytes.len() as u64;
            return Ok(());
        }
        if self.file.is_none() && self.memory.len() + bytes.len() > self.in_memory {
            let mut file = tempfile::tempfile_in(&self.folder)
                .map_err(Error::io("create a temporary file in", &self.folder))?;
            file.write_all(&self.memory).map_err(self.failed())?;
            self.memory = Vec::new();
            self.file = Some(file);
        }
        match &self.file {
            Some(file) => file.write_all_at(bytes, self.len).map_err(self.failed())?,
            None => self.memory.extend_from_slice(bytes),
        }
        self.len += bytes.len() as u64;
        Ok(())
    }

    /// Overwrites bytes that are held; `at` and the length must lie inside.
    ///
    /// # Errors
    /// `Internal` when they do not; `Io`.
    pub fn patch(&mut self, at: u64, bytes: &[u8]) -> Result<()> {
        if let Some(file) = &self.file {
            return file.write_all_at(bytes, at).map_err(self.failed());
        }
        if !self.is_measured {
            self.memory[at as usize..at as usize + bytes.len()].copy_from_slice(bytes);
        }
        Ok(())
    }

    /// Forgets what lies behind `len`.
    pub fn truncate(&mut self, len: u64) {
        self.len = self.len.min(len);
        if self.file.is_none() && !self.is_measured {
            self.memory.truncate(self.len as usize);
        }
    }

    /// What is held now.
    ///
    /// # Errors
    /// `Io` of the temporary file.
    pub fn content(&self) -> Result<Content> {
        if self.is_measured {
            return Ok(Content::deferred(Arc::new(Measured(self.len))));
        }
        match &self.file {
            Some(file) => {
                let file = file.try_clone().map_err(self.failed())?;
                Content::from_source(Source::from_file(file, &self.folder)?).part(0, self.len)
            }
            None => Ok(Content::from_bytes(self.memory.as_slice())),
        }
    }
}

/// Content of which only the length was noted.
struct Measured(u64);

impl Producer for Measured {
    fn len(&self) -> u64 {
        self.0
    }

    fn produce(&self, _: Range<u64>, _: &Job<'_>, _: &mut dyn FnMut(&[u8]) -> Result<()>) -> Result<()> {
        Err(Error::internal("content is read that was only measured"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_too_long_to_be_kept_is_measured() {
        let hold = Hold::new(2, &std::env::temp_dir()).measuring_beyond(5);
        for (text, is_kept) in [("abcde", true), ("abcdef", false)] {
            let mut spool = hold.spool(text.len() as u64);
            spool.push(&text.as_bytes()[..2]).unwrap();
            spool.push(&text.as_bytes()[2..]).unwrap();
            let content = spool.content().unwrap();
            assert_eq!(content.len(), text.len() as u64);
            let read = content.to_vec(100, "");
            assert_eq!(read.ok().as_deref(), is_kept.then_some(text.as_bytes()));
        }
    }

    #[test]
    fn memory_and_file_hold_the_same() {
        for in_memory in [0, 5, 100] {
            let folder = std::env::temp_dir();
            let mut spool = Spool::new(in_memory, &folder);
            spool.push(b"abcdef").unwrap();
            spool.push(b"ghi").unwrap();
            spool.patch(1, b"X").unwrap();
            spool.truncate(7);
            spool.push(b"z").unwrap();
            assert_eq!(spool.content().unwrap().to_vec(100, "").unwrap(), b"aXcdefgz");
            assert_eq!(spool.len(), 8);
        }
    }
}

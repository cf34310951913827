//! Bytes that are held until they are written: in memory, and in a file without a name when there are many.

use crate::{Content, Error, Result, Source, system::FileExt};
use std::{
    fs::File,
    io::Write,
    path::{Path, PathBuf},
};

/// Takes bytes one after another and gives them out as content.
pub struct Spool {
    memory: Vec<u8>,
    in_memory: usize,
    file: Option<File>,
    len: u64,
    folder: PathBuf,
}

impl Spool {
    /// Holds up to `in_memory` bytes in memory, and more in an unnamed file in `folder`.
    pub fn new(in_memory: usize, folder: &Path) -> Self {
        Self { memory: Vec::new(), in_memory, file: None, len: 0, folder: folder.to_owned() }
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
        self.memory[at as usize..at as usize + bytes.len()].copy_from_slice(bytes);
        Ok(())
    }

    /// Forgets what lies behind `len`.
    pub fn truncate(&mut self, len: u64) {
        self.len = self.len.min(len);
        if self.file.is_none() {
            self.memory.truncate(self.len as usize);
        }
    }

    /// What is held now.
    ///
    /// # Errors
    /// `Io` of the temporary file.
    pub fn content(&self) -> Result<Content> {
        match &self.file {
            Some(file) => {
                let file = file.try_clone().map_err(self.failed())?;
                Content::from_source(Source::from_file(file, &self.folder)?).part(0, self.len)
            }
            None => Ok(Content::from_bytes(self.memory.as_slice())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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

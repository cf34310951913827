//! A stick's image file, changed in place.

use crate::Device;
use neat_content::{Error, Result};
use rustix::fs::{FlockOperation, flock};
use std::{
    fs::File,
    io,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
};

/// An open image file that nobody else changes.
#[derive(Debug)]
pub struct ImageDevice {
    file: File,
    path: PathBuf,
    len: u64,
}

impl ImageDevice {
    /// Opens the file at `path`, locked against other runs.
    ///
    /// # Errors
    /// `Refused` while another run changes it.
    pub fn open(path: &Path) -> Result<Self> {
        let file =
            File::options().read(true).write(true).open(path).map_err(Error::io("open for writing", path))?;
        flock(&file, FlockOperation::NonBlockingLockExclusive).map_err(|_| {
            Error::refused(
                format!("{} is being changed by another run", path.display()),
                "wait for it to end",
            )
        })?;
        let len = file.metadata().map_err(Error::io("examine", path))?.len();
        Ok(Self { file, path: path.to_owned(), len })
    }
}

impl Device for ImageDevice {
    fn name(&self) -> String {
        self.path.display().to_string()
    }
    fn len(&self) -> u64 {
        self.len
    }
    fn block_len(&self) -> u64 {
        512
    }
    fn read_at(&mut self, offset: u64, buffer: &mut [u8]) -> io::Result<usize> {
        self.file.read_at(buffer, offset)
    }
    fn write_at(&mut self, offset: u64, bytes: &[u8]) -> io::Result<usize> {
        self.file.write_at(bytes, offset)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.file.sync_data()
    }
}

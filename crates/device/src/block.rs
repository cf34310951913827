//! A disk of this machine.

use crate::{Device, disks::BLOCK_LEN, guard, reread};
use neat_content::{Error, Result};
use rustix::fs::{OFlags, fadvise};
use std::{
    fs::{File, OpenOptions},
    io::{self, Seek, SeekFrom},
    os::unix::fs::{FileExt, OpenOptionsExt},
    path::{Path, PathBuf},
};

/// An open disk, which nobody else uses: the kernel gives it to one program at a time.
#[derive(Debug)]
pub struct BlockDevice {
    file: File,
    path: PathBuf,
    len: u64,
    block_len: u64,
    /// Whether input and output go past the kernel's own copies.
    direct: bool,
}

impl BlockDevice {
    /// Opens the disk at `path` for writing.
    ///
    /// # Errors
    /// `Refused` when it is mounted or otherwise in use.
    pub fn open(path: &Path) -> Result<Self> {
        let open = |flags: OFlags| {
            OpenOptions::new().read(true).write(true).custom_flags(flags.bits() as i32).open(path)
        };
        let (file, direct) = match open(OFlags::EXCL | OFlags::DIRECT) {
            Err(error) if error.kind() == io::ErrorKind::InvalidInput => (open(OFlags::EXCL), false),
            other => (other, true),
        };
        let mut file = file.map_err(|error| {
            if error.kind() == io::ErrorKind::ResourceBusy {
                return Error::refused(
                    format!("{} is in use", path.display()),
                    "unmount everything on it and close what uses it",
                );
            }
            Error::io("open for writing", path)(error)
        })?;
        let len = file.seek(SeekFrom::End(0)).map_err(Error::io("find the size of", path))?;
        let block_len = rustix::fs::ioctl_blksszget(&file).map_or(BLOCK_LEN, u64::from);
        guard::check_blocks(path, block_len)?;
        Ok(Self { file, path: path.to_owned(), len, block_len, direct })
    }
}

impl Device for BlockDevice {
    fn name(&self) -> String {
        self.path.display().to_string()
    }

    fn len(&self) -> u64 {
        self.len
    }

    fn block_len(&self) -> u64 {
        self.block_len
    }

    fn read_at(&mut self, offset: u64, buffer: &mut [u8]) -> io::Result<usize> {
        if !self.direct {
            // Best effort: what the kernel keeps in memory is not what lies on the stick.
            let _ = fadvise(
                &self.file,
                offset,
                std::num::NonZeroU64::new(buffer.len() as u64),
                rustix::fs::Advice::DontNeed,
            );
        }
        self.file.read_at(buffer, offset)
    }

    fn write_at(&mut self, offset: u64, bytes: &[u8]) -> io::Result<usize> {
        self.file.write_at(bytes, offset)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.sync_all()
    }

    fn announce(&mut self) -> io::Result<()> {
        Ok(reread::partition_table(&self.file)?)
    }
}

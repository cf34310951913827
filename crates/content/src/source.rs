//! A file that content comes from.

use crate::{Error, ReadAt, Result, Timestamp, read_at::past_end};
use std::{
    fs::{File, Metadata},
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    sync::Arc,
};

/// A file that is read and never written.
///
/// A media that everything comes from stays open; of a folder's files, which may be a hundred thousand, each is
/// opened when its bytes are wanted and must still have the length it was planned with.
#[derive(Debug)]
pub struct Source {
    path: PathBuf,
    len: u64,
    modified: Timestamp,
    held: Option<Arc<File>>,
}

impl Source {
    /// Opens the file at `path` and keeps it open.
    pub fn open(path: &Path) -> Result<Arc<Self>> {
        let file = File::open(path).map_err(Error::io("open", path))?;
        let metadata = file.metadata().map_err(Error::io("examine", path))?;
        if metadata.is_dir() {
            return Err(Error::request(
                format!("{} is a folder, and a file is wanted", path.display()),
                "name a file inside it",
            ));
        }
        let len = if metadata.is_file() { metadata.len() } else { device_len(&file, path)? };
        Ok(Arc::new(Self {
            path: path.to_owned(),
            len,
            modified: Timestamp::from_metadata(&metadata),
            held: Some(Arc::new(file)),
        }))
    }

    /// A file that is open already; `path` is what it is called in errors.
    pub fn from_file(file: File, path: &Path) -> Result<Arc<Self>> {
        let metadata = file.metadata().map_err(Error::io("examine", path))?;
        Ok(Arc::new(Self {
            path: path.to_owned(),
            len: metadata.len(),
            modified: Timestamp::from_metadata(&metadata),
            held: Some(Arc::new(file)),
        }))
    }

    /// A file that `metadata` describes, opened anew each time its bytes are wanted.
    pub fn opened_on_use(path: &Path, metadata: &Metadata) -> Arc<Self> {
        Arc::new(Self {
            path: path.to_owned(),
            len: metadata.len(),
            modified: Timestamp::from_metadata(metadata),
            held: None,
        })
    }

    /// Where the file is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// When the file was last changed.
    pub const fn modified(&self) -> Timestamp {
        self.modified
    }

    /// The open file. Fails if its length is no longer what it was.
    pub fn file(&self) -> Result<Arc<File>> {
        if let Some(file) = &self.held {
            return Ok(Arc::clone(file));
        }
        let file = File::open(&self.path).map_err(Error::io("open", &self.path))?;
        let len = file.metadata().map_err(Error::io("examine", &self.path))?.len();
        if len != self.len {
            return Err(Error::Mismatch {
                expected: format!("{} bytes in {}", self.len, self.path.display()),
                found: len.to_string(),
                hint: "the file changed while it was in use; let nothing write to it and try again".into(),
            });
        }
        Ok(Arc::new(file))
    }
}

fn device_len(file: &File, path: &Path) -> Result<u64> {
    use std::io::{Seek, SeekFrom};
    let mut file = file;
    file.seek(SeekFrom::End(0)).map_err(Error::io("find the size of", path))
}

impl ReadAt for Source {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_exact_at(&self, offset: u64, buffer: &mut [u8]) -> Result<()> {
        let wanted = buffer.len() as u64;
        if offset.checked_add(wanted).is_none_or(|end| end > self.len) {
            return Err(past_end(&self.path.display().to_string(), offset, wanted, self.len));
        }
        self.file()?.read_exact_at(buffer, offset).map_err(Error::io("read", &self.path))
    }
}

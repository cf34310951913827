//! A file that content comes from.

use crate::{
    Content, Error, ReadAt, Result, Timestamp,
    read_at::past_end,
    system::{FileExt, FileTypeExt, MetadataExt, OFlags, OpenOptionsExt},
};
use std::{
    collections::HashSet,
    fs::{File, FileType, Metadata},
    io,
    path::{Path, PathBuf},
    sync::Arc,
};

/// A file that is read and never written.
///
/// A media that everything comes from stays open; of a folder's files, which may be a hundred thousand, each is
/// opened when its bytes are wanted. Either must stay what it was when it was planned with:
/// [`Source::check_unchanged`] compares inode, size and time of change.
#[derive(Debug)]
pub struct Source {
    path: PathBuf,
    len: u64,
    modified: Timestamp,
    private: bool,
    /// What it must stay; none for a file of our own that grows while it is read, and for devices.
    identity: Option<Identity>,
    held: Option<Arc<File>>,
}

/// By what a file that was written to is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Identity {
    device: u64,
    inode: u64,
    len: u64,
    modified: (i64, i64),
}

impl Identity {
    fn of(metadata: &Metadata) -> Option<Self> {
        metadata.is_file().then(|| Self {
            device: metadata.dev(),
            inode: metadata.ino(),
            len: metadata.len(),
            modified: (metadata.mtime(), metadata.mtime_nsec()),
        })
    }
}

/// Whether a file's mode lets nobody but its owner read it.
fn is_private(metadata: &Metadata) -> bool {
    metadata.is_file() && metadata.mode() & 0o044 == 0
}

/// Opens an input for reading. What is neither a file nor a folder nor a block device is refused without opening it,
/// because opening a pipe waits for whoever writes to it.
///
/// # Errors
/// `Request` for what is not there and for pipes, sockets and character devices, `Io` for what the system refuses.
pub fn open_input(path: &Path) -> Result<(File, Metadata)> {
    let before = std::fs::metadata(path).map_err(Error::input("examine", path))?;
    check_readable(before.file_type(), path)?;
    // Should a pipe take the file's place in this moment, opening it does not wait either.
    let flags = OFlags::NONBLOCK | OFlags::NOCTTY;
    let file = File::options()
        .read(true)
        .custom_flags(flags.bits() as i32)
        .open(path)
        .map_err(Error::input("open", path))?;
    let metadata = file.metadata().map_err(Error::io("examine", path))?;
    check_readable(metadata.file_type(), path)?;
    Ok((file, metadata))
}

fn check_readable(kind: FileType, path: &Path) -> Result<()> {
    let what = if kind.is_file() || kind.is_dir() || kind.is_block_device() {
        return Ok(());
    } else if kind.is_fifo() {
        "a pipe"
    } else if kind.is_socket() {
        "a socket"
    } else {
        "a character device"
    };
    Err(Error::request(
        format!("{} is {what}, which cannot be read at any place", path.display()),
        "name a file, a folder or a disk; save what a pipe gives into a file first",
    ))
}

/// All bytes of a small file of this machine, at most `limit`; `what` names it in errors.
///
/// # Errors
/// As [`open_input`], and `Limit` for a larger one.
pub fn read_small(path: &Path, limit: u64, what: &str) -> Result<Vec<u8>> {
    let source = Source::open(path)?;
    crate::read_vec(&source, 0, source.len(), limit, what).map_err(|error| error.within(path.display()))
}

impl Source {
    /// Opens the file at `path` and keeps it open.
    ///
    /// # Errors
    /// As [`open_input`], and `Request` for a folder.
    pub fn open(path: &Path) -> Result<Arc<Self>> {
        let (file, metadata) = open_input(path)?;
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
            private: is_private(&metadata),
            identity: Identity::of(&metadata),
            held: Some(Arc::new(file)),
        }))
    }

    /// A file of our own that is open already and may grow while it is read; `path` is what it is called in errors.
    ///
    /// # Errors
    /// `Io` when it cannot be examined.
    pub fn from_file(file: File, path: &Path) -> Result<Arc<Self>> {
        let metadata = file.metadata().map_err(Error::io("examine", path))?;
        Ok(Arc::new(Self {
            path: path.to_owned(),
            len: metadata.len(),
            modified: Timestamp::from_metadata(&metadata),
            private: is_private(&metadata),
            identity: None,
            held: Some(Arc::new(file)),
        }))
    }

    /// A file that `metadata` describes, opened anew each time its bytes are wanted.
    pub fn opened_on_use(path: &Path, metadata: &Metadata) -> Arc<Self> {
        Arc::new(Self {
            path: path.to_owned(),
            len: metadata.len(),
            modified: Timestamp::from_metadata(metadata),
            private: is_private(metadata),
            identity: Identity::of(metadata),
            held: None,
        })
    }

    /// Where the file is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Whether nobody but its owner may read the file.
    pub const fn is_private(&self) -> bool {
        self.private
    }

    /// When the file was last changed.
    pub const fn modified(&self) -> Timestamp {
        self.modified
    }

    /// The open file.
    ///
    /// # Errors
    /// `Failed` if it is no longer what it was.
    pub fn file(&self) -> Result<Arc<File>> {
        if let Some(file) = &self.held {
            return Ok(Arc::clone(file));
        }
        let (file, metadata) = match open_input(&self.path) {
            // It was there when the work began.
            Err(Error::Request { message, .. }) => return Err(Error::changed_source(&self.path, message)),
            other => other?,
        };
        self.compare(&metadata)?;
        Ok(Arc::new(file))
    }

    /// Fails if the file is not what it was when the work began: by its name another one, or of another size or time
    /// of change. To be asked when all has been copied.
    ///
    /// # Errors
    /// `Failed`, naming the file; `Io` when it cannot be examined.
    pub fn check_unchanged(&self) -> Result<()> {
        if self.identity.is_none() {
            return Ok(());
        }
        match std::fs::metadata(&self.path) {
            Ok(metadata) => self.compare(&metadata),
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                Err(Error::changed_source(&self.path, "it is no longer there"))
            }
            Err(error) => Err(Error::io("examine", &self.path)(error)),
        }
    }

    /// The same for the open `file` of this source, after its bytes were used.
    ///
    /// # Errors
    /// As [`Source::check_unchanged`].
    pub fn check_open(&self, file: &File) -> Result<()> {
        if self.identity.is_none() {
            return Ok(());
        }
        self.compare(&file.metadata().map_err(Error::io("examine", &self.path))?)
    }

    fn compare(&self, metadata: &Metadata) -> Result<()> {
        let (Some(was), is) = (self.identity, Identity::of(metadata)) else { return Ok(()) };
        let Some(is) = is else {
            return Err(Error::changed_source(&self.path, "it is no file any more"));
        };
        if was.len != is.len {
            let how = format!("it had {} bytes and has {}", was.len, is.len);
            return Err(Error::changed_source(&self.path, how));
        }
        if (was.device, was.inode) != (is.device, is.inode) {
            return Err(Error::changed_source(&self.path, "another file has its name now"));
        }
        if was.modified != is.modified {
            return Err(Error::changed_source(&self.path, "it was written to"));
        }
        Ok(())
    }

    /// What went wrong with reading: a file that ends early has changed.
    pub(crate) fn reading_failed(&self, error: io::Error) -> Error {
        match error.kind() {
            io::ErrorKind::UnexpectedEof => Error::changed_source(&self.path, "it became shorter"),
            _ => Error::io("read", &self.path)(error),
        }
    }
}

/// Files that bytes were copied from.
#[derive(Default)]
pub struct SourceSet {
    seen: HashSet<usize>,
    all: Vec<Arc<Source>>,
}

impl SourceSet {
    /// Adds the files that `content` comes from.
    pub fn add(&mut self, content: &Content) {
        content.for_each_source(&mut |source| {
            // The files stay alive here, so an address stands for one of them.
            if self.seen.insert(Arc::as_ptr(source) as usize) {
                self.all.push(Arc::clone(source));
            }
        });
    }

    /// Fails if one of them is not what it was, as [`Source::check_unchanged`] says.
    ///
    /// # Errors
    /// `Failed`, naming the file; `Io` when one cannot be examined.
    pub fn check_unchanged(&self) -> Result<()> {
        self.all.iter().try_for_each(|source| source.check_unchanged())
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
        self.file()?.read_exact_at(buffer, offset).map_err(|error| self.reading_failed(error))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Class;
    use std::fs;

    #[test]
    fn a_source_that_changed_is_noticed() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a");
        let changes: [&dyn Fn(); 4] = [
            &|| fs::write(&path, b"shorter").unwrap(),
            &|| {
                fs::write(dir.path().join("b"), b"0123456789").unwrap();
                fs::rename(dir.path().join("b"), &path).unwrap();
            },
            &|| {
                let later =
                    fs::metadata(&path).unwrap().modified().unwrap() + std::time::Duration::from_secs(1);
                File::options().write(true).open(&path).unwrap().set_modified(later).unwrap();
            },
            &|| fs::remove_file(&path).unwrap(),
        ];
        for change in changes {
            fs::write(&path, b"0123456789").unwrap();
            let (held, lazy) =
                (Source::open(&path).unwrap(), Source::opened_on_use(&path, &fs::metadata(&path).unwrap()));
            held.check_unchanged().unwrap();
            lazy.check_unchanged().unwrap();
            change();
            for source in [held, lazy] {
                let error = source.check_unchanged().unwrap_err();
                assert_eq!(error.class(), Class::Io);
                assert!(error.to_string().contains(&path.display().to_string()), "{error}");
            }
        }
    }

    #[test]
    fn a_pipe_is_refused_without_waiting() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("pipe");
        rustix::fs::mknodat(rustix::fs::CWD, &path, rustix::fs::FileType::Fifo, 0o600.into(), 0).unwrap();
        let error = Source::open(&path).unwrap_err();
        assert_eq!(error.class(), Class::BadRequest);
        assert!(error.to_string().contains("is a pipe"), "{error}");
        assert_eq!(Source::open(Path::new("/dev/null")).unwrap_err().class(), Class::BadRequest);
        assert_eq!(Source::open(&dir.path().join("none")).unwrap_err().class(), Class::BadRequest);
    }
}

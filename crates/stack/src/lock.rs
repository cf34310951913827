//! The lock beside a stack file: digests of everything that it names, so that a later build takes the same or says what
//! is another.

use crate::recipe::StackFile;
use neat_content::{Content, Error, Job, Result};
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, BTreeSet},
    path::{Path, PathBuf},
};

/// Version of the form.
const VERSION: u32 = 1;
/// How deep folders of inputs may nest.
const DEEPEST: usize = 64;
/// Largest lock that is read, in bytes.
const LARGEST: u64 = 256 << 20;

/// Digests of the files that a stack file names.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Lock {
    version: u32,
    /// Paths that cannot be locked: what is filled in for each machine, and what a depot gives by its own digest.
    #[serde(default)]
    open: BTreeSet<String>,
    /// Digests by path, as the stack file says it; of a folder each file in it.
    files: BTreeMap<String, LockedFile>,
}

/// A file as it was.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct LockedFile {
    /// Bytes.
    size: u64,
    /// BLAKE3.
    blake3: String,
}

/// Where the lock of a stack file lies: `site.stack.lock` beside `site.stack.toml`.
pub fn lock_path(stack: &Path) -> PathBuf {
    stack.with_extension("lock")
}

impl Lock {
    /// Digests what the stack file at `stack_path` names, and itself.
    ///
    /// # Errors
    /// `Request` for what is not there; `Io`, `Cancelled`.
    pub fn of(stack: &StackFile, stack_path: &Path, job: &Job<'_>) -> Result<Self> {
        let base = stack_path.parent().unwrap_or(Path::new(""));
        let mut lock = Self { version: VERSION, open: BTreeSet::new(), files: BTreeMap::new() };
        let own = stack_path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        lock.add(&own, stack_path, 0, job)?;
        for input in &stack.inputs {
            if input.is_path() {
                lock.add(input.path.trim_end_matches('/'), &base.join(&input.path), 0, job)?;
            } else {
                lock.open.insert(input.path.clone());
            }
        }
        Ok(lock)
    }

    fn add(&mut self, name: &str, path: &Path, depth: usize, job: &Job<'_>) -> Result<()> {
        job.check()?;
        if self.files.contains_key(name) {
            return Ok(());
        }
        if !path.is_dir() {
            let content = Content::from_path(path)?;
            let mut hasher = blake3::Hasher::new();
            content.for_each_block(1 << 20, job, &mut |block| {
                hasher.update(block);
                Ok(())
            })?;
            let blake3 = hasher.finalize().to_hex().to_string();
            self.files.insert(name.to_owned(), LockedFile { size: content.len(), blake3 });
            return Ok(());
        }
        if depth > DEEPEST {
            return Err(Error::request(
                format!("{} nests too deep", path.display()),
                "name folders further in",
            ));
        }
        let entries = std::fs::read_dir(path).map_err(Error::io("list", path))?;
        for entry in entries {
            let entry = entry.map_err(Error::io("list", path))?;
            let inner = format!("{name}/{}", entry.file_name().to_string_lossy());
            self.add(&inner, &entry.path(), depth + 1, job)?;
        }
        Ok(())
    }

    /// Reads the lock at `path`.
    ///
    /// # Errors
    /// `Request` when there is none, or what is there is none.
    pub fn read(path: &Path) -> Result<Self> {
        let hint = "`neatstack plan STACK --lock` writes it";
        let bytes = Content::from_path(path)
            .and_then(|content| content.to_vec(LARGEST, "lock"))
            .map_err(|error| Error::request(format!("there is no lock: {error}"), hint))?;
        let lock: Self = toml::from_str(&String::from_utf8_lossy(&bytes))
            .map_err(|error| Error::request(format!("{} is no lock: {error}", path.display()), hint))?;
        if lock.version != VERSION {
            let what = format!("{} is a lock of version {}", path.display(), lock.version);
            return Err(Error::request(what, hint));
        }
        Ok(lock)
    }

    /// The text of the lock.
    ///
    /// # Errors
    /// `Internal` when it cannot be written.
    pub fn to_text(&self) -> Result<String> {
        let text = toml::to_string(self)
            .map_err(|error| Error::internal(format!("the lock cannot be written: {error}")))?;
        Ok(format!(
            "# Digests of what the stack file names; `neatstack build --locked` takes nothing else.\n{text}"
        ))
    }

    /// Number of files.
    pub fn len(&self) -> usize {
        self.files.len()
    }

    /// Whether it holds nothing.
    pub fn is_empty(&self) -> bool {
        self.files.is_empty()
    }

    /// Paths that cannot be locked.
    pub fn open(&self) -> impl Iterator<Item = &str> {
        self.open.iter().map(String::as_str)
    }

    /// What is another in `now`, in words.
    pub fn differences(&self, now: &Self) -> Vec<String> {
        let changed = self.files.iter().filter_map(|(path, was)| match now.files.get(path) {
            None => Some(format!("{path} is not there any more, or not named")),
            Some(is) if is.size != was.size => {
                Some(format!("{path} has {} bytes and had {}", is.size, was.size))
            }
            Some(is) if is != was => Some(format!("{path} has other bytes")),
            Some(_) => None,
        });
        let new = now.files.keys().filter(|path| !self.files.contains_key(*path));
        changed.chain(new.map(|path| format!("{path} is new"))).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn changes_are_said_in_words() {
        let file = |size, blake3: &str| LockedFile { size, blake3: blake3.into() };
        let lock = |files: &[(&str, u64, &str)]| Lock {
            version: VERSION,
            open: BTreeSet::new(),
            files: files.iter().map(|(path, size, own)| ((*path).to_owned(), file(*size, own))).collect(),
        };
        let before = lock(&[("a", 1, "x"), ("b", 2, "y"), ("c", 3, "z"), ("d", 4, "w")]);
        let after = lock(&[("a", 1, "x"), ("b", 2, "Y"), ("c", 5, "z"), ("e", 1, "v")]);
        assert!(before.differences(&before).is_empty());
        assert_eq!(
            before.differences(&after),
            [
                "b has other bytes",
                "c has 5 bytes and had 3",
                "d is not there any more, or not named",
                "e is new"
            ]
        );
        let again: Lock = toml::from_str(&before.to_text().unwrap()).unwrap();
        assert_eq!(again, before);
        assert_eq!(lock_path(Path::new("a/site.stack.toml")), Path::new("a/site.stack.lock"));
    }
}

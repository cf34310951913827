//! Outputs that appear under their name only when they are complete.

use crate::{DigestKind, Error, Output, Result};
use rustix::fs::{FlockOperation, flock};
use std::{
    ffi::OsString,
    fs::{self, File},
    path::{Path, PathBuf},
};

/// A file being written under a temporary name in the folder where it will appear.
///
/// [`PendingFile::commit`] syncs it, gives it its name and syncs the folder; dropped before that, it is removed.
/// A killed program leaves the temporary file behind, unlocked; the next one that writes the same output removes
/// it.
#[derive(Debug)]
pub struct PendingFile {
    final_path: PathBuf,
    temporary_path: PathBuf,
    lock: Option<File>,
}

/// Whether a path leads to a device or another thing that is neither file nor folder, or would lie among devices.
pub fn is_device_path(path: &Path) -> bool {
    match fs::metadata(path) {
        Ok(found) => !found.is_file() && !found.is_dir(),
        // A typing error. /dev/shm is a folder in memory, for files.
        Err(_) => path.starts_with("/dev") && !path.starts_with("/dev/shm"),
    }
}

impl PendingFile {
    /// Starts an output that will be called `path`.
    pub fn create(path: &Path) -> Result<(Self, File)> {
        let name = path.file_name().ok_or_else(|| {
            Error::request(format!("{} cannot be the name of an output", path.display()), "give a file name")
        })?;
        if path.is_dir() {
            return Err(Error::request(
                format!("{} is a folder", path.display()),
                "give the output a file name of its own",
            ));
        }
        if is_device_path(path) {
            // As root, a device's own file would be replaced.
            return Err(Error::request(
                format!("{} is a device, and not the name of a file", path.display()),
                "write an image file, then `neatstack stick FILE --to DEVICE`, which checks the device",
            ));
        }
        let folder = folder_of(path);
        let mut prefix = OsString::from(".");
        prefix.push(name);
        prefix.push(".unfinished-");
        remove_abandoned(folder, &prefix);
        let mut temporary_name = prefix;
        temporary_name.push(std::process::id().to_string());
        let temporary_path = folder.join(temporary_name);
        let file = File::options()
            .read(true)
            .write(true)
            .create(true)
            .truncate(true)
            .open(&temporary_path)
            .map_err(Error::io("create", &temporary_path))?;
        // The lock tells the next program that this one is alive; a file system without locks only loses that.
        let _ = flock(&file, FlockOperation::NonBlockingLockExclusive);
        let lock = file.try_clone().map_err(Error::io("open again", &temporary_path))?;
        Ok((Self { final_path: path.to_owned(), temporary_path, lock: Some(lock) }, file))
    }

    /// The same, ready for the copy engine.
    pub fn create_output(path: &Path, digest: Option<DigestKind>) -> Result<(Self, Output)> {
        let (pending, file) = Self::create(path)?;
        Ok((pending, Output::new(file, path, digest)))
    }

    /// Where it is until then, for whoever has to read it before it has its name.
    pub fn temporary_path(&self) -> &Path {
        &self.temporary_path
    }

    /// Syncs the file and gives it its name.
    pub fn commit(mut self, file: File) -> Result<()> {
        file.sync_all().map_err(Error::io("sync", &self.final_path))?;
        drop(file);
        fs::rename(&self.temporary_path, &self.final_path)
            .map_err(Error::io("give its name to", &self.final_path))?;
        self.lock = None;
        sync_folder(folder_of(&self.final_path))
    }
}

impl Drop for PendingFile {
    fn drop(&mut self) {
        if self.lock.is_some() {
            // Nothing more can be done if even removing fails; the name says that the file is unfinished.
            let _ = fs::remove_file(&self.temporary_path);
        }
    }
}

fn folder_of(path: &Path) -> &Path {
    match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    }
}

/// Makes the names in `folder` survive a power cut.
pub fn sync_folder(folder: &Path) -> Result<()> {
    File::open(folder).and_then(|folder| folder.sync_all()).map_err(Error::io("sync the folder", folder))
}

/// Removes what a killed program left: temporary files of the same output that nobody holds locked.
fn remove_abandoned(folder: &Path, prefix: &OsString) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    for entry in entries.flatten() {
        let name = entry.file_name();
        if !name.as_encoded_bytes().starts_with(prefix.as_encoded_bytes()) {
            continue;
        }
        if let Ok(file) = File::open(entry.path())
            && flock(&file, FlockOperation::NonBlockingLockExclusive).is_ok()
        {
            let _ = fs::remove_file(entry.path());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(folder: &Path) -> Vec<String> {
        let mut names: Vec<_> = fs::read_dir(folder)
            .unwrap()
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .collect();
        names.sort();
        names
    }

    #[test]
    fn an_output_appears_only_when_committed() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("out.iso");
        fs::write(&path, b"old").unwrap();
        let (pending, mut output) = PendingFile::create_output(&path, None).unwrap();
        output.write_bytes(b"new").unwrap();
        assert_eq!(fs::read(&path).unwrap(), b"old");
        drop((pending, output));
        assert_eq!(names(dir.path()), ["out.iso"]);
        let (pending, mut output) = PendingFile::create_output(&path, None).unwrap();
        output.write_bytes(b"new").unwrap();
        pending.commit(output.finish().unwrap().0).unwrap();
        assert_eq!(fs::read(&path).unwrap(), b"new");
        assert_eq!(names(dir.path()), ["out.iso"]);
    }

    #[test]
    fn abandoned_files_are_removed_and_living_ones_are_not() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("out.iso");
        fs::write(dir.path().join(".out.iso.unfinished-999999"), b"left").unwrap();
        let living = File::create(dir.path().join(".out.iso.unfinished-999998")).unwrap();
        flock(&living, FlockOperation::LockExclusive).unwrap();
        let (pending, _) = PendingFile::create(&path).unwrap();
        assert_eq!(names(dir.path()).len(), 2);
        drop(pending);
        assert_eq!(names(dir.path()), [".out.iso.unfinished-999998"]);
    }
}

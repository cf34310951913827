//! Outputs that appear under their name only when they are complete.

use crate::{
    Advice, DigestKind, Error, Output, Result,
    system::{CWD, Errno, FlockOperation, MetadataExt, PermissionsExt, RenameFlags, flock, renameat_with},
};
use std::{
    ffi::{OsStr, OsString},
    fs::{self, File},
    io,
    path::{Path, PathBuf},
};

/// Names that are tried for a temporary file before giving up.
const TRIES: usize = 64;
/// Mode of what only its owner may read.
const PRIVATE_FILE: u32 = 0o600;
const PRIVATE_FOLDER: u32 = 0o700;

/// What becomes of a file that already has an output's name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum IfThere {
    /// It stays, and the output is refused: when it is begun, and also when somebody made the file meanwhile.
    Refuse,
    /// The output takes its place.
    Replace,
}

impl IfThere {
    /// From a switch that says whether a file may be replaced.
    pub const fn replace(yes: bool) -> Self {
        if yes { Self::Replace } else { Self::Refuse }
    }
}

/// A file being written under a temporary name in the folder where it will appear.
///
/// [`PendingFile::commit`] syncs it, gives it its name and syncs the folder; dropped before that, it is removed.
/// A killed program leaves the temporary file behind, unlocked; the next one that writes the same output removes
/// it.
#[derive(Debug)]
pub struct PendingFile {
    final_path: PathBuf,
    temporary: Temporary,
    there: IfThere,
}

/// A file or folder with a temporary name of its own, locked while this program lives, removed when dropped.
#[derive(Debug)]
struct Temporary {
    path: PathBuf,
    /// Holds the lock, which tells other runs that this one is alive.
    lock: File,
    /// Taken away when the name was given, and nothing is to be removed any more.
    abandoned: bool,
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
    ///
    /// # Errors
    /// `Request` for what cannot be a file's name, `Refused` when the name is taken and must stay, `Io` when the file
    /// cannot be made.
    pub fn create(path: &Path, there: IfThere) -> Result<(Self, File)> {
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
                Advice::DeviceByWay,
            ));
        }
        if there == IfThere::Refuse && path.symlink_metadata().is_ok() {
            return Err(taken(path));
        }
        let prefix = prefix_of(name);
        let folder = folder_of(path);
        remove_abandoned(folder, &prefix);
        let (temporary, file) = Temporary::create(folder, &prefix, &|path| {
            File::options().read(true).write(true).create_new(true).open(path)
        })?;
        Ok((Self { final_path: path.to_owned(), temporary, there }, file))
    }

    /// The same, ready for the copy engine.
    ///
    /// # Errors
    /// As [`PendingFile::create`].
    pub fn create_output(path: &Path, there: IfThere, digest: Option<DigestKind>) -> Result<(Self, Output)> {
        let (pending, file) = Self::create(path, there)?;
        Ok((pending, Output::new(file, path, digest)))
    }

    /// Lets nobody but the owner read it, from now on: for what holds a secret.
    ///
    /// # Errors
    /// `Io` when the mode cannot be set.
    pub fn make_private(&self) -> Result<()> {
        let mode = fs::Permissions::from_mode(PRIVATE_FILE);
        self.temporary.lock.set_permissions(mode).map_err(Error::io("set the mode of", &self.final_path))
    }

    /// Where it is until then, for whoever has to read it before it has its name.
    pub fn temporary_path(&self) -> &Path {
        &self.temporary.path
    }

    /// Syncs the file and gives it its name.
    ///
    /// # Errors
    /// `Refused` when the name was taken meanwhile and must stay, `Io` when the system refuses. The name is not given
    /// then.
    pub fn commit(self, file: File) -> Result<()> {
        commit_together(vec![(self, file)])
    }

    /// Gives the file its name. A file that it replaces keeps living under the temporary name, where the file system can.
    fn give_name(&mut self) -> Result<Named> {
        self.temporary.check_ours(&self.final_path)?;
        let (from, to) = (self.temporary.path.clone(), &self.final_path);
        let failed = |error: io::Error| Error::io("give its name to", to)(error);
        match rename_to_free(&from, to) {
            Ok(()) => {
                self.temporary.abandoned = true;
                return Ok(Named::New);
            }
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => return Err(failed(error)),
            Err(_) if self.there == IfThere::Refuse => return Err(taken(to)),
            Err(_) => {}
        }
        if to.symlink_metadata().is_ok_and(|found| found.is_dir()) {
            return Err(failed(io::ErrorKind::IsADirectory.into()));
        }
        if renameat_with(CWD, &from, CWD, to, RenameFlags::EXCHANGE).is_ok() {
            return Ok(Named::Exchanged);
        }
        fs::rename(&from, to).map_err(failed)?;
        self.temporary.abandoned = true;
        Ok(Named::Replaced)
    }

    /// Takes the name away again.
    fn take_name_back(&mut self, named: Named) {
        // Nothing more can be done about a failure here; what stays is complete, and the error says what did not.
        match named {
            Named::New => {
                if fs::rename(&self.final_path, &self.temporary.path).is_ok() {
                    self.temporary.abandoned = false;
                }
            }
            Named::Exchanged => {
                let (from, to) = (&self.temporary.path, &self.final_path);
                let _ = renameat_with(CWD, from, CWD, to, RenameFlags::EXCHANGE);
            }
            Named::Replaced => {}
        }
    }
}

/// What giving a name did.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Named {
    /// The name was free.
    New,
    /// The former file is now under the temporary name.
    Exchanged,
    /// The former file is gone.
    Replaced,
}

/// Syncs several outputs and gives them their names, the last one last. When one name cannot be given, those before
/// it are taken back: what had them has them again.
///
/// # Errors
/// `Refused` when a name was taken meanwhile and must stay, `Io` when the system refuses.
pub fn commit_together(outputs: Vec<(PendingFile, File)>) -> Result<()> {
    for (pending, file) in &outputs {
        file.sync_all().map_err(Error::io("sync", &pending.final_path))?;
    }
    let mut outputs: Vec<PendingFile> = outputs.into_iter().map(|(pending, _)| pending).collect();
    let mut done = Vec::new();
    for n in 0..outputs.len() {
        match outputs[n].give_name() {
            Ok(named) => done.push(named),
            Err(error) => {
                for (pending, named) in outputs.iter_mut().zip(done).rev() {
                    pending.take_name_back(named);
                }
                return Err(error);
            }
        }
    }
    let mut folders: Vec<PathBuf> =
        outputs.iter().map(|pending| folder_of(&pending.final_path).to_owned()).collect();
    folders.dedup();
    if let Err(error) = folders.iter().try_for_each(|folder| sync_folder(folder)) {
        // The names might not survive a power cut, so nobody gets to rely on them.
        for (pending, named) in outputs.iter_mut().zip(done).rev() {
            pending.take_name_back(named);
        }
        return Err(error);
    }
    for (pending, named) in outputs.iter_mut().zip(done) {
        if named == Named::Exchanged {
            // The former file is under the temporary name now.
            remove(&pending.temporary.path);
            pending.temporary.abandoned = true;
        }
    }
    Ok(())
}

/// A folder being filled under a temporary name beside the place where it will appear.
///
/// Dropped before [`PendingFolder::commit`], it is removed with all in it; left behind by a kill, the next run that
/// makes the same folder removes it.
#[derive(Debug)]
pub struct PendingFolder {
    final_path: PathBuf,
    temporary: Temporary,
}

impl PendingFolder {
    /// Starts a folder that will be called `path`, where nothing or an empty folder is.
    ///
    /// # Errors
    /// `Refused` when something is there, `Request` for what cannot be a name, `Io` when the system refuses.
    pub fn create(path: &Path) -> Result<Self> {
        let unusable = || {
            Error::request(
                format!("{} cannot be the name of a folder", path.display()),
                "give the folder a name",
            )
        };
        // What has no name of its own (`.`, `..`) has one by its full path.
        let path = match path.file_name() {
            Some(_) => path.to_owned(),
            None => fs::canonicalize(path).map_err(|_| unusable())?,
        };
        let name = path.file_name().ok_or_else(unusable)?;
        let existing = path.symlink_metadata().ok();
        let is_free = match &existing {
            None => true,
            Some(found) if found.is_dir() => {
                fs::read_dir(&path).map_err(Error::io("list", &path))?.next().is_none()
            }
            Some(_) => false,
        };
        if !is_free {
            return Err(Error::refused(
                format!("{} is there already and not an empty folder", path.display()),
                "name a folder that does not exist or is empty",
            ));
        }
        let folder = folder_of(&path);
        fs::create_dir_all(folder).map_err(Error::io("create", folder))?;
        let prefix = prefix_of(name);
        remove_abandoned(folder, &prefix);
        let (temporary, _) = Temporary::create(folder, &prefix, &|path| {
            fs::create_dir(path)?;
            File::open(path)
        })?;
        if let Some(existing) = existing {
            let mode = fs::Permissions::from_mode(existing.mode() & 0o7777);
            fs::set_permissions(&temporary.path, mode).map_err(Error::io("set the mode of", &path))?;
        }
        Ok(Self { final_path: path, temporary })
    }

    /// Lets nobody but the owner look into it, from now on: for what holds a secret.
    ///
    /// # Errors
    /// `Io` when the mode cannot be set.
    pub fn make_private(&self) -> Result<()> {
        let mode = fs::Permissions::from_mode(PRIVATE_FOLDER);
        fs::set_permissions(&self.temporary.path, mode)
            .map_err(Error::io("set the mode of", &self.final_path))
    }

    /// Where to put what belongs into it.
    pub fn path(&self) -> &Path {
        &self.temporary.path
    }

    /// Gives the folder its name.
    ///
    /// # Errors
    /// `Refused` when something came under that name meanwhile, `Io` when the system refuses.
    pub fn commit(mut self) -> Result<()> {
        self.temporary.check_ours(&self.final_path)?;
        // A rename takes the place of an empty folder, and of nothing else.
        fs::rename(&self.temporary.path, &self.final_path).map_err(|error| match error.kind() {
            io::ErrorKind::DirectoryNotEmpty
            | io::ErrorKind::AlreadyExists
            | io::ErrorKind::NotADirectory => taken(&self.final_path),
            _ => Error::io("give its name to", &self.final_path)(error),
        })?;
        let synced = sync_folder(folder_of(&self.final_path));
        self.temporary.abandoned =
            synced.is_ok() || fs::rename(&self.final_path, &self.temporary.path).is_err();
        synced
    }
}

impl Temporary {
    /// Makes something with a name that nobody has, and locks it. `make` makes and opens it.
    fn create(
        folder: &Path,
        prefix: &OsStr,
        make: &dyn Fn(&Path) -> io::Result<File>,
    ) -> Result<(Self, File)> {
        let mut builder = tempfile::Builder::new();
        builder.prefix(prefix).rand_bytes(8);
        for _ in 0..TRIES {
            let made = builder.make_in(folder, |path| make(path));
            let (file, path) = made.map_err(Error::io("create an output in", folder))?.into_parts();
            let path = path.keep().map_err(|error| Error::io("keep", folder)(error.error))?;
            match flock(&file, FlockOperation::NonBlockingLockExclusive) {
                // Without locks nobody else can lock it either, and what cannot be locked is not removed.
                Ok(()) | Err(Errno::NOTSUP | Errno::NOSYS | Errno::NOLCK) => {}
                // A run that cleans up has it in its hands and will remove it.
                Err(Errno::WOULDBLOCK) => continue,
                Err(error) => return Err(Error::io("lock", &path)(error.into())),
            }
            let lock = file.try_clone().map_err(Error::io("open again", &path))?;
            let temporary = Self { path, lock, abandoned: false };
            if temporary.is_ours() {
                return Ok((temporary, file));
            }
        }
        Err(Error::failed(
            format!("another program removes what is begun in {}", folder.display()),
            "let nothing else work in this folder and try again",
        ))
    }

    /// Whether the temporary name still leads to what this run made.
    fn is_ours(&self) -> bool {
        let (Ok(own), Ok(found)) = (self.lock.metadata(), fs::symlink_metadata(&self.path)) else {
            return false;
        };
        (own.dev(), own.ino()) == (found.dev(), found.ino())
    }

    fn check_ours(&self, final_path: &Path) -> Result<()> {
        if self.is_ours() {
            return Ok(());
        }
        Err(Error::failed(
            format!("{}, where {} was written, was taken away", self.path.display(), final_path.display()),
            "let nothing else work in this folder and try again",
        ))
    }
}

impl Drop for Temporary {
    fn drop(&mut self) {
        // Nothing more can be done if even removing fails; the name says that it is unfinished. What another run
        // put under this name is left to it.
        if !self.abandoned && self.is_ours() {
            remove(&self.path);
        }
    }
}

fn remove(path: &Path) {
    let _ = match fs::symlink_metadata(path) {
        Ok(found) if found.is_dir() => fs::remove_dir_all(path),
        _ => fs::remove_file(path),
    };
}

/// Gives a file a name that must be free.
fn rename_to_free(from: &Path, to: &Path) -> io::Result<()> {
    match renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE) {
        Ok(()) => Ok(()),
        // A file system without this gives a second name only when it is free, which is as good.
        Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => {
            fs::hard_link(from, to)?;
            fs::remove_file(from)
        }
        Err(error) => Err(error.into()),
    }
}

fn taken(path: &Path) -> Error {
    Error::refused(format!("{} is there already", path.display()), Advice::OtherName)
}

/// `.NAME.unfinished-`
fn prefix_of(name: &OsStr) -> OsString {
    let mut prefix = OsString::from(".");
    prefix.push(name);
    prefix.push(".unfinished-");
    prefix
}

fn folder_of(path: &Path) -> &Path {
    match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    }
}

/// Makes the names in `folder` survive a power cut.
///
/// # Errors
/// `Io` when the system refuses.
pub fn sync_folder(folder: &Path) -> Result<()> {
    File::open(folder).and_then(|folder| folder.sync_all()).map_err(Error::io("sync the folder", folder))
}

/// Removes what a killed program left: temporary files and folders of the same output that nobody holds locked.
fn remove_abandoned(folder: &Path, prefix: &OsStr) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    for entry in entries.flatten() {
        let name = entry.file_name();
        let Some(rest) = name.as_encoded_bytes().strip_prefix(prefix.as_encoded_bytes()) else { continue };
        let is_ours = !rest.is_empty() && rest.iter().all(u8::is_ascii_alphanumeric);
        let kind_fits = entry.file_type().is_ok_and(|kind| kind.is_file() || kind.is_dir());
        if !is_ours || !kind_fits {
            continue;
        }
        if let Ok(file) = File::open(entry.path())
            && flock(&file, FlockOperation::NonBlockingLockExclusive).is_ok()
        {
            remove(&entry.path());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Class;

    fn names(folder: &Path) -> Vec<String> {
        let mut names: Vec<_> = fs::read_dir(folder)
            .unwrap()
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .collect();
        names.sort();
        names
    }

    fn begin(path: &Path, there: IfThere, bytes: &[u8]) -> Result<(PendingFile, File)> {
        let (pending, mut output) = PendingFile::create_output(path, there, None)?;
        output.write_bytes(bytes)?;
        Ok((pending, output.finish()?.0))
    }

    #[test]
    fn an_output_appears_only_when_committed() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("out.iso");
        fs::write(&path, b"old").unwrap();
        assert_eq!(begin(&path, IfThere::Refuse, b"new").unwrap_err().class(), Class::Unsafe);
        let made = begin(&path, IfThere::Replace, b"new").unwrap();
        assert_eq!(fs::read(&path).unwrap(), b"old");
        drop(made);
        assert_eq!(names(dir.path()), ["out.iso"]);
        let (pending, file) = begin(&path, IfThere::Replace, b"new").unwrap();
        pending.commit(file).unwrap();
        assert_eq!(fs::read(&path).unwrap(), b"new");
        assert_eq!(names(dir.path()), ["out.iso"]);
    }

    #[test]
    fn of_several_that_write_one_name_only_the_first_wins() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("out.iso");
        let mut made: Vec<_> = (0..4_u8).map(|n| begin(&path, IfThere::Refuse, &[n]).unwrap()).collect();
        assert_eq!(names(dir.path()).len(), 4);
        let (first, file) = made.remove(2);
        first.commit(file).unwrap();
        for (pending, file) in made {
            assert_eq!(pending.commit(file).unwrap_err().class(), Class::Unsafe);
        }
        assert_eq!(fs::read(&path).unwrap(), [2]);
        assert_eq!(names(dir.path()), ["out.iso"]);
    }

    #[test]
    fn a_group_gets_all_names_or_none() {
        let dir = tempfile::tempdir().unwrap();
        let path = |name: &str| dir.path().join(name);
        fs::write(path("b"), b"old b").unwrap();
        let group = |last: IfThere| {
            let there = [("a", IfThere::Refuse), ("b", IfThere::Replace), ("c", last)];
            there.map(|(name, there)| begin(&path(name), there, name.as_bytes()).unwrap()).into()
        };
        let made: Vec<_> = group(IfThere::Refuse);
        fs::write(path("c"), b"somebody else's").unwrap();
        assert_eq!(commit_together(made).unwrap_err().class(), Class::Unsafe);
        assert_eq!(names(dir.path()), ["b", "c"]);
        assert_eq!(fs::read(path("b")).unwrap(), b"old b");
        commit_together(group(IfThere::Replace)).unwrap();
        assert_eq!(names(dir.path()), ["a", "b", "c"]);
        assert_eq!(fs::read(path("b")).unwrap(), b"b");
    }

    #[test]
    fn abandoned_files_and_folders_are_removed_and_living_ones_are_not() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("out.iso");
        fs::write(dir.path().join(".out.iso.unfinished-999999"), b"left").unwrap();
        fs::create_dir_all(dir.path().join(".out.iso.unfinished-abc/deep")).unwrap();
        fs::write(dir.path().join(".out.iso.unfinished-what.is-this"), b"of somebody").unwrap();
        let living = File::create(dir.path().join(".out.iso.unfinished-999998")).unwrap();
        flock(&living, FlockOperation::LockExclusive).unwrap();
        let (pending, _) = PendingFile::create(&path, IfThere::Refuse).unwrap();
        assert_eq!(names(dir.path()).len(), 3);
        drop(pending);
        assert_eq!(names(dir.path()), [".out.iso.unfinished-999998", ".out.iso.unfinished-what.is-this"]);
    }

    #[test]
    fn a_temporary_file_that_was_taken_away_gives_no_output() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("out.iso");
        let (pending, file) = begin(&path, IfThere::Refuse, b"own").unwrap();
        fs::remove_file(pending.temporary_path()).unwrap();
        fs::write(pending.temporary_path(), b"another's").unwrap();
        let taken = pending.temporary_path().to_owned();
        assert_eq!(pending.commit(file).unwrap_err().class(), Class::Io);
        assert!(!path.exists() && taken.exists());
    }

    #[test]
    fn a_folder_appears_only_when_committed() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("out");
        for existing in [false, true] {
            if existing {
                fs::create_dir(&path).unwrap();
                fs::set_permissions(&path, fs::Permissions::from_mode(0o750)).unwrap();
            }
            let pending = PendingFolder::create(&path).unwrap();
            fs::write(pending.path().join("a"), b"a").unwrap();
            drop(pending);
            assert_eq!(names(dir.path()).len(), usize::from(existing));
            let pending = PendingFolder::create(&path).unwrap();
            fs::write(pending.path().join("a"), b"a").unwrap();
            pending.commit().unwrap();
            assert_eq!(names(&path), ["a"]);
            let mode = fs::metadata(&path).unwrap().mode() & 0o777;
            assert!(!existing || mode == 0o750, "{mode:o}");
            assert_eq!(PendingFolder::create(&path).unwrap_err().class(), Class::Unsafe);
            fs::remove_dir_all(&path).unwrap();
        }
    }

    #[test]
    fn what_holds_a_secret_is_its_owners() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("out.iso");
        let (pending, file) = begin(&path, IfThere::Refuse, b"secret").unwrap();
        pending.make_private().unwrap();
        pending.commit(file).unwrap();
        assert_eq!(fs::metadata(&path).unwrap().mode() & 0o777, 0o600);
    }
}

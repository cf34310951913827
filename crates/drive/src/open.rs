//! Which form a disk has, and the disk behind it.

use crate::{Disk, Form, qcow2, vhd, vhdx, vmdk};
use neat_content::{Content, Error, ReadAt, Result, Source};
use std::path::{Component, Path, PathBuf};

/// Most disks that stand on each other.
const DEEPEST: usize = 16;

/// The disk that is being opened: where it is, and how many stand on it.
pub(crate) struct Opening<'a> {
    /// The folder that other files of it lie in; none where there is no such folder.
    folder: Option<&'a Path>,
    depth: usize,
}

/// Opens the disk at `path`: a file in one of the forms, or a block device.
///
/// # Errors
/// `Request` for what is not there or encrypted, `Corrupt` and `Unsupported` with the place, `Io`.
pub fn open_path(path: &Path) -> Result<Disk> {
    open_at(path, 0, false)
}

fn open_at(path: &Path, depth: usize, is_raw: bool) -> Result<Disk> {
    let content = Content::from_source(Source::open(path)?);
    if is_raw {
        return Ok(Disk { content, form: Form::Raw, notes: Vec::new() });
    }
    let folder =
        path.parent().map(|folder| if folder.as_os_str().is_empty() { Path::new(".") } else { folder });
    open(content, &Opening { folder, depth }).map_err(|error| error.within(path.display()))
}

/// Opens the disk that `content` is; one that needs further files is refused.
///
/// # Errors
/// As [`open_path`].
pub fn open_content(content: Content) -> Result<Disk> {
    open(content, &Opening { folder: None, depth: 0 })
}

/// Whether `content` is in a form that only disks of virtual machines have, whether it can be opened or not.
///
/// # Errors
/// `Io`.
pub fn is_own_form(content: &Content) -> Result<bool> {
    let mut start = [0; 512];
    let known = (content.len() as usize).min(start.len());
    content.read_exact_at(0, &mut start[..known])?;
    Ok(start.starts_with(&qcow2::MAGIC)
        || start.starts_with(vhdx::MAGIC)
        || start.starts_with(vmdk::MAGIC)
        || vmdk::is_descriptor(&start)
        || vhd::footer(content)?.is_some())
}

fn open(content: Content, opening: &Opening<'_>) -> Result<Disk> {
    let mut start = [0; 512];
    let known = (content.len() as usize).min(start.len());
    content.read_exact_at(0, &mut start[..known])?;
    if start.starts_with(&qcow2::MAGIC) {
        return qcow2::open(&content, opening);
    }
    if start.starts_with(vhdx::MAGIC) {
        return vhdx::open(&content, opening);
    }
    if start.starts_with(vmdk::MAGIC) || vmdk::is_descriptor(&start) {
        return vmdk::open(&content, opening);
    }
    if let Some(footer) = vhd::footer(&content)? {
        return vhd::open(&content, &footer, opening);
    }
    Ok(Disk { content, form: Form::Raw, notes: Vec::new() })
}

impl Opening<'_> {
    /// A file that the disk names, which must lie beside it or below.
    pub(crate) fn beside(&self, name: &str) -> Result<PathBuf> {
        let path = Path::new(name);
        let stays = path.components().all(|part| matches!(part, Component::Normal(_) | Component::CurDir));
        match self.folder {
            Some(folder) if stays && !name.is_empty() && !name.contains('\0') => Ok(folder.join(path)),
            Some(_) => Err(Error::request(
                format!("the disk stands on another file, {name:?}, which is not beside it"),
                "put both into one folder and let it name the other without a folder, or convert it into a disk that \
                 stands on its own",
            )),
            None => Err(Error::request(
                format!("the disk stands on another file, {name:?}"),
                "name the disk by its path, with the other file beside it",
            )),
        }
    }

    /// The disk behind, which `name` names.
    pub(crate) fn parent(&self, name: &str, is_raw: bool) -> Result<Disk> {
        let path = self.beside(name)?;
        if self.depth + 1 >= DEEPEST {
            return Err(Error::Limit {
                what: "number of disks that stand on each other".into(),
                offset: 0,
                limit: DEEPEST as u64,
                found: DEEPEST as u64 + 1,
            });
        }
        open_at(&path, self.depth + 1, is_raw)
    }
}

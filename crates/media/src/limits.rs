//! How much of a media is believed before it is read.

use neat_content::{Error, Result};

/// The most that is read of a media that somebody else made. What is larger is refused with [`Error::Limit`] before
/// room is made for it. How deep folders nest is limited by [`neat_content::Tree`] itself.
///
/// ```
/// // A service that looks into strangers' discs holds less in memory than a workshop does.
/// let strict = neat_media::Limits { entries: 100_000, ..Default::default() };
/// # let dir = tempfile::tempdir()?;
/// # std::fs::write(dir.path().join("readme.txt"), "made up")?;
/// let media = neat_media::read::open_with(dir.path(), &strict)?;
/// assert!(media.tree.file("readme.txt").is_some());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// Files, folders and links of a media or a folder.
    pub entries: usize,
    /// Bytes of one directory.
    pub directory: u64,
    /// Extents of one file of a UDF volume.
    pub extents: usize,
    /// Bytes of a file allocation table.
    pub allocation_table: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Self { entries: 4_000_000, directory: 256 << 20, extents: 1 << 20, allocation_table: 256 << 20 }
    }
}

impl Limits {
    /// Refuses one entry more than there may be.
    ///
    /// # Errors
    /// `LimitExceeded` with `offset`, where the entry is announced.
    pub(crate) fn check_entries(&self, found: usize, offset: u64) -> Result<()> {
        if found <= self.entries {
            return Ok(());
        }
        let (limit, found) = (self.entries as u64, found as u64);
        Err(Error::Limit { what: "entries of the media".into(), offset, limit, found })
    }
}

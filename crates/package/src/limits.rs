//! How much of an archive is believed before it is unpacked.

/// The most that is unpacked of an archive that somebody else made, or searched in one. What is larger is refused with
/// [`neat_content::Error::Limit`].
///
/// ```
/// // A service that looks into strangers' archives takes less than a workshop does.
/// let strict = neat_package::Limits { unpacked: 8 << 20, growth: 20, ..Default::default() };
/// # let dir = tempfile::tempdir()?;
/// # std::fs::write(dir.path().join("readme.txt"), "made up")?;
/// let pack = neat_package::Pack::open_with(dir.path(), &strict)?;
/// assert!(pack.tree.file("readme.txt").is_some());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// Unpacked bytes that are always accepted.
    pub unpacked: u64,
    /// Beyond that, an archive may grow this many times.
    pub growth: u64,
    /// Files of an archive.
    pub files: u64,
    /// Bytes of a program that is searched for an archive.
    pub program: u64,
    /// How deep archives in archives are opened: 0 for those alone that were named.
    pub nested: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self { unpacked: 64 << 20, growth: 250, files: 200_000, program: 4 << 30, nested: 2 }
    }
}

impl Limits {
    /// Most bytes that an archive of `packed` bytes may unpack to.
    pub(crate) fn unpacked_of(&self, packed: u64) -> u64 {
        self.unpacked.max(packed.saturating_mul(self.growth))
    }
}

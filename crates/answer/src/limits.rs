//! How much of an answer file or a site list is believed before it is read.

/// The most that is read of answers that somebody else wrote. What is larger is refused with
/// [`neat_content::Error::Limit`]. How deep XML and YAML nest is fixed, at 64: no answer file needs more.
///
/// ```
/// // A service that checks strangers' answers takes less than a workshop does.
/// let strict = neat_answer::Limits { file: 1 << 10, ..Default::default() };
/// let large = "d-i debian-installer/language string en\n".repeat(100);
/// assert!(neat_answer::AnswerFile::parse_with(large.as_bytes(), None, &strict).is_err());
/// assert!(neat_answer::AnswerFile::parse(large.as_bytes()).is_ok());
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// Bytes of an answer file.
    pub file: u64,
    /// Machines of a site list.
    pub sites: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self { file: crate::AnswerFile::MAX_LEN, sites: 100_000 }
    }
}

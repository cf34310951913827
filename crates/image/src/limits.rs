//! How much of an image file is believed before it is read.

use neat_content::{Error, Result};

/// The most that is read of an image file that somebody else made. What is larger is refused with
/// [`Error::Limit`] before room is made for it.
///
/// ```
/// // A service that lists editions for strangers holds less in memory than a workshop does.
/// let strict = neat_image::Limits { metadata: 64 << 20, ..Default::default() };
/// assert!(strict.table > strict.metadata);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// Bytes of the resource table of one part. One entry has 50.
    pub table: u64,
    /// Bytes of the XML data, as UTF-16.
    pub xml: u64,
    /// Elements in the XML data.
    pub elements: usize,
    /// How deep the elements of the XML data nest.
    pub element_depth: usize,
    /// Bytes of one edition's tree, before compression.
    pub metadata: u64,
    /// Security descriptors of one edition.
    pub descriptors: usize,
    /// How deep the folders of one edition nest.
    pub depth: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            table: 1 << 30,
            xml: 64 << 20,
            elements: 200_000,
            element_depth: 64,
            metadata: 1 << 30,
            descriptors: 1 << 20,
            depth: 4096,
        }
    }
}

/// Refuses more than `limit`.
///
/// # Errors
/// `LimitExceeded` with what there is too much of, and where.
pub(crate) fn at_most(what: &str, offset: u64, found: usize, limit: usize) -> Result<()> {
    if found <= limit {
        return Ok(());
    }
    Err(Error::Limit { what: what.into(), offset, limit: limit as u64, found: found as u64 })
}

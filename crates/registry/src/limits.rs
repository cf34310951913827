//! How much of a hive or a registration text is believed before it is read.

use crate::layout;

/// The most that is read of a hive or a registration text that somebody else made. What is larger is refused.
///
/// ```
/// // A service that reads strangers' hives holds less in memory than a workshop does.
/// let strict = neat_registry::Limits { hive: 16 << 20, ..Default::default() };
/// assert!(neat_registry::Hive::read_with(&b"regf"[..], &strict).is_err());
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// Bytes of a hive's bins.
    pub hive: u64,
    /// How deep the keys of a hive nest. The format's own limit is the default.
    pub depth: usize,
    /// Bytes of a registration text.
    pub text: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Self { hive: crate::LARGEST, depth: layout::DEEPEST, text: 64 << 20 }
    }
}

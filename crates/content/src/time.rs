//! A moment, to the nanosecond.

use crate::system::MetadataExt;
use std::{
    fs::Metadata,
    time::{Duration, SystemTime},
};

/// A moment in UTC, counted from 1970-01-01T00:00:00.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Timestamp {
    /// Whole seconds; negative before 1970.
    pub seconds: i64,
    /// Nanoseconds after the second, below 1,000,000,000.
    pub nanoseconds: u32,
}

impl Timestamp {
    /// The moment `seconds` after 1970.
    pub const fn from_seconds(seconds: i64) -> Self {
        Self { seconds, nanoseconds: 0 }
    }

    /// When the file that `metadata` describes was last changed.
    pub fn from_metadata(metadata: &Metadata) -> Self {
        Self { seconds: metadata.mtime(), nanoseconds: metadata.mtime_nsec() as u32 }
    }

    /// The same moment as the system's own type; `None` if that cannot hold it.
    pub fn to_system_time(self) -> Option<SystemTime> {
        let whole = Duration::from_secs(self.seconds.unsigned_abs());
        let base = if self.seconds >= 0 {
            SystemTime::UNIX_EPOCH.checked_add(whole)
        } else {
            SystemTime::UNIX_EPOCH.checked_sub(whole)
        };
        base?.checked_add(Duration::from_nanos(u64::from(self.nanoseconds)))
    }
}

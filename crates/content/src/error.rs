//! One error type for the project: it says what, where, what was found and what was expected.

use std::{fmt::Display, io, path::Path};

/// Result of everything that can fail here.
pub type Result<T> = std::result::Result<T, Error>;

/// The kind of trouble, which alone decides the exit code of the program.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Class {
    /// The request makes no sense (exit code 2).
    BadRequest,
    /// The input contradicts itself or its format's description (exit code 3).
    Corrupt,
    /// The input is sound as far as we can tell, but of a kind we do not handle (exit code 3).
    Unsupported,
    /// The input asks for more than the stated limit (exit code 3).
    LimitExceeded,
    /// Going on could destroy something (exit code 4).
    Unsafe,
    /// The operating system said no, or the work failed (exit code 1).
    Io,
    /// A person or another program asked us to stop (exit code 130).
    Cancelled,
}

/// What went wrong.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// A field holds a value that the format's description rules out.
    #[error("{structure}.{field} at byte {offset:#x}: expected {expected}, found {found}")]
    BadField {
        /// On-disk structure, named as its specification names it.
        structure: &'static str,
        /// Field of the structure.
        field: &'static str,
        /// Position of the field in bytes from the start of the file.
        offset: u64,
        /// What would have been right.
        expected: String,
        /// What was there.
        found: String,
    },
    /// Something reaches past the end of what holds it.
    #[error("{what} at byte {offset:#x}: expected {wanted} bytes, found {available} before the end")]
    Truncated {
        /// What was being read.
        what: String,
        /// Where it starts, in bytes from the start of the file.
        offset: u64,
        /// Bytes it claims to have.
        wanted: u64,
        /// Bytes that are there.
        available: u64,
    },
    /// A structure leads back to itself.
    #[error("{what} at byte {offset:#x}: expected a tree, found a loop back to a place already read")]
    Loop {
        /// What was being followed.
        what: String,
        /// Where the repeated structure lies, in bytes from the start of the file.
        offset: u64,
    },
    /// A count or size is larger than we are willing to follow.
    #[error("{what} at byte {offset:#x}: expected at most {limit}, found {found}")]
    Limit {
        /// What was counted.
        what: String,
        /// Where the count stands, in bytes from the start of the file.
        offset: u64,
        /// Largest accepted value.
        limit: u64,
        /// Value found.
        found: u64,
    },
    /// A sound structure that we do not handle.
    #[error("{what} at byte {offset:#x} is not supported")]
    Unsupported {
        /// What it is.
        what: String,
        /// Where it stands, in bytes from the start of the file.
        offset: u64,
    },
    /// Content that is not what it was said to be.
    #[error("expected {expected}, found {found}")]
    Mismatch {
        /// What was promised.
        expected: String,
        /// What is there.
        found: String,
        /// What to do about it.
        hint: String,
    },
    /// The operating system refused something.
    #[error("cannot {action}: {source}")]
    Io {
        /// What was attempted, as a phrase that follows "cannot".
        action: String,
        /// What the system said.
        source: io::Error,
    },
    /// The request makes no sense.
    #[error("{message}")]
    Request {
        /// What is wrong with it.
        message: String,
        /// What to do about it.
        hint: String,
    },
    /// Refused, because going on could destroy something.
    #[error("{message}")]
    Refused {
        /// What was about to be destroyed.
        message: String,
        /// How to say that it is meant.
        hint: String,
    },
    /// The work was done and its result is not what it has to be.
    #[error("{message}")]
    Failed {
        /// What is wrong with the result.
        message: String,
        /// What to do about it.
        hint: String,
    },
    /// A stop was asked for.
    #[error("stopped before the end; nothing was left behind under the output's name")]
    Cancelled,
    /// Another error, with the place where it arose.
    #[error("{place}: {source}")]
    In {
        /// A file, a path on a media, or a line of a text.
        place: String,
        /// What went wrong there.
        source: Box<Error>,
    },
}

impl Error {
    /// A field that holds `found` where `expected` was wanted; `offset` in bytes from the start of the file.
    pub fn bad_field(
        structure: &'static str,
        field: &'static str,
        offset: u64,
        expected: impl Into<String>,
        found: impl Display,
    ) -> Self {
        Self::BadField { structure, field, offset, expected: expected.into(), found: found.to_string() }
    }

    /// An operation on a file that failed, for use with `map_err`.
    pub fn io(action: &str, path: &Path) -> impl FnOnce(io::Error) -> Self + use<> {
        let action = format!("{action} {}", path.display());
        move |source| Self::Io { action, source }
    }

    /// A request that cannot be met, and what to do instead.
    pub fn request(message: impl Into<String>, hint: impl Into<String>) -> Self {
        Self::Request { message: message.into(), hint: hint.into() }
    }

    /// Something refused for safety, and how to say that it is meant.
    pub fn refused(message: impl Into<String>, hint: impl Into<String>) -> Self {
        Self::Refused { message: message.into(), hint: hint.into() }
    }

    /// Work whose result is not what it has to be, and what to do about it.
    pub fn failed(message: impl Into<String>, hint: impl Into<String>) -> Self {
        Self::Failed { message: message.into(), hint: hint.into() }
    }

    /// The same error with the place where it arose in front.
    #[must_use]
    pub fn within(self, place: impl Display) -> Self {
        match self {
            Self::Cancelled => self,
            other => Self::In { place: place.to_string(), source: Box::new(other) },
        }
    }

    /// The kind of trouble.
    pub fn class(&self) -> Class {
        match self {
            Self::BadField { .. } | Self::Truncated { .. } | Self::Loop { .. } | Self::Mismatch { .. } => {
                Class::Corrupt
            }
            Self::Limit { .. } => Class::LimitExceeded,
            Self::Unsupported { .. } => Class::Unsupported,
            Self::Io { .. } | Self::Failed { .. } => Class::Io,
            Self::Request { .. } => Class::BadRequest,
            Self::Refused { .. } => Class::Unsafe,
            Self::Cancelled => Class::Cancelled,
            Self::In { source, .. } => source.class(),
        }
    }

    /// What a person can do about it, as a sentence without a full stop; empty when there is nothing to add.
    pub fn hint(&self) -> String {
        match self {
            Self::BadField { .. } | Self::Loop { .. } => {
                "the file is damaged or not of this kind; compare its digest with the vendor's".into()
            }
            Self::Truncated { .. } => {
                "the file is cut short or damaged; compare its size and digest with the vendor's".into()
            }
            Self::Limit { .. } => {
                "no sound file needs this much; the file is damaged or made to do harm".into()
            }
            Self::Unsupported { .. } => "use a media without this feature".into(),
            Self::Mismatch { hint, .. }
            | Self::Request { hint, .. }
            | Self::Failed { hint, .. }
            | Self::Refused { hint, .. } => hint.clone(),
            Self::Io { source, .. } => match source.kind() {
                io::ErrorKind::NotFound => "check the path".into(),
                io::ErrorKind::PermissionDenied => "check who may read or write there".into(),
                io::ErrorKind::StorageFull => "free some space or write to another disk".into(),
                io::ErrorKind::UnexpectedEof => "the file became shorter while it was read; try again".into(),
                _ => String::new(),
            },
            Self::Cancelled => String::new(),
            Self::In { source, .. } => source.hint(),
        }
    }
}

//! One error type for the project: it says what, where, what was found and what was expected.

use crate::Hint;
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
    /// A fault of our own, which no input excuses (exit code 70).
    Internal,
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
        hint: Hint,
    },
    /// The operating system refused something.
    #[error("cannot {action}: {source}")]
    Io {
        /// What was attempted, as a phrase that follows "cannot".
        action: String,
        /// What the system said.
        source: io::Error,
        /// What to do about it; without words, what usually helps against what the system said.
        hint: Hint,
    },
    /// The request makes no sense.
    #[error("{message}")]
    Request {
        /// What is wrong with it.
        message: String,
        /// What to do about it.
        hint: Hint,
    },
    /// Refused, because going on could destroy something.
    #[error("{message}")]
    Refused {
        /// What was about to be destroyed.
        message: String,
        /// How to say that it is meant.
        hint: Hint,
    },
    /// The work was done and its result is not what it has to be.
    #[error("{message}")]
    Failed {
        /// What is wrong with the result.
        message: String,
        /// What to do about it.
        hint: Hint,
    },
    /// A fault of our own: something that must hold does not.
    #[error("a fault in this program: {message}")]
    Internal {
        /// What does not hold.
        message: String,
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
        move |source| Self::Io { action, source, hint: Hint::default() }
    }

    /// Something that the system refused, with words of its own for what was attempted.
    pub fn system(action: impl Into<String>, source: io::Error, hint: impl Into<Hint>) -> Self {
        Self::Io { action: action.into(), source, hint: hint.into() }
    }

    /// An input that could not be opened or examined, for use with `map_err`: one that is not there is a request
    /// that makes no sense, all else is a failure of the system.
    pub fn input(action: &str, path: &Path) -> impl FnOnce(io::Error) -> Self + use<> {
        let path = path.to_owned();
        let action = action.to_owned();
        move |source| match source.kind() {
            io::ErrorKind::NotFound => {
                Self::request(format!("{} is not there", path.display()), "check the path")
            }
            _ => Self::io(&action, &path)(source),
        }
    }

    /// Content that is not what it was said to be.
    pub fn mismatch(expected: impl Into<String>, found: impl Into<String>, hint: impl Into<Hint>) -> Self {
        Self::Mismatch { expected: expected.into(), found: found.into(), hint: hint.into() }
    }

    /// A fault of our own: `message` says what does not hold.
    pub fn internal(message: impl Into<String>) -> Self {
        Self::Internal { message: message.into() }
    }

    /// A source that is no longer what it was when the work began.
    pub fn changed_source(path: &Path, how: impl Display) -> Self {
        Self::failed(
            format!("{} changed while it was in use: {how}", path.display()),
            "let nothing write to it and try again",
        )
    }

    /// A request that cannot be met, and what to do instead.
    pub fn request(message: impl Into<String>, hint: impl Into<Hint>) -> Self {
        Self::Request { message: message.into(), hint: hint.into() }
    }

    /// Something refused for safety, and how to say that it is meant.
    pub fn refused(message: impl Into<String>, hint: impl Into<Hint>) -> Self {
        Self::Refused { message: message.into(), hint: hint.into() }
    }

    /// Work whose result is not what it has to be, and what to do about it.
    pub fn failed(message: impl Into<String>, hint: impl Into<Hint>) -> Self {
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
            Self::Internal { .. } => Class::Internal,
            Self::Cancelled => Class::Cancelled,
            Self::In { source, .. } => source.class(),
        }
    }

    /// Whether the system refused to read or write, so that what was being read may well be sound: never a reason to
    /// go on with something else.
    pub fn is_io(&self) -> bool {
        match self {
            Self::Io { .. } => true,
            Self::In { source, .. } => source.is_io(),
            _ => false,
        }
    }

    /// What a person can do about it; empty when there is nothing to add.
    pub fn hint(&self) -> Hint {
        let usual = match self {
            Self::BadField { .. } | Self::Loop { .. } => {
                "the file is damaged or not of this kind; compare its digest with the vendor's"
            }
            Self::Truncated { .. } => {
                "the file is cut short or damaged; compare its size and digest with the vendor's"
            }
            Self::Limit { .. } => "no sound file needs this much; the file is damaged or made to do harm",
            Self::Unsupported { .. } => "use a media without this feature",
            Self::Io { source, hint, .. } if hint.is_empty() => match source.kind() {
                io::ErrorKind::NotFound => "check the path",
                io::ErrorKind::PermissionDenied => "check who may read or write there",
                io::ErrorKind::StorageFull => "free some space or write to another disk",
                io::ErrorKind::FileTooLarge => {
                    "this file may not grow so large: check `ulimit -f` and what the file system can hold"
                }
                io::ErrorKind::UnexpectedEof => "the file became shorter while it was read; try again",
                io::ErrorKind::ReadOnlyFilesystem => "write to another disk",
                _ if source.raw_os_error() == Some(crate::system::Errno::IO.raw_os_error()) => {
                    "the disk or the network failed: look at the system's log and try another copy"
                }
                _ => "",
            },
            Self::Mismatch { hint, .. }
            | Self::Request { hint, .. }
            | Self::Failed { hint, .. }
            | Self::Io { hint, .. }
            | Self::Refused { hint, .. } => return hint.clone(),
            Self::Internal { .. } => return Hint::Advice(crate::Advice::ReportFault),
            Self::Cancelled => "",
            Self::In { source, .. } => return source.hint(),
        };
        usual.into()
    }
}

/// Parts what may be passed over with a note (the input is damaged or of another kind) from what may not: an error of
/// the system, a stop, a fault of our own.
///
/// # Errors
/// What may not be passed over.
pub fn damage_apart<T>(result: Result<T>) -> Result<std::result::Result<T, Error>> {
    match result {
        Err(error) if matches!(error.class(), Class::Io | Class::Cancelled | Class::Internal) => Err(error),
        other => Ok(other),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_there_is_a_request_and_what_the_system_refuses_is_not() {
        let path = Path::new("/nowhere/a.iso");
        let missing = Error::input("open", path)(io::ErrorKind::NotFound.into());
        assert_eq!(
            (missing.class(), missing.to_string().as_str()),
            (Class::BadRequest, "/nowhere/a.iso is not there")
        );
        let broken =
            Error::input("read", path)(io::Error::from_raw_os_error(5)).within("a.stack.toml, line 3");
        assert_eq!(broken.class(), Class::Io);
        assert!(broken.is_io() && broken.hint().to_string().contains("disk"), "{broken:?}");
        assert!(!Error::internal("x").is_io());
        assert_eq!(Error::internal("x").class(), Class::Internal);
    }
}

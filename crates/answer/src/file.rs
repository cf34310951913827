//! An answer file as bytes: its dialect, its text, and how the text was stored.

use crate::{Dialect, Limits, SideFile};
use neat_content::{Encoding, Error, Result, Text};

/// An answer file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AnswerFile {
    /// Its dialect.
    pub dialect: Dialect,
    /// Its text, without a byte order mark.
    pub text: String,
    encoding: Encoding,
    has_mark: bool,
}

impl AnswerFile {
    /// Most bytes that an answer file has.
    pub const MAX_LEN: u64 = 4 << 20;

    /// Takes bytes for an answer file. A text that could not be written again as it was is refused.
    ///
    /// # Errors
    /// `Corrupt` for bytes that are no text or of no dialect, `Unsupported` for a text that could not be written again.
    pub fn parse(bytes: &[u8]) -> Result<Self> {
        Self::parse_as(bytes, None)
    }

    /// The same, where the dialect is known; short texts do not show it.
    ///
    /// # Errors
    /// As [`AnswerFile::parse`].
    pub fn parse_as(bytes: &[u8], dialect: Option<Dialect>) -> Result<Self> {
        Self::parse_with(bytes, dialect, &Limits::default())
    }

    /// The same, with limits of the caller's.
    ///
    /// # Errors
    /// As [`AnswerFile::parse`]; `LimitExceeded` for a file that is too large.
    pub fn parse_with(bytes: &[u8], dialect: Option<Dialect>, limits: &Limits) -> Result<Self> {
        if bytes.len() as u64 > limits.file {
            return Err(Error::Limit {
                what: "bytes of an answer file".into(),
                offset: 0,
                limit: limits.file,
                found: bytes.len() as u64,
            });
        }
        let Text { text, encoding } = Text::decode(bytes);
        let has_mark =
            encoding != Encoding::Utf8 && encoding != Encoding::Ansi || bytes.starts_with(b"\xEF\xBB\xBF");
        let dialect = dialect.or_else(|| Dialect::of_text(&text)).ok_or_else(|| {
            let names: Vec<&str> = Dialect::ALL.iter().map(|own| own.name()).collect();
            Error::request(
                "it is no answer file that is known here",
                format!("give one in the form of {}, or a model (*.answer.toml)", names.join(", ")),
            )
        })?;
        let file = Self { dialect, text, encoding, has_mark };
        if file.to_bytes(&file.text) != bytes {
            return Err(Error::Mismatch {
                expected: "text".into(),
                found: "bytes that are no characters in its encoding".into(),
                hint: "save it as UTF-8 in an editor".into(),
            });
        }
        Ok(file)
    }

    /// Files that it needs beside it on the media, as far as it says what is in them.
    ///
    /// # Errors
    /// `Corrupt` for a text that cannot be read.
    pub fn side_files(&self) -> Result<Vec<SideFile>> {
        let face = self.dialect.face();
        let reading = face.read(&self.text)?;
        Ok(face.side_files(&reading.model, &reading.vault))
    }

    /// Another text, stored as this one was.
    pub fn to_bytes(&self, text: &str) -> Vec<u8> {
        let mut bytes = self.encoding.encode(text);
        match (self.encoding, self.has_mark) {
            (Encoding::Utf8, true) => {
                bytes.splice(0..0, *b"\xEF\xBB\xBF");
            }
            (Encoding::Utf16Le | Encoding::Utf16Be, false) => {
                bytes.drain(..2);
            }
            _ => {}
        }
        bytes
    }
}

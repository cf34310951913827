//! Files that are compressed each by itself, as older media and drivers have them: `NAME.EX_` stands for `NAME.EXE`.
//!
//! Two forms: a cabinet with one file, and an older one of its own. That begins with `SZDD`, 88 F0 27 33, the letter of the
//! method (`A`), the last letter of the full name or zero, and the length of the content (u32, low byte first). Then come
//! groups: a byte whose bits, the lowest first, say of each of the next eight items whether it is a byte of content (1) or a
//! match (0) of two bytes: the low eight bits of a place in the window, then its high four bits and, in the low four, the
//! length less three. The window has 4,096 bytes, begins full of blanks, and is written from 4,080 on, around its end.

mod read;
mod write;

pub(crate) use read::expand_all;
pub use read::{Expanded, expand_single, is_single_name};
pub use write::{compress_single, single_name};

/// How a file is compressed by itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SingleForm {
    /// The older form.
    Older,
    /// A cabinet with one file.
    Cabinet,
}

impl SingleForm {
    /// A word for it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Older => "older form",
            Self::Cabinet => "cabinet",
        }
    }
}

const SIGNATURE: [u8; 8] = [b'S', b'Z', b'D', b'D', 0x88, 0xF0, 0x27, 0x33];
const HEADER_LEN: usize = 14;
const WINDOW: usize = 4096;
/// Where the window is written first.
const FIRST: usize = WINDOW - 16;
/// Shortest match.
const SHORTEST: usize = 3;
/// Longest match.
const LONGEST: usize = SHORTEST + 15;

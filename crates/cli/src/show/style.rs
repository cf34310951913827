//! Colours, each for one meaning.
//!
//! In text that is still being laid out a colour is a mark that takes no place: one character of a private area, another
//! at each run, so that no text from outside can hold it on purpose. The gate in [`super::outside`] makes colours of them.

use anstyle::{AnsiColor, Style};
use std::{
    fmt,
    hash::{BuildHasher, RandomState},
    sync::OnceLock,
};

/// A colour with a meaning; `{}` begins it and `{:#}` ends it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Colour(u32);

/// Headings.
pub(crate) const HEADING: Colour = Colour(1);
/// Names of values.
pub(crate) const QUIET: Colour = Colour(2);
/// Reasons, which are there for those who want them.
pub(crate) const REASON: Colour = Colour(3);
/// Errors and what is refused.
pub(crate) const BAD: Colour = Colour(4);
/// Dangers.
pub(crate) const CARE: Colour = Colour(5);
/// What to do, and what went well.
pub(crate) const GOOD: Colour = Colour(6);
/// Text as it is.
pub(crate) const PLAIN: Colour = Colour(7);

/// Number of the mark that ends a colour.
const END: u32 = 0;
/// How many marks there are.
const MARKS: u32 = 8;
/// First character of the private area, and how many places for all marks it has (Unicode, plane 15).
const PRIVATE: (u32, u32) = (0xF_0000, 0xFF00 / MARKS);

fn first_mark() -> u32 {
    static FIRST: OnceLock<u32> = OnceLock::new();
    *FIRST.get_or_init(|| PRIVATE.0 + MARKS * (RandomState::new().hash_one(0) % u64::from(PRIVATE.1)) as u32)
}

fn number_of(c: char) -> Option<u32> {
    u32::from(c).checked_sub(first_mark()).filter(|number| *number < MARKS)
}

/// The sequence that a mark stands for; `None` for what is no mark.
pub(crate) fn of_mark(c: char) -> Option<String> {
    let style = match Colour(number_of(c)?) {
        HEADING => Style::new().bold(),
        QUIET => AnsiColor::Cyan.on_default(),
        REASON => Style::new().dimmed(),
        BAD => AnsiColor::Red.on_default().bold(),
        CARE => AnsiColor::Yellow.on_default().bold(),
        GOOD => AnsiColor::Green.on_default(),
        PLAIN => Style::new(),
        _ => return Some(anstyle::Reset.to_string()),
    };
    Some(style.to_string())
}

/// Whether a character takes a place: marks of colours do not.
pub(crate) fn takes_place(c: char) -> bool {
    number_of(c).is_none()
}

impl fmt::Display for Colour {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let number = match (*self, f.alternate()) {
            (PLAIN, _) => return Ok(()),
            (_, true) => END,
            (_, false) => self.0,
        };
        char::from_u32(first_mark() + number).map_or(Ok(()), |mark| fmt::Write::write_char(f, mark))
    }
}

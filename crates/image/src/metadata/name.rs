//! A file's name: UTF-16 that need not be valid.

use neat_content::fold_unit;
use std::fmt;

/// A name as the image file has it, in UTF-16 units.
#[derive(Clone, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Name(Box<[u16]>);

impl Name {
    /// A name from its units.
    pub fn from_units(units: impl Into<Box<[u16]>>) -> Self {
        Self(units.into())
    }

    /// The units.
    pub fn units(&self) -> &[u16] {
        &self.0
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The name without regard to case, for comparing and sorting.
    pub fn folded(&self) -> Vec<u16> {
        fold(&self.0)
    }

    /// Whether `other` is the same name in any case.
    pub fn equals_ignoring_case(&self, other: &[u16]) -> bool {
        self.0.len() == other.len() && (*self.0 == *other || fold(&self.0) == fold(other))
    }
}

fn fold(units: &[u16]) -> Vec<u16> {
    units.iter().copied().map(fold_unit).collect()
}

impl From<&str> for Name {
    fn from(text: &str) -> Self {
        Self(text.encode_utf16().collect())
    }
}

impl fmt::Display for Name {
    /// Units that are no character are written as `\u{…}`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        char::decode_utf16(self.0.iter().copied()).try_for_each(|unit| match unit {
            Ok(c) => write!(f, "{c}"),
            Err(error) => write!(f, "\\u{{{:x}}}", error.unpaired_surrogate()),
        })
    }
}

impl fmt::Debug for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", self.to_string())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_compared_without_case_and_shown_whole() {
        assert!(Name::from("Straße Ünder").equals_ignoring_case(Name::from("STRAßE ÜNDER").units()));
        assert!(!Name::from("a").equals_ignoring_case(Name::from("b").units()));
        let odd = Name::from_units([0x41, 0xD800, 0x42]);
        assert_eq!(odd.to_string(), "A\\u{d800}B");
        assert_eq!(odd.units(), [0x41, 0xD800, 0x42]);
    }
}

//! A file's name: UTF-16 that need not be valid.

use neat_content::fold_unit;
use std::{cmp::Ordering, fmt};

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

    /// Whether it names something in its folder, and neither another folder nor nothing.
    pub fn stays_in_folder(&self) -> bool {
        let is_parting = |unit: &u16| [0, u16::from(b'/')].contains(unit);
        let dots = self.0.len() <= 2 && self.0.iter().all(|unit| *unit == u16::from(b'.'));
        !dots && !self.0.iter().any(is_parting)
    }

    /// The name without regard to case, for comparing and sorting.
    pub fn folded(&self) -> Vec<u16> {
        self.0.iter().copied().map(fold_unit).collect()
    }

    /// Whether `other` is the same name in any case.
    pub fn equals_ignoring_case(&self, other: &[u16]) -> bool {
        self.0.len() == other.len() && self.compare_ignoring_case(other).is_eq()
    }

    /// How the name stands to `other` in a sorted folder: by units, without regard to case.
    pub fn compare_ignoring_case(&self, other: &[u16]) -> Ordering {
        // What most names begin with is the same as it is.
        let same = self.0.iter().zip(other).take_while(|(a, b)| a == b).count();
        let (own, other) = (&self.0[same..], &other[same..]);
        own.iter().copied().map(fold_unit).cmp(other.iter().copied().map(fold_unit))
    }
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
        let order = |a: &str, b: &str| Name::from(a).compare_ignoring_case(Name::from(b).units());
        assert_eq!(order("a_1", "A_1"), Ordering::Equal);
        assert_eq!(order("ab", "ABC"), Ordering::Less);
        assert_eq!(order("b", "ABC"), Ordering::Greater);
        // By capitals, so that the underscore stands behind all letters.
        assert_eq!(order("a_", "ab"), Ordering::Greater);
        for name in ["", ".", "..", "a/b", "a\0"] {
            assert!(!Name::from(name).stays_in_folder(), "{name:?}");
        }
        assert!(Name::from("...").stays_in_folder() && Name::from(".a").stays_in_folder());
        let odd = Name::from_units([0x41, 0xD800, 0x42]);
        assert_eq!(odd.to_string(), "A\\u{d800}B");
        assert_eq!(odd.units(), [0x41, 0xD800, 0x42]);
    }
}

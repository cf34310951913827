//! What a device says of a command that it did not do (SPC-4, section 4.5).

use std::fmt;

/// Sense data.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Sense {
    /// Sense key, 0 to 15.
    pub key: u8,
    /// Additional sense code.
    pub code: u8,
    /// Its qualifier.
    pub qualifier: u8,
    /// How far a long operation is, of 65,536.
    pub progress: Option<u16>,
}

/// Words for what disc writers say, the particular before the general (MMC-5, annex F; SPC-4, table 56).
const WORDS: [(u8, u8, Option<u8>, &str); 30] = [
    (0x02, 0x04, Some(0x01), "it is becoming ready"),
    (0x02, 0x04, Some(0x04), "it is formatting"),
    (0x02, 0x04, Some(0x07), "it is at work"),
    (0x02, 0x04, Some(0x08), "its buffer is full"),
    (0x02, 0x04, None, "it is not ready"),
    (0x02, 0x30, Some(0x00), "the disc is of a kind that it cannot use"),
    (0x02, 0x30, None, "it cannot use the disc, which may be dirty or of another kind"),
    (0x02, 0x3A, None, "there is no disc in it"),
    (0x02, 0x3E, None, "it has no such unit"),
    (0x03, 0x02, None, "it cannot find the place on the disc"),
    (0x03, 0x0C, Some(0x09), "data came too slowly, and the disc is spoilt"),
    (0x03, 0x0C, None, "it cannot write there"),
    (0x03, 0x11, None, "it cannot read there"),
    (0x03, 0x31, Some(0x00), "the disc is not formatted, or damaged"),
    (0x03, 0x51, None, "erasing failed"),
    (0x03, 0x72, None, "closing the session failed"),
    (0x03, 0x73, Some(0x02), "the power calibration area of the disc is full"),
    (0x03, 0x73, None, "power calibration failed: the disc may not suit the writer"),
    (0x03, 0x57, None, "it cannot read the contents of the disc"),
    (0x04, 0x3E, None, "it does not answer"),
    (0x05, 0x20, None, "it does not know the command"),
    (0x05, 0x21, None, "there is no such place on the disc, or it is not the next one"),
    (0x05, 0x24, None, "it does not take the command in this form"),
    (0x05, 0x2C, None, "the command does not come in its order"),
    (0x05, 0x30, None, "the disc is of a kind that this cannot be done to"),
    (0x05, 0x53, None, "it holds the disc fast"),
    (0x05, 0x64, None, "the track cannot be written in this form"),
    (0x05, 0x72, None, "the session cannot be closed as it is"),
    (0x06, 0x28, None, "another disc may be in it"),
    (0x06, 0x29, None, "it was switched on or set back"),
];

const KEYS: [&str; 16] = [
    "it says nothing of the reason",
    "it had trouble and recovered",
    "it is not ready",
    "the disc is faulty there",
    "it is faulty",
    "it does not take the command",
    "something changed in it",
    "the disc is protected",
    "the disc is blank there",
    "the maker's own reason",
    "copying was broken off",
    "it broke off",
    "a reason of former times",
    "there is no room",
    "what is there differs",
    "a reason that is reserved",
];

/// The bytes that a sense key has for itself are valid.
const VALID: u8 = 0x80;

impl Sense {
    /// A sense without progress.
    #[must_use]
    pub const fn new(key: u8, code: u8, qualifier: u8) -> Self {
        Self { key, code, qualifier, progress: None }
    }

    /// Reads sense data in the fixed or the descriptor form; what is cut short says nothing.
    #[must_use]
    pub fn read(bytes: &[u8]) -> Self {
        let byte = |at: usize| bytes.get(at).copied().unwrap_or(0);
        let word = |at: usize| u16::from_be_bytes([byte(at), byte(at + 1)]);
        match byte(0) & 0x7F {
            0x70 | 0x71 => Self {
                key: byte(2) & 0x0F,
                code: byte(12),
                qualifier: byte(13),
                progress: (byte(15) & VALID != 0).then(|| word(16)),
            },
            0x72 | 0x73 => {
                let mut progress = None;
                let mut at = 8;
                while at + 8 <= bytes.len() {
                    // Descriptor type 2: sense key specific.
                    if byte(at) == 2 && byte(at + 4) & VALID != 0 {
                        progress = Some(word(at + 5));
                    }
                    at += 2 + usize::from(byte(at + 1));
                }
                Self { key: byte(1) & 0x0F, code: byte(2), qualifier: byte(3), progress }
            }
            _ => Self::default(),
        }
    }

    /// Whether it works on, and may be asked again in a while.
    #[must_use]
    pub const fn is_busy(self) -> bool {
        self.key == 2 && self.code == 4 && matches!(self.qualifier, 1 | 4 | 7 | 8)
    }

    /// Whether the command was not done only because something had to be told first.
    #[must_use]
    pub const fn is_attention(self) -> bool {
        self.key == 6
    }

    /// Whether there is no disc.
    #[must_use]
    pub const fn is_empty(self) -> bool {
        self.key == 2 && self.code == 0x3A
    }

    /// What it means.
    #[must_use]
    pub fn words(self) -> &'static str {
        let is_it = |row: &&(u8, u8, Option<u8>, &str)| {
            row.0 == self.key && row.1 == self.code && row.2.is_none_or(|own| own == self.qualifier)
        };
        WORDS.iter().find(is_it).map_or(KEYS[usize::from(self.key & 0x0F)], |row| row.3)
    }
}

impl fmt::Display for Sense {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} ({:X}/{:02X}/{:02X})", self.words(), self.key, self.code, self.qualifier)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_forms_are_read_and_short_ones_say_nothing() {
        let mut fixed = [0; 18];
        (fixed[0], fixed[2], fixed[12], fixed[13]) = (0x70, 0x22, 0x04, 0x07);
        fixed[15..18].copy_from_slice(&[0x80, 0x40, 0x00]);
        let sense = Sense::read(&fixed);
        assert_eq!((sense.key, sense.progress, sense.is_busy()), (2, Some(0x4000), true));
        let descriptors =
            [0x72, 0x02, 0x04, 0x04, 0, 0, 0, 16, 0, 6, 0, 0, 0, 0, 0, 0, 2, 6, 0, 0, 0x80, 1, 2, 0];
        assert_eq!(Sense::read(&descriptors).progress, Some(0x0102));
        for len in 0..descriptors.len() {
            let _ = (Sense::read(&descriptors[..len]), Sense::read(&fixed[..len.min(18)]));
        }
        assert_eq!(Sense::read(&[]), Sense::default());
        assert_eq!(
            Sense::new(3, 0x0C, 9).to_string(),
            "data came too slowly, and the disc is spoilt (3/0C/09)"
        );
        assert_eq!(Sense::new(9, 1, 1).to_string(), "the maker's own reason (9/01/01)");
    }
}

//! Text of other systems: UTF-16, byte order marks, code pages, and comparing names without regard to case.

use encoding_rs::{Encoding as CodePage, WINDOWS_1252};

/// How a text file's characters are stored.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encoding {
    /// UTF-8; plain ASCII is that too.
    Utf8,
    /// UTF-16, low byte first.
    Utf16Le,
    /// UTF-16, high byte first.
    Utf16Be,
    /// One byte for each character, in the code page of western Europe.
    Ansi,
}

/// A decoded text file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Text {
    /// The text without a byte order mark. What is no character became U+FFFD.
    pub text: String,
    /// How it was stored.
    pub encoding: Encoding,
}

impl Text {
    /// Decodes a text file: by its byte order mark; without one by how it looks, with `code_page` (a label of the
    /// Encoding Standard such as `windows-1250`) for what is not Unicode.
    pub fn decode_as(bytes: &[u8], code_page: Option<&str>) -> Self {
        let utf16 = |bytes: &[u8], unit: fn([u8; 2]) -> u16, encoding| {
            let units: Vec<u16> = bytes.chunks_exact(2).map(|pair| unit([pair[0], pair[1]])).collect();
            Self { text: String::from_utf16_lossy(&units), encoding }
        };
        match bytes {
            [0xFF, 0xFE, rest @ ..] => utf16(rest, u16::from_le_bytes, Encoding::Utf16Le),
            [0xFE, 0xFF, rest @ ..] => utf16(rest, u16::from_be_bytes, Encoding::Utf16Be),
            // A text begins with ASCII here, whatever it is: comment signs, brackets, letters.
            [1..=0x7F, 0, ..] => utf16(bytes, u16::from_le_bytes, Encoding::Utf16Le),
            [0, 1..=0x7F, ..] => utf16(bytes, u16::from_be_bytes, Encoding::Utf16Be),
            _ => {
                if let Ok(text) = std::str::from_utf8(bytes.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(bytes)) {
                    return Self { text: text.to_owned(), encoding: Encoding::Utf8 };
                }
                let page = code_page.and_then(|label| CodePage::for_label(label.as_bytes()));
                let (text, _) = page.unwrap_or(WINDOWS_1252).decode_without_bom_handling(bytes);
                Self { text: text.into_owned(), encoding: Encoding::Ansi }
            }
        }
    }

    /// The same with the code page of western Europe.
    pub fn decode(bytes: &[u8]) -> Self {
        Self::decode_as(bytes, None)
    }
}

impl Encoding {
    /// Stores text, with a byte order mark for UTF-16. In a code page, characters it does not have become `?`.
    pub fn encode(self, text: &str) -> Vec<u8> {
        let utf16 = |bytes: fn(u16) -> [u8; 2]| {
            std::iter::once(0xFEFF).chain(text.encode_utf16()).flat_map(bytes).collect()
        };
        match self {
            Self::Utf8 => text.as_bytes().to_vec(),
            Self::Utf16Le => utf16(u16::to_le_bytes),
            Self::Utf16Be => utf16(u16::to_be_bytes),
            Self::Ansi => text.chars().map(ansi_byte).collect(),
        }
    }
}

/// Bytes of the code page of western Europe as text.
pub fn ansi_text(bytes: &[u8]) -> String {
    WINDOWS_1252.decode_without_bom_handling(bytes).0.into_owned()
}

/// A character in the code page of western Europe; `?` where it has none.
fn ansi_byte(c: char) -> u8 {
    let mut buffer = [0; 4];
    let (bytes, _, missing) = WINDOWS_1252.encode(c.encode_utf8(&mut buffer));
    match (&*bytes, missing) {
        ([byte], false) => *byte,
        _ => b'?',
    }
}

/// One UTF-16 unit without regard to case: one unit for one unit, as the systems that use such names do it.
pub fn fold_unit(unit: u16) -> u16 {
    match unit {
        0x61..=0x7A => unit - 0x20,
        0..=0x7F => unit,
        _ => match char::from_u32(u32::from(unit)) {
            Some(c) => {
                let mut upper = c.to_uppercase();
                match (upper.next(), upper.next()) {
                    (Some(c), None) if (c as u32) < 0x1_0000 => c as u16,
                    _ => unit,
                }
            }
            None => unit,
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_encoding_is_recognised_and_written() {
        let text = "[Version]\r\nä = \"Fähre\"\r\n";
        for encoding in [Encoding::Utf8, Encoding::Utf16Le, Encoding::Utf16Be, Encoding::Ansi] {
            let decoded = Text::decode(&encoding.encode(text));
            assert_eq!(decoded, Text { text: text.into(), encoding });
        }
        let without_mark = &Encoding::Utf16Le.encode(text)[2..];
        assert_eq!(Text::decode(without_mark).text, text);
        assert_eq!(Text::decode(b"\xEF\xBB\xBFa").text, "a");
        assert_eq!(Text::decode_as(b"\xE8", Some("windows-1250")).text, "č");
        assert_eq!(Encoding::Ansi.encode("a→€"), b"a?\x80");
        assert_eq!(Text::decode(b"").text, "");
    }

    #[test]
    fn units_fold_to_one_unit() {
        let fold = |text: &str| text.encode_utf16().map(fold_unit).collect::<Vec<_>>();
        assert_eq!(fold("Straße Ünder"), fold("STRAßE ÜNDER"));
        assert_eq!(fold_unit(0xD800), 0xD800);
    }
}

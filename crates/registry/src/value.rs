//! Types of values, and what their bytes mean.

/// Type of a value, by its number in the hive.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct ValueKind(pub u32);

impl ValueKind {
    /// No type.
    pub const NONE: Self = Self(0);
    /// Text, in UTF-16 with a NUL at its end.
    pub const TEXT: Self = Self(1);
    /// Text in which names of variables between `%` are replaced.
    pub const EXPANDED: Self = Self(2);
    /// Bytes.
    pub const BINARY: Self = Self(3);
    /// A number of 4 bytes, low byte first.
    pub const NUMBER: Self = Self(4);
    /// A number of 4 bytes, high byte first.
    pub const NUMBER_BIG_ENDIAN: Self = Self(5);
    /// Target of a key that is a link, in UTF-16.
    pub const LINK: Self = Self(6);
    /// Several texts, each with a NUL at its end, and one NUL more.
    pub const TEXTS: Self = Self(7);
    /// A number of 8 bytes, low byte first.
    pub const LONG_NUMBER: Self = Self(11);

    /// The name that systems use for it.
    pub const fn name(self) -> Option<&'static str> {
        Some(match self.0 {
            0 => "REG_NONE",
            1 => "REG_SZ",
            2 => "REG_EXPAND_SZ",
            3 => "REG_BINARY",
            4 => "REG_DWORD",
            5 => "REG_DWORD_BIG_ENDIAN",
            6 => "REG_LINK",
            7 => "REG_MULTI_SZ",
            8 => "REG_RESOURCE_LIST",
            9 => "REG_FULL_RESOURCE_DESCRIPTOR",
            10 => "REG_RESOURCE_REQUIREMENTS_LIST",
            11 => "REG_QWORD",
            _ => return None,
        })
    }

    /// Whether it is one text.
    pub const fn is_text(self) -> bool {
        matches!(self.0, 1 | 2 | 6)
    }
}

/// The text in the data of a value, up to the first NUL.
pub fn text(data: &[u8]) -> String {
    let units: Vec<u16> = data
        .chunks_exact(2)
        .map(|pair| u16::from_le_bytes([pair[0], pair[1]]))
        .take_while(|unit| *unit != 0)
        .collect();
    String::from_utf16_lossy(&units)
}

/// The texts in the data of a value of the type [`ValueKind::TEXTS`].
pub fn texts(data: &[u8]) -> Vec<String> {
    let units: Vec<u16> = data.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
    units.split(|unit| *unit == 0).take_while(|text| !text.is_empty()).map(String::from_utf16_lossy).collect()
}

/// The number in the data of a value.
pub fn number(kind: ValueKind, data: &[u8]) -> Option<u64> {
    match (kind, data) {
        (ValueKind::NUMBER, [a, b, c, d]) => Some(u64::from(u32::from_le_bytes([*a, *b, *c, *d]))),
        (ValueKind::NUMBER_BIG_ENDIAN, [a, b, c, d]) => Some(u64::from(u32::from_be_bytes([*a, *b, *c, *d]))),
        (ValueKind::LONG_NUMBER, data) => data.try_into().ok().map(u64::from_le_bytes),
        _ => None,
    }
}

/// Data of a value that holds this text.
pub fn text_data(text: &str) -> Vec<u8> {
    text.encode_utf16().chain([0]).flat_map(u16::to_le_bytes).collect()
}

/// Data of a value that holds these texts.
pub fn texts_data<T: AsRef<str>>(texts: &[T]) -> Vec<u8> {
    texts.iter().flat_map(|text| text_data(text.as_ref())).chain([0, 0]).collect()
}

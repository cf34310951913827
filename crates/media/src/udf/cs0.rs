//! OSTA Compressed Unicode (UDF 2.1.1), `dstring`s (ECMA-167 1/7.2.12), the CRC and times.

use super::layout::UdfTime;
use crate::iso9660::time::{civil_utc, from_civil};
use neat_content::Timestamp;

/// CRC-16 of ECMA-167 1/7.2.6: polynomial x¹⁶+x¹²+x⁵+1, start 0.
pub(crate) fn crc(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0, |crc, byte| (crc << 8) ^ CRC_TABLE[usize::from((crc >> 8) as u8 ^ byte)])
}

static CRC_TABLE: [u16; 256] = {
    let mut table = [0_u16; 256];
    let mut index = 0;
    while index < 256 {
        let mut value = (index as u16) << 8;
        let mut bit = 0;
        while bit < 8 {
            value = if value & 0x8000 == 0 { value << 1 } else { (value << 1) ^ 0x1021 };
            bit += 1;
        }
        table[index] = value;
        index += 1;
    }
    table
};

/// Text from compressed Unicode: a compression id (8 or 16; 254 and 255 mark deleted names) and its units.
/// `None` for another id or half a unit.
pub(crate) fn decode(bytes: &[u8]) -> Option<String> {
    let (id, units) = bytes.split_first()?;
    match id {
        8 | 254 => Some(units.iter().copied().map(char::from).collect()),
        16 | 255 if units.len() % 2 == 0 => {
            let units = units.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]]));
            Some(char::decode_utf16(units).map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER)).collect())
        }
        _ => None,
    }
}

/// Compressed Unicode of `text`; 8-bit where every character allows it.
pub(crate) fn encode(text: &str) -> Vec<u8> {
    let latin: Option<Vec<u8>> = text.chars().map(|c| u8::try_from(u32::from(c)).ok()).collect();
    match latin {
        Some(units) => std::iter::once(8).chain(units).collect(),
        None => std::iter::once(16).chain(text.encode_utf16().flat_map(u16::to_be_bytes)).collect(),
    }
}

/// The longest beginning of `text` whose compressed form has at most `limit` bytes.
pub(crate) fn encode_within(text: &str, limit: usize) -> Vec<u8> {
    let mut text = text;
    loop {
        let bytes = encode(text);
        if bytes.len() <= limit {
            return bytes;
        }
        text = &text[..text.char_indices().next_back().map_or(0, |(at, _)| at)];
    }
}

/// Text of a `dstring`: compressed Unicode whose length stands in the last byte.
pub(crate) fn decode_dstring(field: &[u8]) -> String {
    let Some((len, body)) = field.split_last() else { return String::new() };
    body.get(..usize::from(*len)).and_then(decode).unwrap_or_default().trim_end_matches('\0').to_owned()
}

/// A `dstring` of `N` bytes; text that does not fit is cut.
pub(crate) fn dstring<const N: usize>(text: &str) -> [u8; N] {
    let mut field = [0; N];
    if !text.is_empty() {
        let bytes = encode_within(text, N - 1);
        field[..bytes.len()].copy_from_slice(&bytes);
        field[N - 1] = bytes.len() as u8;
    }
    field
}

impl UdfTime {
    /// The time in UTC, to the microsecond.
    pub fn from_timestamp(time: Timestamp) -> Self {
        let civil = civil_utc(time);
        let micros = time.nanoseconds / 1000;
        Self {
            type_and_zone: 0x1000.into(),
            year: civil.year().into(),
            month: civil.month() as u8,
            day: civil.day() as u8,
            hour: civil.hour() as u8,
            minute: civil.minute() as u8,
            second: civil.second() as u8,
            centiseconds: (micros / 10_000) as u8,
            hundreds_of_microseconds: (micros / 100 % 100) as u8,
            microseconds: (micros % 100) as u8,
        }
    }

    /// The moment; 1970 where the record holds none.
    pub fn to_timestamp(self) -> Timestamp {
        let zone = self.type_and_zone.get();
        // A signed number in the low 12 bits; −2047 stands for "no offset given".
        let minutes = i64::from(((zone << 4) as i16) >> 4);
        let minutes = if zone >> 12 == 1 && (-1440..=1440).contains(&minutes) { minutes } else { 0 };
        let date = [
            i64::from(self.year.get()),
            self.month.into(),
            self.day.into(),
            self.hour.into(),
            self.minute.into(),
            self.second.into(),
        ];
        let micros = u32::from(self.centiseconds) * 10_000
            + u32::from(self.hundreds_of_microseconds) * 100
            + u32::from(self.microseconds);
        from_civil(date, micros.min(999_999) * 1000, minutes).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn crc_matches_the_standards_example() {
        // UDF 6.5: the bytes 70 6A 77 give 0x3299.
        assert_eq!(crc(&[0x70, 0x6A, 0x77]), 0x3299);
    }

    #[test]
    fn text_is_8_bit_where_possible_and_survives() {
        assert_eq!(encode("Käse"), [8, b'K', 0xE4, b's', b'e']);
        for text in ["a", "Überfahrt", "航海", "mixed ü 航", "🚢 ferry"] {
            assert_eq!(decode(&encode(text)).unwrap(), text);
            assert_eq!(decode_dstring(&dstring::<32>(text)), text);
        }
        assert_eq!(encode_within("🚢🚢", 7).len(), 5);
        assert_eq!(decode_dstring(&dstring::<8>("longer than that")), "longer");
        assert_eq!(decode(&[9, 1]), None);
        assert_eq!(decode(&[16, 1]), None);
        assert_eq!(decode_dstring(&[8, 1, 200]), "");
    }

    #[test]
    fn times_keep_microseconds_and_zones() {
        let time = Timestamp { seconds: 1_234_567_890, nanoseconds: 987_654_000 };
        let udf = UdfTime::from_timestamp(time);
        assert_eq!(udf.to_timestamp(), time);
        let west = UdfTime { type_and_zone: (0x1000 | (0x0FFF & (-60_i16 as u16))).into(), ..udf };
        assert_eq!(west.to_timestamp().seconds, time.seconds + 3600);
        let unknown = UdfTime { type_and_zone: (0x1000 | (0x0FFF & (-2047_i16 as u16))).into(), ..udf };
        assert_eq!(unknown.to_timestamp(), time);
        assert_eq!(UdfTime::default().to_timestamp(), Timestamp::default());
    }
}

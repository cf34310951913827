//! Dates as ECMA-119 records them.

use super::layout::{RecordingTime, VolumeTime};
use jiff::{Timestamp as Moment, civil, tz::TimeZone};
use neat_content::Timestamp;

/// Civil date and time in UTC; what lies outside the years −9999 to 9999 becomes the nearest inside.
pub(crate) fn civil_utc(time: Timestamp) -> civil::DateTime {
    let outside = if time.seconds < 0 { Moment::MIN } else { Moment::MAX };
    TimeZone::UTC.to_datetime(Moment::new(time.seconds, time.nanoseconds as i32).unwrap_or(outside))
}

/// Civil date and time in UTC, or the nearest that fits the years 1900 to 2155.
fn to_civil(time: Timestamp) -> civil::DateTime {
    let earliest = civil::date(1900, 1, 1).at(0, 0, 0, 0);
    let latest = civil::date(2155, 12, 31).at(23, 59, 59, 0);
    civil_utc(time).clamp(earliest, latest)
}

/// From a civil date and time with an offset in quarters of an hour; `None` if there is no such date.
pub(crate) fn from_civil(date: [i64; 6], nanoseconds: u32, offset_minutes: i64) -> Option<Timestamp> {
    let [year, month, day, hour, minute, second] = date;
    let small = |value: i64| i8::try_from(value).ok();
    let local = civil::DateTime::new(
        i16::try_from(year).ok()?,
        small(month)?,
        small(day)?,
        small(hour)?,
        small(minute)?,
        small(second)?,
        0,
    )
    .ok()?;
    let seconds = TimeZone::UTC.to_timestamp(local).ok()?.as_second() - offset_minutes * 60;
    Some(Timestamp { seconds, nanoseconds })
}

impl RecordingTime {
    /// The time in UTC, whole seconds.
    pub fn from_timestamp(time: Timestamp) -> Self {
        let civil = to_civil(time);
        Self {
            year: (civil.year() - 1900) as u8,
            month: civil.month() as u8,
            day: civil.day() as u8,
            hour: civil.hour() as u8,
            minute: civil.minute() as u8,
            second: civil.second() as u8,
            offset: 0,
        }
    }

    /// The moment; 1970 where the record holds none.
    pub fn to_timestamp(self) -> Timestamp {
        let date = [self.year, self.month, self.day, self.hour, self.minute, self.second].map(i64::from);
        let date = [date[0] + 1900, date[1], date[2], date[3], date[4], date[5]];
        from_civil(date, 0, i64::from(self.offset) * 15).unwrap_or_default()
    }
}

impl VolumeTime {
    /// Not specified (ECMA-119 8.4.26.1).
    pub const UNSPECIFIED: Self = Self { digits: [b'0'; 16], offset: 0 };

    /// The time in UTC.
    pub fn from_timestamp(time: Timestamp) -> Self {
        let civil = to_civil(time);
        let text = format!(
            "{:04}{:02}{:02}{:02}{:02}{:02}{:02}",
            civil.year(),
            civil.month(),
            civil.day(),
            civil.hour(),
            civil.minute(),
            civil.second(),
            civil.subsec_nanosecond() / 10_000_000
        );
        let mut digits = [b'0'; 16];
        digits.copy_from_slice(text.as_bytes());
        Self { digits, offset: 0 }
    }

    /// The moment; `None` where none is specified or the digits are not a date.
    pub fn to_timestamp(self) -> Option<Timestamp> {
        if !self.digits.iter().all(u8::is_ascii_digit) || self.digits.iter().all(|digit| *digit == b'0') {
            return None;
        }
        let number = |range: std::ops::Range<usize>| {
            self.digits[range].iter().fold(0_i64, |value, digit| value * 10 + i64::from(digit - b'0'))
        };
        let date = [number(0..4), number(4..6), number(6..8), number(8..10), number(10..12), number(12..14)];
        from_civil(date, number(14..16) as u32 * 10_000_000, i64::from(self.offset) * 15)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_keep_their_seconds_and_offsets_are_taken_off() {
        let time = Timestamp { seconds: 1_700_000_000, nanoseconds: 230_000_000 };
        assert_eq!(RecordingTime::from_timestamp(time).to_timestamp().seconds, 1_700_000_000);
        assert_eq!(VolumeTime::from_timestamp(time).to_timestamp(), Some(time));
        let east = RecordingTime { offset: 4, ..RecordingTime::from_timestamp(time) };
        assert_eq!(east.to_timestamp().seconds, 1_700_000_000 - 3600);
        assert_eq!(VolumeTime::UNSPECIFIED.to_timestamp(), None);
        assert_eq!(RecordingTime::default().to_timestamp(), Timestamp::default());
        let far = Timestamp::from_seconds(1 << 40);
        assert_eq!(RecordingTime::from_timestamp(far).year, 255);
    }
}

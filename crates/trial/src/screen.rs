//! Pictures of a machine's screen.

use neat_content::{Error, Result};
use std::hash::{DefaultHasher, Hash, Hasher};

/// Largest picture that is taken, in points.
const MAX_POINTS: usize = 4096 * 4096;

/// A picture, three bytes a point.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Picture {
    width: u32,
    height: u32,
    points: Vec<u8>,
}

impl Picture {
    /// A binary PPM file as virtual machines write it.
    pub(crate) fn from_ppm(bytes: &[u8]) -> Option<Self> {
        let mut at = 0;
        let mut word = || {
            while bytes.get(at)?.is_ascii_whitespace() {
                at += 1;
            }
            let start = at;
            while !bytes.get(at)?.is_ascii_whitespace() {
                at += 1;
            }
            std::str::from_utf8(&bytes[start..at]).ok()
        };
        if word()? != "P6" {
            return None;
        }
        let (width, height): (u32, u32) = (word()?.parse().ok()?, word()?.parse().ok()?);
        if word()? != "255" {
            return None;
        }
        let points = (width as usize).checked_mul(height as usize).filter(|points| *points <= MAX_POINTS)?;
        let points = bytes.get(at + 1..at + 1 + points * 3)?.to_vec();
        Some(Self { width, height, points })
    }

    /// A number that tells pictures apart.
    pub(crate) fn mark(&self) -> u64 {
        let mut hasher = DefaultHasher::new();
        self.width.hash(&mut hasher);
        self.points.hash(&mut hasher);
        hasher.finish()
    }

    /// The picture as a PNG file.
    pub(crate) fn to_png(&self) -> Result<Vec<u8>> {
        let failed =
            |error: png::EncodingError| Error::internal(format!("the picture cannot be written: {error}"));
        let mut out = Vec::new();
        let mut encoder = png::Encoder::new(&mut out, self.width, self.height);
        encoder.set_color(png::ColorType::Rgb);
        encoder.set_depth(png::BitDepth::Eight);
        let mut writer = encoder.write_header().map_err(failed)?;
        writer.write_image_data(&self.points).map_err(failed)?;
        writer.finish().map_err(failed)?;
        Ok(out)
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
    use super::*;

    #[test]
    fn pictures_are_read_and_damaged_ones_are_not() {
        let picture = Picture::from_ppm(b"P6\n2 1\n255\n\x01\x02\x03\x04\x05\x06").unwrap();
        assert_eq!(
            (picture.width, picture.height, picture.points.as_slice()),
            (2, 1, &[1, 2, 3, 4, 5, 6][..])
        );
        assert_eq!(&picture.to_png().unwrap()[1..4], b"PNG");
        for bad in [
            "",
            "P5\n2 1\n255\n123456",
            "P6\n2 1\n255\n12345",
            "P6\n999999 999999\n255\n",
            "P6\n2 1\n65535\n123456789012",
        ] {
            assert_eq!(Picture::from_ppm(bad.as_bytes()), None, "{bad}");
        }
    }
}

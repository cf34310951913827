//! A cursor over untrusted bytes that knows where in the file they came from.

use crate::{Error, Result};

/// Reads numbers and slices from a structure in memory; every error carries the byte offset in the file.
#[derive(Clone, Debug)]
pub struct FieldReader<'a> {
    bytes: &'a [u8],
    position: usize,
    base: u64,
    structure: &'static str,
}

impl<'a> FieldReader<'a> {
    /// Reads `bytes`, which lie `base` bytes after the start of the file and hold a `structure`.
    pub const fn new(bytes: &'a [u8], base: u64, structure: &'static str) -> Self {
        Self { bytes, position: 0, base, structure }
    }

    /// Position of the next byte, in bytes from the start of the file.
    pub const fn offset(&self) -> u64 {
        self.base + self.position as u64
    }

    /// Bytes not read yet.
    pub const fn remaining(&self) -> usize {
        self.bytes.len() - self.position
    }

    /// The next `count` bytes.
    ///
    /// # Errors
    /// `Corrupt` (truncated), with the offset, when there are fewer.
    pub fn take(&mut self, count: usize) -> Result<&'a [u8]> {
        let rest = &self.bytes[self.position..];
        let taken = rest.get(..count).ok_or_else(|| Error::Truncated {
            what: self.structure.into(),
            offset: self.offset(),
            wanted: count as u64,
            available: rest.len() as u64,
        })?;
        self.position += count;
        Ok(taken)
    }

    /// Passes over `count` bytes.
    ///
    /// # Errors
    /// `Corrupt` (truncated), with the offset, when there are fewer.
    pub fn skip(&mut self, count: usize) -> Result<()> {
        self.take(count).map(drop)
    }

    /// Moves to `position` bytes after the start of the structure.
    ///
    /// # Errors
    /// `Corrupt` (truncated) when the structure ends before it.
    pub fn seek(&mut self, position: usize) -> Result<()> {
        self.position = 0;
        self.skip(position)
    }

    /// The next `N` bytes as an array.
    ///
    /// # Errors
    /// `Corrupt` (truncated), with the offset, when there are fewer.
    pub fn array<const N: usize>(&mut self) -> Result<[u8; N]> {
        let mut array = [0; N];
        array.copy_from_slice(self.take(N)?);
        Ok(array)
    }

    /// An 8-bit number.
    ///
    /// # Errors
    /// `Corrupt` (truncated), with the offset, at the end.
    pub fn u8(&mut self) -> Result<u8> {
        self.array().map(u8::from_le_bytes)
    }

    /// A 16-bit little-endian number.
    ///
    /// # Errors
    /// `Corrupt` (truncated), with the offset, at the end.
    pub fn u16_le(&mut self) -> Result<u16> {
        self.array().map(u16::from_le_bytes)
    }

    /// A 16-bit big-endian number.
    ///
    /// # Errors
    /// `Corrupt` (truncated), with the offset, at the end.
    pub fn u16_be(&mut self) -> Result<u16> {
        self.array().map(u16::from_be_bytes)
    }

    /// A 32-bit little-endian number.
    ///
    /// # Errors
    /// `Corrupt` (truncated), with the offset, at the end.
    pub fn u32_le(&mut self) -> Result<u32> {
        self.array().map(u32::from_le_bytes)
    }

    /// A 32-bit big-endian number.
    ///
    /// # Errors
    /// `Corrupt` (truncated), with the offset, at the end.
    pub fn u32_be(&mut self) -> Result<u32> {
        self.array().map(u32::from_be_bytes)
    }

    /// A 64-bit little-endian number.
    ///
    /// # Errors
    /// `Corrupt` (truncated), with the offset, at the end.
    pub fn u64_le(&mut self) -> Result<u64> {
        self.array().map(u64::from_le_bytes)
    }

    /// A 64-bit big-endian number.
    ///
    /// # Errors
    /// `Corrupt` (truncated), with the offset, at the end.
    pub fn u64_be(&mut self) -> Result<u64> {
        self.array().map(u64::from_be_bytes)
    }

    /// A 32-bit number recorded little-endian and then big-endian (ECMA-119 7.3.3); the two must agree.
    ///
    /// # Errors
    /// `Corrupt` with both numbers when they differ, and at the end.
    pub fn u32_both(&mut self, field: &'static str) -> Result<u32> {
        let offset = self.offset();
        let (little, big) = (self.u32_le()?, self.u32_be()?);
        if little != big {
            return Err(Error::bad_field(
                self.structure,
                field,
                offset,
                format!("{little:#x} in both byte orders"),
                format!("{big:#x} in the second"),
            ));
        }
        Ok(little)
    }

    /// A 16-bit number recorded little-endian and then big-endian (ECMA-119 7.2.3); the two must agree.
    ///
    /// # Errors
    /// `Corrupt` with both numbers when they differ, and at the end.
    pub fn u16_both(&mut self, field: &'static str) -> Result<u16> {
        let offset = self.offset();
        let (little, big) = (self.u16_le()?, self.u16_be()?);
        if little != big {
            return Err(Error::bad_field(
                self.structure,
                field,
                offset,
                format!("{little:#x} in both byte orders"),
                format!("{big:#x} in the second"),
            ));
        }
        Ok(little)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_read_in_their_order_and_errors_carry_the_offset() {
        let bytes = [1, 2, 0, 0, 3, 0, 0, 0, 0, 0, 0, 4, 9];
        let mut fields = FieldReader::new(&bytes, 0x800, "Test");
        assert_eq!(fields.u16_be().unwrap(), 0x0102);
        fields.skip(2).unwrap();
        let error = fields.u32_both("size").unwrap_err().to_string();
        assert_eq!(
            error,
            "Test.size at byte 0x804: expected 0x3 in both byte orders, found 0x4 in the second"
        );
        let error = fields.u32_le().unwrap_err().to_string();
        assert_eq!(error, "Test at byte 0x80c: expected 4 bytes, found 1 before the end");
        fields.seek(12).unwrap();
        assert_eq!(fields.u8().unwrap(), 9);
        assert!(fields.seek(14).is_err());
    }
}

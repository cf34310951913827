//! Positioned reading of untrusted bytes.

use crate::{Error, Result};
use std::{cell::RefCell, sync::Arc};

/// Bytes that can be read at any position; opening and reading never write.
pub trait ReadAt {
    /// Length in bytes.
    fn len(&self) -> u64;

    /// Whether there is nothing to read.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Fills `buffer` with the bytes from `offset` on; fails if they are not all there.
    ///
    /// # Errors
    /// `Corrupt` (truncated) when they are not; `Io`.
    fn read_exact_at(&self, offset: u64, buffer: &mut [u8]) -> Result<()>;
}

impl<T: ReadAt + ?Sized> ReadAt for Arc<T> {
    fn len(&self) -> u64 {
        (**self).len()
    }
    fn read_exact_at(&self, offset: u64, buffer: &mut [u8]) -> Result<()> {
        (**self).read_exact_at(offset, buffer)
    }
}

impl<T: ReadAt + ?Sized> ReadAt for &T {
    fn len(&self) -> u64 {
        (**self).len()
    }
    fn read_exact_at(&self, offset: u64, buffer: &mut [u8]) -> Result<()> {
        (**self).read_exact_at(offset, buffer)
    }
}

impl ReadAt for [u8] {
    fn len(&self) -> u64 {
        <[u8]>::len(self) as u64
    }
    fn read_exact_at(&self, offset: u64, buffer: &mut [u8]) -> Result<()> {
        let found = usize::try_from(offset)
            .ok()
            .and_then(|start| self.get(start..start.checked_add(buffer.len())?))
            .ok_or_else(|| {
                past_end("bytes in memory", offset, buffer.len() as u64, <[u8]>::len(self) as u64)
            })?;
        buffer.copy_from_slice(found);
        Ok(())
    }
}

impl ReadAt for Vec<u8> {
    fn len(&self) -> u64 {
        self.as_slice().len() as u64
    }
    fn read_exact_at(&self, offset: u64, buffer: &mut [u8]) -> Result<()> {
        self.as_slice().read_exact_at(offset, buffer)
    }
}

pub(crate) fn past_end(what: &str, offset: u64, wanted: u64, len: u64) -> Error {
    Error::Truncated { what: what.into(), offset, wanted, available: len.saturating_sub(offset) }
}

/// Reads `len` bytes at `offset` into a new vector, after checking that they exist and that there are not more
/// of them than `limit`. `what` names them in errors.
///
/// # Errors
/// `LimitExceeded` above `limit`, before anything is allocated; `Corrupt` (truncated); `Io`.
pub fn read_vec<R: ReadAt + ?Sized>(
    reader: &R,
    offset: u64,
    len: u64,
    limit: u64,
    what: &str,
) -> Result<Vec<u8>> {
    if len > limit {
        return Err(Error::Limit { what: format!("size in bytes of {what}"), offset, limit, found: len });
    }
    if offset.checked_add(len).is_none_or(|end| end > reader.len()) {
        return Err(past_end(what, offset, len, reader.len()));
    }
    let mut bytes = vec![0; len as usize];
    reader.read_exact_at(offset, &mut bytes)?;
    Ok(bytes)
}

/// A reader that fetches 64 KiB at a time, for walking structures that lie close together.
///
/// It keeps one window, so it is for one thread and mostly rising positions.
pub struct Windowed<R> {
    inner: R,
    window: RefCell<(u64, Vec<u8>)>,
}

const WINDOW: u64 = 64 * 1024;

impl<R: ReadAt> Windowed<R> {
    /// Reads from `inner` through a window.
    pub const fn new(inner: R) -> Self {
        Self { inner, window: RefCell::new((0, Vec::new())) }
    }
}

impl<R: ReadAt> ReadAt for Windowed<R> {
    fn len(&self) -> u64 {
        self.inner.len()
    }
    fn read_exact_at(&self, offset: u64, buffer: &mut [u8]) -> Result<()> {
        let wanted = buffer.len() as u64;
        if wanted > WINDOW / 2 {
            return self.inner.read_exact_at(offset, buffer);
        }
        if offset.checked_add(wanted).is_none_or(|end| end > self.inner.len()) {
            return Err(past_end("data", offset, wanted, self.inner.len()));
        }
        let mut window = self.window.borrow_mut();
        let covered = offset >= window.0 && offset + wanted <= window.0 + window.1.len() as u64;
        if !covered {
            let len = WINDOW.min(self.inner.len() - offset);
            window.1.resize(len as usize, 0);
            window.0 = offset;
            if let Err(error) = self.inner.read_exact_at(offset, &mut window.1) {
                window.1.clear();
                return Err(error);
            }
        }
        let start = (offset - window.0) as usize;
        buffer.copy_from_slice(&window.1[start..start + buffer.len()]);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn windowed_reads_equal_plain_reads() {
        let bytes: Vec<u8> = (0..200_000_u32).map(|n| (n * 7 % 251) as u8).collect();
        let windowed = Windowed::new(bytes.as_slice());
        for (offset, len) in [(0, 10), (65_530, 20), (3, 5), (100_000, 40_000), (199_990, 10), (150_000, 1)] {
            let mut buffer = vec![0; len];
            windowed.read_exact_at(offset, &mut buffer).unwrap();
            assert_eq!(buffer, bytes[offset as usize..offset as usize + len]);
        }
        assert!(windowed.read_exact_at(199_991, &mut [0; 10]).is_err());
        assert!(windowed.read_exact_at(u64::MAX, &mut [0; 10]).is_err());
    }

    #[test]
    fn a_length_is_checked_before_anything_is_allocated() {
        let error = read_vec(&[0_u8; 4][..], 2, 1 << 60, 1 << 20, "table").unwrap_err();
        assert!(matches!(error, Error::Limit { found, .. } if found == 1 << 60));
        let error = read_vec(&[0_u8; 4][..], 2, 3, 1 << 20, "table").unwrap_err();
        assert!(matches!(error, Error::Truncated { available: 2, .. }));
    }
}

//! Memory that begins where direct input and output want it.

/// What disks of today ask for, in bytes.
const ALIGNMENT: usize = 4096;

/// A buffer of a fixed length at a multiple of 4 KiB.
pub(crate) struct Buffer {
    bytes: Vec<u8>,
    start: usize,
    len: usize,
}

impl Buffer {
    /// `len` zeros.
    pub(crate) fn new(len: usize) -> Self {
        let bytes = vec![0; len + ALIGNMENT];
        let start = bytes.as_ptr().addr().next_multiple_of(ALIGNMENT) - bytes.as_ptr().addr();
        Self { bytes, start, len }
    }

    pub(crate) fn as_slice(&self) -> &[u8] {
        &self.bytes[self.start..self.start + self.len]
    }

    pub(crate) fn as_mut_slice(&mut self) -> &mut [u8] {
        &mut self.bytes[self.start..self.start + self.len]
    }
}

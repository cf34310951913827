//! Bit streams of 16-bit little-endian words, the most significant bit of each word first ([MS-XCA] 2.2.2,
//! [MS-PATCH] 2.1).

/// Reads bits; up to 63 are held in a register.
///
/// Past the end it delivers zeros, and [`BitReader::is_overrun`] says so, so that the inner loops of decoders need no
/// check of their own for each bit.
///
/// It is copied into and out of the rare paths, so that the compiler can keep it in registers on the frequent ones.
#[derive(Clone, Copy)]
pub(crate) struct BitReader<'a> {
    bytes: &'a [u8],
    /// Position of the next word that is not in `held` yet.
    next: usize,
    /// The bits not consumed, the next one on top; what lies below the valid ones is undefined until refilled.
    held: u64,
    /// Number of valid bits in `held`.
    count: u32,
}

impl<'a> BitReader<'a> {
    /// Reads `bytes` from byte `start` on.
    pub(crate) const fn new(bytes: &'a [u8], start: usize) -> Self {
        Self { bytes, next: start, held: 0, count: 0 }
    }

    /// Fills the register: at least 48 bits are valid afterwards.
    #[inline(always)]
    pub(crate) fn refill(&mut self) {
        if !self.refill_quickly() {
            *self = self.refilled_near_end();
        }
    }

    /// The same where eight bytes are left; else it does nothing and returns `false`.
    #[inline(always)]
    pub(crate) fn refill_quickly(&mut self) -> bool {
        if let Some(eight) = self.bytes.get(self.next..).and_then(<[u8]>::first_chunk::<8>) {
            // Four words at once, the first on top: turn the halves, then the quarters.
            let halves = u64::from_le_bytes(*eight).rotate_left(32);
            let words = (halves & 0x0000_FFFF_0000_FFFF) << 16 | (halves >> 16) & 0x0000_FFFF_0000_FFFF;
            self.held |= words >> self.count;
            self.next += ((63 - self.count) >> 4) as usize * 2;
            self.count |= 48;
            true
        } else {
            false
        }
    }

    #[cold]
    #[inline(never)]
    fn refilled_near_end(mut self) -> Self {
        // Leftovers of an earlier load lie below the valid bits.
        self.held &= if self.count == 0 { 0 } else { u64::MAX << (64 - self.count) };
        while self.count <= 48 {
            let byte = |at: usize| self.bytes.get(at).map_or(0, |byte| u64::from(*byte));
            let word = byte(self.next) | byte(self.next + 1) << 8;
            self.held |= word << (48 - self.count);
            self.count += 16;
            self.next += 2;
        }
        self
    }

    /// The register, the next bit on top.
    #[inline(always)]
    pub(crate) const fn peek(&self) -> u64 {
        self.held
    }

    /// Number of bits that can be taken before the next refill.
    #[inline(always)]
    pub(crate) const fn available(&self) -> u32 {
        self.count
    }

    /// Passes over `count` bits, at most those available.
    #[inline(always)]
    pub(crate) const fn skip(&mut self, count: u32) {
        self.held <<= count;
        self.count -= count;
    }

    /// The next `count` bits as a number; `count` is at most 32 and at most those available.
    #[inline(always)]
    pub(crate) const fn take(&mut self, count: u32) -> u32 {
        let value = (self.held >> 1 >> (63 - count)) as u32;
        self.skip(count);
        value
    }

    /// The next `count` (at most 32) bits as a number, refilling first.
    #[inline(always)]
    pub(crate) fn read(&mut self, count: u32) -> u32 {
        if self.count < count {
            self.refill();
        }
        self.take(count)
    }

    /// Whether more was consumed than there is.
    pub(crate) fn is_overrun(&self) -> bool {
        self.consumed_end() > self.bytes.len()
    }

    /// Position after the last word of which a bit was consumed.
    fn consumed_end(&self) -> usize {
        self.next - (self.count / 16) as usize * 2
    }

    /// Gives whole unread words back until at most `keep` bits are held; returns the position after those.
    pub(crate) fn give_back(&mut self, keep: u32) -> usize {
        while self.count > keep {
            self.count -= 16;
            self.next -= 2;
        }
        self.held &= if self.count == 0 { 0 } else { u64::MAX << (64 - self.count) };
        self.next
    }

    /// The bytes that are read.
    pub(crate) const fn bytes(&self) -> &'a [u8] {
        self.bytes
    }

    /// Goes on at byte `position`, keeping the bits held.
    pub(crate) const fn set_position(&mut self, position: usize) {
        self.next = position;
    }

    /// Drops all bits held.
    pub(crate) const fn clear(&mut self) {
        self.held = 0;
        self.count = 0;
    }
}

/// Writes bits into a slice; says when it is full instead of failing in the middle.
pub(crate) struct BitWriter<'a> {
    bytes: &'a mut [u8],
    at: usize,
    held: u64,
    count: u32,
    full: bool,
}

impl<'a> BitWriter<'a> {
    pub(crate) const fn new(bytes: &'a mut [u8]) -> Self {
        Self { bytes, at: 0, held: 0, count: 0, full: false }
    }

    /// Appends the low `count` (at most 32) bits of `value`; the others must be zero.
    #[inline(always)]
    pub(crate) fn put(&mut self, value: u32, count: u32) {
        self.held = self.held << count | u64::from(value);
        self.count += count;
        while self.count >= 16 {
            self.count -= 16;
            self.word((self.held >> self.count) as u16);
        }
    }

    #[inline(always)]
    fn word(&mut self, word: u16) {
        match self.bytes.get_mut(self.at..self.at + 2) {
            Some(place) => place.copy_from_slice(&word.to_le_bytes()),
            None => self.full = true,
        }
        self.at += 2;
    }

    /// Pads with zeros to a whole word; `None` if not everything fitted, else the number of bytes.
    pub(crate) fn finish(mut self) -> Option<usize> {
        if self.count > 0 {
            self.put(0, 16 - self.count);
        }
        (!self.full).then_some(self.at)
    }

    /// Whether the slice is too short for what was written.
    pub(crate) const fn is_full(&self) -> bool {
        self.full
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read() {
        let values: Vec<(u32, u32)> = (0..5000_u32)
            .map(|n| {
                let count = n * 7 % 33;
                let mask = if count == 0 { 0 } else { u32::MAX >> (32 - count) };
                (n.wrapping_mul(0x9E37_79B9) & mask, count)
            })
            .collect();
        let mut bytes = vec![0; 20_000];
        let mut writer = BitWriter::new(&mut bytes);
        for (value, count) in &values {
            writer.put(*value, *count);
        }
        let len = writer.finish().unwrap();
        let mut reader = BitReader::new(&bytes[..len], 0);
        for (value, count) in &values {
            assert_eq!(reader.read(*count), *value);
        }
        assert!(!reader.is_overrun());
        assert_eq!(reader.read(32), 0);
        assert!(reader.is_overrun());
    }

    #[test]
    fn a_full_slice_is_noticed() {
        let mut bytes = [0; 3];
        let mut writer = BitWriter::new(&mut bytes);
        writer.put(1, 16);
        assert!(!writer.is_full());
        writer.put(1, 1);
        assert_eq!(writer.finish(), None);
    }
}

//! Bits one at a time, and prefix codes as lists of words.

/// Bits of 16-bit little-endian words, the highest first.
pub struct Bits<'a> {
    pub bytes: &'a [u8],
    pub at: usize,
    word: u16,
    left: u32,
}

impl<'a> Bits<'a> {
    pub fn new(bytes: &'a [u8]) -> Self {
        Self { bytes, at: 0, word: 0, left: 0 }
    }

    pub fn bit(&mut self) -> Option<u32> {
        if self.left == 0 {
            self.word = u16::from_le_bytes(self.bytes.get(self.at..self.at + 2)?.try_into().ok()?);
            self.at += 2;
            self.left = 16;
        }
        self.left -= 1;
        Some(u32::from(self.word >> self.left & 1))
    }

    /// Number of bits taken so far.
    pub fn passed(&self) -> usize {
        self.at * 8 - self.left as usize
    }

    pub fn bits(&mut self, count: u32) -> Option<u32> {
        (0..count).try_fold(0, |value, _| Some(value << 1 | self.bit()?))
    }

    /// Goes on at the next word; if no bit of the present one is left, a whole word is passed over.
    pub fn align(&mut self) {
        if self.left == 0 {
            self.at += 2;
        }
        self.left = 0;
    }
}

/// A code as (length, word, symbol).
pub struct Code(Vec<(u32, u32, usize)>);

impl Code {
    pub fn new(lengths: &[u32]) -> Self {
        let mut words = Vec::new();
        let mut next = 0;
        for length in 1..=16 {
            next <<= 1;
            for (symbol, own) in lengths.iter().enumerate() {
                if *own == length {
                    words.push((length, next, symbol));
                    next += 1;
                }
            }
        }
        Self(words)
    }

    pub fn symbol(&self, mut bit: impl FnMut() -> Option<u32>) -> Option<usize> {
        let (mut length, mut word) = (0, 0);
        while length < 16 {
            word = word << 1 | bit()?;
            length += 1;
            if let Some((_, _, symbol)) = self.0.iter().find(|(l, w, _)| (*l, *w) == (length, word)) {
                return Some(*symbol);
            }
        }
        None
    }
}

/// Writes bits into 16-bit little-endian words, for streams assembled by hand.
#[derive(Default)]
pub struct BitPen {
    pub bytes: Vec<u8>,
    held: Vec<u8>,
}

impl BitPen {
    pub fn put(&mut self, value: u32, count: u32) -> &mut Self {
        for n in (0..count).rev() {
            self.held.push((value >> n & 1) as u8);
            if self.held.len() == 16 {
                let word = self.held.drain(..).fold(0_u16, |word, bit| word << 1 | u16::from(bit));
                self.bytes.extend(word.to_le_bytes());
            }
        }
        self
    }

    /// Bits given as text, spaces ignored.
    pub fn text(&mut self, bits: &str) -> &mut Self {
        bits.chars().filter(|c| !c.is_whitespace()).for_each(|c| {
            self.put(u32::from(c == '1'), 1);
        });
        self
    }

    pub fn align(&mut self) -> &mut Self {
        while !self.held.is_empty() {
            self.put(0, 1);
        }
        self
    }

    pub fn raw(&mut self, bytes: &[u8]) -> &mut Self {
        assert!(self.held.is_empty());
        self.bytes.extend_from_slice(bytes);
        self
    }
}

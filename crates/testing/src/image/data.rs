//! Bytes of every shape.

pub struct Numbers(pub u64);

impl Numbers {
    pub fn next(&mut self) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_F491_4F6C_DD1D)
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shape {
    Zeros,
    Random,
    Text,
    Program,
    Runs,
}

pub const SHAPES: [Shape; 5] = [Shape::Zeros, Shape::Random, Shape::Text, Shape::Program, Shape::Runs];

pub fn bytes(shape: Shape, len: usize, seed: u64) -> Vec<u8> {
    let mut numbers = Numbers(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1);
    let mut bytes = Vec::with_capacity(len + 64);
    while bytes.len() < len {
        let number = numbers.next() >> 20;
        match shape {
            Shape::Zeros => bytes.resize(len, 0),
            Shape::Random => bytes.extend(numbers.next().to_le_bytes()),
            Shape::Text => {
                const WORDS: [&str; 12] = [
                    "tide ", "the ", "harbour ", "and ", "ferry ", "of ", "rope, ", "lamp. ", "a ",
                    "quay\r\n", "in ", "fog ",
                ];
                bytes.extend(WORDS[number as usize % WORDS.len()].bytes());
            }
            Shape::Program => {
                if number.is_multiple_of(5) {
                    bytes.push(0xE8);
                    let target = (number >> 8) % 40 * 512;
                    bytes.extend((target as i32 - bytes.len() as i32).to_le_bytes());
                } else {
                    bytes.extend([0x48, 0x8B, (number >> 8) as u8 & 0x3F, (number % 7) as u8]);
                }
            }
            Shape::Runs => {
                let run = (number >> 8) as usize % 900;
                bytes.resize(bytes.len() + run, number as u8 & 3);
            }
        }
    }
    bytes.truncate(len);
    bytes
}

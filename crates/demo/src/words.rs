//! Text and bytes for made-up files.

/// `readme.txt` of the media.
pub(crate) const README: &str = "Quay OS 7\r\n=========\r\n\r\nInstallation media of Brackwater Ferries for ticket kiosks, bridge consoles and\r\nengine-room panels. Neither the company nor the system exists.\r\n";

/// Licence of the media, the same in every language folder.
pub(crate) const LICENCE: &str = "Quay OS 7 may be installed on every vessel, quay and kiosk of Brackwater Ferries.\r\nIt comes without any warranty, and without any ferry.\r\n";

/// Which products the media holds.
pub(crate) const PRODUCTS: &str = "system = \"Quay OS\"\nversion = \"7.0\"\nbuild = 7042\narchitecture = \"x64\"\nimage = \"install.wim\"\n\n[[product]]\nedition = \"Quay OS 7 Kiosk\"\n\n[[product]]\nedition = \"Quay OS 7 Bridge\"\n\n[[product]]\nedition = \"Quay OS 7 Engine Room\"\n";

const WORDS: [&str; 24] = [
    "ferry", "quay", "tide", "ticket", "bridge", "engine", "lamp", "rope", "harbour", "chart", "buoy",
    "deck", "winch", "keel", "ramp", "signal", "captain", "pilot", "fog", "berth", "anchor", "gangway",
    "log", "wheel",
];

/// A sequence of numbers that is the same on every machine (xorshift64*).
struct Numbers(u64);

impl Numbers {
    const fn next(&mut self) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_F491_4F6C_DD1D)
    }
}

/// About `len` bytes of words, always the same for the same topic.
pub(crate) fn prose(topic: &str, len: usize) -> Vec<u8> {
    let mut numbers =
        Numbers(topic.bytes().fold(0x9E37_79B9_7F4A_7C15, |seed, byte| {
            (seed ^ u64::from(byte)).wrapping_mul(0x100_0000_01B3)
        }));
    let mut text = format!("{topic}\r\n\r\n");
    let mut column = 0;
    while text.len() < len {
        let word = WORDS[(numbers.next() >> 40) as usize % WORDS.len()];
        text.push_str(word);
        column += word.len() + 1;
        if column > 72 {
            text.push_str("\r\n");
            column = 0;
        } else {
            text.push(' ');
        }
    }
    text.into_bytes()
}

/// `len` bytes that look like a packed file.
pub(crate) fn noise(seed: u64, len: usize) -> Vec<u8> {
    let mut numbers = Numbers(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15));
    let mut bytes = Vec::with_capacity(len + 8);
    while bytes.len() < len {
        bytes.extend(numbers.next().to_le_bytes());
    }
    bytes.truncate(len);
    bytes
}

/// About `len` bytes that look like a program: instructions with calls of the same few functions, tables of numbers that
/// grow, and names.
pub(crate) fn program(seed: u64, len: usize) -> Vec<u8> {
    const PIECES: [&[u8]; 10] = [
        &[0x55, 0x48, 0x89, 0xE5],
        &[0x48, 0x83, 0xEC, 0x20],
        &[0x48, 0x8B, 0x45, 0xF8],
        &[0x89, 0xC7],
        &[0x31, 0xC0],
        &[0x85, 0xC0, 0x74, 0x0C],
        &[0x48, 0x8D, 0x7D, 0xE0],
        &[0xC9, 0xC3, 0x90, 0x90],
        &[0x0F, 0xB6, 0x00],
        &[0x83, 0xF8, 0x02, 0x75],
    ];
    let mut numbers = Numbers(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1);
    let mut bytes = Vec::with_capacity(len + 64);
    let mut row = 0_u32;
    while bytes.len() < len {
        let number = numbers.next() >> 24;
        match number % 16 {
            0..=8 => bytes.extend_from_slice(PIECES[(number >> 8) as usize % PIECES.len()]),
            9..=11 => {
                // A call of one of 50 functions, by its distance from here.
                let target = ((number >> 8) % 50 * 1024) as i32;
                bytes.push(0xE8);
                let here = bytes.len() as i32 + 4;
                bytes.extend((target - here).to_le_bytes());
            }
            12..=14 => {
                row += (number >> 8) as u32 % 40;
                bytes.extend(row.to_le_bytes());
            }
            _ => {
                bytes.extend(WORDS[(number >> 8) as usize % WORDS.len()].as_bytes());
                bytes.push(0);
            }
        }
    }
    bytes.truncate(len);
    bytes
}

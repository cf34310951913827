//! Text and bytes for made-up files.

/// `readme.txt` of the media.
pub(crate) const README: &str = "Quay OS 7\r\n=========\r\n\r\nInstallation media of Brackwater Ferries for ticket kiosks, bridge consoles and\r\nengine-room panels. Neither the company nor the system exists.\r\n";

/// Licence of the media, the same in every language folder.
pub(crate) const LICENCE: &str = "Quay OS 7 may be installed on every vessel, quay and kiosk of Brackwater Ferries.\r\nIt comes without any warranty, and without any ferry.\r\n";

/// Which products the media holds.
pub(crate) const PRODUCTS: &str = "system = \"Quay OS\"\nversion = \"7.0\"\nbuild = 7042\narchitecture = \"x64\"\n\n[[product]]\nname = \"Quay OS 7 Kiosk\"\npackage = \"quay-kiosk.pkg\"\n\n[[product]]\nname = \"Quay OS 7 Bridge\"\npackage = \"quay-bridge.pkg\"\n\n[[product]]\nname = \"Quay OS 7 Engine Room\"\npackage = \"quay-engine-room.pkg\"\n";

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

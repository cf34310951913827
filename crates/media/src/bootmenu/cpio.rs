//! Initial RAM disks in the `newc` form of cpio, as the kernel's `initramfs buffer format` describes it.

use std::fmt::Write as _;

/// Entries of an archive: parent directories come before what they hold.
#[derive(Default)]
pub struct Archive {
    bytes: Vec<u8>,
    inode: u32,
}

const MODE_FOLDER: u32 = 0o040_755;
const MODE_FILE: u32 = 0o100_644;

impl Archive {
    /// Adds a folder; its parent must have been added unless it is the root.
    pub fn add_folder(&mut self, path: &str) {
        self.add(path, MODE_FOLDER, &[]);
    }

    /// Adds a file at `path`, without a leading `/`.
    pub fn add_file(&mut self, path: &str, bytes: &[u8]) {
        self.add(path, MODE_FILE, bytes);
    }

    fn add(&mut self, path: &str, mode: u32, bytes: &[u8]) {
        self.inode += 1;
        let links = if mode == MODE_FOLDER { 2 } else { 1 };
        // Time 0: equal inputs give equal bytes.
        self.header(path, [self.inode, mode, 0, 0, links, 0, bytes.len() as u32]);
        self.bytes.extend_from_slice(bytes);
        self.pad();
    }

    fn header(&mut self, path: &str, numbers: [u32; 7]) {
        let mut header = String::from("070701");
        // Device and special device numbers follow the length; the name's length counts its NUL; no checksum.
        let rest = [0, 0, 0, 0, path.len() as u32 + 1, 0];
        for number in numbers.iter().chain(&rest) {
            let _ = write!(header, "{number:08X}");
        }
        self.bytes.extend_from_slice(header.as_bytes());
        self.bytes.extend_from_slice(path.as_bytes());
        self.bytes.push(0);
        self.pad();
    }

    fn pad(&mut self) {
        self.bytes.resize(self.bytes.len().next_multiple_of(4), 0);
    }

    /// The archive, ended and padded to 512 bytes.
    pub fn finish(mut self) -> Vec<u8> {
        self.header("TRAILER!!!", [0, 0, 0, 0, 1, 0, 0]);
        self.bytes.resize(self.bytes.len().next_multiple_of(512), 0);
        self.bytes
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_bytes_are_what_the_format_says() {
        let mut archive = Archive::default();
        archive.add_folder("etc");
        archive.add_file("etc/x", b"hello");
        let bytes = archive.finish();
        assert_eq!(bytes.len(), 512);
        assert!(bytes.starts_with(b"07070100000001000041ED000000000000000000000002"));
        let second = 110 + "etc\0".len().next_multiple_of(4) + 2 - 2;
        let second = second.next_multiple_of(4);
        assert_eq!(&bytes[second..second + 6], b"070701");
        assert_eq!(&bytes[second + 54..second + 62], b"00000005");
        assert_eq!(&bytes[second + 110..second + 116], b"etc/x\0");
        assert_eq!(&bytes[second + 116..second + 121], b"hello");
    }
}

//! Which files of a stick are its maker's: a record in reserved sectors that no other program touches, so that an update
//! takes away what an earlier media had, and leaves what somebody else put there.
//!
//! From sector 32 on: `NEATFILE`, version (u32), number of keys (u32), the first 16 bytes of BLAKE3 over the keys, then the
//! keys, 8 bytes each, sorted. A key is the first 8 bytes of BLAKE3 over the path in upper case, with `/` behind folders.

use super::layout::SECTOR;
use neat_content::{Content, Result, Tree, read_vec};
use std::collections::BTreeSet;

/// First sector of the record; before it are the boot record and its second part.
pub(super) const FIRST_SECTOR: u64 = 32;
/// Sectors of the record: room for 8,188 names.
pub(super) const SECTORS: u64 = 128;
const MAGIC: &[u8; 8] = b"NEATFILE";
const VERSION: u32 = 1;
/// Bytes before the keys.
const HEAD: usize = 32;
/// Bytes of a key.
const KEY: usize = 8;
const LEN: usize = (SECTORS * SECTOR) as usize;

/// First byte of the record in the file system.
pub(super) const OFFSET: u64 = FIRST_SECTOR * SECTOR;

/// The names that its maker put on a stick.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct OurFiles(BTreeSet<u64>);

fn key(path: &str, is_folder: bool) -> u64 {
    let text = format!("{}{}", path.to_uppercase(), if is_folder { "/" } else { "" });
    let hash = blake3::hash(text.as_bytes());
    hash.as_bytes().first_chunk().map_or(0, |bytes| u64::from_le_bytes(*bytes))
}

impl OurFiles {
    /// Everything in a tree.
    pub(super) fn of(tree: &Tree) -> Self {
        Self(tree.walk().map(|step| key(&step.path, tree.node(step.id).folder().is_some())).collect())
    }

    /// Whether a name is among them.
    pub(super) fn has(&self, path: &str, is_folder: bool) -> bool {
        self.0.contains(&key(path, is_folder))
    }

    /// The record as it is written, in whole sectors; zeros, which stand for none, where there are too many names.
    pub(super) fn to_bytes(&self) -> Vec<u8> {
        let len = HEAD + self.0.len() * KEY;
        if len > LEN {
            return vec![0; SECTOR as usize];
        }
        let mut bytes = vec![0; len.next_multiple_of(SECTOR as usize)];
        let keys: Vec<u8> = self.0.iter().flat_map(|key| key.to_le_bytes()).collect();
        bytes[..8].copy_from_slice(MAGIC);
        bytes[8..12].copy_from_slice(&VERSION.to_le_bytes());
        bytes[12..16].copy_from_slice(&(self.0.len() as u32).to_le_bytes());
        bytes[16..HEAD].copy_from_slice(&blake3::hash(&keys).as_bytes()[..16]);
        bytes[HEAD..HEAD + keys.len()].copy_from_slice(&keys);
        bytes
    }

    /// The record of a file system whose reserved part ends at `end`; nothing when there is none, or it is not whole.
    pub(super) fn read(volume: &Content, end: u64) -> Result<Option<Self>> {
        if end < OFFSET + LEN as u64 {
            return Ok(None);
        }
        let bytes = read_vec(volume, OFFSET, LEN as u64, LEN as u64, "record of files")?;
        Ok(Self::parse(&bytes))
    }

    fn parse(bytes: &[u8]) -> Option<Self> {
        let number = |at: usize| Some(u32::from_le_bytes(*bytes.get(at..at + 4)?.first_chunk()?));
        if bytes.get(..8)? != MAGIC || number(8)? != VERSION {
            return None;
        }
        let keys = bytes.get(HEAD..)?.get(..(number(12)? as usize).checked_mul(KEY)?)?;
        if bytes.get(16..HEAD)? != &blake3::hash(keys).as_bytes()[..16] {
            return None;
        }
        let all = keys.chunks_exact(KEY).filter_map(|key| key.first_chunk());
        Some(Self(all.map(|key| u64::from_le_bytes(*key)).collect()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use neat_content::{Meta, Timestamp};

    #[test]
    fn a_record_is_read_back_and_a_damaged_one_is_none() {
        let mut tree = Tree::new(Meta::at(Timestamp::from_seconds(0)));
        tree.put_file(
            "sources/install.wim",
            Content::from_bytes(vec![1]),
            Meta::at(Timestamp::from_seconds(0)),
        )
        .unwrap();
        let ours = OurFiles::of(&tree);
        assert!(ours.has("SOURCES/Install.wim", false) && ours.has("sources", true));
        assert!(!ours.has("sources", false) && !ours.has("notes.txt", false));
        let mut bytes = ours.to_bytes();
        assert_eq!(OurFiles::parse(&bytes), Some(ours));
        bytes[HEAD] ^= 1;
        assert_eq!(OurFiles::parse(&bytes), None);
        bytes[12..16].copy_from_slice(&u32::MAX.to_le_bytes());
        assert_eq!(OurFiles::parse(&bytes), None);
        assert_eq!(OurFiles::parse(&vec![0; LEN]), None);
        let many = OurFiles((0..9000).collect());
        assert!(many.to_bytes().iter().all(|byte| *byte == 0));
    }
}

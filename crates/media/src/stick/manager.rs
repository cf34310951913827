//! The boot manager: the file in the root of a stick that BIOS starts.

use super::BOOT_RECORD;
use crate::fat::BootRecord;
use neat_content::{Error, Result, Tree};

/// Boot managers by their names, with the segment that each is loaded to and started at.
const KNOWN: [(&str, u16); 2] = [("bootmgr", 0x2000), ("quayboot", 0x2000)];
/// Segment for one with another name.
const USUAL_SEGMENT: u16 = 0x2000;
/// Where the second part of the record begins with its marker.
const SECOND: usize = 512;
/// Largest file that has room below the firmware's own memory, in bytes.
const MAX_LEN: u64 = 0x9_F000 - 0x2_0000;

/// Whether a file of this name in the root is known to be a boot manager.
pub fn is_boot_manager(name: &str) -> bool {
    KNOWN.iter().any(|(known, _)| known.eq_ignore_ascii_case(name))
}

/// A boot manager that is there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BootManager {
    /// Its name in the root.
    pub name: String,
    /// Segment that it is loaded to.
    pub segment: u16,
    /// Its directory entry's name.
    short: [u8; 11],
}

impl BootManager {
    /// The first of those known by their names that is in the root of `tree`.
    pub(super) fn find(tree: &Tree) -> Result<Option<Self>> {
        let found = KNOWN.iter().find(|(name, _)| {
            tree.find_ignoring_case(name).is_some_and(|id| tree.node(id).content().is_some())
        });
        found.map(|(name, _)| Self::named(tree, name)).transpose()
    }

    /// The file called `name` in the root of `tree`.
    pub(super) fn named(tree: &Tree, name: &str) -> Result<Self> {
        let file = tree.find_ignoring_case(name).and_then(|id| Some((id, tree.node(id).content()?)));
        let Some((id, content)) = file.filter(|_| !name.contains('/')) else {
            return Err(Error::request(
                format!("there is no boot manager {name} in the root of the media"),
                "name a file that lies there",
            ));
        };
        let name = tree.node(id).name().to_owned();
        let upper = name.to_ascii_uppercase();
        let (base, extension) = upper.split_once('.').unwrap_or((&upper, ""));
        let is_plain = |c: u8| c.is_ascii_uppercase() || c.is_ascii_digit() || b"_-".contains(&c);
        let fits = (1..=8).contains(&base.len())
            && extension.len() <= 3
            && base.bytes().chain(extension.bytes()).all(is_plain);
        if !fits {
            return Err(Error::request(
                format!("{name} cannot be the boot manager: the boot record finds it by a short name"),
                "use a name of at most 8 letters and digits and an extension of at most 3",
            ));
        }
        if content.is_empty() || content.len() > MAX_LEN {
            return Err(Error::request(
                format!(
                    "{name} has {} bytes, and BIOS starts boot managers of 1 to {MAX_LEN}",
                    content.len()
                ),
                "name another file, or take it off the media if BIOS need not start it",
            ));
        }
        let mut short = [b' '; 11];
        short[..base.len()].copy_from_slice(base.as_bytes());
        short[8..8 + extension.len()].copy_from_slice(extension.as_bytes());
        let known = KNOWN.iter().find(|(known, _)| known.eq_ignore_ascii_case(&name));
        Ok(Self { segment: known.map_or(USUAL_SEGMENT, |(_, segment)| *segment), name, short })
    }

    /// The boot record that loads it.
    pub(super) fn record(&self) -> BootRecord {
        let mut bytes = BOOT_RECORD.to_vec();
        // See `boot/record.asm`: marker, segment, short name, name for people.
        bytes[SECOND + 4..SECOND + 6].copy_from_slice(&self.segment.to_le_bytes());
        bytes[SECOND + 6..SECOND + 17].copy_from_slice(&self.short);
        let name = &self.name.as_bytes()[..self.name.len().min(15)];
        bytes[SECOND + 17..SECOND + 17 + name.len()].copy_from_slice(name);
        BootRecord { bytes }
    }
}

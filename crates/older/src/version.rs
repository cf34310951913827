//! What a program says of its version: the resource that systems and setup compare.
//!
//! Read after the published description of the format of programs ("PE format"): the header at the place that the word at
//! 0x3C names, its table of sections, and the tree of resources, of which the type 16 holds the version.

use neat_content::{Error, Result};
use std::fmt;

/// Type of the resource with the version.
const VERSION: u32 = 16;
/// Entry of the resources in the table of directories.
const RESOURCES: usize = 2;
/// `dwSignature` of `VS_FIXEDFILEINFO`.
const SIGNATURE: u32 = 0xFEEF_04BD;
/// Most sections of a program.
const MOST_SECTIONS: usize = 96;
/// Most bytes between the start of the resource and its fixed part: two lengths, a type, the key, and what fills up.
const LONGEST_HEAD: usize = 64;

/// Version of a program, with the language that the resource is in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct FileVersion {
    /// Four numbers.
    pub numbers: [u16; 4],
    /// Identifier of the language.
    pub language: u16,
}

impl fmt::Display for FileVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [first, second, third, fourth] = self.numbers;
        write!(f, "{first}.{second}.{third}.{fourth}")
    }
}

/// A program whose parts are taken by their places.
struct Program<'a> {
    bytes: &'a [u8],
    /// Of each section: first address, length in memory, place and length in the file.
    sections: Vec<[usize; 4]>,
}

impl Program<'_> {
    fn u16(&self, at: usize) -> Option<u16> {
        Some(u16::from_le_bytes(self.bytes.get(at..at.checked_add(2)?)?.try_into().ok()?))
    }

    fn u32(&self, at: usize) -> Option<u32> {
        Some(u32::from_le_bytes(self.bytes.get(at..at.checked_add(4)?)?.try_into().ok()?))
    }

    fn size(&self, at: usize) -> Option<usize> {
        usize::try_from(self.u32(at)?).ok()
    }

    /// The place in the file of an address in memory.
    fn place(&self, address: usize) -> Option<usize> {
        let inside = |own: &&[usize; 4]| address >= own[0] && address - own[0] < own[1].max(own[3]);
        let section = self.sections.iter().find(inside)?;
        let at = address - section[0];
        (at < section[3]).then(|| section[2].checked_add(at)).flatten()
    }

    /// The entry `id` of the directory of resources at `at`, or its first without one: its id, and its place from the root,
    /// with whether that is a directory again.
    fn entry(&self, at: usize, id: Option<u32>) -> Option<(u32, usize, bool)> {
        let named = usize::from(self.u16(at.checked_add(12)?)?);
        let count = named + usize::from(self.u16(at.checked_add(14)?)?);
        (0..count).find_map(|n| {
            let entry = at.checked_add(16 + 8 * n)?;
            let (own, to) = (self.u32(entry)?, self.u32(entry + 4)?);
            let fits = id.is_none_or(|id| id == own);
            fits.then_some((own, (to & 0x7FFF_FFFF) as usize, to >> 31 == 1))
        })
    }
}

impl FileVersion {
    /// The version of a program; nothing for what is no program or says none.
    ///
    /// # Errors
    /// `Truncated` for a program whose resources lead out of it.
    pub fn of(bytes: &[u8]) -> Result<Option<Self>> {
        if !bytes.starts_with(b"MZ") {
            return Ok(None);
        }
        let mut program = Program { bytes, sections: Vec::new() };
        let Some(header) = program.size(0x3C) else { return Ok(None) };
        if header.checked_add(4).and_then(|end| bytes.get(header..end)) != Some(b"PE\0\0") {
            return Ok(None);
        }
        let cut = |at: usize| Error::Truncated {
            what: "version resource of a program".into(),
            offset: at as u64,
            wanted: 1,
            available: bytes.len().saturating_sub(at) as u64,
        };
        match Self::in_program(&mut program, header) {
            Ok(own) => Ok(own),
            Err(at) => Err(cut(at)),
        }
    }

    /// As [`FileVersion::of`], with the place of what is not there as the error.
    fn in_program(program: &mut Program<'_>, header: usize) -> std::result::Result<Option<Self>, usize> {
        let count = usize::from(program.u16(header + 6).ok_or(header)?).min(MOST_SECTIONS);
        let optional_len = usize::from(program.u16(header + 20).ok_or(header)?);
        let optional = header + 24;
        // Programs of 64 bits have a longer head before the directories.
        let directories = match program.u16(optional) {
            Some(0x10B) => optional + 96,
            Some(0x20B) => optional + 112,
            _ => return Ok(None),
        };
        let entry = directories + 8 * RESOURCES;
        if entry + 8 > optional + optional_len {
            return Ok(None);
        }
        let address = program.size(entry).ok_or(entry)?;
        if address == 0 {
            return Ok(None);
        }
        let table = optional + optional_len;
        for n in 0..count {
            let at = table + 40 * n;
            let own = [12, 8, 20, 16].map(|field| program.size(at + field));
            let [Some(a), Some(b), Some(c), Some(d)] = own else { return Err(at) };
            program.sections.push([a, b, c, d]);
        }
        let root = program.place(address).ok_or(entry)?;
        let Some((_, types, true)) = program.entry(root, Some(VERSION)) else { return Ok(None) };
        let (_, names, is_folder) = program.entry(root + types, None).ok_or(root + types)?;
        let (language, data) = if is_folder {
            let (language, data, _) = program.entry(root + names, None).ok_or(root + names)?;
            (language, data)
        } else {
            (0, names)
        };
        let data = root + data;
        let start = program.size(data).and_then(|address| program.place(address)).ok_or(data)?;
        // The fixed part follows the key, at a place that can be divided by four.
        let found = (start..start + LONGEST_HEAD).step_by(4).find(|at| program.u32(*at) == Some(SIGNATURE));
        let Some(fixed) = found else { return Ok(None) };
        let high = program.u32(fixed + 8).ok_or(fixed)?;
        let low = program.u32(fixed + 12).ok_or(fixed)?;
        let numbers = [high >> 16, high & 0xFFFF, low >> 16, low & 0xFFFF].map(|number| number as u16);
        Ok(Some(Self { numbers, language: language as u16 }))
    }
}

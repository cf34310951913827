//! Applications in the PE format: what a signature covers, and where the signatures lie.
//!
//! After Microsoft's published "PE Format" and "Windows Authenticode Portable Executable Signature Format".

use neat_content::{Error, FieldReader, Result};
use sha2_of_rsa::digest::Digest;
use std::ops::Range;

/// Most sections of an application.
const MOST_SECTIONS: usize = 96;
/// A signature in the form of PKCS #7.
const PKCS7: u16 = 2;

/// An application.
pub(crate) struct Loader<'a> {
    /// All of it, or its beginning.
    bytes: &'a [u8],
    /// Bytes of all of it.
    len: usize,
    /// Where the checksum stands.
    checksum: usize,
    /// Where the place of the signatures stands.
    directory: Option<usize>,
    /// The table of signatures.
    table: Range<usize>,
    headers: usize,
    /// Sections: name and place.
    sections: Vec<([u8; 8], Range<usize>)>,
}

impl<'a> Loader<'a> {
    /// Reads the headers.
    pub(crate) fn read(bytes: &'a [u8]) -> Result<Self> {
        Self::of_beginning(bytes, bytes.len())
    }

    /// Reads the headers of an application of `len` bytes, of which `bytes` is the beginning.
    pub(crate) fn of_beginning(bytes: &'a [u8], len: usize) -> Result<Self> {
        let all = len;
        let mut fields = FieldReader::new(bytes, 0, "Application");
        let bad = |field: &'static str, at: usize, expected: &str, found: String| {
            Error::bad_field("Application", field, at as u64, expected, found)
        };
        if fields.take(2)? != b"MZ" {
            return Err(bad("signature", 0, "\"MZ\"", "another".into()));
        }
        fields.seek(0x3C)?;
        let start = fields.u32_le()? as usize;
        fields.seek(start)?;
        if fields.take(4)? != b"PE\0\0" {
            return Err(bad("signature", start, "\"PE\"", "another".into()));
        }
        fields.skip(2)?;
        let count = usize::from(fields.u16_le()?);
        fields.skip(12)?;
        let optional_len = usize::from(fields.u16_le()?);
        fields.skip(2)?;
        let optional = start + 24;
        let (directories, directory_count) = match fields.u16_le()? {
            0x10B => (optional + 96, optional + 92),
            0x20B => (optional + 112, optional + 108),
            other => return Err(bad("kind", optional, "0x10b or 0x20b", format!("{other:#x}"))),
        };
        fields.seek(optional + 60)?;
        let headers = fields.u32_le()? as usize;
        fields.seek(directory_count)?;
        let has_table = fields.u32_le()? > 4;
        let (mut directory, mut table) = (None, 0..0);
        if has_table {
            // The fifth entry, whose place is one in the file.
            let at = directories + 4 * 8;
            fields.seek(at)?;
            let (place, len) = (fields.u32_le()? as usize, fields.u32_le()? as usize);
            if place.checked_add(len).is_none_or(|end| end > all) {
                let expected = format!("a place within {all} bytes");
                return Err(bad("signatures", at, &expected, format!("{len} bytes from {place:#x} on")));
            }
            directory = Some(at);
            table = place..place + len;
        }
        if count > MOST_SECTIONS || headers > all || headers < directories {
            let found = format!("{count} sections, headers of {headers} bytes");
            return Err(bad("sizes", start + 6, "at most 96 sections within the file", found));
        }
        let mut sections = Vec::with_capacity(count);
        fields.seek(optional + optional_len)?;
        for _ in 0..count {
            let at = fields.offset() as usize;
            let name = fields.array()?;
            fields.skip(8)?;
            let (len, place) = (fields.u32_le()? as usize, fields.u32_le()? as usize);
            fields.skip(16)?;
            if place.checked_add(len).is_none_or(|end| end > all) {
                let expected = format!("a section within {all} bytes");
                return Err(bad("section", at, &expected, format!("{len} bytes from {place:#x} on")));
            }
            sections.push((name, place..place + len));
        }
        Ok(Self { bytes, len: all, checksum: optional + 64, directory, table, headers, sections })
    }

    /// What a signature covers: all but the checksum, the place of the signatures, and these.
    pub(crate) fn covered(&self) -> Vec<Range<usize>> {
        let mut covered: Vec<Range<usize>> = std::iter::once(0..self.checksum).collect();
        match self.directory {
            Some(directory) => covered.extend([self.checksum + 4..directory, directory + 8..self.headers]),
            None => covered.push(self.checksum + 4..self.headers),
        }
        let mut places: Vec<&Range<usize>> =
            self.sections.iter().map(|(_, place)| place).filter(|place| !place.is_empty()).collect();
        places.sort_by_key(|place| place.start);
        let mut summed = self.headers;
        for place in places {
            covered.push(place.clone());
            summed += place.len();
        }
        // What comes behind the sections and before the signatures.
        let end = self.len.saturating_sub(self.table.len());
        covered.push(summed.min(end)..end);
        covered
    }

    /// The digest of what a signature covers.
    pub(crate) fn digest<D: Digest>(&self) -> Vec<u8> {
        let mut digest = D::new();
        for bytes in self.covered().into_iter().filter_map(|range| self.bytes.get(range)) {
            digest.update(bytes);
        }
        digest.finalize().to_vec()
    }

    /// The signatures as they lie in the file, and what is wrong with their table.
    pub(crate) fn signatures(&self) -> (Vec<&'a [u8]>, Option<String>) {
        let mut found = Vec::new();
        let table = self.bytes.get(self.table.clone()).unwrap_or_default();
        let mut at = 0;
        while table.len() - at >= 8 {
            let head = &table[at..];
            let len = u32::from_le_bytes([head[0], head[1], head[2], head[3]]) as usize;
            let kind = u16::from_le_bytes([head[6], head[7]]);
            if len < 8 || len > head.len() {
                let place = self.table.start + at;
                return (
                    found,
                    Some(format!("the signature at byte {place:#x} says that it has {len} bytes")),
                );
            }
            if kind == PKCS7 {
                found.push(&head[8..len]);
            }
            at += len.next_multiple_of(8).min(head.len());
        }
        (found, None)
    }

    /// The content of a section.
    pub(crate) fn section(&self, name: &[u8]) -> Option<&'a [u8]> {
        let is_own = |own: &[u8; 8]| own.starts_with(name) && own[name.len()..].iter().all(|byte| *byte == 0);
        let (_, place) = self.sections.iter().find(|(own, _)| is_own(own))?;
        self.bytes.get(place.clone())
    }
}

//! Rock Ridge (RRIP 1.12) over the System Use Sharing Protocol (SUSP 1.12): reading system use areas and making
//! them.

use super::{layout::RecordingTime, layout::VolumeTime};
use neat_content::{Error, FieldReader, ReadAt, Result, Timestamp, read_vec};
use zerocopy::{FromBytes, IntoBytes};

/// Continuation areas followed for one record; real ones need one or two.
const MAX_CONTINUATIONS: usize = 64;
/// Longest name or link target put together from parts, in bytes.
const MAX_TEXT: usize = 64 * 1024;

/// What the system use area of one directory record says.
#[derive(Debug, Default)]
pub(crate) struct Attributes {
    /// `NM`: the name in the bytes of its system.
    pub name: Option<Vec<u8>>,
    /// `PX`: POSIX mode with file type.
    pub mode: Option<u32>,
    /// `SL`: target of a symbolic link.
    pub link: Option<Vec<u8>>,
    /// `TF`: last modification.
    pub modified: Option<Timestamp>,
    /// `CL`: block where the directory that belongs here was moved to.
    pub child_location: Option<u32>,
    /// `RE`: this directory is shown elsewhere, by a `CL`.
    pub relocated: bool,
    /// `SP`: bytes to skip in every other area.
    pub skip: Option<u8>,
    /// `ER` with an identifier of Rock Ridge, or any of its entries.
    pub rock_ridge: bool,
}

/// Reads the system use area `area`, which lies at `offset`, and its continuations.
pub(crate) fn parse<R: ReadAt + ?Sized>(
    reader: &R,
    area: &[u8],
    offset: u64,
    block_size: u64,
) -> Result<Attributes> {
    let mut attributes = Attributes::default();
    let mut link = LinkParts::default();
    let mut name_continues = false;
    let (mut area, mut offset) = (area.to_vec(), offset);
    for _ in 0..MAX_CONTINUATIONS {
        let mut next = None;
        let mut position = 0;
        while area.len() - position >= 4 {
            let length = usize::from(area[position + 2]);
            let at = offset + position as u64;
            // Some writers leave zeros behind the last entry instead of `ST`.
            if area[position..position + 2] == [0, 0] {
                break;
            }
            let Some(entry) = area.get(position..position + length).filter(|_| length >= 4) else {
                return Err(Error::bad_field(
                    "SystemUseEntry",
                    "length",
                    at + 2,
                    format!("4 to {}", area.len() - position),
                    length,
                ));
            };
            let mut fields = FieldReader::new(entry, at, "SystemUseEntry");
            let signature: [u8; 2] = fields.array()?;
            fields.skip(2)?;
            match &signature {
                b"SP" => {
                    fields.skip(2)?;
                    attributes.skip = Some(fields.u8()?);
                }
                b"CE" => {
                    let mut number = |field| fields.u32_both(field).map(u64::from);
                    let (block, start, len) = (number("block")?, number("offset")?, number("length")?);
                    next = Some((block * block_size + start, len));
                }
                b"ST" => break,
                b"ER" | b"RR" => attributes.rock_ridge = true,
                b"NM" => {
                    attributes.rock_ridge = true;
                    let flags = fields.u8()?;
                    // Bits 1 and 2 stand for "." and "..", whose names nobody needs.
                    if flags & 0x06 == 0 {
                        let name = attributes.name.get_or_insert_default();
                        if !name_continues {
                            name.clear();
                        }
                        extend_text(name, fields.take(fields.remaining())?, at)?;
                    }
                    name_continues = flags & 1 != 0;
                }
                b"PX" => attributes.mode = Some(fields.u32_both("mode")?),
                b"SL" => link.add(&mut fields, at)?,
                b"TF" => attributes.modified = modification_time(&mut fields)?.or(attributes.modified),
                b"CL" => attributes.child_location = Some(fields.u32_both("child location")?),
                b"RE" => attributes.relocated = true,
                _ => {}
            }
            position += length;
        }
        let Some((start, len)) = next else {
            attributes.link = link.finish();
            return Ok(attributes);
        };
        area = read_vec(reader, start, len, 64 * 1024, "continuation area")?;
        offset = start;
    }
    Err(Error::Loop { what: "chain of continuation areas".into(), offset })
}

fn extend_text(text: &mut Vec<u8>, more: &[u8], offset: u64) -> Result<()> {
    text.extend_from_slice(more);
    if text.len() > MAX_TEXT {
        let found = text.len() as u64;
        return Err(Error::Limit { what: "bytes of a name".into(), offset, limit: MAX_TEXT as u64, found });
    }
    Ok(())
}

/// Components of a symbolic link, gathered over several `SL` entries (RRIP 4.1.3).
#[derive(Default)]
struct LinkParts {
    text: Option<Vec<u8>>,
    component_continues: bool,
}

impl LinkParts {
    fn add(&mut self, fields: &mut FieldReader<'_>, offset: u64) -> Result<()> {
        fields.skip(1)?;
        let text = self.text.get_or_insert_default();
        while fields.remaining() >= 2 {
            let (flags, len) = (fields.u8()?, fields.u8()?);
            let component = fields.take(usize::from(len))?;
            if !self.component_continues && !text.is_empty() && !text.ends_with(b"/") {
                text.push(b'/');
            }
            match flags & 0x0E {
                0x02 => text.push(b'.'),
                0x04 => text.extend_from_slice(b".."),
                0x08 => {
                    text.clear();
                    text.push(b'/');
                }
                _ => extend_text(text, component, offset)?,
            }
            self.component_continues = flags & 1 != 0;
        }
        Ok(())
    }

    fn finish(self) -> Option<Vec<u8>> {
        self.text
    }
}

fn modification_time(fields: &mut FieldReader<'_>) -> Result<Option<Timestamp>> {
    let flags = fields.u8()?;
    let long = flags & 0x80 != 0;
    // Bit 0 creation, bit 1 modification; each present one takes its place in this order (RRIP 4.1.6).
    if flags & 1 != 0 {
        fields.skip(if long { 17 } else { 7 })?;
    }
    if flags & 2 == 0 {
        return Ok(None);
    }
    if long {
        let bytes: [u8; 17] = fields.array()?;
        return Ok(VolumeTime::read_from_bytes(&bytes).ok().and_then(VolumeTime::to_timestamp));
    }
    let bytes: [u8; 7] = fields.array()?;
    Ok(RecordingTime::read_from_bytes(&bytes).ok().map(RecordingTime::to_timestamp))
}

/// What goes into the system use areas of one record.
pub(crate) struct Entry<'a> {
    /// Name; `None` for the records of a directory itself and of its parent.
    pub name: Option<&'a str>,
    /// POSIX mode with file type.
    pub mode: u32,
    /// Last modification.
    pub modified: Timestamp,
    /// Target of a symbolic link.
    pub link: Option<&'a str>,
    /// Whether this is the root's own record, which announces the protocol.
    pub root: bool,
}

const EXTENSION_ID: &[u8] = b"RRIP_1991A";
const EXTENSION_DESCRIPTION: &[u8] =
    b"The Rock Ridge Interchange Protocol provides support for POSIX file system semantics";
const EXTENSION_SOURCE: &[u8] = b"See the Rock Ridge Interchange Protocol, version 1.12";

/// Length of a `CE` entry.
pub(crate) const CONTINUATION_LEN: usize = 28;

impl Entry<'_> {
    /// The entries in order, each complete; the caller lays them into the record and continuation areas.
    pub(crate) fn parts(&self) -> Vec<Vec<u8>> {
        let mut parts = Vec::new();
        if self.root {
            parts.push(part(*b"SP", &[0xBE, 0xEF, 0]));
        }
        let mut px = Vec::new();
        // Links 1, user 0, group 0: what a media from any other system has.
        for number in [self.mode, 1, 0, 0] {
            px.extend(number.to_le_bytes());
            px.extend(number.to_be_bytes());
        }
        parts.push(part(*b"PX", &px));
        let mut tf = vec![0x02];
        tf.extend(RecordingTime::from_timestamp(self.modified).as_bytes());
        parts.push(part(*b"TF", &tf));
        if let Some(name) = self.name {
            let chunks: Vec<&[u8]> = name.as_bytes().chunks(200).collect();
            for (index, chunk) in chunks.iter().enumerate() {
                let mut body = vec![u8::from(index + 1 < chunks.len())];
                body.extend_from_slice(chunk);
                parts.push(part(*b"NM", &body));
            }
        }
        if let Some(link) = self.link {
            parts.extend(link_parts(link));
        }
        if self.root {
            let mut er = vec![
                EXTENSION_ID.len() as u8,
                EXTENSION_DESCRIPTION.len() as u8,
                EXTENSION_SOURCE.len() as u8,
                1,
            ];
            er.extend(EXTENSION_ID);
            er.extend(EXTENSION_DESCRIPTION);
            er.extend(EXTENSION_SOURCE);
            parts.push(part(*b"ER", &er));
        }
        parts
    }
}

fn part(signature: [u8; 2], body: &[u8]) -> Vec<u8> {
    let mut entry = vec![signature[0], signature[1], (body.len() + 4) as u8, 1];
    entry.extend_from_slice(body);
    entry
}

fn link_parts(link: &str) -> Vec<Vec<u8>> {
    let mut components = Vec::new();
    if link.starts_with('/') {
        components.push(vec![0x08, 0]);
    }
    for name in link.split('/').filter(|name| !name.is_empty()) {
        match name {
            "." => components.push(vec![0x02, 0]),
            ".." => components.push(vec![0x04, 0]),
            _ => {
                let chunks: Vec<&[u8]> = name.as_bytes().chunks(200).collect();
                for (index, chunk) in chunks.iter().enumerate() {
                    let mut component = vec![u8::from(index + 1 < chunks.len()), chunk.len() as u8];
                    component.extend_from_slice(chunk);
                    components.push(component);
                }
            }
        }
    }
    let mut entries: Vec<Vec<u8>> = Vec::new();
    let mut body = Vec::new();
    for component in components {
        if !body.is_empty() && body.len() + component.len() > 240 {
            entries.push(std::mem::take(&mut body));
        }
        body.extend(component);
    }
    entries.push(body);
    let last = entries.len() - 1;
    let with_flags = |(index, body): (usize, Vec<u8>)| {
        let mut flagged = vec![u8::from(index < last)];
        flagged.extend(body);
        part(*b"SL", &flagged)
    };
    entries.into_iter().enumerate().map(with_flags).collect()
}

/// A `CE` entry that points at `len` bytes, `start` bytes into `block`.
pub(crate) fn continuation(block: u32, start: u32, len: u32) -> Vec<u8> {
    let mut body = Vec::new();
    for number in [block, start, len] {
        body.extend(number.to_le_bytes());
        body.extend(number.to_be_bytes());
    }
    part(*b"CE", &body)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_made_is_read_back() {
        let long_name = "n".repeat(255);
        let link = format!("/{}/../{}/./end", "a".repeat(250), "b".repeat(100));
        let entry = Entry {
            name: Some(&long_name),
            mode: 0o120_777,
            modified: Timestamp::from_seconds(1_600_000_000),
            link: Some(&link),
            root: true,
        };
        let area = entry.parts().concat();
        let read = parse(&[][..], &area, 0, 2048).unwrap();
        assert_eq!(read.name.unwrap(), long_name.as_bytes());
        assert_eq!(read.link.unwrap(), link.as_bytes());
        assert_eq!(read.mode, Some(0o120_777));
        assert_eq!(read.modified, Some(Timestamp::from_seconds(1_600_000_000)));
        assert_eq!(read.skip, Some(0));
        assert!(read.rock_ridge && !read.relocated);
    }

    #[test]
    fn a_continuation_that_leads_to_itself_ends() {
        let area = continuation(0, 0, CONTINUATION_LEN as u32);
        let error = parse(&area, &area, 0, 2048).unwrap_err();
        assert!(matches!(error, Error::Loop { .. }));
        let error = parse(&area, &continuation(9, 0, 4), 0, 2048).unwrap_err();
        assert!(matches!(error, Error::Truncated { .. }));
        assert!(parse(&area, &[b'N', b'M', 3, 1, 0], 0, 2048).is_err());
    }
}

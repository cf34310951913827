//! Bytes of a metadata resource into the tree.

use super::{Entry, EntryId, Files, Name, Stream, Times};
use crate::{
    BlobDigest, Limits,
    layout::{ENTRY_LEN, RawEntry, RawStream, STREAM_LEN},
    limits::at_most,
};
use neat_content::{Error, FieldReader, Result};
use std::collections::HashSet;
use zerocopy::FromBytes;

/// Reads a metadata resource. Offsets in errors count from its start before compression.
///
/// # Errors
/// `Corrupt` with the offset; `LimitExceeded` for trees that are too large or too deep.
pub fn read(bytes: &[u8]) -> Result<Files> {
    read_with(bytes, &Limits::default())
}

/// As [`read`], with limits of the caller's.
///
/// # Errors
/// As [`read`].
pub fn read_with(bytes: &[u8], limits: &Limits) -> Result<Files> {
    let (security, start) = read_security(bytes, limits)?;
    let mut files = Files { entries: Vec::with_capacity(bytes.len() / 200), security };
    let Some((root, _)) = read_entry(bytes, start)? else {
        return Err(Error::bad_field("DirectoryEntry", "length", start as u64, "the root's entry", 0));
    };
    let first_list = root.list;
    files.entries.push(root.entry);
    if !files.entries[0].is_folder() {
        return Err(Error::bad_field(
            "DirectoryEntry",
            "attributes",
            start as u64 + 8,
            "a folder as the root",
            files.entries[0].attributes,
        ));
    }
    let mut seen = HashSet::new();
    let mut pending = vec![(Files::ROOT, first_list, 0)];
    while let Some((parent, list, depth)) = pending.pop() {
        if list == 0 {
            continue;
        }
        at_most("depth of folders", list, depth, limits.depth)?;
        if !seen.insert(list) {
            return Err(Error::Loop { what: "list of a folder's entries".into(), offset: list });
        }
        let mut at = usize::try_from(list).unwrap_or(usize::MAX);
        while let Some((found, next)) = read_entry(bytes, at)? {
            let name = found.entry.name.units();
            let dots = matches!(name, [0x2E] | [0x2E, 0x2E]);
            if dots || name.is_empty() || name.iter().any(|unit| matches!(unit, 0 | 0x2F | 0x5C)) {
                return Err(Error::bad_field(
                    "DirectoryEntry",
                    "file_name",
                    at as u64 + ENTRY_LEN as u64,
                    "a name that stays in its folder",
                    format!("{:?} in /{}", found.entry.name, files.path(parent)),
                ));
            }
            let id = EntryId(files.entries.len() as u32);
            if found.entry.is_folder() {
                pending.push((id, found.list, depth + 1));
            }
            files.entries.push(Entry { parent, ..found.entry });
            files.entries[parent.0 as usize].children.push(id);
            at = next;
        }
    }
    files.note_order();
    Ok(files)
}

/// The security descriptors, and where the root's entry begins.
fn read_security(bytes: &[u8], limits: &Limits) -> Result<(Vec<Box<[u8]>>, usize)> {
    let mut reader = FieldReader::new(bytes, 0, "SecurityData");
    let total = reader.u32_le()?;
    let count = reader.u32_le()? as usize;
    at_most("security descriptors", 4, count, limits.descriptors)?;
    let sizes = reader.take(count * 8)?;
    let mut descriptors = Vec::with_capacity(count);
    for size in sizes.chunks_exact(8) {
        let size = size.try_into().map_or(u64::MAX, u64::from_le_bytes);
        let size = usize::try_from(size).unwrap_or(usize::MAX);
        descriptors.push(reader.take(size)?.into());
    }
    // Some writers give 0 when there are none.
    let end = if count == 0 && total < 8 { 8 } else { (total as usize).next_multiple_of(8) };
    if (end as u64) < reader.offset() || end > bytes.len() {
        return Err(Error::bad_field(
            "SecurityData",
            "total_length",
            0,
            "an end behind the last descriptor and inside the metadata",
            total,
        ));
    }
    Ok((descriptors, end))
}

struct Found {
    entry: Entry,
    list: u64,
}

/// The entry at `at` and where the next begins; nothing where a folder ends.
fn read_entry(bytes: &[u8], at: usize) -> Result<Option<(Found, usize)>> {
    let mut reader = FieldReader::new(bytes.get(at..).unwrap_or_default(), at as u64, "DirectoryEntry");
    let length = reader.clone().u64_le()?;
    if length <= 8 {
        return Ok(None);
    }
    let fixed = reader.take(ENTRY_LEN)?;
    let Ok(raw) = RawEntry::read_from_bytes(fixed) else {
        return Err(Error::Unsupported { what: "directory entry".into(), offset: at as u64 });
    };
    let (name_len, short_len) = (usize::from(raw.name_len.get()), usize::from(raw.short_name_len.get()));
    // Each name that is there is followed by a zero unit.
    let name_end = ENTRY_LEN + if name_len > 0 { name_len + 2 } else { 0 };
    let short_end = name_end + if short_len > 0 { short_len + 2 } else { 0 };
    let length = usize::try_from(length).unwrap_or(usize::MAX);
    // The last zero unit may be missing.
    let least = if short_len > 0 || name_len > 0 { short_end - 2 } else { ENTRY_LEN };
    if length < least || name_len % 2 != 0 || short_len % 2 != 0 {
        return Err(Error::bad_field(
            "DirectoryEntry",
            "length",
            at as u64,
            format!("at least {least}, with names of whole units"),
            length,
        ));
    }
    let whole = bytes.get(at..).and_then(|rest| rest.get(..length)).ok_or_else(|| Error::Truncated {
        what: "directory entry".into(),
        offset: at as u64,
        wanted: length as u64,
        available: (bytes.len() - at) as u64,
    })?;
    let name = name_of(&whole[ENTRY_LEN..ENTRY_LEN + name_len]);
    let short_name = name_of(whole.get(name_end..name_end + short_len).unwrap_or_default());
    let extra_start = short_end.next_multiple_of(8).min(length);
    let mut extra = &whole[extra_start..];
    if extra.iter().all(|byte| *byte == 0) {
        extra = &[];
    }
    let mut next = aligned_end(at, length)?;
    let mut streams = Vec::new();
    for _ in 0..raw.stream_count.get() {
        let (stream, end) = read_stream(bytes, next)?;
        streams.push(stream);
        next = end;
    }
    let is_folder = raw.attributes.get() & crate::layout::ATTRIBUTE_DIRECTORY != 0;
    let entry = Entry {
        name,
        short_name,
        attributes: raw.attributes.get(),
        security: raw.security_id.get(),
        times: Times {
            created: raw.creation_time.get(),
            accessed: raw.last_access_time.get(),
            written: raw.last_write_time.get(),
        },
        digest: BlobDigest(raw.digest),
        link: raw.link_or_reparse,
        streams,
        unused: raw.unused,
        unknown: raw.unknown,
        extra: extra.into(),
        had_list: is_folder && raw.subdir_offset.get() != 0,
        parent: Files::ROOT,
        children: Vec::new(),
        is_unsorted: false,
    };
    Ok(Some((Found { entry, list: raw.subdir_offset.get() }, next)))
}

fn read_stream(bytes: &[u8], at: usize) -> Result<(Stream, usize)> {
    let mut reader = FieldReader::new(bytes.get(at..).unwrap_or_default(), at as u64, "StreamEntry");
    let fixed = reader.take(STREAM_LEN)?;
    let Ok(raw) = RawStream::read_from_bytes(fixed) else {
        return Err(Error::Unsupported { what: "stream entry".into(), offset: at as u64 });
    };
    let name = reader.take(usize::from(raw.name_len.get()))?;
    let length = usize::try_from(raw.length.get()).unwrap_or(usize::MAX);
    if length < STREAM_LEN + name.len() || name.len() % 2 != 0 {
        return Err(Error::bad_field(
            "StreamEntry",
            "length",
            at as u64,
            format!("at least {}", STREAM_LEN + name.len()),
            length,
        ));
    }
    let stream = Stream { name: name_of(name), digest: BlobDigest(raw.digest), unused: raw.unused };
    Ok((stream, aligned_end(at, length)?))
}

fn aligned_end(at: usize, length: usize) -> Result<usize> {
    at.checked_add(length).and_then(|end| end.checked_next_multiple_of(8)).ok_or_else(|| {
        Error::bad_field("DirectoryEntry", "length", at as u64, "an end inside the metadata", length)
    })
}

fn name_of(bytes: &[u8]) -> Name {
    Name::from_units(
        bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect::<Vec<_>>(),
    )
}

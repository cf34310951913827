//! Bytes of a metadata resource into the tree.

use super::{Entry, EntryId, Files, Name, Stream, Times, model::Rare};
use crate::{
    BlobDigest, Limits,
    layout::{ATTRIBUTE_DIRECTORY, ENTRY_LEN, RawEntry, RawStream, STREAM_LEN},
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
    let (security, _) = read_security(bytes, limits)?;
    // Room for as many as there can be; what is not used is given back.
    let mut files = Files { entries: Vec::with_capacity(bytes.len() / ENTRY_LEN), security };
    walk(bytes, limits, &mut |number, parent, seen| {
        let parent = EntryId(parent);
        files.entries.push(Entry { parent, ..seen.entry() });
        if number != Files::ROOT.0 {
            files.entries[parent.index()].children_mut().push(EntryId(number));
        }
    })?;
    files.entries.shrink_to_fit();
    files.note_order();
    Ok(files)
}

/// Goes through the entries of a metadata resource without making a tree of them, each folder before what it holds:
/// `each` gets an entry's number, that of its folder, and the entry. The root is 0 and in itself. The numbers are those
/// of [`read`].
///
/// # Errors
/// As [`read`].
pub fn walk(bytes: &[u8], limits: &Limits, each: &mut dyn FnMut(u32, u32, &Seen<'_>)) -> Result<()> {
    let (_, start) = read_security(bytes, limits)?;
    let Some((root, _)) = Seen::at(bytes, start)? else {
        return Err(Error::bad_field("DirectoryEntry", "length", start as u64, "the root's entry", 0));
    };
    if !root.is_folder() {
        let attributes = root.raw.attributes.get();
        let wanted = "a folder as the root";
        return Err(Error::bad_field("DirectoryEntry", "attributes", start as u64 + 8, wanted, attributes));
    }
    each(0, 0, &root);
    let mut count = 1;
    let mut seen_lists = HashSet::new();
    let mut pending = vec![(0, root.raw.subdir_offset.get(), 0)];
    while let Some((parent, list, depth)) = pending.pop() {
        if list == 0 {
            continue;
        }
        at_most("depth of folders", list, depth, limits.depth)?;
        if !seen_lists.insert(list) {
            return Err(Error::Loop { what: "list of a folder's entries".into(), offset: list });
        }
        let mut at = usize::try_from(list).unwrap_or(usize::MAX);
        while let Some((seen, next)) = Seen::at(bytes, at)? {
            let bad = |unit: &[u8]| matches!(unit, [0 | 0x2F | 0x5C, 0]);
            let dots = matches!(seen.name, [0x2E, 0] | [0x2E, 0, 0x2E, 0]);
            if dots || seen.name.is_empty() || seen.name.chunks_exact(2).any(bad) {
                return Err(Error::bad_field(
                    "DirectoryEntry",
                    "file_name",
                    at as u64 + ENTRY_LEN as u64,
                    "a name that stays in its folder",
                    format!("{:?}", name_of(seen.name)),
                ));
            }
            if seen.is_folder() {
                pending.push((count, seen.raw.subdir_offset.get(), depth + 1));
            }
            each(count, parent, &seen);
            count += 1;
            at = next;
        }
    }
    Ok(())
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

/// An entry as it lies in a metadata resource.
pub struct Seen<'a> {
    raw: RawEntry,
    name: &'a [u8],
    short_name: &'a [u8],
    extra: &'a [u8],
    /// All bytes of the resource, and where the entry's streams begin there.
    bytes: &'a [u8],
    streams_at: usize,
}

impl<'a> Seen<'a> {
    /// The entry at `at` and where the next begins; nothing where a folder ends.
    fn at(bytes: &'a [u8], at: usize) -> Result<Option<(Self, usize)>> {
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
        let mut extra = &whole[short_end.next_multiple_of(8).min(length)..];
        if extra.iter().all(|byte| *byte == 0) {
            extra = &[];
        }
        let streams_at = aligned_end(at, length)?;
        let mut next = streams_at;
        for _ in 0..raw.stream_count.get() {
            next = see_stream(bytes, next)?.1;
        }
        let name = &whole[ENTRY_LEN..ENTRY_LEN + name_len];
        let short_name = whole.get(name_end..name_end + short_len).unwrap_or_default();
        Ok(Some((Self { raw, name, short_name, extra, bytes, streams_at }, next)))
    }

    /// Whether it is a folder.
    pub fn is_folder(&self) -> bool {
        self.raw.attributes.get() & ATTRIBUTE_DIRECTORY != 0
    }

    /// The units of its name.
    pub fn name_units(&self) -> impl Iterator<Item = u16> + 'a {
        self.name.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]]))
    }

    /// All content it names, with repetitions.
    pub fn digests(&self) -> impl Iterator<Item = BlobDigest> + '_ {
        let own = std::iter::once(BlobDigest(self.raw.digest));
        let all = own.chain(self.streams().map(|(raw, _)| BlobDigest(raw.digest)));
        all.filter(|digest| !digest.is_none())
    }

    /// Its streams, each with the bytes of its name.
    fn streams(&self) -> impl Iterator<Item = (RawStream, &'a [u8])> + '_ {
        let mut at = self.streams_at;
        (0..self.raw.stream_count.get()).map_while(move |_| {
            let (stream, next) = see_stream(self.bytes, at).ok()?;
            at = next;
            Some(stream)
        })
    }

    /// The entry by itself, without what is inside.
    fn entry(&self) -> Entry {
        let Self { raw, .. } = self;
        let streams = self.streams().map(|(raw, name)| Stream {
            name: name_of(name),
            digest: BlobDigest(raw.digest),
            unused: raw.unused,
        });
        let mut entry = Entry {
            attributes: raw.attributes.get(),
            security: raw.security_id.get(),
            times: Times {
                created: raw.creation_time.get(),
                accessed: raw.last_access_time.get(),
                written: raw.last_write_time.get(),
            },
            digest: BlobDigest(raw.digest),
            link: raw.link_or_reparse,
            had_list: self.is_folder() && raw.subdir_offset.get() != 0,
            ..Entry::bare(name_of(self.name))
        };
        entry.set_rare(Rare {
            short_name: name_of(self.short_name),
            streams: streams.collect(),
            unused: raw.unused,
            unknown: raw.unknown,
            extra: self.extra.into(),
        });
        entry
    }
}

/// The stream at `at`, the bytes of its name, and where the next begins.
fn see_stream(bytes: &[u8], at: usize) -> Result<((RawStream, &[u8]), usize)> {
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
    Ok(((raw, name), aligned_end(at, length)?))
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

//! The tree into bytes of a metadata resource.

use super::{Entry, EntryId, Files};
use crate::layout::{ENTRY_LEN, RawEntry, RawStream, STREAM_LEN};
use neat_content::{Error, Result};
use zerocopy::IntoBytes;

/// Bytes that are handed on at once, at least.
const BLOCK: usize = 256 << 10;
/// Bytes that end the list of a folder.
const LIST_END: usize = 8;

/// Writes the metadata resource: security descriptors, the root's entry, then the list of each folder before those of
/// the folders in it.
///
/// # Errors
/// `BadRequest` for names and lists that are longer than their fields.
pub fn write(files: &Files) -> Result<Vec<u8>> {
    let mut bytes = Vec::new();
    write_to(files, &mut |block| {
        bytes.extend_from_slice(block);
        Ok(())
    })?;
    Ok(bytes)
}

/// The same, handed to `each` in blocks as they are ready, so that all of it is nowhere at once.
///
/// # Errors
/// As [`write()`], and those of `each`.
pub fn write_to(files: &Files, each: &mut dyn FnMut(&[u8]) -> Result<()>) -> Result<()> {
    let mut bytes = security_data(&files.security)?;
    // First where each list goes, then the bytes.
    let folders: Vec<EntryId> = files.ids().filter(|id| has_list(files.entry(*id))).collect();
    let root = files.entry(Files::ROOT);
    let (lists, _) = lists(files, bytes.len(), &folders)?;
    put_entry(root, lists[0], &mut bytes)?;
    bytes.extend([0; LIST_END]);
    for id in folders {
        for child in files.entry(id).children() {
            put_entry(files.entry(*child), lists[child.0 as usize], &mut bytes)?;
            // All lengths are multiples of 8, so that what comes next is padded as it would be behind the rest.
            if bytes.len() >= BLOCK {
                each(&bytes)?;
                bytes.clear();
            }
        }
        bytes.extend([0; LIST_END]);
    }
    each(&bytes)
}

/// Bytes of what [`write()`] writes.
///
/// # Errors
/// As [`write()`].
pub fn written_len(files: &Files) -> Result<u64> {
    let folders: Vec<EntryId> = files.ids().filter(|id| has_list(files.entry(*id))).collect();
    Ok(lists(files, security_data(&files.security)?.len(), &folders)?.1)
}

/// Where the list of each folder goes, by the number of its entry, and where all of it ends; `before` bytes come before
/// the root's entry.
fn lists(files: &Files, before: usize, folders: &[EntryId]) -> Result<(Vec<u64>, u64)> {
    let mut lists = vec![0_u64; files.entries.len()];
    let mut at = (before + entry_len(files.entry(Files::ROOT))? + LIST_END) as u64;
    for id in folders {
        lists[id.0 as usize] = at;
        for child in files.entry(*id).children() {
            at += entry_len(files.entry(*child))? as u64;
        }
        at += LIST_END as u64;
    }
    Ok((lists, at))
}

/// A folder without a list that got none of its own keeps having none, as junctions do.
fn has_list(entry: &Entry) -> bool {
    entry.is_folder() && (entry.had_list || !entry.children().is_empty())
}

fn security_data(descriptors: &[Box<[u8]>]) -> Result<Vec<u8>> {
    let total = 8 + descriptors.iter().map(|descriptor| 8 + descriptor.len()).sum::<usize>();
    let padded = total.next_multiple_of(8);
    let too_large = |_| Error::request("the security descriptors are larger than 4 GiB", "use fewer");
    let mut bytes = Vec::with_capacity(padded);
    bytes.extend(u32::try_from(padded).map_err(too_large)?.to_le_bytes());
    bytes.extend((descriptors.len() as u32).to_le_bytes());
    descriptors.iter().for_each(|descriptor| bytes.extend((descriptor.len() as u64).to_le_bytes()));
    descriptors.iter().for_each(|descriptor| bytes.extend_from_slice(descriptor));
    bytes.resize(padded, 0);
    Ok(bytes)
}

/// Bytes of a name and the zero unit after it.
const fn name_len(units: &[u16]) -> usize {
    if units.is_empty() { 0 } else { units.len() * 2 + 2 }
}

const fn stream_len(name: &[u16]) -> usize {
    (STREAM_LEN + name_len(name)).next_multiple_of(8)
}

/// Bytes of the entry itself, and with its streams.
fn own_len(entry: &Entry) -> usize {
    (ENTRY_LEN + name_len(entry.name.units()) + name_len(entry.short_name())).next_multiple_of(8)
        + entry.extra().len()
}

fn entry_len(entry: &Entry) -> Result<usize> {
    let longest = usize::from(u16::MAX) / 2;
    let streams = entry.streams().iter().map(|stream| stream.name.units());
    if streams.clone().chain([entry.name.units(), entry.short_name()]).any(|units| units.len() > longest) {
        return Err(Error::request(
            format!("the name {:.40}… is too long for an image file", entry.name.to_string()),
            "shorten it",
        ));
    }
    if entry.streams().len() > usize::from(u16::MAX) {
        return Err(Error::request(format!("{} has more than 65,535 streams", entry.name), "remove some"));
    }
    Ok(own_len(entry).next_multiple_of(8) + streams.map(stream_len).sum::<usize>())
}

fn put_name(units: &[u16], bytes: &mut Vec<u8>) {
    if !units.is_empty() {
        bytes.extend(units.iter().flat_map(|unit| unit.to_le_bytes()));
        bytes.extend([0, 0]);
    }
}

fn pad(bytes: &mut Vec<u8>) {
    bytes.resize(bytes.len().next_multiple_of(8), 0);
}

fn put_entry(entry: &Entry, list: u64, bytes: &mut Vec<u8>) -> Result<()> {
    let expected = bytes.len() + entry_len(entry)?;
    let (unused, unknown) = entry.unused();
    let raw = RawEntry {
        length: (own_len(entry) as u64).into(),
        attributes: entry.attributes.into(),
        security_id: entry.security.into(),
        subdir_offset: list.into(),
        unused,
        creation_time: entry.times.created.into(),
        last_access_time: entry.times.accessed.into(),
        last_write_time: entry.times.written.into(),
        digest: entry.digest.0,
        unknown,
        link_or_reparse: entry.link,
        stream_count: (entry.streams().len() as u16).into(),
        short_name_len: (entry.short_name().len() as u16 * 2).into(),
        name_len: (entry.name.units().len() as u16 * 2).into(),
    };
    bytes.extend_from_slice(raw.as_bytes());
    put_name(entry.name.units(), bytes);
    put_name(entry.short_name(), bytes);
    pad(bytes);
    bytes.extend_from_slice(entry.extra());
    pad(bytes);
    for stream in entry.streams() {
        let raw = RawStream {
            length: (stream_len(stream.name.units()) as u64).into(),
            unused: stream.unused,
            digest: stream.digest.0,
            name_len: (stream.name.units().len() as u16 * 2).into(),
        };
        bytes.extend_from_slice(raw.as_bytes());
        put_name(stream.name.units(), bytes);
        pad(bytes);
    }
    debug_assert_eq!(bytes.len(), expected, "the two phases must agree");
    Ok(())
}

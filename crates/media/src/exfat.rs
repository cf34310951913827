//! Reading exFAT: the published "exFAT file system specification".

use crate::{Limits, iso9660::time::from_civil};
use neat_content::{
    Content, Error, FieldReader, Folder, Meta, NodeId, NodeKind, Piece, Result, Timestamp, Tree, check_name,
    read_vec,
};
use std::collections::HashSet;

/// Longest directory that is read, in bytes; the specification allows 256 MiB.
const LONGEST_DIRECTORY: u64 = 256 << 20;
const ENTRY: usize = 32;
const FILE: u8 = 0x85;
const STREAM: u8 = 0xC0;
const NAME: u8 = 0xC1;
const LABEL: u8 = 0x83;
const ATTRIBUTE_HIDDEN: u16 = 0x02;
const ATTRIBUTE_FOLDER: u16 = 0x10;
/// Clusters lie one after another, and the table says nothing of them.
const NO_CHAIN: u8 = 0x02;

/// Whether a volume begins as one of this file system does.
pub fn is_exfat(start: &[u8]) -> bool {
    start.get(3..11) == Some(b"EXFAT   ")
}

struct Volume<'a> {
    image: &'a Content,
    cluster: u64,
    clusters: u32,
    heap: u64,
    table: Vec<u8>,
}

/// The tree and the label of the exFAT file system in `image`.
///
/// # Errors
/// `Corrupt` with the field and the offset, `LimitExceeded` for too many entries, `Io`.
pub fn read(image: &Content, limits: &Limits) -> Result<(Tree, String)> {
    let boot = read_vec(image, 0, 512, 512, "boot sector")?;
    let bad = |field: &'static str, offset: u64, expected: &str, found: String| {
        Error::bad_field("ExfatBoot", field, offset, expected, found)
    };
    if !is_exfat(&boot) {
        return Err(bad("name", 3, "\"EXFAT   \"", "another".into()));
    }
    let mut fields = FieldReader::new(&boot, 0, "ExfatBoot");
    fields.seek(80)?;
    let (table_at, table_len) = (u64::from(fields.u32_le()?), u64::from(fields.u32_le()?));
    let (heap, clusters, root) = (u64::from(fields.u32_le()?), fields.u32_le()?, fields.u32_le()?);
    fields.seek(108)?;
    let (sector_bits, cluster_bits) = (u32::from(fields.u8()?), u32::from(fields.u8()?));
    if !(9..=12).contains(&sector_bits) || sector_bits + cluster_bits > 25 {
        let found = format!("2^{sector_bits} bytes, 2^{cluster_bits} sectors");
        return Err(bad("sizes", 108, "sectors of 512 to 4096 bytes, clusters up to 32 MiB", found));
    }
    let needed = (u64::from(clusters) + 2) * 4;
    if needed > table_len << sector_bits {
        return Err(bad("table", 84, "an entry for each cluster", table_len.to_string()));
    }
    let table =
        read_vec(image, table_at << sector_bits, needed, limits.allocation_table, "file allocation table")?;
    let volume = Volume {
        image,
        cluster: 1 << (sector_bits + cluster_bits),
        clusters,
        heap: heap << sector_bits,
        table,
    };
    let mut tree = Tree::default();
    let mut label = String::new();
    let mut visited = HashSet::from([root]);
    let mut pending = vec![(Tree::ROOT, volume.chain(root, None)?)];
    while let Some((node, directory)) = pending.pop() {
        let bytes = directory.to_vec(LONGEST_DIRECTORY, "directory")?;
        let own = volume.folder(&mut tree, node, &bytes, (&mut pending, &mut visited), limits)?;
        if node == Tree::ROOT {
            label = own;
        }
    }
    Ok((tree, label))
}

/// Folders still to be read, and the first clusters of all that were found.
type Found<'a> = (&'a mut Vec<(NodeId, Content)>, &'a mut HashSet<u32>);

impl Volume<'_> {
    fn place(&self, cluster: u32) -> Result<u64> {
        let index = cluster.checked_sub(2).filter(|index| *index < self.clusters);
        let index = index.ok_or_else(|| {
            let expected = format!("2 to {}", u64::from(self.clusters) + 1);
            Error::bad_field("ExfatTable", "cluster", self.heap, expected, cluster)
        })?;
        Ok(self.heap + u64::from(index) * self.cluster)
    }

    /// The clusters that the table names one after another, up to `len` bytes or its end mark.
    fn chain(&self, first: u32, len: Option<u64>) -> Result<Content> {
        let (mut pieces, mut cluster, mut gathered) = (Vec::new(), first, 0);
        while len.is_none_or(|len| gathered < len) {
            let step = len.map_or(self.cluster, |len| self.cluster.min(len - gathered));
            pieces.extend(self.image.part(self.place(cluster)?, step)?.pieces().iter().cloned());
            gathered += self.cluster;
            if gathered / self.cluster > u64::from(self.clusters) {
                let offset = self.place(first)?;
                return Err(Error::Loop { what: "chain of clusters".into(), offset });
            }
            let at = cluster as usize * 4;
            let next = self
                .table
                .get(at..at + 4)
                .map_or(u32::MAX, |four| u32::from_le_bytes([four[0], four[1], four[2], four[3]]));
            if next == u32::MAX {
                break;
            }
            cluster = next;
        }
        let content = Content::from_pieces(pieces)?;
        match len {
            Some(len) if content.len() < len => Err(Error::Truncated {
                what: "chain of clusters".into(),
                offset: self.place(first)?,
                wanted: len,
                available: content.len(),
            }),
            _ => Ok(content),
        }
    }

    fn content(&self, stream: &Stream) -> Result<Content> {
        if stream.len == 0 {
            return Ok(Content::default());
        }
        let valid = stream.valid.min(stream.len);
        let stored = if stream.flags & NO_CHAIN == 0 {
            self.chain(stream.first, Some(valid))?
        } else {
            // One after another, within the volume.
            let last = u64::from(stream.first) + stream.len.div_ceil(self.cluster) - 1;
            self.place(u32::try_from(last).unwrap_or(u32::MAX))?;
            self.image.part(self.place(stream.first)?, valid)?
        };
        // What was never written reads as zeros.
        let rest = Piece::Zeros(stream.len - valid);
        Content::from_pieces(stored.pieces().iter().cloned().chain([rest]))
    }

    /// Reads a folder's entries; returns the label of the volume, which stands in the root.
    fn folder(
        &self,
        tree: &mut Tree,
        node: NodeId,
        bytes: &[u8],
        (pending, visited): Found<'_>,
        limits: &Limits,
    ) -> Result<String> {
        let mut label = String::new();
        let entries: Vec<&[u8]> = bytes.chunks_exact(ENTRY).collect();
        let mut at = 0;
        while let Some(entry) = entries.get(at) {
            let followed = match entry[0] {
                0 => break,
                LABEL => {
                    let len = usize::from(entry[1]).min(11) * 2;
                    label = text(&entry[2..2 + len]);
                    0
                }
                FILE => {
                    let count = usize::from(entry[1]);
                    let set = entries.get(at..=at + count).ok_or_else(|| Error::Truncated {
                        what: "set of directory entries".into(),
                        offset: 0,
                        wanted: count as u64 + 1,
                        available: (entries.len() - at) as u64,
                    })?;
                    let (name, meta, is_folder, stream) = file_of(set)?;
                    limits.check_entries(tree.capacity(), 0)?;
                    if is_folder {
                        if stream.len > 0 && !visited.insert(stream.first) {
                            let offset = self.place(stream.first)?;
                            return Err(Error::Loop { what: format!("directory {name}"), offset });
                        }
                        let id = tree.add(node, &name, meta, NodeKind::Folder(Folder::default()))?;
                        pending.push((id, self.content(&stream).map_err(|error| error.within(&name))?));
                    } else {
                        let content = self.content(&stream).map_err(|error| error.within(&name))?;
                        tree.add(node, &name, meta, NodeKind::File(content))?;
                    }
                    count
                }
                _ => 0,
            };
            at += 1 + followed;
        }
        Ok(label)
    }
}

fn text(bytes: &[u8]) -> String {
    let units = bytes.chunks_exact(2).map(|two| u16::from_le_bytes([two[0], two[1]]));
    char::decode_utf16(units).map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
}

/// Where content is.
#[derive(Default)]
struct Stream {
    flags: u8,
    valid: u64,
    first: u32,
    len: u64,
}

/// What a set of entries says of a file: name, time, whether it is a folder, where it is.
fn file_of(set: &[&[u8]]) -> Result<(String, Meta, bool, Stream)> {
    // The sum of all bytes but its own two (6.3.3).
    let sum = set
        .concat()
        .iter()
        .enumerate()
        .filter(|(at, _)| !matches!(at, 2 | 3))
        .fold(0_u16, |sum, (_, byte)| sum.rotate_right(1).wrapping_add(u16::from(*byte)));
    let head = set[0];
    let own = u16::from_le_bytes([head[2], head[3]]);
    if sum != own {
        let (expected, found) = (format!("{sum:#06x}"), format!("{own:#06x}"));
        return Err(Error::bad_field("ExfatEntry", "checksum", 2, expected, found));
    }
    let attributes = u16::from_le_bytes([head[4], head[5]]);
    let mut fields = FieldReader::new(head, 0, "ExfatEntry");
    fields.seek(12)?;
    let (time, date) = (i64::from(fields.u16_le()?), i64::from(fields.u16_le()?));
    let civil = [1980 + (date >> 9), date >> 5 & 15, date & 31, time >> 11, time >> 5 & 63, (time & 31) * 2];
    // Quarters of an hour from universal time, where the highest bit says that they count.
    let zone = if head[23] & 0x80 == 0 { 0 } else { i64::from((head[23] << 1).cast_signed() >> 1) * 15 * 60 };
    let mut modified = from_civil(civil, 0, 0).unwrap_or_default();
    modified = Timestamp { seconds: modified.seconds - zone, ..modified };
    let hidden = attributes & ATTRIBUTE_HIDDEN != 0;
    let mut stream = Stream::default();
    let (mut name, mut len) = (Vec::new(), 0);
    for entry in &set[1..] {
        let mut fields = FieldReader::new(entry, 0, "ExfatEntry");
        match fields.u8()? {
            STREAM => {
                stream.flags = fields.u8()?;
                fields.skip(1)?;
                len = usize::from(fields.u8()?);
                fields.skip(4)?;
                stream.valid = fields.u64_le()?;
                fields.skip(4)?;
                (stream.first, stream.len) = (fields.u32_le()?, fields.u64_le()?);
            }
            NAME => name.extend_from_slice(&entry[2..]),
            _ => {}
        }
    }
    let name = text(name.get(..2 * len).unwrap_or(&name));
    check_name(&name)
        .map_err(|expected| Error::bad_field("ExfatEntry", "name", 0, expected, format!("{name:?}")))?;
    Ok((name, Meta { modified, mode: None, hidden }, attributes & ATTRIBUTE_FOLDER != 0, stream))
}

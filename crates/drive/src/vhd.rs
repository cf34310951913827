//! VHD: the published "Virtual Hard Disk Image Format Specification", version 1.0. Numbers are big-endian.

use crate::{
    Disk, Form,
    map::{BlockMap, Lies, Recent, Span, behind, disk},
    open::Opening,
};
use neat_content::{Content, Error, FieldReader, Result, read_vec};

const FOOTER_LEN: u64 = 512;
const SECTOR: u64 = 512;
/// Most blocks that are followed; 2 TiB of the usual 2 MiB are one million.
const MOST_BLOCKS: u64 = 16 << 20;
/// Nothing lies there.
const NOWHERE: u32 = u32::MAX;

/// What stands at the end of the file.
pub(crate) struct Footer {
    at: u64,
    header_at: u64,
    len: u64,
    kind: u32,
    id: [u8; 16],
}

/// The footer, or its copy at the start of a disk that grows; none where the file is of another form.
pub(crate) fn footer(file: &Content) -> Result<Option<Footer>> {
    let len = file.len();
    // Older programs end the file a byte early.
    let ends = [len.checked_sub(FOOTER_LEN), len.checked_sub(FOOTER_LEN - 1), Some(0)];
    for at in ends.into_iter().flatten() {
        let bytes = file.part(at, FOOTER_LEN.min(len - at))?.to_vec(FOOTER_LEN, "footer")?;
        // Only where the sum fits: any disk may hold this word somewhere.
        if bytes.len() >= 511 && bytes.starts_with(b"conectix") && sum_fits(&bytes, 64) {
            return parse_footer(&bytes, at).map(Some);
        }
    }
    Ok(None)
}

/// Whether the sum of all bytes, without the four at `place`, is the complement of what stands there.
fn sum_fits(bytes: &[u8], place: usize) -> bool {
    let sum: u32 = bytes.iter().map(|byte| u32::from(*byte)).sum();
    let own = &bytes[place..place + 4];
    let without = sum - own.iter().map(|byte| u32::from(*byte)).sum::<u32>();
    own == (!without).to_be_bytes()
}

fn parse_footer(bytes: &[u8], at: u64) -> Result<Footer> {
    let mut fields = FieldReader::new(bytes, at, "VhdFooter");
    fields.seek(16)?;
    let header_at = fields.u64_be()?;
    fields.seek(48)?;
    let len = fields.u64_be()?;
    fields.seek(60)?;
    let kind = fields.u32_be()?;
    fields.seek(68)?;
    Ok(Footer { at, header_at, len, kind, id: fields.array()? })
}

struct Map {
    file: Content,
    parent: Option<Content>,
    len: u64,
    block: u64,
    /// Sector of each block.
    blocks: Vec<u32>,
    maps: Recent,
}

/// Opens the disk that `footer` describes.
pub(crate) fn open(file: &Content, footer: &Footer, opening: &Opening<'_>) -> Result<Disk> {
    let found = |content| Disk { content, form: Form::Vhd, notes: Vec::new() };
    match footer.kind {
        2 => {
            if footer.len > footer.at {
                let expected = format!("at most {}", footer.at);
                return Err(Error::bad_field("VhdFooter", "size", footer.at + 48, expected, footer.len));
            }
            Ok(found(file.part(0, footer.len)?))
        }
        3 | 4 => {
            let head = read_vec(file, footer.header_at, 1024, 1024, "header of a growing disk")?;
            let mut fields = FieldReader::new(&head, footer.header_at, "VhdHeader");
            if fields.take(8)? != b"cxsparse" || !sum_fits(&head, 36) {
                let expected = "\"cxsparse\" and a sum that fits";
                return Err(Error::bad_field("VhdHeader", "cookie", footer.header_at, expected, "another"));
            }
            fields.seek(16)?;
            let table_at = fields.u64_be()?;
            fields.skip(4)?;
            let (count, block) = (u64::from(fields.u32_be()?), u64::from(fields.u32_be()?));
            if !block.is_power_of_two() || !(SECTOR..=1 << 30).contains(&block) {
                let expected = "a power of two from 512 to 1 GiB";
                return Err(Error::bad_field(
                    "VhdHeader",
                    "block size",
                    footer.header_at + 32,
                    expected,
                    block,
                ));
            }
            let needed = footer.len.div_ceil(block);
            if needed > count {
                let expected = format!("at least {needed}");
                return Err(Error::bad_field("VhdHeader", "blocks", footer.header_at + 28, expected, count));
            }
            let table = read_vec(file, table_at, needed * 4, MOST_BLOCKS * 4, "table of blocks")?;
            let blocks =
                table.chunks_exact(4).map(|four| u32::from_be_bytes([four[0], four[1], four[2], four[3]]));
            let (mut parent, mut notes) = (None, Vec::new());
            if footer.kind == 4 {
                let behind = open_parent(file, &head, footer.header_at, opening)?;
                notes.extend(behind.notes);
                parent = Some(behind.content);
            }
            let map = Map {
                file: file.clone(),
                parent,
                len: footer.len,
                block,
                blocks: blocks.collect(),
                maps: Recent::new(8 << 20),
            };
            Ok(Disk { notes, ..found(disk(map)) })
        }
        other => Err(Error::Unsupported { what: format!("kind {other} of a VHD"), offset: footer.at + 60 }),
    }
}

/// The disk behind: by the name that is relative, or by that of the file alone.
fn open_parent(file: &Content, head: &[u8], at: u64, opening: &Opening<'_>) -> Result<Disk> {
    let mut fields = FieldReader::new(head, at, "VhdHeader");
    fields.seek(40)?;
    let id: [u8; 16] = fields.array()?;
    fields.seek(64)?;
    let units = |bytes: &[u8], of: fn([u8; 2]) -> u16| -> String {
        let all: Vec<u16> =
            bytes.chunks_exact(2).map(|two| of([two[0], two[1]])).take_while(|unit| *unit != 0).collect();
        String::from_utf16_lossy(&all)
    };
    let own = units(fields.take(512)?, u16::from_be_bytes);
    let mut names = Vec::new();
    for _ in 0..8 {
        let code = fields.array::<4>()?;
        fields.skip(4)?;
        let len = u64::from(fields.u32_be()?);
        fields.skip(4)?;
        let place = fields.u64_be()?;
        if code == *b"W2ru" {
            names.push(units(
                &read_vec(file, place, len, 4096, "name of the disk behind")?,
                u16::from_le_bytes,
            ));
        }
    }
    names.push(own);
    let names = names.iter().map(|name| name.replace('\\', "/"));
    let mut last = None;
    for name in names.flat_map(|name| {
        let short = name.trim_start_matches("./").to_owned();
        let file = name.rsplit('/').next().unwrap_or_default().to_owned();
        [short, file]
    }) {
        match opening.parent(&name, false) {
            Ok(parent) => {
                check_parent(&opening.beside(&name)?, id)?;
                return Ok(parent);
            }
            Err(error) if error.is_io() => return Err(error),
            Err(error) => last = Some(error),
        }
    }
    Err(last.unwrap_or_else(|| Error::bad_field("VhdHeader", "disk behind", at + 64, "a name", "none")))
}

/// Whether the disk behind is the one that was meant when this one was made.
fn check_parent(path: &std::path::Path, id: [u8; 16]) -> Result<()> {
    let parent = Content::from_source(neat_content::Source::open(path)?);
    if footer(&parent)?.is_some_and(|footer| footer.id != id) {
        return Err(Error::mismatch(
            format!("the disk that this one stands on as {}", path.display()),
            "another disk of that name",
            "put the right one there",
        ));
    }
    Ok(())
}

impl BlockMap for Map {
    fn len(&self) -> u64 {
        self.len
    }

    fn span(&self, at: u64) -> Result<Span> {
        let (number, skip) = ((at / self.block) as usize, at % self.block);
        let left = (self.block - skip).min(self.len - at);
        let sector = self.blocks.get(number).copied().unwrap_or(NOWHERE);
        if sector == NOWHERE {
            return Ok(behind(self.parent.as_ref(), at, left));
        }
        // Before each block stands a bit for each of its sectors.
        let map_at = u64::from(sector) * SECTOR;
        let map_len = (self.block / SECTOR / 8).max(1).next_multiple_of(SECTOR);
        let place = map_at + map_len + skip;
        let Some(parent) = &self.parent else {
            return self.stored(place, left);
        };
        let map =
            self.maps.get(map_at, || read_vec(&self.file, map_at, map_len, 1 << 20, "map of sectors"))?;
        let is_here = |sector: u64| {
            map.get((sector / 8) as usize).is_some_and(|byte| byte >> (7 - sector % 8) & 1 == 1)
        };
        let first = skip / SECTOR;
        let here = is_here(first);
        let mut end = first + 1;
        while end * SECTOR < skip + left && is_here(end) == here {
            end += 1;
        }
        let len = left.min(end * SECTOR - skip);
        if here { self.stored(place, len) } else { Ok(behind(Some(parent), at, len)) }
    }

    fn files(&self) -> Vec<Content> {
        std::iter::once(self.file.clone()).chain(self.parent.clone()).collect()
    }
}

impl Map {
    fn stored(&self, place: u64, len: u64) -> Result<Span> {
        // The last block may end with the file.
        let there = self.file.len().saturating_sub(place);
        if there == 0 {
            let expected = format!("a block within {} bytes", self.file.len());
            return Err(Error::bad_field("VhdTable", "block", place, expected, format!("{place:#x}")));
        }
        Ok(Span { lies: Lies::In(self.file.clone(), place), len: len.min(there) })
    }
}

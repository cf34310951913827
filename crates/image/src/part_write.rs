//! Writing one file of an image file.

use crate::{
    BlobDigest, BlobHasher, Compression, Method, Packing, Solid, Stored,
    integrity::IntegrityTable,
    layout::{
        FLAG_COMPRESSION, FLAG_LZMS, FLAG_LZX, FLAG_SPANNED, FLAG_XPRESS, HEADER_LEN, MAGIC,
        RESOURCE_COMPRESSED, RESOURCE_METADATA, RESOURCE_SOLID, RawHeader, RawPlace, RawTableEntry,
        SOLID_MARK, VERSION, VERSION_SOLID,
    },
    pack::{Packed, RawBlob, pack},
    sink::Sink,
    solid_write::{SolidCompression, group, write_groups},
    stored::entry_width,
    xml::{self, Element},
};
use neat_content::{Content, Error, Event, Job, Result};
use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};
use zerocopy::IntoBytes;

/// What is known of a resource before it is written.
#[derive(Clone)]
pub(crate) struct Resource {
    pub digest: BlobDigest,
    pub references: u32,
    pub raw_len: u64,
    pub body: Body,
    /// The edition whose tree it is, numbered from 1; nothing for content.
    pub tree_of: Option<usize>,
}

/// Where the bytes of a resource come from.
#[derive(Clone)]
pub(crate) enum Body {
    /// As they lie in a source, copied.
    Kept(Stored),
    /// From a source, decompressed.
    Unpacked(Stored),
    /// New.
    New(Content),
    /// Written already, there.
    Written(Placed),
}

impl RawBlob for Resource {
    fn len(&self) -> u64 {
        self.raw_len
    }
    fn is_digested(&self) -> bool {
        true
    }
    fn digested(&self, found: BlobDigest) -> Result<()> {
        if found == self.digest {
            return Ok(());
        }
        Err(Error::mismatch(
            format!("content with the SHA-1 {}", self.digest),
            found.to_string(),
            "the file is damaged, or changed while it was in use",
        ))
    }
    /// Put together when somebody asks: there are a hundred thousand resources, and errors are rare.
    fn name(&self) -> String {
        match (self.tree_of, &self.body) {
            (Some(number), _) => format!("tree of edition {number}"),
            (None, Body::Written(_)) => format!("blob {}", self.digest),
            (None, Body::Kept(stored) | Body::Unpacked(stored)) => {
                format!("blob {} at byte {:#x}", self.digest, stored.offset)
            }
            (None, Body::New(content)) => match content.pieces() {
                [neat_content::Piece::Extent { source, .. }, ..] => source.path().display().to_string(),
                _ => "new content".into(),
            },
        }
    }
    fn read(&self, job: &Job<'_>, each: &mut dyn FnMut(&[u8]) -> Result<()>) -> Result<()> {
        match &self.body {
            Body::Kept(stored) | Body::Unpacked(stored) => stored.read_unchecked(job, each),
            Body::New(content) => content.for_each_block(256 << 10, job, each),
            Body::Written(_) => Err(Error::internal("content that is written is read once more")),
        }
    }
}

impl Resource {
    /// Calls `each` with its bytes in order and compares the digest at the end.
    pub(crate) fn read_checked(
        &self,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        let mut hasher = BlobHasher::default();
        self.read(job, &mut |bytes| {
            hasher.add(bytes);
            each(bytes)
        })?;
        self.digested(hasher.finish())
    }
}

/// Everything that one file consists of.
pub(crate) struct PartPlan {
    pub flags: u32,
    /// Method and chunk size in the header.
    pub declared: Option<(Method, u32)>,
    /// How new resources are compressed; without it they are stored as they are.
    pub compression: Option<Compression>,
    /// How new blobs are put into solid resources, if they are.
    pub solid: Option<SolidCompression>,
    pub guid: [u8; 16],
    pub part: u16,
    pub parts: u16,
    pub editions: u32,
    pub boot: u32,
    pub blobs: Vec<Resource>,
    pub metadata: Vec<Resource>,
    pub xml: Element,
    pub integrity: bool,
}

/// Where a resource was put.
#[derive(Clone, Copy, Default)]
pub(crate) struct Placed {
    pub offset: u64,
    pub len: u64,
    pub compressed: bool,
}

/// Writes the file to `sink`, which is empty.
pub(crate) fn write_part(plan: &PartPlan, threads: usize, sink: &mut dyn Sink, job: &Job<'_>) -> Result<()> {
    start_part(sink)?;
    finish_part(plan, threads, sink, job)
}

/// Makes room for the header.
pub(crate) fn start_part(sink: &mut dyn Sink) -> Result<()> {
    sink.bytes(&[0; HEADER_LEN as usize])
}

/// Writes what comes behind the header and what is written already.
pub(crate) fn finish_part(plan: &PartPlan, threads: usize, sink: &mut dyn Sink, job: &Job<'_>) -> Result<()> {
    let solids = solid_groups(&plan.blobs);
    let mut solid_places = Vec::with_capacity(solids.len());
    for group in &solids {
        solid_places.push(Placed { offset: sink.position(), len: group.packed_len(), compressed: true });
        sink.content(group.bytes(), job)?;
    }
    let mut new_solids = plan.solid.map_or_else(Vec::new, |solid| group(&plan.blobs, solid.chunk_len));
    if let Some(solid) = plan.solid {
        write_groups(&mut new_solids, &plan.blobs, solid, threads, sink, job)?;
    }
    // The blobs of each solid resource, kept ones first.
    let mut runs: Vec<(Placed, Vec<(usize, u64)>)> =
        solid_places.into_iter().map(|place| (place, Vec::new())).collect();
    let mut is_solid = vec![false; plan.blobs.len()];
    let kept_solids: HashMap<_, _> =
        solids.iter().enumerate().map(|(n, group)| (Arc::as_ptr(group), n)).collect();
    for (number, resource) in plan.blobs.iter().enumerate() {
        if let Some((group, start)) = resource.kept_solid() {
            runs[kept_solids[&Arc::as_ptr(group)]].1.push((number, start));
        }
    }
    runs.extend(
        new_solids
            .into_iter()
            .map(|group| (Placed { offset: group.offset, len: group.len, compressed: true }, group.members)),
    );
    runs.iter().flat_map(|(_, members)| members).for_each(|(number, _)| is_solid[*number] = true);
    let all: Vec<&Resource> = plan.blobs.iter().chain(&plan.metadata).collect();
    let mut placed: Vec<Placed> = all.iter().map(|resource| resource.written().unwrap_or_default()).collect();
    copy_kept(&all, &mut placed, sink, job)?;
    let fresh = |n: &usize| {
        !matches!(all[*n].body, Body::Kept(_) | Body::Written(_))
            && !is_solid.get(*n).copied().unwrap_or(false)
    };
    let numbers: Vec<usize> = (0..all.len()).filter(fresh).collect();
    write_fresh(&all, &numbers, &mut placed, plan.compression, threads, sink, job)?;
    let (blob_places, metadata_places) = placed.split_at(plan.blobs.len());

    let table_offset = sink.position();
    let entry = |place: RawPlace, digest: BlobDigest, references: u32, sink: &mut dyn Sink| {
        let raw = RawTableEntry {
            place,
            part_number: plan.part.into(),
            reference_count: references.into(),
            digest: digest.0,
        };
        sink.bytes(raw.as_bytes())
    };
    let plain = |placed: &Placed, raw_len: u64, flags: u8| {
        let flags = flags | if placed.compressed { RESOURCE_COMPRESSED } else { 0 };
        RawPlace::new(placed.len, flags, placed.offset, raw_len)
    };
    for (resource, placed) in plan.metadata.iter().zip(metadata_places) {
        entry(plain(placed, resource.raw_len, RESOURCE_METADATA), resource.digest, 1, sink)?;
    }
    for ((resource, placed), is_solid) in plan.blobs.iter().zip(blob_places).zip(&is_solid) {
        if !is_solid {
            entry(plain(placed, resource.raw_len, 0), resource.digest, resource.references, sink)?;
        }
    }
    // Each solid resource and its blobs make a run of their own.
    for (place, members) in &runs {
        let place = RawPlace::new(place.len, RESOURCE_SOLID, place.offset, SOLID_MARK);
        entry(place, BlobDigest::NONE, 1, sink)?;
        for (number, start) in members {
            let resource = &plan.blobs[*number];
            let place = RawPlace::new(resource.raw_len, RESOURCE_SOLID, *start, resource.raw_len);
            entry(place, resource.digest, resource.references, sink)?;
        }
    }
    let table_len = sink.position() - table_offset;

    let xml_offset = sink.position();
    let mut xml = plan.xml.clone();
    set_total_bytes(&mut xml, xml_offset);
    let xml = xml::encode(&xml.to_text());
    sink.bytes(&xml)?;
    let mut integrity = RawPlace::default();
    if plan.integrity {
        let covered = sink.taken(HEADER_LEN, table_offset + table_len)?;
        let table = Content::deferred(Arc::new(IntegrityTable { covered }));
        integrity = RawPlace::new(table.len(), RESOURCE_METADATA, sink.position(), table.len());
        sink.content(&table, job)?;
    }
    let boot_metadata = match (plan.boot as usize)
        .checked_sub(1)
        .and_then(|n| plan.metadata.get(n).zip(metadata_places.get(n)))
    {
        Some((resource, placed)) => plain(placed, resource.raw_len, RESOURCE_METADATA),
        None => RawPlace::default(),
    };
    let header = RawHeader {
        magic: MAGIC,
        header_size: (HEADER_LEN as u32).into(),
        version: if runs.is_empty() { VERSION } else { VERSION_SOLID }.into(),
        flags: (plan.flags | flags_of(plan.declared) | if plan.parts > 1 { FLAG_SPANNED } else { 0 }).into(),
        chunk_size: plan.declared.map_or(0, |(_, chunk_len)| chunk_len).into(),
        guid: plan.guid,
        part_number: plan.part.into(),
        total_parts: plan.parts.into(),
        image_count: plan.editions.into(),
        resource_table: RawPlace::new(table_len, RESOURCE_METADATA, table_offset, table_len),
        xml: RawPlace::new(xml.len() as u64, RESOURCE_METADATA, xml_offset, xml.len() as u64),
        boot_metadata,
        boot_index: plan.boot.into(),
        integrity,
        unused: [0; 60],
    };
    sink.patch(0, header.as_bytes())
}

const fn flags_of(declared: Option<(Method, u32)>) -> u32 {
    match declared {
        None => 0,
        Some((Method::Xpress, _)) => FLAG_COMPRESSION | FLAG_XPRESS,
        Some((Method::Lzx, _)) => FLAG_COMPRESSION | FLAG_LZX,
        Some((Method::Lzms, _)) => FLAG_COMPRESSION | FLAG_LZMS,
    }
}

/// The outer `TOTALBYTES` is where the XML data begins.
fn set_total_bytes(xml: &mut Element, offset: u64) {
    let text = offset.to_string();
    if xml.child("TOTALBYTES").is_some() {
        xml.set("TOTALBYTES", Some(&text));
    } else {
        xml.children.insert(0, xml::Child::Element(Element::with_text("TOTALBYTES", &text)));
    }
}

impl Resource {
    /// Where it is, if it is written already.
    const fn written(&self) -> Option<Placed> {
        match self.body {
            Body::Written(placed) => Some(placed),
            _ => None,
        }
    }

    fn kept_solid(&self) -> Option<(&Arc<Solid>, u64)> {
        match &self.body {
            Body::Kept(Stored { packing: Packing::Solid { group, start }, .. }) => Some((group, *start)),
            _ => None,
        }
    }
}

/// The solid resources that kept blobs lie in, each once.
fn solid_groups(blobs: &[Resource]) -> Vec<Arc<Solid>> {
    let mut seen = HashSet::new();
    let kept = blobs.iter().filter_map(Resource::kept_solid);
    kept.filter(|(group, _)| seen.insert(Arc::as_ptr(group))).map(|(group, _)| Arc::clone(group)).collect()
}

/// Copies what is kept. Neighbours in the source stay neighbours, so that they are copied together.
fn copy_kept(all: &[&Resource], placed: &mut [Placed], sink: &mut dyn Sink, job: &Job<'_>) -> Result<()> {
    let total =
        all.iter().filter_map(|resource| resource.kept_plainly()).map(|stored| stored.bytes.len()).sum();
    if total == 0 {
        return Ok(());
    }
    job.event(Event::StepStarted { step: "copying what stays as it is", total_bytes: Some(total) });
    let start = sink.position();
    let mut at = start;
    let mut pieces = Vec::new();
    for (resource, placed) in all.iter().zip(placed) {
        if let Some(stored) = resource.kept_plainly() {
            let compressed = !matches!(stored.packing, Packing::Plain);
            *placed = Placed { offset: at, len: stored.bytes.len(), compressed };
            at += stored.bytes.len();
            pieces.extend(stored.bytes.pieces().iter().cloned());
        }
    }
    sink.content(&Content::from_pieces(pieces)?, job)?;
    job.event(Event::StepFinished);
    Ok(())
}

impl Resource {
    /// How it lies in its source, if it is copied from there and not part of a solid resource.
    fn kept_plainly(&self) -> Option<&Stored> {
        match &self.body {
            Body::Kept(stored) if !matches!(stored.packing, Packing::Solid { .. }) => Some(stored),
            _ => None,
        }
    }
}

/// Writes what is new or changes its compression, by `numbers` among all.
fn write_fresh(
    all: &[&Resource],
    numbers: &[usize],
    placed: &mut [Placed],
    compression: Option<Compression>,
    threads: usize,
    sink: &mut dyn Sink,
    job: &Job<'_>,
) -> Result<()> {
    if numbers.is_empty() {
        return Ok(());
    }
    let total = numbers.iter().map(|n| all[*n].raw_len).sum();
    let Some(compression) = compression else {
        job.event(Event::StepStarted { step: "writing content", total_bytes: Some(total) });
        for n in numbers {
            placed[*n] = Placed { offset: sink.position(), len: all[*n].raw_len, compressed: false };
            sink.content(&all[*n].plain_content(), job)?;
        }
        job.event(Event::StepFinished);
        return Ok(());
    };
    job.event(Event::StepStarted { step: "compressing", total_bytes: Some(total) });
    let blobs: Vec<&dyn RawBlob> = numbers.iter().map(|n| all[*n] as &dyn RawBlob).collect();
    let mut current = OpenResource::default();
    let mut opened = 0;
    pack(&blobs, Some(compression), (threads, 4), job, &mut |packed| match packed {
        Packed::Chunk(bytes, raw_len) => {
            if current.chunks == 0 {
                current = OpenResource::start(all[numbers[opened]].raw_len, compression.chunk_len, sink)?;
            }
            job.event(Event::BytesDone(raw_len as u64));
            current.chunk(bytes, raw_len, sink)
        }
        Packed::End(number) => {
            let resource = all[numbers[number]];
            let ended = std::mem::take(&mut current);
            placed[numbers[number]] =
                ended.end(resource.raw_len, &|| resource.name(), sink, &mut |sink| {
                    resource.read_checked(job, &mut |bytes| sink.bytes(bytes))
                })?;
            opened = number + 1;
            Ok(())
        }
    })?;
    job.event(Event::StepFinished);
    Ok(())
}

impl Resource {
    /// The bytes before compression, checked against the digest where they come from a source.
    fn plain_content(&self) -> Content {
        match &self.body {
            Body::Kept(stored) | Body::Unpacked(stored) => stored.content(self.digest, &self.name()),
            Body::New(content) => content.clone(),
            // Written once and never again.
            Body::Written(_) => Content::default(),
        }
    }
}

/// A resource whose chunks are being written.
#[derive(Default)]
pub(crate) struct OpenResource {
    start: u64,
    /// First byte of the first chunk.
    base: u64,
    width: u64,
    chunks: u64,
    /// Whether a chunk shrank.
    shrank: bool,
    table: Vec<u8>,
}

impl OpenResource {
    pub(crate) fn start(raw_len: u64, chunk_len: u32, sink: &mut dyn Sink) -> Result<Self> {
        let (start, width) = (sink.position(), entry_width(raw_len));
        let table_len = raw_len.div_ceil(u64::from(chunk_len)).saturating_sub(1) * width;
        sink.bytes(&vec![0; table_len as usize])?;
        Ok(Self {
            start,
            base: start + table_len,
            width,
            chunks: 0,
            shrank: false,
            table: Vec::with_capacity(table_len as usize),
        })
    }

    /// Whether no chunk came yet.
    pub(crate) const fn is_empty(&self) -> bool {
        self.chunks == 0
    }

    pub(crate) fn chunk(&mut self, bytes: &[u8], raw_len: usize, sink: &mut dyn Sink) -> Result<()> {
        self.shrank |= bytes.len() < raw_len;
        if self.chunks > 0 {
            let offset = sink.position() - self.base;
            self.table.extend(&offset.to_le_bytes()[..self.width as usize]);
        }
        self.chunks += 1;
        sink.bytes(bytes)
    }

    /// Ends the resource, whose content has `raw_len` bytes and is called `name`; `again` writes that once more as it is.
    pub(crate) fn end(
        self,
        raw_len: u64,
        name: &dyn Fn() -> String,
        sink: &mut dyn Sink,
        again: &mut dyn FnMut(&mut dyn Sink) -> Result<()>,
    ) -> Result<Placed> {
        if self.chunks == 0 {
            return Ok(Placed { offset: sink.position(), len: 0, compressed: false });
        }
        let len = sink.position() - self.start;
        if len < raw_len {
            if !self.table.is_empty() {
                sink.patch(self.start, &self.table)?;
            }
            return Ok(Placed { offset: self.start, len, compressed: true });
        }
        // It did not shrink: stored as it is, without a table.
        if !self.table.is_empty() {
            sink.rewind(self.start)?;
            again(sink)?;
        }
        if sink.position() - self.start != raw_len {
            return Err(Error::Mismatch {
                expected: format!("{raw_len} bytes of {}", name()),
                found: (sink.position() - self.start).to_string(),
                hint: "the file changed while it was in use".into(),
            });
        }
        Ok(Placed { offset: self.start, len: raw_len, compressed: false })
    }

    /// The content as it lies behind the table, if all its chunks are stored as they are.
    pub(crate) const fn stored(&self, raw_len: u64, end: u64) -> Option<Placed> {
        if self.shrank || end - self.base != raw_len {
            return None;
        }
        Some(Placed { offset: self.base, len: raw_len, compressed: false })
    }

    /// Where it begins.
    pub(crate) const fn begin(&self) -> u64 {
        self.start
    }
}

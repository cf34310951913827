//! Values of attributes put together, and their content.

use crate::{
    lznt1,
    record::{Attribute, Body, COMPRESSED, ENCRYPTED},
    runs::{self, Run},
};
use neat_content::{Clip, Content, Error, Job, Piece, Producer, ReadAt, Result, Source};
use std::{ops::Range, sync::Arc};

/// Most clusters that are compressed together, in bytes; a unit is 64 KiB at most where systems write it.
const LARGEST_UNIT: u64 = 1 << 20;

/// A value, all its stretches put together.
pub(crate) struct Value {
    pub kind: u32,
    pub name: Vec<u16>,
    pub flags: u16,
    /// Where its first attribute stands, in bytes from the start of the volume.
    pub at: u64,
    pub body: Kept,
}

/// Where a value is.
pub(crate) enum Kept {
    /// In record `record` from byte `start` on.
    Here {
        bytes: Vec<u8>,
        record: u64,
        start: usize,
    },
    Clusters {
        unit: u8,
        size: u64,
        valid: u64,
        runs: Vec<Run>,
    },
}

/// Puts the stretches of values together. `attributes` are those of one file, with the record that each stands in.
pub(crate) fn gather(attributes: &[(u64, Attribute<'_>)], clusters: u64) -> Vec<Result<Value>> {
    let mut order: Vec<usize> = (0..attributes.len()).collect();
    let key = |n: usize| {
        let (_, attribute) = &attributes[n];
        let first = match attribute.body {
            Body::Here { .. } => 0,
            Body::Clusters(clusters) => clusters.first,
        };
        (attribute.kind, attribute.name_units().collect::<Vec<u16>>(), first)
    };
    if order.len() > 1 {
        order.sort_by_cached_key(|n| key(*n));
    }
    let mut values: Vec<Result<Value>> = Vec::new();
    let mut rest = order.as_slice();
    while let Some((first, _)) = rest.split_first() {
        let (_, head) = &attributes[*first];
        let is_same = |other: usize| {
            let other = &attributes[other].1;
            other.kind == head.kind && other.name_units().eq(head.name_units())
        };
        // Only what lies in clusters comes in several stretches.
        let len = match head.body {
            Body::Here { .. } => 1,
            Body::Clusters(_) => rest.iter().take_while(|n| is_same(**n)).count(),
        };
        let (group, others) = rest.split_at(len);
        rest = others;
        let stretches: Vec<&(u64, Attribute<'_>)> = group.iter().map(|n| &attributes[*n]).collect();
        values.push(put_together(&stretches, clusters));
    }
    values
}

fn put_together(stretches: &[&(u64, Attribute<'_>)], volume_clusters: u64) -> Result<Value> {
    let (record, head) = stretches[0];
    let value = |body| Value {
        kind: head.kind,
        name: head.name_units().collect(),
        flags: head.flags,
        at: head.at,
        body,
    };
    let Body::Clusters(first) = head.body else {
        let Body::Here { value: bytes, start } = head.body else {
            return Err(Error::internal("an attribute that is neither in its record nor in clusters"));
        };
        return Ok(value(Kept::Here { bytes: bytes.to_vec(), record: *record, start }));
    };
    let (mut all, mut next) = (Vec::new(), 0);
    for (_, stretch) in stretches {
        let Body::Clusters(part) = stretch.body else {
            let found = "a value in the record too";
            return Err(Error::bad_field("Attribute", "place", stretch.at + 8, "one value", found));
        };
        if part.first != next {
            let expected = format!("{next}, where the stretch before it ends");
            return Err(Error::bad_field(
                "Attribute",
                "first cluster",
                stretch.at + 0x10,
                expected,
                part.first,
            ));
        }
        next = part.last.wrapping_add(1);
        all.extend(runs::read(part.runs, next - part.first, volume_clusters, stretch.at)?);
    }
    Ok(value(Kept::Clusters { unit: first.unit, size: first.size, valid: first.valid, runs: all }))
}

impl Value {
    pub(crate) fn len(&self) -> u64 {
        match &self.body {
            Kept::Here { bytes, .. } => bytes.len() as u64,
            Kept::Clusters { size, .. } => *size,
        }
    }

    pub(crate) fn is_named(&self, name: &str) -> bool {
        self.name.iter().copied().eq(name.encode_utf16())
    }

    /// The bytes that lie in clusters of `volume`, each `cluster` bytes long; what lies in a record is held.
    pub(crate) fn content(&self, volume: &Content, cluster: u64) -> Result<Content> {
        let (unit, size, valid, runs) = match &self.body {
            Kept::Here { bytes, .. } => return Ok(Content::from_bytes(bytes.as_slice())),
            Kept::Clusters { unit, size, valid, runs } => (*unit, *size, *valid, runs),
        };
        if self.flags & ENCRYPTED != 0 {
            return Err(Error::Unsupported {
                what: "a file that its owner encrypted".into(),
                offset: self.at,
            });
        }
        let clusters: u64 = runs.iter().map(|run| run.len).sum();
        if size.div_ceil(cluster) > clusters {
            let expected = format!("at most {clusters} clusters");
            return Err(Error::bad_field("Attribute", "size", self.at + 0x30, expected, size));
        }
        let valid = valid.min(size);
        if self.flags & COMPRESSED != 0 && unit > 0 && size > 0 {
            let unit = cluster << unit;
            if unit > LARGEST_UNIT {
                return Err(Error::bad_field("Attribute", "unit", self.at + 0x22, "at most 1 MiB", unit));
            }
            let runs = runs.clone();
            let packed = Packed { volume: volume.clone(), runs, unit, cluster, size, valid };
            return Ok(Content::deferred(Arc::new(packed)));
        }
        let mut pieces = Vec::new();
        let mut left = valid;
        for run in runs {
            let len = left.min(run.len.saturating_mul(cluster));
            left -= len;
            match run.start {
                Some(start) => pieces.extend(volume.part(start * cluster, len)?.pieces().iter().cloned()),
                None => pieces.push(Piece::Zeros(len)),
            }
        }
        // What was never written reads as zeros, whatever lies there.
        pieces.push(Piece::Zeros(size - valid));
        Content::from_pieces(pieces)
    }

    /// First byte on the volume and length of what lies there in one stretch, as it is.
    pub(crate) fn together(&self, cluster: u64) -> Option<(u64, u64)> {
        let Kept::Clusters { size, valid, runs, .. } = &self.body else { return None };
        let [Run { start: Some(start), len }] = runs.as_slice() else { return None };
        let is_plain = self.flags & (ENCRYPTED | COMPRESSED) == 0 && *valid >= *size && *size > 0;
        let fits = len.checked_mul(cluster)? >= *size;
        (is_plain && fits).then_some((start.checked_mul(cluster)?, *size))
    }

    /// First byte on the volume, for reading in the order of the disk.
    pub(crate) fn place(&self, cluster: u64) -> u64 {
        match &self.body {
            Kept::Here { .. } => self.at,
            Kept::Clusters { runs, .. } => {
                runs.iter().find_map(|run| run.start).map_or(self.at, |start| start * cluster)
            }
        }
    }
}

/// A value whose units are compressed, each by itself.
struct Packed {
    volume: Content,
    runs: Vec<Run>,
    unit: u64,
    cluster: u64,
    size: u64,
    valid: u64,
}

impl Packed {
    /// Unpacks one unit into `raw`, which is as long as the value's part of it; `run` is the first that reaches into
    /// it, and the clusters before that run.
    fn unpack(&self, run: (usize, u64), number: u64, raw: &mut [u8], packed: &mut Vec<u8>) -> Result<()> {
        let per_unit = self.unit / self.cluster;
        let (from, to) = (number * per_unit, (number + 1) * per_unit);
        packed.clear();
        let (mut stored, mut holes, mut at, mut place) = (0, 0, run.1, None);
        for run in &self.runs[run.0..] {
            let (start, end) = (at.max(from), (at + run.len).min(to));
            if start >= end {
                break;
            }
            match run.start {
                Some(first) if holes == 0 => {
                    let offset = (first + (start - at)) * self.cluster;
                    place.get_or_insert(offset);
                    let len = ((end - start) * self.cluster) as usize;
                    let before = packed.len();
                    packed.resize(before + len, 0);
                    self.volume.read_exact_at(offset, &mut packed[before..])?;
                    stored += end - start;
                }
                Some(first) => {
                    let found = "one in the middle of it";
                    let offset = first * self.cluster;
                    return Err(Error::bad_field(
                        "CompressedUnit",
                        "hole",
                        offset,
                        "a hole at its end",
                        found,
                    ));
                }
                None => holes += end - start,
            }
            at += run.len;
        }
        if stored == 0 {
            raw.fill(0);
        } else if holes == 0 {
            // It did not shrink. The last unit may have fewer clusters than the others.
            let len = raw.len().min(packed.len());
            raw[..len].copy_from_slice(&packed[..len]);
            raw[len..].fill(0);
        } else {
            lznt1::decode(packed, raw, place.unwrap_or(0))?;
        }
        Ok(())
    }
}

impl Producer for Packed {
    fn len(&self) -> u64 {
        self.size
    }

    fn produce(
        &self,
        range: Range<u64>,
        job: &Job<'_>,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        if range.is_empty() {
            return Ok(());
        }
        let per_unit = self.unit / self.cluster;
        let first = range.start / self.unit;
        let end = range.end.min(self.valid.max(range.start));
        let mut clip = Clip::new(range.clone());
        clip.skip(first * self.unit);
        let (mut raw, mut packed) = (vec![0; self.unit as usize], Vec::new());
        let (mut run, mut before) = (0, 0_u64);
        let mut number = first;
        while number * self.unit < end {
            job.check()?;
            while run < self.runs.len() && before + self.runs[run].len <= number * per_unit {
                before += self.runs[run].len;
                run += 1;
            }
            let len = self.unit.min(self.valid - number * self.unit) as usize;
            self.unpack((run, before), number, &mut raw[..len], &mut packed)?;
            clip.push(&raw[..len], each)?;
            number += 1;
        }
        // Behind what was ever written there are zeros.
        let done = (number * self.unit).min(self.valid).max(first * self.unit);
        raw.fill(0);
        let mut left = range.end.saturating_sub(done);
        while left > 0 && !clip.is_done() {
            job.check()?;
            let step = left.min(raw.len() as u64);
            clip.push(&raw[..step as usize], each)?;
            left -= step;
        }
        Ok(())
    }

    fn sources(&self, found: &mut dyn FnMut(&Arc<Source>)) {
        self.volume.for_each_source(found);
    }
}

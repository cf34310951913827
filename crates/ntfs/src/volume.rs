//! A volume and its file table.

use crate::{
    boot::{self, Geometry},
    record::{self, Attribute, IN_USE, Record, Reference, kind},
    runs::Run,
    streams::{Kept, Value, gather},
};
use neat_content::{Content, Error, FieldReader, ReadAt, Result};
use std::collections::BTreeSet;

/// Longest list of attributes that is read, in bytes; the file system allows 256 KiB.
const LONGEST_LIST: u64 = 256 << 10;
/// Most records that one file is spread over.
const MOST_RECORDS: usize = 16_384;

/// An NTFS volume, read and never written.
#[derive(Clone)]
pub struct Volume {
    /// All of it.
    pub content: Content,
    geometry: Geometry,
    /// The file table.
    pub(crate) table: Content,
    table_runs: Vec<Run>,
}

/// What a volume says of itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct VolumeInfo {
    /// Its label; may be empty.
    pub label: String,
    /// Version of the file system, such as 3 and 1.
    pub version: (u8, u8),
    /// Whether it was not taken out of use in order: what lies on it is read as it is.
    pub is_dirty: bool,
    /// Bytes of the volume.
    pub bytes: u64,
    /// Bytes of the clusters that are in use, if the map of clusters can be read.
    pub used: Option<u64>,
}

impl Volume {
    /// Opens the volume that `content` is.
    ///
    /// # Errors
    /// `Corrupt` when it is no such volume or its file table cannot be read, `Request` when it is encrypted as a whole.
    pub fn open(content: Content) -> Result<Self> {
        let geometry = boot::read(&content)?;
        let mut volume = Self { content, geometry, table: Content::default(), table_runs: Vec::new() };
        // The first record describes the table itself; where it is damaged, its copy does.
        let own = volume.open_table(geometry.table * geometry.cluster);
        if let Err(error) = own {
            let mirror = geometry.mirror.checked_mul(geometry.cluster);
            mirror.ok_or(Error::internal("")).and_then(|at| volume.open_table(at)).map_err(|_| error)?;
        }
        Ok(volume)
    }

    /// How it is laid out.
    pub const fn geometry(&self) -> &Geometry {
        &self.geometry
    }

    fn open_table(&mut self, at: u64) -> Result<()> {
        let mut bytes = vec![0; self.geometry.record as usize];
        self.content.read_exact_at(at, &mut bytes)?;
        record::put_back(&mut bytes, *b"FILE", at)?;
        let first = Record::parse(&bytes, 0, at)?;
        let of_table = |attribute: &Attribute<'_>| attribute.kind == kind::DATA && !attribute.has_name();
        let own: Vec<(u64, Attribute<'_>)> =
            first.attributes().map(|found| found.map(|own| (0, own))).collect::<Result<_>>()?;
        // The stretches that the first record has itself tell where the others lie, one after another.
        let mut texts: Vec<(Vec<u8>, u64, u64)> = Vec::new();
        let list = own.iter().find(|(_, attribute)| attribute.kind == kind::LIST).copied();
        let wanted: Vec<u64> = match list {
            Some(list) => {
                let value = gather(&[list], self.geometry.clusters).pop();
                let value = value.ok_or_else(|| Error::internal("a value was not put together"))??;
                let listed = self.listed(&value)?;
                let numbers: BTreeSet<u64> =
                    listed.iter().filter(|own| own.kind == kind::DATA).map(|own| own.record.number).collect();
                numbers.into_iter().filter(|number| *number != 0).collect()
            }
            None => Vec::new(),
        };
        loop {
            let mut all: Vec<(u64, Attribute<'_>)> =
                own.iter().filter(|(_, attribute)| of_table(attribute)).copied().collect();
            for (bytes, number, at) in &texts {
                let record = Record::parse(bytes, *number, *at)?;
                for attribute in record.attributes() {
                    let attribute = attribute?;
                    if of_table(&attribute) {
                        all.push((*number, attribute));
                    }
                }
            }
            let value = gather(&all, self.geometry.clusters).into_iter().next().ok_or_else(|| {
                Error::bad_field("FileTable", "content", at, "an attribute that says where it lies", "none")
            })?;
            match (value, wanted.get(texts.len())) {
                (Ok(value), None) => return self.set_table(&value),
                // As far as it is known, so that the next record can be read.
                (Ok(value), Some(next)) => {
                    let Kept::Clusters { unit, size, valid, runs } = value.body else {
                        return Err(Error::bad_field(
                            "FileTable",
                            "content",
                            at,
                            "clusters",
                            "a value in its record",
                        ));
                    };
                    let known =
                        runs.iter().map(|run| run.len).sum::<u64>().saturating_mul(self.geometry.cluster);
                    let body = Kept::Clusters { unit, size: size.min(known), valid: valid.min(known), runs };
                    self.set_table(&Value { body, ..value })?;
                    let bytes = self.record_bytes(*next)?;
                    texts.push((bytes, *next, self.record_offset(*next)));
                }
                (Err(error), _) => return Err(error),
            }
        }
    }

    fn set_table(&mut self, value: &Value) -> Result<()> {
        self.table = value.content(&self.content, self.geometry.cluster)?;
        if let Kept::Clusters { runs, .. } = &value.body {
            self.table_runs.clone_from(runs);
        }
        if self.table.is_empty() {
            return Err(Error::bad_field("FileTable", "size", value.at, "at least one record", "none"));
        }
        Ok(())
    }

    /// How many records the file table has.
    pub(crate) const fn records(&self) -> u64 {
        self.table.len() / self.geometry.record
    }

    /// Where a record lies, in bytes from the start of the volume.
    pub(crate) fn record_offset(&self, number: u64) -> u64 {
        let mut at = number.saturating_mul(self.geometry.record);
        for run in &self.table_runs {
            let len = run.len * self.geometry.cluster;
            if at < len {
                return run.start.map_or(0, |start| start * self.geometry.cluster + at);
            }
            at -= len;
        }
        0
    }

    /// A record, its sectors put right.
    pub(crate) fn record_bytes(&self, number: u64) -> Result<Vec<u8>> {
        let len = self.geometry.record;
        let at = number.checked_mul(len).filter(|at| at.saturating_add(len) <= self.table.len());
        let at = at.ok_or_else(|| Error::Limit {
            what: "number of a record".into(),
            offset: self.geometry.table * self.geometry.cluster,
            limit: self.records(),
            found: number,
        })?;
        let mut bytes = vec![0; len as usize];
        self.table.read_exact_at(at, &mut bytes)?;
        record::put_back(&mut bytes, *b"FILE", self.record_offset(number))?;
        Ok(bytes)
    }

    /// The values of a file whose first record is `record`.
    pub(crate) fn values(&self, record: &Record<'_>) -> Result<Vec<Result<Value>>> {
        let number = record.reference.number;
        let own: Vec<(u64, Attribute<'_>)> =
            record.attributes().map(|found| found.map(|own| (number, own))).collect::<Result<_>>()?;
        let Some(list) = own.iter().find(|(_, attribute)| attribute.kind == kind::LIST) else {
            return Ok(gather(&own, self.geometry.clusters));
        };
        let list = gather(&[*list], self.geometry.clusters).pop();
        let list = list.ok_or_else(|| Error::internal("a value was not put together"))??;
        let records: BTreeSet<Reference> = self
            .listed(&list)?
            .into_iter()
            .map(|listed| listed.record)
            .filter(|other| other.number != number)
            .collect();
        let mut texts = Vec::with_capacity(records.len());
        for other in records {
            texts.push((self.record_bytes(other.number)?, other));
        }
        let mut all = own;
        for (bytes, other) in &texts {
            let at = self.record_offset(other.number);
            let found = Record::parse(bytes, other.number, at)?;
            if found.base != Some(record.reference)
                || found.flags & IN_USE == 0
                || found.reference.sequence != other.sequence
            {
                let expected = format!("a record that continues record {number}");
                return Err(Error::bad_field(
                    "Record",
                    "base",
                    at + 0x20,
                    expected,
                    format!("{:?}", found.base),
                ));
            }
            for attribute in found.attributes() {
                all.push((other.number, attribute?));
            }
        }
        Ok(gather(&all, self.geometry.clusters))
    }

    /// What a list of attributes names.
    fn listed(&self, list: &Value) -> Result<Vec<Listed>> {
        let bytes = self.bytes(list, LONGEST_LIST, "list of attributes")?;
        let mut fields = FieldReader::new(&bytes, list.at, "AttributeList");
        let mut found: Vec<Listed> = Vec::new();
        while fields.remaining() >= 0x1A {
            let at = fields.offset();
            let (kind, len) = (fields.u32_le()?, usize::from(fields.u16_le()?));
            fields.skip(10)?;
            let record = Reference::from_raw(fields.u64_le()?);
            if len < 0x1A {
                return Err(Error::bad_field("AttributeList", "length", at + 4, "at least 26", len));
            }
            fields.skip((len - 0x18).min(fields.remaining()))?;
            found.push(Listed { kind, record });
        }
        let records: BTreeSet<Reference> = found.iter().map(|own| own.record).collect();
        if records.len() > MOST_RECORDS {
            return Err(Error::Limit {
                what: "records of one file".into(),
                offset: list.at,
                limit: MOST_RECORDS as u64,
                found: records.len() as u64,
            });
        }
        Ok(found)
    }

    /// The bytes of a value, at most `limit`.
    pub(crate) fn bytes(&self, value: &Value, limit: u64, what: &str) -> Result<Vec<u8>> {
        value.content(&self.content, self.geometry.cluster)?.to_vec(limit, what)
    }

    /// What the volume says of itself.
    ///
    /// # Errors
    /// `Corrupt` where its own records cannot be read.
    pub fn info(&self) -> Result<VolumeInfo> {
        let values = self.values_of(3)?;
        let find = |kind: u32| values.iter().flatten().find(|value| value.kind == kind);
        let label = match find(kind::VOLUME_NAME).map(|value| &value.body) {
            Some(Kept::Here { bytes, .. }) => {
                let units: Vec<u16> =
                    bytes.chunks_exact(2).map(|two| u16::from_le_bytes([two[0], two[1]])).collect();
                String::from_utf16_lossy(&units)
            }
            _ => String::new(),
        };
        let (mut version, mut flags) = ((0, 0), 0);
        if let Some(Value { body: Kept::Here { bytes, .. }, at, .. }) = find(kind::VOLUME_INFORMATION) {
            let mut fields = FieldReader::new(bytes, *at, "VolumeInformation");
            fields.skip(8)?;
            version = (fields.u8()?, fields.u8()?);
            flags = fields.u16_le()?;
        }
        let bytes = self.geometry.clusters.saturating_mul(self.geometry.cluster);
        Ok(VolumeInfo { label, version, is_dirty: flags & 1 != 0, bytes, used: self.used().ok() })
    }

    fn values_of(&self, number: u64) -> Result<Vec<Result<Value>>> {
        let bytes = self.record_bytes(number)?;
        self.values(&Record::parse(&bytes, number, self.record_offset(number))?)
    }

    /// The stream of a system file.
    pub(crate) fn system_stream(&self, number: u64, name: &str) -> Result<Content> {
        for value in self.values_of(number)? {
            let value = value?;
            if value.kind == kind::DATA && value.is_named(name) {
                return value.content(&self.content, self.geometry.cluster);
            }
        }
        let at = self.record_offset(number);
        Err(Error::bad_field("SystemFile", "stream", at, format!("a stream called {name:?}"), "none"))
    }

    /// Bytes of the clusters that are in use.
    fn used(&self) -> Result<u64> {
        let map = self.system_stream(6, "")?;
        let (mut count, mut left) = (0_u64, self.geometry.clusters);
        map.for_each_block(1 << 20, &neat_content::Job::silent(), &mut |block| {
            for byte in block {
                let bits = left.min(8);
                count += u64::from((u32::from(*byte) & ((1 << bits) - 1)).count_ones());
                left -= bits;
            }
            Ok(())
        })?;
        Ok(count * self.geometry.cluster)
    }
}

struct Listed {
    kind: u32,
    record: Reference,
}

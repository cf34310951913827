//! Reading ECMA-119 volumes, with Joliet and Rock Ridge.

use super::{
    layout::{
        DirectoryRecord, FIRST_DESCRIPTOR, FLAG_ASSOCIATED, FLAG_DIRECTORY, FLAG_HIDDEN, FLAG_MULTI_EXTENT,
        JOLIET_ESCAPES, SECTOR_SIZE, STANDARD_IDENTIFIER, TYPE_BOOT_RECORD, TYPE_PRIMARY, TYPE_SUPPLEMENTARY,
        TYPE_TERMINATOR, VolumeDescriptor,
    },
    rock_ridge::{self, Attributes},
};
use crate::{Limits, TreeKind, VolumeIdentity};
use neat_content::{
    Content, Error, Folder, Meta, NodeId, NodeKind, Piece, ReadAt, Result, Source, Tree, Windowed,
    check_name, read_vec,
};
use std::{collections::HashSet, sync::Arc};
use zerocopy::FromBytes;

/// Descriptors looked at before giving up on a terminator.
const MAX_DESCRIPTORS: u64 = 64;

/// The volume descriptors of a disc.
#[derive(Default)]
pub(crate) struct Descriptors {
    pub primary: Option<VolumeDescriptor>,
    pub joliet: Option<VolumeDescriptor>,
    /// Sector of the boot catalog and where its number stands.
    pub boot_catalog: Option<(u32, u64)>,
}

/// Reads the volume descriptors; all empty when this is not an ECMA-119 disc.
pub(crate) fn read_descriptors<R: ReadAt + ?Sized>(reader: &R) -> Result<Descriptors> {
    let mut found = Descriptors::default();
    for sector in FIRST_DESCRIPTOR..FIRST_DESCRIPTOR + MAX_DESCRIPTORS {
        let offset = sector * SECTOR_SIZE;
        if offset + SECTOR_SIZE > reader.len() {
            break;
        }
        let mut bytes = [0; SECTOR_SIZE as usize];
        reader.read_exact_at(offset, &mut bytes)?;
        if bytes[1..6] != STANDARD_IDENTIFIER {
            break;
        }
        match bytes[0] {
            TYPE_TERMINATOR => break,
            TYPE_BOOT_RECORD if bytes[7..30] == *b"EL TORITO SPECIFICATION" => {
                let at = offset + 0x47;
                found.boot_catalog =
                    Some((u32::from_le_bytes([bytes[0x47], bytes[0x48], bytes[0x49], bytes[0x4A]]), at));
            }
            TYPE_PRIMARY if found.primary.is_none() => {
                found.primary = VolumeDescriptor::read_from_bytes(&bytes).ok();
            }
            TYPE_SUPPLEMENTARY => {
                let descriptor = VolumeDescriptor::read_from_bytes(&bytes).ok();
                let is_joliet = |d: &VolumeDescriptor| {
                    JOLIET_ESCAPES.iter().any(|escape| d.escape_sequences.starts_with(*escape))
                };
                if let Some(descriptor) = descriptor.filter(is_joliet) {
                    found.joliet = Some(descriptor);
                }
            }
            _ => {}
        }
    }
    Ok(found)
}

/// Labels and times of a primary descriptor.
pub(crate) fn identity(descriptor: &VolumeDescriptor) -> VolumeIdentity {
    let text = |bytes: &[u8]| latin_or_utf8(bytes).trim_end_matches([' ', '\0']).to_owned();
    VolumeIdentity {
        label: text(&descriptor.volume_identifier),
        system: text(&descriptor.system_identifier),
        volume_set: text(&descriptor.volume_set_identifier),
        publisher: text(&descriptor.publisher_identifier),
        preparer: text(&descriptor.data_preparer_identifier),
        application: text(&descriptor.application_identifier),
        created: descriptor.created.to_timestamp(),
        modified: descriptor.modified.to_timestamp(),
    }
}

/// The label of a Joliet descriptor, at most 16 characters.
pub(crate) fn joliet_label(descriptor: &VolumeDescriptor) -> String {
    utf16_be(&descriptor.volume_identifier).trim_end_matches([' ', '\0']).to_owned()
}

pub(crate) fn utf16_be(bytes: &[u8]) -> String {
    let units = bytes.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]]));
    char::decode_utf16(units).map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
}

pub(crate) fn latin_or_utf8(bytes: &[u8]) -> String {
    // Names from POSIX systems are UTF-8 today; older ones were mostly Latin-1, which can hold any byte.
    str::from_utf8(bytes).map_or_else(|_| bytes.iter().copied().map(char::from).collect(), str::to_owned)
}

/// Whether the root of the primary tree announces Rock Ridge.
pub(crate) fn has_rock_ridge(source: &Arc<Source>, descriptor: &VolumeDescriptor) -> Result<bool> {
    let limits = Limits::default();
    let mut reader = TreeReader::new(source, descriptor, TreeKind::Iso9660, &limits)?;
    reader.detect_rock_ridge(root_location(descriptor))?;
    Ok(reader.kind == TreeKind::RockRidge)
}

fn root_location(descriptor: &VolumeDescriptor) -> u64 {
    let root = &descriptor.root;
    u64::from(root.location.little.get()) + u64::from(root.extended_attribute_length)
}

/// What reading a tree gives.
pub(crate) struct ReadTree {
    pub tree: Tree,
    pub kind: TreeKind,
    pub warnings: Vec<String>,
}

/// Reads the tree that `descriptor` describes from `source`. Rock Ridge is used when the root announces it and
/// `kind` is not Joliet.
pub(crate) fn read_tree(
    source: &Arc<Source>,
    descriptor: &VolumeDescriptor,
    kind: TreeKind,
    limits: &Limits,
) -> Result<ReadTree> {
    let mut reader = TreeReader::new(source, descriptor, kind, limits)?;
    let location = root_location(descriptor);
    let len = u64::from(descriptor.root.data_length.little.get());
    reader.detect_rock_ridge(location)?;
    reader.visit(Tree::ROOT, location, len, FIRST_DESCRIPTOR * SECTOR_SIZE + 156)?;
    while let Some((node, location, len)) = reader.pending.pop() {
        reader
            .read_folder(node, location, len)
            .map_err(|error| error.within(format!("/{}", reader.tree.path(node))))?;
    }
    reader.drop_relocation_folders();
    Ok(ReadTree { tree: reader.tree, kind: reader.kind, warnings: reader.warnings })
}

struct TreeReader<'a> {
    source: &'a Arc<Source>,
    windowed: Windowed<Arc<Source>>,
    block_size: u64,
    kind: TreeKind,
    skip: usize,
    tree: Tree,
    visited: HashSet<u64>,
    pending: Vec<(NodeId, u64, u64)>,
    relocation_folders: Vec<NodeId>,
    warnings: Vec<String>,
    limits: &'a Limits,
}

/// A record with its variable parts, still in the directory's bytes.
pub(crate) struct Record<'a> {
    pub raw: DirectoryRecord,
    pub identifier: &'a [u8],
    pub system_use: &'a [u8],
    pub offset: u64,
    pub system_use_offset: u64,
}

/// A file whose sections are still being gathered.
struct OpenFile {
    identifier: Vec<u8>,
    name: String,
    meta: Meta,
    sections: Vec<Piece>,
}

impl<'a> TreeReader<'a> {
    fn new(
        source: &'a Arc<Source>,
        descriptor: &VolumeDescriptor,
        kind: TreeKind,
        limits: &'a Limits,
    ) -> Result<Self> {
        let block_size = u64::from(descriptor.logical_block_size.little.get());
        if ![512, 1024, 2048].contains(&block_size) {
            let at = FIRST_DESCRIPTOR * SECTOR_SIZE + 128;
            return Err(Error::bad_field(
                "VolumeDescriptor",
                "logical_block_size",
                at,
                "512, 1024 or 2048",
                block_size,
            ));
        }
        Ok(Self {
            source,
            windowed: Windowed::new(Arc::clone(source)),
            block_size,
            kind,
            skip: 0,
            tree: Tree::new(Meta::at(descriptor.root.recorded.to_timestamp())),
            visited: HashSet::new(),
            pending: Vec::new(),
            relocation_folders: Vec::new(),
            warnings: Vec::new(),
            limits,
        })
    }

    fn detect_rock_ridge(&mut self, root_location: u64) -> Result<()> {
        if self.kind == TreeKind::Joliet {
            return Ok(());
        }
        let offset = root_location * self.block_size;
        let bytes = read_vec(&self.windowed, offset, self.block_size, SECTOR_SIZE, "root directory")?;
        let Some(record) = next_record(&bytes, 0, offset)? else { return Ok(()) };
        if record.system_use.starts_with(b"SP") {
            let attributes = rock_ridge::parse(
                &self.windowed,
                record.system_use,
                record.system_use_offset,
                self.block_size,
            )?;
            if attributes.rock_ridge || attributes.mode.is_some() {
                self.kind = TreeKind::RockRidge;
                self.skip = usize::from(attributes.skip.unwrap_or(0));
            }
        }
        Ok(())
    }

    /// Notes a directory for reading. `record_offset` is where its location stands.
    fn visit(&mut self, node: NodeId, location: u64, len: u64, record_offset: u64) -> Result<()> {
        if len > 0 && !self.visited.insert(location) {
            return Err(Error::Loop {
                what: format!("directory /{}", self.tree.path(node)),
                offset: record_offset,
            });
        }
        self.pending.push((node, location, len));
        Ok(())
    }

    fn read_folder(&mut self, node: NodeId, location: u64, len: u64) -> Result<()> {
        let offset = location * self.block_size;
        let bytes = read_vec(&self.windowed, offset, len, self.limits.directory, "directory")?;
        let mut position = 0;
        let mut open: Option<OpenFile> = None;
        while position < bytes.len() {
            let Some(record) = next_record(&bytes, position, offset)? else {
                position = (position / SECTOR_SIZE as usize + 1) * SECTOR_SIZE as usize;
                continue;
            };
            position += usize::from(record.raw.length);
            if matches!(record.identifier, [0 | 1]) {
                continue;
            }
            open = self.read_record(node, &record, open)?;
        }
        match open {
            None => Ok(()),
            Some(file) => Err(Error::Truncated {
                what: format!("the last section of {}", file.name),
                offset: offset + len,
                wanted: 34,
                available: 0,
            }),
        }
    }

    fn read_record(
        &mut self,
        parent: NodeId,
        record: &Record<'_>,
        open: Option<OpenFile>,
    ) -> Result<Option<OpenFile>> {
        self.limits.check_entries(self.tree.capacity(), record.offset)?;
        let raw = &record.raw;
        if let Some(mut file) = open {
            if file.identifier != record.identifier {
                return Err(Error::bad_field(
                    "DirectoryRecord",
                    "file_identifier",
                    record.offset + 33,
                    format!("the next section of {}", file.name),
                    format!("{:?}", latin_or_utf8(record.identifier)),
                ));
            }
            file.sections.push(self.section(record, &file.name)?);
            return self.close_or_keep(parent, record, file);
        }
        let attributes = self.attributes(record)?;
        if attributes.relocated {
            self.relocation_folders.push(parent);
            return Ok(None);
        }
        let name = self.name(record, &attributes)?;
        let modified = attributes.modified.unwrap_or_else(|| raw.recorded.to_timestamp());
        let meta = Meta {
            modified,
            mode: attributes.mode.map(|mode| (mode & 0o7777) as u16),
            hidden: raw.flags & FLAG_HIDDEN != 0,
        };
        if let Some(location) = attributes.child_location {
            let location = u64::from(location);
            let len = self.own_length(location)?;
            if let Some(node) = self.add(parent, &name, meta, NodeKind::Folder(Folder::default()))? {
                self.visit(node, location, len, record.offset)?;
            }
            return Ok(None);
        }
        if let Some(target) = &attributes.link {
            self.add(parent, &name, meta, NodeKind::Link(latin_or_utf8(target)))?;
            return Ok(None);
        }
        if raw.flags & FLAG_ASSOCIATED != 0 {
            self.warnings
                .push(format!("the associated file {name} at byte {:#x} is left out", record.offset));
            return Ok(None);
        }
        if raw.flags & FLAG_DIRECTORY != 0 {
            let location = u64::from(raw.location.little.get()) + u64::from(raw.extended_attribute_length);
            if let Some(node) = self.add(parent, &name, meta, NodeKind::Folder(Folder::default()))? {
                self.visit(node, location, u64::from(raw.data_length.little.get()), record.offset)?;
            }
            return Ok(None);
        }
        let sections = vec![self.section(record, &name)?];
        self.close_or_keep(
            parent,
            record,
            OpenFile { identifier: record.identifier.to_vec(), name, meta, sections },
        )
    }

    fn close_or_keep(
        &mut self,
        parent: NodeId,
        record: &Record<'_>,
        file: OpenFile,
    ) -> Result<Option<OpenFile>> {
        if record.raw.flags & FLAG_MULTI_EXTENT != 0 {
            return Ok(Some(file));
        }
        let content = Content::from_pieces(file.sections)?;
        self.add(parent, &file.name, file.meta, NodeKind::File(content))?;
        Ok(None)
    }

    /// Adds a node, or warns and leaves it out when the name is taken: older versions of a file come after newer
    /// ones (ECMA-119 9.3).
    fn add(&mut self, parent: NodeId, name: &str, meta: Meta, kind: NodeKind) -> Result<Option<NodeId>> {
        if self.tree.child(parent, name).is_some() {
            let folder = self.tree.path(parent);
            let slash = if folder.is_empty() { "" } else { "/" };
            self.warnings.push(format!("a second /{folder}{slash}{name} is left out"));
            return Ok(None);
        }
        self.tree.add(parent, name, meta, kind).map(Some)
    }

    fn section(&self, record: &Record<'_>, name: &str) -> Result<Piece> {
        let raw = &record.raw;
        if raw.file_unit_size != 0 || raw.interleave_gap_size != 0 {
            return Err(Error::Unsupported {
                what: format!(
                    "the interleaved file {name} (unit {}, gap {} blocks)",
                    raw.file_unit_size, raw.interleave_gap_size
                ),
                offset: record.offset + 26,
            });
        }
        let location = u64::from(raw.location.little.get()) + u64::from(raw.extended_attribute_length);
        let (offset, len) = (location * self.block_size, u64::from(raw.data_length.little.get()));
        if len == 0 {
            return Ok(Piece::Zeros(0));
        }
        if offset + len > self.source.len() {
            let available = self.source.len().saturating_sub(offset);
            return Err(Error::Truncated {
                what: format!("content of {name}"),
                offset,
                wanted: len,
                available,
            });
        }
        Ok(Piece::Extent { source: Arc::clone(self.source), offset, len })
    }

    fn attributes(&self, record: &Record<'_>) -> Result<Attributes> {
        if self.kind != TreeKind::RockRidge {
            return Ok(Attributes::default());
        }
        let area = record.system_use.get(self.skip..).unwrap_or_default();
        rock_ridge::parse(&self.windowed, area, record.system_use_offset + self.skip as u64, self.block_size)
    }

    /// Length of a relocated directory, from its own first record.
    fn own_length(&self, location: u64) -> Result<u64> {
        let offset = location * self.block_size;
        let bytes = read_vec(&self.windowed, offset, self.block_size, SECTOR_SIZE, "relocated directory")?;
        let record = next_record(&bytes, 0, offset)?;
        Ok(record.map_or(0, |record| u64::from(record.raw.data_length.little.get())))
    }

    fn name(&self, record: &Record<'_>, attributes: &Attributes) -> Result<String> {
        let name = match (&attributes.name, self.kind) {
            (Some(name), _) => latin_or_utf8(name),
            (None, TreeKind::Joliet) => without_version(&utf16_be(record.identifier)).to_owned(),
            (None, _) => {
                let name = latin_or_utf8(record.identifier);
                let name = without_version(&name);
                name.strip_suffix('.').unwrap_or(name).to_owned()
            }
        };
        check_name(&name).map_err(|expected| {
            Error::bad_field(
                "DirectoryRecord",
                "file_identifier",
                record.offset + 33,
                expected,
                format!("{name:?}"),
            )
        })?;
        Ok(name)
    }

    fn drop_relocation_folders(&mut self) {
        for id in std::mem::take(&mut self.relocation_folders) {
            if self.tree.node(id).folder().is_some_and(Folder::is_empty) {
                self.tree.remove(id);
            }
        }
    }
}

/// The name without `;version`.
pub(crate) fn without_version(name: &str) -> &str {
    match name.rsplit_once(';') {
        Some((front, version))
            if !version.is_empty() && version.bytes().all(|byte| byte.is_ascii_digit()) =>
        {
            front
        }
        _ => name,
    }
}

/// The record at `position` of a directory that begins at `base`; `None` where the sector holds no more.
pub(crate) fn next_record(bytes: &[u8], position: usize, base: u64) -> Result<Option<Record<'_>>> {
    let offset = base + position as u64;
    let length = usize::from(bytes[position]);
    if length == 0 {
        return Ok(None);
    }
    let room = (SECTOR_SIZE as usize - position % SECTOR_SIZE as usize).min(bytes.len() - position);
    let bad = |field, at: u64, expected: String, found| {
        Error::bad_field("DirectoryRecord", field, offset + at, expected, found)
    };
    if length < size_of::<DirectoryRecord>() + 1 || length > room {
        return Err(bad("length", 0, format!("34 to {room}"), length));
    }
    let record = &bytes[position..position + length];
    let (raw, rest) = DirectoryRecord::read_from_prefix(record)
        .map_err(|_| bad("length", 0, "34 or more".into(), length))?;
    let identifier_len = usize::from(raw.identifier_length);
    if identifier_len == 0 || identifier_len > rest.len() {
        return Err(bad("identifier_length", 32, format!("1 to {}", rest.len()), identifier_len));
    }
    let (identifier, after) = rest.split_at(identifier_len);
    // A padding byte makes the system use area begin at an even position (ECMA-119 9.1.12).
    let padding = usize::from(identifier_len % 2 == 0).min(after.len());
    let system_use_offset = offset + (length - after.len() + padding) as u64;
    Ok(Some(Record { raw, identifier, system_use: &after[padding..], offset, system_use_offset }))
}

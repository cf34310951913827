//! Laying out and making directory hierarchies, path tables and volume descriptors.

use super::{
    layout::{
        BothU16, BothU32, DirectoryRecord, FLAG_DIRECTORY, FLAG_HIDDEN, FLAG_MULTI_EXTENT, MAX_DIRECTORIES,
        MAX_SECTION_LEN, PathTableRecordL, PathTableRecordM, RecordingTime, SECTOR_SIZE, STANDARD_IDENTIFIER,
        TYPE_BOOT_RECORD, TYPE_PRIMARY, TYPE_SUPPLEMENTARY, TYPE_TERMINATOR, VolumeDescriptor, VolumeTime,
    },
    names::{Flavor, Identifier, Namer},
    rock_ridge::{CONTINUATION_LEN, Entry, continuation},
};
use crate::{VolumeIdentity, units::Sector};
use neat_content::{Error, Meta, Node, NodeId, NodeKind, Result, Timestamp, Tree};
use zerocopy::{FromZeros, IntoBytes};

const SECTOR: usize = SECTOR_SIZE as usize;

/// A directory of a hierarchy.
struct Directory {
    node: NodeId,
    /// Number of the parent in [`Hierarchy::directories`].
    parent: usize,
    identifier: Vec<u8>,
    /// Sectors of records, then of continuation areas.
    record_sectors: u32,
    continuation_sectors: u32,
    /// First sector, once laid out.
    sector: Sector,
}

/// One tree of directory records over a media's files.
pub(crate) struct Hierarchy {
    flavor: Flavor,
    rock_ridge: bool,
    /// In the order of the path table: by depth, then by parent, then by identifier.
    directories: Vec<Directory>,
    /// Number of each folder in `directories`, by node.
    numbers: Vec<u32>,
    path_table_len: u32,
    /// Names that had to be changed beyond the rules of the format.
    pub shortened: Vec<String>,
}

/// Where a file's bytes are: first sector and length in bytes.
pub(crate) type Placed = (Sector, u64);

impl Hierarchy {
    /// Names everything in `tree` and finds how long each directory is.
    pub(crate) fn new(tree: &Tree, flavor: Flavor, rock_ridge: bool) -> Result<Self> {
        let mut hierarchy = Self {
            flavor,
            rock_ridge,
            directories: Vec::new(),
            numbers: vec![u32::MAX; tree.capacity()],
            path_table_len: 0,
            shortened: Vec::new(),
        };
        let root = Directory {
            node: Tree::ROOT,
            parent: 0,
            identifier: vec![0],
            record_sectors: 0,
            continuation_sectors: 0,
            sector: Sector::default(),
        };
        hierarchy.directories.push(root);
        let mut at = 0;
        while at < hierarchy.directories.len() {
            hierarchy.fill(tree, at);
            at += 1;
        }
        if at > MAX_DIRECTORIES {
            return Err(Error::request(
                format!(
                    "the media has {at} folders, and ISO 9660 numbers them with 16 bits (at most {MAX_DIRECTORIES})"
                ),
                "put some of them into an archive",
            ));
        }
        // Lengths do not depend on where things are, so a first layout with nothing placed finds them.
        for number in 0..hierarchy.directories.len() {
            let (records, continuations) =
                hierarchy.directory_bytes(tree, number, &|_| (Sector::default(), 0));
            let directory = &mut hierarchy.directories[number];
            directory.record_sectors = (records.len() / SECTOR) as u32;
            directory.continuation_sectors = (continuations.len() / SECTOR) as u32;
            hierarchy.path_table_len += (8 + directory.identifier.len().next_multiple_of(2)) as u32;
        }
        Ok(hierarchy)
    }

    fn fill(&mut self, tree: &Tree, number: usize) {
        let node = self.directories[number].node;
        self.numbers[node.index()] = number as u32;
        let children = self.children(tree, node);
        for (child, identifier) in &children {
            if identifier.shortened {
                self.shortened.push(tree.path(*child));
            }
            if tree.node(*child).folder().is_some() {
                self.directories.push(Directory {
                    node: *child,
                    parent: number,
                    identifier: identifier.recorded(),
                    record_sectors: 0,
                    continuation_sectors: 0,
                    sector: Sector::default(),
                });
            }
        }
    }

    /// The children of a folder with their identifiers, in the order of their records. Made anew each time: kept for
    /// a hundred thousand files they would be most of the memory in use.
    fn children(&self, tree: &Tree, node: NodeId) -> Vec<(NodeId, Identifier)> {
        let mut namer = Namer::new(self.flavor);
        let mut children: Vec<(NodeId, Identifier)> = tree
            .node(node)
            .folder()
            .into_iter()
            .flat_map(neat_content::Folder::children)
            .filter(|child| self.rock_ridge || !matches!(tree.node(*child).kind, NodeKind::Link(_)))
            .map(|child| {
                (child, namer.identifier(tree.node(child).name(), tree.node(child).folder().is_some()))
            })
            .collect();
        children.sort_by(|(_, a), (_, b)| a.order(b));
        children
    }

    /// Sectors of one path table.
    pub(crate) const fn path_table_sectors(&self) -> u32 {
        self.path_table_len.div_ceil(SECTOR as u32)
    }

    /// Sectors of all directories.
    pub(crate) fn directory_sectors(&self) -> u32 {
        self.directories
            .iter()
            .map(|directory| directory.record_sectors + directory.continuation_sectors)
            .sum()
    }

    /// Places the directories one after another from `sector` on.
    pub(crate) fn place(&mut self, sector: Sector) {
        let mut next = sector;
        for directory in &mut self.directories {
            directory.sector = next;
            next = next.after(directory.record_sectors + directory.continuation_sectors);
        }
    }

    /// The path table, little-endian and big-endian.
    pub(crate) fn path_tables(&self) -> (Vec<u8>, Vec<u8>) {
        let (mut little, mut big) = (Vec::new(), Vec::new());
        for directory in &self.directories {
            let identifier_length = directory.identifier.len() as u8;
            let (location, parent) = (directory.sector.0, directory.parent as u16 + 1);
            little.extend(
                PathTableRecordL {
                    identifier_length,
                    extended_attribute_length: 0,
                    location: location.into(),
                    parent: parent.into(),
                }
                .as_bytes(),
            );
            big.extend(
                PathTableRecordM {
                    identifier_length,
                    extended_attribute_length: 0,
                    location: location.into(),
                    parent: parent.into(),
                }
                .as_bytes(),
            );
            for table in [&mut little, &mut big] {
                table.extend(&directory.identifier);
                if directory.identifier.len() % 2 == 1 {
                    table.push(0);
                }
            }
        }
        (little, big)
    }

    /// Calls `each` with the bytes of every directory in the order of their sectors.
    pub(crate) fn for_each_directory(
        &self,
        tree: &Tree,
        placed: &dyn Fn(NodeId) -> Placed,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        for number in 0..self.directories.len() {
            let (records, continuations) = self.directory_bytes(tree, number, placed);
            each(&records)?;
            each(&continuations)?;
        }
        Ok(())
    }

    fn directory_bytes(
        &self,
        tree: &Tree,
        number: usize,
        placed: &dyn Fn(NodeId) -> Placed,
    ) -> (Vec<u8>, Vec<u8>) {
        let directory = &self.directories[number];
        let mut bytes = DirectoryBytes {
            records: Vec::new(),
            continuations: Vec::new(),
            continuation_sector: directory.sector.after(directory.record_sectors),
        };
        let own = tree.node(directory.node);
        let parent = &self.directories[directory.parent];
        let entry = |node: &Node, root| {
            self.rock_ridge.then(|| Entry {
                name: None,
                mode: mode_of(node),
                modified: node.meta.modified,
                link: None,
                root,
            })
        };
        bytes.add(record(self.extent_of(number), own.meta, FLAG_DIRECTORY), &[0], entry(own, number == 0));
        bytes.add(
            record(self.extent_of(directory.parent), tree.node(parent.node).meta, FLAG_DIRECTORY),
            &[1],
            entry(tree.node(parent.node), false),
        );
        for (child, identifier) in &self.children(tree, directory.node) {
            let node = tree.node(*child);
            let identifier = identifier.recorded();
            let susp = || {
                let link = if let NodeKind::Link(target) = &node.kind { Some(target.as_str()) } else { None };
                self.rock_ridge.then(|| Entry {
                    name: Some(node.name()),
                    mode: mode_of(node),
                    modified: node.meta.modified,
                    link,
                    root: false,
                })
            };
            match &node.kind {
                NodeKind::Folder(_) => {
                    let extent = self.extent_of(self.numbers[child.index()] as usize);
                    bytes.add(record(extent, node.meta, FLAG_DIRECTORY), &identifier, susp());
                }
                NodeKind::Link(_) => {
                    bytes.add(record((Sector::default(), 0), node.meta, 0), &identifier, susp());
                }
                NodeKind::File(content) => {
                    for (extent, more) in sections(placed(*child).0, content.len()) {
                        let flags = if more { FLAG_MULTI_EXTENT } else { 0 };
                        bytes.add(record(extent, node.meta, flags), &identifier, susp());
                    }
                }
            }
        }
        bytes.records.resize(bytes.records.len().next_multiple_of(SECTOR), 0);
        bytes.continuations.resize(bytes.continuations.len().next_multiple_of(SECTOR), 0);
        (bytes.records, bytes.continuations)
    }

    /// First sector and length of a directory's records.
    fn extent_of(&self, number: usize) -> (Sector, u32) {
        let directory = &self.directories[number];
        (directory.sector, directory.record_sectors * SECTOR as u32)
    }
}

/// The sections of a file of `len` bytes at `sector`: first sector and length, and whether more follow.
fn sections(sector: Sector, len: u64) -> impl Iterator<Item = ((Sector, u32), bool)> {
    let count = len.div_ceil(MAX_SECTION_LEN).max(1);
    (0..count).map(move |index| {
        let start = index * MAX_SECTION_LEN;
        let section_len = (len - start).min(MAX_SECTION_LEN) as u32;
        ((sector.after((start / SECTOR_SIZE) as u32), section_len), index + 1 < count)
    })
}

fn mode_of(node: &Node) -> u32 {
    let (kind, usual) = match node.kind {
        NodeKind::Folder(_) => (0o040_000, 0o555),
        NodeKind::File(_) => (0o100_000, 0o444),
        NodeKind::Link(_) => (0o120_000, 0o777),
    };
    kind | u32::from(node.meta.mode.unwrap_or(usual))
}

pub(crate) fn record(extent: (Sector, u32), meta: Meta, flags: u8) -> DirectoryRecord {
    DirectoryRecord {
        length: 0,
        extended_attribute_length: 0,
        location: extent.0.0.into(),
        data_length: extent.1.into(),
        recorded: RecordingTime::from_timestamp(meta.modified),
        flags: flags | if meta.hidden { FLAG_HIDDEN } else { 0 },
        file_unit_size: 0,
        interleave_gap_size: 0,
        volume_sequence_number: 1.into(),
        identifier_length: 0,
    }
}

/// A directory's records and continuation areas as they grow.
pub(crate) struct DirectoryBytes {
    pub records: Vec<u8>,
    pub continuations: Vec<u8>,
    /// First sector of the continuation areas.
    pub continuation_sector: Sector,
}

impl DirectoryBytes {
    pub(crate) fn add(&mut self, raw: DirectoryRecord, identifier: &[u8], susp: Option<Entry<'_>>) {
        let front = (size_of::<DirectoryRecord>() + identifier.len()).next_multiple_of(2);
        let area = susp.map(|entry| self.system_use(&entry.parts(), 254 - front)).unwrap_or_default();
        let len = (front + area.len()).next_multiple_of(2);
        // Records end within the sector in which they begin (ECMA-119 6.8.1.1).
        if self.records.len() % SECTOR + len > SECTOR {
            self.records.resize(self.records.len().next_multiple_of(SECTOR), 0);
        }
        let start = self.records.len();
        let raw = DirectoryRecord { length: len as u8, identifier_length: identifier.len() as u8, ..raw };
        self.records.extend(raw.as_bytes());
        self.records.extend(identifier);
        self.records.resize(start + front, 0);
        self.records.extend(area);
        self.records.resize(start + len, 0);
    }

    /// Lays entries into the record's own area of at most `room` bytes and what does not fit into continuation
    /// areas, each within one sector.
    fn system_use(&mut self, parts: &[Vec<u8>], room: usize) -> Vec<u8> {
        let total: usize = parts.iter().map(Vec::len).sum();
        if total <= room {
            return parts.concat();
        }
        let mut inline = Vec::new();
        let mut index = 0;
        while inline.len() + parts[index].len() + CONTINUATION_LEN <= room {
            inline.extend(&parts[index]);
            index += 1;
        }
        let pointer = self.continue_with(&parts[index..]);
        inline.extend(pointer);
        inline
    }

    fn continue_with(&mut self, parts: &[Vec<u8>]) -> Vec<u8> {
        // A pointer to a further area must fit behind what a full sector holds.
        let mut len = 0;
        let mut count = 0;
        for part in parts {
            if len + part.len() + CONTINUATION_LEN > SECTOR {
                break;
            }
            len += part.len();
            count += 1;
        }
        let rest = (count < parts.len()).then(|| self.continue_with(&parts[count..]));
        let area: Vec<u8> =
            parts[..count].iter().flatten().copied().chain(rest.into_iter().flatten()).collect();
        if self.continuations.len() % SECTOR + area.len() > SECTOR {
            self.continuations.resize(self.continuations.len().next_multiple_of(SECTOR), 0);
        }
        let at = self.continuations.len();
        let pointer = continuation(
            self.continuation_sector.after((at / SECTOR) as u32).0,
            (at % SECTOR) as u32,
            area.len() as u32,
        );
        self.continuations.extend(area);
        pointer
    }
}

/// Where a hierarchy's path tables are.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct PathTables {
    pub little: Sector,
    pub big: Sector,
}

/// A primary or Joliet descriptor for `hierarchy`.
pub(crate) fn volume_descriptor(
    hierarchy: &Hierarchy,
    tables: PathTables,
    identity: &VolumeIdentity,
    time: Timestamp,
    root: Meta,
    total_sectors: u32,
) -> VolumeDescriptor {
    let joliet = matches!(hierarchy.flavor, Flavor::Joliet { .. });
    let text = |text: &str, field: &mut [u8]| {
        if joliet { utf16_field(text, field) } else { ascii_field(text, field) }
    };
    let mut descriptor = VolumeDescriptor::new_zeroed();
    descriptor.descriptor_type = if joliet { TYPE_SUPPLEMENTARY } else { TYPE_PRIMARY };
    descriptor.standard_identifier = STANDARD_IDENTIFIER;
    descriptor.version = 1;
    text(&identity.system, &mut descriptor.system_identifier);
    text(&identity.label, &mut descriptor.volume_identifier);
    descriptor.volume_space_size = BothU32::from(total_sectors);
    if joliet {
        descriptor.escape_sequences[..3].copy_from_slice(b"%/E");
    }
    descriptor.volume_set_size = BothU16::from(1);
    descriptor.volume_sequence_number = BothU16::from(1);
    descriptor.logical_block_size = BothU16::from(SECTOR as u16);
    descriptor.path_table_size = BothU32::from(hierarchy.path_table_len);
    descriptor.type_l_path_table = tables.little.0.into();
    descriptor.type_m_path_table = tables.big.0.into();
    descriptor.root = record(hierarchy.extent_of(0), root, FLAG_DIRECTORY);
    descriptor.root.length = 34;
    descriptor.root.identifier_length = 1;
    text(&identity.volume_set, &mut descriptor.volume_set_identifier);
    text(&identity.publisher, &mut descriptor.publisher_identifier);
    text(&identity.preparer, &mut descriptor.data_preparer_identifier);
    text(&identity.application, &mut descriptor.application_identifier);
    text("", &mut descriptor.copyright_file_identifier);
    text("", &mut descriptor.abstract_file_identifier);
    text("", &mut descriptor.bibliographic_file_identifier);
    descriptor.created = VolumeTime::from_timestamp(identity.created.unwrap_or(time));
    descriptor.modified = VolumeTime::from_timestamp(identity.modified.unwrap_or(time));
    descriptor.expires = VolumeTime::UNSPECIFIED;
    descriptor.effective = VolumeTime::UNSPECIFIED;
    descriptor.file_structure_version = 1;
    descriptor
}

/// ASCII padded with spaces; what is not ASCII becomes `_`.
fn ascii_field(text: &str, field: &mut [u8]) {
    field.fill(b' ');
    for (slot, c) in field.iter_mut().zip(text.chars()) {
        *slot = if c.is_ascii_graphic() || c == ' ' { c as u8 } else { b'_' };
    }
}

/// UTF-16 padded with spaces, cut between characters.
fn utf16_field(text: &str, field: &mut [u8]) {
    for pair in field.chunks_exact_mut(2) {
        pair.copy_from_slice(&[0, b' ']);
    }
    let mut at = 0;
    for c in text.chars() {
        let mut units = [0; 2];
        let units = c.encode_utf16(&mut units);
        let len = units.len() * 2;
        if at + len > field.len() / 2 * 2 {
            break;
        }
        for (pair, unit) in field[at..at + len].chunks_exact_mut(2).zip(units) {
            pair.copy_from_slice(&unit.to_be_bytes());
        }
        at += len;
    }
}

/// The boot record that points at the catalog (El Torito 2.0).
pub(crate) fn boot_record(catalog: Sector) -> Vec<u8> {
    let mut bytes = vec![0; SECTOR];
    bytes[0] = TYPE_BOOT_RECORD;
    bytes[1..6].copy_from_slice(&STANDARD_IDENTIFIER);
    bytes[6] = 1;
    bytes[7..30].copy_from_slice(b"EL TORITO SPECIFICATION");
    bytes[0x47..0x4B].copy_from_slice(&catalog.0.to_le_bytes());
    bytes
}

/// The volume descriptor set terminator (ECMA-119 8.3).
pub(crate) fn terminator() -> Vec<u8> {
    let mut bytes = vec![0; SECTOR];
    bytes[0] = TYPE_TERMINATOR;
    bytes[1..6].copy_from_slice(&STANDARD_IDENTIFIER);
    bytes[6] = 1;
    bytes
}

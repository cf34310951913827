//! Laying out and making a UDF 1.02 volume.

use super::{
    cs0,
    layout::{
        ALLOCATION_EMBEDDED, ALLOCATION_SHORT, ANCHOR_SECTOR, Anchor, CharSpec, EntityId, ExtentAd,
        FID_DIRECTORY, FID_HIDDEN, FID_PARENT, FILE_TYPE_BYTES, FILE_TYPE_DIRECTORY, FILE_TYPE_LINK,
        FileEntry, FileIdentifier, FileSet, IcbTag, LbAddr, LogicalVolume, LongAd, MAX_EXTENT_LEN, Partition,
        PartitionMap1, PrimaryVolume, ShortAd, TAG_ANCHOR, TAG_FILE_ENTRY, TAG_FILE_IDENTIFIER, TAG_FILE_SET,
        TAG_IMPLEMENTATION, TAG_INTEGRITY, TAG_LOGICAL_VOLUME, TAG_PARTITION, TAG_PRIMARY, TAG_TERMINATING,
        TAG_UNALLOCATED, Tag, UdfTime,
    },
    read::link_components,
};
use crate::{
    VolumeIdentity,
    iso9660::write::Placed,
    units::{BlockNumber, Sector},
};
use neat_content::{Error, Meta, NodeId, NodeKind, Result, Timestamp, Tree, TreeCounts};
use std::collections::HashSet;
use zerocopy::{FromZeros, Immutable, IntoBytes};

const BLOCK: u64 = 2048;
/// First sector of the partition: right after the anchor.
pub(crate) const PARTITION_START: u32 = ANCHOR_SECTOR as u32 + 1;
/// Sectors of the descriptor sequences.
const MAIN_SEQUENCE: u32 = 32;
const RESERVE_SEQUENCE: u32 = 48;
const SEQUENCE_SECTORS: u32 = 16;
const INTEGRITY_SEQUENCE: u32 = 64;
/// First sector after them that is free for other things.
pub(crate) const FREE_FROM: u32 = 66;
/// Blocks of the file set descriptor and its terminator.
const FILE_SET_BLOCKS: u32 = 2;
/// Bytes that a file entry has for allocation descriptors.
const ALLOCATION_ROOM: usize = BLOCK as usize - size_of::<FileEntry>();
/// Largest file: all allocation descriptors of one file entry, each of the largest extent.
const MAX_FILE_LEN: u64 = (ALLOCATION_ROOM / size_of::<ShortAd>()) as u64 * MAX_EXTENT_LEN;
/// Longest name in compressed form.
const MAX_NAME_LEN: usize = 255;
/// Unique ids below this are reserved (UDF 3.2.1.1).
const FIRST_UNIQUE_ID: u64 = 16;

/// Where everything of a UDF volume is, in the order of a walk through the tree.
pub(crate) struct UdfPlan {
    /// Block of each node's file entry, by node.
    entry_blocks: Vec<BlockNumber>,
    /// Blocks from the partition's start to the end of the file entries and directories.
    blocks: u32,
    counts: TreeCounts,
    /// Names that were too long.
    pub shortened: Vec<String>,
}

/// What the descriptors say of the whole volume.
pub(crate) struct VolumeFacts<'a> {
    pub identity: &'a VolumeIdentity,
    pub time: Timestamp,
    /// Sectors of the partition.
    pub partition_len: u32,
    /// Makes the volume set's name unique (UDF 2.2.2.5).
    pub unique: u64,
}

impl UdfPlan {
    pub(crate) fn new(tree: &Tree) -> Result<Self> {
        let mut plan = Self {
            entry_blocks: vec![BlockNumber::default(); tree.capacity()],
            blocks: FILE_SET_BLOCKS,
            counts: tree.counts(),
            shortened: Vec::new(),
        };
        let nodes = std::iter::once(Tree::ROOT).chain(tree.walk().map(|step| step.id));
        for id in nodes {
            plan.entry_blocks[id.index()] = BlockNumber(plan.blocks);
            plan.blocks += 1;
            match &tree.node(id).kind {
                NodeKind::Folder(folder) => {
                    for child in folder.children() {
                        if cs0::encode(tree.node(child).name()).len() > MAX_NAME_LEN {
                            plan.shortened.push(tree.path(child));
                        }
                    }
                    plan.blocks += directory_len(tree, id).div_ceil(BLOCK) as u32;
                }
                NodeKind::File(content) if content.len() > MAX_FILE_LEN => {
                    return Err(Error::request(
                        format!(
                            "{} has {} bytes, and a UDF file entry holds at most {MAX_FILE_LEN}",
                            tree.path(id),
                            content.len()
                        ),
                        "split the file",
                    ));
                }
                NodeKind::Link(target) if link_components(target).len() > ALLOCATION_ROOM => {
                    return Err(Error::request(
                        format!("the target of the symbolic link {} is too long", tree.path(id)),
                        "shorten it",
                    ));
                }
                NodeKind::File(_) | NodeKind::Link(_) => {}
            }
        }
        Ok(plan)
    }

    /// Sectors from the partition's start that file entries and directories take.
    pub(crate) const fn sectors(&self) -> u32 {
        self.blocks
    }

    /// Calls `each` with every block from the partition's start on, in order.
    pub(crate) fn for_each_block(
        &self,
        tree: &Tree,
        facts: &VolumeFacts<'_>,
        placed: &dyn Fn(NodeId) -> Placed,
        each: &mut dyn FnMut(&[u8]) -> Result<()>,
    ) -> Result<()> {
        each(&self.file_set(facts))?;
        each(&block(tagged(TAG_TERMINATING, 1, &[0; 496])))?;
        let nodes = std::iter::once(Tree::ROOT).chain(tree.walk().map(|step| step.id));
        for (number, id) in nodes.enumerate() {
            let unique = if id == Tree::ROOT { 0 } else { FIRST_UNIQUE_ID + number as u64 };
            each(&self.file_entry(tree, id, unique, placed(id).0)?)?;
            if tree.node(id).folder().is_some() {
                let mut bytes = self.directory(tree, id);
                bytes.resize(bytes.len().next_multiple_of(BLOCK as usize), 0);
                each(&bytes)?;
            }
        }
        Ok(())
    }

    fn file_set(&self, facts: &VolumeFacts<'_>) -> Vec<u8> {
        let mut set = FileSet::new_zeroed();
        set.recorded = UdfTime::from_timestamp(facts.time);
        set.interchange_level = 3.into();
        set.maximum_interchange_level = 3.into();
        set.character_sets = 1.into();
        set.maximum_character_sets = 1.into();
        set.logical_volume_charset = CharSpec::OSTA;
        set.logical_volume_identifier = cs0::dstring(&facts.identity.label);
        set.file_set_charset = CharSpec::OSTA;
        set.file_set_identifier = cs0::dstring(&facts.identity.label);
        set.root = long_ad(self.entry_blocks[Tree::ROOT.index()], BLOCK as u32);
        set.domain = domain();
        block(tagged(TAG_FILE_SET, 0, &set.as_bytes()[16..]))
    }

    fn file_entry(&self, tree: &Tree, id: NodeId, unique: u64, sector: Sector) -> Result<Vec<u8>> {
        let node = tree.node(id);
        let own = self.entry_blocks[id.index()];
        let mut entry = FileEntry::new_zeroed();
        let (file_type, allocation, len, links, descriptors) = match &node.kind {
            NodeKind::Folder(folder) => {
                let len = directory_len(tree, id);
                let subfolders =
                    folder.children().filter(|child| tree.node(*child).folder().is_some()).count();
                (FILE_TYPE_DIRECTORY, ALLOCATION_SHORT, len, 1 + subfolders, short_ads(own.after(1), len))
            }
            NodeKind::File(content) => {
                let ads = short_ads(in_partition(sector), content.len());
                (FILE_TYPE_BYTES, ALLOCATION_SHORT, content.len(), 1, ads)
            }
            NodeKind::Link(target) => {
                let components = link_components(target);
                (FILE_TYPE_LINK, ALLOCATION_EMBEDDED, components.len() as u64, 1, components)
            }
        };
        entry.icb_tag = IcbTag {
            strategy: 4.into(),
            maximum_entries: 1.into(),
            file_type,
            flags: allocation.into(),
            ..IcbTag::default()
        };
        entry.uid = u32::MAX.into();
        entry.gid = u32::MAX.into();
        entry.permissions = permissions(node.meta, file_type == FILE_TYPE_DIRECTORY).into();
        // A count of 16 bits; a folder with more subfolders than that keeps the largest.
        entry.link_count = u16::try_from(links).unwrap_or(u16::MAX).into();
        entry.information_length = len.into();
        entry.blocks_recorded =
            if allocation == ALLOCATION_EMBEDDED { 0 } else { len.div_ceil(BLOCK) }.into();
        let time = UdfTime::from_timestamp(node.meta.modified);
        (entry.accessed, entry.modified, entry.attributes_changed) = (time, time, time);
        entry.checkpoint = 1.into();
        entry.implementation = implementation();
        entry.unique_id = unique.into();
        entry.allocation_descriptors_length = (descriptors.len() as u32).into();
        let body = [&entry.as_bytes()[16..], &descriptors].concat();
        if body.len() + 16 > BLOCK as usize {
            return Err(Error::request(
                format!("{} does not fit into a UDF file entry", tree.path(id)),
                "split the file",
            ));
        }
        Ok(block(tagged(TAG_FILE_ENTRY, own.0, &body)))
    }

    fn directory(&self, tree: &Tree, id: NodeId) -> Vec<u8> {
        let node = tree.node(id);
        let first = self.entry_blocks[id.index()].after(1);
        let parent = self.entry_blocks[node.parent().index()];
        let mut bytes = identifier(first, FID_DIRECTORY | FID_PARENT, parent, &[]);
        for (child, name) in children_with_names(tree, id) {
            let node = tree.node(child);
            let mut characteristics = if node.folder().is_some() { FID_DIRECTORY } else { 0 };
            if node.meta.hidden {
                characteristics |= FID_HIDDEN;
            }
            let at = first.after((bytes.len() as u64 / BLOCK) as u32);
            bytes.extend(identifier(at, characteristics, self.entry_blocks[child.index()], &name));
        }
        bytes
    }

    /// The descriptors from sector 32 on: main sequence, reserve sequence, integrity sequence.
    pub(crate) fn volume_sequences(&self, facts: &VolumeFacts<'_>) -> Vec<u8> {
        let mut bytes = sequence(facts, MAIN_SEQUENCE);
        bytes.extend(sequence(facts, RESERVE_SEQUENCE));
        bytes.extend(self.integrity(facts));
        bytes.extend(block(tagged(TAG_TERMINATING, INTEGRITY_SEQUENCE + 1, &[0; 496])));
        bytes
    }

    fn integrity(&self, facts: &VolumeFacts<'_>) -> Vec<u8> {
        let mut body = UdfTime::from_timestamp(facts.time).as_bytes().to_vec();
        let word = |body: &mut Vec<u8>, value: u32| body.extend(value.to_le_bytes());
        // 1: a closed volume; no next extent.
        word(&mut body, 1);
        body.extend([0; 8]);
        let mut header = [0; 32];
        let next_unique = FIRST_UNIQUE_ID + self.counts.files + self.counts.folders + self.counts.links + 1;
        header[..8].copy_from_slice(&next_unique.to_le_bytes());
        body.extend(header);
        word(&mut body, 1);
        // Bytes of implementation use: an identifier and what UDF 2.2.6.4 wants.
        word(&mut body, 46);
        word(&mut body, 0);
        word(&mut body, facts.partition_len);
        body.extend(implementation().as_bytes());
        word(&mut body, (self.counts.files + self.counts.links) as u32);
        word(&mut body, self.counts.folders as u32 + 1);
        for revision in [0x0102_u16; 3] {
            body.extend(revision.to_le_bytes());
        }
        block(tagged(TAG_INTEGRITY, INTEGRITY_SEQUENCE, &body))
    }
}

/// The volume recognition sequence (ECMA-167 2/8.3): begin, NSR02, end.
pub(crate) fn recognition_sequence() -> Vec<u8> {
    let mut bytes = Vec::with_capacity(3 * BLOCK as usize);
    for identifier in [b"BEA01", b"NSR02", b"TEA01"] {
        let start = bytes.len();
        bytes.push(0);
        bytes.extend(identifier);
        bytes.push(1);
        bytes.resize(start + BLOCK as usize, 0);
    }
    bytes
}

/// An anchor for `sector`.
pub(crate) fn anchor(sector: Sector) -> Vec<u8> {
    let mut anchor = Anchor::new_zeroed();
    let len = SEQUENCE_SECTORS * BLOCK as u32;
    anchor.main = ExtentAd { length: len.into(), location: MAIN_SEQUENCE.into() };
    anchor.reserve = ExtentAd { length: len.into(), location: RESERVE_SEQUENCE.into() };
    block(tagged(TAG_ANCHOR, sector.0, &anchor.as_bytes()[16..]))
}

/// A volume descriptor sequence for `start`.
fn sequence(facts: &VolumeFacts<'_>, start: u32) -> Vec<u8> {
    let time = UdfTime::from_timestamp(facts.time);
    let label = &facts.identity.label;
    let mut primary = PrimaryVolume::new_zeroed();
    primary.volume_identifier = cs0::dstring(label);
    primary.volume_sequence_number = 1.into();
    primary.maximum_volume_sequence_number = 1.into();
    primary.interchange_level = 2.into();
    primary.maximum_interchange_level = 2.into();
    primary.character_sets = 1.into();
    primary.maximum_character_sets = 1.into();
    // The first sixteen characters tell sets apart; they are hexadecimal digits (UDF 2.2.2.5).
    primary.volume_set_identifier = cs0::dstring(&format!("{:016x}{label}", facts.unique));
    primary.descriptor_charset = CharSpec::OSTA;
    primary.explanatory_charset = CharSpec::OSTA;
    primary.recorded = time;
    primary.implementation = implementation();

    let mut info = vec![0; 496];
    info[..4].copy_from_slice(&1_u32.to_le_bytes());
    let identifier =
        EntityId { identifier: padded(b"*UDF LV Info"), suffix: [0x02, 0x01, 4, 5, 0, 0, 0, 0], flags: 0 };
    info[4..36].copy_from_slice(identifier.as_bytes());
    info[36..100].copy_from_slice(CharSpec::OSTA.as_bytes());
    info[100..228].copy_from_slice(&cs0::dstring::<128>(label));
    // Three texts of 36 bytes for the owner, the organisation and the contact stay empty.
    info[336..368].copy_from_slice(implementation().as_bytes());

    let mut partition = Partition::new_zeroed();
    partition.sequence = 2.into();
    partition.flags = 1.into();
    partition.contents = EntityId { identifier: padded(b"+NSR02"), ..EntityId::default() };
    partition.access_type = 1.into();
    partition.start = PARTITION_START.into();
    partition.length = facts.partition_len.into();
    partition.implementation = implementation();

    let mut logical = LogicalVolume::new_zeroed();
    logical.sequence = 3.into();
    logical.descriptor_charset = CharSpec::OSTA;
    logical.logical_volume_identifier = cs0::dstring(label);
    logical.logical_block_size = (BLOCK as u32).into();
    logical.domain = domain();
    logical.contents_use = long_ad(BlockNumber(0), BLOCK as u32);
    logical.map_table_length = (size_of::<PartitionMap1>() as u32).into();
    logical.partition_maps = 1.into();
    logical.implementation = implementation();
    logical.integrity_sequence =
        ExtentAd { length: (2 * BLOCK as u32).into(), location: INTEGRITY_SEQUENCE.into() };
    let map = PartitionMap1 {
        map_type: 1,
        map_length: 6,
        volume_sequence_number: 1.into(),
        partition_number: 0.into(),
    };

    let mut unallocated = vec![0; 8];
    unallocated[..4].copy_from_slice(&4_u32.to_le_bytes());
    let bodies = [
        (TAG_PRIMARY, primary.as_bytes()[16..].to_vec()),
        (TAG_IMPLEMENTATION, info),
        (TAG_PARTITION, partition.as_bytes()[16..].to_vec()),
        (TAG_LOGICAL_VOLUME, [&logical.as_bytes()[16..], map.as_bytes()].concat()),
        (TAG_UNALLOCATED, unallocated),
        (TAG_TERMINATING, vec![0; 496]),
    ];
    let mut bytes = Vec::new();
    for (number, (tag, body)) in bodies.into_iter().enumerate() {
        bytes.extend(block(tagged(tag, start + number as u32, &body)));
    }
    bytes.resize((u64::from(SEQUENCE_SECTORS) * BLOCK) as usize, 0);
    bytes
}

/// A descriptor: tag with checksum and CRC, and its body.
pub(crate) fn tagged(identifier: u16, location: u32, body: &[u8]) -> Vec<u8> {
    let mut tag = Tag {
        identifier: identifier.into(),
        descriptor_version: 2.into(),
        crc: cs0::crc(body).into(),
        crc_length: (body.len() as u16).into(),
        location: location.into(),
        ..Tag::default()
    };
    tag.checksum = tag.as_bytes().iter().fold(0, |sum, byte| sum.wrapping_add(*byte));
    [tag.as_bytes(), body].concat()
}

fn block(mut bytes: Vec<u8>) -> Vec<u8> {
    bytes.resize(BLOCK as usize, 0);
    bytes
}

fn padded(text: &[u8]) -> [u8; 23] {
    let mut field = [0; 23];
    field[..text.len()].copy_from_slice(text);
    field
}

/// Who made the volume; the suffix names the kind of system (UDF 6.3: 4 is UNIX, 5 Linux).
pub(crate) fn implementation() -> EntityId {
    EntityId { flags: 0, identifier: padded(b"*Neat Stack"), suffix: [4, 5, 0, 0, 0, 0, 0, 0] }
}

/// The domain with revision 1.02 and both write-protect flags (UDF 2.1.5.3).
fn domain() -> EntityId {
    EntityId { flags: 0, identifier: padded(b"*OSTA UDF Compliant"), suffix: [0x02, 0x01, 3, 0, 0, 0, 0, 0] }
}

/// The block of the partition that is a sector of the disc: both count 2,048 bytes, from different places.
const fn in_partition(sector: Sector) -> BlockNumber {
    BlockNumber(sector.0.saturating_sub(PARTITION_START))
}

pub(crate) fn long_ad(block: BlockNumber, len: u32) -> LongAd {
    LongAd {
        length: len.into(),
        location: LbAddr { block: block.0.into(), partition: 0.into() },
        implementation_use: [0; 6],
    }
}

pub(crate) fn short_ads(block: BlockNumber, len: u64) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut start = 0;
    while start < len {
        let part = (len - start).min(MAX_EXTENT_LEN);
        let ad =
            ShortAd { length: (part as u32).into(), position: block.after((start / BLOCK) as u32).0.into() };
        bytes.extend_from_slice(IntoBytes::as_bytes(&ad));
        start += part;
    }
    bytes
}

/// UDF permissions from POSIX ones; without any, reading for everybody.
pub(crate) fn permissions(meta: Meta, folder: bool) -> u32 {
    let mode = u32::from(meta.mode.unwrap_or(if folder { 0o555 } else { 0o444 }));
    (mode & 7) | (mode >> 3 & 7) << 5 | (mode >> 6 & 7) << 10
}

fn identifier(at: BlockNumber, characteristics: u8, entry_block: BlockNumber, name: &[u8]) -> Vec<u8> {
    let mut fid = FileIdentifier::new_zeroed();
    fid.file_version = 1.into();
    fid.characteristics = characteristics;
    fid.identifier_length = name.len() as u8;
    fid.icb = long_ad(entry_block, BLOCK as u32);
    let mut body = body_of(&fid, name);
    body.resize((body.len() + 16).next_multiple_of(4) - 16, 0);
    tagged(TAG_FILE_IDENTIFIER, at.0, &body)
}

fn body_of<T: IntoBytes + Immutable>(fixed: &T, rest: &[u8]) -> Vec<u8> {
    [&fixed.as_bytes()[16..], rest].concat()
}

fn directory_len(tree: &Tree, id: NodeId) -> u64 {
    let own = size_of::<FileIdentifier>().next_multiple_of(4);
    let children = children_with_names(tree, id);
    (own + children
        .map(|(_, name)| (size_of::<FileIdentifier>() + name.len()).next_multiple_of(4))
        .sum::<usize>()) as u64
}

/// The children with their names in compressed form; one that is too long is cut and gets a number.
fn children_with_names(tree: &Tree, id: NodeId) -> impl Iterator<Item = (NodeId, Vec<u8>)> + '_ {
    let mut cut: HashSet<Vec<u8>> = HashSet::new();
    tree.node(id).folder().into_iter().flat_map(neat_content::Folder::children).map(move |child| {
        let name = tree.node(child).name();
        let encoded = cs0::encode(name);
        if encoded.len() <= MAX_NAME_LEN {
            return (child, encoded);
        }
        let mut number = 1;
        loop {
            let tail = format!("~{number}");
            let mut shorter = name.to_owned();
            let mut candidate = cs0::encode(&format!("{shorter}{tail}"));
            while candidate.len() > MAX_NAME_LEN && shorter.pop().is_some() {
                candidate = cs0::encode(&format!("{shorter}{tail}"));
            }
            if cut.insert(candidate.clone()) {
                return (child, candidate);
            }
            number += 1;
        }
    })
}

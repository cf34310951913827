//! Sticks: a partition table with one FAT32 file system that BIOS and UEFI start from.
//!
//! [`StickPlan::new`] gives everything its place; nothing is written. In bytes from the start:
//!
//! | from | what |
//! |---|---|
//! | 0 | MBR with our boot code, or a protective MBR with it and a GPT |
//! | 1 MiB | FAT32: boot record, tables, directories, files one after another |
//! | last 1 MiB | with a GPT: its backup, at the very end |
//!
//! UEFI starts `EFI/BOOT/BOOT*.EFI` from the file system as it is. BIOS runs the code in the first block, which finds the
//! partition; the boot record there loads the boot manager, a file in the root (`manager`).

mod manager;
pub mod read;
mod together;
mod update;

pub use crate::fat::update::Options as UpdateOptions;
pub use manager::{BootManager, is_boot_manager};
pub use together::write_with_disc;
pub use update::{StickUpdate, plan_update};

use crate::{
    disk::{
        Gpt, GptPartition,
        layout::{ATTRIBUTE_BIOS, KIND_BASIC_DATA, TYPE_FAT32_LBA},
        mbr,
    },
    fat::volume::{self, Part, Volume},
};
use neat_content::{
    Content, Error, Event, Job, Meta, NodeId, NodeKind, Output, Result, Timestamp, Tree, fold_case,
};
use std::{collections::HashSet, sync::Arc};

/// Boot code of the first block. Source: `boot/disk.asm`.
pub const DISK_CODE: &[u8] = include_bytes!("../../boot/disk.bin");
/// Boot record of the file system. Source: `boot/record.asm`.
pub const BOOT_RECORD: &[u8] = include_bytes!("../../boot/record.bin");

/// Where the file system begins; also the unit of all sizes.
pub const ALIGNMENT: u64 = 1 << 20;
/// Links to links that are followed.
const MAX_LINKS: usize = 16;

/// How a stick is partitioned.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Scheme {
    /// GUID partition table, with a protective MBR and a backup.
    #[default]
    Gpt,
    /// Master boot record with one active partition.
    Mbr,
}

impl Scheme {
    /// What people call it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Gpt => "GPT",
            Self::Mbr => "MBR",
        }
    }
}

/// How a stick is made.
#[derive(Clone, Debug)]
pub struct Options {
    /// How it is partitioned.
    pub scheme: Scheme,
    /// Bytes of the stick. Without it just large enough.
    pub len: Option<u64>,
    /// Label of the file system; what FAT cannot hold becomes `_`, at most 11 characters count.
    pub label: String,
    /// Time where a file has none.
    pub time: Timestamp,
    /// What the ids of disk, partition and file system are made from.
    pub seed: [u8; 32],
    /// The boot manager in the root that BIOS starts; found by its name where this is `None`.
    pub manager: Option<String>,
}

/// What a piece of a stick is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SlotKind {
    /// The partition table at the start: what makes it a stick, and is written last.
    Table,
    /// Part of the file system.
    Volume(Part),
    /// What a disc has besides its files.
    Disc,
    /// The backup of a GPT.
    TableBackup,
}

/// A piece of a stick with its place.
#[derive(Clone, Debug)]
pub struct Slot {
    /// First byte on the stick.
    pub offset: u64,
    /// The bytes.
    pub content: Content,
    /// What it is.
    pub kind: SlotKind,
}

impl Slot {
    /// What a person calls it.
    pub fn name(&self, tree: &Tree) -> String {
        match self.kind {
            SlotKind::Table => "the partition table".into(),
            SlotKind::Disc => "the tables of the disc".into(),
            SlotKind::TableBackup => "the backup of the partition table".into(),
            SlotKind::Volume(Part::Reserved) => "the boot record".into(),
            SlotKind::Volume(Part::Table) => "the file allocation table".into(),
            SlotKind::Volume(Part::Folder(Tree::ROOT)) => "the root folder".into(),
            SlotKind::Volume(Part::Folder(id)) => format!("the folder {}", tree.path(id)),
            SlotKind::Volume(Part::File(id)) => tree.path(id),
        }
    }
}

/// A stick with a place for everything.
#[derive(Clone, Debug)]
pub struct StickPlan {
    /// Bytes in all.
    pub len: u64,
    /// How it is partitioned.
    pub scheme: Scheme,
    /// The label as it is written.
    pub label: String,
    /// The files.
    pub tree: Arc<Tree>,
    /// What BIOS starts.
    pub manager: Option<BootManager>,
    /// Bytes of a cluster.
    pub cluster_len: u64,
    /// Bytes that are free in the file system.
    pub free: u64,
    /// Everything that is not zero, in the order of its place.
    pub slots: Vec<Slot>,
    /// What a person should know that is not an error.
    pub notes: Vec<String>,
}

impl StickPlan {
    /// Lays out a stick with the files of `tree`; those in `order` come in that order.
    ///
    /// # Errors
    /// `Request` for what FAT cannot hold and for sizes that are too small.
    pub fn new(tree: &Tree, order: &[NodeId], options: &Options) -> Result<Self> {
        let mut notes = Vec::new();
        let (tree, removed) = without_links(tree, &mut notes)?;
        let order: Vec<NodeId> = order.iter().copied().filter(|id| !removed.contains(id)).collect();
        let manager = match &options.manager {
            Some(name) => Some(BootManager::named(&tree, name)?),
            None => BootManager::find(&tree)?,
        };
        if manager.is_none() {
            notes.push("there is no boot manager for BIOS in the root, so it starts only on UEFI".into());
        }
        let record = manager.as_ref().map(BootManager::record);
        let tail = if options.scheme == Scheme::Gpt { ALIGNMENT } else { 0 };
        let volume_len = match options.len {
            None => None,
            Some(len) => {
                let left = (len / ALIGNMENT * ALIGNMENT).checked_sub(ALIGNMENT + tail);
                Some(left.ok_or_else(|| {
                    Error::request(format!("a stick of {len} bytes is too small"), "use a larger size")
                })?)
            }
        };
        let label = volume_label(&options.label);
        let word = |at: usize| u32::from_le_bytes([0, 1, 2, 3].map(|byte: usize| options.seed[at + byte]));
        let volume = Volume::plan(
            &tree,
            &order,
            &volume::Options {
                label: &label,
                time: options.time,
                len: volume_len,
                start: ALIGNMENT,
                serial: word(16),
                record: record.as_ref(),
            },
        )?;
        // The backup of a GPT belongs at the very end.
        let len = match options.len {
            Some(len) if options.scheme == Scheme::Gpt => len / 512 * 512,
            _ => ALIGNMENT + volume.len + tail,
        };
        let slot = |offset, bytes: Vec<u8>, kind| Slot { offset, content: Content::from_bytes(bytes), kind };
        let mut slots = Vec::new();
        let mut backup = None;
        match options.scheme {
            Scheme::Mbr => {
                let table = mbr(DISK_CODE, word(20), TYPE_FAT32_LBA, ALIGNMENT, volume.len);
                slots.push(slot(0, table, SlotKind::Table));
            }
            Scheme::Gpt => {
                let gpt = Gpt {
                    total_len: len,
                    boot_code: Some(crate::BootCode { bytes: DISK_CODE.to_vec(), pointer_skip: None }),
                    image_start: None,
                    partitions: vec![GptPartition {
                        name: "Installation media",
                        kind: KIND_BASIC_DATA,
                        attributes: ATTRIBUTE_BIOS,
                        start: ALIGNMENT,
                        len: volume.len,
                    }],
                    seed: options.seed,
                };
                slots.push(slot(0, gpt.primary()?, SlotKind::Table));
                let bytes = gpt.backup();
                backup = Some(slot(len - bytes.len() as u64, bytes, SlotKind::TableBackup));
            }
        }
        slots.extend(volume.pieces.into_iter().map(|piece| Slot {
            offset: ALIGNMENT + piece.offset,
            content: piece.content,
            kind: SlotKind::Volume(piece.part),
        }));
        slots.extend(backup);
        let Volume { cluster_len, free, .. } = volume;
        Ok(Self {
            len,
            scheme: options.scheme,
            label,
            tree: Arc::new(tree),
            manager,
            cluster_len,
            free,
            slots,
            notes,
        })
    }

    /// Whether it is a disc that also starts as a disk.
    pub fn is_disc(&self) -> bool {
        self.slots.iter().any(|slot| slot.kind == SlotKind::Disc)
    }

    /// Bytes that are written.
    pub fn content_len(&self) -> u64 {
        self.slots.iter().map(|slot| slot.content.len()).sum()
    }

    /// Writes it as a file, from its start to its end; what is zero becomes a hole.
    ///
    /// # Errors
    /// `Io`, what reading the content gives, `Cancelled`.
    pub fn write(&self, out: &mut Output, job: &Job<'_>) -> Result<()> {
        job.event(Event::StepStarted { step: "writing the stick", total_bytes: Some(self.content_len()) });
        together::write_slots(self, 0..self.slots.len(), out, job)?;
        out.pad_to(self.len)?;
        job.event(Event::StepFinished);
        Ok(())
    }
}

/// Bytes at the beginning of a disc that tell what it is as a disk.
const SYSTEM_AREA: u64 = 16 * 2048;

impl StickPlan {
    /// A stick that holds a disc which also starts as a disk. `disc` is all of it; `extents` are its files with their
    /// places, so that they can be told apart.
    ///
    /// # Errors
    /// `BadRequest` for a disc that does not start as a disk, or `len` that is too small.
    pub fn of_disc(
        tree: Tree,
        label: &str,
        disc: &Content,
        extents: &[crate::master::Extent],
    ) -> Result<Self> {
        let len = disc.len();
        let slot = |from: u64, to: u64, kind| -> Result<Slot> {
            Ok(Slot { offset: from, content: disc.part(from, to - from)?, kind })
        };
        let start = SYSTEM_AREA.min(len);
        let mut slots = vec![slot(0, start, SlotKind::Table)?];
        let mut at = start;
        let mut sorted: Vec<_> = extents.to_vec();
        sorted.sort_by_key(|(_, offset, _)| *offset);
        for (id, offset, file_len) in sorted {
            let end = offset.saturating_add(file_len);
            if offset < at || end > len || file_len == 0 {
                continue;
            }
            if offset > at {
                slots.push(slot(at, offset, SlotKind::Disc)?);
            }
            slots.push(slot(offset, end, SlotKind::Volume(Part::File(id)))?);
            at = end;
        }
        if at < len {
            slots.push(slot(at, len, SlotKind::Disc)?);
        }
        Ok(Self {
            len,
            scheme: Scheme::Gpt,
            label: label.to_owned(),
            tree: Arc::new(tree),
            manager: None,
            cluster_len: 2048,
            free: 0,
            slots,
            notes: Vec::new(),
        })
    }
}

/// A label that FAT can hold.
pub fn volume_label(text: &str) -> String {
    let usable = |c: char| if c.is_ascii_alphanumeric() || " _-".contains(c) { c } else { '_' };
    let label: String = text.to_uppercase().chars().map(usable).take(11).collect();
    label.trim().to_owned()
}

/// The tree with files in the place of links to them; other links are left out. Also the nodes that went.
fn without_links(tree: &Tree, notes: &mut Vec<String>) -> Result<(Tree, HashSet<NodeId>)> {
    let links: Vec<(NodeId, String)> = tree
        .walk()
        .filter(|step| matches!(tree.node(step.id).kind, NodeKind::Link(_)))
        .map(|step| (step.id, step.path))
        .collect();
    let mut own = tree.clone();
    let mut removed = HashSet::new();
    let mut left_out = Vec::new();
    for (id, path) in links {
        let target = follow(tree, &path);
        own.remove(id);
        removed.insert(id);
        match target.and_then(|target| Some((tree.node(target).content()?, tree.node(target).meta))) {
            Some((content, meta)) => {
                own.put_file(&path, content.clone(), Meta { hidden: false, ..meta })?;
            }
            None => left_out.push(path),
        }
    }
    if let [first, rest @ ..] = left_out.as_slice() {
        let more = neat_content::and_more(rest.len());
        notes.push(format!("left out, as FAT has no links, and these lead to no file: {first}{more}"));
    }
    Ok((own, removed))
}

/// Where a link leads.
fn follow(tree: &Tree, path: &str) -> Option<NodeId> {
    let mut path = path.to_owned();
    for _ in 0..MAX_LINKS {
        let id = tree.find(&path)?;
        let NodeKind::Link(target) = &tree.node(id).kind else { return Some(id) };
        let mut parts: Vec<&str> = if target.starts_with('/') {
            Vec::new()
        } else {
            path.rsplit_once('/').map_or(Vec::new(), |(folder, _)| folder.split('/').collect())
        };
        for part in target.split('/') {
            match part {
                "" | "." => {}
                ".." => {
                    parts.pop()?;
                }
                name => parts.push(name),
            }
        }
        path = parts.join("/");
    }
    None
}

/// Whether the tree has a loader that UEFI starts from a removable media (UEFI specification 3.5.1.1).
pub fn uefi_loaders(tree: &Tree) -> Vec<String> {
    let Some(folder) = tree.find_ignoring_case("efi/boot") else { return Vec::new() };
    let children = tree.node(folder).folder().into_iter().flat_map(neat_content::Folder::children);
    let is_loader = |name: &str| {
        let name = fold_case(name);
        name.starts_with("boot") && name.ends_with(".efi")
    };
    children
        .filter(|id| tree.node(*id).content().is_some() && is_loader(tree.node(*id).name()))
        .map(|id| tree.path(id))
        .collect()
}

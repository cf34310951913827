//! The files of a partition.

use crate::{FileSystem, Partition, leave_out};
use neat_content::{
    Content, Error, Event, Folder, Job, Meta, NodeId, NodeKind, Result, Timestamp, Tree, check_name,
    damage_apart,
};
use neat_image::{
    BlobDigest, BlobHasher, EntryId, Files, ImageDraft, Times, capture::image_element,
    layout::ATTRIBUTE_HIDDEN,
};
use neat_media::{Limits, exfat, fat};
use neat_ntfs::{Held, Slot, Volume, VolumeFiles, VolumeInfo};
use rayon::prelude::*;
use std::{collections::HashMap, sync::Arc};

/// Bytes that are read at once.
const BLOCK: usize = 256 << 10;

/// The files of a partition.
pub struct PartitionFiles {
    /// Where they are.
    pub partition: Partition,
    /// What the volume is called.
    pub label: String,
    kind: Kind,
}

enum Kind {
    Ntfs { info: VolumeInfo, read: Box<VolumeFiles> },
    Plain(Tree),
}

impl Partition {
    /// Reads which files are on it.
    ///
    /// # Errors
    /// `Request` where its files are not read, `Corrupt` where it is damaged, `Io`.
    pub fn open(&self, job: &Job<'_>) -> Result<PartitionFiles> {
        let plain =
            |(tree, label)| PartitionFiles { partition: self.clone(), label, kind: Kind::Plain(tree) };
        match self.file_system {
            FileSystem::Ntfs => {
                let volume = Arc::new(Volume::open(self.content.clone())?);
                let info = volume.info()?;
                let read = Box::new(volume.files(job)?);
                let label = info.label.clone();
                Ok(PartitionFiles { partition: self.clone(), label, kind: Kind::Ntfs { info, read } })
            }
            FileSystem::Fat => fat::read::read_with(&self.content, &Limits::default()).map(plain),
            FileSystem::Exfat => exfat::read(&self.content, &Limits::default()).map(plain),
            FileSystem::Encrypted | FileSystem::Luks => Err(Error::request(
                format!("partition {} is encrypted as a whole", self.number),
                "switch the encryption off in the system it belongs to and wait until it has ended",
            )),
            other => Err(Error::request(
                format!("partition {} holds a file system whose files are not read ({other})", self.number),
                "files of NTFS, FAT and exFAT are; say which partition with --partition",
            )),
        }
    }
}

impl PartitionFiles {
    /// What NTFS says of the volume.
    pub fn volume(&self) -> Option<&VolumeInfo> {
        match &self.kind {
            Kind::Ntfs { info, .. } => Some(info),
            Kind::Plain(_) => None,
        }
    }

    /// Its files as an edition has them, if it is NTFS.
    pub fn ntfs(&self) -> Option<&VolumeFiles> {
        match &self.kind {
            Kind::Ntfs { read, .. } => Some(read),
            Kind::Plain(_) => None,
        }
    }

    /// The same, to be taken apart.
    pub fn into_ntfs(self) -> Option<VolumeFiles> {
        match self.kind {
            Kind::Ntfs { read, .. } => Some(*read),
            Kind::Plain(_) => None,
        }
    }

    /// Whether there is a system on it, by the file that each has.
    pub fn has_system(&self) -> bool {
        self.ntfs().is_some_and(|read| any_root(&read.files))
    }

    /// A tree of names over its content, and what such a tree cannot hold.
    ///
    /// # Errors
    /// `LimitExceeded` for folders too deep.
    pub fn tree(&self) -> Result<(Tree, Vec<String>)> {
        match &self.kind {
            Kind::Plain(tree) => Ok((tree.clone(), Vec::new())),
            Kind::Ntfs { read, .. } => tree_of(read),
        }
    }

    /// The named streams of its files: path, name, content, when the file was last changed.
    pub fn streams(&self) -> Vec<(String, String, Content, Timestamp)> {
        let Some(read) = self.ntfs() else { return Vec::new() };
        let mut found = Vec::new();
        for held in &read.held {
            let Slot::Stream(n) = held.slot else { continue };
            let entry = read.files.entry(held.entry);
            let name = &entry.streams()[n as usize].name;
            if !name.is_empty() {
                let written = Times::to_timestamp(entry.times.written);
                for id in read.names_of(held.entry) {
                    found.push((read.files.path(id), name.to_string(), held.content(&read.volume), written));
                }
            }
        }
        found
    }

    /// A draft with the files as its only edition, called `name`. Content has stand-ins for digests, one for each, so that
    /// nothing is read; such a draft is for looking, never for writing.
    ///
    /// # Errors
    /// `Request` where it is not NTFS.
    pub fn draft(self, name: &str) -> Result<ImageDraft> {
        let mut read = self.of_system()?;
        let mut draft = ImageDraft::new(None);
        for (n, held) in std::mem::take(&mut read.held).into_iter().enumerate() {
            let digest = stand_in(n);
            read.set_digest(held.entry, held.slot, digest);
            draft.add_blob(digest, held.content(&read.volume));
        }
        read.share_digests();
        let written = read.files.entry(Files::ROOT).times.written;
        draft.add_edition(read.files, image_element(name, "", written))?;
        Ok(draft)
    }

    /// A draft with what a capture would take as its only edition, called `name`: everything is read and digested, so that
    /// it can be compared with others. What is damaged has the digest of nothing that there is, and is told.
    ///
    /// # Errors
    /// `Request` where it is not NTFS; `Io` and `Cancelled`.
    pub fn digested(self, name: &str, job: &Job<'_>) -> Result<(ImageDraft, Vec<String>)> {
        let mut read = self.of_system()?;
        let left_out: Vec<EntryId> =
            leave_out::find(&read.files, &[]).into_iter().map(|own| own.id).collect();
        read.leave_out(&left_out);
        let held = std::mem::take(&mut read.held);
        let total = held.iter().map(Held::len).sum();
        job.event(Event::StepStarted { step: "reading and digesting", total_bytes: Some(total) });
        let digests: Result<Vec<_>> =
            held.par_iter().map(|held| digest_or_damage(&held.content(&read.volume), job)).collect();
        job.event(Event::StepFinished);
        let mut draft = ImageDraft::new(None);
        let mut damaged = Vec::new();
        for ((n, held), digest) in held.into_iter().enumerate().zip(digests?) {
            let digest = digest.unwrap_or_else(|error| {
                damaged.push(format!("/{} is damaged: {error}", read.files.path(held.entry)));
                stand_in(n)
            });
            read.set_digest(held.entry, held.slot, digest);
            draft.add_blob(digest, held.content(&read.volume));
        }
        read.share_digests();
        let written = read.files.entry(Files::ROOT).times.written;
        draft.add_edition(read.files, image_element(name, "", written))?;
        Ok((draft, damaged))
    }

    fn of_system(self) -> Result<VolumeFiles> {
        let number = self.partition.number;
        self.into_ntfs().ok_or_else(|| {
            Error::request(
                format!("partition {number} is not NTFS, and systems are on such"),
                "say which partition with --partition",
            )
        })
    }
}

/// The digest of content, or why it cannot be read; what the system refuses to read is an error.
fn digest_or_damage(content: &Content, job: &Job<'_>) -> Result<std::result::Result<BlobDigest, Error>> {
    let mut hasher = BlobHasher::default();
    let read = content.for_each_block(BLOCK, job, &mut |bytes| {
        hasher.add(bytes);
        job.event(Event::BytesDone(bytes.len() as u64));
        Ok(())
    });
    Ok(damage_apart(read)?.map(|()| hasher.finish()))
}

/// A number in place of a digest.
fn stand_in(n: usize) -> BlobDigest {
    let mut digest = [0; 20];
    digest[..8].copy_from_slice(&(n as u64 + 1).to_le_bytes());
    digest[8..].copy_from_slice(b"not digested");
    BlobDigest(digest)
}

/// Whether a folder of the root holds a system.
fn any_root(files: &Files) -> bool {
    files.entry(Files::ROOT).children().iter().any(|id| {
        let child = |id: EntryId, name: &str| files.child(id, name);
        child(*id, "System32")
            .and_then(|id| child(id, "config"))
            .and_then(|id| child(id, "SOFTWARE"))
            .is_some()
    })
}

/// The same as a tree of names. What cannot be in one is noted, each file that is damaged too.
fn tree_of(read: &VolumeFiles) -> Result<(Tree, Vec<String>)> {
    let files = &read.files;
    let meta = |id: EntryId| {
        let entry = files.entry(id);
        let hidden = entry.attributes & ATTRIBUTE_HIDDEN != 0;
        Meta { modified: Times::to_timestamp(entry.times.written), mode: None, hidden }
    };
    let mut contents: HashMap<EntryId, Content> = HashMap::new();
    for held in &read.held {
        let is_plain = match held.slot {
            Slot::Main => !files.entry(held.entry).is_reparse(),
            Slot::Stream(n) => files.entry(held.entry).streams()[n as usize].name.is_empty(),
        };
        if is_plain {
            contents.insert(held.entry, held.content(&read.volume));
        }
    }
    let points: HashMap<EntryId, Content> = read
        .held
        .iter()
        .filter(|held| held.slot == Slot::Main && files.entry(held.entry).is_reparse())
        .map(|held| (held.entry, held.content(&read.volume)))
        .collect();
    let broken: HashMap<EntryId, &neat_ntfs::Damaged> =
        read.damaged.iter().filter_map(|own| Some((own.entry?, own))).collect();
    let mut notes: Vec<String> =
        read.damaged.iter().map(|own| format!("/{} is damaged ({})", own.place, own.error)).collect();
    let mut tree = Tree::new(meta(Files::ROOT));
    let mut pending: Vec<(EntryId, NodeId)> = vec![(Files::ROOT, Tree::ROOT)];
    while let Some((folder, node)) = pending.pop() {
        for id in files.entry(folder).children() {
            let entry = files.entry(*id);
            let name = entry.name.to_string();
            if let Err(expected) = check_name(&name) {
                notes.push(format!("/{} has a name that cannot be here ({expected})", files.path(*id)));
                continue;
            }
            let first = read.first_name(*id);
            // What is damaged is not handed out as if it were whole.
            if broken.contains_key(&first) && !entry.is_folder() {
                continue;
            }
            let kind = if let Some(point) = entry.reparse() {
                let data = points.get(&first).map(|own| own.to_vec(16 << 10, "reparse point")).transpose()?;
                match data.and_then(|data| neat_image::link_target_of(point.tag, &data)) {
                    Some(target) => NodeKind::Link(target),
                    None if entry.is_folder() => {
                        notes.push(format!(
                            "/{} is a reparse point of the kind {:#x}",
                            files.path(*id),
                            point.tag
                        ));
                        continue;
                    }
                    None => NodeKind::File(contents.get(&first).cloned().unwrap_or_default()),
                }
            } else if entry.is_folder() {
                NodeKind::Folder(Folder::default())
            } else {
                NodeKind::File(contents.get(&first).cloned().unwrap_or_default())
            };
            let named = entry.streams().iter().filter(|stream| !stream.name.is_empty()).count();
            if named > 0 {
                notes.push(format!("/{} has named streams ({named})", files.path(*id)));
            }
            match tree.add(node, &name, meta(*id), kind) {
                Ok(child) if entry.is_folder() && !entry.is_reparse() => pending.push((*id, child)),
                Ok(_) => {}
                Err(error) => notes.push(format!("/{}: {error}", files.path(*id))),
            }
        }
    }
    Ok((tree, notes))
}

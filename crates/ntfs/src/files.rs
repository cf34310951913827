//! The files of a volume as an edition has them.

use crate::{
    Volume,
    build::Builder,
    index,
    scan::{Link, Placed, scan},
    secure::{self, Descriptors},
};
use neat_content::{Content, Error, Job, Result};
use neat_image::{BlobDigest, EntryId, Files, Name};
use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};

/// The record of the root folder.
pub(crate) const ROOT: u64 = 5;
/// Records below this are the file system's own.
pub(crate) const FIRST_OWN: u64 = 24;
/// The file that holds the descriptors.
const SECURE: u64 = 9;

/// The files of a volume.
pub struct VolumeFiles {
    /// The volume.
    pub volume: Arc<Volume>,
    /// Names, times, attributes, links, descriptors; digests only once [`VolumeFiles::set_digest`] was told them.
    pub files: Files,
    /// Content, in the order in which it lies on the volume.
    pub held: Vec<Held>,
    /// What cannot be read, with its path as far as it is known.
    pub damaged: Vec<Damaged>,
    /// Files that no folder on the way from the root names.
    pub lost: usize,
    /// Files that have extended attributes, which an edition does not keep here.
    pub with_extended: usize,
    /// Object identifiers, which an edition does not keep here.
    pub object_ids: Vec<(EntryId, [u8; 16])>,
    /// Folders in which names that differ in case alone are different.
    pub minding_case: Vec<EntryId>,
    /// Further names of files, each with the first.
    pub(crate) twins: Vec<(EntryId, EntryId)>,
}

/// Content of an entry.
pub struct Held {
    /// Whose it is.
    pub entry: EntryId,
    /// Which of the entry's streams it is.
    pub slot: Slot,
    pub(crate) placed: Placed,
}

impl Held {
    /// Bytes.
    pub fn len(&self) -> u64 {
        self.placed.len()
    }

    /// Whether there are none; never among [`VolumeFiles::held`].
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Where it begins, in bytes from the start of the volume.
    pub fn at(&self, volume: &Volume) -> u64 {
        self.placed.at(volume)
    }

    /// The content, on the volume that it was found on; reading it fails where it is damaged.
    pub fn content(&self, volume: &Arc<Volume>) -> Content {
        self.placed.content(volume)
    }
}

/// A stream of an entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Slot {
    /// That of [`neat_image::Entry::digest`]: the ordinary content, or the data of a reparse point.
    Main,
    /// One of [`neat_image::Entry::streams`].
    Stream(u32),
}

/// Something that cannot be read.
#[derive(Debug)]
pub struct Damaged {
    /// The entry, where it could be read but for this.
    pub entry: Option<EntryId>,
    /// Its path, or what there is instead of one.
    pub place: String,
    /// What is wrong.
    pub error: Error,
}

impl Volume {
    /// All files of the volume, in one pass over its file table.
    ///
    /// # Errors
    /// `Corrupt` where no file can be read, `Io`, `Cancelled`. Single files that are damaged are told in the result.
    pub fn files(self: &Arc<Self>, job: &Job<'_>) -> Result<VolumeFiles> {
        let mut scanned = scan(self, job)?;
        let descriptors = match self.system_stream(SECURE, "$SDS") {
            Ok(stream) => secure::read(&stream, job)?,
            // Older volumes have none; files say themselves who may what.
            Err(error) if !error.is_io() => Descriptors::default(),
            Err(error) => return Err(error),
        };
        scanned.links.sort_unstable_by(|a, b| {
            let own = |link: &Link| (link.folder.number, link.is_short);
            own(a)
                .cmp(&own(b))
                .then_with(|| a.name.compare_ignoring_case(b.name.units()))
                .then(a.of.cmp(&b.of))
        });
        let damaged = std::mem::take(&mut scanned.damaged);
        let files = &scanned.files;
        let root = files.binary_search_by_key(&ROOT, |found| found.reference.number).ok();
        let Some(root) = root.filter(|root| files[*root].is_folder) else {
            let at = self.record_offset(ROOT);
            let own = damaged.into_iter().find(|(number, _)| *number == ROOT).map(|(_, error)| error);
            return Err(own.unwrap_or_else(|| {
                Error::bad_field("FileTable", "root folder", at, "a folder in record 5", "none")
            }));
        };
        let mut builder = Builder::new(scanned, descriptors, root);
        builder.walk(root, job)?;
        let (mut done, folders) = builder.finish(Arc::clone(self));
        self.name_damaged(damaged, &folders, &mut done, job)?;
        done.held.sort_by_key(|held| held.at(self));
        Ok(done)
    }

    /// Says what records that cannot be read are called, as the indexes of folders have it.
    fn name_damaged(
        &self,
        damaged: Vec<(u64, Error)>,
        folders: &[(u64, EntryId)],
        done: &mut VolumeFiles,
        job: &Job<'_>,
    ) -> Result<()> {
        let wanted: HashMap<u64, usize> = damaged
            .iter()
            .enumerate()
            .filter(|(_, (number, _))| *number >= FIRST_OWN)
            .map(|(n, (number, _))| (*number, n))
            .collect();
        let mut names: HashMap<u64, String> = HashMap::new();
        if !wanted.is_empty() {
            for (folder, id) in folders {
                let path = done.files.path(*id);
                let mut found = |number, units: Vec<u16>| {
                    let name = Name::from_units(units);
                    names.entry(number).or_insert_with(|| {
                        if path.is_empty() { name.to_string() } else { format!("{path}/{name}") }
                    });
                };
                match index::names_in(self, *folder, &wanted, job, &mut found) {
                    Err(error) if error.is_io() || matches!(error, Error::Cancelled) => return Err(error),
                    // A folder whose index is damaged names fewer.
                    _ => {}
                }
            }
        }
        for (number, error) in damaged {
            let place = names.remove(&number).unwrap_or_else(|| format!("record {number} of the file table"));
            done.damaged.push(Damaged { entry: None, place, error });
        }
        Ok(())
    }
}

impl VolumeFiles {
    /// Tells the digest of the content of an entry's stream.
    pub fn set_digest(&mut self, entry: EntryId, slot: Slot, digest: BlobDigest) {
        let entry = self.files.entry_mut(entry);
        match slot {
            Slot::Main => entry.digest = digest,
            Slot::Stream(n) => entry.set_stream(n as usize, digest),
        }
    }

    /// Gives further names of files what the first has, once all digests are told.
    pub fn share_digests(&mut self) {
        for (twin, first) in &self.twins {
            let first = self.files.entry(*first);
            let digest = first.digest;
            let streams: Vec<BlobDigest> = first.streams().iter().map(|stream| stream.digest).collect();
            let twin = self.files.entry_mut(*twin);
            twin.digest = digest;
            for (n, digest) in streams.into_iter().enumerate() {
                twin.set_stream(n, digest);
            }
        }
    }

    /// Takes entries and all below them out. A file of which another name stays keeps its content.
    pub fn leave_out(&mut self, ids: &[EntryId]) {
        let mut gone: HashSet<EntryId> = HashSet::new();
        for id in ids {
            gone.insert(*id);
            gone.extend(self.files.walk_from(*id).map(|step| step.id));
        }
        // Where the first name goes, the next one that stays takes its place.
        let mut next: HashMap<EntryId, EntryId> = HashMap::new();
        for (twin, first) in &self.twins {
            if gone.contains(first) && !gone.contains(twin) {
                next.entry(*first).or_insert(*twin);
            }
        }
        let stays = |id: EntryId| if gone.contains(&id) { next.get(&id).copied() } else { Some(id) };
        let twins = self.twins.iter().filter(|(twin, _)| !gone.contains(twin));
        let twins = twins.filter_map(|(twin, first)| Some((*twin, stays(*first)?)));
        self.twins = twins.filter(|(twin, first)| twin != first).collect();
        self.held.retain_mut(|held| match stays(held.entry) {
            Some(id) => {
                held.entry = id;
                true
            }
            None => false,
        });
        self.damaged.retain_mut(|own| match own.entry.map(stays) {
            Some(Some(id)) => {
                own.entry = Some(id);
                true
            }
            Some(None) => false,
            None => true,
        });
        self.object_ids.retain(|(id, _)| !gone.contains(id));
        self.minding_case.retain(|id| !gone.contains(id));
        for id in ids {
            self.files.remove(*id);
        }
    }

    /// All names of the file that `id` is the first name of.
    pub fn names_of(&self, id: EntryId) -> Vec<EntryId> {
        let twins = self.twins.iter().filter(|(_, first)| *first == id).map(|(twin, _)| *twin);
        std::iter::once(id).chain(twins).collect()
    }

    /// The first name of the file that a name leads to; itself where it is that.
    pub fn first_name(&self, id: EntryId) -> EntryId {
        let found = self.twins.binary_search_by_key(&id, |(twin, _)| *twin);
        found.map_or(id, |n| self.twins[n].1)
    }
}

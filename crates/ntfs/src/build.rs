//! Putting the tree of a volume's files together.

use crate::{
    Volume,
    files::{Damaged, FIRST_OWN, Held, ROOT, Slot, VolumeFiles},
    scan::{Found, Link, Scanned, Security},
    secure::Descriptors,
};
use neat_content::{Error, Job, Result};
use neat_image::{
    Assembly, BlobDigest, Entry, EntryId, Files, Name, Rare, Reparse, Stream,
    layout::{ATTRIBUTE_DIRECTORY, ATTRIBUTE_REPARSE},
};
use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};

/// The folder of further files of the file system.
const EXTEND: u64 = 11;

/// Puts the tree together.
pub(crate) struct Builder {
    found: Vec<Found>,
    /// By folder, names before short names, in the order of names.
    links: Vec<Link>,
    descriptors: Descriptors,
    /// Those that files have themselves, by their places.
    own_descriptors: HashMap<u32, Box<[u8]>>,
    /// Number of a descriptor in the edition.
    security: HashMap<Security, u32>,
    files: Assembly,
    held: Vec<Held>,
    damaged: Vec<Damaged>,
    twins: Vec<(EntryId, EntryId)>,
    object_ids: Vec<(EntryId, [u8; 16])>,
    minding_case: Vec<EntryId>,
    /// The first entry of each file, by its place among those found.
    entries: Vec<Option<EntryId>>,
    with_extended: usize,
    folders: Vec<(u64, EntryId)>,
}

impl Builder {
    /// `found` are without the records that are damaged.
    pub(crate) fn new(scanned: Scanned, descriptors: Descriptors, root: usize) -> Self {
        let Scanned { files: found, links, descriptors: of_files, .. } = scanned;
        let mut own = Entry::folder("", found[root].times);
        own.attributes = found[root].attributes | ATTRIBUTE_DIRECTORY;
        let count = found.len();
        let mut builder = Self {
            found,
            links,
            descriptors,
            own_descriptors: of_files.into_iter().map(|(bytes, number)| (number, bytes)).collect(),
            security: HashMap::new(),
            files: Assembly::new(own),
            held: Vec::new(),
            damaged: Vec::new(),
            twins: Vec::new(),
            object_ids: Vec::new(),
            minding_case: Vec::new(),
            entries: vec![None; count],
            with_extended: 0,
            folders: Vec::new(),
        };
        builder.entries[root] = Some(Files::ROOT);
        let security = builder.security_of(root);
        builder.files.root_mut().security = security;
        builder.take_content(root, Files::ROOT);
        builder
    }

    /// From folder to folder; each is gone into once, however many names lead to it.
    pub(crate) fn walk(&mut self, root: usize, job: &Job<'_>) -> Result<()> {
        let mut pending = vec![(root, Files::ROOT)];
        while let Some((folder, id)) = pending.pop() {
            job.check()?;
            let own = self.found[folder].reference;
            self.folders.push((own.number, id));
            if self.found[folder].minds_case {
                self.minding_case.push(id);
            }
            let start = self.links.partition_point(|link| link.folder.number < own.number);
            let len = self.links[start..].partition_point(|link| link.folder.number == own.number);
            // A folder that was deleted had another sequence number when its number was given anew.
            let here: Vec<usize> =
                (start..start + len).filter(|n| self.links[*n].folder.sequence == own.sequence).collect();
            let short: HashMap<u32, usize> =
                here.iter().filter(|n| self.links[**n].is_short).map(|n| (self.links[*n].of, *n)).collect();
            let with_name: HashSet<u32> =
                here.iter().filter(|n| !self.links[**n].is_short).map(|n| self.links[*n].of).collect();
            for n in here {
                let of = self.links[n].of;
                if self.links[n].is_short && with_name.contains(&of) || self.is_own(of, own.number) {
                    continue;
                }
                let short = (!self.links[n].is_short).then(|| short.get(&of).copied()).flatten();
                if let Some(next) = self.add(id, n, short) {
                    pending.push((of as usize, next));
                }
            }
        }
        Ok(())
    }

    /// Whether it is one of the file system's own files.
    fn is_own(&self, of: u32, folder: u64) -> bool {
        let number = self.found[of as usize].reference.number;
        number == ROOT || folder == ROOT && number < FIRST_OWN || folder == EXTEND
    }

    /// Adds what a name leads to; returns the entry of a folder that is to be gone into.
    fn add(&mut self, folder: EntryId, link: usize, short: Option<usize>) -> Option<EntryId> {
        let of = self.links[link].of as usize;
        let name = std::mem::take(&mut self.links[link].name);
        if !name.stays_in_folder() {
            let error = Error::mismatch(
                "a name that a file can have",
                format!("{name:?}"),
                "repair the volume in its system",
            );
            let place = format!("record {} of the file table", self.found[of].reference.number);
            self.damaged.push(Damaged { entry: None, place, error });
            return None;
        }
        let security = match self.entries[of] {
            Some(first) => self.files.entry(first).security,
            None => self.security_of(of),
        };
        let found = &self.found[of];
        let mut entry = if found.is_folder {
            Entry::folder(name, found.times)
        } else {
            Entry::file(name, 0, found.times, BlobDigest::NONE)
        };
        // What a folder is, its record says; where it is a point and what kind, its data.
        entry.attributes |= found.attributes & !(ATTRIBUTE_DIRECTORY | ATTRIBUTE_REPARSE);
        entry.security = security;
        let first = self.entries[of];
        let more = found.more.as_deref();
        // What the first name took over is no longer with the file.
        let point = match first {
            Some(first) => self.files.entry(first).reparse(),
            None => more.and_then(|more| more.reparse.as_ref()).map(|(tag, _)| Reparse {
                tag: *tag,
                reserved: 0,
                not_fixed: 0,
            }),
        };
        if let Some(point) = point {
            entry.set_reparse(point);
        }
        let short_name = short.map_or_else(Name::default, |n| std::mem::take(&mut self.links[n].name));
        let streams = match first {
            Some(first) => self.files.entry(first).streams().to_vec(),
            None => self.streams_of(of),
        };
        if !short_name.is_empty() || !streams.is_empty() {
            entry.set_rare(Rare { short_name, streams, ..Rare::default() });
        }
        let is_folder = self.found[of].is_folder;
        let id = self.files.push(folder, entry);
        if let Some(first) = first {
            if is_folder {
                let error = Error::mismatch("one name of a folder", "two", "repair the volume in its system");
                self.damaged.push(Damaged { entry: Some(id), place: self.files.path(id), error });
                return None;
            }
            let group = self.found[of].reference.number;
            for twin in [first, id] {
                self.files.entry_mut(twin).set_hard_link(group);
            }
            self.twins.push((id, first));
            return None;
        }
        self.entries[of] = Some(id);
        self.take_content(of, id);
        let is_point = self.files.entry(id).is_reparse();
        (is_folder && !is_point).then_some(id)
    }

    /// The named streams of a file, without their digests. Where the main one is a reparse point's data, the ordinary
    /// content comes among them.
    fn streams_of(&self, of: usize) -> Vec<Stream> {
        let found = &self.found[of];
        let Some(more) = &found.more else { return Vec::new() };
        let stream = |name: Name| Stream { name, digest: BlobDigest::NONE, unused: [0; 8] };
        let beside = more.reparse.is_some() && found.content.as_ref().is_some_and(|own| own.len() > 0);
        let names = more.streams.iter().map(|(name, _)| stream(name.clone()));
        beside.then(|| stream(Name::default())).into_iter().chain(names).collect()
    }

    fn security_of(&mut self, of: usize) -> u32 {
        let wanted = self.found[of].security;
        if let Some(known) = self.security.get(&wanted) {
            return *known;
        }
        let descriptor = match wanted {
            Security::OfVolume(number) => self.descriptors.by_number.remove(&number),
            Security::OfFiles(number) => self.own_descriptors.remove(&number),
        };
        let Some(descriptor) = descriptor else { return neat_image::layout::NO_SECURITY };
        let known = self.files.add_security(descriptor);
        self.security.insert(wanted, known);
        known
    }

    /// Takes over what a file holds and what is wrong with it.
    fn take_content(&mut self, of: usize, id: EntryId) {
        let found = &mut self.found[of];
        let mut held = Vec::new();
        let main = found.content.take().filter(|own| own.len() > 0);
        if let Some(more) = found.more.take() {
            let mut slot = 0;
            match (more.reparse, main) {
                (Some((_, data)), main) => {
                    held.push((Slot::Main, data));
                    if let Some(main) = main {
                        held.push((Slot::Stream(0), main));
                        slot = 1;
                    }
                }
                (None, Some(main)) => held.push((Slot::Main, main)),
                (None, None) => {}
            }
            for (n, (_, placed)) in more.streams.into_iter().enumerate() {
                held.push((Slot::Stream(slot + n as u32), placed));
            }
            self.object_ids.extend(more.object_id.map(|own| (id, own)));
            self.with_extended += usize::from(more.has_extended);
            if let Some(error) = more.damage {
                self.damaged.push(Damaged { entry: Some(id), place: self.files.path(id), error });
            }
        } else if let Some(main) = main {
            held.push((Slot::Main, main));
        }
        let held = held.into_iter().filter(|(_, placed)| placed.len() > 0);
        self.held.extend(held.map(|(slot, placed)| Held { entry: id, slot, placed }));
    }

    pub(crate) fn finish(self, volume: Arc<Volume>) -> (VolumeFiles, Vec<(u64, EntryId)>) {
        let lost = self
            .entries
            .iter()
            .zip(&self.found)
            .filter(|(entry, found)| entry.is_none() && found.reference.number >= FIRST_OWN)
            .count();
        let own = self.extended_files();
        let done = VolumeFiles {
            volume,
            files: self.files.finish(),
            held: self.held,
            damaged: self.damaged,
            lost: lost - own.min(lost),
            with_extended: self.with_extended,
            object_ids: self.object_ids,
            minding_case: self.minding_case,
            twins: self.twins,
        };
        (done, self.folders)
    }

    /// How many files lie in or below the file system's own folder of further files.
    fn extended_files(&self) -> usize {
        let mut inside: HashSet<u64> = HashSet::from([EXTEND]);
        let mut count = 0;
        // Two levels are all that systems make there.
        for _ in 0..3 {
            for link in &self.links {
                let own = &self.found[link.of as usize].reference;
                if inside.contains(&link.folder.number)
                    && own.number >= FIRST_OWN
                    && inside.insert(own.number)
                {
                    count += 1;
                }
            }
        }
        count
    }
}

//! A tree of files put together from somewhere that knows no rule about case.

use super::{Entry, EntryId, Files};

/// Files being added one after another, each folder before what is in it. Unlike [`Files::add`] it takes names of one
/// folder that differ in case alone, as folders that mind case have them.
pub struct Assembly(Files);

impl Assembly {
    /// Begins with the root folder.
    pub fn new(root: Entry) -> Self {
        Self(Files { entries: vec![Entry { parent: Files::ROOT, ..root }], security: Vec::new() })
    }

    /// Adds an entry to a folder that was added before; it comes behind what is there, so names should rise.
    pub fn push(&mut self, parent: EntryId, entry: Entry) -> EntryId {
        let id = EntryId(self.0.entries.len() as u32);
        self.0.entry_mut(parent).children_mut().push(id);
        self.0.entries.push(Entry { parent, ..entry });
        id
    }

    /// The root folder, to change it.
    pub fn root_mut(&mut self) -> &mut Entry {
        self.0.entry_mut(Files::ROOT)
    }

    /// An entry that was added.
    pub fn entry(&self, id: EntryId) -> &Entry {
        self.0.entry(id)
    }

    /// An entry that was added, to change it.
    pub fn entry_mut(&mut self, id: EntryId) -> &mut Entry {
        self.0.entry_mut(id)
    }

    /// The path of an entry from the root, parts joined with `/`.
    pub fn path(&self, id: EntryId) -> String {
        self.0.path(id)
    }

    /// The number of a descriptor, added behind those that are there.
    pub fn add_security(&mut self, descriptor: impl Into<Box<[u8]>>) -> u32 {
        self.0.security.push(descriptor.into());
        self.0.security.len() as u32 - 1
    }

    /// All files.
    pub fn finish(self) -> Files {
        let mut files = self.0;
        files.note_order();
        files
    }
}

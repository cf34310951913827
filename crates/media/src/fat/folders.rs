//! What stands in the directories of a FAT file system.

use super::layout::{ATTR_ARCHIVE, ATTR_DIRECTORY, ATTR_HIDDEN, ATTR_VOLUME, short_name_sum};
use super::names::{ShortNames, entry, label, long_entries, short_name};
use crate::units::Cluster;
use neat_content::{Content, Error, Folder, Meta, NodeId, NodeKind, Result, Timestamp, Tree, fold_case};
use std::collections::{HashMap, HashSet};
use zerocopy::IntoBytes;

/// Largest file (section 6: the length has 32 bits).
pub const MAX_FILE_LEN: u64 = u32::MAX as u64;
/// Entries of a directory (section 6.1: a directory has at most 2 MiB).
const MAX_ENTRIES: u64 = 65_536;
/// Bytes of an entry.
const ENTRY_LEN: u64 = 32;

/// Short names of everything in a tree, and how many entries each directory has.
pub(super) struct Folders<'a> {
    tree: &'a Tree,
    label: &'a str,
    /// Time where there is none.
    time: Timestamp,
    short_names: HashMap<NodeId, ([u8; 11], bool)>,
    entry_counts: HashMap<NodeId, u64>,
}

impl<'a> Folders<'a> {
    /// Names everything. Fails for what FAT cannot hold: large files, links, names, full directories.
    pub(super) fn name(tree: &'a Tree, label: &'a str, time: Timestamp) -> Result<Self> {
        let mut folders =
            Self { tree, label, time, short_names: HashMap::new(), entry_counts: HashMap::new() };
        folders.name_children(Tree::ROOT, u64::from(!label.is_empty()))?;
        for step in tree.walk() {
            match &tree.node(step.id).kind {
                NodeKind::Folder(_) => folders.name_children(step.id, 2)?,
                NodeKind::File(content) if content.len() > MAX_FILE_LEN => {
                    let message = format!(
                        "{} has {} bytes, and FAT holds files of at most {MAX_FILE_LEN}",
                        step.path,
                        content.len()
                    );
                    return Err(Error::request(message, "make it smaller, split it or leave it out"));
                }
                NodeKind::Link(_) => {
                    let message = format!("{} is a symbolic link, which FAT cannot hold", step.path);
                    return Err(Error::request(message, "put the file itself there"));
                }
                NodeKind::File(_) => {}
            }
        }
        Ok(folders)
    }

    fn name_children(&mut self, id: NodeId, own_entries: u64) -> Result<()> {
        let mut taken = ShortNames::default();
        let mut folded = HashSet::new();
        let mut entries = own_entries;
        for child in self.tree.node(id).folder().into_iter().flat_map(Folder::children) {
            let name = self.tree.node(child).name();
            let units = name.encode_utf16().count();
            let forbidden = |c: char| c < ' ' || "\"*/:<>?\\|".contains(c);
            if units > 255 || name.contains(forbidden) || name.ends_with([' ', '.']) {
                return Err(Error::request(
                    format!("{} is a name that FAT cannot hold", self.tree.path(child)),
                    "use at most 255 characters without \" * / : < > ? \\ | and no dot or space at the end",
                ));
            }
            if !folded.insert(fold_case(name)) {
                return Err(Error::request(
                    format!(
                        "{} is there a second time in other letters, which are one name on FAT",
                        self.tree.path(child)
                    ),
                    "rename one of the two",
                ));
            }
            let (short, exact) = short_name(name, &mut taken);
            entries += 1 + if exact { 0 } else { units.div_ceil(13) as u64 };
            self.short_names.insert(child, (short, exact));
        }
        if entries > MAX_ENTRIES {
            let path = self.tree.path(id);
            let place = if path.is_empty() { "the root folder" } else { &path };
            return Err(Error::request(
                format!("{place} needs {entries} directory entries, and FAT has room for {MAX_ENTRIES}"),
                "put the files into several folders, or give them shorter names",
            ));
        }
        self.entry_counts.insert(id, entries);
        Ok(())
    }

    /// Entries of a folder; 0 for what is none.
    pub(super) fn entries_of(&self, id: NodeId) -> u64 {
        self.entry_counts.get(&id).copied().unwrap_or(0)
    }

    /// Clusters that a node takes; a folder always has one.
    pub(super) fn clusters_of(&self, id: NodeId, cluster_len: u64) -> u64 {
        match self.tree.node(id).content() {
            Some(content) => content.len().div_ceil(cluster_len),
            None => (self.entries_of(id) * ENTRY_LEN).div_ceil(cluster_len).max(1),
        }
    }

    /// A directory to the end of its `len` bytes of clusters, as what lies there would be taken for entries.
    pub(super) fn clusters(&self, id: NodeId, first: &dyn Fn(NodeId) -> Cluster, len: u64) -> Content {
        let mut bytes = self.bytes(id, first);
        bytes.resize(len as usize, 0);
        Content::from_bytes(bytes)
    }

    /// The bytes of a directory; `first` gives the first cluster of a node.
    pub(super) fn bytes(&self, id: NodeId, first: &dyn Fn(NodeId) -> Cluster) -> Vec<u8> {
        let mut bytes = Vec::with_capacity((self.entries_of(id) * ENTRY_LEN) as usize);
        let node = self.tree.node(id);
        if id == Tree::ROOT {
            if !self.label.is_empty() {
                bytes.extend(entry(label(self.label), ATTR_VOLUME, Cluster::NONE, 0, self.time).as_bytes());
            }
        } else {
            // The parent's cluster stands as 0 when it is the root (section 6.5).
            let parent = if node.parent() == Tree::ROOT { Cluster::NONE } else { first(node.parent()) };
            let time = node.meta.modified;
            bytes.extend(entry(*b".          ", ATTR_DIRECTORY, first(id), 0, time).as_bytes());
            bytes.extend(entry(*b"..         ", ATTR_DIRECTORY, parent, 0, time).as_bytes());
        }
        for child in node.folder().into_iter().flat_map(Folder::children) {
            let Some((short, exact)) = self.short_names.get(&child) else { continue };
            let node = self.tree.node(child);
            if !exact {
                bytes.extend(long_entries(node.name(), short_name_sum(short)));
            }
            let (attribute, len) =
                node.content().map_or((ATTR_DIRECTORY, 0), |content| (ATTR_ARCHIVE, content.len()));
            let Meta { hidden, modified, .. } = node.meta;
            let attributes = attribute | if hidden { ATTR_HIDDEN } else { 0 };
            bytes.extend(entry(*short, attributes, first(child), len as u32, modified).as_bytes());
        }
        bytes
    }
}

//! A tree of names over lazy content.

use crate::{Content, Error, Result, Timestamp};
use std::{
    collections::{BTreeMap, HashMap},
    hash::{BuildHasher, BuildHasherDefault, DefaultHasher},
    sync::Arc,
};

/// Number of a node in its [`Tree`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct NodeId(u32);

/// What is known of a file or folder besides its name and content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Meta {
    /// Last change of the content.
    pub modified: Timestamp,
    /// POSIX permission bits (no file type), where the source has them.
    pub mode: Option<u16>,
    /// Whether listings should leave it out.
    pub hidden: bool,
}

impl Meta {
    /// Ordinary metadata with this time of change.
    pub const fn at(modified: Timestamp) -> Self {
        Self { modified, mode: None, hidden: false }
    }
}

/// The names in a folder.
#[derive(Clone, Debug, Default)]
pub struct Folder {
    /// Apart, because most nodes are files and every node has room for a folder.
    maps: Box<Maps>,
}

#[derive(Clone, Debug, Default)]
struct Maps {
    by_name: BTreeMap<Arc<str>, NodeId>,
    /// Hash of the folded name to the first child that had it. Whoever looks up compares the name itself.
    by_folded: HashMap<u64, NodeId>,
}

impl Folder {
    /// The children in the order of their names (by code point).
    pub fn children(&self) -> impl DoubleEndedIterator<Item = NodeId> + ExactSizeIterator + '_ {
        self.maps.by_name.values().copied()
    }

    /// Number of children.
    pub fn len(&self) -> usize {
        self.maps.by_name.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.maps.by_name.is_empty()
    }
}

/// What a node is.
#[derive(Clone, Debug)]
pub enum NodeKind {
    /// A folder.
    Folder(Folder),
    /// A file and its bytes.
    File(Content),
    /// A symbolic link and where it points.
    Link(String),
}

/// One name in the tree.
#[derive(Clone, Debug)]
pub struct Node {
    name: Arc<str>,
    parent: NodeId,
    /// Times and attributes.
    pub meta: Meta,
    /// Folder, file or link.
    pub kind: NodeKind,
}

impl Node {
    /// The node's own name; empty for the root.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The folder that holds it; the root holds itself.
    pub const fn parent(&self) -> NodeId {
        self.parent
    }

    /// The content, if it is a file.
    pub const fn content(&self) -> Option<&Content> {
        match &self.kind {
            NodeKind::File(content) => Some(content),
            _ => None,
        }
    }

    /// The children, if it is a folder.
    pub const fn folder(&self) -> Option<&Folder> {
        match &self.kind {
            NodeKind::Folder(folder) => Some(folder),
            _ => None,
        }
    }
}

/// How many of each there are in a tree.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct TreeCounts {
    /// Files.
    pub files: u64,
    /// Folders without the root.
    pub folders: u64,
    /// Symbolic links.
    pub links: u64,
    /// Sum of the files' lengths in bytes.
    pub bytes: u64,
}

/// A tree of names. Case is kept; look-up is possible with and without it.
#[derive(Clone, Debug)]
pub struct Tree {
    nodes: Vec<Node>,
}

/// A step of [`Tree::walk`].
#[derive(Clone, Debug)]
pub struct Step {
    /// The node.
    pub id: NodeId,
    /// Its path from the root, parts joined with `/`.
    pub path: String,
    /// Number of folders above it, the root included: 1 for a child of the root.
    pub depth: usize,
}

/// Folds a name so that names which differ only in case become equal.
pub fn fold_case(name: &str) -> String {
    if name.is_ascii() { name.to_ascii_lowercase() } else { name.to_lowercase() }
}

/// Checks that `name` can stand for one thing in one folder: not empty, not `.` or `..`, no `/`, no NUL.
///
/// # Errors
/// What was expected instead, in words.
pub fn check_name(name: &str) -> std::result::Result<(), &'static str> {
    match name {
        "" => Err("a name that is not empty"),
        "." | ".." => Err("a name that stays in its folder"),
        _ if name.contains('/') => Err("a name without '/'"),
        _ if name.contains('\0') => Err("a name without NUL"),
        _ => Ok(()),
    }
}

impl Default for Tree {
    fn default() -> Self {
        Self::new(Meta::at(Timestamp::default()))
    }
}

impl Tree {
    /// The root.
    pub const ROOT: NodeId = NodeId(0);

    /// A tree with nothing but a root folder.
    pub fn new(root: Meta) -> Self {
        let root = Node {
            name: "".into(),
            parent: Self::ROOT,
            meta: root,
            kind: NodeKind::Folder(Folder::default()),
        };
        Self { nodes: vec![root] }
    }

    /// The node with this number.
    pub fn node(&self, id: NodeId) -> &Node {
        &self.nodes[id.0 as usize]
    }

    /// The node with this number, to change its content or metadata.
    pub fn node_mut(&mut self, id: NodeId) -> &mut Node {
        &mut self.nodes[id.0 as usize]
    }

    /// Adds a node to a folder. Fails if the name cannot be, is taken, or `parent` is not a folder.
    ///
    /// # Errors
    /// `BadRequest` for each of them.
    pub fn add(&mut self, parent: NodeId, name: &str, meta: Meta, kind: NodeKind) -> Result<NodeId> {
        let hint = "give it another name or place";
        if let Err(expected) = check_name(name) {
            return Err(Error::Mismatch {
                expected: expected.into(),
                found: format!("{name:?}"),
                hint: hint.into(),
            });
        }
        let id = NodeId(self.nodes.len() as u32);
        if self.child(parent, name).is_some() {
            return Err(Error::Mismatch {
                expected: format!("one entry of each name in /{}", self.path(parent)),
                found: format!("{name:?} twice"),
                hint: hint.into(),
            });
        }
        let NodeKind::Folder(folder) = &mut self.node_mut(parent).kind else {
            let path = self.path(parent);
            return Err(Error::request(
                format!("{path} is not a folder, so nothing can be put into it"),
                hint,
            ));
        };
        let name: Arc<str> = name.into();
        folder.maps.by_folded.entry(hash_of(&fold_case(&name))).or_insert(id);
        folder.maps.by_name.insert(Arc::clone(&name), id);
        self.nodes.push(Node { name, parent, meta, kind });
        Ok(id)
    }

    /// The child of `parent` with exactly this name.
    pub fn child(&self, parent: NodeId, name: &str) -> Option<NodeId> {
        self.node(parent).folder()?.maps.by_name.get(name).copied()
    }

    /// The child of `parent` with this name in any case; an exact match comes first.
    pub fn child_ignoring_case(&self, parent: NodeId, name: &str) -> Option<NodeId> {
        let folder = self.node(parent).folder()?;
        if let Some(id) = folder.maps.by_name.get(name) {
            return Some(*id);
        }
        let folded = fold_case(name);
        let found = *folder.maps.by_folded.get(&hash_of(&folded))?;
        let fits = |id: NodeId| fold_case(self.node(id).name()) == folded;
        // Two names with one hash are next to impossible, and then they are told apart by looking at all.
        if fits(found) { Some(found) } else { folder.children().find(|id| fits(*id)) }
    }

    /// The node at `path` (parts joined with `/`, leading and doubled slashes ignored), case observed.
    pub fn find(&self, path: &str) -> Option<NodeId> {
        parts(path).try_fold(Self::ROOT, |id, name| self.child(id, name))
    }

    /// The node at `path`, in any case.
    pub fn find_ignoring_case(&self, path: &str) -> Option<NodeId> {
        parts(path).try_fold(Self::ROOT, |id, name| self.child_ignoring_case(id, name))
    }

    /// The content of the file at `path`, in any case.
    pub fn file(&self, path: &str) -> Option<&Content> {
        self.node(self.find_ignoring_case(path)?).content()
    }

    /// The folder at `path`, made with `meta` where it is missing. Existing folders match in any case.
    ///
    /// # Errors
    /// `BadRequest` when a name of it cannot be, or a file is in the way.
    pub fn make_folder(&mut self, path: &str, meta: Meta) -> Result<NodeId> {
        let mut id = Self::ROOT;
        for name in parts(path) {
            id = match self.child_ignoring_case(id, name) {
                Some(child) => child,
                None => self.add(id, name, meta, NodeKind::Folder(Folder::default()))?,
            };
        }
        Ok(id)
    }

    /// Puts a file at `path`, making the folders above it. A file already there, in any case, gets the new
    /// content and keeps its name.
    ///
    /// # Errors
    /// `BadRequest` when a name of it cannot be, a file is in the way of a folder, or a folder stands there.
    pub fn put_file(&mut self, path: &str, content: Content, meta: Meta) -> Result<NodeId> {
        let (folder, name) = path.trim_matches('/').rsplit_once('/').unwrap_or(("", path.trim_matches('/')));
        let parent = self.make_folder(folder, meta)?;
        let Some(existing) = self.child_ignoring_case(parent, name) else {
            return self.add(parent, name, meta, NodeKind::File(content));
        };
        if self.node(existing).folder().is_some() {
            return Err(Error::request(
                format!("{} is a folder, and a file was to be put there", self.path(existing)),
                "put the file into it or give it another name",
            ));
        }
        let node = self.node_mut(existing);
        node.kind = NodeKind::File(content);
        node.meta = Meta { hidden: node.meta.hidden, ..meta };
        Ok(existing)
    }

    /// Takes a node and all below it out of the tree. The root stays.
    pub fn remove(&mut self, id: NodeId) {
        if id == Self::ROOT {
            return;
        }
        let (name, parent) = (self.node(id).name.clone(), self.node(id).parent);
        let folded = fold_case(&name);
        if let NodeKind::Folder(folder) = &mut self.node_mut(parent).kind {
            folder.maps.by_name.remove(&name);
            folder.maps.by_folded.remove(&hash_of(&folded));
            // Another child may differ from the removed one only in case.
            let twin =
                folder.maps.by_name.iter().find(|(other, _)| fold_case(other) == folded).map(|(_, id)| *id);
            if let Some(twin) = twin {
                folder.maps.by_folded.insert(hash_of(&folded), twin);
            }
        }
    }

    /// The path from the root, parts joined with `/`; empty for the root.
    pub fn path(&self, id: NodeId) -> String {
        let mut names = Vec::new();
        let mut at = id;
        while at != Self::ROOT {
            names.push(self.node(at).name());
            at = self.node(at).parent;
        }
        names.reverse();
        names.join("/")
    }

    /// Every node but the root, each folder before what it holds, names in order.
    pub fn walk(&self) -> impl Iterator<Item = Step> + '_ {
        self.walk_from(Self::ROOT)
    }

    /// Every node below `start`, with paths that begin there.
    pub fn walk_from(&self, start: NodeId) -> impl Iterator<Item = Step> + '_ {
        // An explicit stack: how deep the tree is must not depend on the size of the program's own.
        let mut stack: Vec<Step> = self.steps_into(start, "", 0);
        std::iter::from_fn(move || {
            let step = stack.pop()?;
            if self.node(step.id).folder().is_some() {
                stack.extend(self.steps_into(step.id, &step.path, step.depth));
            }
            Some(step)
        })
    }

    fn steps_into(&self, id: NodeId, path: &str, depth: usize) -> Vec<Step> {
        let Some(folder) = self.node(id).folder() else { return Vec::new() };
        let step = |id: NodeId| {
            let name = self.node(id).name();
            let path = if path.is_empty() { name.to_owned() } else { format!("{path}/{name}") };
            Step { id, path, depth: depth + 1 }
        };
        folder.children().rev().map(step).collect()
    }

    /// Every node, the root included, in no useful order.
    fn all(&self) -> impl Iterator<Item = NodeId> + '_ {
        let mut stack = vec![Self::ROOT];
        std::iter::from_fn(move || {
            let id = stack.pop()?;
            stack.extend(self.node(id).folder().into_iter().flat_map(Folder::children));
            Some(id)
        })
    }

    /// How many files, folders, links and bytes there are.
    pub fn counts(&self) -> TreeCounts {
        let mut counts = TreeCounts::default();
        for id in self.all() {
            match &self.node(id).kind {
                NodeKind::File(content) => {
                    counts.files += 1;
                    counts.bytes = counts.bytes.saturating_add(content.len());
                }
                NodeKind::Link(_) => counts.links += 1,
                NodeKind::Folder(_) => counts.folders += u64::from(id != Self::ROOT),
            }
        }
        counts
    }

    /// Time of the newest file or link; of the root when there are none. Folders do not count: their times change when
    /// they are copied, and equal inputs shall give equal bytes.
    pub fn newest(&self) -> Timestamp {
        let files = self.all().map(|id| self.node(id)).filter(|node| node.folder().is_none());
        files.map(|node| node.meta.modified).max().unwrap_or(self.node(Self::ROOT).meta.modified)
    }

    /// Number of nodes ever added, removed ones included: an upper bound for anything kept beside each.
    pub fn capacity(&self) -> usize {
        self.nodes.len()
    }
}

impl NodeId {
    /// The number, for tables kept beside a tree.
    pub const fn index(self) -> usize {
        self.0 as usize
    }
}

fn hash_of(folded: &str) -> u64 {
    BuildHasherDefault::<DefaultHasher>::default().hash_one(folded)
}

fn parts(path: &str) -> impl Iterator<Item = &str> {
    path.split('/').filter(|part| !part.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn meta() -> Meta {
        Meta::at(Timestamp::default())
    }

    #[test]
    fn names_are_found_with_and_without_case() {
        let mut tree = Tree::default();
        let folder = tree.make_folder("EFI/Boot", meta()).unwrap();
        assert_eq!(tree.make_folder("efi/BOOT", meta()).unwrap(), folder);
        tree.put_file("efi/boot/BOOTX64.EFI", Content::from_bytes(b"1".to_vec()), meta()).unwrap();
        assert!(tree.find("EFI/Boot/bootx64.efi").is_none());
        let id = tree.find_ignoring_case("/efi//boot/bootx64.efi").unwrap();
        assert_eq!(tree.path(id), "EFI/Boot/BOOTX64.EFI");
        tree.put_file("EFI/BOOT/bootx64.efi", Content::from_bytes(b"22".to_vec()), meta()).unwrap();
        assert_eq!(tree.counts(), TreeCounts { files: 1, folders: 2, links: 0, bytes: 2 });
        assert!(tree.put_file("EFI/BOOT", Content::default(), meta()).is_err());
    }

    #[test]
    fn names_that_differ_only_in_case_live_side_by_side() {
        let mut tree = Tree::default();
        let first = tree.add(Tree::ROOT, "Readme", meta(), NodeKind::File(Content::default())).unwrap();
        let second = tree.add(Tree::ROOT, "README", meta(), NodeKind::File(Content::default())).unwrap();
        assert_eq!(tree.child_ignoring_case(Tree::ROOT, "readme"), Some(first));
        tree.remove(first);
        assert_eq!(tree.child_ignoring_case(Tree::ROOT, "readme"), Some(second));
        tree.remove(second);
        assert_eq!(tree.child_ignoring_case(Tree::ROOT, "readme"), None);
    }

    #[test]
    fn names_that_climb_out_are_refused() {
        let mut tree = Tree::default();
        for name in ["", ".", "..", "a/b", "a\0b"] {
            assert!(
                tree.add(Tree::ROOT, name, meta(), NodeKind::File(Content::default())).is_err(),
                "{name:?}"
            );
        }
        assert!(tree.make_folder("../x", meta()).is_err());
    }

    #[test]
    fn a_very_deep_tree_is_walked_and_dropped_without_recursion() {
        let mut tree = Tree::default();
        let mut at = Tree::ROOT;
        for _ in 0..50_000 {
            at = tree.add(at, "d", meta(), NodeKind::Folder(Folder::default())).unwrap();
        }
        assert_eq!(tree.counts().folders, 50_000);
        assert_eq!(tree.walk().take(300).last().unwrap().depth, 300);
    }
}

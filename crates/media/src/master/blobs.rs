//! The distinct contents of a media.

use super::boot_content;
use crate::{BootCatalog, BootImage, ImagePatch, iso9660::write::Placed, units::Sector};
use neat_content::{Content, DigestKind, Job, NodeId, NodeKind, Piece, Result, Tree, digest_of};
use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
};

/// A content that is written once.
pub(super) struct Blob {
    pub content: Content,
    pub sector: Sector,
}

/// All contents, and which file and boot entry has which.
pub(super) struct Blobs {
    pub list: Vec<Blob>,
    /// Number in `list` of each file, by node; `u32::MAX` for none.
    of_node: Vec<u32>,
    /// Number in `list` of each boot entry's image.
    of_boot_entry: Vec<u32>,
    pub shared_len: u64,
    /// Node of the file that shows the boot catalog.
    catalog_node: Option<NodeId>,
}

/// Length in bytes of a boot catalog that we write.
const CATALOG_LEN: u64 = 2048;
/// How much of the beginning is compared before whole files are digested.
const PROBE_LEN: u64 = 4096;

impl Blobs {
    /// Gathers the contents of `tree`: boot images first, then the files in the order of a walk. Files with the same
    /// bytes share a blob.
    pub(super) fn collect(
        tree: &Tree,
        catalog: Option<&BootCatalog>,
        known: Option<&Twins>,
        job: &Job<'_>,
    ) -> Result<Self> {
        let catalog_path = catalog.and_then(|catalog| catalog.catalog_path.as_deref());
        let mut blobs = Self {
            list: Vec::new(),
            of_node: vec![u32::MAX; tree.capacity()],
            of_boot_entry: Vec::new(),
            shared_len: 0,
            catalog_node: catalog_path.and_then(|path| tree.find_ignoring_case(path)),
        };
        for entry in catalog.into_iter().flat_map(|catalog| &catalog.entries) {
            let content = boot_content(tree, &entry.image)?;
            let node =
                if let BootImage::File(path) = &entry.image { tree.find_ignoring_case(path) } else { None };
            let known = node.map(|node| blobs.of_node[node.index()]).filter(|number| *number != u32::MAX);
            let number = known.unwrap_or_else(|| blobs.push(content));
            blobs.of_boot_entry.push(number);
            if let Some(node) = node {
                blobs.of_node[node.index()] = number;
            }
        }
        // The file that shows the catalog is where the catalog itself is written.
        if let Some(node) = blobs.catalog_node {
            match tree.node(node).content() {
                Some(content) if content.len() == CATALOG_LEN => {
                    blobs.of_node[node.index()] = blobs.push(Content::zeros(CATALOG_LEN));
                }
                _ => blobs.catalog_node = None,
            }
        }
        let twins = match known {
            Some(known) => known.of(tree),
            None => find_twins(tree, job)?,
        };
        let mut first_of_twins: HashMap<u32, u32> = HashMap::new();
        for step in tree.walk() {
            let NodeKind::File(content) = &tree.node(step.id).kind else { continue };
            // Boot images stay apart: what is patched into one must not show in another file.
            if content.is_empty() || blobs.of_node[step.id.index()] != u32::MAX {
                continue;
            }
            let group = twins.get(&step.id).copied();
            let shared = group.and_then(|group| first_of_twins.get(&group).copied());
            let number = match shared {
                Some(number) => {
                    blobs.shared_len += content.len();
                    number
                }
                None => blobs.push(content.clone()),
            };
            if let Some(group) = group {
                first_of_twins.entry(group).or_insert(number);
            }
            blobs.of_node[step.id.index()] = number;
        }
        Ok(blobs)
    }

    fn push(&mut self, content: Content) -> u32 {
        self.list.push(Blob { content, sector: Sector::default() });
        self.list.len() as u32 - 1
    }

    /// First sector of the catalog, where a file shows it.
    pub(super) fn catalog_sector(&self) -> Option<Sector> {
        self.catalog_node.map(|node| self.placed(node).0)
    }

    /// Number in the list of a file's content; `None` for an empty file.
    pub(super) fn number(&self, id: NodeId) -> Option<u32> {
        self.of_node.get(id.index()).copied().filter(|number| *number != u32::MAX)
    }

    /// First sector and length of a file.
    pub(super) fn placed(&self, id: NodeId) -> Placed {
        match self.number(id).and_then(|number| self.list.get(number as usize)) {
            Some(blob) => (blob.sector, blob.content.len()),
            None => (Sector::default(), 0),
        }
    }

    /// First sector of a boot entry's image.
    pub(super) fn boot_sector(&self, index: usize) -> Sector {
        self.list[self.of_boot_entry[index] as usize].sector
    }

    /// First byte and length of a boot entry's image.
    pub(super) fn boot_extent(&self, index: usize) -> (u64, u64) {
        let blob = &self.list[self.of_boot_entry[index] as usize];
        (blob.sector.byte_offset(), blob.content.len())
    }

    /// Patches the boot images, and puts the catalog's bytes into the file that shows it.
    pub(super) fn patch(
        &mut self,
        catalog: Option<&BootCatalog>,
        apply: &dyn Fn(&Content, ImagePatch, Sector) -> Result<Content>,
    ) -> Result<()> {
        let Some(catalog) = catalog else { return Ok(()) };
        for (entry, number) in catalog.entries.iter().zip(&self.of_boot_entry) {
            let blob = &mut self.list[*number as usize];
            blob.content = apply(&blob.content, entry.patch, blob.sector)?;
        }
        if let Some(node) = self.catalog_node {
            let number = self.of_node[node.index()];
            let bytes = crate::eltorito::write::catalog(catalog, &|index| self.boot_sector(index))?;
            self.list[number as usize].content = Content::from_bytes(bytes);
        }
        Ok(())
    }
}

/// Which files of a tree have equal content, found once for many media from copies of the tree.
pub struct Twins {
    groups: HashMap<NodeId, (u32, Content)>,
}

impl Twins {
    /// Finds them in `tree`.
    ///
    /// # Errors
    /// What reading the content gives; `Cancelled`.
    pub fn find(tree: &Tree, job: &Job<'_>) -> Result<Self> {
        let own = |(id, group): (NodeId, u32)| Some((id, (group, tree.node(id).content()?.clone())));
        Ok(Self { groups: find_twins(tree, job)?.into_iter().filter_map(own).collect() })
    }

    /// Those that a copy of the tree still has as they were.
    fn of(&self, tree: &Tree) -> HashMap<NodeId, u32> {
        let nodes = tree.walk().filter_map(|step| {
            let (group, content) = self.groups.get(&step.id)?;
            tree.node(step.id).content().filter(|own| own.is_same(content)).map(|_| (step.id, *group))
        });
        nodes.collect()
    }
}

/// Groups files with equal content: extents of the same bytes at once, others by length, beginning and digest.
fn find_twins(tree: &Tree, job: &Job<'_>) -> Result<HashMap<NodeId, u32>> {
    let mut by_len: BTreeMap<u64, Vec<NodeId>> = BTreeMap::new();
    for step in tree.walk() {
        if let NodeKind::File(content) = &tree.node(step.id).kind
            && !content.is_empty()
        {
            by_len.entry(content.len()).or_default().push(step.id);
        }
    }
    let mut groups = HashMap::new();
    let mut next = 0_u32;
    for (_, ids) in by_len.into_iter().filter(|(_, ids)| ids.len() > 1) {
        for twins in split_by(ids, &|id| Ok(extent_key(tree, id)))? {
            // Equal extents need no reading; one of them stands for all in the comparison with other files.
            groups.extend(twins.iter().map(|id| (*id, next)));
            next += 1;
        }
    }
    let mut representatives: BTreeMap<u64, Vec<(NodeId, u32)>> = BTreeMap::new();
    let mut seen = vec![false; next as usize];
    let mut ordered: Vec<_> = groups.iter().map(|(id, group)| (*id, *group)).collect();
    ordered.sort_unstable();
    for (id, group) in ordered {
        if !std::mem::replace(&mut seen[group as usize], true) {
            let len = tree.node(id).content().map_or(0, Content::len);
            representatives.entry(len).or_default().push((id, group));
        }
    }
    let mut merged: HashMap<u32, u32> = HashMap::new();
    for (len, list) in representatives.into_iter().filter(|(_, list)| list.len() > 1) {
        let group_of: HashMap<NodeId, u32> = list.iter().copied().collect();
        let digest = |id: NodeId, part: u64| match tree.node(id).content() {
            Some(content) => {
                digest_of(&content.part(0, part.min(len))?, DigestKind::Sha256, job).map(|hex| key_of(&hex))
            }
            None => Ok([0; 32]),
        };
        for alike in split_by(list.iter().map(|(id, _)| *id).collect(), &|id| digest(id, PROBE_LEN))? {
            if alike.len() < 2 {
                continue;
            }
            let equal = if len <= PROBE_LEN { vec![alike] } else { split_by(alike, &|id| digest(id, len))? };
            for twins in equal {
                for id in &twins[1..] {
                    merged.insert(group_of[id], group_of[&twins[0]]);
                }
            }
        }
    }
    for group in groups.values_mut() {
        *group = merged.get(group).copied().unwrap_or(*group);
    }
    Ok(groups)
}

/// What files are grouped by: a digest, or a place.
type Key = [u8; 32];

/// The bytes of a SHA-256 in hexadecimal.
fn key_of(hex: &str) -> Key {
    let mut key = [0; 32];
    for (byte, digits) in key.iter_mut().zip(hex.as_bytes().chunks_exact(2)) {
        let digit = |c: u8| char::from(c).to_digit(16).unwrap_or(0) as u8;
        *byte = digit(digits[0]) << 4 | digit(digits[1]);
    }
    key
}

/// Where a content that is one extent lies: equal keys are equal bytes. Any other content has a key of its own.
fn extent_key(tree: &Tree, id: NodeId) -> Key {
    let mut key = [0; 32];
    match tree.node(id).content().map(Content::pieces) {
        Some([Piece::Extent { source, offset, .. }]) => {
            key[..8].copy_from_slice(&(Arc::as_ptr(source).addr() as u64).to_le_bytes());
            key[8..16].copy_from_slice(&offset.to_le_bytes());
        }
        _ => key[16..24].copy_from_slice(&(id.index() as u64 + 1).to_le_bytes()),
    }
    key
}

/// Groups `ids` by what `key` gives for each, in the order in which the keys first come.
fn split_by(ids: Vec<NodeId>, key: &dyn Fn(NodeId) -> Result<Key>) -> Result<Vec<Vec<NodeId>>> {
    let mut groups: Vec<Vec<NodeId>> = Vec::new();
    let mut numbers: HashMap<Key, usize> = HashMap::new();
    for id in ids {
        let number = *numbers.entry(key(id)?).or_insert(groups.len());
        if number == groups.len() {
            groups.push(Vec::new());
        }
        groups[number].push(id);
    }
    Ok(groups)
}

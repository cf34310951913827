//! One touch-up: the same change in every tree of a disc.

use super::{
    SECTOR, Target, Trail,
    boot::{self, Boot},
    commit::{self, Ending, Store},
    draft::{Draft, Fresh},
    iso,
    journal::{Change, Removed, Story, Verb},
    sorted,
    tree::DiscTree,
    udf,
};
use crate::TreeKind;
use std::ops::Range;

use neat_content::{Advice, Content, Error, Job, Result, Timestamp, check_name, fold_case};

/// Files of this size and more begin where blocks of other file systems do, so that copies can share them.
const LARGE: u64 = 1 << 20;
/// Changes within this many bytes are written at once.
const AT_ONCE: u64 = 512 << 10;
/// A tree with at most this many entries in its root beside one with many more only says that the other is to be
/// used.
const STUB_ENTRIES: usize = 3;

/// A disc and what is being changed on it.
pub(super) struct Work {
    draft: Draft,
    trees: Vec<AnyTree>,
    boot: Boot,
    /// What is hidden at this point.
    hidden: Vec<Change>,
}

/// A tree of the disc.
struct AnyTree {
    tree: Box<dyn DiscTree>,
    /// Whether it only holds a note.
    is_stub: bool,
}

impl Work {
    pub(super) fn open(draft: Draft, hidden: Vec<Change>) -> Result<Self> {
        let udf = udf::open(&draft)?.map(|tree| Box::new(tree) as Box<dyn DiscTree>);
        let iso = iso::open_all(&draft)?.into_iter().map(|tree| Box::new(tree) as Box<dyn DiscTree>);
        let mut trees: Vec<AnyTree> =
            udf.into_iter().chain(iso).map(|tree| AnyTree { tree, is_stub: false }).collect();
        if trees.is_empty() {
            let expected = "CD001 or a UDF recognition sequence";
            return Err(Error::bad_field(
                "VolumeDescriptor",
                "standard_identifier",
                16 * SECTOR + 1,
                expected,
                "neither",
            ));
        }
        let mut counts = Vec::new();
        for tree in &mut trees {
            counts.push(tree.tree.root_entries(&draft)?);
        }
        let most = counts.iter().copied().max().unwrap_or(0);
        for (tree, count) in trees.iter_mut().zip(counts) {
            tree.is_stub = count <= STUB_ENTRIES && most > 2 * STUB_ENTRIES;
        }
        if trees.len() > 1 {
            let range = last_write(&trees);
            for tree in &mut trees {
                tree.tree.confine(&range);
            }
        }
        let boot = boot::open(&draft)?;
        Ok(Self { draft, trees, boot, hidden })
    }

    /// What is hidden after what was done so far.
    pub(super) fn hidden(&self) -> Vec<Change> {
        self.hidden.clone()
    }

    /// The way to `path` in the tree that tells most.
    fn trail(&mut self, path: &[&str]) -> Result<Trail> {
        let rank = |tree: &AnyTree| match tree.tree.kind() {
            TreeKind::Udf => 0,
            TreeKind::RockRidge => 1,
            TreeKind::Joliet => 2,
            _ => 3,
        };
        let best = self.trees.iter_mut().filter(|tree| !tree.is_stub).min_by_key(|tree| rank(tree));
        best.map_or_else(|| Ok(Trail::default()), |tree| tree.tree.trail(&self.draft, path))
    }

    pub(super) fn put(&mut self, path: &str, content: Content, time: Timestamp) -> Result<Change> {
        let names = split(path)?;
        let Some((name, folders)) = names.split_last() else { return Err(no_path()) };
        let trail = self.trail(&names)?;
        let found_folders = trail.folders();
        if found_folders == names.len() {
            return Err(Error::request(
                format!("{} is a folder on the disc", trail.names.join("/")),
                "say where in it the file belongs, as in FILE=FOLDER/NAME",
            ));
        }
        if found_folders < folders.len() && trail.names.len() > found_folders {
            let file = trail.names.join("/");
            return Err(Error::request(
                format!("{file} is a file on the disc, not a folder"),
                "name another path",
            ));
        }
        let replaced = trail.names.len() == names.len();
        let target = trail.target(folders.len()).clone();
        let old_at = if let Target::File(offset) = target { Some(offset) } else { None };
        if old_at.is_some() && old_at == self.boot.catalog_at {
            return Err(Error::request(
                format!("{} is the boot catalogue, which is kept right by itself", trail.names.join("/")),
                "put the boot image that it points at",
            ));
        }
        let len = content.len();
        let alignment = if len >= LARGE { 2 * SECTOR } else { SECTOR };
        let offset = self.draft.end().next_multiple_of(alignment);
        let content = match old_at {
            Some(old) => self.boot.prepared(&content, old, offset)?,
            None => content,
        };
        let mut old_extent = None;
        self.draft.append(Fresh::Content(content), alignment);
        let mut trees = Vec::new();
        let mut notes = Vec::new();
        for AnyTree { tree, .. } in self.trees.iter_mut().filter(|tree| !tree.is_stub) {
            let (mut key, depth) = tree.follow(&self.draft, folders, &trail)?;
            if depth < found_folders {
                notes.push(format!("not in the {} tree, which does not have the folder", tree.kind().name()));
                continue;
            }
            for folder in &folders[depth..] {
                key = tree.make_folder(&mut self.draft, key, folder, time)?;
            }
            let former = tree.put(&mut self.draft, key, name, &target, (offset, len), time)?;
            old_extent = old_extent.or(former);
            trees.push(tree.kind());
        }
        if let Some(old) = old_extent {
            notes.extend(self.boot.repoint(&mut self.draft, old, (offset, len))?);
        }
        let path = spelled(&trail, &names);
        Ok(Change {
            verb: Verb::Put,
            path,
            bytes: Some(len),
            replaced,
            trees: sorted(trees),
            notes,
            removed: Vec::new(),
        })
    }

    fn hidden_at(&self, names: &[&str]) -> Option<usize> {
        let path = fold_case(&names.join("/"));
        self.hidden.iter().rposition(|change| fold_case(&change.path) == path)
    }

    pub(super) fn hide(&mut self, path: &str) -> Result<Change> {
        let names = split(path)?;
        let Some((name, folders)) = names.split_last() else { return Err(no_path()) };
        let trail = self.trail(&names)?;
        if trail.names.len() < names.len() {
            return Err(match self.hidden_at(&names) {
                Some(number) => Error::request(
                    format!("{} is hidden already", self.hidden[number].path),
                    Advice::ShowHidden,
                ),
                None => Error::request(format!("{path} is not on the disc"), Advice::ListFiles),
            });
        }
        let target = trail.target(folders.len()).clone();
        if matches!(target, Target::Folder(_)) {
            // What was put into it in this run has to be in it when it is shown again.
            self.flush()?;
        }
        let mut trees = Vec::new();
        let mut removed = Vec::new();
        let mut notes = Vec::new();
        for (number, AnyTree { tree, is_stub }) in self.trees.iter_mut().enumerate() {
            let (key, depth) = tree.follow(&self.draft, folders, &trail)?;
            let is_there = depth == folders.len();
            let entries = if is_there { tree.remove(&self.draft, key, name, &target)? } else { None };
            let Some(entries) = entries else {
                if !*is_stub {
                    notes.push(format!("it was not in the {} tree", tree.kind().name()));
                }
                continue;
            };
            let folder = trail.names[..folders.len()].to_vec();
            removed.push(Removed { tree: number, folder, entries });
            trees.push(tree.kind());
        }
        if let Target::File(offset) = target {
            notes.extend(self.boot.mentions(offset));
        }
        let path = spelled(&trail, &names);
        let change = Change {
            verb: Verb::Hide,
            path,
            bytes: None,
            replaced: false,
            trees: sorted(trees),
            notes,
            removed,
        };
        self.hidden.push(change.clone());
        Ok(change)
    }

    pub(super) fn show(&mut self, path: &str) -> Result<Change> {
        let names = split(path)?;
        let Some(number) = self.hidden_at(&names) else {
            let hint = match self.hidden.as_slice() {
                [] => "nothing is hidden on this disc".to_owned(),
                hidden => {
                    let paths: Vec<&str> = hidden.iter().map(|change| change.path.as_str()).collect();
                    format!("hidden are: {}", paths.join(", "))
                }
            };
            return Err(Error::request(format!("{path} is not hidden"), hint));
        };
        let change = self.hidden.remove(number);
        let mut trees = Vec::new();
        let folder = change.removed.first().map(|removed| removed.folder.clone()).unwrap_or_default();
        let folders: Vec<&str> = folder.iter().map(String::as_str).collect();
        let path: Vec<&str> = change.path.split('/').collect();
        if self.trail(&path)?.names.len() == path.len() {
            return Err(Error::request(
                format!("another {} was put there meanwhile", change.path),
                "hide that one first, or take the touch-ups back with `undo`",
            ));
        }
        // Before anything is back: the trees know each other's folders by what is in them.
        let trail = self.trail(&folders)?;
        for removed in change.removed {
            let Some(AnyTree { tree, .. }) = self.trees.get_mut(removed.tree) else { continue };
            let (key, depth) = tree.follow(&self.draft, &folders, &trail)?;
            if depth < folders.len() {
                return Err(Error::request(
                    format!("the folder {} of {} is not there", folders.join("/"), change.path),
                    "show the folder first",
                ));
            }
            tree.bring_back(&mut self.draft, key, removed.entries)?;
            trees.push(tree.kind());
        }
        let (verb, path) = (Verb::Show, change.path);
        Ok(Change {
            verb,
            path,
            bytes: None,
            replaced: false,
            trees: sorted(trees),
            notes: Vec::new(),
            removed: Vec::new(),
        })
    }

    /// Lets the draft have all changes to directories.
    fn flush(&mut self) -> Result<()> {
        for tree in &mut self.trees {
            tree.tree.flush(&mut self.draft)?;
        }
        Ok(())
    }

    /// Writes everything. Gives the new length and the number of bytes written.
    pub(super) fn commit(
        mut self,
        story: &Story,
        store: &mut dyn Store,
        job: &Job<'_>,
    ) -> Result<(u64, u64)> {
        self.flush()?;
        let mut draft = self.draft;
        let trees = self.trees;
        commit::commit(&mut draft, story, store, job, &mut |draft, len| {
            let mut ending = Ending { last_write: last_write(&trees), ..Ending::default() };
            if let Some((entries, header)) = boot::set_len(draft, len)? {
                (ending.before, ending.last_block) = (entries, Some(header));
            }
            for tree in &trees {
                tree.tree.set_len(draft, len, &mut ending)?;
            }
            Ok(ending)
        })
    }
}

/// What changes over with one write: the descriptors that begin all trees, and what lies close behind them.
fn last_write(trees: &[AnyTree]) -> Range<u64> {
    let starts = trees.iter().filter_map(|tree| tree.tree.descriptors_at());
    let start = starts.min().unwrap_or(0);
    start..start + AT_ONCE
}

fn no_path() -> Error {
    Error::request("no path on the disc is given", "give one, as in sources/file.txt")
}

/// The names of a path on the disc.
fn split(path: &str) -> Result<Vec<&str>> {
    let names: Vec<&str> = path.split('/').filter(|name| !name.is_empty()).collect();
    if names.is_empty() {
        return Err(no_path());
    }
    for name in &names {
        check_name(name).map_err(|expected| {
            Error::request(
                format!("{path} cannot be a path on a disc: {expected}, not {name:?}"),
                "name another path",
            )
        })?;
    }
    Ok(names)
}

/// The path as the disc spells it, as far as it is there.
fn spelled(trail: &Trail, names: &[&str]) -> String {
    let known = trail.names.iter().map(String::as_str);
    let rest = names.get(trail.names.len()..).unwrap_or_default().iter().copied();
    known.chain(rest).collect::<Vec<_>>().join("/")
}

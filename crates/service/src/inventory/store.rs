//! The component store: what packages bring lies there, and elsewhere in the edition under other names of the same files.

use super::{Inventory, weight::below};
use crate::{Edition, Layout};
use neat_image::EntryId;
use neat_package::Identity;
use std::collections::{HashMap, HashSet};

/// Names of parts longer than this are shortened in the store: their first and last characters, with two dots between.
const LONGEST_NAME: usize = 40;
/// Characters that stay at each end.
const KEPT_AT_ENDS: usize = 19;
/// Ending of the manifests of parts.
const MANIFEST: &str = ".manifest";

/// What a part is called in the store, but for the number at the end: architecture, name, key, version and language.
pub(super) fn name_in_store(part: &Identity) -> Box<str> {
    let or_none = |text: &str| if text.is_empty() { "none".to_owned() } else { text.to_ascii_lowercase() };
    let mut name = part.name.to_lowercase();
    let count = name.chars().count();
    if count > LONGEST_NAME {
        let first: String = name.chars().take(KEPT_AT_ENDS).collect();
        let last: String = name.chars().skip(count - KEPT_AT_ENDS).collect();
        name = format!("{first}..{last}");
    }
    let language = part.language().unwrap_or_default();
    format!(
        "{}_{name}_{}_{}_{}",
        or_none(&part.architecture),
        or_none(&part.token),
        part.version,
        or_none(language)
    )
    .into()
}

/// The store of an edition, and who wants what of it.
#[derive(Default)]
pub(super) struct Store {
    /// Folders and manifests of parts, by their names without the number.
    parts: HashMap<Box<str>, Part>,
    /// The folder of the store.
    folder: Option<EntryId>,
}

#[derive(Default)]
struct Part {
    entries: Vec<EntryId>,
    /// Ids of the components that bring it.
    holders: Vec<String>,
    /// Whether a record that is no component of its own brings it too.
    is_kept: bool,
}

impl Store {
    /// Lists the store of an edition; empty where its layout names none.
    pub fn of(edition: &Edition, layout: &Layout) -> Self {
        let mut store = Self::default();
        let Some(layout) = &layout.store else { return store };
        let files = &edition.files;
        store.folder = files.find(&edition.place(&layout.folder));
        for (folder, ending) in [(&layout.folder, ""), (&layout.manifests, MANIFEST)] {
            let Some(folder) = files.find(&edition.place(folder)) else { continue };
            for id in files.entry(folder).children() {
                let name = files.entry(*id).name.to_string().to_lowercase();
                let stem = name.strip_suffix(ending).and_then(|name| name.rsplit_once('_'));
                let Some((stem, _)) = stem else { continue };
                store.parts.entry(stem.into()).or_default().entries.push(*id);
            }
        }
        store
    }

    /// A component brings these parts.
    pub fn wants(&mut self, component: &str, parts: &[Box<str>]) {
        for part in parts {
            if let Some(part) = self.parts.get_mut(part)
                && !part.holders.iter().any(|holder| holder == component)
            {
                part.holders.push(component.to_owned());
            }
        }
    }

    /// These parts stay, whatever goes.
    pub fn keeps(&mut self, parts: &[Box<str>]) {
        for part in parts {
            if let Some(part) = self.parts.get_mut(part) {
                part.is_kept = true;
            }
        }
    }

    /// Gives each component what only it brings, with the other names of those files outside the store. What several
    /// bring goes when all of them go.
    pub fn give(self, edition: &Edition, inventory: &mut Inventory) {
        let held: Vec<Part> =
            self.parts.into_values().filter(|part| !part.holders.is_empty() && !part.is_kept).collect();
        if held.is_empty() {
            return;
        }
        let links = Links::of(edition, self.folder);
        for Part { mut entries, mut holders, .. } in held {
            let mut members: HashMap<u64, usize> = HashMap::new();
            for id in below(&edition.files, &entries) {
                *members.entry(edition.files.entry(id).hard_link()).or_default() += 1;
            }
            // A file that other parts of the store have too stays outside.
            let own = members.iter().filter(|(group, count)| links.inside.get(*group) == Some(*count));
            let outside: Vec<EntryId> =
                own.flat_map(|(group, _)| links.outside.get(group).into_iter().flatten().copied()).collect();
            entries.extend(outside);
            entries.sort_unstable_by_key(|id| id.index());
            holders.sort();
            match holders.as_slice() {
                [only] => {
                    if let Some(component) = inventory.components.get_mut(only) {
                        component.entries.extend(entries);
                    }
                }
                _ => inventory.held.push((holders, entries)),
            }
        }
        inventory.held.sort();
    }
}

/// Files with several names, by the number of their group.
#[derive(Default)]
struct Links {
    /// How many names each has in the store.
    inside: HashMap<u64, usize>,
    /// Its names outside.
    outside: HashMap<u64, Vec<EntryId>>,
}

impl Links {
    fn of(edition: &Edition, store: Option<EntryId>) -> Self {
        let files = &edition.files;
        let in_store: HashSet<EntryId> = store.map(|id| below(files, &[id])).unwrap_or_default();
        let mut links = Self::default();
        for id in files.ids() {
            match files.entry(id).hard_link() {
                0 => {}
                group if in_store.contains(&id) => *links.inside.entry(group).or_default() += 1,
                group => links.outside.entry(group).or_default().push(id),
            }
        }
        links
    }
}

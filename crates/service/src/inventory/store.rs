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

/// Who wants what of the component store.
#[derive(Default)]
pub(super) struct Store {
    /// Parts by their names in the store.
    parts: HashMap<Box<str>, Part>,
}

#[derive(Default)]
struct Part {
    /// Ids of the components that bring it.
    holders: Vec<String>,
    /// Whether a record that is no component of its own brings it too.
    is_kept: bool,
    /// Its folder and manifest.
    entries: Vec<EntryId>,
}

impl Store {
    /// A component brings these parts.
    pub fn wants(&mut self, component: &str, parts: &[Box<str>]) {
        for part in parts {
            let part = self.parts.entry(part.clone()).or_default();
            if !part.holders.iter().any(|holder| holder == component) {
                part.holders.push(component.to_owned());
            }
        }
    }

    /// These parts stay, whatever goes.
    pub fn keeps(&mut self, parts: &[Box<str>]) {
        for part in parts {
            self.parts.entry(part.clone()).or_default().is_kept = true;
        }
    }

    /// Gives each component what only it brings, with the other names of those files outside the store. What several
    /// bring goes when all of them go. Nothing where the layout names no store.
    pub fn give(mut self, edition: &Edition, layout: &Layout, inventory: &mut Inventory) {
        self.parts.retain(|_, part| !part.is_kept);
        let Some(layout) = layout.store.as_ref().filter(|_| !self.parts.is_empty()) else { return };
        let files = &edition.files;
        for (folder, ending) in [(&layout.folder, ""), (&layout.manifests, MANIFEST)] {
            let Some(folder) = files.find(&edition.place(folder)) else { continue };
            for id in files.entry(folder).children() {
                let name = files.entry(*id).name.to_string().to_lowercase();
                let stem = name.strip_suffix(ending).and_then(|name| name.rsplit_once('_'));
                let part = stem.and_then(|(stem, _)| self.parts.get_mut(stem));
                if let Some(part) = part {
                    part.entries.push(*id);
                }
            }
        }
        let held: Vec<Part> = self.parts.into_values().filter(|part| !part.entries.is_empty()).collect();
        if held.is_empty() {
            return;
        }
        let links = Links::of(edition, files.find(&edition.place(&layout.folder)));
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

//! Package records and the optional features in them.

use super::{Category, Inventory, slug, store};
use crate::{Edition, Layout, layout::PackagesLayout, pattern};
use neat_content::Result;
use neat_image::EntryId;
use neat_package::{Identity, PackageManifest};
use neat_registry::{Hive, HiveRole, KeyId};
use rayon::iter::{IntoParallelRefIterator, ParallelIterator};
use std::{collections::HashMap, sync::Arc};

/// Largest record, in bytes.
const LARGEST: u64 = 16 << 20;

/// What a record says of its package, whichever edition it is in.
pub(super) struct RecordFacts {
    name: Box<str>,
    version: Box<str>,
    language: Box<str>,
    is_language: bool,
    title: Box<str>,
    description: Box<str>,
    parents: Box<[Box<str>]>,
    /// Names of the parts that it lists, and whether each is shown to people.
    parts: Box<[(Box<str>, bool)]>,
    /// As they stand there, with variables.
    files: Box<[Box<str>]>,
    /// What its parts are called in the component store.
    stored: Box<[Box<str>]>,
}

impl RecordFacts {
    /// Whether it is short enough to be kept for other editions: a large one lists thousands of parts.
    pub(super) fn is_short(&self) -> bool {
        self.parts.len() + self.files.len() + self.stored.len() <= 64
    }
}

/// A record of an edition.
struct Record {
    stem: String,
    entries: Vec<EntryId>,
    facts: Arc<RecordFacts>,
    features: Vec<String>,
}

pub(super) fn scan(edition: &Edition, layout: &Layout, inventory: &mut Inventory) -> Result<()> {
    let mut stored = store::Store::default();
    let whole = layout;
    let Some(layout) = &layout.packages else { return Ok(()) };
    let records = read(edition, layout, inventory)?;
    let keys = keys_of(edition, layout);
    for record in records {
        let key = format!("{}\\{}", layout.keys, record.stem);
        let own_key = keys.and_then(|(hive, keys)| Some((hive, hive.child(keys, &record.stem)?)));
        let has_key = own_key.is_some();
        let states = own_key.and_then(|(hive, key)| Some((hive, hive.find_in(key, &layout.features)?)));
        let facts = &*record.facts;
        let payload: Vec<EntryId> = facts
            .files
            .iter()
            .flat_map(|path| pattern::find(&edition.files, &place(edition, path)))
            .collect();
        // A record with one feature is that feature; with none it is a package; with several it holds them.
        let ids: Vec<(Category, String)> = match record.features.as_slice() {
            _ if facts.is_language => vec![(Category::Language, facts.language.to_string())],
            [] => vec![(Category::Package, facts.name.to_string())],
            features => features.iter().map(|feature| (Category::Feature, feature.clone())).collect(),
        };
        let is_alone = ids.len() == 1;
        for (category, name) in ids {
            let feature_key = format!("{key}\\{}", layout.features);
            let state = states
                .filter(|_| category == Category::Feature)
                .and_then(|(hive, key)| hive.number(hive.value(key, &name)?));
            let component = inventory.entry(category, &name);
            if !facts.title.is_empty() && is_alone {
                component.title = facts.title.to_string();
            }
            if !facts.description.is_empty() && is_alone {
                component.description = facts.description.to_string();
            }
            component.version = facts.version.to_string();
            if category == Category::Feature {
                let is_on = state == Some(u64::from(layout.on));
                component.state = if is_on { "on" } else { "off" }.into();
                component.values.push((HiveRole::Software, feature_key, name.clone()));
            }
            if is_alone {
                component.entries.extend(&record.entries);
                component.entries.extend(&payload);
                stored.wants(&component.id, &facts.stored);
                if has_key {
                    component.keys.push((HiveRole::Software, key.clone()));
                }
            }
            component.needs.extend(facts.parents.iter().flat_map(|parent| {
                [Category::Feature, Category::Package]
                    .map(|category| format!("{}/{}", category.word(), slug(parent)))
            }));
        }
        if !is_alone {
            stored.keeps(&facts.stored);
        }
    }
    stored.give(edition, whole, inventory);
    Ok(())
}

/// What is in the edition, as its package records are named.
pub(crate) fn identities(edition: &Edition) -> Vec<Identity> {
    let Some(layout) = edition.layout.as_ref().and_then(|layout| layout.packages.as_ref()) else {
        return Vec::new();
    };
    let Some(folder) = edition.files.find(&edition.place(&layout.folder)) else { return Vec::new() };
    let children = edition.files.entry(folder).children();
    let names = children.iter().map(|id| edition.files.entry(*id).name.to_string());
    names.filter_map(|name| Identity::of_record(stem_of(&name, &layout.ending)?)).collect()
}

/// The name of a record without its ending.
fn stem_of<'a>(name: &'a str, ending: &str) -> Option<&'a str> {
    let (stem, own) = name.split_at_checked(name.len().checked_sub(ending.len())?)?;
    own.eq_ignore_ascii_case(ending).then_some(stem)
}

/// The hive with the packages' keys, and the key that they are in.
fn keys_of<'a>(edition: &'a Edition, layout: &PackagesLayout) -> Option<(&'a Hive, KeyId)> {
    let hive = edition.hive(HiveRole::Software)?;
    Some((hive, hive.find(&layout.keys)?))
}

fn read(edition: &Edition, layout: &PackagesLayout, inventory: &mut Inventory) -> Result<Vec<Record>> {
    let Some(folder) = edition.files.find(&edition.place(&layout.folder)) else {
        return Ok(Vec::new());
    };
    let children = edition.files.entry(folder).children();
    let names: Vec<(EntryId, String)> =
        children.iter().map(|id| (*id, edition.files.entry(*id).name.to_string())).collect();
    // The record and what lies beside it with the same name, such as its signature.
    let mut by_stem: HashMap<&str, Vec<EntryId>> = HashMap::with_capacity(names.len());
    for (id, name) in &names {
        if let Some((stem, _)) = name.rsplit_once('.') {
            by_stem.entry(stem).or_default().push(*id);
        }
    }
    let keys = keys_of(edition, layout);
    let found: Vec<(EntryId, &str)> =
        names.iter().filter_map(|(id, name)| Some((*id, stem_of(name, &layout.ending)?))).collect();
    let facts: Vec<_> = found.par_iter().map(|(id, _)| facts_of(edition, *id)).collect();
    let mut records = Vec::new();
    for ((id, stem), facts) in found.into_iter().zip(facts) {
        let facts = match facts? {
            Ok(Some(facts)) => facts,
            Ok(None) => continue,
            Err(error) => {
                inventory.notes.push(format!("/{}: {error}", edition.files.path(id)));
                continue;
            }
        };
        let entries = by_stem.get(stem).cloned().unwrap_or_default();
        // Found once for a record: a large one lists thousands of parts.
        let states = keys
            .and_then(|(hive, keys)| Some((hive, hive.find_in(hive.child(keys, stem)?, &layout.features)?)));
        let registered = |name: &str| states.is_some_and(|(hive, key)| hive.value(key, name).is_some());
        // Large packages list their parts in the same way; only features are shown to people or registered.
        let features = facts.parts.iter().filter(|(name, is_shown)| *is_shown || registered(name));
        let features = features.map(|(name, _)| name.to_string()).collect();
        records.push(Record { stem: stem.to_owned(), entries, facts, features });
    }
    Ok(records)
}

/// What the record `id` says, nothing if it names no package, or what is wrong with its text.
fn facts_of(
    edition: &Edition,
    id: EntryId,
) -> Result<std::result::Result<Option<Arc<RecordFacts>>, neat_content::Error>> {
    let digest = edition.files.entry(id).content();
    if let Some(facts) = edition.scans.record(digest) {
        return Ok(Ok(Some(facts)));
    }
    let bytes = edition.content(id)?.to_vec(LARGEST, "record of a package")?;
    let manifest = match PackageManifest::read(&bytes) {
        Ok(manifest) => manifest,
        Err(error) => return Ok(Err(error)),
    };
    Ok(Ok(manifest.map(|manifest| edition.scans.keep_record(digest, of_manifest(manifest)))))
}

fn of_manifest(own: PackageManifest) -> RecordFacts {
    let parents = own.parents.iter().filter_map(|parent| parent.any_of.first());
    let stored: Vec<Box<str>> = own.components.iter().map(store::name_in_store).collect();
    RecordFacts {
        is_language: own.is_language() && own.identity.language.contains('-'),
        parents: parents.map(|parent| parent.name.as_str().into()).collect(),
        parts: own.features.into_iter().map(|part| (part.name.into(), part.is_shown)).collect(),
        files: own.files.into_iter().map(Into::into).collect(),
        stored: stored.into(),
        name: own.identity.name.into(),
        version: own.identity.version.into(),
        language: own.identity.language.into(),
        title: own.title.into(),
        description: own.description.into(),
    }
}

/// A path in a record, with the variables that records have.
fn place(edition: &Edition, name: &str) -> String {
    let mut path = name.replace('\\', "/");
    let root = &edition.root;
    for (variable, folder) in [
        ("$(runtime.bootdrive)", String::new()),
        ("$(runtime.systemroot)", root.clone()),
        ("$(runtime.windows)", root.clone()),
        ("$(runtime.system32)", format!("{root}/System32")),
        ("$(runtime.drivers)", format!("{root}/System32/drivers")),
        ("$(runtime.fonts)", format!("{root}/Fonts")),
        ("$(runtime.programfiles)", "Program Files".into()),
    ] {
        let matches = path.get(..variable.len()).is_some_and(|start| start.eq_ignore_ascii_case(variable));
        if matches {
            path.replace_range(..variable.len(), &folder);
        }
    }
    path.trim_start_matches('/').to_owned()
}

//! Package records and the optional features in them.

use super::{Category, Inventory, apps::local, apps::local_name, slug};
use crate::{Edition, Layout, layout::PackagesLayout, pattern};
use neat_content::{Result, Text};
use neat_image::{EntryId, xml::Element};
use neat_registry::HiveRole;
use std::collections::HashMap;

/// Largest record, in bytes.
const LARGEST: u64 = 16 << 20;

/// What a record says of its package.
struct Record {
    stem: String,
    entries: Vec<EntryId>,
    name: String,
    version: String,
    language: String,
    is_language: bool,
    title: String,
    description: String,
    parents: Vec<String>,
    features: Vec<String>,
    files: Vec<String>,
}

pub(super) fn scan(edition: &Edition, layout: &Layout, inventory: &mut Inventory) -> Result<()> {
    let Some(layout) = &layout.packages else { return Ok(()) };
    let records = read(edition, layout, inventory)?;
    let hive = edition.hive(HiveRole::Software);
    for record in records {
        let key = format!("{}\\{}", layout.keys, record.stem);
        let has_key = hive.is_some_and(|hive| hive.find(&key).is_some());
        let payload: Vec<EntryId> =
            record.files.iter().flat_map(|path| pattern::find(&edition.files, path)).collect();
        // A record with one feature is that feature; with none it is a package; with several it holds them.
        let ids: Vec<(Category, String)> = match record.features.as_slice() {
            _ if record.is_language => vec![(Category::Language, record.language.clone())],
            [] => vec![(Category::Package, record.name.clone())],
            features => features.iter().map(|feature| (Category::Feature, feature.clone())).collect(),
        };
        let is_alone = ids.len() == 1;
        for (category, name) in ids {
            let feature_key = format!("{key}\\{}", layout.features);
            let state = hive
                .filter(|_| category == Category::Feature)
                .and_then(|hive| hive.number_at(&feature_key, &name));
            let component = inventory.entry(category, &name);
            if !record.title.is_empty() && is_alone {
                record.title.clone_into(&mut component.title);
            }
            if !record.description.is_empty() && is_alone {
                record.description.clone_into(&mut component.description);
            }
            component.version.clone_from(&record.version);
            if category == Category::Feature {
                let is_on = state == Some(u64::from(layout.on));
                component.state = if is_on { "on" } else { "off" }.into();
                component.values.push((HiveRole::Software, feature_key, name.clone()));
            }
            if is_alone {
                component.entries.extend(&record.entries);
                component.entries.extend(&payload);
                if has_key {
                    component.keys.push((HiveRole::Software, key.clone()));
                }
            }
            component.needs.extend(record.parents.iter().flat_map(|parent| {
                [Category::Feature, Category::Package]
                    .map(|category| format!("{}/{}", category.word(), slug(parent)))
            }));
        }
    }
    Ok(())
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
    let mut records = Vec::new();
    for (id, name) in &names {
        let Some(stem) = name.len().checked_sub(layout.ending.len()).and_then(|at| {
            let ending = name.get(at..)?;
            ending.eq_ignore_ascii_case(&layout.ending).then(|| &name[..at])
        }) else {
            continue;
        };
        let bytes = edition.content(*id)?.to_vec(LARGEST, "record of a package")?;
        let root = match Element::parse(&Text::decode(&bytes).text) {
            Ok(root) => root,
            Err(error) => {
                inventory.notes.push(format!("/{}: {error}", edition.files.path(*id)));
                continue;
            }
        };
        let entries = by_stem.get(stem).cloned().unwrap_or_default();
        // Found once for a record: a large one lists thousands of parts.
        let states = edition.hive(HiveRole::Software).and_then(|hive| {
            Some((hive, hive.find(&format!("{}\\{stem}\\{}", layout.keys, layout.features))?))
        });
        let registered = |name: &str| states.is_some_and(|(hive, key)| hive.value(key, name).is_some());
        records.extend(of_record(edition, &root, stem, entries, &registered));
    }
    Ok(records)
}

fn of_record(
    edition: &Edition,
    root: &Element,
    stem: &str,
    entries: Vec<EntryId>,
    registered: &dyn Fn(&str) -> bool,
) -> Option<Record> {
    let identity = local(root, "assemblyIdentity")?;
    let attribute = |element: &Element, name: &str| element.attribute(name).unwrap_or_default().to_owned();
    let package = local(root, "package");
    let language = attribute(identity, "language");
    let release = package.map(|package| attribute(package, "releaseType")).unwrap_or_default();
    let name_of =
        |element: &Element| local(element, "assemblyIdentity").map(|identity| attribute(identity, "name"));
    let inside = || package.into_iter().flat_map(Element::elements);
    let parents = inside().filter(|element| local_name(&element.name) == "parent").filter_map(name_of);
    let features = inside()
        .filter(|element| local_name(&element.name) == "update")
        .filter(|element| {
            // Large packages list their parts in the same way; only features are shown to people or registered.
            let name = element.attribute("name").unwrap_or_default();
            element.attribute("displayName").is_some() || registered(name)
        })
        .filter_map(|element| element.attribute("name").map(str::to_owned));
    let information = inside().find(|element| local_name(&element.name) == "customInformation");
    let listed = information.into_iter().flat_map(Element::elements);
    let files = listed
        .filter(|element| local_name(&element.name) == "file")
        .filter_map(|element| element.attribute("name").map(|name| place(edition, name)));
    let text = |name: &str| attribute(root, name);
    let is_text = |text: &String| !text.starts_with("$(");
    Some(Record {
        stem: stem.to_owned(),
        entries,
        name: attribute(identity, "name"),
        version: attribute(identity, "version"),
        is_language: release.eq_ignore_ascii_case("Language Pack") && language.contains('-'),
        language,
        title: Some(text("displayName")).filter(is_text).unwrap_or_default(),
        description: Some(text("description")).filter(is_text).unwrap_or_default(),
        parents: parents.collect(),
        features: features.collect(),
        files: files.collect(),
    })
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

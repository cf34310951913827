//! Provisioned apps: their folders and manifests, and their keys.

use super::{Category, Inventory, slug};
use crate::{Edition, Layout, layout::AppsLayout};
use neat_content::{Result, Text};
use neat_image::{EntryId, xml::Element};
use neat_registry::HiveRole;
use std::borrow::Cow;

/// Largest manifest, in bytes.
const LARGEST: u64 = 8 << 20;

/// What a manifest says.
#[derive(Default)]
struct Manifest {
    name: String,
    title: String,
    version: String,
    needs: Vec<String>,
}

pub(super) fn scan(edition: &Edition, layout: &Layout, inventory: &mut Inventory) -> Result<()> {
    let Some(layout) = &layout.apps else { return Ok(()) };
    let folders: Vec<EntryId> = edition
        .files
        .find(&edition.place(&layout.folder))
        .map(|id| edition.files.entry(id).children().to_vec())
        .unwrap_or_default();
    let mut full_names: Vec<(String, String)> = Vec::new();
    for folder in folders {
        let full_name = edition.files.entry(folder).name.to_string();
        let Some(manifest) = read(edition, layout, folder, inventory)? else { continue };
        // Several folders may belong to one app: its languages, its architectures.
        let component = inventory.entry(Category::App, &manifest.name);
        component.entries.push(folder);
        let is_title = !manifest.title.is_empty() && !manifest.title.starts_with("ms-resource:");
        if is_title && component.title == manifest.name {
            component.title = manifest.title;
        }
        component.version = component.version.clone().max(manifest.version);
        let needs = manifest.needs.iter().map(|need| format!("{}/{}", Category::App.word(), slug(need)));
        component.needs.extend(needs);
        full_names.push((full_name, component.id.clone()));
    }
    let Some(hive) = edition.hive(HiveRole::Software) else { return Ok(()) };
    for key in &layout.keys {
        let Some(parent) = hive.find(key) else { continue };
        for child in hive.children(parent) {
            let full_name = hive.name(*child);
            let found = full_names.iter().find(|(folder, _)| folder.eq_ignore_ascii_case(&full_name));
            let id = if let Some((_, id)) = found {
                id.clone()
            } else {
                // A registration whose folder is not there is still one.
                let name = full_name.split('_').next().unwrap_or(&full_name).to_owned();
                inventory.entry(Category::App, &name).id.clone()
            };
            if let Some(component) = inventory.components.get_mut(&id) {
                component.keys.push((HiveRole::Software, format!("{key}\\{full_name}")));
            }
        }
    }
    Ok(())
}

fn read(
    edition: &Edition,
    layout: &AppsLayout,
    folder: EntryId,
    inventory: &mut Inventory,
) -> Result<Option<Manifest>> {
    let base = edition.files.path(folder);
    for path in &layout.manifests {
        let path = format!("{base}/{path}");
        let Some(bytes) = edition.read(&path, LARGEST, "manifest of an app")? else { continue };
        match Element::parse(&Text::decode(&bytes).text) {
            Ok(root) => return Ok(of_manifest(&root)),
            Err(error) => inventory.notes.push(format!("/{path}: {error}")),
        }
    }
    Ok(None)
}

fn of_manifest(root: &Element) -> Option<Manifest> {
    let identity = root.local("Identity")?;
    let attribute = |name: &str| identity.attribute(name).unwrap_or_default().into_owned();
    let properties = root.local("Properties");
    let title = properties.and_then(|properties| properties.local("DisplayName")).map(Element::text);
    let dependencies = root.local("Dependencies").into_iter().flat_map(Element::elements);
    let needs = dependencies
        .filter(|element| element.local_name() == "PackageDependency")
        .filter_map(|element| element.attribute("Name").map(Cow::into_owned));
    Some(Manifest {
        name: attribute("Name"),
        version: attribute("Version"),
        title: title.unwrap_or_default(),
        needs: needs.collect(),
    })
    .filter(|manifest| !manifest.name.is_empty())
}

//! Languages, drivers, services, tasks, fonts, screensavers and wallpapers.

use super::{Category, Inventory, scans::DriverFacts, slug};
use crate::{Edition, Layout};
use neat_content::Result;
use neat_image::EntryId;
use neat_package::Driver;
use neat_registry::{HiveRole, text, texts};
use rayon::iter::{IntoParallelRefIterator, ParallelIterator};
use std::{collections::HashMap, sync::Arc};

/// Largest INF file that is read, in bytes.
const LARGEST_INF: u64 = 4 << 20;

fn children(edition: &Edition, folder: &str) -> Vec<(EntryId, String)> {
    let id = edition.files.find(&edition.place(folder));
    let ids = id.map(|id| edition.files.entry(id).children().to_vec()).unwrap_or_default();
    ids.into_iter().map(|id| (id, edition.files.entry(id).name.to_string())).collect()
}

/// Whether a name is that of a language: two or three letters, and parts of two to eight after dashes.
fn is_language(name: &str) -> bool {
    let mut parts = name.split('-');
    let is_word = |part: &str, least: usize, most: usize| {
        (least..=most).contains(&part.len()) && part.bytes().all(|b| b.is_ascii_alphanumeric())
    };
    let first = parts.next().unwrap_or_default();
    let rest: Vec<&str> = parts.collect();
    is_word(first, 2, 3)
        && first.bytes().all(|b| b.is_ascii_lowercase())
        && (1..=2).contains(&rest.len())
        && rest.iter().all(|part| {
            is_word(part, 2, 8) && part.starts_with(|c: char| c.is_ascii_uppercase() || c.is_ascii_digit())
        })
}

pub(super) fn languages(edition: &Edition, layout: &Layout, inventory: &mut Inventory) {
    let Some(layout) = &layout.languages else { return };
    for folder in &layout.folders {
        for (id, name) in children(edition, folder) {
            if edition.files.entry(id).is_folder() && is_language(&name) {
                inventory.entry(Category::Language, &name).entries.push(id);
            }
        }
    }
    if let Some(hive) = edition.hive(HiveRole::System) {
        for key in &layout.keys {
            let key = hive.with_control_set(key);
            for child in hive.find(&key).map(|id| hive.children(id)).unwrap_or_default() {
                let name = hive.name(*child);
                let component = inventory.entry(Category::Language, &name);
                component.keys.push((HiveRole::System, format!("{key}\\{name}")));
            }
        }
    }
}

pub(super) fn drivers(edition: &Edition, layout: &Layout, inventory: &mut Inventory) -> Result<()> {
    let Some(layout) = &layout.drivers else { return Ok(()) };
    let mut found: Vec<(String, Vec<EntryId>, EntryId)> = Vec::new();
    let copies: HashMap<String, EntryId> =
        children(edition, &layout.inf).into_iter().map(|(id, name)| (name.to_lowercase(), id)).collect();
    for (folder, _) in children(edition, &layout.store) {
        let inside = edition.files.entry(folder).children().iter();
        let inf = inside
            .copied()
            .find(|id| edition.files.entry(*id).name.to_string().to_lowercase().ends_with(".inf"));
        if let Some(inf) = inf {
            let name = edition.files.entry(inf).name.to_string();
            let copy = copies.get(&name.to_lowercase());
            let beside = name
                .rsplit_once('.')
                .and_then(|(stem, _)| copies.get(&format!("{}.pnf", stem.to_lowercase())));
            found.push((
                name,
                std::iter::once(folder).chain(copy.copied()).chain(beside.copied()).collect(),
                inf,
            ));
        }
    }
    let facts: Vec<_> = found.par_iter().map(|(_, _, inf)| driver_facts(edition, *inf)).collect();
    for ((name, entries, inf), facts) in found.into_iter().zip(facts) {
        let stem = name.rsplit_once('.').map_or(name.as_str(), |(stem, _)| stem);
        let driver = facts?;
        if let Err(error) = &driver {
            inventory.notes.push(format!("/{}: {error}", edition.files.path(inf)));
        }
        let component = inventory.entry(Category::Driver, stem);
        component.entries.extend(entries);
        if let Ok(driver) = driver {
            component.group.clone_from(&driver.class);
            component.version.clone_from(&driver.version);
            component.title = driver.device.clone().unwrap_or_else(|| stem.to_owned());
            component.description.clone_from(&driver.provider);
        }
        if let Some(hive) = edition.hive(HiveRole::System) {
            for key in &layout.database {
                let key = hive.with_control_set(&key.replace("{inf}", &name));
                if hive.find(&key).is_some() {
                    component.keys.push((HiveRole::System, key));
                }
            }
        }
    }
    Ok(())
}

/// What the INF file `inf` says of its driver, or what is wrong with it.
fn driver_facts(edition: &Edition, inf: EntryId) -> Result<Result<Arc<DriverFacts>>> {
    let digest = edition.files.entry(inf).content();
    if let Some(known) = edition.scans.driver(digest) {
        return Ok(Ok(known));
    }
    let bytes = edition.content(inf)?.to_vec(LARGEST_INF, "INF file")?;
    // What fails is read again in each edition: the error says where the file lies.
    let driver = Driver::read(&edition.files.path(inf), &bytes);
    Ok(driver.map(|driver| edition.scans.keep_driver(digest, &driver)))
}

/// Words for the start types of services.
pub(crate) const START_TYPES: [(&str, u32); 5] =
    [("boot", 0), ("system", 1), ("automatic", 2), ("manual", 3), ("disabled", 4)];

pub(super) fn services(edition: &Edition, layout: &Layout, inventory: &mut Inventory) {
    let Some(layout) = &layout.services else { return };
    let Some(hive) = edition.hive(HiveRole::System) else { return };
    let base = hive.with_control_set(&layout.keys);
    let Some(parent) = hive.find(&base) else { return };
    // Members of a group, and how many services have each file.
    let mut groups: HashMap<String, Vec<String>> = HashMap::new();
    let mut images: HashMap<String, usize> = HashMap::new();
    for child in hive.children(parent) {
        let key = format!("{base}\\{}", hive.name(*child));
        if let Some(group) = hive.text_at(&key, "Group") {
            groups.entry(group.to_lowercase()).or_default().push(hive.name(*child));
        }
        if let Some(path) = image_path(edition, hive.text_at(&key, "ImagePath")) {
            *images.entry(path).or_default() += 1;
        }
    }
    for child in hive.children(parent) {
        let name = hive.name(*child);
        let key = format!("{base}\\{name}");
        // Keys of other kinds also stand there.
        let Some(kind) = hive.number_at(&key, "Type") else { continue };
        let start = hive.number_at(&key, "Start").unwrap_or(3);
        let list =
            |value: &str| hive.value(*child, value).map(|value| texts(hive.data(value))).unwrap_or_default();
        let component = inventory.entry(Category::Service, &name);
        let title = hive.value(*child, "DisplayName").map(|value| text(hive.data(value)));
        if let Some(title) = title.filter(|title| !title.is_empty() && !title.starts_with('@')) {
            component.title = title;
        }
        let about = hive.value(*child, "Description").map(|value| text(hive.data(value)));
        component.description = about.filter(|text| !text.starts_with('@')).unwrap_or_default();
        component.group = if kind >= 0x10 { "services" } else { "drivers that start like services" }.into();
        let word = START_TYPES.iter().find(|(_, number)| u64::from(*number) == start);
        component.state = word.map_or_else(|| start.to_string(), |(word, _)| (*word).to_owned());
        component.keys.push((HiveRole::System, key.clone()));
        component.needs.extend(list("DependOnService").iter().map(|need| format!("service/{}", slug(need))));
        for group in list("DependOnGroup") {
            let members = groups.get(&group.to_lowercase()).into_iter().flatten();
            component.needs.extend(members.map(|need| format!("service/{}", slug(need))));
        }
        if start == 0 {
            component.required = "the system needs it to start".into();
        }
        if let Some(path) = image_path(edition, hive.text_at(&key, "ImagePath"))
            && images.get(&path) == Some(&1)
        {
            component.entries.extend(edition.files.find(&path));
        }
    }
}

/// The files of what the system starts first, which it needs to find its disk.
pub(crate) fn boot_drivers(edition: &Edition, layout: &Layout) -> Vec<EntryId> {
    let Some(layout) = &layout.services else { return Vec::new() };
    let Some(hive) = edition.hive(HiveRole::System) else { return Vec::new() };
    let Some(parent) = hive.find(&hive.with_control_set(&layout.keys)) else { return Vec::new() };
    let number = |key, name: &str| hive.value(key, name).and_then(|value| hive.number(value));
    let started = hive.children(parent).iter().filter(|key| number(**key, "Start") == Some(0));
    let paths = started.filter_map(|key| {
        let path = hive.value(*key, "ImagePath").map(|value| text(hive.data(value)));
        let usual = || Some(edition.place(&format!("{{root}}/System32/drivers/{}.sys", hive.name(*key))));
        if path.is_some() { image_path(edition, path) } else { usual() }
    });
    paths.filter_map(|path| edition.files.find(&path)).collect()
}

/// The file of a service, as a path of the edition.
fn image_path(edition: &Edition, text: Option<String>) -> Option<String> {
    let text = text?.replace('\\', "/");
    let lower = text.to_lowercase();
    let rest =
        |prefix: &str| lower.strip_prefix(prefix).map(|rest| text[text.len() - rest.len()..].to_owned());
    let root = &edition.root;
    let path = rest("%systemroot%/")
        .or_else(|| rest("/systemroot/"))
        .map(|path| format!("{root}/{path}"))
        .or_else(|| rest("system32/").map(|path| format!("{root}/System32/{path}")))
        .or_else(|| rest("/??/c:/"))
        .or_else(|| rest("c:/"))?;
    // What follows the file are its arguments.
    let end = [".sys", ".exe", ".lib"]
        .iter()
        .filter_map(|ending| Some(path.to_lowercase().find(ending)? + ending.len()))
        .min()?;
    Some(path[..end].to_lowercase())
}

pub(super) fn tasks(edition: &Edition, layout: &Layout, inventory: &mut Inventory) {
    let Some(layout) = &layout.tasks else { return };
    let Some(folder) = edition.files.find(&edition.place(&layout.folder)) else { return };
    let steps: Vec<(EntryId, String)> = edition
        .files
        .walk_from(folder)
        .filter(|step| !edition.files.entry(step.id).is_folder())
        .map(|step| (step.id, step.path))
        .collect();
    let hive = edition.hive(HiveRole::Software);
    for (id, path) in steps {
        let component = inventory.entry(Category::Task, &path);
        component.entries.push(id);
        let Some(hive) = hive else { continue };
        let key = format!("{}\\{}", layout.tree, path.replace('/', "\\"));
        if hive.find(&key).is_none() {
            continue;
        }
        component.keys.push((HiveRole::Software, key.clone()));
        if let Some(guid) = hive.text_at(&key, "Id") {
            for parent in &layout.details {
                let detail = format!("{parent}\\{guid}");
                if hive.find(&detail).is_some() {
                    component.keys.push((HiveRole::Software, detail));
                }
            }
        }
    }
}

pub(super) fn fonts(edition: &Edition, layout: &Layout, inventory: &mut Inventory) {
    let Some(layout) = &layout.fonts else { return };
    let hive = edition.hive(HiveRole::Software);
    let registered = hive.and_then(|hive| Some((hive, hive.find(&layout.keys)?)));
    for (id, name) in children(edition, &layout.folder) {
        if edition.files.entry(id).is_folder() {
            continue;
        }
        let stem = name.rsplit_once('.').map_or(name.as_str(), |(stem, _)| stem);
        let component = inventory.entry(Category::Font, stem);
        component.entries.push(id);
        let Some((hive, key)) = registered else { continue };
        for value in hive.values(key) {
            if text(hive.data(value)).eq_ignore_ascii_case(&name) {
                component.title = hive.value_name(value);
                component.values.push((HiveRole::Software, layout.keys.clone(), hive.value_name(value)));
            }
        }
    }
}

pub(super) fn screensavers(edition: &Edition, layout: &Layout, inventory: &mut Inventory) {
    let Some(layout) = &layout.screensavers else { return };
    for (id, name) in children(edition, &layout.folder) {
        let lower = name.to_lowercase();
        if let Some(stem) = lower.strip_suffix(&layout.ending) {
            inventory.entry(Category::Screensaver, stem).entries.push(id);
        }
    }
}

pub(super) fn wallpapers(edition: &Edition, layout: &Layout, inventory: &mut Inventory) {
    let Some(layout) = &layout.wallpapers else { return };
    for (id, name) in children(edition, &layout.folder) {
        let stem = if edition.files.entry(id).is_folder() {
            name.as_str()
        } else {
            name.rsplit_once('.').map_or(name.as_str(), |(stem, _)| stem)
        };
        inventory.entry(Category::Wallpaper, stem).entries.push(id);
    }
}

#[cfg(test)]
mod tests {
    use super::is_language;

    #[test]
    fn names_of_languages_are_told_from_others() {
        for name in ["en-GB", "nb-NO", "sr-Latn-RS", "es-419", "zh-Hans"] {
            assert!(is_language(name), "{name}");
        }
        for name in ["en", "drivers", "wbem", "EN-gb", "a-B", "en-", "in-box", "en-GB-x-y"] {
            assert!(!is_language(name), "{name}");
        }
    }
}

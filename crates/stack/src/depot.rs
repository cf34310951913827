//! Depots and stack files: describing what a folder has, and `depot:` in the place of a path.

use crate::{
    editions::{install_image_path, open_image},
    recipe::StackFile,
    report::{DepotState, DepotUse, EditionSummary},
};
use neat_content::{Content, Error, Event, Job, ReadAt, Result, Source, Timestamp, damage_apart};
use neat_depot::{Depot, FetchOptions, INDEX_NAME, Index, Item, ItemKind, Key, Reference, digests_of};
use neat_media::read;
use neat_package::{Pack, Update};
use std::{
    collections::HashMap,
    fs,
    path::{Path, PathBuf},
};

/// Folders within folders that are looked into.
const MAX_DEPTH: usize = 32;

/// Describes every media and update in `folder` and the folders in it. What a person wrote into an older index about a
/// file that is still the same stays. Also gives what was passed over, and why.
pub fn index_folder(folder: &Path, title: Option<&str>, job: &Job<'_>) -> Result<(Index, Vec<String>)> {
    let former = match fs::read_to_string(folder.join(INDEX_NAME)) {
        Ok(text) => Index::parse(&text).map_err(|error| error.within(folder.join(INDEX_NAME).display()))?,
        Err(_) => Index::default(),
    };
    let known: HashMap<&str, &Item> = former.items.iter().map(|item| (item.file.as_str(), item)).collect();
    let title = title.map_or_else(|| former.title.clone(), str::to_owned);
    let mut index = Index { format: Index::FORMAT, title, items: Vec::new() };
    let mut notes = Vec::new();
    for path in files_in(folder, 0)? {
        job.check()?;
        let relative = path.strip_prefix(folder).unwrap_or(&path);
        let Some(file) = relative.to_str() else {
            notes.push(format!("{}: the name is not UTF-8", relative.display()));
            continue;
        };
        let item = match describe(&path, file) {
            Ok(Some(item)) => item,
            Ok(None) => continue,
            Err(error) => {
                notes.push(format!("{file}: {error}"));
                continue;
            }
        };
        let content = Content::from_path(&path)?;
        let step = format!("digesting {file}");
        job.event(Event::StepStarted { step: &step, total_bytes: Some(content.len()) });
        let digests = digests_of(&content, job)?;
        job.event(Event::StepFinished);
        let (sha256, blake3) = (digests.sha256, digests.blake3);
        let edited = known.get(file).filter(|former| former.sha256 == sha256);
        let item = edited.map_or(item, |former| (*former).clone());
        index.items.push(Item { file: file.to_owned(), size: content.len(), sha256, blake3, ..item });
    }
    Ok((index, notes))
}

/// Files in the order of their names; hidden ones and the index are passed over.
fn files_in(folder: &Path, depth: usize) -> Result<Vec<PathBuf>> {
    let mut paths: Vec<PathBuf> = fs::read_dir(folder)
        .and_then(|entries| entries.map(|entry| entry.map(|entry| entry.path())).collect())
        .map_err(Error::io("list", folder))?;
    paths.sort();
    let mut files = Vec::new();
    for path in paths {
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        if name.starts_with('.') || name == INDEX_NAME {
            continue;
        }
        // A link to a folder could lead in circles.
        if path.is_dir() && !path.is_symlink() && depth < MAX_DEPTH {
            files.extend(files_in(&path, depth + 1)?);
        } else if path.is_file() {
            files.push(path);
        }
    }
    Ok(files)
}

/// What a file is, but for its digests; `None` when it is neither a media nor an update.
fn describe(path: &Path, file: &str) -> Result<Option<Item>> {
    let source = Source::open(path)?;
    if source.is_empty() {
        return Ok(None);
    }
    if read::is_disc(&source)? {
        return describe_media(path, file).map(Some);
    }
    match damage_apart(Pack::open(path))? {
        Ok(pack) if Update::is_one(&pack.tree) => {
            describe_update(path, &Update::of_tree(&pack.tree)?).map(Some)
        }
        _ => Ok(None),
    }
}

fn blank(kind: ItemKind) -> Item {
    Item {
        id: String::new(),
        kind,
        title: String::new(),
        version: String::new(),
        system: String::new(),
        editions: Vec::new(),
        languages: Vec::new(),
        architecture: String::new(),
        date: String::new(),
        file: String::new(),
        size: 0,
        sha256: String::new(),
        blake3: String::new(),
    }
}

fn describe_media(path: &Path, file: &str) -> Result<Item> {
    let media = read::open(path)?;
    let mut item = blank(ItemKind::Media);
    if let Some(place) = install_image_path(&media.tree) {
        let image = open_image(&media.tree, &place)?;
        for (number, info) in image.editions().iter().enumerate() {
            let summary = EditionSummary::new(number + 1, info, None);
            item.editions.push(summary.name);
            for language in summary.languages {
                if !item.languages.contains(&language) {
                    item.languages.push(language);
                }
            }
            item.architecture = summary.architecture;
            item.version = item.version.max(summary.version);
        }
    }
    item.system = common_words(&item.editions);
    if item.system.is_empty() {
        item.system.clone_from(&media.volume.label);
    }
    item.title.clone_from(&item.system);
    item.date = media.volume.created.map(day).unwrap_or_default();
    // The first language is the one that setup begins in.
    let language = item.languages.first().cloned();
    let stem = file.rsplit('/').next().unwrap_or(file);
    let name = if item.system.is_empty() { stem } else { &item.system };
    let architecture = Some(item.architecture.clone()).filter(|word| !word.is_empty());
    let words = [Some(word_of(name)), architecture, language];
    item.id = words.into_iter().flatten().collect::<Vec<_>>().join("/");
    Ok(item)
}

fn describe_update(path: &Path, update: &Update) -> Result<Item> {
    let section = &update.section;
    let mut item = blank(ItemKind::Update);
    item.title = if section.title.is_empty() { section.id.clone() } else { section.title.clone() };
    item.version = section.version.to_string();
    item.languages = section.language.iter().cloned().collect();
    item.architecture = section.architecture.clone().unwrap_or_default();
    let metadata = fs::metadata(path).map_err(Error::io("examine", path))?;
    item.date = day(Timestamp::from_metadata(&metadata));
    let architecture = Some(item.architecture.clone()).filter(|word| !word.is_empty());
    item.id = [Some(word_of(&section.id)), architecture].into_iter().flatten().collect::<Vec<_>>().join("/");
    Ok(item)
}

/// The words that all names begin with.
fn common_words(names: &[String]) -> String {
    let Some((first, rest)) = names.split_first() else { return String::new() };
    let mut common: Vec<&str> = first.split_whitespace().collect();
    for name in rest {
        let same = common.iter().zip(name.split_whitespace()).take_while(|(a, b)| *a == b).count();
        common.truncate(same);
    }
    common.join(" ")
}

/// A name as a word of an id.
fn word_of(name: &str) -> String {
    let mut word = String::new();
    for c in name.chars().flat_map(char::to_lowercase) {
        if c.is_ascii_alphanumeric() || "._".contains(c) {
            word.push(c);
        } else if !word.is_empty() && !word.ends_with('-') {
            word.push('-');
        }
    }
    let word = word.trim_matches(['-', '.']).to_owned();
    if word.is_empty() { "media".into() } else { word }
}

fn day(time: Timestamp) -> String {
    jiff::Timestamp::new(time.seconds, 0)
        .map(|time| time.strftime("%Y-%m-%d").to_string())
        .unwrap_or_default()
}

/// Where files from depots are looked for and kept.
#[derive(Clone, Debug)]
pub struct DepotPlaces<'a> {
    /// The depot, where the stack file names none.
    pub default: Option<&'a str>,
    /// Folder for what is fetched.
    pub keep_in: &'a Path,
    /// Whether what is missing is fetched.
    pub fetch: bool,
    /// How patiently.
    pub options: FetchOptions,
}

/// Puts paths of this machine where `stack` says `depot:`, and fetches what is missing if that is wished. Gives what
/// is taken from the depot; nothing may be planned while one of them is still to be fetched.
pub fn resolve_depot(
    stack: &mut StackFile,
    base: &Path,
    places: &DepotPlaces<'_>,
    job: &Job<'_>,
) -> Result<Vec<DepotUse>> {
    let key = stack.signed_by.as_deref().map(Key::parse).transpose()?;
    let mut slots: Vec<&mut String> = Vec::new();
    if let Some(source) = &mut stack.source {
        slots.push(&mut source.media);
        slots.extend(source.image_from.as_mut());
    }
    slots.extend(stack.beside.iter_mut().map(|own| &mut own.media));
    slots.extend(stack.update.iter_mut().map(|update| &mut update.from));
    slots.retain(|slot| slot.starts_with("depot:"));
    if slots.is_empty() {
        return Ok(Vec::new());
    }
    let Some(location) = stack.depot.as_deref().or(places.default) else {
        return Err(Error::request(
            format!("{} is taken from a depot, and nobody says where that is", slots[0]),
            "write `depot = \"http://…\"` (or a folder) at the top of the stack file, or give --depot",
        ));
    };
    let depot = Depot::at(location, base)?.signed_by(key);
    let index = depot.index(places.options.patience)?;
    let mut uses = Vec::new();
    for slot in slots {
        let Some(reference) = Reference::parse(slot) else { continue };
        let item = index.find(&reference).map_err(|error| error.within(depot.location()))?;
        let (path, state) = match depot.local_path(item) {
            Some(path) => (path, DepotState::Here),
            None => keep(&depot, item, places, job)?,
        };
        // What was fetched was checked then; what lies in a folder may have changed since the index was made.
        if state == DepotState::Here {
            check_here(&path, item, job)?;
        }
        let path = std::path::absolute(&path).unwrap_or(path).display().to_string();
        uses.push(DepotUse {
            reference: reference.to_string(),
            id: item.full_id(),
            title: item.title.clone(),
            size: item.size,
            sha256: item.sha256.clone(),
            depot: depot.location(),
            path: path.clone(),
            state,
        });
        *slot = path;
    }
    stack.vouched_for.extend(uses.iter().map(|own: &DepotUse| own.path.clone()));
    Ok(uses)
}

fn check_here(path: &Path, item: &Item, job: &Job<'_>) -> Result<()> {
    let content = Content::from_path(path)?;
    job.event(Event::StepStarted { step: "checking what the depot has", total_bytes: Some(content.len()) });
    let found = digests_of(&content, job)?.sha256;
    job.event(Event::StepFinished);
    if found.eq_ignore_ascii_case(&item.sha256) {
        return Ok(());
    }
    let error = Error::Mismatch {
        expected: format!("SHA-256 {}", item.sha256),
        found,
        hint: "the file is not the one that the index describes: put it back, or make the index again with \
               `neatstack depot index FOLDER`"
            .into(),
    };
    Err(error.within(path.display()))
}

/// Where a file from far away is kept, and whether it is there.
fn keep(
    depot: &Depot,
    item: &Item,
    places: &DepotPlaces<'_>,
    job: &Job<'_>,
) -> Result<(PathBuf, DepotState)> {
    let folder = places.keep_in.join(item.sha256.get(..16).unwrap_or_default());
    let path = folder.join(item.file_name());
    if fs::metadata(&path).is_ok_and(|metadata| metadata.is_file() && metadata.len() == item.size) {
        return Ok((path, DepotState::Kept));
    }
    if !places.fetch {
        return Ok((path, DepotState::ToFetch));
    }
    fs::create_dir_all(&folder).map_err(Error::io("create", &folder))?;
    depot.fetch(item, &path, places.options, job)?;
    Ok((path, DepotState::Fetched))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_are_made_of_names() {
        let names = ["Quay OS 7 Bridge".to_owned(), "Quay OS 7 Kiosk".to_owned()];
        assert_eq!(common_words(&names), "Quay OS 7");
        assert_eq!(word_of("Quay OS 7 (Übersee)!"), "quay-os-7-bersee");
        assert_eq!(word_of("…"), "media");
        assert_eq!(day(Timestamp::from_seconds(1_772_438_400)), "2026-03-02");
    }
}

//! A page of an image file: its editions, and where their megabytes are.

use crate::{
    map::{Area, tidied},
    model::{Block, Cell, Page},
};
use neat_content::Result;
use neat_image::{EntryId, Files, ImageDraft, Times};
use neat_service::{Catalogue, Category, Edition, Inventory, Layout};
use neat_stack::EditionSummary;
use std::{
    collections::{BTreeMap, HashSet},
    sync::Arc,
};

/// What is smaller than this part of a map is put together.
const LEAST: f64 = 0.004;

/// Where the megabytes of an edition are.
#[derive(Clone, Debug)]
pub struct EditionMap {
    /// Name of the edition.
    pub edition: String,
    /// By folder, and the folders in it.
    pub folders: Vec<Area>,
    /// By category, and the components of it; nothing when the edition has no layout that is known.
    pub categories: Vec<Area>,
}

impl EditionMap {
    /// The map of an edition of `draft`, numbered from 1.
    ///
    /// # Errors
    /// `Corrupt` where the tree or a hive cannot be read.
    pub fn of(draft: &Arc<ImageDraft>, number: usize, catalogues: &[Catalogue]) -> Result<Self> {
        let layouts = [Arc::new(Layout::common()?)];
        let edition = Edition::open(draft, number, &layouts, Times::default())?;
        let folders = folders(&edition.files, &|digest| edition.len_of(digest));
        let total: u64 = folders.iter().map(|area| area.bytes).sum();
        let mut categories = Vec::new();
        if edition.layout.is_some() {
            let inventory = Inventory::of(&edition, catalogues, None)?;
            let mut by_word: BTreeMap<&'static str, Vec<Area>> = BTreeMap::new();
            for component in inventory.components.values().filter(|own| own.bytes > 0) {
                // Its category stands above it.
                let name = component.id.split_once('/').map_or(component.id.as_str(), |(_, name)| name);
                let area = Area { name: name.to_owned(), bytes: component.bytes, inside: Vec::new() };
                by_word.entry(Category::of_id(&component.id).word()).or_default().push(area);
            }
            let area = |(word, inside): (&str, Vec<Area>)| Area {
                name: word.to_owned(),
                bytes: inside.iter().map(|own| own.bytes).sum(),
                inside: tidied(inside, LEAST, "smaller ones"),
            };
            categories = by_word.into_iter().map(area).collect();
            let known: u64 = categories.iter().map(|area: &Area| area.bytes).sum();
            if known < total {
                let name = "the rest of the system".to_owned();
                categories.push(Area { name, bytes: total - known, inside: Vec::new() });
            }
        }
        Ok(Self {
            edition: edition.name().to_owned(),
            folders: tidied(folders, LEAST, "smaller ones"),
            categories: tidied(categories, 0.0, ""),
        })
    }

    /// Its maps as blocks.
    pub fn blocks(&self) -> Vec<Block> {
        let map = |what: &str, areas: &Vec<Area>| Block::Map {
            caption: format!("{} by {what}", self.edition),
            areas: areas.clone(),
        };
        vec![map("category", &self.categories), map("folder", &self.folders)]
    }
}

/// Bytes by folder: what is at the root, and in each of its folders what is in theirs; of a folder that takes most of the
/// map, those in it instead. Content with several names in a group of hard links counts once.
fn folders(files: &Files, len_of: &dyn Fn(neat_image::BlobDigest) -> u64) -> Vec<Area> {
    let mut groups = HashSet::new();
    let bytes: Vec<u64> = {
        let mut bytes = vec![0; files.len()];
        let order: Vec<EntryId> = files.ids().collect();
        for id in &order {
            let entry = files.entry(*id);
            let is_counted = !entry.is_folder() && !entry.is_reparse() && !entry.content().is_none();
            if is_counted && (entry.hard_link() == 0 || groups.insert(entry.hard_link())) {
                bytes[id.index()] = len_of(entry.content());
            }
        }
        // What is inside comes after its folder.
        for id in order.iter().rev().filter(|id| **id != Files::ROOT) {
            bytes[files.entry(*id).parent().index()] += bytes[id.index()];
        }
        bytes
    };
    let total = bytes[Files::ROOT.index()];
    let area = |name: &str, id: EntryId, children: &[EntryId]| -> Area {
        let child = |id: &EntryId| Area {
            name: files.entry(*id).name.to_string(),
            bytes: bytes[id.index()],
            inside: Vec::new(),
        };
        let inside: Vec<Area> = children.iter().map(child).collect();
        let of_inside = inside.iter().map(|own| own.bytes).sum();
        let bytes = if files.entry(id).is_folder() { of_inside } else { bytes[id.index()] };
        Area { name: name.to_owned(), bytes, inside: tidied(inside, LEAST, "smaller ones") }
    };
    let mut areas = Vec::new();
    let mut pending: Vec<EntryId> = files.entry(Files::ROOT).children().to_vec();
    while let Some(id) = pending.pop() {
        // A folder that holds nothing but another says nothing.
        if let [only] = files.entry(id).children()
            && files.entry(*only).is_folder()
        {
            pending.push(*only);
            continue;
        }
        let (folders, own): (Vec<EntryId>, Vec<EntryId>) =
            files.entry(id).children().iter().partition(|child| files.entry(**child).is_folder());
        let below: u64 = folders.iter().map(|child| bytes[child.index()]).sum();
        if bytes[id.index()] <= total * 2 / 5 || below < bytes[id.index()] / 2 {
            areas.push(area(&files.path(id), id, files.entry(id).children()));
            continue;
        }
        pending.extend(folders);
        areas.push(area(&format!("{}, files", files.path(id)), id, &own));
    }
    areas
}

/// The page of an image file or of the one on a media.
pub fn of_image(title: &str, editions: &[EditionSummary], maps: &[EditionMap]) -> Page {
    let mut page = Page::new(title, "What is in this image file, and where its megabytes are");
    page.add("Editions", [editions_table(editions)]);
    for map in maps {
        page.add(&format!("Megabytes of {}", map.edition), map.blocks());
    }
    page
}

/// Editions as a table.
pub(crate) fn editions_table(editions: &[EditionSummary]) -> Block {
    let has_dropped = editions.iter().any(|own| !own.kept);
    let row = |own: &EditionSummary| {
        let mut row = vec![
            Cell::count(own.number as u64),
            Cell::text(&own.name),
            Cell::text(&own.architecture),
            Cell::text(&own.version),
            Cell::text(own.languages.join(" ")),
            Cell::count(own.files),
            Cell::bytes(i64::try_from(own.bytes).unwrap_or(i64::MAX)),
        ];
        if has_dropped {
            row.push(Cell::text(if own.kept { "kept" } else { "dropped" }));
        }
        row
    };
    let mut heads = vec!["#No.", "Edition", "For", "Version", "Languages", "#Files", "#Size"];
    if has_dropped {
        heads.push("Fate");
    }
    Block::table("", &heads, editions.iter().map(row).collect())
}

//! Pages of comparisons: of two media, image files or hives, and of two builds.

use crate::model::{Block, Cell, Page};
use neat_stack::{Comparison, EditionComparison, FileChange, ItemChange, Since, ValueChange};

/// The page of what differs between two things of these names.
pub fn of_comparison(own: &Comparison, before: &str, after: &str) -> Page {
    let mut page = Page::new(format!("{before} and {after}"), "What differs");
    let (old, new) = own.bytes;
    let bars = vec![(before.to_owned(), old), (after.to_owned(), new)];
    page.add("Sizes", [Block::Bars { caption: "Before and after".into(), bars }]);
    if own.is_same() {
        page.add("What differs", [Block::Text("Nothing differs.".into())]);
    }
    let names = own.gone.iter().map(|name| ("gone", name)).chain(own.new.iter().map(|name| ("new", name)));
    let rows = names.map(|(what, name)| vec![Cell::text(what), Cell::text(name)]).collect();
    page.add("Editions", [Block::table("", &["Change", "Edition"], rows)]);
    page.add("Files of the media", [files("", &own.files)]);
    page.add("Registry", [values(&own.values)]);
    for edition in own.editions.iter().filter(|edition| !edition.is_same()) {
        page.add(&edition_title(edition), edition_blocks(edition));
    }
    page
}

fn edition_title(own: &EditionComparison) -> String {
    if own.before == own.after { own.after.clone() } else { format!("{} and {}", own.before, own.after) }
}

fn edition_blocks(own: &EditionComparison) -> Vec<Block> {
    let (old, new) = own.bytes;
    let version = own.version.as_ref().map(|(old, new)| format!("{old} → {new}")).unwrap_or_default();
    let bars = vec![("before".to_owned(), old), ("after".to_owned(), new)];
    let ids = own.gone.iter().map(|id| ("gone", id)).chain(own.new.iter().map(|id| ("new", id)));
    let components = ids.map(|(what, id)| vec![Cell::text(what), Cell::text(id)]).collect();
    vec![
        Block::sheet([("version", version)]),
        Block::Bars { caption: "Bytes of the files".into(), bars },
        Block::table("Components", &["Change", "Component"], components),
        files("Files", &own.files),
        values(&own.values),
    ]
}

fn files(caption: &str, files: &[FileChange]) -> Block {
    let bytes = |bytes: Option<u64>| {
        bytes.map_or_else(Cell::default, |bytes| Cell::bytes(i64::try_from(bytes).unwrap_or(i64::MAX)))
    };
    let row = |own: &FileChange| {
        let what = match (own.before, own.after) {
            (None, _) => "new",
            (_, None) => "gone",
            _ => "changed",
        };
        vec![Cell::text(what), Cell::text(&own.path), bytes(own.before), bytes(own.after)]
    };
    Block::table(caption, &["Change", "File", "#Before", "#After"], files.iter().map(row).collect())
}

fn values(values: &[ValueChange]) -> Block {
    let text = |text: &Option<String>| Cell::text(text.as_deref().unwrap_or("–"));
    let row = |own: &ValueChange| {
        let name = own.name.as_deref().unwrap_or("the whole key");
        let name = if name.is_empty() { "the default value" } else { name };
        vec![Cell::text(&own.key), Cell::text(name), text(&own.before), text(&own.after)]
    };
    let rows = values.iter().map(row).collect();
    Block::table("Registry", &["Key", "Value", "Before", "After"], rows)
}

/// The page of what differs between two builds, by the names of their ledgers.
pub fn of_since(own: &Since, before: &str, after: &str) -> Page {
    let mut page = Page::new(format!("{before} and {after}"), "What differs between two builds");
    if own.is_nothing() {
        page.add("What differs", [Block::Text("Nothing: the same items, the same sizes.".into())]);
    }
    let editions = own.editions_gone.iter().map(|name| ("gone", name));
    let editions = editions.chain(own.editions_new.iter().map(|name| ("new", name)));
    let rows = editions.map(|(what, name)| vec![Cell::text(what), Cell::text(name)]).collect();
    page.add("Editions", [Block::table("", &["Change", "Edition"], rows)]);
    let verdict = |word: &Option<String>| {
        let cell = Cell::text(word.as_deref().unwrap_or("–"));
        if word.as_deref() == Some("refused") { cell.bad() } else { cell }
    };
    let row = |own: &ItemChange| {
        vec![
            Cell::text(&own.kind),
            Cell::text(&own.subject),
            Cell::text(&own.edition),
            verdict(&own.before),
            verdict(&own.after),
            Cell::text(&own.detail),
        ]
    };
    let heads = ["Sort", "What", "Edition", "Then", "Now", "Why"];
    page.add("Items", [Block::table("", &heads, own.items.iter().map(row).collect())]);
    let new = own.new_components.iter().flat_map(|own| {
        own.ids.iter().map(|id| vec![Cell::text(id), Cell::text(&own.category), Cell::text(&own.edition)])
    });
    page.add("New components", [Block::table("", &["Component", "Category", "Edition"], new.collect())]);
    let bytes = |bytes: Option<u64>| {
        bytes.map_or_else(Cell::default, |bytes| Cell::bytes(i64::try_from(bytes).unwrap_or(i64::MAX)))
    };
    let sizes = own.sizes.iter().map(|own| vec![Cell::text(&own.path), bytes(own.before), bytes(own.after)]);
    page.add("Sizes", [Block::table("", &["Media", "#Then", "#Now"], sizes.collect())]);
    page
}

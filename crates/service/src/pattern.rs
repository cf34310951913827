//! Patterns with `*` and `?`, and near misses.

use neat_content::{PathPattern, PathTree};
use neat_image::{EntryId, Files};
use wildmatch::WildMatch;

/// Whether a text has signs of a pattern.
pub fn is_pattern(text: &str) -> bool {
    text.contains(['*', '?'])
}

/// Whether an id fits a pattern, in any case.
pub fn matches(pattern: &str, id: &str) -> bool {
    WildMatch::new(&pattern.to_lowercase()).matches(&id.to_lowercase())
}

/// Entries at a path whose parts may be patterns, in any case.
pub(crate) fn find(files: &Files, path: &str) -> Vec<EntryId> {
    PathPattern::new(path).find(&FilesOf(files), Files::ROOT)
}

/// The files of an edition as a tree that paths are looked for in.
struct FilesOf<'a>(&'a Files);

impl PathTree for FilesOf<'_> {
    type Id = EntryId;

    fn named(&self, folder: EntryId, name: &str) -> Option<EntryId> {
        self.0.child(folder, name)
    }

    fn folder_of(&self, id: EntryId) -> EntryId {
        self.0.entry(id).parent()
    }

    fn inside(&self, folder: EntryId) -> Vec<(EntryId, String)> {
        let children = self.0.entry(folder).children().iter();
        children.map(|id| (*id, self.0.entry(*id).name.to_string())).collect()
    }
}

/// The candidates that a text was probably meant to be, the nearest first, at most three; what stands before the last
/// slash, and the signs of patterns, do not count.
pub fn nearest<'a>(text: &str, candidates: impl Iterator<Item = &'a str>) -> Vec<&'a str> {
    neat_content::nearest_by(&text.replace(['*', '?'], ""), candidates, |id| {
        id.rsplit('/').next().unwrap_or(id)
    })
}

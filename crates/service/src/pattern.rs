//! Patterns with `*` and `?`, and near misses.

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
    let mut found = vec![Files::ROOT];
    for part in path.split(['/', '\\']).filter(|part| !part.is_empty()) {
        found = found
            .into_iter()
            .flat_map(|id| -> Vec<EntryId> {
                if !is_pattern(part) {
                    return files.child(id, part).into_iter().collect();
                }
                let children = files.entry(id).children().iter().copied();
                children.filter(|child| matches(part, &files.entry(*child).name.to_string())).collect()
            })
            .collect();
    }
    found.retain(|id| *id != Files::ROOT);
    found
}

/// The candidates that a text was probably meant to be, the nearest first, at most three; what stands before the last
/// slash, and the signs of patterns, do not count.
pub fn nearest<'a>(text: &str, candidates: impl Iterator<Item = &'a str>) -> Vec<&'a str> {
    neat_content::nearest_by(&text.replace(['*', '?'], ""), candidates, |id| {
        id.rsplit('/').next().unwrap_or(id)
    })
}

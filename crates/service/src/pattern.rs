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

/// The candidates that a text was probably meant to be, the nearest first, at most three.
pub fn nearest<'a>(text: &str, candidates: impl Iterator<Item = &'a str>) -> Vec<&'a str> {
    let plain = text.to_lowercase().replace(['*', '?'], "");
    let name = |id: &str| id.rsplit('/').next().unwrap_or(id).to_lowercase();
    let mut scored: Vec<(f64, &str)> = candidates
        .map(|candidate| (strsim::jaro_winkler(&name(&plain), &name(candidate)), candidate))
        .filter(|(score, _)| *score > 0.82)
        .collect();
    scored.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(b.1)));
    scored.into_iter().take(3).map(|(_, candidate)| candidate).collect()
}

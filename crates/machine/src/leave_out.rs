//! What of a system's disk belongs to the one machine and never into an edition.

use neat_image::{EntryId, Files};

/// What is left out of a capture, by its path on the partition: memory that was saved or put aside, what the file system
/// and its tools keep for themselves, what was thrown away.
pub const ALWAYS: [(&str, &str); 7] = [
    ("pagefile.sys", "memory put aside"),
    ("swapfile.sys", "memory put aside"),
    ("hiberfil.sys", "memory saved for sleep"),
    ("System Volume Information", "what the system keeps of the volume"),
    ("$Recycle.Bin", "what was thrown away"),
    ("RECYCLER", "what was thrown away"),
    ("Recycled", "what was thrown away"),
];

/// Something that is left out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LeftOut {
    /// The entry.
    pub id: EntryId,
    /// Its path.
    pub path: String,
    /// Why.
    pub why: &'static str,
}

/// What [`ALWAYS`] and the patterns leave out of `files`; an entry inside one that is left out is not named again. A
/// pattern with a `/` is compared with the path, another with each name; `*` and `?` stand for anything, in any case.
pub fn find(files: &Files, patterns: &[String]) -> Vec<LeftOut> {
    let mut found: Vec<LeftOut> = Vec::new();
    for (path, why) in ALWAYS {
        if let Some(id) = files.find(path) {
            found.push(LeftOut { id, path: files.path(id), why });
        }
    }
    if patterns.is_empty() {
        return found;
    }
    let mut inside: Option<String> = None;
    for step in files.walk() {
        if inside.as_ref().is_some_and(|folder| step.path.starts_with(folder)) {
            continue;
        }
        inside = None;
        let is_known = found.iter().any(|own| own.id == step.id);
        let name = files.entry(step.id).name.to_string();
        if is_known || neat_image::capture::is_excluded(patterns, &step.path, &name) {
            inside = Some(format!("{}/", step.path));
            if !is_known {
                found.push(LeftOut { id: step.id, path: step.path, why: "asked for" });
            }
        }
    }
    found
}

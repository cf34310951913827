//! What `look` says of a media of the generation before image files.

use super::{Sheet, count, size};
use neat_older::{AddedFolder, OlderSetup};
use schemars::JsonSchema;
use serde::Serialize;

/// A folder that setup is started from.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct OlderView {
    folder: String,
    product: String,
    version: String,
    /// Number of the service pack in it, 0 for none.
    service_pack: Option<u32>,
    architecture: String,
    /// Language tag, or the identifier in hexadecimal digits where none is known.
    language: String,
    /// Language in the maker's word.
    localization: String,
    /// Where the system goes on the disk.
    target: String,
    /// Files that are compressed each by itself, and their bytes as they are.
    compressed_files: u64,
    compressed_bytes: u64,
    /// Answer files that setup looks for.
    answers: Vec<String>,
    /// Folders of the media that setup copies from.
    additions: Vec<String>,
    /// What it copies from them.
    added: Vec<AddedView>,
    /// What it runs before it ends.
    commands: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct AddedView {
    name: String,
    to: String,
    files: u64,
    bytes: u64,
}

impl OlderView {
    pub(crate) fn of(setup: OlderSetup) -> Self {
        let tag = setup
            .language
            .map(|id| neat_answer::language_of_id(id).map_or_else(|| format!("{id:04x}"), str::to_owned));
        let added = setup.additions.folders.into_iter();
        Self {
            folder: setup.folder,
            product: setup.product,
            version: setup.version,
            service_pack: setup.service_pack,
            architecture: setup.architecture,
            language: tag.unwrap_or_default(),
            localization: setup.localization,
            target: setup.target,
            compressed_files: setup.compressed.0,
            compressed_bytes: setup.compressed.1,
            answers: setup.answers,
            additions: setup.additions.places,
            added: added
                .map(|AddedFolder { name, to, files, bytes }| AddedView { name, to, files, bytes })
                .collect(),
            commands: setup.additions.commands,
        }
    }

    /// Whether setup finds no answers where it looks for them.
    pub(crate) fn has_no_answers(&self) -> bool {
        self.answers.is_empty()
    }

    /// Its rows for people; answer files that are `said` already are left out.
    pub(crate) fn rows(&self, said: &[&str], sheet: &mut Sheet) {
        let pack = match self.service_pack {
            Some(0) => ", no service pack".to_owned(),
            Some(number) => format!(", service pack {number}"),
            None => String::new(),
        };
        let product = if self.product.is_empty() { "a system" } else { &self.product };
        let words: Vec<&str> = [&self.version, &self.architecture, &self.language]
            .into_iter()
            .map(String::as_str)
            .filter(|word| !word.is_empty())
            .collect();
        sheet.row("system", format!("{product} {}{pack}, started from {}", words.join(" "), self.folder));
        if self.compressed_files > 0 {
            let files = count(self.compressed_files, "file", "files");
            sheet.row("compressed", format!("{files}, each by itself, {}", size(self.compressed_bytes)));
        }
        for answer in self.answers.iter().filter(|own| !said.contains(&own.as_str())) {
            sheet.row("answer file", answer.as_str());
        }
        for added in &self.added {
            let files = count(added.files, "file", "files");
            sheet.row("copies", format!("{}: {files}, {}, to {}", added.name, size(added.bytes), added.to));
        }
        for command in &self.commands {
            sheet.row("runs", command.as_str());
        }
    }
}

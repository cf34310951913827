//! What `check` says.

use super::{Sheet, count, heading_line, note, outside, size, style};
use neat_image::Damage;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

/// JSON form of `check`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct CheckView {
    kind: &'static str,
    path: String,
    /// Files of the media that were read.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Image files, each content of which was unpacked and digested.
    pub images: Vec<ImageChecked>,
    /// What is damaged; nothing when all is sound.
    pub damage: Vec<DamageView>,
    /// What is unusual.
    pub notes: Vec<String>,
    /// Whether it is what a build wrote.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ledger: Option<LedgerView>,
}

/// An image file that was read.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ImageChecked {
    pub path: String,
    pub editions: usize,
    pub stored_contents: usize,
    /// Before compression.
    pub bytes: u64,
}

/// Something damaged.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DamageView {
    what: String,
    /// The image file that it is in.
    #[serde(skip_serializing_if = "Option::is_none")]
    image: Option<String>,
    /// How many files of editions it hits.
    count: usize,
    /// The first of them.
    hits: Vec<HitView>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct HitView {
    edition: usize,
    path: String,
}

/// Comparison with a ledger.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct LedgerView {
    pub path: String,
    /// Whether it is what the build wrote, as far as the ledger can tell.
    pub same: bool,
    /// Whether the ledger has a digest to tell by.
    pub has_digest: bool,
    pub sha256: String,
}

impl DamageView {
    /// Damage of the media itself.
    pub(crate) fn plain(what: String) -> Self {
        Self { what, image: None, count: 0, hits: Vec::new() }
    }

    /// Damage in an image file.
    pub(crate) fn in_image(image: &str, damage: Damage) -> Self {
        let hits = damage.hits.into_iter().map(|(edition, path)| HitView { edition, path }).collect();
        Self { what: damage.what, image: Some(image.to_owned()), count: damage.count, hits }
    }
}

impl CheckView {
    /// Nothing found yet.
    pub(crate) fn new(path: &Path) -> Self {
        Self {
            kind: "check",
            path: path.display().to_string(),
            files: 0,
            bytes: 0,
            images: Vec::new(),
            damage: Vec::new(),
            notes: Vec::new(),
            ledger: None,
        }
    }

    /// Whether nothing is damaged, and it is what the ledger says.
    pub(crate) fn is_sound(&self) -> bool {
        self.damage.is_empty() && self.ledger.as_ref().is_none_or(|ledger| ledger.same)
    }

    /// For a person.
    pub(crate) fn text(&self) -> String {
        const SHOWN: usize = 10;
        let verdict = match (self.damage.len() as u64, self.is_sound()) {
            (_, true) => format!("{}sound{:#}", style::GOOD, style::GOOD),
            (0, false) => format!("{}not what was built{:#}", style::BAD, style::BAD),
            (number, _) => {
                format!("{}{} damaged{:#}", style::BAD, count(number, "place", "places"), style::BAD)
            }
        };
        let mut text = heading_line(&self.path, &verdict);
        let mut sheet = Sheet::default();
        if self.files > 0 {
            let files = count(self.files, "file", "files");
            sheet.row("read", format!("{files}, {}", size(self.bytes)));
        }
        for image in &self.images {
            let editions = count(image.editions as u64, "edition", "editions");
            let blobs = count(image.stored_contents as u64, "content", "contents");
            let all = size(image.bytes);
            sheet.row("unpacked", format!("{}: {blobs} of {editions}, {all}, digests compared", image.path));
        }
        if let Some(ledger) = &self.ledger {
            let words = match (ledger.same, ledger.has_digest) {
                (true, true) => "what the build wrote, by its digest",
                (true, false) => "the ledger has no digest; the size and the files are those of the build",
                (false, _) => "not what the build wrote",
            };
            sheet.row("ledger", words);
            sheet.row("sha256", &ledger.sha256);
        }
        text.push_str(&sheet.text());
        for damage in &self.damage {
            let unsaid = damage.image.as_ref().filter(|image| !damage.what.contains(image.as_str()));
            let place = unsaid.map(|image| format!("{image}: ")).unwrap_or_default();
            let what = super::wrapped(&format!("{place}{}", damage.what), 11);
            text.push_str(&format!("  {}damaged{:#}  {what}\n", style::BAD, style::BAD));
            for hit in damage.hits.iter().take(SHOWN) {
                let path = outside::line(&hit.path);
                text.push_str(&format!("           edition {}, /{path}\n", hit.edition));
            }
            let more = damage.count.saturating_sub(damage.hits.len().min(SHOWN));
            if more > 0 {
                text.push_str(&format!("           and {}\n", count(more as u64, "file more", "files more")));
            }
        }
        self.notes.iter().for_each(|own| text.push_str(&note(own)));
        text
    }
}

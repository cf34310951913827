//! Editions, and what is done in them.

use neat_image::EditionInfo;
use neat_service::{EditionRecord, Item};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// An edition and what the plan knows of it.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct EditionSummary {
    /// Number in the source.
    pub number: usize,
    /// Name, unique in the file.
    pub name: String,
    /// The name that setup shows, where it is another.
    pub display_name: String,
    /// Description.
    pub description: String,
    /// Architecture: `x86`, `x64`, `arm64`.
    pub architecture: String,
    /// Version of the system, with the build.
    pub version: String,
    /// Which edition of the product, in one word.
    pub edition: String,
    /// Languages.
    pub languages: Vec<String>,
    /// Files.
    pub files: u64,
    /// Bytes of the files before compression.
    pub bytes: u64,
    /// Bytes in the image file that only this edition uses: what dropping it saves. Nothing when the trees were too
    /// large to read them all for a quick look.
    pub only_here: Option<u64>,
    /// Whether it is on the finished media.
    pub kept: bool,
}

impl EditionSummary {
    /// What the XML data says of an edition.
    pub fn new(number: usize, info: &EditionInfo, only_here: Option<u64>) -> Self {
        let system = info.system.clone().unwrap_or_default();
        Self {
            number,
            name: if info.name.is_empty() { info.display_name.clone() } else { info.name.clone() },
            display_name: info.display_name.clone(),
            description: info.description.clone(),
            architecture: system.architecture.clone(),
            version: system.version_text(),
            edition: system.edition,
            languages: system.languages,
            files: info.files.unwrap_or(0),
            bytes: info.bytes.unwrap_or(0),
            only_here,
            kept: true,
        }
    }

    /// Takes over what servicing changed.
    pub(crate) fn update(&mut self, info: &EditionInfo) {
        if let Some(system) = &info.system {
            self.version = system.version_text();
            self.languages.clone_from(&system.languages);
        }
    }
}

/// What is inside an edition, in short.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct EditionInside {
    /// Number of components of each category, by its word.
    pub components: BTreeMap<&'static str, usize>,
    /// What earlier builds did.
    pub integrated: EditionRecord,
    /// What could not be read.
    pub notes: Vec<String>,
}

/// What was, or will be, done in one edition.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct EditionWork {
    /// Name of the edition, or of that of the setup environment.
    pub edition: String,
    /// Whether it is the setup environment.
    pub setup: bool,
    /// Item for item, in order.
    pub items: Vec<Item>,
    /// All components of the categories of which some are taken out, by the category's word; for ledgers.
    #[serde(skip)]
    #[schemars(skip)]
    pub components: BTreeMap<&'static str, Vec<String>>,
}

/// Components of a category of which a build took some out: all that the edition had, so that a later plan knows which
/// are new.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct LedgerComponents {
    /// Edition.
    pub edition: String,
    /// Word of the category.
    pub category: String,
    /// Ids.
    pub ids: Vec<String>,
}

/// The same in a ledger.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct LedgerItem {
    /// Edition.
    pub edition: String,
    /// What sort of item.
    pub kind: String,
    /// Which one.
    pub subject: String,
    /// `applied`, `skipped` or `refused`.
    pub verdict: String,
    /// Why, or what exactly.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub detail: String,
    /// Bytes that it added before compression; negative when it took some away.
    #[serde(default)]
    pub bytes: i64,
}

impl EditionWork {
    /// Its components in a ledger.
    pub(crate) fn ledger_components(&self) -> impl Iterator<Item = LedgerComponents> + '_ {
        self.components.iter().map(|(category, ids)| LedgerComponents {
            edition: self.edition.clone(),
            category: (*category).to_owned(),
            ids: ids.clone(),
        })
    }

    /// Its lines in a ledger.
    pub(crate) fn ledger_items(&self) -> impl Iterator<Item = LedgerItem> + '_ {
        self.items.iter().map(|item| LedgerItem {
            edition: self.edition.clone(),
            kind: item.kind.into(),
            subject: item.subject.clone(),
            verdict: item.verdict.word().into(),
            detail: item.detail.clone(),
            bytes: item.bytes,
        })
    }
}

//! The index of a depot: `depot.json`.

use neat_content::{Advice, Error, Hint, Result, fold_case, nearest_by};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt::{self, Display};

/// Name of the index in a depot's folder.
pub const INDEX_NAME: &str = "depot.json";
/// Largest index that is read, in bytes.
pub(crate) const MAX_INDEX_LEN: u64 = 64 << 20;
/// Most items of one index.
const MAX_ITEMS: usize = 100_000;

/// What a depot has.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Index {
    /// Version of this form, 1.
    pub format: u32,
    /// What a person calls the depot.
    #[serde(default)]
    pub title: String,
    /// The files, in any order.
    pub items: Vec<Item>,
}

/// What sort of file an item is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ItemKind {
    /// An installation media.
    Media,
    /// An update.
    Update,
}

impl ItemKind {
    /// What it is called.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Media => "media",
            Self::Update => "update",
        }
    }
}

/// A file of a depot.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Item {
    /// What stack files call it: words with `/` between them, such as `quay-os-7/x64/en-GB`. Several items may share
    /// one, as versions of the same thing.
    pub id: String,
    /// What sort of file it is.
    pub kind: ItemKind,
    /// What a person calls it.
    #[serde(default)]
    pub title: String,
    /// Version, with the build.
    #[serde(default)]
    pub version: String,
    /// The system that it installs or belongs to.
    #[serde(default)]
    pub system: String,
    /// Editions on it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub editions: Vec<String>,
    /// Languages, such as `en-GB`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub languages: Vec<String>,
    /// `x86`, `x64` or `arm64`; empty for any.
    #[serde(default)]
    pub architecture: String,
    /// Day of its making, `YYYY-MM-DD`; may be empty.
    #[serde(default)]
    pub date: String,
    /// Path of the file, relative to the index, with `/`.
    pub file: String,
    /// Bytes of the file.
    pub size: u64,
    /// SHA-256 of the file, in hexadecimal digits.
    pub sha256: String,
    /// BLAKE3 of the file, in hexadecimal digits; checked instead of the other where it is there.
    #[serde(default)]
    pub blake3: String,
}

impl Item {
    /// The file's own name.
    pub fn file_name(&self) -> &str {
        self.file.rsplit('/').next().unwrap_or_default()
    }

    /// The id with the version.
    pub fn full_id(&self) -> String {
        if self.version.is_empty() { self.id.clone() } else { format!("{}@{}", self.id, self.version) }
    }

    /// By what the newest is found.
    fn age(&self) -> (&str, Vec<u64>) {
        let numbers = self.version.split(['.', '-']).map(|part| part.parse().unwrap_or(0)).collect();
        (&self.date, numbers)
    }
}

impl Index {
    /// Version of the form that is written and read.
    pub const FORMAT: u32 = 1;

    /// Reads and checks an index.
    ///
    /// # Errors
    /// `Mismatch` when it is none, or has paths that leave its folder, digests that are none, or ids that cannot be.
    pub fn parse(text: &str) -> Result<Self> {
        let bad = |found: String| Error::Mismatch {
            expected: "the index of a depot".into(),
            found,
            hint: Advice::IndexDepot.into(),
        };
        let index: Self = serde_json::from_str(text).map_err(|error| bad(error.to_string()))?;
        if index.format != Self::FORMAT {
            return Err(bad(format!("format {}, and this program reads {}", index.format, Self::FORMAT)));
        }
        if index.items.len() > MAX_ITEMS {
            let (limit, found) = (MAX_ITEMS as u64, index.items.len() as u64);
            return Err(Error::Limit { what: "number of items of a depot".into(), offset: 0, limit, found });
        }
        for item in &index.items {
            check(item).map_err(|what| bad(format!("{what} of {:?}", item.id)))?;
        }
        Ok(index)
    }

    /// The text of the index, items in the order of their ids.
    pub fn to_text(&self) -> Result<String> {
        let mut sorted = self.clone();
        sorted.items.sort_by(|a, b| (&a.id, a.age(), &a.file).cmp(&(&b.id, b.age(), &b.file)));
        serde_json::to_string_pretty(&sorted)
            .map(|text| text + "\n")
            .map_err(|error| Error::internal(format!("the index cannot be written: {error}")))
    }

    /// The items that fit, the newest first.
    pub fn search(&self, search: &Search) -> Vec<&Item> {
        let words: Vec<String> = search.words.iter().map(|word| fold_case(word)).collect();
        let fits = |item: &&Item| {
            let mut texts = vec![&item.id, &item.title, &item.version, &item.system, &item.file];
            texts.extend(&item.editions);
            texts.extend(&item.languages);
            let texts: Vec<String> = texts.into_iter().map(|text| fold_case(text)).collect();
            let same = |own: &str, wanted: &String| fold_case(own) == fold_case(wanted);
            words.iter().all(|word| texts.iter().any(|text| text.contains(word.as_str())))
                && search.kind.is_none_or(|kind| kind == item.kind)
                && search
                    .architecture
                    .as_ref()
                    .is_none_or(|a| item.architecture.is_empty() || same(&item.architecture, a))
                && search.language.as_ref().is_none_or(|wanted| {
                    item.languages.is_empty() || item.languages.iter().any(|own| same(own, wanted))
                })
        };
        let mut found: Vec<&Item> = self.items.iter().filter(fits).collect();
        found.sort_by(|a, b| b.age().cmp(&a.age()).then_with(|| a.id.cmp(&b.id)));
        found
    }

    /// The item that `reference` means: the newest of its versions unless it names one.
    ///
    /// # Errors
    /// `Request` when there is none, or the words fit several ids.
    pub fn find(&self, reference: &Reference) -> Result<&Item> {
        let exact = |item: &&Item| item.id == reference.id;
        let below =
            |item: &&Item| item.id.strip_prefix(&reference.id).is_some_and(|rest| rest.starts_with('/'));
        let mut candidates: Vec<&Item> = self.items.iter().filter(exact).collect();
        if candidates.is_empty() {
            candidates = self.items.iter().filter(below).collect();
        }
        if let Some(version) = &reference.version {
            candidates.retain(|item| item.version == *version);
        }
        let mut ids: Vec<&str> = candidates.iter().map(|item| item.id.as_str()).collect();
        ids.sort_unstable();
        ids.dedup();
        match ids.as_slice() {
            [_] => {}
            [] => {
                let words = reference.id.split('/').next().unwrap_or_default().to_owned();
                let near = self.search(&Search { words: vec![words], ..Search::default() });
                let mut near: Vec<String> = near.into_iter().take(5).map(Item::full_id).collect();
                near.dedup();
                let ids = self.items.iter().map(|item| item.id.as_str());
                let alike = nearest_by(&reference.id, ids, |id| id.split('/').next().unwrap_or_default());
                let hint = match (near.is_empty(), alike.first()) {
                    (false, _) => format!("it has {}", near.join(", ")).into(),
                    (true, Some(alike)) => format!("did you mean {alike}?").into(),
                    (true, None) => Hint::from(Advice::SearchDepot),
                };
                return Err(Error::request(format!("the depot has no {reference}"), hint));
            }
            several => {
                return Err(Error::request(
                    format!("{reference} can be {}", several.join(" or ")),
                    "write the id out",
                ));
            }
        }
        let newest = candidates.into_iter().max_by(|a, b| a.age().cmp(&b.age()));
        newest.ok_or_else(|| Error::request(format!("the depot has no {reference}"), "look for it by words"))
    }
}

/// What cannot be right about an item.
fn check(item: &Item) -> std::result::Result<(), &'static str> {
    let is_word = |word: &str| {
        !word.is_empty()
            && word != "."
            && word != ".."
            && word.chars().all(|c| c.is_ascii_alphanumeric() || "._-".contains(c))
    };
    if item.id.is_empty() || !item.id.split('/').all(is_word) || item.id.len() > 200 {
        return Err("the id");
    }
    let is_name =
        |name: &str| !name.is_empty() && name != "." && name != ".." && !name.contains(['\\', '\0']);
    if item.file.is_empty() || !item.file.split('/').all(is_name) || item.file.len() > 4096 {
        return Err("the path");
    }
    let is_digest = |digest: &str| digest.len() == 64 && digest.bytes().all(|b| b.is_ascii_hexdigit());
    if !is_digest(&item.sha256) || !item.blake3.is_empty() && !is_digest(&item.blake3) {
        return Err("a digest");
    }
    Ok(())
}

/// What is looked for.
#[derive(Clone, Debug, Default)]
pub struct Search {
    /// Words that must all be somewhere in what the index says of an item.
    pub words: Vec<String>,
    /// Architecture; items for any fit too.
    pub architecture: Option<String>,
    /// Language; items without any fit too.
    pub language: Option<String>,
    /// Sort of file.
    pub kind: Option<ItemKind>,
}

/// An item as stack files name it: `depot:ID` or `depot:ID@VERSION`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reference {
    /// The id, or the beginning of one up to a `/`.
    pub id: String,
    /// Version; without it the newest.
    pub version: Option<String>,
}

impl Reference {
    /// Reads `depot:ID[@VERSION]`; `None` for what does not begin with `depot:`.
    pub fn parse(text: &str) -> Option<Self> {
        text.strip_prefix("depot:").map(Self::of)
    }

    /// The same without `depot:`.
    pub fn of(text: &str) -> Self {
        let text = text.strip_prefix("depot:").unwrap_or(text);
        let (id, version) = match text.split_once('@') {
            Some((id, version)) => (id, Some(version.to_owned())),
            None => (text, None),
        };
        Self { id: id.trim_end_matches('/').to_owned(), version }
    }
}

impl Display for Reference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.id)?;
        self.version.as_ref().map_or(Ok(()), |version| write!(f, "@{version}"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn item(id: &str, version: &str, date: &str) -> Item {
        Item {
            id: id.into(),
            kind: ItemKind::Media,
            title: "Quay OS 7".into(),
            version: version.into(),
            system: "Quay OS 7".into(),
            editions: vec!["Quay OS 7 Bridge".into()],
            languages: vec![id.rsplit('/').next().unwrap_or_default().into()],
            architecture: "x64".into(),
            date: date.into(),
            file: format!("media/{version}.iso"),
            size: 1,
            sha256: "0".repeat(64),
            blake3: String::new(),
        }
    }

    #[test]
    fn the_newest_is_found_and_what_is_not_clear_is_said() {
        let items = vec![
            item("quay-os-7/x64/en-GB", "7.0.9", "2026-01-02"),
            item("quay-os-7/x64/en-GB", "7.0.10", "2026-01-02"),
            item("quay-os-7/x64/nb-NO", "7.0.10", "2026-03-01"),
        ];
        let index = Index { format: 1, title: String::new(), items };
        let index = Index::parse(&index.to_text().unwrap()).unwrap();
        let find = |text: &str| index.find(&Reference::parse(text).unwrap()).map(Item::full_id);
        assert_eq!(find("depot:quay-os-7/x64/en-GB").unwrap(), "quay-os-7/x64/en-GB@7.0.10");
        assert_eq!(find("depot:quay-os-7/x64/en-GB@7.0.9").unwrap(), "quay-os-7/x64/en-GB@7.0.9");
        assert!(find("depot:quay-os-7/x64").unwrap_err().to_string().contains(" or "));
        assert!(find("depot:quay-os-8").unwrap_err().to_string().contains("no quay-os-8"));
        assert!(find("depot:quay").is_err(), "half a word");
        let words = |words: &[&str]| {
            let words = words.iter().map(|word| (*word).to_owned()).collect();
            let found = index.search(&Search { words, language: Some("EN-gb".into()), ..Search::default() });
            found.into_iter().map(|item| item.version.clone()).collect::<Vec<_>>()
        };
        assert_eq!(words(&["bridge", "QUAY"]), ["7.0.10", "7.0.9"]);
        assert!(words(&["bridge", "engine"]).is_empty());
    }

    #[test]
    fn an_index_that_leads_elsewhere_is_refused() {
        let good = item("a", "1", "");
        for (name, wrong) in [
            ("file", Item { file: "../x".into(), ..good.clone() }),
            ("file", Item { file: "/etc/passwd".into(), ..good.clone() }),
            ("id", Item { id: "a/../b".into(), ..good.clone() }),
            ("sha256", Item { sha256: "zz".into(), ..good.clone() }),
        ] {
            let index = Index { format: 1, title: String::new(), items: vec![wrong] };
            assert!(Index::parse(&index.to_text().unwrap()).is_err(), "{name}");
        }
        assert!(Index::parse("{\"format\":2,\"items\":[]}").is_err());
        assert!(Index::parse("[]").is_err());
    }
}

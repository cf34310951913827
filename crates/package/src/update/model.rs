//! What an update says of itself.

use crate::Architecture;
use neat_content::{Content, Error, Result};
use neat_registry::RegText;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

/// Numbers with dots, compared number by number.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema)]
#[schemars(with = "String")]
pub struct Version(pub Vec<u64>);

impl Version {
    /// Reads up to six numbers.
    pub fn parse(text: &str) -> Option<Self> {
        let numbers: Option<Vec<u64>> = text.split('.').map(|part| part.trim().parse().ok()).collect();
        let mut numbers = numbers.filter(|numbers| numbers.len() <= 6)?;
        // 7.1 and 7.1.0 are the same.
        while numbers.last() == Some(&0) {
            numbers.pop();
        }
        Some(Self(numbers))
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let numbers: Vec<String> = self.0.iter().map(ToString::to_string).collect();
        f.write_str(if numbers.is_empty() { "0" } else { "" })?;
        f.write_str(&numbers.join("."))
    }
}

impl TryFrom<String> for Version {
    type Error = String;
    fn try_from(text: String) -> std::result::Result<Self, String> {
        Self::parse(&text)
            .ok_or_else(|| format!("{text:?} is no version; write numbers with dots, such as 7.0.7091"))
    }
}

impl<'de> Deserialize<'de> for Version {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> std::result::Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        Self::try_from(text).map_err(serde::de::Error::custom)
    }
}

impl Serialize for Version {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// What sort of update it is; decides its turn.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum UpdateType {
    /// What installs updates; goes in before all others.
    Servicing,
    /// Holds all earlier ones of its series.
    Cumulative,
    /// Mends one thing.
    #[default]
    Fix,
    /// Adds a language.
    Language,
}

impl UpdateType {
    /// A word for it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Servicing => "servicing",
            Self::Cumulative => "cumulative",
            Self::Fix => "fix",
            Self::Language => "language",
        }
    }
}

/// `update.toml`
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Manifest {
    /// Version of this form, 2.
    pub format: u32,
    /// The update.
    pub update: UpdateSection,
    /// Every other file of the package; written when it is made. A manifest by hand has none.
    #[serde(default, rename = "file", skip_serializing_if = "Vec::is_empty")]
    pub files: Vec<ListedFile>,
}

/// `[[file]]`: what a file of the package must be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ListedFile {
    /// Path in the package, such as `files/Windows/notepad.exe`.
    pub path: String,
    /// Length in bytes.
    pub size: u64,
    /// SHA-256 in small hexadecimal digits.
    pub sha256: String,
}

impl Manifest {
    /// Version of the form that is written. The first one, which lists no files, is read too.
    pub const FORMAT: u32 = 2;
}

/// `[update]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct UpdateSection {
    /// Name that no other update has: lower-case letters, digits, `.` and `-`.
    pub id: String,
    /// What people read.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub title: String,
    /// Version of the update.
    pub version: Version,
    /// What sort it is.
    #[serde(default, rename = "type")]
    pub kind: UpdateType,
    /// Updates of one series hold each other: only the newest goes in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub series: Option<String>,
    /// Architecture; without it any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub architecture: Option<String>,
    /// Language: of a language package the one that it adds, of others the one that the edition must have.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub language: Option<String>,
    /// Least version of the system that it goes into, such as `7.0.7042`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub minimum_system: Option<Version>,
    /// Version of the system afterwards.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub resulting_system: Option<Version>,
    /// Ids of updates that must be in before.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<String>,
    /// Ids of updates that are not needed when this one is in.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub replaces: Vec<String>,
    /// Files of the edition that go.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub removes: Vec<String>,
    /// Registration texts in the package.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub registry: Vec<String>,
}

/// An opened update.
#[derive(Clone, Debug)]
pub struct Update {
    /// What it says of itself.
    pub section: UpdateSection,
    /// Its architecture.
    pub architecture: Option<Architecture>,
    /// Files by their paths in the edition.
    pub files: Vec<(String, Content)>,
    /// Changes of the registry, in order, each with the name of its text.
    pub registry: Vec<(String, RegText)>,
    /// Whether every file was compared with the digest that the manifest has for it.
    pub checked: bool,
}

impl Update {
    /// Bytes of its files.
    pub fn files_len(&self) -> u64 {
        self.files.iter().map(|(_, content)| content.len()).sum()
    }
}

/// Checks what no type can.
pub(super) fn check(section: &UpdateSection) -> Result<Option<Architecture>> {
    let bad =
        |message: String, hint: &'static str| Err(Error::request(format!("update.toml: {message}"), hint));
    let is_id = |id: &str| {
        !id.is_empty()
            && id.len() <= 100
            && id.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-' || b == b'.')
    };
    for id in std::iter::once(&section.id).chain(&section.needs).chain(&section.replaces) {
        if !is_id(id) {
            return bad(format!("{id:?} is no id"), "use lower-case letters, digits, '-' and '.'");
        }
    }
    if section.needs.contains(&section.id) || section.replaces.contains(&section.id) {
        return bad(format!("{} names itself", section.id), "take it out of `needs` and `replaces`");
    }
    if section.kind == UpdateType::Language && section.language.is_none() {
        return bad("a language package without a language".into(), "write language = \"nb-NO\" or the like");
    }
    match &section.architecture {
        None => Ok(None),
        Some(word) => match Architecture::of_word(word) {
            Some(architecture) => Ok(Some(architecture)),
            None => bad(format!("{word:?} is no architecture"), "write x86, x64 or arm64, or leave it out"),
        },
    }
}

//! `[[beside]]`: other setups on the same media.

use neat_answer::Topic;
use schemars::JsonSchema;
use serde::Deserialize;

/// `[[beside]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct BesideSection {
    /// ISO file or folder with the other setup, or `depot:ID`.
    #[schemars(extend("format" = "path"))]
    pub media: String,
    /// Its folder on the media; without it the architecture of its systems. Media of the generation before image files keep
    /// their places, where setup looks for them.
    pub folder: Option<String>,
    /// What the boot manager's menu shows; without it nothing starts it but a person or `[menu]`.
    pub title: Option<String>,
    /// Its editions that are taken, by name or number; without it all.
    #[serde(default, deserialize_with = "super::names_or_numbers")]
    #[schemars(with = "Vec<super::NameOrNumber>")]
    pub editions: Vec<String>,
    /// Where its systems are.
    #[serde(default)]
    pub systems: SystemsValue,
    /// Its answers: a model, or a file in a dialect.
    #[schemars(extend("format" = "path"))]
    pub answer: Option<String>,
    /// What would stop the build and is meant, as in `[answer]`.
    #[serde(default)]
    pub accept: Vec<Topic>,
}

/// `beside.systems`
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SystemsValue {
    /// In the media's own image file: what is the same is there once.
    #[default]
    Merged,
    /// In an image file of their own, in its folder.
    Own,
}

//! Catalogues: what is known of components besides what an edition itself tells, settings, and profiles.

use crate::layout::{parse_toml, read_text};
use neat_content::{Advice, Error, Result};
use schemars::JsonSchema;
use serde::Deserialize;
use std::{collections::BTreeMap, path::Path};

/// A catalogue. Its form is published: `neatstack schema catalogue`.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Catalogue {
    /// Version of this form, 1.
    pub format: u32,
    /// Name.
    #[serde(default)]
    pub name: String,
    /// Products that it is for, as the image file says them; without it all.
    #[serde(default)]
    pub products: Vec<String>,
    /// What is known of components.
    #[serde(default, rename = "component")]
    pub components: Vec<CatalogueComponent>,
    /// Settings.
    #[serde(default, rename = "setting")]
    pub settings: Vec<CatalogueSetting>,
    /// Profiles by their ids.
    #[serde(default, rename = "profile")]
    pub profiles: BTreeMap<String, Profile>,
}

/// `[[component]]`
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CatalogueComponent {
    /// Id, as `neatstack inventory` prints it. One that the edition does not know by itself is there when one of its
    /// `files` is.
    pub id: String,
    /// What people call it.
    #[serde(default)]
    pub title: String,
    /// What it is for.
    #[serde(default)]
    pub description: String,
    /// What it is shown with.
    #[serde(default)]
    pub group: String,
    /// Further files and folders, from the edition's root, with `*` and `?` in names.
    #[serde(default)]
    pub files: Vec<String>,
    /// Further keys of the registry, as registration text writes them.
    #[serde(default)]
    pub keys: Vec<String>,
    /// Ids that it needs.
    #[serde(default)]
    pub needs: Vec<String>,
    /// What one should know before taking it out.
    #[serde(default)]
    pub caution: String,
    /// Why it must never go; empty if it may.
    #[serde(default)]
    pub required: String,
    /// Whether it cannot be put back after installation; without it, what its category says.
    #[serde(default)]
    pub gone_for_good: Option<bool>,
}

/// `[[setting]]`
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CatalogueSetting {
    /// Id.
    pub id: String,
    /// What people call it.
    #[serde(default)]
    pub title: String,
    /// What it does.
    #[serde(default)]
    pub description: String,
    /// Values that it sets.
    #[serde(default, rename = "value")]
    pub values: Vec<SettingValue>,
    /// Start types of services.
    #[serde(default)]
    pub services: BTreeMap<String, String>,
    /// Features that are switched on or off.
    #[serde(default)]
    pub features: BTreeMap<String, bool>,
}

/// A value of the registry as a person writes it.
#[derive(Clone, Debug, Default, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SettingValue {
    /// Key, as registration text writes it.
    pub key: String,
    /// Name; empty for the key's default value.
    #[serde(default)]
    pub name: String,
    /// `text`, `expanded-text`, `texts`, `number`, `long-number` or `bytes`; without it, what the value looks like.
    #[serde(default, rename = "type")]
    pub kind: Option<String>,
    /// The value: text, number, list of texts, or bytes in hexadecimal. Without it, and with `delete`, the value goes.
    #[serde(default)]
    #[schemars(with = "Option<serde_json::Value>")]
    pub value: Option<toml::Value>,
    /// Whether the value, or without a name the whole key, goes.
    #[serde(default)]
    pub delete: bool,
}

/// A named set of choices.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Profile {
    /// What people call it.
    #[serde(default)]
    pub title: String,
    /// What it is for.
    #[serde(default)]
    pub description: String,
    /// Ids and patterns that go.
    #[serde(default)]
    pub remove: Vec<String>,
    /// Ids and patterns that stay.
    #[serde(default)]
    pub keep: Vec<String>,
    /// Settings that are used.
    #[serde(default)]
    pub settings: Vec<String>,
}

impl Catalogue {
    /// Version of the form that is read.
    pub const FORMAT: u32 = 1;

    /// Reads a catalogue.
    pub fn parse(text: &str) -> Result<Self> {
        let catalogue: Self = parse_toml(text, Advice::CatalogueSchema)?;
        if catalogue.format != Self::FORMAT {
            return Err(Error::Unsupported {
                what: format!("catalogue format {}", catalogue.format),
                offset: 0,
            });
        }
        Ok(catalogue)
    }

    /// Reads the catalogue in a file.
    pub fn open(path: &Path) -> Result<Self> {
        read_text(path).and_then(|text| Self::parse(&text)).map_err(|error| error.within(path.display()))
    }

    /// Whether it is for this product; an edition that does not say what it is takes every catalogue.
    pub fn is_for(&self, product: &str) -> bool {
        product.is_empty()
            || self.products.is_empty()
            || self.products.iter().any(|own| own.eq_ignore_ascii_case(product))
    }
}

//! The stack file: the recipe for a media.

mod answers;
mod beside;
mod edit;
mod edition;
mod inputs;
mod keys;
mod media;
mod schema;

pub use answers::{
    AnswerPlace, AnswerSection, EntryAnswer, EntrySection, MenuSection, OnTimeoutValue, VariantSection,
};
pub use beside::{BesideSection, SystemsValue};
pub use edit::StackText;
pub use edition::{
    AddedEntry, AppSection, BootStoreSection, CompanySection, DriverSection, DriverThrough,
    EnvironmentSection, FeatureValue, HandedFeature, IntoValue, LanguagesSection, LeaveOutSection,
    PlaceSection, RemoveSection, SettingsSection, SetupSection, StartValue, ThroughValue, UpdateSection,
    WhenValue,
};
pub use media::{CompressionValue, FileLimitValue, MediaSection, StickForm, StickSection, TrialValue};

use neat_content::{Error, Result};
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::HashSet;

/// A recipe. Paths are relative to the file.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StackFile {
    /// The paths that it names, and where they stand.
    #[serde(skip)]
    #[schemars(skip)]
    pub(crate) inputs: Vec<inputs::Input>,
    /// What a person calls it.
    #[serde(default)]
    pub title: String,
    /// The depot that `depot:` means: an http:// address, or a folder.
    pub depot: Option<String>,
    /// A public key: only depots and update packages that are signed with it are taken.
    pub signed_by: Option<String>,
    /// Updates that came from a depot whose index was signed, by their paths.
    #[serde(skip)]
    #[schemars(skip)]
    pub(crate) vouched_for: HashSet<String>,
    /// What it starts from; a media that only boots kernels may start from nothing.
    pub source: Option<SourceSection>,
    /// Other setups on the same media.
    #[serde(default)]
    pub beside: Vec<BesideSection>,
    /// Catalogues of components, settings and profiles.
    #[serde(default)]
    #[schemars(extend("format" = "path"))]
    pub catalogues: Vec<String>,
    /// Layouts of editions, tried before the built-in one.
    #[serde(default)]
    #[schemars(extend("format" = "path"))]
    pub layouts: Vec<String>,
    /// Updates that go into the editions.
    #[serde(default)]
    pub update: Vec<UpdateSection>,
    /// Drivers that go into the editions and the setup environment.
    #[serde(default)]
    pub driver: Vec<DriverSection>,
    /// What stays out.
    #[serde(default)]
    pub leave_out: Vec<LeaveOutSection>,
    /// The setup environment.
    pub environment: Option<EnvironmentSection>,
    /// The boot manager's own store.
    pub boot_store: Option<BootStoreSection>,
    /// What setup may do.
    pub setup: Option<SetupSection>,
    /// Components that go.
    pub remove: Option<RemoveSection>,
    /// How the system is set up.
    pub settings: Option<SettingsSection>,
    /// Applications that are installed when setup has ended.
    #[serde(default)]
    pub app: Vec<AppSection>,
    /// Files put on the media, into the editions or into the setup environment.
    #[serde(default)]
    pub place: Vec<PlaceSection>,
    /// An answer file.
    pub answer: Option<AnswerSection>,
    /// Many machines.
    #[serde(default)]
    pub variant: Vec<VariantSection>,
    /// A boot menu.
    pub menu: Option<MenuSection>,
    /// What comes out.
    pub media: MediaSection,
}

/// `[source]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SourceSection {
    /// ISO file or folder, or `depot:ID` for one from the depot.
    #[schemars(extend("format" = "path"))]
    pub media: String,
    /// SHA-256 of the ISO file in hexadecimal, checked before anything else.
    pub sha256: Option<String>,
    /// Editions to keep, by name or number, in this order; without it all.
    #[serde(default, deserialize_with = "names_or_numbers")]
    #[schemars(with = "Vec<NameOrNumber>")]
    pub editions: Vec<String>,
    /// Another media, or an image file, whose systems this media's setup is to install.
    #[schemars(extend("format" = "path"))]
    pub image_from: Option<String>,
    /// What of it is taken; without it all.
    pub only: Option<OnlyValue>,
}

/// `source.only`
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum OnlyValue {
    /// The setup environment and what starts it, without the systems. `image_from` may then name its image file.
    SetupEnvironment,
}

/// Editions are named by text or by number.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(untagged, expecting = "neither a name nor a number")]
pub enum NameOrNumber {
    /// Its name.
    Name(String),
    /// Its number, from 1.
    Number(u32),
}

impl NameOrNumber {
    /// As it is looked for.
    pub fn text(self) -> String {
        match self {
            Self::Name(name) => name,
            Self::Number(number) => number.to_string(),
        }
    }
}

fn names_or_numbers<'de, D: serde::Deserializer<'de>>(
    deserializer: D,
) -> std::result::Result<Vec<String>, D::Error> {
    let values = Vec::<NameOrNumber>::deserialize(deserializer)?;
    Ok(values.into_iter().map(NameOrNumber::text).collect())
}

impl StackFile {
    /// Reads a stack file. Every key that is unknown or not built yet is an error that names it.
    pub fn parse(text: &str) -> Result<Self> {
        keys::check(text)?;
        let mut stack: Self = toml::from_str(text).map_err(|error| {
            let line = error.span().map_or(1, |span| schema::line_of(text, span.start));
            Error::request(
                format!("line {line}: {}", neat_content::plain_toml(error.message())),
                "`neatstack schema stack` says what may stand where, `neatstack draft MEDIA` writes an example",
            )
        })?;
        stack.inputs = inputs::inputs(text);
        if stack.source.is_none() && stack.menu.is_none() {
            return Err(Error::request(
                "there is neither a [source] nor a [menu]",
                "say what the media starts from: [source] media = \"…\"",
            ));
        }
        if let Some(answer) = &stack.answer
            && answer.file.is_some() == answer.model.is_some()
        {
            return Err(Error::request(
                "[answer] needs one of `file` and `model`",
                "write file = \"bridge.answer.toml\", or the answers themselves below [answer.model]",
            ));
        }
        if stack.variant.len() > 1 {
            return Err(Error::request(
                "there are two [[variant]] sections",
                "put all machines into one site list",
            ));
        }
        Ok(stack)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_small_file_is_read_and_wrong_values_have_their_line() {
        let stack = StackFile::parse(
            "[source]\nmedia = \"a.iso\"\n[media]\niso = \"b.iso\"\n[menu]\non_timeout = \"wait\"\n",
        )
        .unwrap();
        assert_eq!(stack.menu.unwrap().timeout_seconds, 60);
        let error = StackFile::parse("[source]\nmedia = 7\n[media]\niso = \"b.iso\"\n").unwrap_err();
        assert!(error.to_string().starts_with("line 2: "), "{error}");
        let error = StackFile::parse("[media]\niso = \"b.iso\"\n").unwrap_err();
        assert!(error.to_string().contains("neither"), "{error}");
    }
}

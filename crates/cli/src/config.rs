//! What a person has always the same: a small file in the home folder. It fills in what is begun anew, and where depots are
//! looked for; it never changes what a stack file says, so that the same file gives the same media everywhere.

use neat_content::{Content, Error, Result};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

/// Largest file that is read, in bytes.
const LARGEST: u64 = 1 << 20;

/// The file's content.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Config {
    /// The depot where no other is named: an http:// address, or a folder.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub depot: Option<String>,
    /// Language of answers that are begun.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub language: Option<String>,
    /// Publisher in stack files that are begun.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub publisher: Option<String>,
    /// Folder that stack files that are begun write into.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub output_folder: Option<String>,
}

/// Where the file is; nothing where there is no home.
pub(crate) fn path() -> Option<PathBuf> {
    let own = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let folder = own("XDG_CONFIG_HOME").or_else(|| Some(own("HOME")?.join(".config")))?;
    Some(folder.join("neatstack/config.toml"))
}

impl Config {
    /// Reads it; what is not there says nothing.
    ///
    /// # Errors
    /// `Request` for a file that cannot be understood.
    pub(crate) fn read() -> Result<Self> {
        let Some(path) = path().filter(|path| path.exists()) else { return Ok(Self::default()) };
        let bytes = Content::from_path(&path)?.to_vec(LARGEST, "configuration")?;
        toml::from_str(&String::from_utf8_lossy(&bytes)).map_err(|error| {
            Error::request(
                format!("{}: {}", path.display(), neat_content::plain_toml(error.message())),
                "it may have depot, language, publisher and output_folder, each a text",
            )
        })
    }
}

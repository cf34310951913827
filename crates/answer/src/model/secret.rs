//! Passwords and keys: never in the model itself, only where they come from.

use neat_content::{Content, Error, Result};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::{
    collections::BTreeMap,
    fmt,
    path::{Path, PathBuf},
};

/// Where a secret comes from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Secret {
    /// First line of a file.
    File(String),
    /// A variable of the environment.
    Environment(String),
    /// A person is asked while the file is written.
    Prompt(bool),
    /// The hash that crypt(3) makes of it, such as `$6$…`.
    Hash(String),
    /// As in the file that the model was read from.
    Origin(bool),
}

/// A secret that was fetched.
#[derive(Clone, PartialEq, Eq)]
pub enum SecretValue {
    /// The secret itself.
    Plain(String),
    /// Its hash.
    Hash(String),
}

impl SecretValue {
    /// The secret itself, if it is known.
    pub fn plain(&self) -> Option<&str> {
        match self {
            Self::Plain(text) => Some(text),
            Self::Hash(_) => None,
        }
    }
}

impl fmt::Debug for SecretValue {
    // Secrets are never printed, not by accident either.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Plain(_) => "Plain(…)",
            Self::Hash(_) => "Hash(…)",
        })
    }
}

/// Secrets that were read from an answer file, by field.
pub type Vault = BTreeMap<String, SecretValue>;

/// Asks a person for a secret, given what it is for.
pub type Ask<'a> = &'a dyn Fn(&str) -> Result<String>;

/// Fetches secrets.
#[derive(Default)]
pub struct Secrets<'a> {
    /// Folder that files are relative to.
    pub base: PathBuf,
    /// Secrets of the file that the model was read from.
    pub vault: Vault,
    /// How a person is asked; without it `prompt` is an error.
    pub ask: Option<Ask<'a>>,
}

impl Secrets<'_> {
    /// The secret of a field such as `account.helm.password`.
    ///
    /// # Errors
    /// `Io` where its file cannot be read, `BadRequest` where it comes from nowhere or has line ends.
    pub fn get(&self, field: &str, secret: &Secret) -> Result<SecretValue> {
        match secret {
            Secret::Hash(hash) => Ok(SecretValue::Hash(hash.clone())),
            Secret::File(path) => read_first_line(&self.base.join(path)).map(SecretValue::Plain),
            Secret::Environment(name) => std::env::var(name).map(SecretValue::Plain).map_err(|_| {
                Error::request(
                    format!("`{field}`: the environment has no variable {name}"),
                    format!("set {name}, or say another place"),
                )
            }),
            Secret::Prompt(_) => match self.ask {
                Some(ask) => ask(field).map(SecretValue::Plain),
                None => Err(Error::request(
                    format!("`{field}` is to be asked for, and there is no terminal"),
                    "run it on a terminal, or take the secret from a file or the environment",
                )),
            },
            Secret::Origin(_) => self.vault.get(field).cloned().ok_or_else(|| {
                Error::request(
                    format!("`{field}`: the file that this was read from has no such secret"),
                    "say where it comes from: { file = \"…\" }, { environment = \"…\" } or { prompt = true }",
                )
            }),
        }
    }
}

fn read_first_line(path: &Path) -> Result<String> {
    const LIMIT: u64 = 64 << 10;
    let bytes =
        Content::from_path(path)?.to_vec(LIMIT, "secret").map_err(|error| error.within(path.display()))?;
    let text = String::from_utf8(bytes)
        .map_err(|_| Error::request(format!("{} is not UTF-8 text", path.display()), "save it as UTF-8"))?;
    Ok(text.lines().next().unwrap_or_default().to_owned())
}

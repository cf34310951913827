//! Commands, scripts, registry values, software, and parts in a dialect's own words.

use super::is_default;
use crate::Dialect;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// When something runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Stage {
    /// The setup environment is up, and nothing was asked or written yet.
    SetupStart,
    /// The system is on the disk and is being made this machine's own.
    SystemInstalled,
    /// The installed system starts first, before anybody signs in.
    FirstStart,
    /// Somebody signs in first.
    FirstSignIn,
    /// Somebody signs in, each time.
    EverySignIn,
    /// A reference machine is made ready to be captured.
    Generalize,
    /// A reference machine is being set up, before sign-in.
    AuditSystem,
    /// A reference machine is being set up, after sign-in.
    AuditUser,
}

impl Stage {
    /// All, in the order in which they come.
    pub const ALL: [Self; 8] = [
        Self::SetupStart,
        Self::SystemInstalled,
        Self::FirstStart,
        Self::FirstSignIn,
        Self::EverySignIn,
        Self::Generalize,
        Self::AuditSystem,
        Self::AuditUser,
    ];

    /// Its name here.
    pub const fn name(self) -> &'static str {
        match self {
            Self::SetupStart => "setup-start",
            Self::SystemInstalled => "system-installed",
            Self::FirstStart => "first-start",
            Self::FirstSignIn => "first-sign-in",
            Self::EverySignIn => "every-sign-in",
            Self::Generalize => "generalize",
            Self::AuditSystem => "audit-system",
            Self::AuditUser => "audit-user",
        }
    }

    /// The stage of a name.
    pub fn of_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|stage| stage.name() == name)
    }
}

/// `[[command]]`
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Command {
    /// When it runs.
    pub stage: Stage,
    /// The command line.
    pub run: String,
    /// What it is for.
    #[serde(default, skip_serializing_if = "is_default")]
    pub description: String,
    /// Whether what follows waits for its end.
    #[serde(default = "yes", skip_serializing_if = "is_yes")]
    pub wait: bool,
    /// Whether its window is kept out of sight.
    #[serde(default, skip_serializing_if = "is_default")]
    pub hidden: bool,
    /// Whether it runs in the setup environment, which has the installed system in a folder, instead of in the
    /// installed system. Installers of Linux have that choice.
    #[serde(default, skip_serializing_if = "is_default")]
    pub outside: bool,
}

const fn yes() -> bool {
    true
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde gives references")]
const fn is_yes(value: &bool) -> bool {
    *value
}

impl Command {
    /// A command that is waited for.
    pub fn new(stage: Stage, run: impl Into<String>) -> Self {
        Self { stage, run: run.into(), description: String::new(), wait: true, hidden: false, outside: false }
    }
}

/// `[[script]]`
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Script {
    /// Its file name, with the ending that says what runs it: `.cmd`, `.ps1`, `.sh`.
    pub name: String,
    /// When it runs.
    pub stage: Stage,
    /// Its text.
    #[serde(default, skip_serializing_if = "is_default")]
    pub text: String,
    /// The file that it is in, relative to the model.
    #[serde(default, skip_serializing_if = "is_default")]
    pub from: String,
    /// How it gets to the machine.
    #[serde(default, skip_serializing_if = "is_default")]
    pub carried: Carried,
}

/// How a script gets to the machine.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Carried {
    /// Inside the answer file.
    #[default]
    Inside,
    /// As a file on the media.
    Media,
}

/// `[[registry]]`
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RegistryValue {
    /// The key, from `HKEY_LOCAL_MACHINE` or `HKEY_CURRENT_USER` (`HKLM`, `HKCU`).
    pub key: String,
    /// Name of the value; empty for the key's own.
    #[serde(default, skip_serializing_if = "is_default")]
    pub name: String,
    /// Its type: `string`, `expand-string`, `dword` or `qword`.
    #[serde(rename = "type", default = "string")]
    pub kind: String,
    /// What it is.
    pub value: String,
}

fn string() -> String {
    "string".into()
}

/// `[software]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AppList {
    /// Packages of the distribution that go in.
    #[serde(default, skip_serializing_if = "is_default")]
    pub add: Vec<String>,
    /// Apps or packages that go.
    #[serde(default, skip_serializing_if = "is_default")]
    pub remove: Vec<String>,
    /// Folders that setup takes drivers from.
    #[serde(default, skip_serializing_if = "is_default")]
    pub drivers: Vec<String>,
    /// Whether setup copies the folder of its answers to the disk, so that they can name files from there.
    #[serde(default, skip_serializing_if = "is_default")]
    pub configuration_set: bool,
    /// Folders that setup takes updates from.
    #[serde(default, skip_serializing_if = "is_default")]
    pub updates: Vec<String>,
}

/// `[[own]]`: a part in the words of one dialect.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Own {
    /// The dialect.
    pub dialect: Dialect,
    /// The pass that it belongs to, for `unattend`.
    #[serde(default, skip_serializing_if = "is_default")]
    pub pass: String,
    /// The part: a whole `<component>`, or lines.
    pub text: String,
}

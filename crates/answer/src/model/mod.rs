//! The neutral form: what setup is told, whatever the dialect. Our own TOML, `*.answer.toml`.

mod command;
mod disk;
mod people;
mod secret;
mod system;

pub use command::{AppList, Carried, Command, Own, RegistryValue, Script, Stage};
pub use disk::{Disk, FileSystem, Partition, PartitionKind, Scheme, Size};
pub(crate) use people::ADMINISTRATOR_PASSWORD;
pub use people::{Account, Administrator};
pub use secret::{Ask, Secret, SecretValue, Secrets, Vault};
pub use system::{
    Display, Distribution, EditionChoice, FirstStart, KeyChoice, Language, Licence, Machine, Network, Page,
    Place, Power, Privacy, Remote, Requirement, StaticAddress, System, WhenDone, Wireless,
};

use crate::{Dialect, Gravity, Topic};
use neat_content::{Advice, Error, Result};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Whether a value is what it would be if nothing was said, so that it need not be written.
pub(crate) fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// Everything that setup is told. What is not said is asked, or is as the system has it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Model {
    /// Version of this form: 1.
    #[serde(default = "first_format")]
    pub format: u32,
    /// What a person calls it.
    #[serde(default, skip_serializing_if = "is_default")]
    pub title: String,
    /// Whether erasing a disk without asking anybody is meant.
    #[serde(default, skip_serializing_if = "is_default")]
    pub erases: Erases,
    /// What would stop a build and is meant, by its topic, such as `no-password`.
    #[serde(default, skip_serializing_if = "is_default")]
    pub accept: Vec<Topic>,
    /// Processors that it serves.
    #[serde(default, skip_serializing_if = "is_default")]
    pub architectures: Vec<Architecture>,
    /// Checks of the hardware that setup leaves out.
    #[serde(default, skip_serializing_if = "is_default")]
    pub waive: Vec<Requirement>,
    /// Whether the system is kept from encrypting its disk by itself.
    #[serde(default, skip_serializing_if = "is_default")]
    pub prevent_encryption: bool,
    /// Languages, keyboards, time.
    #[serde(default, skip_serializing_if = "is_default")]
    pub language: Language,
    /// Which system, and its key.
    #[serde(default, skip_serializing_if = "is_default")]
    pub system: System,
    /// Name and owner of the machine.
    #[serde(default, skip_serializing_if = "is_default")]
    pub machine: Machine,
    /// Disks that are laid out; without any, setup asks.
    #[serde(default, skip_serializing_if = "is_default")]
    pub disk: Vec<Disk>,
    /// The account that every system has.
    #[serde(default, skip_serializing_if = "is_default")]
    pub administrator: Administrator,
    /// Accounts of people.
    #[serde(default, skip_serializing_if = "is_default")]
    pub account: Vec<Account>,
    /// The network.
    #[serde(default, skip_serializing_if = "is_default")]
    pub network: Network,
    /// What a person sees when the system starts first.
    #[serde(default, skip_serializing_if = "is_default")]
    pub first_start: FirstStart,
    /// The screen.
    #[serde(default, skip_serializing_if = "is_default")]
    pub display: Display,
    /// Access from afar.
    #[serde(default, skip_serializing_if = "is_default")]
    pub remote: Remote,
    /// Power.
    #[serde(default, skip_serializing_if = "is_default")]
    pub power: Power,
    /// Software that goes in or out.
    #[serde(default, skip_serializing_if = "is_default")]
    pub software: AppList,
    /// Where a distribution's packages come from, and its kernel.
    #[serde(default, skip_serializing_if = "is_default")]
    pub distribution: Distribution,
    /// Values of the registry.
    #[serde(default, skip_serializing_if = "is_default")]
    pub registry: Vec<RegistryValue>,
    /// Commands, in the order in which they run at their stage.
    #[serde(default, skip_serializing_if = "is_default")]
    pub command: Vec<Command>,
    /// Scripts, run after the commands of their stage.
    #[serde(default, skip_serializing_if = "is_default")]
    pub script: Vec<Script>,
    /// Parts in the words of one dialect, put into its files as they are.
    #[serde(default, skip_serializing_if = "is_default")]
    pub own: Vec<Own>,
    /// The file that this was read from; written again, it keeps everything that was not changed here.
    #[serde(default, skip_serializing_if = "is_default")]
    pub origin: Option<Origin>,
}

const fn first_format() -> u32 {
    Model::FORMAT
}

impl Default for Model {
    fn default() -> Self {
        Self {
            format: Self::FORMAT,
            title: String::new(),
            erases: Erases::No,
            accept: Vec::new(),
            architectures: Vec::new(),
            language: Language::default(),
            system: System::default(),
            machine: Machine::default(),
            disk: Vec::new(),
            administrator: Administrator::default(),
            account: Vec::new(),
            network: Network::default(),
            first_start: FirstStart::default(),
            waive: Vec::new(),
            prevent_encryption: false,
            display: Display::default(),
            remote: Remote::default(),
            power: Power::default(),
            software: AppList::default(),
            distribution: Distribution::default(),
            registry: Vec::new(),
            command: Vec::new(),
            script: Vec::new(),
            own: Vec::new(),
            origin: None,
        }
    }
}

/// Whether erasing is meant.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Erases {
    /// Not said.
    #[default]
    No,
    /// It is meant.
    Yes,
}

/// A processor architecture.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Architecture {
    /// 64-bit PCs.
    X64,
    /// 32-bit PCs.
    X86,
    /// 64-bit ARM.
    Arm64,
}

impl Architecture {
    /// Its name here.
    pub const fn name(self) -> &'static str {
        match self {
            Self::X64 => "x64",
            Self::X86 => "x86",
            Self::Arm64 => "arm64",
        }
    }
}

/// The file that a model was read from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Origin {
    /// Its dialect.
    pub dialect: Dialect,
    /// Where it is, relative to the model.
    pub file: String,
    /// Its SHA-256, so that another file is not taken for it.
    pub sha256: String,
}

impl Model {
    /// The version of the form that is written.
    pub const FORMAT: u32 = 1;

    /// Reads the TOML form. An error names the line.
    ///
    /// # Errors
    /// `BadRequest` with the line, for what is no TOML, has keys that do not exist, or values of another type.
    pub fn parse(text: &str) -> Result<Self> {
        let model: Self = toml::from_str(text).map_err(|error| {
            let at = error.span().map_or(0, |span| span.start);
            let line = text.bytes().take(at).filter(|byte| *byte == b'\n').count() + 1;
            Error::request(
                format!("line {line}: {}", neat_content::plain_toml(error.message())),
                Advice::AnswerExample,
            )
        })?;
        if model.format != Self::FORMAT {
            return Err(Error::request(
                format!("`format` is {}, and this version knows {}", model.format, Self::FORMAT),
                "use a version of Neat Stack that knows it",
            ));
        }
        if let Some(own) = model.accept.iter().find(|own| own.gravity() != Gravity::Problem) {
            return Err(Error::request(
                format!("`accept` names {}, which stops nothing", own.name()),
                if *own == Topic::Erases { "write erases = \"yes\" if that is meant" } else { "take it out" },
            ));
        }
        Ok(model)
    }

    /// The TOML form.
    ///
    /// # Errors
    /// `Internal` for what TOML cannot say, which a model never holds.
    pub fn to_toml(&self) -> Result<String> {
        toml::to_string(self)
            .map_err(|error| Error::internal(format!("the answers cannot be written as TOML: {error}")))
    }

    /// Whether a text is meant as a model: TOML that says its format.
    pub fn is_model(text: &str) -> bool {
        let mut lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
        lines.next().is_some_and(|line| line.replace(' ', "").starts_with("format="))
    }

    /// Architectures to write for: 64-bit PCs if none is said.
    pub fn architectures(&self) -> &[Architecture] {
        if self.architectures.is_empty() { &[Architecture::X64] } else { &self.architectures }
    }

    /// The account that signs in first, as far as it is said: one that is signed in without being asked, or the first.
    pub fn signs_in_first(&self) -> Option<&Account> {
        self.account.iter().find(|own| own.automatic_sign_ins > 0).or(self.account.first())
    }

    /// Commands of a stage, in order.
    pub fn commands(&self, stage: Stage) -> impl Iterator<Item = &Command> {
        self.command.iter().filter(move |command| command.stage == stage)
    }
}

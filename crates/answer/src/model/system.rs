//! Languages, system, machine, network, first start, power.

use super::{Secret, is_default};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// `[language]`: tags as in BCP 47, such as `da-DK`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Language {
    /// What setup speaks.
    #[serde(default, skip_serializing_if = "is_default")]
    pub setup: String,
    /// What the installed system speaks; without it as setup.
    #[serde(default, skip_serializing_if = "is_default")]
    pub interface: String,
    /// For programs that are not written for all languages.
    #[serde(default, skip_serializing_if = "is_default")]
    pub system: String,
    /// Dates, numbers, money.
    #[serde(default, skip_serializing_if = "is_default")]
    pub user: String,
    /// Keyboards, the first one first: a language's usual one (`da-DK`), an exact one (`0406:00000406`), or a layout
    /// of X (`xkb:us(dvorak)`).
    #[serde(default, skip_serializing_if = "is_default")]
    pub keyboards: Vec<String>,
    /// Time zone by its IANA name, such as `Europe/Copenhagen`.
    #[serde(default, skip_serializing_if = "is_default")]
    pub time_zone: String,
}

/// `[system]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct System {
    /// The edition: its name, its number, or `ask`.
    #[serde(default, skip_serializing_if = "is_default")]
    pub edition: Option<EditionChoice>,
    /// The product key.
    #[serde(default, skip_serializing_if = "is_default")]
    pub key: Option<KeyChoice>,
    /// The page with the licence.
    #[serde(default, skip_serializing_if = "is_default")]
    pub licence: Option<Licence>,
    /// The folder that it goes into, below the root of its drive, where setups let one choose it.
    #[serde(default, skip_serializing_if = "is_default")]
    pub folder: String,
}

/// Which edition.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum EditionChoice {
    /// By number, from 1.
    Number(u32),
    /// By name; `ask` asks.
    Name(String),
}

/// Which key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum KeyChoice {
    /// None; setup does not ask for one.
    None(bool),
    /// A generic key, which activates nothing and is no secret.
    Generic(String),
    /// First line of a file.
    File(String),
    /// A variable of the environment.
    Environment(String),
    /// As in the file that the model was read from.
    Origin(bool),
}

impl KeyChoice {
    /// Where the key comes from when it is to be fetched.
    pub(crate) fn secret(&self) -> Option<Secret> {
        match self {
            Self::None(_) | Self::Generic(_) => None,
            Self::File(path) => Some(Secret::File(path.clone())),
            Self::Environment(name) => Some(Secret::Environment(name.clone())),
            Self::Origin(_) => Some(Secret::Origin(true)),
        }
    }
}

/// The page with the licence.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Licence {
    /// Taken as read; the page does not appear.
    Accept,
    /// Shown.
    Show,
}

/// `[machine]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Machine {
    /// Its name. `{serial}` stands for the machine's serial number and `{random:4}` for so many letters and digits;
    /// `{random}` alone lets setup choose. Columns of a site list may stand here too.
    #[serde(default, skip_serializing_if = "is_default")]
    pub name: String,
    /// DNS domain.
    #[serde(default, skip_serializing_if = "is_default")]
    pub domain: String,
    /// Whom it belongs to.
    #[serde(default, skip_serializing_if = "is_default")]
    pub owner: String,
    /// Their organisation.
    #[serde(default, skip_serializing_if = "is_default")]
    pub organisation: String,
}

/// `[distribution]`: where a distribution's packages come from, and what of them goes in without being named.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Distribution {
    /// Address of the mirror, such as `http://mirror.example/debian`.
    #[serde(default, skip_serializing_if = "is_default")]
    pub mirror: String,
    /// The kernel's package, such as `linux-image-amd64`.
    #[serde(default, skip_serializing_if = "is_default")]
    pub kernel: String,
    /// Options of the installed kernel, with blanks between them.
    #[serde(default, skip_serializing_if = "is_default")]
    pub kernel_options: String,
    /// Whether packages that others recommend go in, too.
    #[serde(default, skip_serializing_if = "is_default")]
    pub recommends: Option<bool>,
    /// Whether setup looks for firmware that devices ask for.
    #[serde(default, skip_serializing_if = "is_default")]
    pub firmware: Option<bool>,
}

/// `[network]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Network {
    /// `false`: setup goes on without one.
    #[serde(default, skip_serializing_if = "is_default")]
    pub needed: Option<bool>,
    /// What kind of place the machine is at.
    #[serde(default, skip_serializing_if = "is_default")]
    pub place: Option<Place>,
    /// The interface that setup uses, such as `enp1s0`; `auto` is the first one with a link.
    #[serde(default, skip_serializing_if = "is_default")]
    pub interface: String,
    /// A wireless network that it joins.
    #[serde(default, skip_serializing_if = "is_default")]
    pub wireless: Option<Wireless>,
    /// Addresses that do not come from the network.
    #[serde(default, rename = "static", skip_serializing_if = "is_default")]
    pub fixed: Option<StaticAddress>,
}

/// What kind of place a machine is at.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Place {
    /// At home.
    Home,
    /// At work.
    Work,
    /// Where anybody is.
    Public,
}

/// A wireless network.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Wireless {
    /// Its name (SSID).
    pub name: String,
    /// Its password; without it the network is open.
    #[serde(default, skip_serializing_if = "is_default")]
    pub password: Option<Secret>,
    /// Whether it does not say its name.
    #[serde(default, skip_serializing_if = "is_default")]
    pub hidden: bool,
}

/// Addresses that do not come from the network.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StaticAddress {
    /// The interface, such as `Ethernet` or `enp1s0`.
    pub interface: String,
    /// Address and length of the prefix, such as `192.0.2.5/24`.
    pub address: String,
    /// The router.
    #[serde(default, skip_serializing_if = "is_default")]
    pub gateway: String,
    /// Name servers.
    #[serde(default, skip_serializing_if = "is_default")]
    pub name_servers: Vec<String>,
}

/// `[first_start]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct FirstStart {
    /// Pages that do not appear.
    #[serde(default, skip_serializing_if = "is_default")]
    pub skip: Vec<Page>,
    /// Whether accounts of this machine do, without one of a vendor's on the network.
    #[serde(default, skip_serializing_if = "is_default")]
    pub offline_account: bool,
    /// The answer to questions about reports and the like.
    #[serde(default, skip_serializing_if = "is_default")]
    pub privacy: Option<Privacy>,
}

/// A page of the first start.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Page {
    /// The maker's registration.
    Registration,
    /// Choosing a wireless network.
    Wireless,
    /// Making a first account of this machine.
    LocalAccount,
}

/// The answer to questions about reports.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Privacy {
    /// No to everything.
    Decline,
    /// As the vendor recommends.
    Accept,
}

/// A check of the hardware that setup can leave out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Requirement {
    /// The chip that keeps keys.
    SecurityChip,
    /// Firmware that starts only signed programs.
    SecureStart,
    /// How much memory.
    Memory,
    /// Which processor.
    Processor,
    /// How large the disk is.
    DiskSize,
}

/// `[display]`: what the screen is switched to. Without it the system chooses.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Display {
    /// Pixels from left to right.
    #[serde(default, skip_serializing_if = "is_default")]
    pub width: Option<u32>,
    /// Pixels from top to bottom.
    #[serde(default, skip_serializing_if = "is_default")]
    pub height: Option<u32>,
    /// Bits for the colour of a pixel.
    #[serde(default, skip_serializing_if = "is_default")]
    pub bits: Option<u32>,
    /// Pictures in a second.
    #[serde(default, skip_serializing_if = "is_default")]
    pub refresh: Option<u32>,
}

/// `[remote]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Remote {
    /// Whether people may work on it from afar: its desktop, or a shell where there is none.
    #[serde(default, skip_serializing_if = "is_default")]
    pub allow: bool,
}

/// `[power]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Power {
    /// Minutes until it sleeps, on mains; 0 is never.
    #[serde(default, skip_serializing_if = "is_default")]
    pub sleep_minutes: Option<u32>,
    /// Minutes until the screen goes dark, on mains; 0 is never.
    #[serde(default, skip_serializing_if = "is_default")]
    pub screen_minutes: Option<u32>,
    /// Whether it may write its memory to the disk and switch off.
    #[serde(default, skip_serializing_if = "is_default")]
    pub hibernation: Option<bool>,
    /// What it does when the system is installed.
    #[serde(default, skip_serializing_if = "is_default")]
    pub when_done: Option<WhenDone>,
    /// Whether the disc stays in its drive when the system is installed.
    #[serde(default, skip_serializing_if = "is_default")]
    pub leave_disc: Option<bool>,
}

/// What a machine does when its system is installed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WhenDone {
    /// It starts again.
    Restart,
    /// It switches off.
    Off,
}

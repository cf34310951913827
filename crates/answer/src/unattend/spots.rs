//! Single values: where each stands in the file, and what the neutral form says there.
//!
//! Names of components, settings and passes are those of the documented answer-file schema.

use crate::{
    model::{EditionChoice, KeyChoice, Licence, Model, Page, Place, Privacy},
    tables,
};

/// A place in the file: pass, component, elements from there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) struct Spot {
    pub pass: &'static str,
    pub component: &'static str,
    pub path: &'static [&'static str],
}

const fn spot(pass: &'static str, component: &'static str, path: &'static [&'static str]) -> Spot {
    Spot { pass, component, path }
}

pub(super) const SETUP: &str = "Microsoft-Windows-Setup";
pub(super) const SHELL: &str = "Microsoft-Windows-Shell-Setup";
pub(super) const DEPLOYMENT: &str = "Microsoft-Windows-Deployment";
pub(super) const INTERNATIONAL_SETUP: &str = "Microsoft-Windows-International-Core-WinPE";
const INTERNATIONAL: &str = "Microsoft-Windows-International-Core";
const TERMINAL: &str = "Microsoft-Windows-TerminalServices-LocalSessionManager";
const DNS: &str = "Microsoft-Windows-DNS-Client";

pub(super) const PE: &str = "windowsPE";
pub(super) const SPECIALIZE: &str = "specialize";
pub(super) const OOBE: &str = "oobeSystem";

/// A single value of the file.
#[derive(Clone, Copy)]
pub(super) struct Single {
    /// Field of the neutral form that it belongs to.
    pub field: &'static str,
    /// Where it is written, and where else it may stand.
    pub spots: &'static [Spot],
    /// What the model says; none leaves it out. Secrets are passed in.
    pub say: fn(&Said<'_>) -> Option<String>,
    /// Takes a value into the model; whether it was understood.
    pub take: fn(&mut Model, &str) -> bool,
}

/// What is said: the model, with secrets fetched.
pub(super) struct Said<'a> {
    pub model: &'a Model,
    pub key: Option<&'a str>,
}

fn some(text: &str) -> Option<String> {
    (!text.is_empty()).then(|| text.to_owned())
}

fn truth(value: bool) -> Option<String> {
    value.then(|| "true".to_owned())
}

/// Whether a boolean of the file is true, and whether it is one.
pub(super) fn is_true(text: &str) -> bool {
    text.eq_ignore_ascii_case("true") || text == "1"
}

fn set(into: &mut String, value: &str) -> bool {
    if into.is_empty() {
        value.clone_into(into);
    }
    true
}

fn number(value: Option<u32>) -> Option<String> {
    value.map(|own| own.to_string())
}

fn take_number(into: &mut Option<u32>, value: &str) -> bool {
    let parsed = value.parse().ok();
    *into = into.or(parsed);
    parsed.is_some()
}

fn keyboards(said: &Said<'_>) -> Option<String> {
    let pairs: Vec<String> =
        said.model.language.keyboards.iter().filter_map(|keyboard| tables::layout_pair(keyboard)).collect();
    some(&pairs.join(";"))
}

fn take_keyboards(model: &mut Model, value: &str) -> bool {
    if model.language.keyboards.is_empty() {
        let own = value.split(';').map(str::trim).filter(|part| !part.is_empty());
        model.language.keyboards = own.map(str::to_owned).collect();
    }
    true
}

fn interface<'a>(said: &Said<'a>) -> &'a str {
    let language = &said.model.language;
    if language.interface.is_empty() { &language.setup } else { &language.interface }
}

fn page(said: &Said<'_>, page: Page) -> Option<String> {
    truth(said.model.first_start.skip.contains(&page))
}

fn take_page(model: &mut Model, value: &str, page: Page) -> bool {
    if is_true(value) && !model.first_start.skip.contains(&page) {
        model.first_start.skip.push(page);
    }
    is_true(value)
}

const fn international(path: &'static [&'static str]) -> [Spot; 4] {
    [
        spot(OOBE, INTERNATIONAL, path),
        spot(SPECIALIZE, INTERNATIONAL, path),
        spot("generalize", INTERNATIONAL, path),
        spot("auditSystem", INTERNATIONAL, path),
    ]
}

macro_rules! single {
    ($field:literal, [$($spot:expr),+ $(,)?], $say:expr, $take:expr) => {
        Single { field: $field, spots: &[$($spot),+], say: $say, take: $take }
    };
    ($field:literal, in $spots:expr, $say:expr, $take:expr) => {
        Single { field: $field, spots: &$spots, say: $say, take: $take }
    };
}

/// All single values, in the order in which they are written and read. Of values that say the same, the first that is
/// there is taken.
pub(super) const SINGLES: &[Single] = &[
    // Setup itself.
    single!(
        "language.setup",
        [spot(PE, INTERNATIONAL_SETUP, &["SetupUILanguage", "UILanguage"])],
        |said| some(&said.model.language.setup),
        |model, value| set(&mut model.language.setup, value)
    ),
    single!("language.keyboards", in international(&["InputLocale"]), keyboards, take_keyboards),
    single!(
        "language.keyboards",
        [spot(PE, INTERNATIONAL_SETUP, &["InputLocale"])],
        keyboards,
        take_keyboards
    ),
    single!("language.system", in international(&["SystemLocale"]),
        |said| some(&said.model.language.system),
        |model, value| set(&mut model.language.system, value)),
    single!(
        "language.system",
        [spot(PE, INTERNATIONAL_SETUP, &["SystemLocale"])],
        |said| some(&said.model.language.system),
        |model, value| set(&mut model.language.system, value)
    ),
    single!("language.interface", in international(&["UILanguage"]),
        |said| some(interface(said)),
        |model, value| set(&mut model.language.interface, value)),
    single!(
        "language.interface",
        [spot(PE, INTERNATIONAL_SETUP, &["UILanguage"])],
        |said| some(interface(said)),
        |model, value| set(&mut model.language.interface, value)
    ),
    single!("language.user", in international(&["UserLocale"]),
        |said| some(&said.model.language.user),
        |model, value| set(&mut model.language.user, value)),
    single!(
        "language.user",
        [spot(PE, INTERNATIONAL_SETUP, &["UserLocale"])],
        |said| some(&said.model.language.user),
        |model, value| set(&mut model.language.user, value)
    ),
    // The system and its key.
    single!(
        "system.edition",
        [spot(PE, SETUP, &["ImageInstall", "OSImage", "InstallFrom", "MetaData", "Key"])],
        |said| match &said.model.system.edition {
            Some(EditionChoice::Name(name)) if name == "ask" => None,
            Some(EditionChoice::Name(_)) => Some("/IMAGE/NAME".into()),
            Some(EditionChoice::Number(_)) => Some("/IMAGE/INDEX".into()),
            None => None,
        },
        |model, value| {
            let value = value.to_ascii_uppercase();
            model.system.edition = match value.as_str() {
                "/IMAGE/NAME" => Some(EditionChoice::Name(String::new())),
                "/IMAGE/INDEX" => Some(EditionChoice::Number(0)),
                _ => return false,
            };
            true
        }
    ),
    single!(
        "system.edition",
        [spot(PE, SETUP, &["ImageInstall", "OSImage", "InstallFrom", "MetaData", "Value"])],
        |said| match &said.model.system.edition {
            Some(EditionChoice::Name(name)) if name == "ask" => None,
            Some(EditionChoice::Name(name)) => Some(name.clone()),
            Some(EditionChoice::Number(number)) => Some(number.to_string()),
            None => None,
        },
        |model, value| {
            match &mut model.system.edition {
                Some(EditionChoice::Name(name)) => value.clone_into(name),
                Some(EditionChoice::Number(number)) => {
                    if let Ok(parsed) = value.parse() {
                        *number = parsed;
                    } else {
                        model.system.edition = None;
                        return false;
                    }
                }
                None => return false,
            }
            true
        }
    ),
    single!(
        "system.key",
        [spot(PE, SETUP, &["UserData", "ProductKey", "Key"]), spot(SPECIALIZE, SHELL, &["ProductKey"]),],
        |said| match &said.model.system.key {
            Some(KeyChoice::None(_)) => Some(String::new()),
            Some(KeyChoice::Generic(key)) => Some(key.clone()),
            Some(_) => said.key.map(str::to_owned),
            None => None,
        },
        |model, value| {
            if model.system.key.is_none() {
                model.system.key =
                    Some(if value.is_empty() { KeyChoice::None(true) } else { KeyChoice::Origin(true) });
            }
            true
        }
    ),
    single!(
        "system.key",
        [spot(PE, SETUP, &["UserData", "ProductKey", "WillShowUI"])],
        |said| match &said.model.system.key {
            Some(KeyChoice::None(_)) => Some("Never".into()),
            Some(_) => Some("OnError".into()),
            None => None,
        },
        |model, value| model.system.key.is_some() && matches!(value, "Never" | "OnError")
    ),
    single!(
        "system.licence",
        [spot(PE, SETUP, &["UserData", "AcceptEula"])],
        |said| said.model.system.licence.map(|licence| (licence == Licence::Accept).to_string()),
        |model, value| {
            model.system.licence = Some(if is_true(value) { Licence::Accept } else { Licence::Show });
            true
        }
    ),
    single!(
        "system.licence",
        [spot(OOBE, SHELL, &["OOBE", "HideEULAPage"])],
        |said| truth(said.model.system.licence == Some(Licence::Accept)),
        |model, value| {
            if model.system.licence.is_none() && is_true(value) {
                model.system.licence = Some(Licence::Accept);
            }
            is_true(value)
        }
    ),
    single!(
        "software.configuration_set",
        [spot(PE, SETUP, &["UseConfigurationSet"])],
        |said| truth(said.model.software.configuration_set),
        |model, value| {
            model.software.configuration_set = is_true(value);
            is_true(value)
        }
    ),
    // The machine.
    single!(
        "machine.owner",
        [spot(PE, SETUP, &["UserData", "FullName"])],
        |said| some(&said.model.machine.owner),
        |model, value| set(&mut model.machine.owner, value)
    ),
    single!(
        "machine.owner",
        [spot(SPECIALIZE, SHELL, &["RegisteredOwner"]), spot(OOBE, SHELL, &["RegisteredOwner"])],
        |said| some(&said.model.machine.owner),
        |model, value| set(&mut model.machine.owner, value)
    ),
    single!(
        "machine.organisation",
        [spot(PE, SETUP, &["UserData", "Organization"])],
        |said| some(&said.model.machine.organisation),
        |model, value| set(&mut model.machine.organisation, value)
    ),
    single!(
        "machine.organisation",
        [
            spot(SPECIALIZE, SHELL, &["RegisteredOrganization"]),
            spot(OOBE, SHELL, &["RegisteredOrganization"]),
        ],
        |said| some(&said.model.machine.organisation),
        |model, value| set(&mut model.machine.organisation, value)
    ),
    single!(
        "machine.name",
        [spot(SPECIALIZE, SHELL, &["ComputerName"])],
        |said| match said.model.machine.name.as_str() {
            "" => None,
            name if name.contains('{') => Some("*".into()),
            name => Some(name.to_owned()),
        },
        |model, value| set(&mut model.machine.name, if value == "*" { "{random}" } else { value })
    ),
    single!(
        "machine.domain",
        [spot(SPECIALIZE, DNS, &["DNSDomain"])],
        |said| some(&said.model.machine.domain),
        |model, value| set(&mut model.machine.domain, value)
    ),
    single!(
        "language.time_zone",
        [
            spot(SPECIALIZE, SHELL, &["TimeZone"]),
            spot(OOBE, SHELL, &["TimeZone"]),
            spot("auditSystem", SHELL, &["TimeZone"]),
        ],
        |said| tables::zone_name(&said.model.language.time_zone).map(str::to_owned),
        |model, value| match tables::zone_of_name(value) {
            Some(zone) => set(&mut model.language.time_zone, zone),
            None => false,
        }
    ),
    single!(
        "display.bits",
        [spot(OOBE, SHELL, &["Display", "ColorDepth"]), spot(SPECIALIZE, SHELL, &["Display", "ColorDepth"])],
        |said| number(said.model.display.bits),
        |model, value| take_number(&mut model.display.bits, value)
    ),
    single!(
        "display.width",
        [
            spot(OOBE, SHELL, &["Display", "HorizontalResolution"]),
            spot(SPECIALIZE, SHELL, &["Display", "HorizontalResolution"]),
        ],
        |said| number(said.model.display.width),
        |model, value| take_number(&mut model.display.width, value)
    ),
    single!(
        "display.refresh",
        [
            spot(OOBE, SHELL, &["Display", "RefreshRate"]),
            spot(SPECIALIZE, SHELL, &["Display", "RefreshRate"])
        ],
        |said| number(said.model.display.refresh),
        |model, value| take_number(&mut model.display.refresh, value)
    ),
    single!(
        "display.height",
        [
            spot(OOBE, SHELL, &["Display", "VerticalResolution"]),
            spot(SPECIALIZE, SHELL, &["Display", "VerticalResolution"]),
        ],
        |said| number(said.model.display.height),
        |model, value| take_number(&mut model.display.height, value)
    ),
    single!(
        "remote.allow",
        [spot(SPECIALIZE, TERMINAL, &["fDenyTSConnections"])],
        |said| said.model.remote.allow.then(|| "false".to_owned()),
        |model, value| {
            model.remote.allow = value.eq_ignore_ascii_case("false") || value == "0";
            model.remote.allow
        }
    ),
    // The first start.
    single!(
        "first_start.skip",
        [spot(OOBE, SHELL, &["OOBE", "HideLocalAccountScreen"])],
        |said| page(said, Page::LocalAccount),
        |model, value| take_page(model, value, Page::LocalAccount)
    ),
    single!(
        "first_start.skip",
        [spot(OOBE, SHELL, &["OOBE", "HideOEMRegistrationScreen"])],
        |said| page(said, Page::Registration),
        |model, value| take_page(model, value, Page::Registration)
    ),
    single!(
        "first_start.offline_account",
        [spot(OOBE, SHELL, &["OOBE", "HideOnlineAccountScreens"])],
        |said| truth(said.model.first_start.offline_account),
        |model, value| {
            model.first_start.offline_account = is_true(value);
            is_true(value)
        }
    ),
    single!(
        "first_start.skip",
        [spot(OOBE, SHELL, &["OOBE", "HideWirelessSetupInOOBE"])],
        |said| page(said, Page::Wireless),
        |model, value| take_page(model, value, Page::Wireless)
    ),
    single!(
        "network.place",
        [spot(OOBE, SHELL, &["OOBE", "NetworkLocation"])],
        |said| said.model.network.place.map(|place| match place {
            Place::Home => "Home".into(),
            Place::Work => "Work".into(),
            Place::Public => "Other".into(),
        }),
        |model, value| {
            model.network.place = match value.to_ascii_lowercase().as_str() {
                "home" => Some(Place::Home),
                "work" => Some(Place::Work),
                "other" => Some(Place::Public),
                _ => None,
            };
            model.network.place.is_some()
        }
    ),
    single!(
        "first_start.privacy",
        [spot(OOBE, SHELL, &["OOBE", "ProtectYourPC"])],
        |said| said.model.first_start.privacy.map(|privacy| match privacy {
            Privacy::Accept => "1".into(),
            Privacy::Decline => "3".into(),
        }),
        |model, value| {
            model.first_start.privacy = match value {
                "1" => Some(Privacy::Accept),
                "3" => Some(Privacy::Decline),
                _ => None,
            };
            model.first_start.privacy.is_some()
        }
    ),
];

//! The neutral form as sections and keys, in the order in which people write them.

use super::{
    document::{Document, Entry, Form, Said},
    installed, zones,
};
use crate::{
    command_line::registry,
    model::{
        ADMINISTRATOR_PASSWORD, KeyChoice, Language, Licence, Model, PartitionKind, SecretValue, Stage,
        StaticAddress, Vault,
    },
    tables,
};

/// Name of the adapter where the model has none.
pub(super) const ADAPTER: &str = "Adapter1";
/// What a driver's folder begins with: the root of the system's drive.
pub(super) const DRIVE: &str = "%SystemDrive%\\";

/// A list that grows.
#[derive(Default)]
struct Saying {
    all: Vec<Said>,
}

impl Saying {
    fn word(&mut self, section: &str, key: &str, value: &str) {
        self.push(section, key, value, Form::Word);
    }

    fn text(&mut self, section: &str, key: &str, value: &str) {
        self.push(section, key, value, Form::Text);
    }

    fn push(&mut self, section: &str, key: &str, value: &str, form: Form) {
        let (section, key, value) = (section.to_owned(), key.to_owned(), value.to_owned());
        self.all.push(Said { section, key, value, form });
    }
}

/// What a new file says besides: from a disc setup reads it only so, and shows no pages that nobody asked for.
pub(super) fn frame() -> Vec<Said> {
    let mut own = Saying::default();
    own.text("Data", "MsDosInitiated", "0");
    own.text("Data", "UnattendedInstall", "Yes");
    own.word("Unattended", "TargetPath", "*");
    own.word("GuiUnattended", "OEMSkipRegional", "1");
    own.word("GuiUnattended", "OemSkipWelcome", "1");
    own.all
}

/// What the model says.
pub(super) fn said(model: &Model, secrets: &Vault) -> Vec<Said> {
    let mut own = Saying::default();
    let is_laid_out = !model.disk.is_empty();
    own.text("Data", "AutoPartition", if is_laid_out { "1" } else { "0" });
    let mode = if is_laid_out { "FullUnattended" } else { "DefaultHide" };
    own.word("Unattended", "UnattendMode", mode);
    if let Some(licence) = model.system.licence {
        own.word("Unattended", "OemSkipEula", if licence == Licence::Accept { "Yes" } else { "No" });
    }
    if installed::has_side_files(model, secrets) || !model.software.drivers.is_empty() {
        own.word("Unattended", "OemPreinstall", "Yes");
    }
    let folder = model.system.folder.trim_matches('\\');
    if !folder.is_empty() {
        own.word("Unattended", "TargetPath", &format!("\\{folder}"));
    }
    if let Some(disk) = model.disk.first() {
        own.word("Unattended", "Repartition", if disk.wipe { "Yes" } else { "No" });
        let is_made = disk.partition.iter().any(|own| own.kind == PartitionKind::System);
        own.word("Unattended", "FileSystem", if is_made { "ConvertNTFS" } else { "LeaveAlone" });
    }
    let drivers: Vec<&str> = model.software.drivers.iter().filter_map(|own| driver_folder(own)).collect();
    if !drivers.is_empty() {
        own.text("Unattended", "OemPnPDriversPath", &drivers.join(";"));
    }
    if let Some(on) = model.power.hibernation {
        own.word("Unattended", "Hibernation", if on { "Yes" } else { "No" });
    }
    people(model, secrets, &mut own);
    if let Some(number) = zones::number(&model.language.time_zone) {
        own.word("GuiUnattended", "TimeZone", &number.to_string());
    }
    if let Some((_, program, arguments)) = installed::detached(model) {
        own.text("GuiUnattended", "DetachedProgram", &program);
        if !arguments.is_empty() {
            own.text("GuiUnattended", "Arguments", &arguments);
        }
    }
    regional(model, &mut own);
    for (key, value) in [
        ("BitsPerPel", model.display.bits),
        ("Xresolution", model.display.width),
        ("Yresolution", model.display.height),
        ("Vrefresh", model.display.refresh),
    ] {
        if let Some(value) = value {
            own.word("Display", key, &value.to_string());
        }
    }
    network(model, &mut own);
    if model.remote.allow {
        own.word("TerminalServices", "AllowConnections", "1");
    }
    for name in &model.software.add {
        own.word("Components", name, "On");
    }
    for name in &model.software.remove {
        own.word("Components", name, "Off");
    }
    for (number, run) in first_sign_in(model).iter().enumerate() {
        own.text("GuiRunOnce", &format!("Command{number}"), run);
    }
    own.all.extend(installed::said(model, secrets));
    for lines in model.own.iter().filter(|own| own.dialect == crate::Dialect::Sif) {
        own.all.extend(own_lines(&lines.text));
    }
    own.all
}

/// Lines of the model in this dialect's own words.
fn own_lines(text: &str) -> Vec<Said> {
    let Ok(document) = Document::parse(text) else { return Vec::new() };
    let said = |own: &Entry| Said {
        section: own.section.clone(),
        key: own.key.clone(),
        value: own.raw.clone(),
        form: Form::Raw,
    };
    document.entries.iter().filter(|own| !own.key.is_empty()).map(said).collect()
}

/// The folder of drivers below the root of the system's drive; nothing for one that is elsewhere.
pub(super) fn driver_folder(path: &str) -> Option<&str> {
    let front = path.get(..DRIVE.len()).filter(|front| front.eq_ignore_ascii_case(DRIVE))?;
    let rest = path[front.len()..].trim_matches('\\');
    (!rest.is_empty() && !rest.contains(';')).then_some(rest)
}

/// Lines that are run when somebody signs in first.
fn first_sign_in(model: &Model) -> Vec<String> {
    let values = model.registry.iter().filter(|own| registry::is_of_user(own));
    let set = values.map(|own| {
        let kind =
            registry::KINDS.iter().find(|(name, _)| *name == own.kind).map_or("REG_SZ", |(_, own)| own);
        registry::add(&own.key, &own.name, kind, &own.value)
    });
    let commands = model.commands(Stage::FirstSignIn).map(|own| own.run.clone());
    let scripts = model.script.iter().filter(|own| own.stage == Stage::FirstSignIn);
    let scripts =
        scripts.filter(|own| installed::is_runnable(&own.name)).map(|own| installed::run_script(&own.name));
    set.chain(commands).chain(scripts).collect()
}

fn people(model: &Model, secrets: &Vault, own: &mut Saying) {
    let password = secrets.get(ADMINISTRATOR_PASSWORD).filter(|_| model.administrator.password.is_some());
    if let Some(password) = password.and_then(SecretValue::plain) {
        own.text("GuiUnattended", "AdminPassword", password);
        own.word("GuiUnattended", "EncryptedAdminPassword", "No");
    }
    let name = match model.machine.name.as_str() {
        "{random}" => "*",
        name if name.contains('{') => "",
        name => name,
    };
    for (key, value) in [
        ("FullName", model.machine.owner.as_str()),
        ("OrgName", &model.machine.organisation),
        ("ComputerName", name),
    ] {
        if !value.is_empty() {
            own.text("UserData", key, value);
        }
    }
    let key = match &model.system.key {
        Some(KeyChoice::Generic(key)) => Some(key.as_str()),
        Some(KeyChoice::None(_)) | None => None,
        Some(_) => secrets.get("system.key").and_then(SecretValue::plain),
    };
    if let Some(key) = key {
        own.text("UserData", "ProductKey", key);
    }
}

/// What is said of language: setup itself speaks the media's.
pub(super) fn spoken(model: &Model) -> (&str, &str) {
    let language = &model.language;
    (first(&language.system, language), first(&language.user, language))
}

/// A language that is said, or else what the model says of the whole system.
fn first<'a>(own: &'a str, language: &'a Language) -> &'a str {
    [own, &language.interface, &language.setup].into_iter().find(|tag| !tag.is_empty()).unwrap_or_default()
}

fn regional(model: &Model, own: &mut Saying) {
    let (system, user) = spoken(model);
    let mut groups: Vec<u8> =
        [system, user].iter().filter(|own| !own.is_empty()).map(|own| zones::group(own)).collect();
    groups.sort_unstable();
    groups.dedup();
    if !groups.is_empty() {
        let list: Vec<String> = groups.iter().map(u8::to_string).collect();
        own.word("RegionalSettings", "LanguageGroup", &list.join(","));
    }
    for (key, tag) in [("SystemLocale", system), ("UserLocale", user)] {
        if let Some(id) = tables::id_of_language(tag) {
            own.word("RegionalSettings", key, &format!("{id:08x}"));
        }
    }
    let pairs: Vec<String> =
        model.language.keyboards.iter().filter_map(|own| tables::exact_pair(own)).collect();
    if !pairs.is_empty() {
        own.word("RegionalSettings", "InputLocale", &pairs.join(","));
    }
}

fn network(model: &Model, own: &mut Saying) {
    let fixed = model.network.fixed.as_ref();
    let domain = model.machine.domain.as_str();
    if fixed.is_none() && domain.is_empty() {
        own.word("Networking", "InstallDefaultComponents", "Yes");
        return;
    }
    own.word("Networking", "InstallDefaultComponents", "No");
    let adapter = fixed.map_or(ADAPTER, |own| own.interface.as_str());
    let adapter = if is_identifier(adapter) { adapter } else { ADAPTER };
    own.word("NetAdapters", adapter, &format!("params.{adapter}"));
    own.word(&format!("params.{adapter}"), "INFID", "*");
    own.word("NetClients", "MS_MSClient", "params.MS_MSClient");
    own.word("NetServices", "MS_SERVER", "params.MS_SERVER");
    own.word("NetProtocols", "MS_TCPIP", "params.MS_TCPIP");
    let section = format!("params.MS_TCPIP.{adapter}");
    own.word("params.MS_TCPIP", "AdapterSections", &section);
    own.word(&section, "SpecificTo", adapter);
    own.word(&section, "DHCP", if fixed.is_some() { "No" } else { "Yes" });
    if let Some(fixed) = fixed {
        addresses(fixed, &section, own);
    }
    if !domain.is_empty() {
        own.word(&section, "DNSDomain", domain);
    }
}

fn addresses(fixed: &StaticAddress, section: &str, own: &mut Saying) {
    let (address, prefix) = fixed.address.split_once('/').unwrap_or((&fixed.address, "24"));
    own.word(section, "IPAddress", address);
    own.word(section, "SubnetMask", &crate::netmask(prefix));
    if !fixed.gateway.is_empty() {
        own.word(section, "DefaultGateway", &fixed.gateway);
    }
    if !fixed.name_servers.is_empty() {
        own.word(section, "DNSServerSearchOrder", &fixed.name_servers.join(","));
    }
}

/// Whether a name can be that of an adapter in these files, which is any that has no signs.
pub(super) fn is_identifier(name: &str) -> bool {
    !name.is_empty() && name.bytes().all(|c| c.is_ascii_alphanumeric() || matches!(c, b'_' | b'-'))
}

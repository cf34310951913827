//! Sections and keys as the neutral form.

use super::{
    document::{Document, Entry},
    installed,
    say::{self, DRIVE},
    zones,
};
use crate::{
    Finding, Topic,
    command_line::registry,
    face::Reading,
    model::{
        ADMINISTRATOR_PASSWORD, Command, Disk, Erases, KeyChoice, Licence, Model, Partition, PartitionKind,
        Secret, SecretValue, Size, Stage, StaticAddress, Vault,
    },
    tables,
};

pub(super) fn read(text: &str, document: &Document<'_>) -> Reading {
    let mut reading = Reading::default();
    let Reading { model, vault, findings } = &mut reading;
    if text.contains(crate::ERASES_MARK) {
        model.erases = Erases::Yes;
    }
    system(document, model, vault);
    disk(document, model);
    language(document, model);
    network(document, model);
    for own in document.section("Components") {
        match own.value.to_ascii_lowercase().as_str() {
            "on" => model.software.add.push(own.key.clone()),
            "off" => model.software.remove.push(own.key.clone()),
            _ => {}
        }
    }
    installed::read(document, model, vault);
    if let Some(program) = document.value("GuiUnattended", "DetachedProgram") {
        let arguments = document.value("GuiUnattended", "Arguments").unwrap_or_default();
        let run = installed::together(program, arguments);
        let own = Command { wait: false, ..Command::new(Stage::SystemInstalled, run) };
        let first = model.command.iter().position(|own| !own.wait).unwrap_or(model.command.len());
        model.command.insert(first, own);
    }
    for own in document.section("GuiRunOnce") {
        if let Some(value) = registry::value_of(&own.value).filter(registry::is_of_user) {
            model.registry.push(value);
        } else if let Some(name) = installed::script_of(&own.value) {
            model.script.push(installed::media_script(name, Stage::FirstSignIn));
        } else {
            model.command.push(Command::new(Stage::FirstSignIn, own.value.clone()));
        }
    }
    // What the neutral form says again, word for word, is understood.
    let said = say::said(model, vault);
    let frame = say::frame();
    let places: std::collections::HashSet<_> =
        said.iter().chain(&frame).map(super::document::Said::place).collect();
    for own in &document.entries {
        let place = (own.section.to_ascii_lowercase(), own.key.to_ascii_lowercase());
        if !places.contains(&place) && !is_understood(own) {
            let what = if own.key.is_empty() { own.value.clone() } else { own.key.clone() };
            let message = "is not in the neutral form, and is kept as it is";
            let field = format!("[{}] {what}", own.section);
            findings.push(Finding::told(Topic::Kept, field, message).at(own.number + 1));
        } else if let Some(message) = said_otherwise(own) {
            findings.push(
                Finding::told(Topic::Kept, format!("[{}] {}", own.section, own.key), message)
                    .at(own.number + 1),
            );
        }
    }
    reading
}

/// What is read without being said again in the same place.
fn is_understood(own: &Entry) -> bool {
    let is = |section: &str, keys: &[&str]| {
        own.section.eq_ignore_ascii_case(section) && keys.iter().any(|key| own.key.eq_ignore_ascii_case(key))
    };
    is("UserData", &["ProductID"])
        || is("RegionalSettings", &["Language"])
        || own.section.eq_ignore_ascii_case("GuiRunOnce")
        || own.section.eq_ignore_ascii_case(installed::SECTION)
}

/// What is said of a key whose value has no place in the neutral form.
fn said_otherwise(own: &Entry) -> Option<&'static str> {
    let is_usual = ["FullUnattended", "DefaultHide"].iter().any(|mode| own.value.eq_ignore_ascii_case(mode));
    (own.key.eq_ignore_ascii_case("UnattendMode") && !is_usual)
        .then_some("says how much is asked, and is kept as it is")
}

fn text(document: &Document<'_>, section: &str, key: &str) -> String {
    document.value(section, key).unwrap_or_default().to_owned()
}

fn number(document: &Document<'_>, section: &str, key: &str) -> Option<u32> {
    document.value(section, key)?.parse().ok()
}

fn system(document: &Document<'_>, model: &mut Model, vault: &mut Vault) {
    if let Some(value) = document.value("Unattended", "OemSkipEula") {
        let is_taken = document.is_yes("Unattended", "OemSkipEula");
        let is_one = is_taken || value.eq_ignore_ascii_case("no");
        model.system.licence = is_one.then_some(if is_taken { Licence::Accept } else { Licence::Show });
    }
    let folder = text(document, "Unattended", "TargetPath");
    if folder != "*" {
        folder.trim_matches('\\').clone_into(&mut model.system.folder);
    }
    if document.value("Unattended", "Hibernation").is_some() {
        model.power.hibernation = Some(document.is_yes("Unattended", "Hibernation"));
    }
    let folders = text(document, "Unattended", "OemPnPDriversPath");
    let folders = folders.split(';').map(|own| own.trim().trim_matches('\\')).filter(|own| !own.is_empty());
    model.software.drivers = folders.map(|own| format!("{DRIVE}{own}")).collect();
    let password = document.value("GuiUnattended", "AdminPassword").filter(|own| *own != "*");
    let is_hash = document.is_yes("GuiUnattended", "EncryptedAdminPassword");
    // A password in the form of this generation's own fits no other, and stays where it is.
    if let Some(password) = password.filter(|_| !is_hash) {
        vault.insert(ADMINISTRATOR_PASSWORD.into(), SecretValue::Plain(password.to_owned()));
        model.administrator.password = Some(Secret::Origin(true));
    }
    model.machine.owner = text(document, "UserData", "FullName");
    model.machine.organisation = text(document, "UserData", "OrgName");
    model.machine.name = match document.value("UserData", "ComputerName") {
        Some("*") => "{random}".into(),
        own => own.unwrap_or_default().to_owned(),
    };
    let key = document.value("UserData", "ProductKey").or(document.value("UserData", "ProductID"));
    if let Some(key) = key {
        vault.insert("system.key".into(), SecretValue::Plain(key.to_owned()));
        model.system.key = Some(KeyChoice::Origin(true));
    }
    model.display.bits = number(document, "Display", "BitsPerPel");
    model.display.width = number(document, "Display", "Xresolution");
    model.display.height = number(document, "Display", "Yresolution");
    model.display.refresh = number(document, "Display", "Vrefresh");
    model.remote.allow = document.is_yes("TerminalServices", "AllowConnections");
}

fn disk(document: &Document<'_>, model: &mut Model) {
    let wipe = document.is_yes("Unattended", "Repartition");
    if !wipe && !document.is_yes("Data", "AutoPartition") {
        return;
    }
    let is_made = text(document, "Unattended", "FileSystem").eq_ignore_ascii_case("ConvertNTFS");
    let partition = is_made.then(|| Partition::new(PartitionKind::System, Size::Rest));
    model.disk.push(Disk { wipe, partition: partition.into_iter().collect(), ..Disk::default() });
}

fn language(document: &Document<'_>, model: &mut Model) {
    if let Some(zone) = number(document, "GuiUnattended", "TimeZone").and_then(zones::zone) {
        zone.clone_into(&mut model.language.time_zone);
    }
    let tag = |key: &str| {
        let value = document.value("RegionalSettings", key)?;
        let id = u32::from_str_radix(value, 16).ok()?;
        tables::language_of_id(u16::try_from(id).ok()?).map(str::to_owned)
    };
    // A language for everything: then nothing else of it counts.
    if let Some(tag) = tag("Language") {
        model.language.system.clone_from(&tag);
        model.language.user.clone_from(&tag);
        model.language.keyboards = vec![tag];
        return;
    }
    model.language.system = tag("SystemLocale").unwrap_or_default();
    model.language.user = tag("UserLocale").unwrap_or_default();
    let pairs = text(document, "RegionalSettings", "InputLocale");
    let pairs = pairs.split(',').map(|own| own.trim().trim_matches('"')).filter(|own| !own.is_empty());
    model.language.keyboards = pairs.map(tables::keyboard_of_pair).collect();
}

fn network(document: &Document<'_>, model: &mut Model) {
    let sections = text(document, "params.MS_TCPIP", "AdapterSections");
    let Some(section) = sections.split(',').map(str::trim).find(|own| !own.is_empty()) else { return };
    let get = |key: &str| text(document, section, key);
    model.machine.domain = get("DNSDomain");
    let address = get("IPAddress");
    let is_fixed = get("DHCP").eq_ignore_ascii_case("no") || get("DHCP") == "0";
    if !is_fixed || address.is_empty() {
        return;
    }
    let first = |list: &str| list.split(',').next().unwrap_or_default().trim().to_owned();
    let servers = get("DNSServerSearchOrder");
    model.network.fixed = Some(StaticAddress {
        interface: get("SpecificTo"),
        address: format!("{}/{}", first(&address), crate::prefix_len(&first(&get("SubnetMask")))),
        gateway: first(&get("DefaultGateway")),
        name_servers: servers
            .split(',')
            .map(|own| own.trim().to_owned())
            .filter(|own| !own.is_empty())
            .collect(),
    });
}

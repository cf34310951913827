//! Answers as the neutral form.

use super::{GO_ON, SSH, commands, disks, distribution, document::Document, keymaps};
use crate::{
    Finding, Topic,
    face::Reading,
    model::{
        Account, Erases, Model, Privacy, Secret, SecretValue, Stage, StaticAddress, Vault, WhenDone, Wireless,
    },
    shell::{self, Line},
    tables,
};

/// Questions that the neutral form has.
const UNDERSTOOD: [&str; 49] = [
    "debian-installer/locale",
    "debian-installer/language",
    "debian-installer/country",
    "keyboard-configuration/xkb-keymap",
    "keyboard-configuration/layoutcode",
    "keyboard-configuration/variantcode",
    "netcfg/choose_interface",
    "netcfg/disable_autoconfig",
    "netcfg/get_ipaddress",
    "netcfg/get_netmask",
    "netcfg/get_gateway",
    "netcfg/get_nameservers",
    "netcfg/confirm_static",
    "netcfg/wireless_essid",
    "netcfg/wireless_security_type",
    "netcfg/wireless_wpa",
    "netcfg/dhcp_failed",
    "netcfg/dhcp_options",
    "netcfg/get_hostname",
    "netcfg/hostname",
    "netcfg/hostname",
    "netcfg/get_domain",
    "clock-setup/utc",
    "time/zone",
    "passwd/root-login",
    "passwd/root-password",
    "passwd/root-password-again",
    "passwd/root-password-crypted",
    "passwd/make-user",
    "passwd/user-fullname",
    "passwd/username",
    "passwd/user-password",
    "passwd/user-password-again",
    "passwd/user-password-crypted",
    "passwd/user-default-groups",
    "partman/early_command",
    "partman-auto/disk",
    "partman-auto/method",
    "partman-auto/choose_recipe",
    "partman/confirm",
    "partman/confirm_nooverwrite",
    "partman-partitioning/confirm_write_new_label",
    "partman/choose_partition",
    "pkgsel/include",
    "popularity-contest/participate",
    "preseed/early_command",
    "preseed/late_command",
    "debian-installer/exit/poweroff",
    "finish-install/reboot_in_progress",
];

pub(super) fn read(document: &Document<'_>) -> Reading {
    let mut model = Model::default();
    let mut vault = Vault::new();
    let mut findings = Vec::new();
    if document.text.contains(crate::ERASES_MARK) {
        model.erases = Erases::Yes;
    }
    let value = |question: &str| document.value(question).filter(|value| !value.is_empty());
    if let Some(tag) = value("debian-installer/locale").and_then(tables::tag_of_posix) {
        model.language.setup = tag;
    } else if let Some(language) = value("debian-installer/language") {
        let country = value("debian-installer/country").map(|country| format!("-{country}"));
        model.language.setup = format!("{language}{}", country.unwrap_or_default());
    }
    let spoken = model.language.setup.clone();
    let keyboard = |xkb: &str| tables::keyboard_of_xkb(xkb, &spoken);
    if let Some(layouts) = value("keyboard-configuration/layoutcode") {
        let variants: Vec<&str> =
            value("keyboard-configuration/variantcode").unwrap_or_default().split(',').collect();
        let whole = |(index, layout): (usize, &str)| match variants.get(index) {
            Some(variant) if !variant.is_empty() => keyboard(&format!("{layout}({variant})")),
            _ => keyboard(layout),
        };
        model.language.keyboards = layouts.split(',').enumerate().map(whole).collect();
    } else if let Some(keymap) = value("keyboard-configuration/xkb-keymap").map(keymaps::layout) {
        model.language.keyboards = vec![keyboard(keymap)];
    }
    if let Some(zone) = value("time/zone") {
        zone.clone_into(&mut model.language.time_zone);
    }
    read_network(document, &mut model, &mut vault);
    read_people(document, &mut model, &mut vault);
    distribution::read(document, &mut model);
    disks::read(document, &mut model, &mut findings);
    if let Some(packages) = value("pkgsel/include") {
        let mut all: Vec<String> =
            packages.split([' ', ',']).filter(|own| !own.is_empty()).map(str::to_owned).collect();
        if let Some(at) = all.iter().position(|own| own == SSH) {
            all.remove(at);
            model.remote.allow = true;
        }
        model.software.add = all;
    }
    model.first_start.privacy = match value("popularity-contest/participate") {
        Some("false") => Some(Privacy::Decline),
        Some("true") => Some(Privacy::Accept),
        _ => None,
    };
    for (question, stage) in [
        ("partman/early_command", Stage::SetupStart),
        ("preseed/early_command", Stage::SetupStart),
        ("preseed/late_command", Stage::SystemInstalled),
    ] {
        for line in commands::split(value(question).unwrap_or_default()) {
            let line = commands::understand(&line);
            if question.starts_with("partman") && !matches!(line, Line::Guard(_)) {
                let entry = document.get(question);
                let note =
                    Finding::told(Topic::Kept, question, "is not in the neutral form, and is kept as it is");
                findings.push(entry.map_or(note.clone(), |entry| note.at(document.line(entry))));
                break;
            }
            line.into_model(stage, &mut model, &mut vault);
        }
    }
    for command in &mut model.command {
        // There is nothing else while setup starts.
        if command.stage == Stage::SetupStart {
            command.outside = false;
        }
    }
    if document.is_true("debian-installer/exit/poweroff") {
        model.power.when_done = Some(WhenDone::Off);
    } else if document.get("finish-install/reboot_in_progress").is_some() {
        model.power.when_done = Some(WhenDone::Restart);
    }
    for entry in &document.entries {
        let is_known = UNDERSTOOD.contains(&entry.question.as_str())
            || disks::QUESTIONS.contains(&entry.question.as_str())
            || distribution::QUESTIONS.contains(&entry.question.as_str());
        if !is_known && !entry.is_flag {
            let note = Finding::told(
                Topic::Kept,
                &entry.question,
                "is not in the neutral form, and is kept as it is",
            );
            findings.push(note.at(document.line(entry)));
        }
    }
    Reading { model, vault, findings }
}

fn read_network(document: &Document<'_>, model: &mut Model, vault: &mut Vault) {
    let value = |question: &str| document.value(question).filter(|value| !value.is_empty());
    let text = |question: &str| value(question).unwrap_or_default().to_owned();
    let name = value("netcfg/hostname").or(value("netcfg/get_hostname"));
    name.unwrap_or_default().clone_into(&mut model.machine.name);
    model.machine.domain = text("netcfg/get_domain");
    if let Some(address) = value("netcfg/get_ipaddress") {
        let prefix = crate::prefix_len(value("netcfg/get_netmask").unwrap_or("255.255.255.0"));
        let servers = value("netcfg/get_nameservers").unwrap_or_default();
        model.network.fixed = Some(StaticAddress {
            interface: text("netcfg/choose_interface"),
            address: format!("{address}/{prefix}"),
            gateway: text("netcfg/get_gateway"),
            name_servers: servers
                .split([' ', ','])
                .filter(|own| !own.is_empty())
                .map(str::to_owned)
                .collect(),
        });
    }
    if let Some(name) = value("netcfg/wireless_essid") {
        let password = value("netcfg/wireless_wpa");
        if let Some(password) = password {
            vault.insert("network.wireless.password".into(), SecretValue::Plain(password.to_owned()));
        }
        model.network.wireless = Some(Wireless {
            name: name.to_owned(),
            password: password.map(|_| Secret::Origin(true)),
            hidden: false,
        });
    }
    if value("netcfg/dhcp_options") == Some(GO_ON) {
        model.network.needed = Some(false);
    }
}

fn read_people(document: &Document<'_>, model: &mut Model, vault: &mut Vault) {
    let value = |question: &str| document.value(question).filter(|value| !value.is_empty());
    let secret = |front: &str| {
        let hash = value(&format!("{front}-password-crypted")).map(|hash| SecretValue::Hash(hash.to_owned()));
        hash.or_else(|| value(&format!("{front}-password")).map(|plain| SecretValue::Plain(plain.to_owned())))
    };
    model.administrator.enabled = value("passwd/root-login").map(|value| value == "true");
    if let Some(value) = secret("passwd/root") {
        vault.insert(crate::model::ADMINISTRATOR_PASSWORD.into(), value);
        model.administrator.password = Some(Secret::Origin(true));
    }
    let Some(name) = value("passwd/username") else { return };
    let groups = value("passwd/user-default-groups").unwrap_or_default();
    let mut account = Account {
        full_name: value("passwd/user-fullname").unwrap_or_default().to_owned(),
        groups: groups
            .split([' ', ','])
            .filter(|own| !own.is_empty())
            .map(|own| shell::neutral_group(own, "sudo"))
            .collect(),
        ..Account::named(name)
    };
    if let Some(value) = secret("passwd/user") {
        vault.insert(account.password_field(), value);
        account.password = Some(Secret::Origin(true));
    }
    model.account.push(account);
}

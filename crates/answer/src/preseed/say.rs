//! The neutral form as answers, in the order in which the installer asks.

use super::{GO_ON, SSH, WAYS, commands, disks, distribution, keymaps};
use crate::{
    Dialect, Finding,
    model::{Account, Model, Privacy, SecretValue, Stage, Vault, WhenDone},
    pieces::Piece,
    shell::{self, Guard, Line},
    tables,
};

/// Says one answer.
fn answer(question: &str, kind: &str, value: &str) -> Piece {
    let owner = if question.starts_with("popularity-contest/") { "popularity-contest" } else { "d-i" };
    let text = if value.is_empty() {
        format!("{owner} {question} {kind}")
    } else {
        format!("{owner} {question} {kind} {value}")
    };
    Piece::new(question, text)
}

/// Everything that the model says, in the order in which the installer asks.
pub(super) fn pieces(model: &Model, secrets: &Vault, findings: &mut Vec<Finding>) -> Vec<Piece> {
    let mut out: Vec<Piece> = Vec::new();
    let mut say = |question: &str, kind: &str, value: &str| {
        // One line is one answer.
        if value.contains(['\n', '\r']) {
            findings.push(Finding::unsaid(
                question,
                Dialect::Preseed,
                "its value has several lines",
                "write it in one line",
            ));
        } else {
            out.push(answer(question, kind, value));
        }
    };
    let language = &model.language;
    let spoken = if language.setup.is_empty() { &language.user } else { &language.setup };
    if !spoken.is_empty() {
        say("debian-installer/locale", "string", &tables::posix_locale(spoken));
    }
    let layouts: Vec<String> = language.keyboards.iter().filter_map(|own| tables::xkb(own)).collect();
    if let Some(first) = layouts.first() {
        // The installer asks where this is missing, and takes its first one where it is none of its own.
        let keymap = keymaps::of(first).unwrap_or(keymaps::FIRST);
        say("keyboard-configuration/xkb-keymap", "select", keymap);
    }
    network(model, secrets, &mut say);
    if !language.time_zone.is_empty() {
        say("clock-setup/utc", "boolean", "true");
        say("time/zone", "string", &language.time_zone);
    }
    let mut more: &[Account] = &[];
    people(model, secrets, &mut say);
    if let Some((_, rest)) = model.account.split_first() {
        more = rest;
    }
    let guards: Vec<Line> = model.disk.iter().filter_map(Guard::of_disk).map(Line::Guard).collect();
    if !guards.is_empty() {
        // Each stops by itself.
        let all: Vec<String> = guards.iter().map(|line| line.say(&WAYS)).collect();
        say("partman/early_command", "string", &all.join("; "));
    }
    if let Some(disk) = model.disk.first() {
        disks::say(disk, &mut say);
    }
    distribution::say(model, &mut say);
    let mut packages = model.software.add.clone();
    if model.remote.allow && !packages.iter().any(|own| own == SSH) {
        packages.push(SSH.into());
    }
    if !packages.is_empty() {
        say("pkgsel/include", "string", &packages.join(" "));
    }
    match model.first_start.privacy {
        Some(Privacy::Decline) => say("popularity-contest/participate", "boolean", "false"),
        Some(Privacy::Accept) => say("popularity-contest/participate", "boolean", "true"),
        None => {}
    }
    let mut first = shell::lines(model, Stage::SetupStart, secrets, &[]);
    if model.machine.name.contains('{') {
        first.insert(0, Line::Name(model.machine.name.clone()));
    }
    if !first.is_empty() {
        say("preseed/early_command", "string", &commands::join(&first));
    }
    let mut last = shell::lines(model, Stage::SystemInstalled, secrets, more);
    if let Some(first) = model.account.first() {
        let groups = first.groups.iter().map(|own| shell::group(own, "sudo"));
        let groups: Vec<String> =
            groups.filter(|own| !shell::is_usual_group(own)).map(str::to_owned).collect();
        if !groups.is_empty() {
            last.insert(0, Line::Join { account: first.name.clone(), groups });
        }
    }
    // What is no name of a layout would mean something to the program that sets it.
    let is_name = |own: &String| own.chars().all(|c| c.is_ascii_alphanumeric() || "_-()".contains(c));
    if layouts.iter().all(is_name)
        && layouts
            .first()
            .is_some_and(|first| layouts.len() > 1 || keymaps::of(first) != Some(first.as_str()))
    {
        // The installer takes one, of those that it offers; the system gets what is meant.
        last.insert(0, Line::Keyboard(layouts.join(" ")));
    }
    last.extend(shell::first_start(model, secrets));
    if !last.is_empty() {
        say("preseed/late_command", "string", &commands::join(&last));
    }
    match model.power.when_done {
        Some(WhenDone::Off) => {
            say("debian-installer/exit/poweroff", "boolean", "true");
            // Or its last message waits for somebody.
            say("finish-install/reboot_in_progress", "note", "");
        }
        Some(WhenDone::Restart) => say("finish-install/reboot_in_progress", "note", ""),
        None => {}
    }
    for (index, own) in model.own.iter().filter(|own| own.dialect == Dialect::Preseed).enumerate() {
        out.push(Piece::new(format!("own:{index}"), own.text.trim_end()));
    }
    out
}

fn network(model: &Model, secrets: &Vault, say: &mut dyn FnMut(&str, &str, &str)) {
    let network = &model.network;
    if let Some(fixed) = &network.fixed {
        say("netcfg/choose_interface", "select", &fixed.interface);
        say("netcfg/disable_autoconfig", "boolean", "true");
        let (address, prefix) = fixed.address.split_once('/').unwrap_or((&fixed.address, "24"));
        say("netcfg/get_ipaddress", "string", address);
        say("netcfg/get_netmask", "string", &crate::netmask(prefix));
        say("netcfg/get_gateway", "string", &fixed.gateway);
        say("netcfg/get_nameservers", "string", &fixed.name_servers.join(" "));
        say("netcfg/confirm_static", "boolean", "true");
    }
    if let Some(wireless) = &network.wireless {
        say("netcfg/wireless_essid", "string", &wireless.name);
        if let Some(password) = secrets.get("network.wireless.password").and_then(SecretValue::plain) {
            say("netcfg/wireless_security_type", "select", "wpa");
            say("netcfg/wireless_wpa", "string", password);
        }
    }
    if network.needed == Some(false) {
        say("netcfg/dhcp_failed", "note", "");
        say("netcfg/dhcp_options", "select", GO_ON);
    }
    if !model.machine.name.is_empty() && !model.machine.name.contains('{') {
        say("netcfg/get_hostname", "string", &model.machine.name);
        // Wins against a name that a DHCP server gives.
        say("netcfg/hostname", "string", &model.machine.name);
    }
    if !model.machine.domain.is_empty() {
        say("netcfg/get_domain", "string", &model.machine.domain);
    }
}

fn people(model: &Model, secrets: &Vault, say: &mut dyn FnMut(&str, &str, &str)) {
    if let Some(enabled) = model.administrator.enabled {
        say("passwd/root-login", "boolean", if enabled { "true" } else { "false" });
    }
    if model.administrator.password.is_some() {
        let value = secrets.get(crate::model::ADMINISTRATOR_PASSWORD);
        if let Some(hash) = value.and_then(|value| shell::hash(model, "root", value)) {
            say("passwd/root-password-crypted", "password", &hash);
        }
    }
    let Some(account) = model.account.first() else { return };
    say("passwd/make-user", "boolean", "true");
    say("passwd/user-fullname", "string", &account.full_name);
    say("passwd/username", "string", &account.name);
    let value = secrets.get(&account.password_field()).filter(|_| account.password.is_some());
    if let Some(hash) = value.and_then(|value| shell::hash(model, &account.name, value)) {
        say("passwd/user-password-crypted", "password", &hash);
    }
    if !account.groups.is_empty() {
        // Those that are not there yet would be left out without a word.
        let groups = account.groups.iter().map(|own| shell::group(own, "sudo"));
        let groups: Vec<&str> = groups.filter(|own| shell::is_usual_group(own)).collect();
        if !groups.is_empty() {
            say("passwd/user-default-groups", "string", &groups.join(" "));
        }
    }
}

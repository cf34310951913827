//! Values as the neutral form.

use super::{NAME, WAYS, command_text, storage, strings, yaml};
use crate::{
    Finding, Topic,
    face::Reading,
    model::{
        Account, EditionChoice, Erases, Model, Secret, SecretValue, Stage, StaticAddress, Vault, WhenDone,
        Wireless,
    },
    shell::{self, Line, Ways},
    tables,
};
use serde_json::{Value, json};

/// Keys that the neutral form has, and those inside of `user-data`.
const UNDERSTOOD: [&str; 16] = [
    "version",
    "locale",
    "keyboard",
    "timezone",
    "source",
    "interactive-sections",
    "identity",
    "ssh",
    "storage",
    "network",
    "kernel",
    "packages",
    "early-commands",
    "late-commands",
    "user-data",
    "shutdown",
];

const USER_DATA: [&str; 5] = ["users", "hostname", "chpasswd", "disable_root", "runcmd"];

pub(super) fn read(text: &str, own: &Value) -> Reading {
    let mut reading = Reading::default();
    let Reading { model, vault, findings } = &mut reading;
    if text.contains(crate::ERASES_MARK) {
        model.erases = Erases::Yes;
    }
    let string = |pointer: &str| own.pointer(pointer).and_then(Value::as_str).unwrap_or_default();
    let mut kept = |key: &str| {
        let note = Finding::told(Topic::Kept, key, "is not in the neutral form, and is kept as it is");
        let line = yaml::line_of_key(text, key.split('.').next().unwrap_or_default());
        findings.push(Finding { line, ..note });
    };
    model.language.setup = tables::tag_of_posix(string("/locale")).unwrap_or_default();
    let spoken = model.language.setup.clone();
    let variants: Vec<&str> = string("/keyboard/variant").split(',').collect();
    let layouts = string("/keyboard/layout").split(',').filter(|layout| !layout.is_empty()).enumerate();
    model.language.keyboards = layouts
        .map(|(index, layout)| match variants.get(index) {
            Some(variant) if !variant.is_empty() => {
                tables::keyboard_of_xkb(&format!("{layout}({variant})"), &spoken)
            }
            _ => tables::keyboard_of_xkb(layout, &spoken),
        })
        .collect();
    string("/timezone").clone_into(&mut model.language.time_zone);
    if !string("/source/id").is_empty() {
        model.system.edition = Some(EditionChoice::Name(string("/source/id").to_owned()));
    } else if own.get("interactive-sections") == Some(&json!(["source"])) {
        model.system.edition = Some(EditionChoice::Name("ask".into()));
    } else if own.get("interactive-sections").is_some() {
        kept("interactive-sections");
    }
    read_people(own, model, vault);
    model.remote.allow = own.pointer("/ssh/install-server") == Some(&Value::Bool(true));
    if let Some(storage) = own.get("storage")
        && !storage::read(storage, model)
    {
        kept("storage");
    }
    if let Some(network) = own.get("network")
        && !read_network(network, model, vault)
    {
        kept("network");
    }
    model.software.add = strings(own.get("packages"));
    string("/kernel/package").clone_into(&mut model.distribution.kernel);
    if let Some(apt) = own.get("apt") {
        let mirror = string("/apt/mirror-selection/primary/0/uri");
        mirror.clone_into(&mut model.distribution.mirror);
        if *apt != json!({ "mirror-selection": { "primary": [{ "uri": mirror }] } }) {
            kept("apt");
        }
    }
    for (key, stage) in [("early-commands", Stage::SetupStart), ("late-commands", Stage::SystemInstalled)] {
        for line in own.get(key).and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default() {
            Line::understand(&command_text(line), &WAYS).into_model(stage, model, vault);
        }
    }
    let ways = Ways { inside: "", ..WAYS };
    let first = own.pointer("/user-data/runcmd").and_then(Value::as_array);
    for line in first.map(Vec::as_slice).unwrap_or_default() {
        Line::understand(&command_text(line), &ways).into_model(Stage::FirstStart, model, vault);
    }
    for command in &mut model.command {
        if command.stage == Stage::SetupStart {
            command.outside = false;
        }
    }
    model.power.when_done = match string("/shutdown") {
        "poweroff" => Some(WhenDone::Off),
        "reboot" => Some(WhenDone::Restart),
        _ => None,
    };
    for key in own.as_object().map(|map| map.keys().collect::<Vec<_>>()).unwrap_or_default() {
        if key != "apt" && !UNDERSTOOD.contains(&key.as_str()) {
            kept(key);
        }
    }
    for key in own
        .get("user-data")
        .and_then(Value::as_object)
        .map(|map| map.keys().collect::<Vec<_>>())
        .unwrap_or_default()
    {
        if !USER_DATA.contains(&key.as_str()) {
            kept(&format!("user-data.{key}"));
        }
    }
    reading
}

fn read_people(own: &Value, model: &mut Model, vault: &mut Vault) {
    let text = |own: &Value, key: &str| own.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
    let mut add = |mut account: Account, hash: String| {
        if !hash.is_empty() {
            vault.insert(account.password_field(), SecretValue::Hash(hash));
            account.password = Some(Secret::Origin(true));
        }
        model.account.push(account);
    };
    let mut host = own.pointer("/user-data/hostname").and_then(Value::as_str).unwrap_or_default().to_owned();
    if let Some(identity) = own.get("identity") {
        let account =
            Account { full_name: text(identity, "realname"), ..Account::named(&text(identity, "username")) };
        add(account, text(identity, "password"));
        host = text(identity, "hostname");
    }
    let users = own.pointer("/user-data/users").and_then(Value::as_array);
    for user in users.map(Vec::as_slice).unwrap_or_default().iter().filter(|user| user.is_object()) {
        let groups = match user.get("groups") {
            Some(Value::String(text)) => text.split(',').map(|own| own.trim().to_owned()).collect(),
            other => strings(other),
        };
        let account = Account {
            full_name: text(user, "gecos"),
            groups: groups.iter().map(|own| shell::neutral_group(own, "sudo")).collect(),
            ..Account::named(&text(user, "name"))
        };
        add(account, text(user, "passwd"));
    }
    let (name, domain) = host.split_once('.').unwrap_or((&host, ""));
    if name != NAME {
        name.clone_into(&mut model.machine.name);
    }
    domain.clone_into(&mut model.machine.domain);
    let passwords = own.pointer("/user-data/chpasswd/users").and_then(Value::as_array);
    for user in passwords.map(Vec::as_slice).unwrap_or_default() {
        if text(user, "name") == "root" {
            vault.insert(
                crate::model::ADMINISTRATOR_PASSWORD.into(),
                SecretValue::Hash(text(user, "password")),
            );
            model.administrator.password = Some(Secret::Origin(true));
        }
    }
    model.administrator.enabled =
        own.pointer("/user-data/disable_root").and_then(Value::as_bool).map(|disabled| !disabled);
}

fn read_network(network: &Value, model: &mut Model, vault: &mut Vault) -> bool {
    let network = network.get("network").unwrap_or(network);
    let mut understood = true;
    let interfaces = network.get("ethernets").and_then(Value::as_object);
    for (name, own) in interfaces.into_iter().flatten() {
        if own.get("optional") == Some(&Value::Bool(true)) {
            model.network.needed = Some(false);
        }
        let addresses = strings(own.get("addresses"));
        if let ([address], None) = (addresses.as_slice(), &model.network.fixed) {
            let via = own.pointer("/routes/0/via").or_else(|| own.get("gateway4")).and_then(Value::as_str);
            model.network.fixed = Some(StaticAddress {
                interface: name.clone(),
                address: address.clone(),
                gateway: via.unwrap_or_default().to_owned(),
                name_servers: strings(own.pointer("/nameservers/addresses")),
            });
        } else {
            understood &= own.get("optional").is_some() && addresses.is_empty();
        }
    }
    let wireless = network.get("wifis").and_then(Value::as_object).and_then(|own| own.values().next());
    let point = wireless
        .and_then(|own| own.get("access-points"))
        .and_then(Value::as_object)
        .and_then(|own| own.iter().next());
    if let Some((name, point)) = point {
        let password = point.get("password").and_then(Value::as_str);
        if let Some(password) = password {
            vault.insert("network.wireless.password".into(), SecretValue::Plain(password.to_owned()));
        }
        model.network.wireless = Some(Wireless {
            name: name.clone(),
            password: password.map(|_| Secret::Origin(true)),
            hidden: point.get("hidden") == Some(&Value::Bool(true)),
        });
    }
    understood
}

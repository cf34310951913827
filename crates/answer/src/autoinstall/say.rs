//! The neutral form as values, by top-level key.

use super::{NAME, WAYS, storage, yaml};
use crate::{
    Dialect,
    model::{Account, EditionChoice, Model, SecretValue, Stage, Vault, WhenDone},
    shell::{self, Guard, Line, Ways},
    tables,
};
use neat_content::{Error, Result};
use serde_json::{Map, Value, json};

fn hash_of(model: &Model, account: &Account, secrets: &Vault) -> Option<String> {
    let value = secrets.get(&account.password_field()).filter(|_| account.password.is_some())?;
    shell::hash(model, &account.name, value)
}

/// Everything that the model says, by top-level key.
pub(super) fn values(model: &Model, secrets: &Vault) -> Result<Map<String, Value>> {
    let mut out = Map::new();
    out.insert("version".into(), json!(1));
    let language = &model.language;
    let spoken = if language.setup.is_empty() { &language.user } else { &language.setup };
    if !spoken.is_empty() {
        out.insert("locale".into(), json!(tables::posix_locale(spoken)));
    }
    let layouts: Vec<String> = language.keyboards.iter().filter_map(|own| tables::xkb(own)).collect();
    if !layouts.is_empty() {
        let all: Vec<(&str, &str)> = layouts.iter().map(|own| tables::split_xkb(own)).collect();
        let join = |pick: fn(&(&str, &str)) -> String| all.iter().map(pick).collect::<Vec<_>>().join(",");
        let mut own = json!({ "layout": join(|(layout, _)| (*layout).to_owned()) });
        if all.iter().any(|(_, variant)| !variant.is_empty()) {
            own["variant"] = json!(join(|(_, variant)| (*variant).to_owned()));
        }
        out.insert("keyboard".into(), own);
    }
    if !language.time_zone.is_empty() {
        out.insert("timezone".into(), json!(language.time_zone));
    }
    match &model.system.edition {
        Some(EditionChoice::Name(name)) if name != "ask" => {
            out.insert("source".into(), json!({ "id": name }));
        }
        Some(EditionChoice::Name(_)) => {
            out.insert("interactive-sections".into(), json!(["source"]));
        }
        _ => {}
    }
    people(model, secrets, &mut out);
    if model.remote.allow {
        out.insert("ssh".into(), json!({ "install-server": true, "allow-pw": true }));
    }
    if let Some(storage) = storage::say(model) {
        out.insert("storage".into(), storage);
    }
    if let Some(network) = network(model, secrets) {
        out.insert("network".into(), network);
    }
    let distribution = &model.distribution;
    if !distribution.mirror.is_empty() {
        let primary = json!({ "mirror-selection": { "primary": [{ "uri": distribution.mirror }] } });
        out.insert("apt".into(), primary);
    }
    if !distribution.kernel.is_empty() {
        out.insert("kernel".into(), json!({ "package": distribution.kernel }));
    }
    if !model.software.add.is_empty() {
        out.insert("packages".into(), json!(model.software.add));
    }
    let mut first: Vec<Line> = model.disk.iter().filter_map(Guard::of_disk).map(Line::Guard).collect();
    if model.machine.name.contains('{') {
        first.push(Line::Name(model.machine.name.clone()));
    }
    first.extend(shell::lines(model, Stage::SetupStart, secrets, &[]));
    let last = shell::lines(model, Stage::SystemInstalled, secrets, &[]);
    let said = |lines: &[Line]| lines.iter().map(|line| json!(line.say(&WAYS))).collect::<Vec<_>>();
    if !first.is_empty() {
        out.insert("early-commands".into(), Value::Array(said(&first)));
    }
    if !last.is_empty() {
        out.insert("late-commands".into(), Value::Array(said(&last)));
    }
    match model.power.when_done {
        Some(WhenDone::Off) => out.insert("shutdown".into(), json!("poweroff")),
        Some(WhenDone::Restart) => out.insert("shutdown".into(), json!("reboot")),
        None => None,
    };
    for own in model.own.iter().filter(|own| own.dialect == Dialect::Autoinstall) {
        let Value::Object(map) = yaml::parse(&own.text)? else {
            return Err(Error::request(
                "`own`: the text for autoinstall is no mapping",
                "write keys with values",
            ));
        };
        out.extend(map);
    }
    Ok(out)
}

fn people(model: &Model, secrets: &Vault, out: &mut Map<String, Value>) {
    let name = match model.machine.name.as_str() {
        name if name.contains('{') => NAME,
        name => name,
    };
    let domain = &model.machine.domain;
    let host =
        if domain.is_empty() || name.is_empty() { name.to_owned() } else { format!("{name}.{domain}") };
    let mut user_data = Map::new();
    let only = match model.account.as_slice() {
        [one] if one.groups.is_empty() || one.groups == ["administrators"] => {
            hash_of(model, one, secrets).map(|hash| (one, hash))
        }
        _ => None,
    };
    if let Some((account, hash)) = only {
        let mut own = json!({ "username": account.name, "password": hash, "hostname": host });
        if !account.full_name.is_empty() {
            own["realname"] = json!(account.full_name);
        }
        out.insert("identity".into(), own);
    } else {
        if !model.account.is_empty() {
            let users = model.account.iter().map(|account| {
                let mut own = json!({ "name": account.name, "shell": "/bin/bash" });
                if !account.full_name.is_empty() {
                    own["gecos"] = json!(account.full_name);
                }
                let groups: Vec<&str> = account.groups.iter().map(|own| shell::group(own, "sudo")).collect();
                if !groups.is_empty() {
                    own["groups"] = json!(groups);
                }
                if let Some(hash) = hash_of(model, account, secrets) {
                    own["lock_passwd"] = json!(false);
                    own["passwd"] = json!(hash);
                }
                own
            });
            user_data.insert("users".into(), users.collect());
        }
        if !host.is_empty() {
            user_data.insert("hostname".into(), json!(host));
        }
    }
    let root =
        secrets.get(crate::model::ADMINISTRATOR_PASSWORD).filter(|_| model.administrator.password.is_some());
    if let Some(hash) = root.and_then(|value| shell::hash(model, "root", value)) {
        let own = json!({ "expire": false, "users": [{ "name": "root", "password": hash, "type": "hash" }] });
        user_data.insert("chpasswd".into(), own);
    }
    if let Some(enabled) = model.administrator.enabled {
        user_data.insert("disable_root".into(), json!(!enabled));
    }
    let first = shell::lines(model, Stage::FirstStart, secrets, &[]);
    if !first.is_empty() {
        let ways = Ways { inside: "", ..WAYS };
        user_data.insert("runcmd".into(), first.iter().map(|line| json!(line.say(&ways))).collect());
    }
    if !user_data.is_empty() {
        out.insert("user-data".into(), Value::Object(user_data));
    }
}

fn network(model: &Model, secrets: &Vault) -> Option<Value> {
    let network = &model.network;
    if network.fixed.is_none() && network.wireless.is_none() && network.needed != Some(false) {
        return None;
    }
    let mut own = json!({ "version": 2 });
    if let Some(fixed) = &network.fixed {
        let mut interface = json!({ "addresses": [fixed.address] });
        if !fixed.gateway.is_empty() {
            interface["routes"] = json!([{ "to": "default", "via": fixed.gateway }]);
        }
        if !fixed.name_servers.is_empty() {
            interface["nameservers"] = json!({ "addresses": fixed.name_servers });
        }
        if network.needed == Some(false) {
            interface["optional"] = json!(true);
        }
        own["ethernets"] = json!({ fixed.interface.as_str(): interface });
    } else if network.needed == Some(false) {
        own["ethernets"] = json!({ "any": { "match": { "name": "e*" }, "dhcp4": true, "optional": true } });
    }
    if let Some(wireless) = &network.wireless {
        let mut point = json!({});
        if let Some(password) = secrets.get("network.wireless.password").and_then(SecretValue::plain) {
            point["password"] = json!(password);
        }
        if wireless.hidden {
            point["hidden"] = json!(true);
        }
        own["wifis"] = json!({ "wireless": {
            "match": { "name": "wl*" }, "dhcp4": true, "access-points": { wireless.name.as_str(): point }
        } });
    }
    Some(own)
}

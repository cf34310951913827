//! cloud-init's autoinstall: YAML for installers of servers and desktops.

mod about;
mod check;
mod storage;
mod yaml;

use crate::{
    Dialect, Erasure, Finding, Topic,
    check::MediaFacts,
    command_line::sh,
    face::{About, Face, Reading, Saying, Written},
    model::{
        Account, EditionChoice, Erases, Model, Secret, SecretValue, Stage, StaticAddress, Vault, WhenDone,
        Wireless,
    },
    pieces::{self, Piece},
    shell::{self, Guard, Line, Ways},
    tables,
};
use neat_content::{Error, Result};
use serde_json::{Map, Value, json};

/// The dialect.
pub(crate) struct Autoinstall;

const STAGES: [Stage; 3] = [Stage::SetupStart, Stage::SystemInstalled, Stage::FirstStart];
/// Stands for the name until it is known on the machine.
const NAME: &str = "neatstack-name";
const WAYS: Ways = Ways {
    inside: "curtin in-target -- sh -c",
    media: "/cdrom",
    target: "/target",
    stop: "exit 1",
    name: ("sed -i \"s/neatstack-name/", "/\" /autoinstall.yaml"),
};

impl Face for Autoinstall {
    fn about(&self) -> &'static About {
        &about::ABOUT
    }

    fn read(&self, text: &str) -> Result<Reading> {
        let root = yaml::parse(text)?;
        Ok(read(text, inside(&root)))
    }

    fn write(&self, saying: &Saying<'_>) -> Result<Written> {
        let findings = unsaid(saying.model);
        let after = values(saying.model, saying.secrets)?;
        let mark = crate::ERASES_MARK;
        let text = match saying.origin {
            None => {
                let marked =
                    if saying.model.erases == Erases::Yes { format!("# {mark}\n") } else { String::new() };
                let title: String = saying.model.title.chars().filter(|c| !c.is_control()).collect();
                let title = if title.is_empty() { String::new() } else { format!("# {title}\n") };
                pieces::fresh(&format!("#cloud-config\n{title}{marked}autoinstall:\n"), &pieces_of(&after, 2))
            }
            Some(original) => {
                let before = values(&original.reading.model, &original.reading.vault)?;
                let text = crate::set_mark(&original.text, saying.model.erases);
                if before == after { text } else { changed(&text, &before, &after)? }
            }
        };
        Ok(Written { text, files: shell::side_files(saying.model), findings })
    }

    fn erases(&self, text: &str, _reading: &Reading) -> Erasure {
        yaml::parse(text).map(|root| erases(inside(&root))).unwrap_or_default()
    }

    fn check(&self, text: &str, _reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding> {
        match yaml::parse(text) {
            Ok(root) => check::check(text, &root, media),
            Err(error) => vec![Finding::new(Topic::Dialect, "file", error.to_string(), error.hint())],
        }
    }
}

fn pieces_of(values: &Map<String, Value>, indent: usize) -> Vec<Piece> {
    values.iter().map(|(key, own)| Piece::new(key, yaml::say(key, own, indent))).collect()
}

fn changed(text: &str, before: &Map<String, Value>, after: &Map<String, Value>) -> Result<String> {
    let Some(block) = yaml::block(text) else {
        return Err(Error::Unsupported {
            what: "a change of autoinstall answers that stand in one line".into(),
            offset: 0,
        });
    };
    // What stands in the file and not in the neutral form is kept inside of a changed key, too.
    let root = yaml::parse(text)?;
    let theirs = inside(&root);
    let mut merged = after.clone();
    for (key, own) in &mut merged {
        if before.get(key) != Some(own)
            && let (Some(Value::Object(there)), Value::Object(own)) = (theirs.get(key), own)
        {
            let was = before.get(key).and_then(Value::as_object);
            for (inner, value) in there {
                if !own.contains_key(inner) && was.is_none_or(|was| !was.contains_key(inner)) {
                    own.insert(inner.clone(), value.clone());
                }
            }
        }
    }
    let (before, after) = (pieces_of(before, block.indent), pieces_of(&merged, block.indent));
    Ok(pieces::rewrite(text, &block.parts, &before, &after, block.end))
}

fn inside(root: &Value) -> &Value {
    root.get("autoinstall").unwrap_or(root)
}

fn hash_of(model: &Model, account: &Account, secrets: &Vault) -> Option<String> {
    let value = secrets.get(&account.password_field()).filter(|_| account.password.is_some())?;
    shell::hash(model, &account.name, value)
}

/// Everything that the model says, by top-level key.
fn values(model: &Model, secrets: &Vault) -> Result<Map<String, Value>> {
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

fn read(text: &str, own: &Value) -> Reading {
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

/// A command, which may be a list of words.
fn command_text(own: &Value) -> String {
    match own {
        Value::Array(words) => {
            let word = |own: &Value| {
                let text = own.as_str().map_or_else(|| own.to_string(), str::to_owned);
                sh::word(&text)
            };
            words.iter().map(word).collect::<Vec<_>>().join(" ")
        }
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

fn strings(own: Option<&Value>) -> Vec<String> {
    let items = own.and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default();
    items.iter().filter_map(Value::as_str).map(str::to_owned).collect()
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

fn unsaid(model: &Model) -> Vec<Finding> {
    let mut findings = Vec::new();
    shell::unsaid(model, Dialect::Autoinstall, &STAGES, &mut findings);
    let mut add = |field: &str, why: &str, hint: &str| {
        findings.push(Finding::unsaid(field, Dialect::Autoinstall, why, hint));
    };
    if matches!(model.system.edition, Some(EditionChoice::Number(_))) {
        add("system.edition", "sources have names", "give the name of the source");
    }
    if !model.machine.domain.is_empty() && model.machine.name.is_empty() {
        add("machine.domain", "the domain is a part of the name", "give the machine a name");
    }
    if model.account.len() == 1 && model.account.iter().any(|account| account.password.is_none()) {
        findings.push(Finding::told(
            Topic::Unusual,
            "account.password",
            "without a password nobody can sign in at the machine",
        ));
    }
    if model.command.iter().any(|command| !command.description.is_empty()) {
        findings.push(Finding::told(
            Topic::Needless,
            "command.description",
            "autoinstall has no room for descriptions of commands",
        ));
    }
    if model.first_start.privacy.is_some() {
        findings.push(Finding::told(
            Topic::Needless,
            "first_start.privacy",
            "autoinstall has no such questions, so there is nothing to say",
        ));
    }
    findings
}

fn erases(own: &Value) -> Erasure {
    let mut erasure = Erasure::default();
    let asks: Vec<String> = strings(own.get("interactive-sections"));
    if asks.iter().any(|section| section == "storage" || section == "*") {
        return erasure;
    }
    let config = own.pointer("/storage/config").and_then(Value::as_array);
    match (own.get("storage"), config) {
        (_, Some(actions)) => {
            for action in actions.iter().filter(|own| own.get("wipe").is_some()) {
                let name =
                    ["path", "serial", "id"].iter().find_map(|key| action.get(*key).and_then(Value::as_str));
                erasure
                    .add(format!("everything on {}", name.unwrap_or("a disk").trim_start_matches("/dev/")));
            }
        }
        (Some(storage), None) => {
            let path = storage.pointer("/layout/match/path").and_then(Value::as_str);
            erasure.add(path.map_or_else(
                || "everything on the largest disk".into(),
                |path| format!("everything on {}", path.trim_start_matches("/dev/")),
            ));
        }
        (None, None) => {
            erasure.add("everything on the largest disk, because nothing is said of disks".into());
        }
    }
    for key in ["early-commands", "late-commands"] {
        for command in own.get(key).and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default() {
            erasure.add_command(&command_text(command));
        }
    }
    for section in asks {
        erasure.ask(&section);
    }
    erasure
}

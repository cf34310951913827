//! The neutral form as elements.

use super::{
    PARTITION_IDS, SCRIPTS, Script, WAYS, keymaps,
    node::{Body, Node},
};
use crate::{
    disks::{mount_point, usual},
    model::{
        Account, Carried, Command, Disk, EditionChoice, FileSystem, Model, PartitionKind, Scheme,
        SecretValue, Size, Stage, Vault, WhenDone,
    },
    shell::{self, Guard, Line},
    tables,
};

/// Everything that the model says, by sections.
pub(super) fn nodes(model: &Model, secrets: &Vault) -> Vec<Node> {
    let mut out = Vec::new();
    let mut say = |name: &'static str, nodes: Vec<Node>| {
        if !nodes.is_empty() {
            out.push(Node::map(name, nodes));
        }
    };
    say("general", general(model));
    let language = &model.language;
    let spoken = if language.setup.is_empty() { &language.user } else { &language.setup };
    if !spoken.is_empty() {
        say("language", vec![Node::text("language", tables::posix_locale(spoken).replace(".UTF-8", ""))]);
    }
    let layout = language.keyboards.first().and_then(|own| tables::xkb(own));
    if let Some(keymap) = layout.as_deref().and_then(keymaps::of) {
        say("keyboard", vec![Node::text("keymap", keymap)]);
    }
    if !language.time_zone.is_empty() {
        say("timezone", vec![Node::text("hwclock", "UTC"), Node::text("timezone", &language.time_zone)]);
    }
    say("networking", networking(model, secrets));
    if !model.disk.is_empty() {
        out.push(Node::list("partitioning", model.disk.iter().map(drive).collect()));
    }
    let mut loader = Vec::new();
    if !model.disk.is_empty() {
        loader.push(Node::text("loader_type", "default"));
    }
    let options = &model.distribution.kernel_options;
    if !options.is_empty() {
        loader.push(Node::map("global", vec![Node::text("append", options)]));
    }
    if !loader.is_empty() {
        out.push(Node::map("bootloader", loader));
    }
    let software = software(model);
    if !software.is_empty() {
        out.push(Node::map("software", software));
    }
    for (name, list) in [("users", users(model, secrets)), ("groups", groups(model))] {
        if !list.is_empty() {
            out.push(Node::list(name, list));
        }
    }
    if model.remote.allow {
        let enable = Node::texts("enable", "service", &["sshd".to_owned()]);
        out.push(Node::map("services-manager", vec![Node::map("services", vec![enable])]));
        let zone =
            vec![Node::text("name", "public"), Node::texts("services", "service", &["ssh".to_owned()])];
        out.push(Node::map(
            "firewall",
            vec![Node::boolean("enable_firewall", true), Node::list("zones", vec![Node::map("zone", zone)])],
        ));
    }
    let scripts = scripts(model);
    if !scripts.is_empty() {
        out.push(Node::map("scripts", scripts));
    }
    out
}

fn general(model: &Model) -> Vec<Node> {
    let mut mode = Vec::new();
    if !model.disk.is_empty() {
        mode.push(Node::boolean("confirm", false));
    }
    match model.power.when_done {
        Some(WhenDone::Off) => mode.push(Node::boolean("final_halt", true)),
        Some(WhenDone::Restart) => mode.push(Node::boolean("final_reboot", true)),
        None => {}
    }
    if mode.is_empty() { Vec::new() } else { vec![Node::map("mode", mode)] }
}

fn networking(model: &Model, secrets: &Vault) -> Vec<Node> {
    let (mut dns, mut interfaces, mut out) = (Vec::new(), Vec::new(), Vec::new());
    let name = &model.machine.name;
    if !name.is_empty() {
        let own = if name.contains('{') { super::NAME_LATER } else { name.as_str() };
        dns.push(Node::text("hostname", own));
        if !model.machine.domain.is_empty() {
            dns.push(Node::text("domain", &model.machine.domain));
        }
        // Or a name that a DHCP server gives wins.
        dns.push(Node::boolean("dhcp_hostname", false));
    }
    if let Some(fixed) = &model.network.fixed {
        let (address, prefix) = fixed.address.split_once('/').unwrap_or((&fixed.address, "24"));
        interfaces.push(Node::map(
            "interface",
            vec![
                Node::text("name", &fixed.interface),
                Node::text("bootproto", "static"),
                Node::text("ipaddr", address),
                Node::text("prefixlen", prefix),
                Node::text("startmode", "auto"),
            ],
        ));
        if !fixed.name_servers.is_empty() {
            dns.push(Node::texts("nameservers", "nameserver", &fixed.name_servers));
        }
        if !fixed.gateway.is_empty() {
            let route = vec![Node::text("destination", "default"), Node::text("gateway", &fixed.gateway)];
            out.push(Node::map("routing", vec![Node::list("routes", vec![Node::map("route", route)])]));
        }
    }
    if let Some(wireless) = &model.network.wireless {
        let password = secrets.get("network.wireless.password").and_then(SecretValue::plain);
        let mut own = vec![
            Node::text("name", "wlan0"),
            Node::text("bootproto", "dhcp"),
            Node::text("startmode", "auto"),
            Node::text("wireless_essid", &wireless.name),
            Node::text("wireless_auth_mode", if password.is_some() { "psk" } else { "open" }),
        ];
        own.extend(password.map(|own| Node::text("wireless_wpa_psk", own)));
        interfaces.push(Node::map("interface", own));
    }
    let interface = &model.network.interface;
    if interfaces.is_empty() && !interface.is_empty() && interface != "auto" {
        interfaces.push(Node::map(
            "interface",
            vec![
                Node::text("name", interface),
                Node::text("bootproto", "dhcp"),
                Node::text("startmode", "auto"),
            ],
        ));
    }
    if !interfaces.is_empty() {
        out.insert(0, Node::list("interfaces", interfaces));
    }
    if !dns.is_empty() {
        out.insert(0, Node::map("dns", dns));
    }
    out
}

fn drive(disk: &Disk) -> Node {
    let mut own = Vec::new();
    if !disk.device.is_empty() {
        own.push(Node::text("device", format!("/dev/{}", disk.device)));
    }
    match disk.scheme {
        Some(Scheme::Gpt) => own.push(Node::text("disklabel", "gpt")),
        Some(Scheme::Mbr) => own.push(Node::text("disklabel", "msdos")),
        None => {}
    }
    if disk.wipe {
        own.push(Node::boolean("initialize", true));
    }
    own.push(Node::text("use", if disk.wipe { "all" } else { "free" }));
    let partitions: Vec<Node> = disk.partition.iter().map(partition).collect();
    if !partitions.is_empty() {
        own.push(Node::list("partitions", partitions));
    }
    Node::map("drive", own)
}

fn partition(own: &crate::model::Partition) -> Node {
    let mount = if own.kind == PartitionKind::Swap { "swap".to_owned() } else { mount_point(own) };
    let file_system = match own.file_system.unwrap_or(usual(own.kind)) {
        FileSystem::Fat32 => "vfat",
        other => other.linux_name(),
    };
    let mut nodes = vec![Node::boolean("create", true), Node::boolean("format", true)];
    nodes.push(Node::typed("filesystem", "symbol", file_system));
    if !mount.is_empty() {
        nodes.push(Node::text("mount", mount));
    }
    if !own.label.is_empty() {
        nodes.push(Node::text("label", &own.label));
    }
    nodes.push(Node::text(
        "size",
        match own.size {
            Size::Mib(mib) => format!("{mib}M"),
            Size::Rest => "max".to_owned(),
        },
    ));
    if let Some((_, id)) = PARTITION_IDS.iter().find(|(kind, _)| *kind == own.kind) {
        nodes.push(Node::typed("partition_id", "integer", *id));
    }
    Node::map("partition", nodes)
}

fn software(model: &Model) -> Vec<Node> {
    let mut out = Vec::new();
    if let Some(EditionChoice::Name(product)) = &model.system.edition {
        out.push(Node::texts("products", "product", std::slice::from_ref(product)));
    }
    let distribution = &model.distribution;
    out.extend(distribution.recommends.map(|own| Node::boolean("install_recommended", own)));
    if !distribution.kernel.is_empty() {
        out.push(Node::text("kernel", &distribution.kernel));
    }
    let (patterns, packages): (Vec<&String>, Vec<&String>) =
        model.software.add.iter().partition(|own| own.starts_with('@'));
    let patterns: Vec<String> = patterns.into_iter().map(|own| own[1..].to_owned()).collect();
    let packages: Vec<String> = packages.into_iter().cloned().collect();
    for (name, item, all) in [
        ("patterns", "pattern", &patterns),
        ("packages", "package", &packages),
        ("remove-packages", "package", &model.software.remove),
    ] {
        if !all.is_empty() {
            out.push(Node::texts(name, item, all));
        }
    }
    out
}

fn user(name: &str, full_name: &str, password: Option<String>) -> Node {
    let mut nodes = vec![Node::text("username", name)];
    if !full_name.is_empty() {
        nodes.push(Node::text("fullname", full_name));
    }
    if let Some(password) = password {
        nodes.push(Node::text("user_password", password));
        nodes.push(Node::boolean("encrypted", true));
    }
    Node::map("user", nodes)
}

fn users(model: &Model, secrets: &Vault) -> Vec<Node> {
    let mut out = Vec::new();
    let root =
        secrets.get(crate::model::ADMINISTRATOR_PASSWORD).filter(|_| model.administrator.password.is_some());
    let hash = root.and_then(|value| shell::hash(model, "root", value));
    // Nobody can have the password whose hash begins with this.
    let locked = if model.administrator.enabled == Some(false) { "!" } else { "" };
    if hash.is_some() || !locked.is_empty() {
        out.push(user("root", "", Some(format!("{locked}{}", hash.unwrap_or_default()))));
    }
    for account in &model.account {
        let value = secrets.get(&account.password_field()).filter(|_| account.password.is_some());
        let hash = value.and_then(|value| shell::hash(model, &account.name, value));
        out.push(user(&account.name, &account.full_name, hash));
    }
    out
}

/// Groups with their members.
fn groups(model: &Model) -> Vec<Node> {
    let mut names: Vec<&str> = Vec::new();
    let own =
        |account: &Account| account.groups.iter().map(|own| shell::group(own, "wheel").to_owned()).collect();
    let all: Vec<(&Account, Vec<String>)> =
        model.account.iter().map(|account| (account, own(account))).collect();
    for name in all.iter().flat_map(|(_, groups)| groups) {
        if !names.contains(&name.as_str()) {
            names.push(name);
        }
    }
    names.sort_by_key(|name| *name != "wheel");
    let members = |name: &str| {
        let own = all.iter().filter(|(_, groups)| groups.iter().any(|own| own == name));
        own.map(|(account, _)| account.name.as_str()).collect::<Vec<_>>().join(",")
    };
    let group = |name: &&str| {
        Node::map("group", vec![Node::text("groupname", *name), Node::text("userlist", members(name))])
    };
    names.iter().map(group).collect()
}

fn script(name: &str, text: &str, chrooted: Option<bool>) -> Node {
    let interpreter = match name.rsplit_once('.') {
        Some((_, "py")) => "/usr/bin/python3",
        Some((_, "pl")) => "perl",
        _ => "shell",
    };
    let mut nodes = vec![Node::text("filename", name), Node::text("interpreter", interpreter)];
    nodes.extend(chrooted.map(|own| Node::boolean("chrooted", own)));
    nodes.push(Node { name: "source", body: Body::Source(text.replace("\r\n", "\n")) });
    Node::map("script", nodes)
}

fn scripts(model: &Model) -> Vec<Node> {
    let mut out = Vec::new();
    for Script { list, stage } in SCRIPTS {
        let chrooted = (list == "chroot-scripts").then_some(true);
        let mut own = Vec::new();
        if stage == Stage::SetupStart {
            let mut lines: Vec<String> =
                model.disk.iter().filter_map(Guard::of_disk).map(|own| Line::Guard(own).say(&WAYS)).collect();
            if model.machine.name.contains('{') {
                lines.push(Line::Name(model.machine.name.clone()).say(&WAYS));
            }
            if !lines.is_empty() {
                own.push(script(super::MACHINE, &(lines.join("\n") + "\n"), None));
            }
        }
        for (outside, name) in [(false, super::COMMANDS), (true, super::COMMANDS_OUTSIDE)] {
            let is_own = |command: &&Command| {
                command.outside == outside || stage != Stage::SystemInstalled && !outside
            };
            let commands: Vec<&Command> = model.commands(stage).filter(is_own).collect();
            if !commands.is_empty() {
                let name = name.replace("STAGE", stage.name());
                own.push(script(&name, &body(&commands), chrooted.map(|own| own && !outside)));
            }
        }
        for carried in model.script.iter().filter(|own| own.stage == stage && own.carried == Carried::Inside)
        {
            own.push(script(&carried.name, &carried.text, chrooted));
        }
        if !own.is_empty() {
            out.push(Node::list(list, own));
        }
    }
    out
}

/// Commands as lines, each with its description before it.
fn body(commands: &[&Command]) -> String {
    let mut body = String::new();
    for command in commands {
        if !command.description.is_empty() {
            body.push_str(&format!("# {}\n", command.description));
        }
        body.push_str(&format!("{}{}\n", command.run, if command.wait { "" } else { shell::UNWAITED }));
    }
    body
}

//! Elements as the neutral form.

use super::{PARTITION_IDS, SCRIPTS, Script as List, UNDERSTOOD, WAYS, keymaps};
use crate::{
    Finding, Topic,
    disks::{kind_of_mount, usual},
    face::Reading,
    model::{
        Account, Carried, Command, Disk, EditionChoice, Erases, FileSystem, Model, Partition, PartitionKind,
        Scheme, Script, Secret, SecretValue, Size, Stage, StaticAddress, Vault, WhenDone, Wireless,
    },
    shell::{self, Line},
    tables,
    xml::{Document, Element},
};

/// What the file says.
pub(super) fn read(document: &Document) -> Reading {
    let root = document.root();
    let mut reading = Reading::default();
    let Reading { model, vault, findings } = &mut reading;
    if document.text().contains(crate::ERASES_MARK) {
        model.erases = Erases::Yes;
    }
    let text = |path: &[&str]| root.text_at(path).unwrap_or_default();
    if super::is_true(text(&["general", "mode", "final_halt"])) {
        model.power.when_done = Some(WhenDone::Off);
    } else if super::is_true(text(&["general", "mode", "final_reboot"])) {
        model.power.when_done = Some(WhenDone::Restart);
    }
    model.language.setup = tables::tag_of_posix(text(&["language", "language"])).unwrap_or_default();
    let keymap = text(&["keyboard", "keymap"]);
    if !keymap.is_empty() {
        let spoken = model.language.setup.clone();
        model.language.keyboards = vec![tables::keyboard_of_xkb(keymaps::layout(keymap), &spoken)];
    }
    text(&["timezone", "timezone"]).clone_into(&mut model.language.time_zone);
    network(root, model, vault);
    model.disk = items(root, &["partitioning"]).map(disk).collect();
    software(root, model);
    people(root, model, vault);
    model.remote.allow =
        items(root, &["services-manager", "services", "enable"]).any(|own| own.text.trim() == "sshd");
    scripts(root, model, vault);
    kept(document, "", root, findings);
    reading
}

fn items<'a>(root: &'a Element, path: &[&str]) -> impl Iterator<Item = &'a Element> {
    root.find(path).map(|own| own.children.as_slice()).unwrap_or_default().iter()
}

fn texts(root: &Element, path: &[&str]) -> Vec<String> {
    items(root, path).map(|own| own.text.trim().to_owned()).filter(|own| !own.is_empty()).collect()
}

fn network(root: &Element, model: &mut Model, vault: &mut Vault) {
    let dns = |name: &str| root.text_at(&["networking", "dns", name]).unwrap_or_default().to_owned();
    let name = dns("hostname");
    if name != super::NAME_LATER {
        model.machine.name = name;
    }
    model.machine.domain = dns("domain");
    for own in items(root, &["networking", "interfaces"]) {
        let text = |name: &str| own.text_at(&[name]).unwrap_or_default().to_owned();
        let name = text("wireless_essid");
        if !name.is_empty() {
            let password = own.text_at(&["wireless_wpa_psk"]).filter(|own| !own.is_empty());
            if let Some(password) = password {
                vault.insert("network.wireless.password".into(), SecretValue::Plain(password.to_owned()));
            }
            let password = password.map(|_| Secret::Origin(true));
            model.network.wireless = Some(Wireless { name, password, hidden: false });
        } else if text("bootproto") == "dhcp" && model.network.interface.is_empty() {
            model.network.interface = text("name");
        } else if text("bootproto") == "static" && model.network.fixed.is_none() {
            let prefix = match text("prefixlen") {
                own if own.is_empty() => crate::prefix_len(&text("netmask")).to_string(),
                own => own,
            };
            let gateway = items(root, &["networking", "routing", "routes"])
                .find(|own| own.text_at(&["destination"]) == Some("default"))
                .and_then(|own| own.text_at(&["gateway"]));
            model.network.fixed = Some(StaticAddress {
                interface: text("name"),
                address: format!("{}/{prefix}", text("ipaddr")),
                gateway: gateway.unwrap_or_default().to_owned(),
                name_servers: texts(root, &["networking", "dns", "nameservers"]),
            });
        }
    }
}

fn disk(drive: &Element) -> Disk {
    let text = |name: &str| drive.text_at(&[name]).unwrap_or_default();
    Disk {
        device: text("device").trim_start_matches("/dev/").to_owned(),
        wipe: text("use") == "all" || super::is_true(text("initialize")),
        scheme: match text("disklabel") {
            "gpt" => Some(Scheme::Gpt),
            "msdos" => Some(Scheme::Mbr),
            _ => None,
        },
        partition: items(drive, &["partitions"]).map(partition).collect(),
        ..Disk::default()
    }
}

fn partition(own: &Element) -> Partition {
    let text = |name: &str| own.text_at(&[name]).unwrap_or_default();
    let mount = text("mount");
    let kind = PARTITION_IDS.iter().find(|(_, id)| *id == text("partition_id")).map(|(kind, _)| *kind);
    let kind = match (mount, kind) {
        ("swap", _) => PartitionKind::Swap,
        (_, Some(kind)) => kind,
        (mount, None) => kind_of_mount(mount),
    };
    let size = super::mib_of(text("size")).map_or(Size::Rest, Size::Mib);
    let is_usual = mount == "swap" || crate::disks::mount_point(&Partition::new(kind, size)) == mount;
    Partition {
        file_system: FileSystem::of_name(text("filesystem")).filter(|own| *own != usual(kind)),
        label: text("label").to_owned(),
        mount: if is_usual { String::new() } else { mount.to_owned() },
        ..Partition::new(kind, size)
    }
}

fn software(root: &Element, model: &mut Model) {
    let product = texts(root, &["software", "products"]);
    model.system.edition = product.into_iter().next().map(EditionChoice::Name);
    let patterns = texts(root, &["software", "patterns"]).into_iter().map(|own| format!("@{own}"));
    model.software.add = patterns.chain(texts(root, &["software", "packages"])).collect();
    let text = |path: &[&str]| root.text_at(path).unwrap_or_default().to_owned();
    let recommends = text(&["software", "install_recommended"]);
    model.distribution.recommends = (!recommends.is_empty()).then(|| super::is_true(&recommends));
    model.distribution.kernel = text(&["software", "kernel"]);
    model.distribution.kernel_options = text(&["bootloader", "global", "append"]);
    model.software.remove = texts(root, &["software", "remove-packages"]);
}

fn people(root: &Element, model: &mut Model, vault: &mut Vault) {
    for user in items(root, &["users"]) {
        let text = |name: &str| user.text_at(&[name]).unwrap_or_default();
        let (name, password) = (text("username"), text("user_password"));
        let is_hash = super::is_true(text("encrypted"));
        let value = |own: &str| {
            let own = own.to_owned();
            if is_hash { SecretValue::Hash(own) } else { SecretValue::Plain(own) }
        };
        if name == "root" {
            let rest = if is_hash { password.trim_start_matches('!') } else { password };
            if is_hash && password.starts_with('!') {
                model.administrator.enabled = Some(false);
            }
            if !rest.is_empty() {
                vault.insert(crate::model::ADMINISTRATOR_PASSWORD.into(), value(rest));
                model.administrator.password = Some(Secret::Origin(true));
            }
            continue;
        }
        if name.is_empty() {
            continue;
        }
        let mut account = Account { full_name: text("fullname").to_owned(), ..Account::named(name) };
        if !password.is_empty() {
            vault.insert(account.password_field(), value(password));
            account.password = Some(Secret::Origin(true));
        }
        model.account.push(account);
    }
    for group in items(root, &["groups"]) {
        let name = group.text_at(&["groupname"]).unwrap_or_default();
        let members = group.text_at(&["userlist"]).unwrap_or_default();
        for member in members.split(',').map(str::trim) {
            if let Some(account) = model.account.iter_mut().find(|own| own.name == member) {
                account.groups.push(shell::neutral_group(name, "wheel"));
            }
        }
    }
}

fn scripts(root: &Element, model: &mut Model, vault: &mut Vault) {
    for List { list, stage } in SCRIPTS {
        for own in items(root, &["scripts", list]) {
            let name = own.text_at(&["filename"]).unwrap_or_default().to_owned();
            let source = own.child("source").map(|own| own.text.clone()).unwrap_or_default();
            if name == super::MACHINE {
                for line in source.lines() {
                    Line::understand(line, &WAYS).into_model(stage, model, vault);
                }
            } else if name == super::COMMANDS.replace("STAGE", stage.name())
                || name == super::COMMANDS_OUTSIDE.replace("STAGE", stage.name())
            {
                let is_chrooted = own.text_at(&["chrooted"]).is_some_and(super::is_true);
                let outside = stage == Stage::SystemInstalled && !is_chrooted;
                commands(&source, stage, outside, model);
            } else if !name.is_empty() {
                let carried = Carried::Inside;
                model.script.push(Script { name, stage, text: source, from: String::new(), carried });
            }
        }
    }
}

fn commands(source: &str, stage: Stage, outside: bool, model: &mut Model) {
    let mut description = String::new();
    for line in source.lines().filter(|line| !line.trim().is_empty()) {
        if let Some(own) = line.strip_prefix("# ") {
            own.clone_into(&mut description);
            continue;
        }
        let (run, wait) = shell::split_unwaited(line);
        let description = std::mem::take(&mut description);
        model.command.push(Command { description, wait, outside, ..Command::new(stage, run) });
    }
}

/// Says what has no word in the neutral form.
fn kept(document: &Document, path: &str, element: &Element, findings: &mut Vec<Finding>) {
    for child in &element.children {
        let own = if path.is_empty() { child.name.clone() } else { format!("{path}/{}", child.name) };
        if UNDERSTOOD.contains(&own.as_str()) {
            continue;
        }
        if UNDERSTOOD.iter().any(|known| known.starts_with(&format!("{own}/"))) {
            kept(document, &own, child, findings);
            continue;
        }
        let note = Finding::told(Topic::Kept, own, "is not in the neutral form, and is kept as it is");
        let line = document.line(child.span.start);
        if !findings.iter().any(|finding| finding.field == note.field) {
            findings.push(note.at(line));
        }
    }
}

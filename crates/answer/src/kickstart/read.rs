//! Commands and sections as the neutral form.

use super::{
    NAME_FILE, STOP_AT_FAILURE, WAYS,
    document::{Block, OPTIONS, section_key},
};
use crate::{
    Finding, Topic,
    disks::{kind_of_mount, usual},
    face::Reading,
    model::{
        Account, Carried, Command, Disk, Erases, FileSystem, Licence, Model, Partition, PartitionKind,
        Scheme, Script, Secret, SecretValue, Size, Stage, StaticAddress, Vault, WhenDone, Wireless,
    },
    shell::{self, Line},
    tables,
};

pub(super) fn read(text: &str, blocks: &[Block]) -> Reading {
    let mut reading = Reading::default();
    let Reading { model, vault, findings } = &mut reading;
    if text.contains(crate::ERASES_MARK) {
        model.erases = Erases::Yes;
    }
    let mut disk: Option<Disk> = None;
    // The language comes first, because keyboards are told by it.
    if let Some(tag) =
        blocks.iter().find(|own| own.name == "lang").and_then(|own| tables::tag_of_posix(own.words.first()?))
    {
        model.language.setup = tag;
    }
    for (index, block) in blocks.iter().enumerate() {
        let is_known = if block.is_section() {
            read_section(&section_key(blocks, index), block, model)
        } else {
            read_command(block, model, vault, disk.get_or_insert_default())
        };
        if !is_known {
            let what = if block.name == "%include" { block.words.join(" ") } else { block.name.clone() };
            findings.push(
                Finding::told(Topic::Kept, what, "is not in the neutral form, and is kept as it is")
                    .at(block.line),
            );
        }
    }
    if let Some(disk) = disk.filter(|disk| *disk != Disk::default()) {
        model.disk.insert(0, disk);
    }
    // Conditions were read before or after the disk that they belong to.
    if let [first, rest @ ..] = model.disk.as_mut_slice()
        && let Some(guard) = rest.iter().find(|own| own.is_guarded() && own.partition.is_empty())
    {
        first.only_disk = guard.only_disk;
        first.at_least = guard.at_least;
        first.at_most = guard.at_most;
    }
    model.disk.truncate(1);
    reading
}

fn read_command(block: &Block, model: &mut Model, vault: &mut Vault, disk: &mut Disk) -> bool {
    match block.name.as_str() {
        "lang" | "zerombr" => {}
        "keyboard" => {
            let spoken = model.language.setup.clone();
            let own = block.option("--xlayouts").map_or_else(
                || block.plain(&["--vckeymap", "--switch"]).iter().map(|own| (*own).to_owned()).collect(),
                |list| {
                    list.split(',')
                        .map(|own| own.trim().trim_matches('\'').replace(" (", "("))
                        .collect::<Vec<String>>()
                },
            );
            model.language.keyboards = own.iter().map(|own| tables::keyboard_of_xkb(own, &spoken)).collect();
        }
        "timezone" => {
            let plain = block.plain(&["--ntpservers"]);
            plain.first().copied().unwrap_or_default().clone_into(&mut model.language.time_zone);
        }
        "eula" => model.system.licence = block.has("--agreed").then_some(Licence::Accept),
        "network" => return read_network(block, model, vault),
        "rootpw" => {
            if block.has("--lock") {
                model.administrator.enabled = Some(false);
            }
            let value = block.plain(&[]).first().map(|own| (*own).to_owned());
            if let Some(value) = value {
                let value = if block.has("--iscrypted") {
                    SecretValue::Hash(value)
                } else {
                    SecretValue::Plain(value)
                };
                vault.insert(crate::model::ADMINISTRATOR_PASSWORD.into(), value);
                model.administrator.password = Some(Secret::Origin(true));
            }
        }
        "user" => {
            let Some(name) = block.option("--name") else { return false };
            let groups = block.option("--groups").unwrap_or_default();
            let mut account = Account {
                full_name: block.option("--gecos").unwrap_or_default().to_owned(),
                groups: groups
                    .split(',')
                    .filter(|own| !own.is_empty())
                    .map(|own| shell::neutral_group(own, "wheel"))
                    .collect(),
                ..Account::named(name)
            };
            if let Some(value) = block.option("--password") {
                let value = value.to_owned();
                let value = if block.has("--iscrypted") {
                    SecretValue::Hash(value)
                } else {
                    SecretValue::Plain(value)
                };
                vault.insert(account.password_field(), value);
                account.password = Some(Secret::Origin(true));
            }
            model.account.push(account);
        }
        "ignoredisk" => match block.option("--only-use") {
            Some(device) if !device.contains(',') => device.clone_into(&mut disk.device),
            _ => return false,
        },
        "clearpart" => {
            disk.wipe = block.has("--all");
            disk.scheme = match block.option("--disklabel") {
                Some("gpt") => Some(Scheme::Gpt),
                Some("msdos") => Some(Scheme::Mbr),
                _ => None,
            };
            if let Some(device) =
                block.option("--drives").filter(|own| !own.contains(',') && disk.device.is_empty())
            {
                device.clone_into(&mut disk.device);
            }
        }
        "autopart" => return block.option("--type").is_some_and(|kind| kind == "plain"),
        "part" | "partition" => return read_partition(block, disk),
        "bootloader" => {
            let own = block.option("--boot-drive");
            if let Some(device) = own.filter(|_| disk.device.is_empty()) {
                device.clone_into(&mut disk.device);
            }
            let options = block.option("--append");
            options.unwrap_or_default().clone_into(&mut model.distribution.kernel_options);
            let known = usize::from(own.is_some()) + usize::from(options.is_some());
            return known > 0 && block.words.len() == known;
        }
        "services" => {
            model.remote.allow =
                block.option("--enabled").is_some_and(|own| own.split(',').any(|own| own == "sshd"));
            return model.remote.allow;
        }
        "firewall" => return block.has("--ssh"),
        "url" => {
            let Some(address) = block.option("--url") else { return false };
            address.clone_into(&mut model.distribution.mirror);
            return block.words.len() == 1;
        }
        "reboot" | "poweroff" | "shutdown" => {
            let is_restart = block.name == "reboot";
            model.power.when_done = Some(if is_restart { WhenDone::Restart } else { WhenDone::Off });
            if block.has("--eject") {
                model.power.leave_disc = Some(false);
            }
        }
        "%include" => return block.words.first().is_some_and(|own| own == NAME_FILE),
        _ => return false,
    }
    true
}

fn read_network(block: &Block, model: &mut Model, vault: &mut Vault) -> bool {
    if let Some(name) = block.option("--hostname") {
        let (name, domain) = name.split_once('.').unwrap_or((name, ""));
        if model.machine.name.is_empty() {
            name.clone_into(&mut model.machine.name);
            domain.clone_into(&mut model.machine.domain);
        }
    }
    if let Some(name) = block.option("--essid") {
        let password = block.option("--wpakey");
        if let Some(password) = password {
            vault.insert("network.wireless.password".into(), SecretValue::Plain(password.to_owned()));
        }
        let password = password.map(|_| Secret::Origin(true));
        model.network.wireless = Some(Wireless { name: name.to_owned(), password, hidden: false });
    }
    if let (Some("static"), Some(address)) = (block.option("--bootproto"), block.option("--ip")) {
        let prefix = crate::prefix_len(block.option("--netmask").unwrap_or("255.255.255.0"));
        let servers = block.option("--nameserver").unwrap_or_default();
        model.network.fixed = Some(StaticAddress {
            interface: block.option("--device").unwrap_or_default().to_owned(),
            address: format!("{address}/{prefix}"),
            gateway: block.option("--gateway").unwrap_or_default().to_owned(),
            name_servers: servers.split(',').filter(|own| !own.is_empty()).map(str::to_owned).collect(),
        });
        return true;
    }
    if let Some(device) = block.option("--device").filter(|_| block.option("--essid").is_none()) {
        (if device == "link" { "auto" } else { device }).clone_into(&mut model.network.interface);
        return block.option("--bootproto").is_none_or(|own| own == "dhcp");
    }
    block.has("--hostname") || block.has("--essid")
}

fn read_partition(block: &Block, disk: &mut Disk) -> bool {
    let plain = block.plain(&OPTIONS);
    let Some(mount) = plain.first().copied() else { return false };
    let kind = if mount == "swap" { PartitionKind::Swap } else { kind_of_mount(mount) };
    if !mount.starts_with('/') && kind != PartitionKind::Swap {
        return false;
    }
    let size = match block.option("--size").and_then(|own| own.parse().ok()) {
        _ if block.has("--grow") => Size::Rest,
        Some(mib) => Size::Mib(mib),
        None => return false,
    };
    let mut partition = Partition::new(kind, size);
    let file_system = block.option("--fstype").and_then(FileSystem::of_name);
    partition.file_system = file_system.filter(|own| *own != usual(kind));
    block.option("--label").unwrap_or_default().clone_into(&mut partition.label);
    if kind == PartitionKind::Data {
        mount.clone_into(&mut partition.mount);
    }
    if let Some(device) = block.option("--ondisk").filter(|_| disk.device.is_empty()) {
        device.clone_into(&mut disk.device);
    }
    disk.partition.push(partition);
    true
}

fn read_section(key: &str, block: &Block, model: &mut Model) -> bool {
    let stage = match block.name.as_str() {
        "%pre" => Stage::SetupStart,
        "%post" => Stage::SystemInstalled,
        "%packages" => {
            for line in &block.body {
                let name = line.split('#').next().unwrap_or_default().trim();
                match name.strip_prefix('-') {
                    _ if name.is_empty() => {}
                    Some(gone) => model.software.remove.push(gone.to_owned()),
                    None => model.software.add.push(name.to_owned()),
                }
            }
            let alone = block.has("--exclude-weakdeps");
            model.distribution.recommends = alone.then_some(false);
            return block.words.len() == usize::from(alone);
        }
        _ => return false,
    };
    let mark = key.split_once(':').map_or("", |(_, mark)| mark);
    let body = block.body.get(1..).unwrap_or_default();
    if mark == "this machine" {
        for line in body {
            match Line::understand(line, &WAYS) {
                Line::Guard(guard) => {
                    // The disk itself is known when all commands are read.
                    model.disk.push(Disk { device: guard.device.clone(), ..Disk::default() });
                    Line::Guard(guard).into_model(stage, model, &mut Vault::new());
                }
                other => other.into_model(stage, model, &mut Vault::new()),
            }
        }
        return true;
    }
    if let Some(name) = mark.strip_prefix("media script ") {
        model.script.push(script(name, stage, "", Carried::Media));
        return true;
    }
    if let Some(name) = mark.strip_prefix("script ") {
        model.script.push(script(name, stage, &format!("{}\n", body.join("\n")), Carried::Inside));
        return true;
    }
    if mark == "first start" {
        for line in body {
            Line::understand(line, &WAYS).into_model(stage, model, &mut Vault::new());
        }
        return true;
    }
    if mark == "commands" || mark == "commands outside" {
        let mut description = String::new();
        for line in body.iter().filter(|line| line.as_str() != STOP_AT_FAILURE) {
            if let Some(text) = line.strip_prefix("# ") {
                text.clone_into(&mut description);
                continue;
            }
            let (run, wait) = shell::split_unwaited(line);
            let outside = mark == "commands outside";
            let description = std::mem::take(&mut description);
            model.command.push(Command { description, wait, outside, ..Command::new(stage, run) });
        }
        return true;
    }
    // A script of somebody else's stays where it is.
    false
}

fn script(name: &str, stage: Stage, text: &str, carried: Carried) -> Script {
    Script { name: name.to_owned(), stage, text: text.to_owned(), from: String::new(), carried }
}

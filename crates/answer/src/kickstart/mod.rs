//! Kickstart: commands, packages and scripts for installers that read it.

mod about;
mod check;
mod document;

use crate::{
    Dialect, Erasure, Finding, Topic,
    check::MediaFacts,
    command_line::sh,
    disks::{kind_of_mount, mount_point, usual},
    face::{About, Face, Reading, Saying, Written},
    model::{
        Account, Carried, Command, Disk, Erases, FileSystem, Licence, Model, Partition, PartitionKind,
        Scheme, Script, Secret, SecretValue, Size, Stage, StaticAddress, Vault, WhenDone, Wireless,
    },
    pieces::{self, Piece},
    shell::{self, Guard, Line, Ways},
    tables,
};
use document::{Block, MARK, OPTIONS, parse, parts, quoted, section_key};
use neat_content::Result;

/// The dialect.
pub(crate) struct Kickstart;

const STAGES: [Stage; 2] = [Stage::SetupStart, Stage::SystemInstalled];
const WAYS: Ways = Ways {
    inside: "",
    media: "/run/install/repo",
    target: "/mnt/sysimage",
    stop: "exit 1",
    name: ("echo \"network --hostname=", "\" >/tmp/neatstack-name.ks"),
};
/// Sections of ours: the installer goes on after one that fails unless it is told not to.
const PRE: &str = "%pre --erroronfail";
const POST: &str = "%post --erroronfail";
const POST_OUTSIDE: &str = "%post --nochroot --erroronfail";
/// Has the first command that fails end the section.
const STOP_AT_FAILURE: &str = "set -e";
/// How lines outside of the installed system reach it.
const OUTSIDE: Ways = Ways { inside: "chroot /mnt/sysimage sh -c", ..WAYS };
/// The file that a machine's name is written to before it is read.
const NAME_FILE: &str = "/tmp/neatstack-name.ks";

impl Face for Kickstart {
    fn about(&self) -> &'static About {
        &about::ABOUT
    }

    fn read(&self, text: &str) -> Result<Reading> {
        let blocks = parse(text)?;
        Ok(read(text, &blocks))
    }

    fn write(&self, saying: &Saying<'_>) -> Result<Written> {
        let mut findings = unsaid(saying.model);
        let after = pieces(saying.model, saying.secrets, &mut findings);
        let text = match saying.origin {
            None => {
                let title: String = saying.model.title.chars().filter(|c| !c.is_control()).collect();
                let title = if title.is_empty() { "Answers for kickstart".into() } else { title };
                let mut head = format!("# {title}\n");
                if saying.model.erases == Erases::Yes {
                    head.push_str(&format!("# {}\n", crate::ERASES_MARK));
                }
                pieces::fresh(&head, &after)
            }
            Some(original) => {
                let marked = crate::set_mark(&original.text, saying.model.erases);
                let blocks = parse(&marked)?;
                let before = pieces(&original.reading.model, &original.reading.vault, &mut Vec::new());
                // Commands stand before sections.
                let first = blocks
                    .iter()
                    .find(|block| block.is_section())
                    .map_or(marked.len(), |block| block.span.start);
                let is_section = |piece: &&Piece| piece.key.starts_with('%');
                let split = |all: &[Piece]| -> (Vec<Piece>, Vec<Piece>) {
                    let (sections, commands) = all.iter().partition::<Vec<_>, _>(is_section);
                    (commands.into_iter().cloned().collect(), sections.into_iter().cloned().collect())
                };
                let (old_commands, old_sections) = split(&before);
                let (commands, sections) = split(&after);
                let text = pieces::rewrite(&marked, &parts(&blocks), &old_commands, &commands, first);
                let blocks = parse(&text)?;
                // Behind a section that does not end, new ones would belong to it.
                let open = blocks.last().filter(|block| block.is_section() && !block.is_closed);
                let end = open.map_or(text.len(), |block| block.span.start);
                pieces::rewrite(&text, &parts(&blocks), &old_sections, &sections, end)
            }
        };
        Ok(Written { text, files: shell::side_files(saying.model), findings })
    }

    fn erases(&self, text: &str, _reading: &Reading) -> Erasure {
        parse(text).map(|blocks| erases(&blocks)).unwrap_or_default()
    }

    fn check(&self, text: &str, _reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding> {
        match parse(text) {
            Ok(blocks) => check::check(&blocks, media),
            Err(error) => vec![Finding::new(Topic::Dialect, "file", error.to_string(), error.hint())],
        }
    }
}

fn pieces(model: &Model, secrets: &Vault, findings: &mut Vec<Finding>) -> Vec<Piece> {
    let mut out: Vec<Piece> = Vec::new();
    let mut say = |key: &str, line: String| {
        if line.contains(['\n', '\r']) {
            let why = "its value has several lines";
            findings.push(Finding::unsaid(key, Dialect::Kickstart, why, "write it in one line"));
        } else {
            out.push(Piece::new(key, line));
        }
    };
    let language = &model.language;
    let spoken = if language.setup.is_empty() { &language.user } else { &language.setup };
    if !spoken.is_empty() {
        say("lang", format!("lang {}", tables::posix_locale(spoken)));
    }
    let layouts: Vec<String> = language.keyboards.iter().filter_map(|own| tables::xkb(own)).collect();
    if !layouts.is_empty() {
        let named: Vec<String> = layouts
            .iter()
            .map(|own| match tables::split_xkb(own) {
                (layout, "") => sh::quoted(layout),
                (layout, variant) => sh::quoted(&format!("{layout} ({variant})")),
            })
            .collect();
        say("keyboard", format!("keyboard --xlayouts={}", named.join(",")));
    }
    if !language.time_zone.is_empty() {
        say("timezone", format!("timezone {} --utc", quoted(&language.time_zone)));
    }
    if model.system.licence == Some(Licence::Accept) {
        say("eula", "eula --agreed".into());
    }
    if !model.distribution.mirror.is_empty() {
        say("url", format!("url --url={}", quoted(&model.distribution.mirror)));
    }
    network(model, secrets, &mut say);
    people(model, secrets, &mut say);
    for disk in model.disk.iter().take(1) {
        disk_lines(disk, &mut say);
    }
    boot_loader(model, &mut say);
    if model.remote.allow {
        say("services", "services --enabled=sshd".into());
        say("firewall", "firewall --enabled --ssh".into());
    }
    let eject = if model.power.leave_disc == Some(false) { " --eject" } else { "" };
    match model.power.when_done {
        Some(WhenDone::Off) => say("end", format!("poweroff{eject}")),
        Some(WhenDone::Restart) => say("end", format!("reboot{eject}")),
        None => {}
    }
    for (index, own) in model.own.iter().filter(|own| own.dialect == Dialect::Kickstart).enumerate() {
        let front = if own.text.trim_start().starts_with('%') { "%" } else { "" };
        out.push(Piece::new(format!("{front}own:{index}"), own.text.trim_end()));
    }
    if model.machine.name.contains('{') {
        out.push(Piece::new("include-name", format!("%include {NAME_FILE}")));
    }
    sections(model, &mut out);
    out
}

fn network(model: &Model, secrets: &Vault, say: &mut dyn FnMut(&str, String)) {
    if let Some(fixed) = &model.network.fixed {
        let (address, prefix) = fixed.address.split_once('/').unwrap_or((&fixed.address, "24"));
        let mut line = format!(
            "network --bootproto=static --device={} --ip={address} --netmask={}",
            quoted(&fixed.interface),
            crate::netmask(prefix)
        );
        if !fixed.gateway.is_empty() {
            line.push_str(&format!(" --gateway={}", fixed.gateway));
        }
        if !fixed.name_servers.is_empty() {
            line.push_str(&format!(" --nameserver={}", fixed.name_servers.join(",")));
        }
        say("network", line);
    } else if let Some(wireless) = &model.network.wireless {
        let mut line = format!("network --bootproto=dhcp --device=link --essid={}", quoted(&wireless.name));
        if let Some(password) = secrets.get("network.wireless.password").and_then(SecretValue::plain) {
            line.push_str(&format!(" --wpakey={}", quoted(password)));
        }
        say("network", line);
    }
    let interface = &model.network.interface;
    if model.network.fixed.is_none() && model.network.wireless.is_none() && !interface.is_empty() {
        let device = if interface == "auto" { "link" } else { interface.as_str() };
        say("network", format!("network --bootproto=dhcp --device={}", quoted(device)));
    }
    let name = &model.machine.name;
    if !name.is_empty() && !name.contains('{') {
        let domain = &model.machine.domain;
        let whole = if domain.is_empty() { name.clone() } else { format!("{name}.{domain}") };
        say("hostname", format!("network --hostname={}", quoted(&whole)));
    }
}

fn people(model: &Model, secrets: &Vault, say: &mut dyn FnMut(&str, String)) {
    let root =
        secrets.get(crate::model::ADMINISTRATOR_PASSWORD).filter(|_| model.administrator.password.is_some());
    let hash = root.and_then(|value| shell::hash(model, "root", value));
    match (model.administrator.enabled, hash) {
        (Some(false), None) => say("rootpw", "rootpw --lock".into()),
        (Some(false), Some(hash)) => say("rootpw", format!("rootpw --iscrypted --lock {}", quoted(&hash))),
        (_, Some(hash)) => say("rootpw", format!("rootpw --iscrypted {}", quoted(&hash))),
        _ => {}
    }
    for account in &model.account {
        let mut line = format!("user --name={}", quoted(&account.name));
        if !account.full_name.is_empty() {
            line.push_str(&format!(" --gecos={}", quoted(&account.full_name)));
        }
        let groups: Vec<&str> = account.groups.iter().map(|own| shell::group(own, "wheel")).collect();
        if !groups.is_empty() {
            line.push_str(&format!(" --groups={}", quoted(&groups.join(","))));
        }
        let value = secrets.get(&account.password_field()).filter(|_| account.password.is_some());
        if let Some(hash) = value.and_then(|value| shell::hash(model, &account.name, value)) {
            line.push_str(&format!(" --iscrypted --password={}", quoted(&hash)));
        }
        say(&format!("user:{}", account.name), line);
    }
}

fn disk_lines(disk: &Disk, say: &mut dyn FnMut(&str, String)) {
    let device = quoted(&disk.device);
    if !disk.device.is_empty() {
        say("ignoredisk", format!("ignoredisk --only-use={device}"));
    }
    if disk.wipe {
        let label = match disk.scheme {
            Some(Scheme::Gpt) => " --disklabel=gpt",
            Some(Scheme::Mbr) => " --disklabel=msdos",
            None => "",
        };
        let drives = if disk.device.is_empty() { String::new() } else { format!(" --drives={device}") };
        say("zerombr", "zerombr".into());
        say("clearpart", format!("clearpart --all --initlabel{label}{drives}"));
    }
    if disk.partition.is_empty() {
        say("autopart", "autopart --type=plain".into());
    }
    for (index, partition) in disk.partition.iter().enumerate() {
        let mount = match partition.kind {
            PartitionKind::Swap => "swap".to_owned(),
            _ => mount_point(partition),
        };
        let mount = if mount.is_empty() { format!("/data{index}") } else { mount };
        let mut line = format!("part {}", quoted(&mount));
        let file_system = partition.file_system.unwrap_or(usual(partition.kind));
        match partition.kind {
            PartitionKind::Swap => {}
            PartitionKind::Efi => line.push_str(" --fstype=efi"),
            _ => line.push_str(&format!(" --fstype={}", file_system.linux_name())),
        }
        match partition.size {
            Size::Mib(mib) => line.push_str(&format!(" --size={mib}")),
            Size::Rest => line.push_str(" --size=1024 --grow"),
        }
        if !disk.device.is_empty() {
            line.push_str(&format!(" --ondisk={device}"));
        }
        if !partition.label.is_empty() {
            line.push_str(&format!(" --label={}", quoted(&partition.label)));
        }
        say(&format!("part:{mount}"), line);
    }
}

fn boot_loader(model: &Model, say: &mut dyn FnMut(&str, String)) {
    let mut line = "bootloader".to_owned();
    if let Some(disk) = model.disk.first().filter(|own| !own.device.is_empty()) {
        line.push_str(&format!(" --boot-drive={}", quoted(&disk.device)));
    }
    let options = &model.distribution.kernel_options;
    if !options.is_empty() {
        line.push_str(&format!(" --append={}", quoted(options)));
    }
    if line.contains(' ') {
        say("bootloader", line);
    }
}

fn section(name: &str, mark: &str, body: &str) -> Piece {
    let kind = name.split(' ').next().unwrap_or_default();
    Piece::new(
        format!("{kind}:{mark}"),
        format!("{name}\n{MARK}{mark}\n{}\n%end", body.trim_end_matches('\n')),
    )
}

fn sections(model: &Model, out: &mut Vec<Piece>) {
    let software = &model.software;
    let alone = if model.distribution.recommends == Some(false) { " --exclude-weakdeps" } else { "" };
    if !software.add.is_empty() || !software.remove.is_empty() || !alone.is_empty() {
        let add = software.add.iter().cloned();
        let lines: Vec<String> = add.chain(software.remove.iter().map(|own| format!("-{own}"))).collect();
        let lines: String = lines.iter().map(|line| format!("{line}\n")).collect();
        out.push(Piece::new("%packages", format!("%packages{alone}\n{lines}%end")));
    }
    let mut first: Vec<String> =
        model.disk.iter().filter_map(Guard::of_disk).map(|own| Line::Guard(own).say(&WAYS)).collect();
    if model.machine.name.contains('{') {
        first.push(Line::Name(model.machine.name.clone()).say(&WAYS));
    }
    if !first.is_empty() {
        out.push(section(PRE, "this machine", &first.join("\n")));
    }
    for (stage, outside, name, mark) in [
        (Stage::SetupStart, false, PRE, "commands"),
        (Stage::SystemInstalled, false, POST, "commands"),
        (Stage::SystemInstalled, true, POST_OUTSIDE, "commands outside"),
    ] {
        let is_own = |command: &&Command| command.outside == outside || stage == Stage::SetupStart;
        let own: Vec<&Command> = model.commands(stage).filter(is_own).collect();
        if own.is_empty() {
            continue;
        }
        let mut body = format!("{STOP_AT_FAILURE}\n");
        for command in own {
            if !command.description.is_empty() {
                body.push_str(&format!("# {}\n", command.description));
            }
            body.push_str(&format!("{}{}\n", command.run, if command.wait { "" } else { shell::UNWAITED }));
        }
        out.push(section(name, mark, &body));
    }
    for script in model.script.iter().filter(|script| STAGES.contains(&script.stage)) {
        let name = if script.stage == Stage::SetupStart { PRE } else { POST };
        if script.carried == Carried::Media {
            // The media is seen from outside of the installed system.
            let name = if script.stage == Stage::SetupStart { PRE } else { POST_OUTSIDE };
            let outside = script.stage == Stage::SetupStart;
            let run = Line::MediaScript { name: script.name.clone(), outside }.say(&OUTSIDE);
            out.push(section(name, &format!("media script {}", script.name), &run));
            continue;
        }
        out.push(section(
            &format!("{name}{}", interpreter(script)),
            &format!("script {}", script.name),
            &script.text,
        ));
    }
    if let Some(line) = shell::first_start(model, &Vault::new()) {
        out.push(section(POST, "first start", &line.say(&WAYS)));
    }
}

/// What runs a script that is none of the shell: its first line says it, or its ending. In a section that line is a
/// remark.
fn interpreter(script: &Script) -> String {
    let first = script.text.lines().next().and_then(|line| line.strip_prefix("#!")).map(str::trim);
    let is_path = |own: &&str| own.starts_with('/') && !own.contains(char::is_whitespace);
    match (first.filter(is_path), script.name.rsplit_once('.')) {
        (Some("/bin/sh" | "/bin/bash"), _) => String::new(),
        (Some(path), _) => format!(" --interpreter={path}"),
        (None, Some((_, "py"))) => " --interpreter=/usr/bin/python3".into(),
        (None, _) => String::new(),
    }
}

fn read(text: &str, blocks: &[Block]) -> Reading {
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

fn unsaid(model: &Model) -> Vec<Finding> {
    let mut findings = Vec::new();
    let stages = [&STAGES[..], &[Stage::FirstStart]].concat();
    shell::unsaid(model, Dialect::Kickstart, &stages, &mut findings);
    if model.system.edition.is_some() {
        let why = "there are no editions; software.add chooses an environment such as @^minimal-environment";
        findings.push(Finding::needless("system.edition", Dialect::Kickstart, why));
    }
    let mut add = |field: &str, why: &str, hint: &str| {
        findings.push(Finding::unsaid(field, Dialect::Kickstart, why, hint));
    };
    if model.disk.len() > 1 {
        add("disk", "the neutral form lays out one disk here", "add part lines for others with [[own]]");
    }
    if model.network.fixed.is_some() && model.network.wireless.is_some() {
        add("network.wireless", "one network is set up", "leave one out");
    }
    if model.network.wireless.as_ref().is_some_and(|own| own.hidden) {
        add("network.wireless.hidden", "it does not ask for that", "leave it out");
    }
    let name = &model.machine.name;
    if !model.machine.domain.is_empty() && (name.is_empty() || name.contains('{')) {
        add("machine.domain", "the domain is a part of a fixed name", "give the machine a fixed name");
    }
    if model.network.needed == Some(false) {
        findings.push(Finding::told(
            Topic::Needless,
            "network.needed",
            "kickstart asks for none when everything is on the media",
        ));
    }
    if model.first_start.privacy.is_some() {
        findings.push(Finding::told(
            Topic::Needless,
            "first_start.privacy",
            "kickstart has no such questions, so there is nothing to say",
        ));
    }
    findings
}

fn erases(blocks: &[Block]) -> Erasure {
    let mut erasure = Erasure::default();
    for block in blocks {
        if block.name == "clearpart" && !block.has("--none") {
            let drives = block.option("--drives").or(block.option("--list"));
            let what = if block.has("--linux") { "the Linux partitions" } else { "everything" };
            erasure.add(
                drives.map_or_else(
                    || format!("{what} on every disk it sees"),
                    |own| format!("{what} on {own}"),
                ),
            );
        }
        for line in &block.body {
            erasure.add_command(line);
        }
    }
    erasure
}

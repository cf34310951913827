//! The neutral form as commands and sections.

use super::{
    NAME_FILE, OUTSIDE, POST, POST_OUTSIDE, PRE, STAGES, STOP_AT_FAILURE, WAYS,
    document::{MARK, quoted},
};
use crate::{
    Dialect, Finding,
    command_line::sh,
    disks::{mount_point, usual},
    model::{
        Carried, Command, Disk, Licence, Model, PartitionKind, Scheme, Script, SecretValue, Size, Stage,
        Vault, WhenDone,
    },
    pieces::Piece,
    shell::{self, Guard, Line},
    tables,
};

pub(super) fn pieces(model: &Model, secrets: &Vault, findings: &mut Vec<Finding>) -> Vec<Piece> {
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

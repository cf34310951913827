//! Answers for Debian's installer: lines of debconf's preseed form.

mod about;
mod check;
mod disks;
mod distribution;
mod document;
mod keymaps;

use crate::{
    Dialect, Erasure, Finding, Topic,
    check::MediaFacts,
    command_line::sh,
    face::{About, Face, Reading, Saying, Written},
    model::{
        Account, Disk, Erases, Model, Privacy, Secret, SecretValue, Stage, StaticAddress, Vault, WhenDone,
        Wireless,
    },
    pieces::{self, Piece},
    shell::{self, Guard, Line, Ways},
    tables,
};
use document::Document;
use neat_content::Result;

/// The dialect.
pub(crate) struct Preseed;

const WAYS: Ways = Ways {
    inside: "in-target sh -c",
    media: "/cdrom",
    target: "/target",
    stop: "{ echo 'The disks are not as the answer file expects. Nothing was written.' >/dev/console; sleep 1000000; }",
    // The first is what is asked, the second wins against a name that a DHCP server gives.
    name: ("{ n=\"", "\"; debconf-set netcfg/get_hostname \"$n\" && debconf-set netcfg/hostname \"$n\"; }"),
};
const STAGES: [Stage; 3] = [Stage::SetupStart, Stage::SystemInstalled, Stage::FirstStart];
/// How versions before 0.2 said a machine's name that is made from a pattern.
const FORMER_NAME: (&str, &str) = ("debconf-set netcfg/get_hostname \"", "\"");
const SSH: &str = "openssh-server";
const GO_ON: &str = "Do not configure the network at this time";

impl Face for Preseed {
    fn about(&self) -> &'static About {
        &about::ABOUT
    }

    fn read(&self, text: &str) -> Result<Reading> {
        let document = Document::parse(text)?;
        Ok(read(&document))
    }

    fn write(&self, saying: &Saying<'_>) -> Result<Written> {
        let mut findings = unsaid(saying.model);
        let after = pieces(saying.model, saying.secrets, &mut findings);
        let text = match saying.origin {
            None => {
                let mut head = format!("# {}\n", title(saying.model));
                if saying.model.erases == Erases::Yes {
                    head.push_str(&format!("# {}\n", crate::ERASES_MARK));
                }
                pieces::fresh(&head, &after)
            }
            Some(original) => {
                let marked = crate::set_mark(&original.text, saying.model.erases);
                let document = Document::parse(&marked)?;
                let before = pieces(&original.reading.model, &original.reading.vault, &mut Vec::new());
                pieces::rewrite(&marked, &document.parts(), &before, &after, marked.len())
            }
        };
        Ok(Written { text, files: shell::side_files(saying.model), findings })
    }

    fn erases(&self, text: &str, reading: &Reading) -> Erasure {
        Document::parse(text).map(|document| erases(&document, reading)).unwrap_or_default()
    }

    fn check(&self, text: &str, reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding> {
        match Document::parse(text) {
            Ok(document) => check::check(&document, reading, media),
            Err(error) => vec![Finding::new(Topic::Dialect, "file", error.to_string(), error.hint())],
        }
    }
}

fn title(model: &Model) -> String {
    let title: String = model.title.chars().filter(|c| !c.is_control()).collect();
    if title.is_empty() { "Answers for Debian's installer".into() } else { title }
}

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
fn pieces(model: &Model, secrets: &Vault, findings: &mut Vec<Finding>) -> Vec<Piece> {
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
        say("preseed/early_command", "string", &join(&first));
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
        say("preseed/late_command", "string", &join(&last));
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

fn read(document: &Document<'_>) -> Reading {
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
        for line in split_commands(value(question).unwrap_or_default()) {
            let line = understand(&line);
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

/// Commands as one question says them: in order, and the first that fails ends it, so that the installer says so. What
/// others wrote gets a shell of its own, as an open comment or list would swallow what follows.
fn join(lines: &[Line]) -> String {
    let own = |line: &Line| match line {
        Line::Own { run, wait, outside: true } if !sh::is_simple(run) => {
            Line::Own { run: sh::own_shell(run), wait: *wait, outside: true }.say(&WAYS)
        }
        line => line.say(&WAYS),
    };
    sh::in_order(&lines.iter().map(own).collect::<Vec<_>>())
}

/// What one command of a question means.
fn understand(command: &str) -> Line {
    let command = sh::ungrouped(command);
    let (run, wait) = shell::split_unwaited(command);
    match sh::of_own_shell(run) {
        Some(run) => Line::Own { run, wait, outside: true },
        None => Line::understand(command, &WAYS).or_name_of(command, FORMER_NAME),
    }
}

/// Commands of one line: parted by semicolons, or by `&&` where no `||` makes another thing of them.
fn split_commands(line: &str) -> Vec<String> {
    let parts = split_at(line, ";").into_iter().flat_map(|part| {
        let is_chain = split_at(&part, "||").len() == 1;
        if is_chain { split_at(&part, "&&") } else { vec![part] }
    });
    let parts: Vec<String> = parts.collect();
    // What belongs together in the shell's own grammar is one command here.
    let is_compound = |part: &String| {
        let word = part.split_whitespace().next().unwrap_or_default();
        matches!(
            word,
            "if" | "then"
                | "else"
                | "elif"
                | "fi"
                | "for"
                | "while"
                | "until"
                | "do"
                | "done"
                | "case"
                | "esac"
        )
    };
    if parts.iter().any(is_compound) {
        return vec![line.trim().to_owned()];
    }
    parts
}

/// A line taken apart at a sign that is neither quoted nor grouped.
fn split_at(line: &str, sign: &str) -> Vec<String> {
    let mut out = Vec::new();
    let mut part = String::new();
    let (mut quote, mut depth, mut escaped) = (None, 0_u32, false);
    let mut passed = 0;
    for (at, c) in line.char_indices() {
        if at < passed {
            continue;
        }
        if escaped {
            escaped = false;
        } else if let Some(own) = quote {
            if c == own {
                quote = None;
            } else if c == '\\' && own == '"' {
                escaped = true;
            }
        } else {
            match c {
                '\\' => escaped = true,
                '\'' | '"' => quote = Some(c),
                '(' | '{' => depth += 1,
                ')' | '}' => depth = depth.saturating_sub(1),
                _ if depth == 0 && line[at..].starts_with(sign) => {
                    out.push(std::mem::take(&mut part));
                    passed = at + sign.len();
                    continue;
                }
                _ => {}
            }
        }
        part.push(c);
    }
    out.push(part);
    out.into_iter().map(|part| part.trim().to_owned()).filter(|part| !part.is_empty()).collect()
}

fn unsaid(model: &Model) -> Vec<Finding> {
    let mut findings = Vec::new();
    shell::unsaid(model, Dialect::Preseed, &STAGES, &mut findings);
    let first = model.language.keyboards.first().and_then(|own| tables::xkb(own));
    if first.is_some_and(|own| keymaps::of(&own).is_none()) {
        findings.push(Finding::told(Topic::Unusual,
            "language.keyboards",
            "the installer offers no such keyboard: while it works, the keyboard is the American one; the system gets it",
        ));
    }
    if model.system.edition.is_some() {
        let why = "there are no editions; software.add chooses packages";
        findings.push(Finding::needless("system.edition", Dialect::Preseed, why));
    }
    let mut add = |field: &str, why: &str, hint: &str| {
        findings.push(Finding::unsaid(field, Dialect::Preseed, why, hint));
    };
    if model.disk.len() > 1 {
        add("disk", "one disk is laid out", "lay the others out by a command");
    }
    if model.network.wireless.as_ref().is_some_and(|own| own.hidden) {
        add("network.wireless.hidden", "it does not ask for that", "leave it out");
    }
    let described = model.command.iter().any(|command| !command.description.is_empty());
    if described {
        findings.push(Finding::told(
            Topic::Needless,
            "command.description",
            "a line of commands has no room for descriptions",
        ));
    }
    findings
}

/// Whether a disk is laid out by the installer itself.
fn is_guided(disk: &Disk) -> bool {
    disk.partition.is_empty()
}

fn erases(document: &Document<'_>, reading: &Reading) -> Erasure {
    let mut erasure = Erasure::default();
    let is_laid_out =
        document.get("partman-auto/method").is_some() || document.get("partman-auto/expert_recipe").is_some();
    if is_laid_out && document.is_true("partman/confirm") {
        let device = reading.model.disk.first().map(|disk| disk.device.clone()).unwrap_or_default();
        erasure.add(if device.is_empty() {
            "everything on the disk".into()
        } else {
            format!("everything on {device}")
        });
        if !document.is_true("partman/confirm_nooverwrite") {
            erasure.ask("whether to write the changes");
        }
        if device.is_empty() {
            erasure.ask("which disk, if there are several");
        }
    }
    for question in ["preseed/early_command", "partman/early_command", "preseed/late_command"] {
        erasure.add_command(document.value(question).unwrap_or_default());
    }
    erasure
}

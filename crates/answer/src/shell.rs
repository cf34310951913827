//! What the neutral form asks and installers of Linux do by a line of shell.

use crate::{
    Finding, Topic,
    command_line::sh::{self, quoted, unquoted, word},
    model::{Account, Carried, Command, Disk, Model, Script, Secret, SecretValue, Stage, Vault},
};
use base64::{Engine, engine::general_purpose::STANDARD};
use sha_crypt::{PasswordHasher, ShaCrypt};
use sha2::{Digest, Sha256};

/// A line of shell with what it means.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Line {
    /// Stops unless the disk is as wanted.
    Guard(Guard),
    /// The machine's name is made from a pattern.
    Name(String),
    /// An account is made.
    Account { account: Account, hash: Option<String> },
    /// An account is put into groups, which are made first.
    Join { account: String, groups: Vec<String> },
    /// The keyboards of the installed system, as layouts of X with blanks between them.
    Keyboard(String),
    /// A package goes.
    Remove(String),
    /// A script is unpacked and run, in the installed system or in the setup environment.
    Script { name: String, text: String, outside: bool },
    /// A script on the media is run.
    MediaScript(String),
    /// A command of the model.
    Own { run: String, wait: bool, outside: bool },
}

/// Conditions for laying out a disk, sizes in MiB.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Guard {
    pub device: String,
    pub only: bool,
    pub at_least: u64,
    pub at_most: u64,
}

/// How a dialect's lines reach the installed system and the media.
#[derive(Clone, Copy)]
pub(crate) struct Ways {
    /// Before a command in the installed system; it is followed by a quoted script. Empty when lines run there.
    pub inside: &'static str,
    /// Where the media is while setup runs.
    pub media: &'static str,
    /// Ends setup with an error.
    pub stop: &'static str,
    /// Before and after the expression for the machine's name.
    pub name: (&'static str, &'static str),
}

/// What a name may have of a serial number.
const SERIAL: &str = "$(tr -cd A-Za-z0-9- </sys/class/dmi/id/product_serial | cut -c 1-40)";
/// How versions before 0.2 said it.
const FORMER_SERIAL: &str = "$(cat /sys/class/dmi/id/product_serial)";
/// Makes a name of what is left when a machine has no number: none begins or ends with `-`, or is empty.
const FIT: (&str, &str) = ("$(echo \"", "\" | sed 's/^-*//;s/-*$//;s/^$/machine/')");
const RANDOM: &str = "$(tr -dc a-z0-9 </dev/urandom | head -c ";

/// Ends a command that is not waited for. An installer waits for whoever still holds its output, or its line to
/// debconf (descriptor 3), too.
pub(crate) const UNWAITED: &str = " </dev/null >/dev/null 2>&1 3>&- &";

/// A command without its sign, and whether it is waited for.
pub(crate) fn split_unwaited(line: &str) -> (&str, bool) {
    let own = line.strip_suffix(UNWAITED).or_else(|| line.strip_suffix(" &"));
    own.map_or((line, true), |run| (run, false))
}

/// Whether there is one disk. Neither what the kernel makes up (memory, arrays, network) nor discs, boot areas of memory
/// cards, and what hangs on USB or calls itself removable counts: the media may be among these.
const ONLY_DISK: &str = "{ n=0; for d in /sys/block/*; do case $(readlink -f $d) in \
    (*/virtual/*|*/usb*|*/session*|*/sr[0-9]*|*/fd[0-9]*|*boot[0-9]|*rpmb) ;; \
    (*) [ $(cat $d/removable) -eq 1 ] || n=$((n+1)) ;; esac; done; [ $n -eq 1 ]; }";
/// How versions before 0.2 asked it.
const FORMER_ONLY_DISK: &str = "grep -c 0) -eq 1 ]";
/// Groups that every Debian system has (base-passwd) or that its installer brings, so that they need not be made.
const USUAL_GROUPS: [&str; 22] = [
    "adm", "audio", "backup", "cdrom", "dialout", "dip", "disk", "fax", "floppy", "games", "lp", "mail",
    "netdev", "operator", "plugdev", "src", "staff", "sudo", "tape", "users", "video", "voice",
];
/// Whether every system has a group.
pub(crate) fn is_usual_group(name: &str) -> bool {
    USUAL_GROUPS.contains(&name)
}

/// Puts an account into groups.
const JOIN: &str = "usermod -aG ";
/// Makes a group that may be there.
const MAKE_GROUP: &str = "groupadd -f ";

/// Changes the file that says the system's keyboards.
const KEYBOARD: (&str, &str) = ("sed -i -e ", " /etc/default/keyboard");

/// What is changed: all layouts, then all variants.
fn keyboard_values(layouts: &str) -> String {
    let all: Vec<(&str, &str)> = layouts.split(' ').map(crate::tables::split_xkb).collect();
    let join = |pick: fn(&(&str, &str)) -> String| all.iter().map(pick).collect::<Vec<_>>().join(",");
    let (layouts, variants) = (join(|own| own.0.to_owned()), join(|own| own.1.to_owned()));
    format!("s/^XKBLAYOUT=.*/XKBLAYOUT={layouts}/;s/^XKBVARIANT=.*/XKBVARIANT={variants}/")
}

fn of_keyboard_values(values: &str) -> Option<String> {
    let rest = values.strip_prefix("s/^XKBLAYOUT=.*/XKBLAYOUT=")?.strip_suffix('/')?;
    let (layouts, variants) = rest.split_once("/;s/^XKBVARIANT=.*/XKBVARIANT=")?;
    let whole = |(layout, variant): (&str, &str)| {
        if variant.is_empty() { layout.to_owned() } else { format!("{layout}({variant})") }
    };
    Some(layouts.split(',').zip(variants.split(',')).map(whole).collect::<Vec<_>>().join(" "))
}

/// A machine name's pattern as the shell fills it.
fn expression(pattern: &str) -> String {
    let mut out = String::new();
    let mut rest = pattern;
    while let Some(start) = rest.find('{') {
        let Some(end) = rest[start..].find('}').map(|end| start + end) else { break };
        out.push_str(&rest[..start]);
        let inside = &rest[start + 1..end];
        match inside.strip_prefix("random") {
            Some(count) => {
                let count = count.strip_prefix(':').unwrap_or("8");
                out.push_str(&format!("{RANDOM}{count})"));
            }
            None => out.push_str(SERIAL),
        }
        rest = &rest[end + 1..];
    }
    out.push_str(rest);
    if pattern.contains("{serial}") { format!("{}{out}{}", FIT.0, FIT.1) } else { out }
}

fn pattern(expression: &str) -> String {
    let inside = expression.strip_prefix(FIT.0).and_then(|rest| rest.strip_suffix(FIT.1));
    let mut out = inside.unwrap_or(expression).replace(SERIAL, "{serial}").replace(FORMER_SERIAL, "{serial}");
    while let Some(at) = out.find(RANDOM) {
        let rest = out[at + RANDOM.len()..].to_owned();
        let Some((count, after)) = rest.split_once(')') else { break };
        out = format!("{}{{random:{count}}}{after}", &out[..at]);
    }
    out
}

/// Groups of the neutral form as Linux systems call them; who administers differs.
pub(crate) fn group<'a>(name: &'a str, administrators: &'a str) -> &'a str {
    match name {
        "administrators" => administrators,
        name => name,
    }
}

pub(crate) fn neutral_group(name: &str, administrators: &str) -> String {
    if name == administrators { "administrators".into() } else { name.to_owned() }
}

/// The hash of a password: what was given, or made by SHA-512 crypt.
///
/// The salt comes from what is public, so that the same answers give the same bytes.
pub(crate) fn hash(model: &Model, name: &str, value: &SecretValue) -> Option<String> {
    let plain = match value {
        SecretValue::Hash(hash) => return Some(hash.clone()),
        SecretValue::Plain(plain) => plain,
    };
    let digest = Sha256::new().chain_update(&model.title);
    let salt = digest.chain_update([0]).chain_update(name).finalize();
    let made = ShaCrypt::SHA512.hash_password_with_salt(plain.as_bytes(), salt.get(..12)?).ok()?;
    Some(made.to_string())
}

impl Guard {
    pub fn of_disk(disk: &Disk) -> Option<Self> {
        let mib = |size: Option<crate::model::Size>| size.and_then(crate::model::Size::mib).unwrap_or(0);
        disk.is_guarded().then(|| Self {
            device: if disk.device.is_empty() { "sda".into() } else { disk.device.clone() },
            only: disk.only_disk,
            at_least: mib(disk.at_least),
            at_most: mib(disk.at_most),
        })
    }

    fn say(&self, stop: &str) -> String {
        let Self { device, only, at_least, at_most } = self;
        let mut tests =
            vec![format!("s=$(($(cat /sys/block/{device}/size)/2048))"), format!("[ $s -ge {at_least} ]")];
        if *at_most > 0 {
            tests.push(format!("[ $s -le {at_most} ]"));
        }
        if *only {
            tests.push(ONLY_DISK.into());
        }
        format!("{} || {stop}", tests.join(" && "))
    }

    fn understand(line: &str, stop: &str) -> Option<Self> {
        let tests = line.strip_suffix(&format!(" || {stop}"))?;
        let rest = tests.strip_prefix("s=$(($(cat /sys/block/")?;
        let device = rest.split_once("/size)")?.0.to_owned();
        let number = |sign: &str| {
            let rest = tests.split_once(&format!("[ $s {sign} "))?.1;
            rest.split_once(' ')?.0.parse().ok()
        };
        Some(Self {
            device,
            only: tests.contains(ONLY_DISK) || tests.contains(FORMER_ONLY_DISK),
            at_least: number("-ge").unwrap_or(0),
            at_most: number("-le").unwrap_or(0),
        })
    }
}

impl Line {
    /// The line for a dialect.
    pub fn say(&self, ways: &Ways) -> String {
        let inside = |script: String| {
            if ways.inside.is_empty() { script } else { format!("{} {}", ways.inside, quoted(&script)) }
        };
        match self {
            Self::Guard(guard) => guard.say(ways.stop),
            Self::Name(pattern) => format!("{}{}{}", ways.name.0, expression(pattern), ways.name.1),
            Self::Account { account, hash } => {
                let mut words = "useradd -m -s /bin/bash".to_owned();
                if !account.full_name.is_empty() {
                    words.push_str(&format!(" -c {}", quoted(&account.full_name)));
                }
                let groups: Vec<&str> = account.groups.iter().map(|own| group(own, "sudo")).collect();
                if !groups.is_empty() {
                    words.push_str(&format!(" -G {}", word(&groups.join(","))));
                }
                if let Some(hash) = hash {
                    words.push_str(&format!(" -p {}", quoted(hash)));
                }
                // With one group that is not there, no account is made at all.
                let made = groups.iter().filter(|own| !USUAL_GROUPS.contains(own));
                let made: String = made.map(|own| format!("{MAKE_GROUP}{} && ", word(own))).collect();
                inside(format!("{made}{words} {}", word(&account.name)))
            }
            Self::Join { account, groups } => {
                let made: String =
                    groups.iter().map(|own| format!("{MAKE_GROUP}{} && ", word(own))).collect();
                inside(format!("{made}{JOIN}{} {}", word(&groups.join(",")), word(account)))
            }
            Self::Keyboard(layouts) => {
                inside(format!("{}{}{}", KEYBOARD.0, quoted(&keyboard_values(layouts)), KEYBOARD.1))
            }
            Self::Remove(name) => inside(format!("apt-get -y purge {}", word(name))),
            Self::Script { name, text, outside: true } => {
                // Setup environments may have no base64.
                let path = word(&format!("/tmp/{name}"));
                format!("{} >{path} && chmod 700 {path} && {path}", sh::printed(text))
            }
            Self::Script { name, text, outside: false } => {
                let path = word(&format!("/root/{name}"));
                let packed = STANDARD.encode(text);
                inside(format!(
                    "echo {packed} | base64 -d >{path} && chmod 700 {path} && {path} && rm {path}"
                ))
            }
            Self::MediaScript(name) => format!("sh {}", word(&format!("{}/neatstack/{name}", ways.media))),
            Self::Own { run, wait, outside } => {
                let end = if *wait { "" } else { UNWAITED };
                if *outside { format!("{run}{end}") } else { format!("{}{end}", inside(run.clone())) }
            }
        }
    }

    /// What a line means.
    pub fn understand(line: &str, ways: &Ways) -> Self {
        let line = line.trim();
        if let Some(guard) = Guard::understand(line, ways.stop) {
            return Self::Guard(guard);
        }
        let name = line.strip_prefix(ways.name.0).and_then(|rest| rest.strip_suffix(ways.name.1));
        if let Some(name) = name.filter(|_| !ways.name.0.is_empty()) {
            return Self::Name(pattern(name));
        }
        let script = line.strip_prefix("sh ").and_then(sh::read_word).filter(|(_, rest)| rest.is_empty());
        let script = script.and_then(|(path, _)| {
            path.strip_prefix(&format!("{}/neatstack/", ways.media)).map(str::to_owned)
        });
        if let Some(name) = script {
            return Self::MediaScript(name);
        }
        if let Some((text, rest)) = sh::of_printed(line)
            && let Some((path, _)) = rest.strip_prefix(" >").and_then(sh::read_word)
            && let Some(name) = path.strip_prefix("/tmp/")
        {
            return Self::Script { name: name.to_owned(), text, outside: true };
        }
        let (run, wait) = split_unwaited(line);
        let script = if ways.inside.is_empty() {
            Some(run.to_owned())
        } else {
            let whole = run.strip_prefix(ways.inside).and_then(|rest| unquoted(rest.trim_start()));
            whole.filter(|(_, rest)| rest.is_empty()).map(|(script, _)| script)
        };
        let Some(script) = script else {
            // A program that is run in the installed system without a shell of its own.
            let direct = ways.inside.split(' ').next().unwrap_or_default();
            let direct = run
                .strip_prefix(&format!("{direct} "))
                .filter(|rest| ways.inside.starts_with("in-target") && !rest.is_empty());
            return match direct {
                Some(direct) => Self::Own { run: direct.to_owned(), wait, outside: false },
                None => Self::Own { run: run.to_owned(), wait, outside: true },
            };
        };
        if let Some(line) = Self::of_script(&script).filter(|_| wait) {
            return line;
        }
        Self::Own { run: script, wait, outside: false }
    }

    /// This line, unless it is a name as `ways` say it.
    pub fn or_name_of(self, line: &str, ways: (&str, &str)) -> Self {
        let name = line.trim().strip_prefix(ways.0).and_then(|rest| rest.strip_suffix(ways.1));
        name.map_or(self, |name| Self::Name(pattern(name)))
    }

    fn of_script(script: &str) -> Option<Self> {
        if let Some(rest) = script.strip_prefix(KEYBOARD.0) {
            let (values, rest) = unquoted(rest)?;
            return of_keyboard_values(&values).filter(|_| rest == KEYBOARD.1).map(Self::Keyboard);
        }
        if let Some(rest) = script.strip_prefix("apt-get -y purge ") {
            return sh::read_word(rest)
                .filter(|(_, rest)| rest.is_empty())
                .map(|(name, _)| Self::Remove(name));
        }
        if let Some(rest) = script.strip_prefix("echo ") {
            let (packed, rest) = rest.split_once(" | base64 -d >")?;
            let (path, rest) = sh::read_word(rest)?;
            let name = path.strip_prefix("/root/").filter(|_| rest.starts_with(" && chmod 700 "))?;
            let text = String::from_utf8(STANDARD.decode(packed).ok()?).ok()?;
            return Some(Self::Script { name: name.to_owned(), text, outside: false });
        }
        let mut script = script;
        while let Some(rest) = script.strip_prefix(MAKE_GROUP) {
            script = sh::read_word(rest)?
                .1
                .strip_prefix(" && ")
                .or_else(|| sh::read_word(rest)?.1.strip_prefix("&& "))?;
        }
        if let Some(rest) = script.strip_prefix(JOIN) {
            let (groups, rest) = sh::read_word(rest)?;
            let (account, rest) = sh::read_word(rest.trim_start())?;
            let groups = groups.split(',').map(str::to_owned).collect();
            return rest.is_empty().then_some(Self::Join { account, groups });
        }
        let mut rest = script.strip_prefix("useradd -m -s /bin/bash")?.trim_start();
        let mut account = Account::named("");
        let mut hash = None;
        if let Some(after) = rest.strip_prefix("-c ") {
            let (name, after) = unquoted(after)?;
            account.full_name = name;
            rest = after.trim_start();
        }
        if let Some(after) = rest.strip_prefix("-G ") {
            let (groups, after) = sh::read_word(after)?;
            account.groups = groups.split(',').map(|own| neutral_group(own, "sudo")).collect();
            rest = after.trim_start();
        }
        if let Some(after) = rest.strip_prefix("-p ") {
            let (value, after) = unquoted(after)?;
            hash = Some(value);
            rest = after.trim_start();
        }
        let (name, rest) = sh::read_word(rest)?;
        account.name = name;
        rest.is_empty().then_some(Self::Account { account, hash })
    }

    /// Puts what it means into a model.
    pub fn into_model(self, stage: Stage, model: &mut Model, vault: &mut Vault) {
        match self {
            Self::Guard(guard) => {
                let size = |mib: u64| (mib > 0).then_some(crate::model::Size::Mib(mib));
                let disk =
                    model.disk.iter_mut().find(|disk| disk.device == guard.device || disk.device.is_empty());
                if let Some(disk) = disk {
                    disk.only_disk = guard.only;
                    disk.at_least = size(guard.at_least);
                    disk.at_most = size(guard.at_most);
                }
            }
            Self::Name(pattern) => model.machine.name = pattern,
            Self::Account { mut account, hash } => {
                if let Some(hash) = hash {
                    vault.insert(account.password_field(), SecretValue::Hash(hash));
                    account.password = Some(Secret::Origin(true));
                }
                model.account.push(account);
            }
            Self::Join { account, groups } => {
                if let Some(own) = model.account.iter_mut().find(|own| own.name == account) {
                    own.groups.extend(groups);
                }
            }
            Self::Keyboard(layouts) => {
                let spoken = model.language.setup.clone();
                let own = layouts.split(' ').map(|own| crate::tables::keyboard_of_xkb(own, &spoken));
                model.language.keyboards = own.collect();
            }
            Self::Remove(name) => model.software.remove.push(name),
            Self::Script { name, text, .. } => {
                model.script.push(Script {
                    name,
                    stage,
                    text,
                    from: String::new(),
                    carried: Carried::Inside,
                });
            }
            Self::MediaScript(name) => model.script.push(Script {
                name,
                stage,
                text: String::new(),
                from: String::new(),
                carried: Carried::Media,
            }),
            Self::Own { run, wait, outside } => {
                model.command.push(Command { wait, outside, ..Command::new(stage, run) });
            }
        }
    }
}

/// Lines of a stage for dialects that have one place for all of them.
pub(crate) fn lines(model: &Model, stage: Stage, secrets: &Vault, more_accounts: &[Account]) -> Vec<Line> {
    let mut lines = Vec::new();
    if stage == Stage::SystemInstalled {
        for account in more_accounts {
            let value = secrets.get(&account.password_field()).filter(|_| account.password.is_some());
            let hash = value.and_then(|value| hash(model, &account.name, value));
            let bare = Account {
                password: None,
                password_never_expires: false,
                automatic_sign_ins: 0,
                ..account.clone()
            };
            lines.push(Line::Account { account: bare, hash });
        }
        lines.extend(model.software.remove.iter().cloned().map(Line::Remove));
    }
    for command in model.commands(stage) {
        // While setup starts there is nothing but the setup environment.
        let outside = command.outside || stage == Stage::SetupStart;
        lines.push(Line::Own { run: command.run.clone(), wait: command.wait, outside });
    }
    for script in model.script.iter().filter(|script| script.stage == stage) {
        lines.push(match script.carried {
            Carried::Media => Line::MediaScript(script.name.clone()),
            Carried::Inside => Line::Script {
                name: script.name.clone(),
                text: script.text.clone(),
                outside: stage == Stage::SetupStart,
            },
        });
    }
    lines
}

/// Files that scripts on the media are.
pub(crate) fn side_files(model: &Model) -> Vec<crate::SideFile> {
    let scripts = model.script.iter().filter(|own| own.carried == Carried::Media && !own.text.is_empty());
    scripts
        .map(|own| crate::SideFile {
            path: format!("neatstack/{}", own.name),
            // A return before a line's end would become part of its last word.
            bytes: own.text.replace("\r\n", "\n").into_bytes(),
        })
        .collect()
}

/// What no installer of Linux can say.
pub(crate) fn unsaid(model: &Model, dialect: crate::Dialect, stages: &[Stage], findings: &mut Vec<Finding>) {
    let mut add =
        |field: &str, why: &str, hint: &str| findings.push(Finding::unsaid(field, dialect, why, hint));
    let mut needless = Vec::new();
    let mut none = |field: &str, what: &str| {
        let message = format!("{} has no {what}, so there is nothing to say", dialect.name());
        needless.push(Finding::told(Topic::Needless, field, message));
    };
    let language = &model.language;
    let first = if language.setup.is_empty() { &language.user } else { &language.setup };
    for (field, value) in [
        ("language.interface", &language.interface),
        ("language.system", &language.system),
        ("language.user", &language.user),
    ] {
        if !value.is_empty() && value != first {
            add(
                field,
                &format!("setup and system have one language, {first}"),
                "say the same for all, or set it by a command",
            );
        }
    }
    for keyboard in language.keyboards.iter().filter(|own| crate::tables::xkb(own).is_none()) {
        add(
            "language.keyboards",
            &format!("{keyboard} has no layout of X here"),
            "write it as xkb:LAYOUT(VARIANT)",
        );
    }
    if model.machine.owner.len() + model.machine.organisation.len() > 0 {
        none("machine.owner", "owner and no organisation");
    }
    if model.system.key.as_ref().is_some_and(|key| !matches!(key, crate::model::KeyChoice::None(_))) {
        none("system.key", "product keys");
    }
    if model.network.place.is_some() {
        none("network.place", "places of networks");
    }
    if !model.registry.is_empty() {
        none("registry", "registry");
    }
    if !model.software.drivers.is_empty() {
        add("software.drivers", "drivers come with the kernel", "add packages with firmware to software.add");
    }
    if !model.software.updates.is_empty() {
        add("software.updates", "updates come from the mirror", "install packages by a command");
    }
    if model.power.sleep_minutes.is_some()
        || model.power.screen_minutes.is_some()
        || model.power.hibernation.is_some()
    {
        add("power", "it has no say in when a machine sleeps", "set it by a command");
    }
    for account in model.account.iter().filter(|account| account.automatic_sign_ins > 0) {
        add(
            "account.automatic_sign_ins",
            &format!("{} is not signed in by itself", account.name),
            "set up the display manager by a command",
        );
    }
    for disk in &model.disk {
        if disk.device.is_empty() {
            add("disk.device", "disks have names there, no numbers", "add device = \"sda\"");
        }
        for partition in &disk.partition {
            if partition.letter.is_some() {
                none("disk.partition.letter", "drive letters");
            }
            if matches!(
                partition.kind,
                crate::model::PartitionKind::Reserved | crate::model::PartitionKind::Recovery
            ) {
                none("disk.partition.kind", "partitions of this kind");
            }
        }
    }
    for command in model.command.iter().filter(|command| !stages.contains(&command.stage)) {
        add(
            "command",
            &format!("`{}` at {}: it has no such stage", command.run, command.stage.name()),
            "use system-installed",
        );
    }
    for command in model
        .command
        .iter()
        .filter(|own| own.run.contains(['\n', '\r']) || own.description.contains(['\n', '\r']))
    {
        add("command", &format!("{:?} has several lines", command.run), "make it a [[script]]");
    }
    for script in model.script.iter().filter(|script| !stages.contains(&script.stage)) {
        add(
            "script",
            &format!("{} at {}: it has no such stage", script.name, script.stage.name()),
            "use system-installed",
        );
    }
    for script in model.script.iter().filter(|own| own.carried == Carried::Media && own.text.is_empty()) {
        findings.push(Finding::told(
            Topic::ByHand,
            "script",
            format!("{} must be put on the media by another way", script.name),
        ));
    }
    if !model.waive.is_empty() {
        none("waive", "checks of the hardware");
    }
    if model.prevent_encryption {
        none("prevent_encryption", "encryption without being asked");
    }
    if !model.first_start.skip.is_empty() {
        none("first_start.skip", "such pages");
    }
    if model.first_start.offline_account {
        none("first_start.offline_account", "accounts of a vendor");
    }
    if model.command.iter().any(|command| command.hidden) {
        none("command.hidden", "windows while it runs commands");
    }
    findings.append(&mut needless);
}

#[cfg(test)]
mod tests {
    use super::*;

    const WAYS: Ways = Ways {
        inside: "in-target sh -c",
        media: "/cdrom",
        stop: "exit 1",
        name: ("debconf-set netcfg/get_hostname \"", "\""),
    };

    #[test]
    fn lines_are_understood_as_they_are_said() {
        let awkward = Account { groups: vec!["deck hands".into()], ..Account::named("ann o'hara") };
        let account = Account {
            full_name: "Ann O'Hara".into(),
            groups: vec!["administrators".into()],
            ..Account::named("ann")
        };
        let own = |run: &str, wait, outside| Line::Own { run: run.into(), wait, outside };
        let lines = [
            Line::Guard(Guard { device: "sda".into(), only: true, at_least: 10, at_most: 0 }),
            Line::Guard(Guard { device: "vda".into(), only: false, at_least: 0, at_most: 99 }),
            Line::Name("lab-{serial}-{random:4}".into()),
            Line::Account { account, hash: Some("$6$a$b'c".into()) },
            Line::Account { account: awkward, hash: None },
            Line::Remove("nano".into()),
            Line::Script { name: "a.sh".into(), text: "echo 'x'\n".into(), outside: false },
            Line::Script { name: "a b.sh".into(), text: "echo '100%' \\n \"x\"\n\n".into(), outside: true },
            Line::Keyboard("gb rs(latin) dk".into()),
            Line::MediaScript("b.sh".into()),
            Line::MediaScript("of the \"quay\" & more.sh".into()),
            Line::Remove("nano; reboot".into()),
            own("echo 'it''s' \"x\"", true, false),
            own("cp a /target/b", false, true),
            own("sleep 9", false, false),
        ];
        for line in lines {
            assert_eq!(Line::understand(&line.say(&WAYS), &WAYS), line);
        }
        assert_eq!(Line::understand("in-target apt-get update", &WAYS), own("apt-get update", true, false));
    }

    #[test]
    fn the_same_password_gives_the_same_hash_and_another_account_another() {
        let model = Model::default();
        let plain = SecretValue::Plain("anchor".into());
        let first = hash(&model, "helm", &plain).unwrap();
        assert!(first.starts_with("$6$"), "{first}");
        assert_eq!(hash(&model, "helm", &plain).unwrap(), first);
        assert_ne!(hash(&model, "deck", &plain).unwrap(), first);
    }
}

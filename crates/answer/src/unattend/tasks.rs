//! What the neutral form asks and this dialect says by a command that runs at some stage.
//!
//! Each task has one way to be said, and commands that others wrote are understood where they mean the same.

use crate::{
    Finding, Topic,
    command_line::{
        batch, powershell,
        program::{arguments, quoted},
    },
    model::{Account, Carried, Command, Disk, Model, RegistryValue, Requirement, Script, Stage},
};
use base64::{Engine, engine::general_purpose::STANDARD};

/// Where scripts and other files of ours lie, on the media and on the disk.
pub(crate) const FOLDER: &str = "neatstack";
/// Characters of a script that one command carries.
const CHUNK: usize = 150;
/// Begins the descriptions of our own commands.
const OURS: &str = "Neat Stack: ";

/// Something that is said by a command.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Task {
    /// A line of the script that looks at the disks.
    GuardLine(usize),
    /// The script is run for a disk.
    Guard(Guard),
    /// A check of the hardware is left out.
    Waive(Requirement),
    /// Setup goes on without a network.
    NoNetwork,
    /// The system does not encrypt its disk by itself.
    PreventEncryption,
    /// The machine's name is made from a pattern.
    Name(String),
    /// The administrator's account is switched on or off.
    Administrator(bool),
    /// A registry value.
    Registry(RegistryValue),
    /// Minutes until it sleeps.
    Sleep(u32),
    /// Minutes until the screen goes dark.
    Screen(u32),
    /// Hibernation on or off.
    Hibernation(bool),
    /// An app goes.
    RemoveApp(String),
    /// Updates of a folder.
    Updates(String),
    /// The wireless network whose description lies on the disk.
    Wireless,
    /// The password of an account stays good.
    NeverExpires(String),
    /// A part of a script: name, number from 0, characters.
    ScriptPart(String, usize, String),
    /// A script that was carried inside is unpacked and run.
    ScriptRun(String),
    /// A script on the media is run.
    MediaScript(String),
    /// What the model says as a command.
    Own(Command),
}

/// Conditions for laying out a disk.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Guard {
    pub disk: u32,
    pub only: bool,
    /// MiB.
    pub at_least: u64,
    /// MiB; 0 is no limit.
    pub at_most: u64,
}

/// Counts fixed disks and measures one. Only its own two exit codes say anything: a script host that cannot ask the
/// system, or has no script, ends with others. Sizes are MiB.
const GUARD_SCRIPT: [&str; 11] = [
    "set a=wscript.arguments",
    "if a.count<>4 then wscript.quit 40",
    "set w=getobject(\"winmgmts:root\\cimv2\")",
    "n=0",
    "s=-1",
    "for each d in w.execquery(\"select * from win32_diskdrive\")",
    "if d.interfacetype<>\"USB\" then n=n+1",
    "if d.index=clng(a(0)) then s=cdbl(d.size)/1048576",
    "next",
    "if s<cdbl(a(2)) or (a(3)<>\"0\" and s>cdbl(a(3))) or (a(1)=\"1\" and n<>1) then wscript.quit 41",
    "wscript.quit 42",
];
/// Goes on after exit code 42 alone. Anything else never comes back to setup.
const GUARD_BATCH: [&str; 11] = [
    "@echo off",
    "if errorlevel 42 if not errorlevel 43 exit 0",
    "if errorlevel 41 if not errorlevel 42 echo The disks of this machine are not as the answer file expects.",
    "if not errorlevel 41 echo The disks of this machine could not be checked.",
    "if errorlevel 43 echo The disks of this machine could not be checked.",
    "echo Nothing was written.",
    ":stop",
    "pause",
    "wpeutil shutdown",
    "pause",
    "goto stop",
];
const GUARD_SCRIPT_FILE: &str = "X:\\neatstack-disks.vbs";
const GUARD_BATCH_FILE: &str = "X:\\neatstack-disks.cmd";

/// The commands that write the two, in order.
fn guard_lines() -> impl Iterator<Item = String> {
    let written = |file: &'static str, lines: &'static [&'static str]| {
        lines.iter().enumerate().map(move |(number, line)| {
            let sign = if number == 0 { ">" } else { ">>" };
            format!("cmd.exe /c {sign}{file} echo {}", batch::echoed(line))
        })
    };
    written(GUARD_SCRIPT_FILE, &GUARD_SCRIPT).chain(written(GUARD_BATCH_FILE, &GUARD_BATCH))
}

fn guard_command(guard: &Guard) -> String {
    let Guard { disk, only, at_least, at_most } = guard;
    let only = u8::from(*only);
    format!(
        "cmd.exe /c cscript.exe //nologo {GUARD_SCRIPT_FILE} {disk} {only} {at_least} {at_most}& {GUARD_BATCH_FILE}"
    )
}

fn of_guard_command(run: &str) -> Option<Guard> {
    let rest = run.strip_prefix(&format!("cmd.exe /c cscript.exe //nologo {GUARD_SCRIPT_FILE} "))?;
    let numbers = rest.strip_suffix(&format!("& {GUARD_BATCH_FILE}"))?;
    let numbers: Vec<u64> = numbers.split(' ').filter_map(|word| word.parse().ok()).collect();
    let [disk, only, at_least, at_most] = numbers[..] else { return None };
    Some(Guard { disk: u32::try_from(disk).ok()?, only: only == 1, at_least, at_most })
}

const CHECKS: [(Requirement, &str); 5] = [
    (Requirement::SecurityChip, "BypassTPMCheck"),
    (Requirement::SecureStart, "BypassSecureBootCheck"),
    (Requirement::Memory, "BypassRAMCheck"),
    (Requirement::Processor, "BypassCPUCheck"),
    (Requirement::DiskSize, "BypassStorageCheck"),
];
const CHECKS_KEY: &str = "HKLM\\SYSTEM\\Setup\\LabConfig";
const NETWORK_KEY: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\OOBE";
const ENCRYPTION_KEY: &str = "HKLM\\SYSTEM\\CurrentControlSet\\Control\\BitLocker";

/// A command line with what this dialect says of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Said {
    pub run: String,
    pub description: String,
    pub wait: bool,
}

/// The tasks of a stage, in order.
pub(super) fn of_model(model: &Model, stage: Stage) -> Vec<Task> {
    let mut tasks = Vec::new();
    match stage {
        Stage::SetupStart => {
            let guards: Vec<Task> = model.disk.iter().filter_map(guard).map(Task::Guard).collect();
            if !guards.is_empty() {
                tasks.extend((0..guard_lines().count()).map(Task::GuardLine));
            }
            tasks.extend(guards);
            tasks.extend(model.waive.iter().copied().map(Task::Waive));
        }
        Stage::SystemInstalled => {
            if model.network.needed == Some(false) {
                tasks.push(Task::NoNetwork);
            }
            if model.prevent_encryption {
                tasks.push(Task::PreventEncryption);
            }
            if name_is_pattern(&model.machine.name) {
                tasks.push(Task::Name(model.machine.name.clone()));
            }
            tasks.extend(model.administrator.enabled.map(Task::Administrator));
            tasks.extend(
                model.registry.iter().filter(|value| !is_of_user(value)).cloned().map(Task::Registry),
            );
            tasks.extend(model.power.sleep_minutes.map(Task::Sleep));
            tasks.extend(model.power.screen_minutes.map(Task::Screen));
            tasks.extend(model.power.hibernation.map(Task::Hibernation));
            tasks.extend(model.software.updates.iter().cloned().map(Task::Updates));
            tasks.extend(model.software.remove.iter().cloned().map(Task::RemoveApp));
            tasks.extend(model.network.wireless.as_ref().map(|_| Task::Wireless));
        }
        Stage::FirstSignIn => {
            let is_lasting = |account: &&Account| account.password_never_expires;
            let lasting = model.account.iter().filter(is_lasting);
            tasks.extend(lasting.map(|account| Task::NeverExpires(account.name.clone())));
            tasks
                .extend(model.registry.iter().filter(|value| is_of_user(value)).cloned().map(Task::Registry));
        }
        _ => {}
    }
    tasks.extend(model.commands(stage).cloned().map(Task::Own));
    for script in model.script.iter().filter(|script| script.stage == stage) {
        if script.carried == Carried::Media {
            tasks.push(Task::MediaScript(script.name.clone()));
        } else if stage != Stage::SetupStart {
            let packed = STANDARD.encode(script_bytes(&script.name, &script.text));
            let parts = packed.as_bytes().chunks(CHUNK).enumerate();
            tasks.extend(parts.map(|(number, part)| {
                Task::ScriptPart(script.name.clone(), number, String::from_utf8_lossy(part).into_owned())
            }));
            tasks.push(Task::ScriptRun(script.name.clone()));
        }
    }
    tasks
}

fn guard(disk: &Disk) -> Option<Guard> {
    let mib = |size: Option<crate::model::Size>| size.and_then(crate::model::Size::mib).unwrap_or(0);
    disk.is_guarded().then(|| Guard {
        disk: disk.number.unwrap_or(0),
        only: disk.only_disk,
        at_least: mib(disk.at_least),
        at_most: mib(disk.at_most),
    })
}

/// Whether a name must be made on the machine.
pub(crate) fn name_is_pattern(name: &str) -> bool {
    name != "{random}" && name.contains('{')
}

fn is_of_user(value: &RegistryValue) -> bool {
    let root = value.key.split('\\').next().unwrap_or_default();
    root.eq_ignore_ascii_case("HKCU") || root.eq_ignore_ascii_case("HKEY_CURRENT_USER")
}

fn reg_add(key: &str, name: &str, kind: &str, value: &str) -> String {
    let name = if name.is_empty() { "/ve".into() } else { format!("/v {}", quoted(name)) };
    format!("reg.exe add {} {name} /t {kind} /d {} /f", quoted(key), quoted(value))
}

const REGISTRY_KINDS: [(&str, &str); 4] = [
    ("string", "REG_SZ"),
    ("expand-string", "REG_EXPAND_SZ"),
    ("dword", "REG_DWORD"),
    ("qword", "REG_QWORD"),
];

/// A `reg add` command that sets one value.
fn registry_value(run: &str) -> Option<RegistryValue> {
    let words = arguments(run);
    let program = words.first()?.to_ascii_lowercase();
    if !matches!(program.as_str(), "reg" | "reg.exe") || !words.get(1)?.eq_ignore_ascii_case("add") {
        return None;
    }
    let mut value = RegistryValue {
        key: words.get(2)?.clone(),
        name: String::new(),
        kind: "string".into(),
        value: String::new(),
    };
    let mut rest = words.iter().skip(3);
    let mut says_name = false;
    while let Some(word) = rest.next() {
        match word.to_ascii_lowercase().as_str() {
            "/v" => {
                value.name.clone_from(rest.next()?);
                says_name = true;
            }
            "/ve" => says_name = true,
            "/d" => value.value.clone_from(rest.next()?),
            "/t" => {
                let kind = rest.next()?;
                value.kind =
                    REGISTRY_KINDS.iter().find(|(_, name)| name.eq_ignore_ascii_case(kind))?.0.into();
            }
            "/f" => {}
            _ => return None,
        }
    }
    says_name.then_some(value)
}

/// What a name may have, as many characters as a name may have.
const RENAME: &str = "$n=(";
const RENAME_END: &str =
    ")-replace'[^A-Za-z0-9-]','';Rename-Computer -Force -NewName $n.Substring(0,[Math]::Min(15,$n.Length))";
const SERIAL: &str = "(Get-CimInstance Win32_BIOS).SerialNumber";
const RANDOM: &str = "(-join((48..57)+(65..90)|Get-Random -Count ";
const RANDOM_END: &str = "|foreach{[char]$_}))";
/// A window that nobody sees; the command inside runs in a `cmd` of its own.
const HIDDEN: &str = "cmd.exe /s /c \"start \"\" /min /wait ";
const HIDDEN_INSIDE: &str = "cmd.exe /s /c \"";
const ADMINISTRATOR: &str = "Get-LocalUser|where SID -like '*-500'|";
const REMOVE_APP: &str = "Get-AppxProvisionedPackage -Online|where DisplayName -eq ";
const REMOVE_APP_END: &str = "|Remove-AppxProvisionedPackage -Online -AllUsers";
const NEVER_EXPIRES: &str = "Set-LocalUser -PasswordNeverExpires 1 -Name ";
/// Packages are run by what the system runs such files with.
const UPDATES: &str = "cmd.exe /c for %u in (\"";
const UPDATES_END: &str = "\\*.msu\") do start \"\" /wait \"%u\" /quiet /norestart";
const ALL_DRIVES: &str =
    "cmd.exe /c for %d in (C D E F G H I J K L M N O P Q R S T U V W X Y Z) do @if exist %d:\\neatstack\\";

/// The name's pattern as an expression.
fn name_expression(pattern: &str) -> String {
    let mut parts = Vec::new();
    let mut rest = pattern;
    while let Some(start) = rest.find('{') {
        let Some(end) = rest[start..].find('}').map(|end| start + end) else { break };
        if start > 0 {
            parts.push(powershell::literal(&rest[..start]));
        }
        let inside = &rest[start + 1..end];
        parts.push(match inside.strip_prefix("random:") {
            Some(count) => format!("{RANDOM}{count}{RANDOM_END}"),
            None => SERIAL.into(),
        });
        rest = &rest[end + 1..];
    }
    if !rest.is_empty() {
        parts.push(powershell::literal(rest));
    }
    parts.join("+")
}

fn name_pattern(expression: &str) -> Option<String> {
    let mut pattern = String::new();
    let mut rest = expression;
    while !rest.is_empty() {
        if let Some(after) = rest.strip_prefix(SERIAL) {
            pattern.push_str("{serial}");
            rest = after;
        } else if let Some(after) = rest.strip_prefix(RANDOM) {
            let (count, after) = after.split_once(RANDOM_END)?;
            pattern.push_str(&format!("{{random:{count}}}"));
            rest = after;
        } else {
            let (text, after) = powershell::of_literal(rest)?;
            pattern.push_str(&text);
            rest = after;
        }
        rest = rest.strip_prefix('+').unwrap_or(rest);
    }
    Some(pattern)
}

/// Says at the start of a script for `cmd` that it is UTF-8.
const UTF8: &str = "@chcp 65001 >nul\r\n";

/// A script as those that run it want it: with their line ends, and for text beyond ASCII with what tells the encoding.
pub(super) fn script_bytes(name: &str, text: &str) -> Vec<u8> {
    let lines = text.replace("\r\n", "\n").replace('\n', "\r\n");
    let lower = name.to_ascii_lowercase();
    let front = match () {
        () if text.is_ascii() => "",
        () if lower.ends_with(".cmd") || lower.ends_with(".bat") => UTF8,
        () => "\u{FEFF}",
    };
    [front.as_bytes(), lines.as_bytes()].concat()
}

/// The text of a script that [`script_bytes`] wrote.
fn script_text(bytes: &[u8]) -> String {
    let text = neat_content::Text::decode(bytes).text;
    text.strip_prefix(UTF8).unwrap_or(&text).replace("\r\n", "\n")
}

fn run_script(path: &str, name: &str) -> String {
    if name.to_ascii_lowercase().ends_with(".ps1") {
        format!("powershell.exe -NoProfile -ExecutionPolicy Bypass -File \"{path}\"")
    } else {
        format!("cmd.exe /c \"{path}\"")
    }
}

/// The text of a literal with nothing behind it.
fn whole_literal(text: &str) -> Option<String> {
    powershell::of_literal(text).filter(|(_, rest)| rest.is_empty()).map(|(text, _)| text)
}

fn packed_file(name: &str) -> String {
    format!("%SystemRoot%\\Temp\\{name}.b64")
}

impl Task {
    /// The command that says it.
    pub fn say(&self) -> Said {
        let ours = |run: String, what: &str| Said { run, description: format!("{OURS}{what}"), wait: true };
        match self {
            Self::GuardLine(number) => {
                ours(guard_lines().nth(*number).unwrap_or_default(), "a script that looks at the disks")
            }
            Self::Guard(guard) => {
                ours(guard_command(guard), "stop if the disks are not as expected, or cannot be checked")
            }
            Self::Waive(check) => {
                let name = CHECKS.iter().find(|(own, _)| own == check).map_or("", |(_, name)| name);
                ours(reg_add(CHECKS_KEY, name, "REG_DWORD", "1"), "a check of the hardware is left out")
            }
            Self::NoNetwork => {
                ours(reg_add(NETWORK_KEY, "BypassNRO", "REG_DWORD", "1"), "setup goes on without a network")
            }
            Self::PreventEncryption => ours(
                reg_add(ENCRYPTION_KEY, "PreventDeviceEncryption", "REG_DWORD", "1"),
                "the disk is not encrypted without being asked",
            ),
            Self::Name(pattern) => ours(
                powershell::command(&format!("{RENAME}{}{RENAME_END}", name_expression(pattern))),
                "the name of the machine",
            ),
            Self::Administrator(enabled) => ours(
                powershell::command(&format!(
                    "{ADMINISTRATOR}{}-LocalUser",
                    if *enabled { "Enable" } else { "Disable" }
                )),
                "the administrator's account",
            ),
            Self::Registry(value) => {
                let kind = REGISTRY_KINDS
                    .iter()
                    .find(|(own, _)| *own == value.kind)
                    .map_or("REG_SZ", |(_, name)| name);
                ours(reg_add(&value.key, &value.name, kind, &value.value), "a registry value")
            }
            Self::Sleep(minutes) => {
                ours(format!("powercfg.exe /change standby-timeout-ac {minutes}"), "when it sleeps")
            }
            Self::Screen(minutes) => ours(
                format!("powercfg.exe /change monitor-timeout-ac {minutes}"),
                "when the screen goes dark",
            ),
            Self::Hibernation(on) => {
                ours(format!("powercfg.exe /hibernate {}", if *on { "on" } else { "off" }), "hibernation")
            }
            Self::RemoveApp(name) => {
                let script = format!("{REMOVE_APP}{}{REMOVE_APP_END}", powershell::literal(name));
                ours(powershell::command(&script), "an app goes")
            }
            Self::Updates(folder) => ours(format!("{UPDATES}{folder}{UPDATES_END}"), "updates of a folder"),
            Self::Wireless => ours(
                format!(
                    "netsh.exe wlan add profile filename=\"%SystemDrive%\\{FOLDER}\\wireless.xml\" user=all"
                ),
                "the wireless network",
            ),
            Self::NeverExpires(name) => {
                let script = format!("{NEVER_EXPIRES}{}", powershell::literal(name));
                ours(powershell::command(&script), "a password that does not expire")
            }
            Self::ScriptPart(name, number, part) => {
                let sign = if *number == 0 { ">" } else { ">>" };
                ours(
                    format!("cmd.exe /c {sign}\"{}\" echo {part}", packed_file(name)),
                    &format!("part of {name}"),
                )
            }
            Self::ScriptRun(name) => {
                let path = format!("%SystemRoot%\\Temp\\{name}");
                let run = run_script(&path, name);
                ours(
                    format!(
                        "cmd.exe /s /c \"certutil.exe -f -decode \"{}\" \"{path}\" && {run}\"",
                        packed_file(name)
                    ),
                    &format!("run {name}"),
                )
            }
            Self::MediaScript(name) => {
                let path = format!("%SystemDrive%\\{FOLDER}\\{name}");
                ours(run_script(&path, name), &format!("run {name}"))
            }
            Self::Own(command) => Said {
                run: if command.hidden {
                    format!("{HIDDEN}{}\"", batch::in_line(&format!("{HIDDEN_INSIDE}{}\"", command.run)))
                } else {
                    command.run.clone()
                },
                description: command.description.clone(),
                wait: command.wait,
            },
        }
    }

    /// How a script on the media is run while the setup environment is up.
    pub fn say_at(&self, stage: Stage) -> Said {
        match (self, stage) {
            (Self::MediaScript(name), Stage::SetupStart) => Said {
                run: format!("{ALL_DRIVES}{name} call %d:\\{FOLDER}\\{name}"),
                description: format!("{OURS}run {name}"),
                wait: true,
            },
            _ => self.say(),
        }
    }

    /// What a command of a stage means.
    pub fn understand(stage: Stage, said: &Said) -> Self {
        let own = || {
            let hidden =
                said.run.strip_prefix(HIDDEN).and_then(|run| run.strip_suffix('"')).and_then(|line| {
                    let line = batch::of_line(line);
                    line.strip_prefix(HIDDEN_INSIDE)?.strip_suffix('"').map(str::to_owned)
                });
            let is_hidden = hidden.is_some();
            Self::Own(Command {
                stage,
                run: hidden.unwrap_or_else(|| said.run.clone()),
                description: said.description.clone(),
                wait: said.wait,
                hidden: is_hidden,
                outside: false,
            })
        };
        // A command that is not waited for, or described in another way, says more than a task does.
        let is_plain = said.wait && (said.description.is_empty() || said.description.starts_with(OURS));
        let task = if is_plain || known_registry(&said.run).is_some() {
            Self::of_line(stage, &said.run)
        } else {
            None
        };
        let task = task.filter(|task| {
            // Without our description only what is plainly the same is taken for a task.
            said.description.starts_with(OURS) || !matches!(task, Self::Registry(_) | Self::Name(_))
        });
        task.unwrap_or_else(own)
    }

    fn of_line(stage: Stage, run: &str) -> Option<Self> {
        if let Some(task) = known_registry(run) {
            return Some(task);
        }
        if let Some(value) = registry_value(run) {
            return (is_of_user(&value) == (stage == Stage::FirstSignIn)
                && matches!(stage, Stage::FirstSignIn | Stage::SystemInstalled))
            .then_some(Self::Registry(value));
        }
        if stage == Stage::SetupStart {
            if let Some(number) = guard_lines().position(|own| own == run) {
                return Some(Self::GuardLine(number));
            }
            if let Some(guard) = of_guard_command(run) {
                return Some(Self::Guard(guard));
            }
            let name = run.strip_prefix(ALL_DRIVES)?.split_once(" call ")?.0;
            return Some(Self::MediaScript(name.to_owned()));
        }
        if let Some(minutes) = run.strip_prefix("powercfg.exe /change standby-timeout-ac ") {
            return minutes.parse().ok().map(Self::Sleep);
        }
        if let Some(minutes) = run.strip_prefix("powercfg.exe /change monitor-timeout-ac ") {
            return minutes.parse().ok().map(Self::Screen);
        }
        match run {
            "powercfg.exe /hibernate on" => return Some(Self::Hibernation(true)),
            "powercfg.exe /hibernate off" => return Some(Self::Hibernation(false)),
            _ => {}
        }
        if let Some(script) = powershell::of_command(run) {
            if let Some(expression) =
                script.strip_prefix(RENAME).and_then(|rest| rest.strip_suffix(RENAME_END))
            {
                return name_pattern(expression).map(Self::Name);
            }
            if let Some(verb) = script.strip_prefix(ADMINISTRATOR) {
                return Some(Self::Administrator(verb.starts_with("Enable")));
            }
            if let Some(name) =
                script.strip_prefix(REMOVE_APP).and_then(|rest| rest.strip_suffix(REMOVE_APP_END))
            {
                return Some(Self::RemoveApp(whole_literal(name)?));
            }
            if let Some(name) = script.strip_prefix(NEVER_EXPIRES) {
                return Some(Self::NeverExpires(whole_literal(name)?));
            }
            return None;
        }
        if let Some(folder) = run.strip_prefix(UPDATES).and_then(|rest| rest.strip_suffix(UPDATES_END)) {
            return Some(Self::Updates(folder.to_owned()));
        }
        if *run == Self::Wireless.say().run {
            return Some(Self::Wireless);
        }
        if let Some(rest) = run.strip_prefix("cmd.exe /c >") {
            let (file, part) = rest
                .trim_start_matches('>')
                .strip_prefix("\"%SystemRoot%\\Temp\\")?
                .split_once(".b64\" echo ")?;
            // The number is counted when all parts are there.
            return Some(Self::ScriptPart(
                file.to_owned(),
                usize::from(rest.starts_with('>')),
                part.to_owned(),
            ));
        }
        if let Some(rest) = run.strip_prefix("cmd.exe /s /c \"certutil.exe -f -decode \"%SystemRoot%\\Temp\\")
        {
            return Some(Self::ScriptRun(rest.split_once(".b64\"")?.0.to_owned()));
        }
        let name = run.split_once(&format!("\"%SystemDrive%\\{FOLDER}\\"))?.1.strip_suffix('"')?;
        let task = Self::MediaScript(name.to_owned());
        (task.say().run == run).then_some(task)
    }
}

/// Registry values that mean something of their own.
fn known_registry(run: &str) -> Option<Task> {
    let value = registry_value(run)?;
    let is = |key: &str| {
        value.key.to_ascii_lowercase().replace("hkey_local_machine", "hklm") == key.to_ascii_lowercase()
    };
    if !matches!(value.value.as_str(), "1" | "0x1" | "0x00000001") || value.kind != "dword" {
        return None;
    }
    if is(CHECKS_KEY) {
        let check = CHECKS.iter().find(|(_, name)| name.eq_ignore_ascii_case(&value.name))?;
        return Some(Task::Waive(check.0));
    }
    if is(NETWORK_KEY) && value.name.eq_ignore_ascii_case("BypassNRO") {
        return Some(Task::NoNetwork);
    }
    (is(ENCRYPTION_KEY) && value.name.eq_ignore_ascii_case("PreventDeviceEncryption"))
        .then_some(Task::PreventEncryption)
}

/// Puts the tasks of a stage into the model.
pub(super) fn into_model(tasks: &[Task], stage: Stage, model: &mut Model, findings: &mut Vec<Finding>) {
    let mut packed: Vec<(String, String)> = Vec::new();
    for task in tasks {
        match task {
            Task::GuardLine(_) => {}
            Task::Guard(guard) => {
                let is_it = |disk: &&mut Disk| disk.number.unwrap_or(0) == guard.disk;
                if let Some(disk) = model.disk.iter_mut().find(is_it) {
                    let size = |mib: u64| (mib > 0).then_some(crate::model::Size::Mib(mib));
                    disk.only_disk = guard.only;
                    disk.at_least = size(guard.at_least);
                    disk.at_most = size(guard.at_most);
                }
            }
            Task::Waive(check) => model.waive.push(*check),
            Task::NoNetwork => model.network.needed = Some(false),
            Task::PreventEncryption => model.prevent_encryption = true,
            Task::Name(pattern) => model.machine.name.clone_from(pattern),
            Task::Administrator(enabled) => model.administrator.enabled = Some(*enabled),
            Task::Registry(value) => model.registry.push(value.clone()),
            Task::Sleep(minutes) => model.power.sleep_minutes = Some(*minutes),
            Task::Screen(minutes) => model.power.screen_minutes = Some(*minutes),
            Task::Hibernation(on) => model.power.hibernation = Some(*on),
            Task::RemoveApp(name) => model.software.remove.push(name.clone()),
            Task::Updates(folder) => model.software.updates.push(folder.clone()),
            Task::Wireless => findings.push(Finding::told(Topic::Kept,
                "network.wireless",
                "the network's description is a file beside this one and is not read; the command that joins it stays",
            )),
            Task::NeverExpires(name) => {
                if let Some(account) = model.account.iter_mut().find(|account| account.name == *name) {
                    account.password_never_expires = true;
                }
            }
            Task::ScriptPart(name, number, part) => match packed.iter_mut().find(|(own, _)| own == name) {
                Some((_, text)) if *number > 0 => text.push_str(part),
                _ => packed.push((name.clone(), part.clone())),
            },
            Task::ScriptRun(name) => {
                let text = packed.iter().find(|(own, _)| own == name).map(|(_, text)| text.as_str());
                let bytes = STANDARD.decode(text.unwrap_or_default()).unwrap_or_default();
                model.script.push(Script {
                    name: name.clone(),
                    stage,
                    text: script_text(&bytes),
                    from: String::new(),
                    carried: Carried::Inside,
                });
            }
            Task::MediaScript(name) => model.script.push(Script {
                name: name.clone(),
                stage,
                text: String::new(),
                from: String::new(),
                carried: Carried::Media,
            }),
            Task::Own(command) => model.command.push(command.clone()),
        }
    }
}

/// Numbers the parts of scripts, which a single command does not say.
pub(super) fn number_parts(tasks: &mut [Task]) {
    let mut last: Vec<(String, usize)> = Vec::new();
    for task in tasks {
        if let Task::ScriptPart(name, number, _) = task {
            match last.iter_mut().find(|(own, _)| own == name) {
                Some((_, count)) if *number > 0 => {
                    *count += 1;
                    *number = *count;
                }
                _ => last.push((name.clone(), 0)),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_task_is_understood_as_it_is_said() {
        let registry = |key: &str, name: &str, value: &str| {
            Task::Registry(RegistryValue {
                key: key.into(),
                name: name.into(),
                kind: "string".into(),
                value: value.into(),
            })
        };
        let tasks = [
            Task::NoNetwork,
            Task::PreventEncryption,
            Task::Name("LAB-{serial}-{random:3}x".into()),
            Task::Administrator(true),
            registry("HKLM\\SOFTWARE\\A \"B\"", "", "C:\\x\\"),
            registry("HKLM\\SOFTWARE\\A", "n\\\"", "\""),
            Task::Sleep(0),
            Task::Screen(15),
            Task::Hibernation(false),
            Task::RemoveApp("Quay.Cards".into()),
            Task::RemoveApp("Skipper's \"Log\"".into()),
            Task::Name("O'Hara-{serial}".into()),
            Task::Updates("D:\\up dates\\".into()),
            Task::Wireless,
            Task::NeverExpires("helm".into()),
            Task::NeverExpires("o'hara".into()),
            Task::ScriptPart("a.cmd".into(), 1, "QUJD".into()),
            Task::ScriptRun("a.cmd".into()),
            Task::MediaScript("b.ps1".into()),
            Task::Own(Command { hidden: true, ..Command::new(Stage::SystemInstalled, "a \"b c\" & d") }),
            Task::Own(Command {
                hidden: true,
                ..Command::new(Stage::SystemInstalled, "a ^& b | c > \"d & e\"")
            }),
        ];
        for task in tasks {
            assert_eq!(Task::understand(Stage::SystemInstalled, &task.say()), task);
        }
        let first = [
            Task::GuardLine(5),
            Task::Guard(Guard { disk: 1, only: true, at_least: 60_000, at_most: 0 }),
            Task::Waive(Requirement::Memory),
            Task::MediaScript("first.cmd".into()),
        ];
        for task in first {
            assert_eq!(Task::understand(Stage::SetupStart, &task.say_at(Stage::SetupStart)), task);
        }
    }

    #[test]
    fn commands_of_others_are_understood_where_they_mean_the_same() {
        let said = |run: &str, description: &str| Said {
            run: run.into(),
            description: description.into(),
            wait: true,
        };
        let waive = said(
            "reg add HKLM\\SYSTEM\\Setup\\LabConfig /v BypassTPMCheck /t REG_DWORD /d 1 /f",
            "old machines",
        );
        assert_eq!(Task::understand(Stage::SetupStart, &waive), Task::Waive(Requirement::SecurityChip));
        let other = said("reg add HKLM\\SOFTWARE\\A /v B /d C /f", "");
        assert!(matches!(Task::understand(Stage::SystemInstalled, &other), Task::Own(_)));
    }

    #[test]
    fn commands_fit_their_element() {
        let long = (0..guard_lines().count()).map(Task::GuardLine).chain([
            Task::Guard(Guard { disk: 12, only: true, at_least: 99_999_999, at_most: 99_999_999 }),
            Task::ScriptPart("a-long-name-of-a-script.cmd".into(), 1, "x".repeat(CHUNK)),
            Task::MediaScript("a-long-name-of-a-script.cmd".into()),
        ]);
        for task in long {
            let run = task.say_at(Stage::SetupStart).run;
            assert!(run.chars().count() <= 259, "{} {run}", run.len());
        }
    }
}

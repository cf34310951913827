//! What runs when the system is on the disk: accounts, registry values, commands and scripts, in a batch file that setup is
//! told of by its list of commands.
//!
//! Setup reads no such thing from the answers themselves. A section of our own says there what the batch file does, which
//! setup passes over, so that the answers can be read back.

use super::document::{Document, Form, Said};
use crate::{
    SideFile,
    command_line::{
        batch::{self, Part},
        program::quoted,
        registry, script,
    },
    model::{Account, Carried, Command, Model, RegistryValue, Script, Secret, SecretValue, Stage, Vault},
};

/// The section of our own.
pub(super) const SECTION: &str = "NeatStack";
const ABOUT: &str = "Setup passes over this section. It says what neatstack\\installed.cmd does, so that it can be read back.";
/// The list of commands that setup runs before it ends, beside the folder of setup.
pub(crate) const LIST: &str = "$OEM$/cmdlines.txt";
/// What setup copies to the root of the system's drive.
pub(super) const DRIVE: &str = "$OEM$/$1";
/// The folder there that is ours.
const FOLDER: &str = "neatstack";
/// The batch file in it.
const BATCH: &str = "installed.cmd";
/// How setup is told to run it.
const LINE: &str = "\"cmd.exe /c %SystemDrive%\\neatstack\\installed.cmd\"";

/// The program that runs beside setup: the first command that nothing waits for, if its line can be taken apart.
pub(super) fn detached(model: &Model) -> Option<(usize, String, String)> {
    let is_one = |own: &Command| own.stage == Stage::SystemInstalled && !own.wait;
    let index = model.command.iter().position(is_one)?;
    let Command { run, description, .. } = model.command.get(index)?;
    let (program, arguments) = match run.strip_prefix('"').and_then(|rest| rest.split_once('"')) {
        Some((program, rest)) => (program, rest.strip_prefix(' ').unwrap_or(rest)),
        None => run.split_once(' ').unwrap_or((run, "")),
    };
    let own = (index, program.to_owned(), arguments.to_owned());
    let is_whole = together(program, arguments) == *run && description.is_empty();
    (!program.is_empty() && is_whole).then_some(own)
}

/// A program and its arguments as one line.
pub(super) fn together(program: &str, arguments: &str) -> String {
    let program = if program.contains(' ') { format!("\"{program}\"") } else { program.to_owned() };
    if arguments.is_empty() { program } else { format!("{program} {arguments}") }
}

/// Commands that the batch file runs: those that are waited for, then the others.
fn commands(model: &Model) -> impl Iterator<Item = &Command> {
    let beside = detached(model).map(|(index, ..)| index);
    let all = move |wait: bool| {
        let own = model.command.iter().enumerate().filter(move |(index, own)| {
            own.stage == Stage::SystemInstalled && own.wait == wait && Some(*index) != beside
        });
        own.map(|(_, own)| own)
    };
    all(true).chain(all(false))
}

fn scripts(model: &Model) -> impl Iterator<Item = &Script> {
    model.script.iter().filter(|own| own.stage == Stage::SystemInstalled && is_runnable(&own.name))
}

fn values(model: &Model) -> impl Iterator<Item = &RegistryValue> {
    model.registry.iter().filter(|own| !registry::is_of_user(own) && own.kind != "qword")
}

/// Whether a script is one that the systems of this generation run, by a name that needs no quotes.
pub(super) fn is_runnable(name: &str) -> bool {
    let is_plain = name.bytes().all(|c| c.is_ascii_alphanumeric() || matches!(c, b'-' | b'_' | b'.'));
    let ending = name.rsplit_once('.').map(|(_, ending)| ending.to_ascii_lowercase());
    is_plain && matches!(ending.as_deref(), Some("cmd" | "bat" | "vbs" | "js" | "wsf"))
}

/// The command that runs a script of the disk.
pub(super) fn run_script(name: &str) -> String {
    script::run(&format!("%SystemDrive%\\{FOLDER}\\{name}"), name)
}

/// The script that a command runs.
pub(super) fn script_of(run: &str) -> Option<&str> {
    let (_, rest) = run.split_once("%SystemDrive%\\neatstack\\")?;
    let name = rest.trim_end_matches('"');
    (is_runnable(name) && run_script(name) == run).then_some(name)
}

fn password(account: &Account, secrets: &Vault) -> Option<String> {
    account.password.as_ref()?;
    secrets.get(&account.password_field()).and_then(SecretValue::plain).map(str::to_owned)
}

/// What the section of our own says.
pub(super) fn said(model: &Model, secrets: &Vault) -> Vec<Said> {
    let mut out = Vec::new();
    let mut say = |key: String, value: &str| {
        out.push(Said { section: SECTION.into(), key, value: value.into(), form: Form::Text });
    };
    if batch(model, secrets).is_some() {
        say("About".into(), ABOUT);
    }
    for (number, account) in model.account.iter().enumerate() {
        say(format!("Account{number}"), &account.name);
        if !account.full_name.is_empty() {
            say(format!("Account{number}.FullName"), &account.full_name);
        }
        if !account.groups.is_empty() {
            say(format!("Account{number}.Groups"), &account.groups.join(","));
        }
        if let Some(password) = password(account, secrets) {
            say(format!("Account{number}.Password"), &password);
        }
    }
    for (number, value) in values(model).enumerate() {
        say(format!("Value{number}"), &value.key);
        say(format!("Value{number}.Name"), &value.name);
        say(format!("Value{number}.Type"), &value.kind);
        say(format!("Value{number}.Data"), &value.value);
    }
    for (number, command) in commands(model).enumerate() {
        say(format!("Run{number}"), &command.run);
        if !command.description.is_empty() {
            say(format!("Run{number}.About"), &command.description);
        }
        if !command.wait {
            say(format!("Run{number}.Wait"), "No");
        }
    }
    for (number, own) in scripts(model).enumerate() {
        say(format!("Script{number}"), &own.name);
    }
    out
}

/// Reads the section of our own.
pub(super) fn read(document: &Document<'_>, model: &mut Model, vault: &mut Vault) {
    let said = |key: String| document.get(SECTION, &key).map(|own| own.value.clone());
    let or_empty = |key: String| said(key).unwrap_or_default();
    let numbered = |word: &str, number: usize| said(format!("{word}{number}"));
    for number in 0.. {
        let Some(name) = numbered("Account", number) else { break };
        let groups = or_empty(format!("Account{number}.Groups"));
        let mut account = Account {
            full_name: or_empty(format!("Account{number}.FullName")),
            groups: groups.split(',').filter(|own| !own.is_empty()).map(str::to_owned).collect(),
            ..Account::named(&name)
        };
        if let Some(password) = said(format!("Account{number}.Password")) {
            vault.insert(account.password_field(), SecretValue::Plain(password));
            account.password = Some(Secret::Origin(true));
        }
        model.account.push(account);
    }
    for number in 0.. {
        let Some(key) = numbered("Value", number) else { break };
        model.registry.push(RegistryValue {
            key,
            name: or_empty(format!("Value{number}.Name")),
            kind: or_empty(format!("Value{number}.Type")),
            value: or_empty(format!("Value{number}.Data")),
        });
    }
    for number in 0.. {
        let Some(run) = numbered("Run", number) else { break };
        let own = Command {
            description: or_empty(format!("Run{number}.About")),
            wait: said(format!("Run{number}.Wait")).is_none_or(|own| !own.eq_ignore_ascii_case("no")),
            ..Command::new(Stage::SystemInstalled, run)
        };
        model.command.push(own);
    }
    for number in 0.. {
        let Some(name) = numbered("Script", number) else { break };
        model.script.push(media_script(&name, Stage::SystemInstalled));
    }
}

/// A script that lies on the media.
pub(super) fn media_script(name: &str, stage: Stage) -> Script {
    Script { name: name.into(), stage, text: String::new(), from: String::new(), carried: Carried::Media }
}

/// The batch file, if there is anything to do.
fn batch(model: &Model, secrets: &Vault) -> Option<Vec<u8>> {
    let mut out = batch::Script::new();
    let mut has_any = false;
    if model.account.iter().any(Account::administers) {
        // The group has another name in each language, and one identifier.
        out.line(&[Part::Own("set \"administrators=Administrators\"")]);
        out.line(&[Part::Own(
            "for /f \"tokens=1* delims==\" %%a in ('wmic.exe group where \"SID='S-1-5-32-544'\" get Name /value 2^>nul') do for /f \"delims=\" %%c in (\"%%b\") do set \"administrators=%%c\"",
        )]);
    }
    for account in &model.account {
        has_any = true;
        let name = quoted(&account.name);
        let given = quoted(&password(account, secrets).unwrap_or_default());
        let mut line = format!("{name} {given} /add /y");
        if !account.full_name.is_empty() {
            line.push_str(&format!(" /fullname:{}", quoted(&account.full_name)));
        }
        out.line(&[Part::Own("net.exe user "), Part::Tail(&line)]);
        for group in &account.groups {
            match group.as_str() {
                "administrators" => out.line(&[
                    Part::Own("net.exe localgroup \"%administrators%\" "),
                    Part::Tail(&format!("{name} /add")),
                ]),
                // Who is made is one of these.
                "users" => {}
                group => {
                    let group = quoted(group);
                    out.line(&[
                        Part::Own("net.exe localgroup "),
                        Part::Tail(&format!("{group} /add")),
                        Part::Own(" >nul 2>&1"),
                    ]);
                    let line = format!("{group} {name} /add");
                    out.line(&[Part::Own("net.exe localgroup "), Part::Tail(&line)]);
                }
            }
        }
    }
    for value in values(model) {
        has_any = true;
        let kind =
            registry::KINDS.iter().find(|(own, _)| *own == value.kind).map_or("REG_SZ", |(_, name)| name);
        out.line(&[Part::Tail(&registry::add(&value.key, &value.name, kind, &value.value))]);
    }
    for command in commands(model) {
        has_any = true;
        let front = if !command.wait {
            "start \"\" "
        } else if is_batch(&command.run) {
            // Without it the rest of this one would not run.
            "call "
        } else {
            ""
        };
        out.line(&[Part::Own(front), Part::Line(&command.run)]);
    }
    for own in scripts(model) {
        has_any = true;
        out.line(&[Part::Line(&run_script(&own.name))]);
    }
    has_any.then(|| out.into_bytes())
}

/// Whether a command runs a batch file.
fn is_batch(run: &str) -> bool {
    let quoted = run.strip_prefix('"').and_then(|rest| rest.split_once('"'));
    let program = quoted.map_or_else(|| run.split(' ').next().unwrap_or(run), |(program, _)| program);
    let lower = program.to_ascii_lowercase();
    lower.ends_with(".cmd") || lower.ends_with(".bat")
}

/// Files beside the answers: the batch file, scripts, and the list of commands.
pub(super) fn side_files(model: &Model, secrets: &Vault) -> Vec<SideFile> {
    let mut files = Vec::new();
    let file = |name: &str, bytes| SideFile { path: format!("{DRIVE}/{FOLDER}/{name}"), bytes };
    for own in model.script.iter().filter(|own| !own.text.is_empty() && is_runnable(&own.name)) {
        files.push(file(&own.name, script::bytes(&own.name, &own.text)));
    }
    if let Some(bytes) = batch(model, secrets) {
        files.push(file(BATCH, bytes));
        let list = format!("[Commands]\r\n{LINE}\r\n");
        files.push(SideFile { path: LIST.into(), bytes: list.into_bytes() });
    }
    files
}

/// Whether something lies beside the answers, so that setup has to look there.
pub(super) fn has_side_files(model: &Model, secrets: &Vault) -> bool {
    model.script.iter().any(|own| is_runnable(&own.name)) || batch(model, secrets).is_some()
}

/// A list of commands that is there, with ours at its end.
pub(crate) fn with_our_line(list: &str) -> String {
    if list.lines().any(|line| line.trim().eq_ignore_ascii_case(LINE)) {
        return list.to_owned();
    }
    let end = if list.contains('\n') && !list.contains("\r\n") { "\n" } else { "\r\n" };
    let mut lines: Vec<&str> = list.lines().collect();
    let is_head = |line: &&str| line.trim().eq_ignore_ascii_case("[Commands]");
    match lines.iter().position(is_head) {
        Some(head) => {
            let next = lines.iter().skip(head + 1).position(|line| line.trim_start().starts_with('['));
            let mut at = next.map_or(lines.len(), |next| head + 1 + next);
            while at > head + 1 && lines[at - 1].trim().is_empty() {
                at -= 1;
            }
            lines.insert(at, LINE);
        }
        None => lines.extend(["[Commands]", LINE]),
    }
    lines.join(end) + end
}

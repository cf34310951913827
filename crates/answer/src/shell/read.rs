//! Shell as lines.

use super::{
    Guard, Line, UNWAITED, UNWAITED_SHELL, Ways, first_start,
    name::{of_keyboard_values, pattern},
    neutral_group,
    say::{JOIN, KEYBOARD, MAKE_GROUP, PURGE},
    split_unwaited,
};
use crate::{
    command_line::sh::{self, unquoted},
    model::{Account, Carried, Command, Model, Script, Secret, SecretValue, Stage, Vault},
};
use base64::{Engine, engine::general_purpose::STANDARD};

impl Line {
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
            return Self::MediaScript { name, outside: true };
        }
        if let Some(name) = of_copy(line, ways) {
            return Self::MediaScript { name, outside: false };
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
        if let Some(run) = of_unwaited(&script).filter(|_| wait && !ways.inside.is_empty()) {
            return Self::Own { run, wait: false, outside: false };
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
        let purge = script.strip_prefix("! dpkg-query -W ").and_then(|rest| rest.split_once(" || "));
        let purge = purge.map_or(script, |(_, purge)| purge);
        if let Some(rest) = purge.strip_prefix(PURGE) {
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
        if let Some(lines) = first_start::understand(script) {
            return Some(Self::FirstStart(lines));
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
            Self::FirstStart(lines) => {
                for line in lines {
                    line.into_model(Stage::FirstStart, model, vault);
                }
            }
            Self::MediaScript { name, .. } => model.script.push(Script {
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

/// A command that a script runs without waiting for it.
fn of_unwaited(script: &str) -> Option<String> {
    let quoted = script.strip_suffix(UNWAITED)?.strip_prefix(UNWAITED_SHELL)?;
    unquoted(quoted).filter(|(_, rest)| rest.is_empty()).map(|(run, _)| run)
}

/// The script that a line copies from the media and runs in the installed system.
fn of_copy(line: &str, ways: &Ways) -> Option<String> {
    let (from, _) = sh::read_word(line.strip_prefix("cp ")?)?;
    let name = from.strip_prefix(&format!("{}/neatstack/", ways.media))?;
    let said = Line::MediaScript { name: name.to_owned(), outside: false };
    (said.say(ways) == line).then(|| name.to_owned())
}

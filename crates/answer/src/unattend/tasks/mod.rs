//! What the neutral form asks and this dialect says by a command that runs at some stage.
//!
//! Each task has one way to be said, and commands that others wrote are understood where they mean the same.

mod guard;
mod read;
mod registry;
mod say;
pub(crate) mod script;
mod system;

use crate::{
    Finding, Topic,
    command_line::registry::is_of_user,
    model::{Account, Carried, Command, Disk, Model, RegistryValue, Requirement, Script, Stage},
};
use base64::{Engine, engine::general_purpose::STANDARD};
use guard::Guard;
use system::Asked;

/// Where scripts and other files of ours lie, on the media and on the disk.
pub(crate) const FOLDER: &str = "neatstack";
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
    /// What PowerShell asks of the system.
    Asked(Asked),
    /// Passwords of all local accounts stay good: who signs in first may not say so for one.
    NothingExpires,
    /// A registry value.
    Registry(RegistryValue),
    /// Minutes until it sleeps.
    Sleep(u32),
    /// Minutes until the screen goes dark.
    Screen(u32),
    /// Hibernation on or off.
    Hibernation(bool),
    /// Updates of a folder.
    Updates(String),
    /// The wireless network whose description lies on the disk.
    Wireless,
    /// A part of a script: name, number from 0, characters.
    ScriptPart(String, usize, String),
    /// A script that was carried inside is unpacked and run.
    ScriptRun(String),
    /// A script on the media is run.
    MediaScript(String),
    /// What the model says as a command.
    Own(Command),
}

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
            let guards: Vec<Task> = model.disk.iter().filter_map(Guard::of_disk).map(Task::Guard).collect();
            if !guards.is_empty() {
                tasks.extend((0..guard::lines().count()).map(Task::GuardLine));
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
                tasks.push(Task::Asked(Asked::Name(model.machine.name.clone())));
            }
            tasks.extend(model.administrator.enabled.map(|own| Task::Asked(Asked::Administrator(own))));
            tasks.extend(
                model.registry.iter().filter(|value| !is_of_user(value)).cloned().map(Task::Registry),
            );
            if model.account.iter().any(|own| own.password_never_expires)
                && model.signs_in_first().is_some_and(|own| !own.administers())
            {
                tasks.push(Task::NothingExpires);
            }
            tasks.extend(model.power.sleep_minutes.map(Task::Sleep));
            tasks.extend(model.power.screen_minutes.map(Task::Screen));
            tasks.extend(model.power.hibernation.map(Task::Hibernation));
            tasks.extend(model.software.updates.iter().cloned().map(Task::Updates));
            tasks.extend(model.software.remove.iter().cloned().map(|own| Task::Asked(Asked::RemoveApp(own))));
            tasks.extend(model.network.wireless.as_ref().map(|_| Task::Wireless));
        }
        Stage::FirstSignIn => {
            let is_lasting = |account: &&Account| account.password_never_expires;
            let lasting = model.account.iter().filter(is_lasting);
            tasks.extend(lasting.map(|account| Task::Asked(Asked::NeverExpires(account.name.clone()))));
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
            tasks.extend(script::carried(script));
        }
    }
    tasks
}
/// Whether a name must be made on the machine.
pub(crate) fn name_is_pattern(name: &str) -> bool {
    name != "{random}" && name.contains('{')
}

/// Puts the tasks of a stage into the model.
pub(super) fn into_model(tasks: &[Task], stage: Stage, model: &mut Model, findings: &mut Vec<Finding>) {
    let mut packed: Vec<(String, String)> = Vec::new();
    for task in tasks {
        match task {
            Task::GuardLine(_) | Task::NothingExpires => {}
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
            Task::Asked(Asked::Name(pattern)) => model.machine.name.clone_from(pattern),
            Task::Asked(Asked::Administrator(enabled)) => model.administrator.enabled = Some(*enabled),
            Task::Registry(value) => model.registry.push(value.clone()),
            Task::Sleep(minutes) => model.power.sleep_minutes = Some(*minutes),
            Task::Screen(minutes) => model.power.screen_minutes = Some(*minutes),
            Task::Hibernation(on) => model.power.hibernation = Some(*on),
            Task::Asked(Asked::RemoveApp(name)) => model.software.remove.push(name.clone()),
            Task::Updates(folder) => model.software.updates.push(folder.clone()),
            Task::Wireless => findings.push(Finding::told(Topic::Kept,
                "network.wireless",
                "the network's description is a file beside this one and is not read; the command that joins it stays",
            )),
            Task::Asked(Asked::NeverExpires(name)) => {
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
                    text: crate::command_line::script::text(&bytes),
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
            Task::Asked(Asked::Name("LAB-{serial}-{random:3}x".into())),
            Task::Asked(Asked::Administrator(true)),
            registry("HKLM\\SOFTWARE\\A \"B\"", "", "C:\\x\\"),
            registry("HKLM\\SOFTWARE\\A", "n\\\"", "\""),
            Task::Sleep(0),
            Task::Screen(15),
            Task::Hibernation(false),
            Task::Asked(Asked::RemoveApp("Quay.Cards".into())),
            Task::Asked(Asked::RemoveApp("Skipper's \"Log\"".into())),
            Task::Asked(Asked::Name("O'Hara-{serial}".into())),
            Task::Updates("D:\\up dates\\".into()),
            Task::Wireless,
            Task::Asked(Asked::NeverExpires("helm".into())),
            Task::Asked(Asked::NeverExpires("o'hara".into())),
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
        let long = (0..guard::lines().count()).map(Task::GuardLine).chain([
            Task::Guard(Guard { disk: 12, only: true, at_least: 99_999_999, at_most: 99_999_999 }),
            Task::ScriptPart("a-long-name-of-a-script.cmd".into(), 1, "x".repeat(150)),
            Task::MediaScript("a-long-name-of-a-script.cmd".into()),
        ]);
        for task in long {
            let run = task.say_at(Stage::SetupStart).run;
            assert!(run.chars().count() <= 259, "{} {run}", run.len());
        }
    }
}

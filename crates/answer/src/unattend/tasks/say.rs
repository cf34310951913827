//! Tasks as commands.

use super::{Asked, FOLDER, OURS, Said, Stage, Task, guard, registry, script::packed_file};
use crate::command_line::{
    batch,
    registry::{KINDS, add},
    script::run as run_script,
};

/// Every generation has it.
pub(super) const NOTHING_EXPIRES: &str = "net.exe accounts /maxpwage:unlimited";
/// A window that nobody sees; the command inside runs in a `cmd` of its own.
pub(super) const HIDDEN: &str = "cmd.exe /s /c \"start \"\" /min /wait ";
pub(super) const HIDDEN_INSIDE: &str = "cmd.exe /s /c \"";
/// Packages are run by what the system runs such files with.
pub(super) const UPDATES: &str = "cmd.exe /c for %u in (\"";
pub(super) const UPDATES_END: &str = "\\*.msu\") do start \"\" /wait \"%u\" /quiet /norestart";
pub(super) const ALL_DRIVES: &str =
    "cmd.exe /c for %d in (C D E F G H I J K L M N O P Q R S T U V W X Y Z) do @if exist %d:\\neatstack\\";

impl Task {
    /// The command that says it.
    pub fn say(&self) -> Said {
        let ours = |run: String, what: &str| Said { run, description: format!("{OURS}{what}"), wait: true };
        match self {
            Self::GuardLine(number) => {
                ours(guard::lines().nth(*number).unwrap_or_default(), "a script that looks at the disks")
            }
            Self::Guard(guard) => {
                ours(guard::command(guard), "stop if the disks are not as expected, or cannot be checked")
            }
            Self::Waive(check) => {
                let name = registry::CHECKS.iter().find(|(own, _)| own == check).map_or("", |(_, name)| name);
                ours(add(registry::CHECKS_KEY, name, "REG_DWORD", "1"), "a check of the hardware is left out")
            }
            Self::NoNetwork => ours(
                add(registry::NETWORK_KEY, "BypassNRO", "REG_DWORD", "1"),
                "setup goes on without a network",
            ),
            Self::PreventEncryption => ours(
                add(registry::ENCRYPTION_KEY, "PreventDeviceEncryption", "REG_DWORD", "1"),
                "the disk is not encrypted without being asked",
            ),
            Self::Asked(asked) => ours(
                asked.say(),
                match asked {
                    Asked::Name(_) => "the name of the machine",
                    Asked::Administrator(_) => "the administrator's account",
                    Asked::NeverExpires(_) => "a password that does not expire",
                    Asked::RemoveApp(_) => "an app goes",
                },
            ),
            Self::NothingExpires => {
                ours(NOTHING_EXPIRES.into(), "passwords of local accounts that do not expire")
            }
            Self::Registry(value) => {
                let kind =
                    KINDS.iter().find(|(own, _)| *own == value.kind).map_or("REG_SZ", |(_, name)| name);
                ours(add(&value.key, &value.name, kind, &value.value), "a registry value")
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
            Self::Updates(folder) => ours(format!("{UPDATES}{folder}{UPDATES_END}"), "updates of a folder"),
            Self::Wireless => ours(format!("cmd.exe /c {}", former_wireless()), "the wireless network"),
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
}

/// How versions before 0.2 added the network: without a `cmd` that fills in the variable.
pub(super) fn former_wireless() -> String {
    format!("netsh.exe wlan add profile filename=\"%SystemDrive%\\{FOLDER}\\wireless.xml\" user=all")
}

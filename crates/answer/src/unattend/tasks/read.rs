//! Commands as tasks.

use super::{
    Asked, Command, FOLDER, OURS, Said, Stage, Task, guard, registry,
    say::{ALL_DRIVES, HIDDEN, HIDDEN_INSIDE, NOTHING_EXPIRES, UPDATES, UPDATES_END, former_wireless},
    script,
};
use crate::command_line::{
    batch,
    registry::{is_of_user, value_of},
};

impl Task {
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
        let task = if is_plain || registry::known(&said.run).is_some() {
            Self::of_line(stage, &said.run)
        } else {
            None
        };
        let task = task.filter(|task| {
            // Without our description only what is plainly the same is taken for a task.
            said.description.starts_with(OURS)
                || !matches!(task, Self::NothingExpires | Self::Registry(_) | Self::Asked(Asked::Name(_)))
        });
        task.unwrap_or_else(own)
    }

    fn of_line(stage: Stage, run: &str) -> Option<Self> {
        if let Some(task) = registry::known(run) {
            return Some(task);
        }
        if let Some(value) = value_of(run) {
            return (is_of_user(&value) == (stage == Stage::FirstSignIn)
                && matches!(stage, Stage::FirstSignIn | Stage::SystemInstalled))
            .then_some(Self::Registry(value));
        }
        if stage == Stage::SetupStart {
            if let Some(number) = guard::lines().position(|own| own == run) {
                return Some(Self::GuardLine(number));
            }
            if let Some(guard) = guard::of_command(run) {
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
            NOTHING_EXPIRES => return Some(Self::NothingExpires),
            "powercfg.exe /hibernate on" => return Some(Self::Hibernation(true)),
            "powercfg.exe /hibernate off" => return Some(Self::Hibernation(false)),
            _ => {}
        }
        if let Some(asked) = Asked::understand(run) {
            return Some(Self::Asked(asked));
        }
        if let Some(folder) = run.strip_prefix(UPDATES).and_then(|rest| rest.strip_suffix(UPDATES_END)) {
            return Some(Self::Updates(folder.to_owned()));
        }
        if run == Self::Wireless.say().run || run == former_wireless() {
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
        let path = format!("%SystemDrive%\\{FOLDER}\\{name}");
        let is_it = task.say().run == run || script::former_run(&path, name) == run;
        is_it.then_some(task)
    }
}

//! Lines as shell.

use super::{
    Line, UNWAITED, UNWAITED_SHELL, USUAL_GROUPS, Ways, first_start, group,
    name::{expression, keyboard_values},
};
use crate::command_line::sh::{self, quoted, word};
use base64::{Engine, engine::general_purpose::STANDARD};

/// Puts an account into groups.
pub(super) const JOIN: &str = "usermod -aG ";
/// Makes a group that may be there.
pub(super) const MAKE_GROUP: &str = "groupadd -f ";

/// Changes the file that says the system's keyboards.
pub(super) const KEYBOARD: (&str, &str) = ("sed -i -e ", " /etc/default/keyboard");

/// Takes a package out with its settings.
pub(super) const PURGE: &str = "apt-get -y purge ";

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
            Self::Remove(name) => {
                // One that no source knows is an error for the program, and is gone already.
                let name = word(name);
                inside(format!("! dpkg-query -W {name} >/dev/null 2>&1 || {PURGE}{name}"))
            }
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
            Self::MediaScript { name, outside: true } => {
                format!("sh {}", word(&format!("{}/neatstack/{name}", ways.media)))
            }
            Self::MediaScript { name, outside: false } => {
                let path = word(&format!("/root/{name}"));
                let from = word(&format!("{}/neatstack/{name}", ways.media));
                let to = word(&format!("{}/root/{name}", ways.target));
                let run = inside(format!("chmod 700 {path} && {path} && rm {path}"));
                format!("cp {from} {to} && {run}")
            }
            Self::FirstStart(lines) => inside(first_start::say(lines)),
            Self::Own { run, wait, outside } => {
                let end = if *wait { "" } else { UNWAITED };
                match (*outside || ways.inside.is_empty(), *wait) {
                    (true, _) => format!("{run}{end}"),
                    (false, true) => inside(run.clone()),
                    // Whatever enters the installed system must have left it before the next one does.
                    (false, false) => inside(format!("{UNWAITED_SHELL}{}{end}", quoted(run))),
                }
            }
        }
    }
}

//! What the neutral form asks and installers of Linux do by a line of shell.

mod first_start;
mod guard;
mod name;
mod read;
mod say;
mod unsaid;

use crate::model::{Account, Carried, Model, SecretValue, Stage, Vault};
pub(crate) use guard::Guard;
use sha_crypt::{PasswordHasher, ShaCrypt};
use sha2::{Digest, Sha256};
pub(crate) use unsaid::unsaid;

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
    /// A script on the media is run, in the installed system or in the setup environment.
    MediaScript { name: String, outside: bool },
    /// Lines that run once, when the installed system starts first.
    FirstStart(Vec<Line>),
    /// A command of the model.
    Own { run: String, wait: bool, outside: bool },
}

/// How a dialect's lines reach the installed system and the media.
#[derive(Clone, Copy)]
pub(crate) struct Ways {
    /// Before a command in the installed system; it is followed by a quoted script. Empty when lines run there.
    pub inside: &'static str,
    /// Where the media is while setup runs.
    pub media: &'static str,
    /// Where the installed system is while setup runs.
    pub target: &'static str,
    /// Ends setup with an error.
    pub stop: &'static str,
    /// Before and after the expression for the machine's name.
    pub name: (&'static str, &'static str),
}

/// Ends a command that is not waited for. An installer waits for whoever still holds its output, or its line to
/// debconf (descriptor 3), too.
pub(crate) const UNWAITED: &str = " </dev/null >/dev/null 2>&1 3>&- &";

/// Before a quoted command that is not waited for, so that the sign counts for all of it.
pub(crate) const UNWAITED_SHELL: &str = "sh -c ";

/// A command without its sign, and whether it is waited for.
pub(crate) fn split_unwaited(line: &str) -> (&str, bool) {
    let own = line.strip_suffix(UNWAITED).or_else(|| line.strip_suffix(" &"));
    own.map_or((line, true), |run| (run, false))
}

/// Groups that every Debian system has (base-passwd) or that its installer brings, so that they need not be made.
const USUAL_GROUPS: [&str; 22] = [
    "adm", "audio", "backup", "cdrom", "dialout", "dip", "disk", "fax", "floppy", "games", "lp", "mail",
    "netdev", "operator", "plugdev", "src", "staff", "sudo", "tape", "users", "video", "voice",
];
/// Whether every system has a group.
pub(crate) fn is_usual_group(name: &str) -> bool {
    USUAL_GROUPS.contains(&name)
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
            Carried::Media => {
                Line::MediaScript { name: script.name.clone(), outside: stage == Stage::SetupStart }
            }
            Carried::Inside => Line::Script {
                name: script.name.clone(),
                text: script.text.clone(),
                outside: stage == Stage::SetupStart,
            },
        });
    }
    lines
}

/// Longest script that is carried inside, in bytes: a program gets at most 128 KiB in one argument, and a script in base64
/// is a third longer there.
const LONGEST_INSIDE: usize = 90 << 10;

/// Whether a script is too long for one command.
pub(crate) fn is_long(script: &crate::model::Script) -> bool {
    script.text.len() > LONGEST_INSIDE
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

/// What dialects without a stage for it run when the installed system starts first, by a unit that is made while it is
/// installed; nothing where there is nothing.
pub(crate) fn first_start(model: &Model, secrets: &Vault) -> Option<Line> {
    let lines = lines(model, Stage::FirstStart, secrets, &[]);
    (!lines.is_empty()).then_some(Line::FirstStart(lines))
}

#[cfg(test)]
mod tests {
    use super::*;

    const WAYS: Ways = Ways {
        inside: "in-target sh -c",
        media: "/cdrom",
        target: "/target",
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
            Line::MediaScript { name: "b.sh".into(), outside: true },
            Line::MediaScript { name: "of the \"quay\" & more.sh".into(), outside: true },
            Line::MediaScript { name: "of the \"quay\" & more.sh".into(), outside: false },
            Line::FirstStart(vec![
                own("echo 'it''s' \"x\"", true, false),
                own("sleep 9", false, false),
                Line::Script { name: "a.sh".into(), text: "echo 'x'\n".into(), outside: false },
            ]),
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

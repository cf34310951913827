//! What PowerShell asks of the installed system: its name, its accounts, its apps.
//!
//! All of it runs on each generation that has Windows PowerShell (version 2 and later): WMI is asked, not the cmdlets for
//! accounts and names, which came later.

use crate::command_line::powershell;

/// What a name may have, as many characters as a name may have.
const RENAME: &str = "$n=(";
const RENAME_END: &str = ")-replace'[^A-Za-z0-9-]',''-replace'^(.{15}).*','$1';\
    exit (gwmi Win32_ComputerSystem).Rename($n.Trim('-')).ReturnValue";
const SERIAL: &str = "(gwmi Win32_BIOS).SerialNumber";
const RANDOM: &str = "[guid]::NewGuid().ToString('N').Remove(";
const RANDOM_END: &str = ")";
const ACCOUNTS: &str = "gwmi Win32_UserAccount -Filter 'LocalAccount=1'|?{$_.";
const IS_ADMINISTRATOR: &str = "SID -like '*-500'}|foreach{$_.Disabled=$";
const NAME_IS: &str = "Name -eq ";
const NEVER_EXPIRES: &str = "}|foreach{$_.PasswordExpires=$false";
const PUT: &str = ";$_.Put()}";
const REMOVE_APP: &str = "Get-AppxProvisionedPackage -Online|?{$_.DisplayName -eq ";
const REMOVE_APP_END: &str = "}|Remove-AppxProvisionedPackage -Online";

/// How versions before 0.2 said it.
mod former {
    pub const RENAME_END: &str = ")-replace'[^A-Za-z0-9-]','';Rename-Computer -Force -NewName $n.Substring(0,[Math]::Min(15,$n.Length))";
    pub const SERIAL: &str = "(Get-CimInstance Win32_BIOS).SerialNumber";
    pub const RANDOM: &str = "(-join((48..57)+(65..90)|Get-Random -Count ";
    pub const RANDOM_END: &str = "|foreach{[char]$_}))";
    pub const ADMINISTRATOR: &str = "Get-LocalUser|where SID -like '*-500'|";
    pub const REMOVE_APP: &str = "Get-AppxProvisionedPackage -Online|where DisplayName -eq ";
    pub const REMOVE_APP_END: &str = "|Remove-AppxProvisionedPackage -Online -AllUsers";
    pub const NEVER_EXPIRES: &str = "Set-LocalUser -PasswordNeverExpires 1 -Name ";
}

/// What is asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Asked {
    /// The machine's name is made from a pattern.
    Name(String),
    /// The administrator's account is switched on or off.
    Administrator(bool),
    /// The password of an account stays good.
    NeverExpires(String),
    /// An app goes.
    RemoveApp(String),
}

impl Asked {
    /// The command line.
    pub fn say(&self) -> String {
        powershell::command(&match self {
            Self::Name(pattern) => format!("{RENAME}{}{RENAME_END}", name_expression(pattern)),
            Self::Administrator(enabled) => format!("{ACCOUNTS}{IS_ADMINISTRATOR}{}{PUT}", !enabled),
            Self::NeverExpires(name) => {
                format!("{ACCOUNTS}{NAME_IS}{}{NEVER_EXPIRES}{PUT}", powershell::literal(name))
            }
            Self::RemoveApp(name) => format!("{REMOVE_APP}{}{REMOVE_APP_END}", powershell::literal(name)),
        })
    }

    /// What a command line asks, as it is written here or was before.
    pub fn understand(run: &str) -> Option<Self> {
        let script = powershell::of_command(run)?;
        if let Some(rest) = script.strip_prefix(RENAME) {
            let name = rest.strip_suffix(RENAME_END).or_else(|| rest.strip_suffix(former::RENAME_END))?;
            return name_pattern(name).map(Self::Name);
        }
        if let Some(rest) = script.strip_prefix(ACCOUNTS) {
            if let Some(rest) = rest.strip_prefix(IS_ADMINISTRATOR) {
                return rest
                    .strip_suffix(PUT)?
                    .parse()
                    .ok()
                    .map(|disabled: bool| Self::Administrator(!disabled));
            }
            let (name, rest) = powershell::of_literal(rest.strip_prefix(NAME_IS)?)?;
            return (rest.strip_prefix(NEVER_EXPIRES) == Some(PUT)).then_some(Self::NeverExpires(name));
        }
        if let Some(verb) = script.strip_prefix(former::ADMINISTRATOR) {
            return Some(Self::Administrator(verb.starts_with("Enable")));
        }
        if let Some(name) = script.strip_prefix(former::NEVER_EXPIRES) {
            return whole_literal(name).map(Self::NeverExpires);
        }
        [(REMOVE_APP, REMOVE_APP_END), (former::REMOVE_APP, former::REMOVE_APP_END)]
            .into_iter()
            .find_map(|(front, end)| script.strip_prefix(front)?.strip_suffix(end))
            .and_then(whole_literal)
            .map(Self::RemoveApp)
    }
}

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
        if let Some(after) = rest.strip_prefix(SERIAL).or_else(|| rest.strip_prefix(former::SERIAL)) {
            pattern.push_str("{serial}");
            rest = after;
        } else if let Some(after) = rest.strip_prefix(RANDOM) {
            let (count, after) = after.split_once(RANDOM_END)?;
            pattern.push_str(&format!("{{random:{count}}}"));
            rest = after;
        } else if let Some(after) = rest.strip_prefix(former::RANDOM) {
            let (count, after) = after.split_once(former::RANDOM_END)?;
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
/// The text of a literal with nothing behind it.
fn whole_literal(text: &str) -> Option<String> {
    powershell::of_literal(text).filter(|(_, rest)| rest.is_empty()).map(|(text, _)| text)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_asked_is_understood_as_it_is_said_and_as_it_was_said_before() {
        let asked = [
            Asked::Name("LAB-{serial}-{random:3}x".into()),
            Asked::Name("O'Hara-{serial}".into()),
            Asked::Administrator(true),
            Asked::Administrator(false),
            Asked::NeverExpires("helm".into()),
            Asked::NeverExpires("o'hara".into()),
            Asked::RemoveApp("Quay.Cards".into()),
            Asked::RemoveApp("Skipper's \"Log\"".into()),
        ];
        for own in asked {
            assert_eq!(Asked::understand(&own.say()), Some(own.clone()), "{}", own.say());
        }
        for (script, expected) in [
            (
                "$n=('LAB-'+(Get-CimInstance Win32_BIOS).SerialNumber+\
                 (-join((48..57)+(65..90)|Get-Random -Count 3|foreach{[char]$_})))-replace'[^A-Za-z0-9-]','';\
                 Rename-Computer -Force -NewName $n.Substring(0,[Math]::Min(15,$n.Length))",
                Asked::Name("LAB-{serial}{random:3}".into()),
            ),
            ("Get-LocalUser|where SID -like '*-500'|Enable-LocalUser", Asked::Administrator(true)),
            ("Set-LocalUser -PasswordNeverExpires 1 -Name 'helm'", Asked::NeverExpires("helm".into())),
            (
                "Get-AppxProvisionedPackage -Online|where DisplayName -eq 'A'|\
                 Remove-AppxProvisionedPackage -Online -AllUsers",
                Asked::RemoveApp("A".into()),
            ),
        ] {
            assert_eq!(Asked::understand(&powershell::command(script)), Some(expected));
        }
        for other in ["Get-LocalUser", "Rename-Computer x", ""] {
            assert_eq!(Asked::understand(&powershell::command(other)), None, "{other}");
        }
        assert_eq!(Asked::understand("powershell.exe -File x.ps1"), None);
    }

    #[test]
    fn what_is_asked_fits_its_element_with_long_names() {
        let long = [
            Asked::Name("LABOR-{serial}-{random:4}".into()),
            Asked::Administrator(false),
            Asked::NeverExpires("twenty-characters-xy".into()),
            Asked::RemoveApp("a-long-name.of-an-app.of-some-vendor".into()),
        ];
        for own in long {
            assert!(own.say().chars().count() <= 259, "{} {}", own.say().len(), own.say());
        }
    }
}

//! A commented starting point for a model.

use crate::model::Model;
use neat_content::{Result, toml_string};

/// What is known already when a model is begun.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Known {
    /// Language tag of setup and system.
    pub language: String,
    /// IANA time zone.
    pub time_zone: String,
    /// Name of the edition, or `ask`.
    pub edition: String,
    /// Name of the machine.
    pub machine: String,
    /// Name of the first account.
    pub account: String,
    /// Whether its password is asked for when the answers are written; else it comes from the environment.
    pub prompts: bool,
}

const TEXT: &str = r#"# What setup is told. The schema `answer` has all keys; a check says what is wrong.
format = 1
title = "Our machines"
# Say "yes" when erasing a disk without asking anybody is meant.
erases = "no"
# Processors that it serves: x64, x86, arm64.
architectures = ["x64"]
# Checks of the hardware that setup leaves out, for old machines, and encryption that nobody asked for.
# waive = ["security-chip", "secure-start", "memory", "processor", "disk-size"]
# prevent_encryption = true

[language]
setup = @language@
user = @language@
system = @language@
# A language's usual keyboard, an exact one (0406:00000406), or a layout of X (xkb:us(dvorak)).
keyboards = [@language@]
time_zone = @zone@

[system]
# A name as in the list of the editions, a number, or "ask".
edition = @edition@
licence = "accept"
# A key that activates nothing is said here; a real one comes from a file or the environment.
# key = { generic = "XXXXX-XXXXX-XXXXX-XXXXX-XXXXX" }

[machine]
# {serial} and {random:4} are filled in by the machine itself, {random} leaves all to it; columns of a site list too.
name = @machine@
# owner = "…"
# organisation = "…"

# Without [[disk]] setup asks where to install. This one would erase disk 0; say erases = "yes" above to mean it.
# [[disk]]
# number = 0                # where installers number disks
# device = "sda"            # where installers name them
# wipe = true
# scheme = "gpt"
# only_disk = true          # not when there is another one
# partition = [
#   { kind = "efi", size = "300MiB", label = "EFI" },
#   { kind = "reserved", size = "16MiB" },
#   { kind = "system", size = "rest", label = "System", letter = "C" },
# ]

[[account]]
name = @account@
groups = ["administrators"]
# Passwords come from a file, the environment or a prompt: { file = "…" }, { environment = "…" }, { prompt = true }.
password = @password@
# password_never_expires = true
# automatic_sign_ins = 1

[first_start]
skip = ["registration", "wireless", "local-account"]
offline_account = true
privacy = "decline"

# [network]
# needed = false
# wireless = { name = "Harbour", password = { environment = "WIRELESS_PASSWORD" } }
# static = { interface = "Ethernet", address = "192.0.2.5/24", gateway = "192.0.2.1", name_servers = ["192.0.2.53"] }

# Where a distribution's packages come from, its kernel, and what goes in with packages.
# [distribution]
# mirror = "http://mirror.example/debian"
# kernel = "linux-image-amd64"
# kernel_options = "console=ttyS0,115200"
# recommends = false

# Stages: setup-start, system-installed, first-start, first-sign-in, every-sign-in, generalize, audit-system, audit-user.
# [[command]]
# stage = "first-sign-in"
# run = "cmd.exe /c echo ready"
# description = "Say that it is done"
"#;

/// The text of a starting point. What is not known is as most would have it.
///
/// # Errors
/// `BadRequest` for values that a model cannot have.
pub fn starter(known: &Known) -> Result<String> {
    let or = |text: &str, usual: &str| toml_string(if text.is_empty() { usual } else { text });
    let text = TEXT
        .replace("@language@", &or(&known.language, "en-GB"))
        .replace("@zone@", &or(&known.time_zone, "Etc/UTC"))
        .replace("@edition@", &or(&known.edition, "ask"))
        .replace("@machine@", &or(&known.machine, "{random}"))
        .replace("@account@", &or(&known.account, "user"))
        .replace(
            "@password@",
            if known.prompts { "{ prompt = true }" } else { "{ environment = \"SETUP_PASSWORD\" }" },
        );
    Model::parse(&text)?;
    Ok(text)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_starting_point_is_a_sound_model_also_without_its_comments() {
        let text = starter(&Known { language: "da-DK".into(), account: "he\"lm".into(), ..Known::default() })
            .unwrap();
        let model = Model::parse(&text).unwrap();
        assert_eq!((model.language.setup.as_str(), model.account[0].name.as_str()), ("da-DK", "he\"lm"));
        // What stands commented out is right, too: prose ends with a full stop.
        let lines = text.lines().filter(|line| !line.trim_end().ends_with('.') && !line.contains('…'));
        let whole: Vec<&str> = lines.map(|line| line.strip_prefix("# ").unwrap_or(line)).collect();
        let model = Model::parse(&whole.join("\n")).unwrap();
        assert_eq!(model.disk[0].partition.len(), 3);
        assert_eq!(model.command.len(), 1);
    }
}

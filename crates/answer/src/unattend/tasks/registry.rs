//! Registry values as commands set them, and those that mean something of their own.

use super::Task;
use crate::{
    command_line::program::{arguments, quoted},
    model::{RegistryValue, Requirement},
};

pub(super) const CHECKS: [(Requirement, &str); 5] = [
    (Requirement::SecurityChip, "BypassTPMCheck"),
    (Requirement::SecureStart, "BypassSecureBootCheck"),
    (Requirement::Memory, "BypassRAMCheck"),
    (Requirement::Processor, "BypassCPUCheck"),
    (Requirement::DiskSize, "BypassStorageCheck"),
];
pub(super) const CHECKS_KEY: &str = "HKLM\\SYSTEM\\Setup\\LabConfig";
pub(super) const NETWORK_KEY: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\OOBE";
pub(super) const ENCRYPTION_KEY: &str = "HKLM\\SYSTEM\\CurrentControlSet\\Control\\BitLocker";

/// Whether a value belongs to whoever signs in.
pub(super) fn is_of_user(value: &RegistryValue) -> bool {
    let root = value.key.split('\\').next().unwrap_or_default();
    root.eq_ignore_ascii_case("HKCU") || root.eq_ignore_ascii_case("HKEY_CURRENT_USER")
}

/// The command that sets a value.
pub(super) fn add(key: &str, name: &str, kind: &str, value: &str) -> String {
    let name = if name.is_empty() { "/ve".into() } else { format!("/v {}", quoted(name)) };
    format!("reg.exe add {} {name} /t {kind} /d {} /f", quoted(key), quoted(value))
}

pub(super) const REGISTRY_KINDS: [(&str, &str); 4] = [
    ("string", "REG_SZ"),
    ("expand-string", "REG_EXPAND_SZ"),
    ("dword", "REG_DWORD"),
    ("qword", "REG_QWORD"),
];

/// A `reg add` command that sets one value.
pub(super) fn value_of(run: &str) -> Option<RegistryValue> {
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
/// Registry values that mean something of their own.
pub(super) fn known(run: &str) -> Option<Task> {
    let value = value_of(run)?;
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

//! Registry values as commands set them, and those that mean something of their own.

use super::Task;
use crate::{command_line::registry::value_of, model::Requirement};

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

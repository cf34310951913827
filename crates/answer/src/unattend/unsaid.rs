//! What this dialect cannot say of a model.

use super::{lists::List, write::spoken_disk};
use crate::{
    Dialect, Finding, Topic,
    model::{Carried, FileSystem, Model, PartitionKind, SecretValue, Stage, Vault, WhenDone},
    tables,
};

pub(super) fn unsaid(model: &Model, secrets: &Vault) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut notes = Vec::new();
    let mut add = |field: &str, why: &str, hint: &str| {
        findings.push(Finding::unsaid(field, Dialect::Unattend, why, hint));
    };
    let zone = &model.language.time_zone;
    if !zone.is_empty() && tables::zone_name(zone).is_none() {
        let near = tables::near_zone(zone).unwrap_or("Europe/London");
        let hint = format!("did you mean {near}?");
        if tables::zones().any(|own| own == zone) {
            add("language.time_zone", &format!("{zone} has no name there"), &hint);
        } else {
            let message = format!("there is no time zone {zone:?}");
            notes.push(Finding::new(Topic::Language, "language.time_zone", message, hint));
        }
    }
    for keyboard in model.language.keyboards.iter().filter(|own| tables::layout_pair(own).is_none()) {
        let why = format!("the layout {keyboard} has no identifier here");
        add("language.keyboards", &why, "give its identifiers, such as 0406:00000406");
    }
    for disk in &model.disk {
        if disk.number.is_none() && !disk.device.is_empty() {
            add(
                "disk.device",
                "disks have numbers there; disk 0 is taken",
                "add number = 0, or another number",
            );
        }
        let spoken = spoken_disk(disk);
        if disk.scheme.is_some() && disk.scheme != spoken.scheme && !disk.partition.is_empty() {
            add(
                "disk.scheme",
                "the firmware that starts setup decides, and the partitions fit the other kind",
                "add an efi partition for GPT, a boot partition for MBR",
            );
        }
        for partition in &disk.partition {
            if matches!(
                partition.file_system,
                Some(FileSystem::Ext4 | FileSystem::Xfs | FileSystem::Btrfs | FileSystem::Swap)
            ) || partition.kind == PartitionKind::Swap
            {
                add("disk.partition.file_system", "it knows NTFS and FAT32", "leave file_system out");
            }
            if !partition.mount.is_empty() {
                notes.push(Finding::needless(
                    "disk.partition.mount",
                    Dialect::Unattend,
                    "partitions have letters there",
                ));
            }
        }
    }
    for (field, value) in secrets {
        if matches!(value, SecretValue::Hash(_)) {
            add(
                field,
                "it takes no hashes of passwords",
                "give the password itself, from a file or the environment",
            );
        }
    }
    if model.account.iter().filter(|account| account.automatic_sign_ins > 0).count() > 1 {
        add("account.automatic_sign_ins", "one account can be signed in", "keep it for one account");
    }
    if !model.software.add.is_empty() {
        add(
            "software.add",
            "packages of a distribution are not installed by it",
            "put installers into [[app]] of the stack file",
        );
    }
    let distribution = &model.distribution;
    for (field, is_said) in [
        ("distribution.mirror", !distribution.mirror.is_empty()),
        ("distribution.kernel", !distribution.kernel.is_empty()),
        ("distribution.kernel_options", !distribution.kernel_options.is_empty()),
        ("distribution.recommends", distribution.recommends.is_some()),
        ("distribution.firmware", distribution.firmware.is_some()),
    ] {
        if is_said {
            notes.push(Finding::needless(
                field,
                Dialect::Unattend,
                "the system is no distribution of packages",
            ));
        }
    }
    if !model.network.interface.is_empty() && model.network.fixed.is_none() {
        notes.push(Finding::needless("network.interface", Dialect::Unattend, "it uses all that have a link"));
    }
    if !model.system.folder.is_empty() {
        notes.push(Finding::needless("system.folder", Dialect::Unattend, "the folder is always the same"));
    }
    if model.power.leave_disc.is_some() {
        notes.push(Finding::needless("power.leave_disc", Dialect::Unattend, "the disc stays in its drive"));
    }
    if model.power.when_done == Some(WhenDone::Off) {
        add("power.when_done", "the machine starts again by itself", "add a command for the first sign-in");
    }
    for command in &model.command {
        if List::Commands(command.stage, command.wait).place().is_none() {
            let (why, hint) = match command.stage {
                Stage::FirstStart => (
                    "nothing runs before somebody signs in",
                    "use the stage system-installed, or first-sign-in",
                ),
                Stage::FirstSignIn => ("commands there are waited for", "leave out wait = false"),
                _ => ("commands there are not waited for", "add wait = false"),
            };
            add("command", &format!("`{}` at {}: {why}", command.run, command.stage.name()), hint);
        }
    }
    for script in &model.script {
        let name = &script.name;
        if List::Commands(script.stage, true).place().is_none() {
            add("script", &format!("{name} at {}", script.stage.name()), "use another stage");
        } else if script.carried == Carried::Inside && script.stage == Stage::SetupStart {
            add(
                "script",
                &format!("{name} cannot be unpacked while setup starts"),
                "write carried = \"media\"",
            );
        } else if script.carried == Carried::Media && script.text.is_empty() {
            notes.push(Finding::told(
                Topic::ByHand,
                "script",
                format!("{name} must be put on the media by another way"),
            ));
        }
    }
    findings.append(&mut notes);
    findings
}

//! What this dialect cannot say of a model.

use super::{installed, say, zones};
use crate::{
    Dialect, Finding, Topic,
    command_line::registry,
    model::{
        Carried, FileSystem, KeyChoice, Model, PartitionKind, Scheme, SecretValue, Size, Stage, Vault,
        WhenDone,
    },
    tables,
};

const SIF: Dialect = Dialect::Sif;

pub(super) fn unsaid(model: &Model, secrets: &Vault) -> Vec<Finding> {
    let mut findings = Vec::new();
    language(model, &mut findings);
    disks(model, &mut findings);
    people(model, secrets, &mut findings);
    network(model, &mut findings);
    runs(model, &mut findings);
    software(model, &mut findings);
    nothing_for(model, &mut findings);
    findings
}

fn unsaid_of(field: &str, why: &str, hint: &str) -> Finding {
    Finding::unsaid(field, SIF, why, hint)
}

fn language(model: &Model, findings: &mut Vec<Finding>) {
    let language = &model.language;
    let zone = &language.time_zone;
    if !zone.is_empty() && zones::number(zone).is_none() {
        let near = tables::near_zone(zone).unwrap_or("Europe/London");
        if tables::zones().any(|own| own == zone) {
            let hint = "choose a zone of the same time that is older";
            findings.push(unsaid_of("language.time_zone", &format!("{zone} has no number there"), hint));
        } else {
            let message = format!("there is no time zone {zone:?}");
            let hint = format!("did you mean {near}?");
            findings.push(Finding::new(Topic::Language, "language.time_zone", message, hint));
        }
    }
    for keyboard in language.keyboards.iter().filter(|own| tables::exact_pair(own).is_none()) {
        let why = format!("the layout {keyboard} has no identifier here");
        findings.push(unsaid_of("language.keyboards", &why, "give its identifiers, such as 0406:00000406"));
    }
    let (system, user) = say::spoken(model);
    for (field, tag) in [("language.system", system), ("language.user", user)] {
        if !tag.is_empty() && tables::id_of_language(tag).is_none() {
            findings.push(unsaid_of(
                field,
                &format!("{tag} has no identifier here"),
                "give the tag of a language such as da-DK",
            ));
        }
    }
    if !language.setup.is_empty() || !language.interface.is_empty() {
        findings.push(Finding::needless(
            "language.setup",
            SIF,
            "setup and system speak the media's language",
        ));
    }
}

fn disks(model: &Model, findings: &mut Vec<Finding>) {
    for disk in &model.disk {
        let mut add = |field: &str, why: &str, hint: &str| findings.push(unsaid_of(field, why, hint));
        if disk.number.is_some_and(|number| number > 0) {
            add("disk.number", "it takes the first disk", "leave the number out");
        }
        if disk.is_guarded() {
            add(
                "disk.only_disk",
                "nothing looks at the disks before",
                "leave out only_disk, at_least and at_most",
            );
        }
        if disk.scheme == Some(Scheme::Gpt) {
            add("disk.scheme", "its systems start from an MBR", "leave the scheme out");
        }
        let is_whole =
            |own: &crate::model::Partition| own.kind == PartitionKind::System && own.size == Size::Rest;
        if !disk.partition.is_empty() && !matches!(disk.partition.as_slice(), [own] if is_whole(own)) {
            add(
                "disk.partition",
                "it makes one partition of the whole disk",
                "keep one of kind = \"system\" and size = \"rest\", or none and be asked",
            );
        }
        if disk.partition.iter().any(|own| own.file_system.is_some_and(|own| own != FileSystem::Ntfs)) {
            add("disk.partition.file_system", "it makes NTFS", "leave file_system out");
        }
        for (field, is_said) in [
            ("disk.device", !disk.device.is_empty()),
            ("disk.partition.label", disk.partition.iter().any(|own| !own.label.is_empty())),
            ("disk.partition.mount", disk.partition.iter().any(|own| !own.mount.is_empty())),
        ] {
            if is_said {
                findings.push(Finding::needless(
                    field,
                    SIF,
                    "disks have numbers and partitions letters there",
                ));
            }
        }
        if disk.partition.iter().any(|own| own.letter.is_some_and(|own| !own.eq_ignore_ascii_case(&'c'))) {
            findings.push(unsaid_of("disk.partition.letter", "the system is on C:", "leave the letter out"));
        }
    }
    if model.disk.len() > 1 {
        findings.push(unsaid_of(
            "disk",
            "it lays out one disk",
            "lay out others by a command at first-sign-in",
        ));
    }
}

fn people(model: &Model, secrets: &Vault, findings: &mut Vec<Finding>) {
    for (field, value) in secrets {
        if matches!(value, SecretValue::Hash(_)) {
            let hint = "give the password itself, from a file or the environment";
            findings.push(unsaid_of(field, "it takes no hashes of passwords", hint));
        }
    }
    let mut add = |field: &str, why: &str, hint: &str| findings.push(unsaid_of(field, why, hint));
    if model.administrator.enabled == Some(false) {
        add(
            "administrator.enabled",
            "somebody has to be able to sign in first",
            "switch the account off by a command",
        );
    }
    for account in &model.account {
        if account.automatic_sign_ins > 0 {
            let why = format!("only the administrator can be signed in, and {} is another", account.name);
            add("account.automatic_sign_ins", &why, "leave it out");
        }
        if account.password_never_expires {
            add(
                "account.password_never_expires",
                "it has no word for it",
                "add a command: net.exe accounts /maxpwage:unlimited",
            );
        }
        if account.groups.iter().any(|own| own.contains(',')) {
            add("account.groups", "a group has a comma in its name", "make it by a command");
        }
    }
    if matches!(model.system.key, Some(KeyChoice::None(_))) {
        add(
            "system.key",
            "setup asks for a key where none is said",
            "give one that is generic, or let setup ask",
        );
    }
    let name = &model.machine.name;
    if name != "{random}" && name.contains('{') {
        let hint =
            "let setup choose one: {random}; or write a site list, which fills in the name of each machine";
        add("machine.name", "the name is fixed before the machine is seen", hint);
    }
    if model.administrator.enabled == Some(true) {
        findings.push(Finding::needless("administrator.enabled", SIF, "its account is always on"));
    }
}

fn network(model: &Model, findings: &mut Vec<Finding>) {
    let network = &model.network;
    if network.wireless.is_some() {
        findings.push(unsaid_of(
            "network.wireless",
            "it joins no wireless network",
            "use a cable, or a command at first-sign-in",
        ));
    }
    if network.fixed.as_ref().is_some_and(|own| own.address.contains(':')) {
        findings.push(unsaid_of(
            "network.static.address",
            "its systems have addresses of version 4",
            "give such an address",
        ));
    }
    if network.fixed.as_ref().is_some_and(|own| !say::is_identifier(&own.interface)) {
        let why = "it takes the machine's only adapter, by whatever name";
        findings.push(Finding::needless("network.static.interface", SIF, why));
    }
    for (field, is_said) in [
        ("network.needed", network.needed.is_some()),
        ("network.place", network.place.is_some()),
        ("network.interface", !network.interface.is_empty() && network.fixed.is_none()),
    ] {
        if is_said {
            findings.push(Finding::needless(field, SIF, "setup asks for no such thing"));
        }
    }
}

fn runs(model: &Model, findings: &mut Vec<Finding>) {
    for own in &model.command {
        let (why, hint) = match own.stage {
            Stage::SystemInstalled if own.outside => {
                ("there is no other system to run in", "leave out outside = true")
            }
            Stage::SystemInstalled => continue,
            Stage::FirstSignIn if own.wait => continue,
            Stage::FirstSignIn => ("commands there are waited for", "leave out wait = false"),
            _ => ("there is no such stage", "use system-installed or first-sign-in"),
        };
        let why = format!("`{}` at {}: {why}", own.run, own.stage.name());
        findings.push(unsaid_of("command", &why, hint));
    }
    if model.command.iter().any(|own| own.run.contains(['\r', '\n', '\0'])) {
        findings.push(unsaid_of("command", "a command has several lines", "make it a [[script]]"));
    }
    if model.command.iter().any(|own| own.hidden) {
        findings.push(Finding::needless("command.hidden", SIF, "all run in one window"));
    }
    for own in &model.script {
        let name = &own.name;
        if !matches!(own.stage, Stage::SystemInstalled | Stage::FirstSignIn) {
            let why = format!("{name} at {}: there is no such stage", own.stage.name());
            findings.push(unsaid_of("script", &why, "use system-installed or first-sign-in"));
        } else if !installed::is_runnable(name) {
            let why = format!(
                "{name}: its systems run .cmd, .bat, .vbs, .js and .wsf, by names of letters, digits, '-', '_' and '.'"
            );
            findings.push(unsaid_of("script", &why, "write it for one of these"));
        } else if own.text.is_empty() && own.carried == Carried::Media {
            let message = format!("{name} must be put on the media by another way, in $OEM$/$1/neatstack");
            findings.push(Finding::told(Topic::ByHand, "script", message));
        }
    }
    for value in &model.registry {
        if value.kind == "qword" && !registry::is_of_user(value) {
            let why = format!("{}: its systems set no values of 64 bits", value.key);
            findings.push(unsaid_of("registry", &why, "take it out"));
        }
    }
}

fn software(model: &Model, findings: &mut Vec<Finding>) {
    let software = &model.software;
    for folder in software.drivers.iter().filter(|own| say::driver_folder(own).is_none()) {
        let why = format!("{folder} is not on the system's own drive");
        let hint = "write %SystemDrive%\\FOLDER, and put the drivers there with [[driver]] or in $OEM$/$1";
        findings.push(unsaid_of("software.drivers", &why, hint));
    }
    if !software.updates.is_empty() {
        let hint = "put fixes and service packs in with [[update]] of the stack file";
        findings.push(unsaid_of("software.updates", "setup takes none from a folder", hint));
    }
    if software.configuration_set {
        findings.push(Finding::needless("software.configuration_set", SIF, "setup copies $OEM$"));
    }
}

fn nothing_for(model: &Model, findings: &mut Vec<Finding>) {
    let power = &model.power;
    for (field, is_said) in [
        ("power.sleep_minutes", power.sleep_minutes.is_some()),
        ("power.screen_minutes", power.screen_minutes.is_some()),
        ("power.when_done", power.when_done == Some(WhenDone::Off)),
    ] {
        if is_said {
            findings.push(unsaid_of(field, "it has no word for it", "set it by a command at first-sign-in"));
        }
    }
    let distribution = &model.distribution;
    let start = &model.first_start;
    for (field, is_said) in [
        ("system.edition", model.system.edition.is_some()),
        ("waive", !model.waive.is_empty()),
        ("prevent_encryption", model.prevent_encryption),
        ("first_start.skip", !start.skip.is_empty()),
        ("first_start.offline_account", start.offline_account),
        ("first_start.privacy", start.privacy.is_some()),
        ("power.leave_disc", power.leave_disc.is_some()),
        ("distribution.mirror", !distribution.mirror.is_empty()),
        ("distribution.kernel", !distribution.kernel.is_empty()),
        ("distribution.kernel_options", !distribution.kernel_options.is_empty()),
        ("distribution.recommends", distribution.recommends.is_some()),
        ("distribution.firmware", distribution.firmware.is_some()),
    ] {
        if is_said {
            findings.push(Finding::needless(field, SIF, "its systems have no such thing"));
        }
    }
}

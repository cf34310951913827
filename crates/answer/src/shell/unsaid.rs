//! What no installer of Linux can say.

use crate::{
    Dialect, Finding, Topic,
    model::{Carried, Model, Stage},
};

pub(crate) fn unsaid(model: &Model, dialect: crate::Dialect, stages: &[Stage], findings: &mut Vec<Finding>) {
    let mut add =
        |field: &str, why: &str, hint: &str| findings.push(Finding::unsaid(field, dialect, why, hint));
    let mut needless = Vec::new();
    let mut none = |field: &str, what: &str| {
        let message = format!("{} has no {what}, so there is nothing to say", dialect.name());
        needless.push(Finding::told(Topic::Needless, field, message));
    };
    let language = &model.language;
    let first = if language.setup.is_empty() { &language.user } else { &language.setup };
    for (field, value) in [
        ("language.interface", &language.interface),
        ("language.system", &language.system),
        ("language.user", &language.user),
    ] {
        if !value.is_empty() && value != first {
            add(
                field,
                &format!("setup and system have one language, {first}"),
                "say the same for all, or set it by a command",
            );
        }
    }
    for keyboard in language.keyboards.iter().filter(|own| crate::tables::xkb(own).is_none()) {
        add(
            "language.keyboards",
            &format!("{keyboard} has no layout of X here"),
            "write it as xkb:LAYOUT(VARIANT)",
        );
    }
    if model.machine.owner.len() + model.machine.organisation.len() > 0 {
        none("machine.owner", "owner and no organisation");
    }
    if model.system.key.as_ref().is_some_and(|key| !matches!(key, crate::model::KeyChoice::None(_))) {
        none("system.key", "product keys");
    }
    if !model.system.folder.is_empty() {
        none("system.folder", "folder of the system");
    }
    if model.display != crate::model::Display::default() {
        none("display", "settings of the screen");
    }
    if model.network.place.is_some() {
        none("network.place", "places of networks");
    }
    if !model.registry.is_empty() {
        none("registry", "registry");
    }
    if !model.software.drivers.is_empty() {
        add("software.drivers", "drivers come with the kernel", "add packages with firmware to software.add");
    }
    if model.software.configuration_set {
        none("software.configuration_set", "configuration sets");
    }
    if !model.software.updates.is_empty() {
        add("software.updates", "updates come from the mirror", "install packages by a command");
    }
    if model.power.sleep_minutes.is_some()
        || model.power.screen_minutes.is_some()
        || model.power.hibernation.is_some()
    {
        add("power", "it has no say in when a machine sleeps", "set it by a command");
    }
    for account in model.account.iter().filter(|account| account.automatic_sign_ins > 0) {
        add(
            "account.automatic_sign_ins",
            &format!("{} is not signed in by itself", account.name),
            "set up the display manager by a command",
        );
    }
    for disk in &model.disk {
        if disk.device.is_empty() {
            add("disk.device", "disks have names there, no numbers", "add device = \"sda\"");
        }
        for partition in &disk.partition {
            if partition.letter.is_some() {
                none("disk.partition.letter", "drive letters");
            }
            if matches!(
                partition.kind,
                crate::model::PartitionKind::Reserved | crate::model::PartitionKind::Recovery
            ) {
                none("disk.partition.kind", "partitions of this kind");
            }
        }
    }
    for command in model.command.iter().filter(|command| !stages.contains(&command.stage)) {
        add(
            "command",
            &format!("`{}` at {}: it has no such stage", command.run, command.stage.name()),
            "use system-installed",
        );
    }
    for command in model
        .command
        .iter()
        .filter(|own| own.run.contains(['\n', '\r']) || own.description.contains(['\n', '\r']))
    {
        add("command", &format!("{:?} has several lines", command.run), "make it a [[script]]");
    }
    for script in model.script.iter().filter(|script| !stages.contains(&script.stage)) {
        add(
            "script",
            &format!("{} at {}: it has no such stage", script.name, script.stage.name()),
            "use system-installed",
        );
    }
    if model.script.iter().any(|own| own.stage == Stage::FirstStart && own.carried == Carried::Media) {
        add("script", "the media is not there when the system starts first", "carry the script inside");
    }
    for script in model.script.iter().filter(|own| own.carried == Carried::Media && own.text.is_empty()) {
        findings.push(Finding::told(
            Topic::ByHand,
            "script",
            format!("{} must be put on the media by another way", script.name),
        ));
    }
    if !model.waive.is_empty() {
        none("waive", "checks of the hardware");
    }
    if model.prevent_encryption {
        none("prevent_encryption", "encryption without being asked");
    }
    if !model.first_start.skip.is_empty() {
        none("first_start.skip", "such pages");
    }
    if model.first_start.offline_account {
        none("first_start.offline_account", "accounts of a vendor");
    }
    if model.command.iter().any(|command| command.hidden) {
        none("command.hidden", "windows while it runs commands");
    }
    findings.append(&mut needless);
    distribution(model, dialect, findings);
}

/// What is said of a distribution, its kernel and what it is installed from, and who cannot say it.
fn distribution(model: &Model, dialect: Dialect, findings: &mut Vec<Finding>) {
    use Dialect::{Autoinstall, Autoyast, Kickstart, Preseed};
    let own = &model.distribution;
    let (mirror, kernel, options) =
        (!own.mirror.is_empty(), !own.kernel.is_empty(), !own.kernel_options.is_empty());
    let interface = &model.network.interface;
    let words = [
        (
            mirror && dialect == Autoyast,
            "distribution.mirror",
            "the media, or the menu's entry, says where it installs from",
            "say source in [menu]",
        ),
        (
            kernel && dialect == Kickstart,
            "distribution.kernel",
            "the kernel is a package as others are",
            "name it in software.add",
        ),
        (
            options && dialect == Autoinstall,
            "distribution.kernel_options",
            "it has no word for them",
            "change GRUB_CMDLINE_LINUX by a command at system-installed",
        ),
        (
            own.recommends.is_some() && dialect == Autoinstall,
            "distribution.recommends",
            "it has no word for that",
            "set APT::Install-Recommends by a command at setup-start",
        ),
        (
            !interface.is_empty() && model.network.fixed.is_none() && dialect == Autoinstall
                || interface == "auto" && dialect == Autoyast,
            "network.interface",
            "it takes all that have a link",
            "leave it out, or say [network.static]",
        ),
    ];
    for (_, field, why, hint) in words.into_iter().filter(|(is_said, ..)| *is_said) {
        findings.push(Finding::unsaid(field, dialect, why, hint));
    }
    let needless = [
        (
            own.recommends == Some(true) && dialect == Kickstart,
            "distribution.recommends",
            "they go in there anyway",
        ),
        (
            own.firmware.is_some() && dialect != Preseed,
            "distribution.firmware",
            "it comes with the kernel's packages there",
        ),
        (
            model.power.leave_disc.is_some() && matches!(dialect, Autoinstall | Autoyast),
            "power.leave_disc",
            "the disc stays in its drive",
        ),
    ];
    for (_, field, why) in needless.into_iter().filter(|(is_said, ..)| *is_said) {
        findings.push(Finding::needless(field, dialect, why));
    }
}

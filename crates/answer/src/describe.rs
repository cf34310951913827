//! What answers will do to a machine, in words.

use crate::{
    Erasure,
    model::{Disk, EditionChoice, Model, PartitionKind, Stage},
};

/// What the answers will do to a machine, line by line, the dangerous first.
pub fn describe(model: &Model, erasure: &Erasure) -> Vec<String> {
    let mut lines = vec![format!("It {}.", erasure.line())];
    for disk in &model.disk {
        lines.push(disk_line(disk));
    }
    if model.disk.is_empty() && !erasure.is_some() {
        lines.push("It asks where to install.".into());
    }
    match &model.system.edition {
        Some(EditionChoice::Name(name)) if name == "ask" => {
            lines.push("It asks which edition to install.".into());
        }
        Some(EditionChoice::Name(name)) => lines.push(format!("It installs {name}.")),
        Some(EditionChoice::Number(number)) => lines.push(format!("It installs edition {number}.")),
        None => {}
    }
    let language = &model.language;
    let spoken =
        [&language.setup, &language.interface, &language.user].into_iter().find(|own| !own.is_empty());
    if let Some(spoken) = spoken {
        let keyboards = if language.keyboards.is_empty() {
            String::new()
        } else {
            format!(", keyboards {}", language.keyboards.join(", "))
        };
        let zone = if language.time_zone.is_empty() {
            String::new()
        } else {
            format!(", time zone {}", language.time_zone)
        };
        lines.push(format!("It speaks {spoken}{keyboards}{zone}."));
    }
    match model.machine.name.as_str() {
        "" => {}
        "{random}" => lines.push("It gives the machine a random name.".into()),
        name => lines.push(format!("It names the machine {name}.")),
    }
    for account in &model.account {
        let groups = if account.groups.is_empty() {
            String::new()
        } else {
            format!(" in {}", account.groups.join(", "))
        };
        let password = if account.password.is_some() { "with a password" } else { "without a password" };
        let times = match account.automatic_sign_ins {
            0 => String::new(),
            1 => ", signed in automatically once".into(),
            count => format!(", signed in automatically {count} times"),
        };
        lines.push(format!("It makes the account {}{groups}, {password}{times}.", account.name));
    }
    if model.administrator.password.is_some() {
        lines.push("It sets the administrator's password.".into());
    }
    if !model.waive.is_empty() {
        let waived: Vec<String> =
            model.waive.iter().map(|own| format!("{own:?}")).map(|own| spaced(&own)).collect();
        lines.push(format!("It leaves out checks of the hardware: {}.", waived.join(", ")));
    }
    if model.prevent_encryption {
        lines.push("It keeps the system from encrypting its disk by itself.".into());
    }
    if let (Some(width), Some(height)) = (model.display.width, model.display.height) {
        lines.push(format!("It switches the screen to {width} by {height}."));
    }
    if model.remote.allow {
        lines.push("It lets people work on the machine from afar.".into());
    }
    for stage in Stage::ALL {
        let commands =
            model.commands(stage).count() + model.script.iter().filter(|own| own.stage == stage).count();
        if commands > 0 {
            let what = if commands == 1 {
                "a command or script".to_owned()
            } else {
                format!("{commands} commands and scripts")
            };
            lines.push(format!("It runs {what} at {}.", stage.name()));
        }
    }
    lines
}

/// `SecurityChip` as `security chip`.
fn spaced(name: &str) -> String {
    let mut out = String::new();
    for c in name.chars() {
        if c.is_uppercase() && !out.is_empty() {
            out.push(' ');
        }
        out.extend(c.to_lowercase());
    }
    out
}

fn disk_line(disk: &Disk) -> String {
    let mut parts: Vec<String> = Vec::new();
    for partition in &disk.partition {
        let kind = match partition.kind {
            PartitionKind::Efi => "EFI",
            PartitionKind::Reserved => "reserved",
            PartitionKind::Boot => "boot",
            PartitionKind::System => "system",
            PartitionKind::Recovery => "recovery",
            PartitionKind::Swap => "swap",
            PartitionKind::Data => "data",
        };
        let size = partition.size.mib().map_or_else(|| "the rest".to_owned(), |_| partition.size.to_string());
        parts.push(format!("{kind} {size}"));
    }
    let layout = if parts.is_empty() { "as the installer sees fit".to_owned() } else { parts.join(", ") };
    let mut only: Vec<String> = Vec::new();
    if disk.only_disk {
        only.push("it is the only disk".into());
    }
    if let Some(least) = disk.at_least {
        only.push(format!("it has at least {least}"));
    }
    if let Some(most) = disk.at_most {
        only.push(format!("it has at most {most}"));
    }
    let only = if only.is_empty() { String::new() } else { format!(", but only if {}", only.join(" and ")) };
    format!("It lays out {}: {layout}{only}.", disk.name())
}

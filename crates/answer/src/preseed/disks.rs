//! Disks: the installer's own recipes.

use super::{Document, is_guided};
use crate::{
    Finding, Topic,
    disks::{kind_of_mount, mount_point, usual},
    model::{Disk, FileSystem, Model, Partition, PartitionKind, Scheme, Size},
};

/// Questions about disks that this module reads.
pub(super) const QUESTIONS: [&str; 14] = [
    "partman-auto/disk",
    "partman-auto/method",
    "partman-auto/choose_recipe",
    "partman-auto/expert_recipe",
    "partman-partitioning/choose_label",
    "partman-partitioning/default_label",
    "partman/confirm",
    "partman/confirm_nooverwrite",
    "partman-partitioning/confirm_write_new_label",
    "partman/choose_partition",
    "partman-lvm/device_remove_lvm",
    "partman-md/device_remove_md",
    "grub-installer/bootdev",
    "grub-installer/only_debian",
];

/// Largest size that a recipe is given, in MB; it stands for the rest.
const REST: &str = "-1";

pub(super) fn say(disk: &Disk, say: &mut dyn FnMut(&str, &str, &str)) {
    if !disk.device.is_empty() {
        say("partman-auto/disk", "string", &format!("/dev/{}", disk.device));
    }
    say("partman-auto/method", "string", "regular");
    match disk.scheme {
        Some(Scheme::Gpt) => {
            say("partman-partitioning/choose_label", "select", "gpt");
            say("partman-partitioning/default_label", "string", "gpt");
        }
        Some(Scheme::Mbr) => {
            say("partman-partitioning/choose_label", "select", "msdos");
            say("partman-partitioning/default_label", "string", "msdos");
        }
        None => {}
    }
    if is_guided(disk) {
        say("partman-auto/choose_recipe", "select", "atomic");
    } else {
        let parts: Vec<String> = disk.partition.iter().map(recipe).collect();
        say("partman-auto/expert_recipe", "string", &format!("neatstack :: {}", parts.join(" ")));
        say("partman-auto/choose_recipe", "select", "neatstack");
    }
    if disk.wipe {
        say("partman-lvm/device_remove_lvm", "boolean", "true");
        say("partman-md/device_remove_md", "boolean", "true");
        say("partman-partitioning/confirm_write_new_label", "boolean", "true");
        say("partman/choose_partition", "select", "finish");
        say("partman/confirm", "boolean", "true");
        say("partman/confirm_nooverwrite", "boolean", "true");
    }
    if !disk.device.is_empty() {
        say("grub-installer/only_debian", "boolean", "true");
        say("grub-installer/bootdev", "string", &format!("/dev/{}", disk.device));
    }
}

/// A partition: least size, priority, greatest size, file system, and what it is for.
fn recipe(partition: &Partition) -> String {
    // The recipe counts in MB.
    let mb = |mib: u64| (mib * 1_048_576).div_ceil(1_000_000);
    let (least, most) = match partition.size {
        Size::Mib(mib) => (mb(mib).to_string(), mb(mib).to_string()),
        Size::Rest => ("1000".into(), REST.into()),
    };
    let file_system = partition.file_system.unwrap_or(usual(partition.kind)).linux_name();
    let (name, use_as) = match partition.kind {
        PartitionKind::Efi => ("fat32", "$iflabel{ gpt } method{ efi } format{ }".to_owned()),
        PartitionKind::Swap => ("linux-swap", "method{ swap } format{ }".to_owned()),
        _ => (
            file_system,
            format!("method{{ format }} format{{ }} use_filesystem{{ }} filesystem{{ {file_system} }}"),
        ),
    };
    let mount = mount_point(partition);
    let mount = if mount.is_empty() || matches!(partition.kind, PartitionKind::Efi | PartitionKind::Swap) {
        String::new()
    } else {
        format!(" mountpoint{{ {mount} }}")
    };
    let label =
        if partition.label.is_empty() { String::new() } else { format!(" label{{ {} }}", partition.label) };
    let boot = if partition.kind == PartitionKind::Boot { " $primary{ } $bootable{ }" } else { "" };
    format!("{least} 100 {most} {name}{boot} {use_as}{mount}{label} .")
}

pub(super) fn read(document: &Document<'_>, model: &mut Model, findings: &mut Vec<Finding>) {
    let value = |question: &str| document.value(question).filter(|value| !value.is_empty());
    let device = value("partman-auto/disk");
    if device.is_none() && value("partman-auto/method").is_none() {
        return;
    }
    let mut disk = Disk {
        device: device.unwrap_or_default().trim_start_matches("/dev/").to_owned(),
        wipe: document.is_true("partman/confirm") && document.is_true("partman/confirm_nooverwrite"),
        scheme: match value("partman-partitioning/default_label")
            .or(value("partman-partitioning/choose_label"))
        {
            Some("gpt") => Some(Scheme::Gpt),
            Some("msdos") => Some(Scheme::Mbr),
            _ => None,
        },
        ..Disk::default()
    };
    if let Some(text) = value("partman-auto/expert_recipe") {
        match partitions(text) {
            Some(partitions) => disk.partition = partitions,
            None => findings.push(Finding::told(
                Topic::Kept,
                "partman-auto/expert_recipe",
                "is not in the neutral form, and is kept as it is",
            )),
        }
    }
    if value("partman-auto/method").is_some_and(|method| method != "regular") {
        findings.push(Finding::told(
            Topic::Kept,
            "partman-auto/method",
            "is not in the neutral form, and is kept as it is",
        ));
    }
    model.disk.push(disk);
}

fn partitions(recipe: &str) -> Option<Vec<Partition>> {
    let body = recipe.split_once("::")?.1;
    let mut all = Vec::new();
    for part in
        body.split(" . ").flat_map(|part| part.split(" .")).map(str::trim).filter(|part| !part.is_empty())
    {
        let mut words = part.split_whitespace();
        let _least = words.next()?;
        let _priority = words.next()?;
        let most: i64 = words.next()?.parse().ok()?;
        let name = words.next()?;
        let inside = |key: &str| {
            let rest = part.split_once(&format!(" {key}{{ "))?.1;
            Some(rest.split_once(" }")?.0.trim().to_owned())
        };
        let size = if most < 0 { Size::Rest } else { Size::Mib(most as u64 * 1_000_000 / 1_048_576) };
        let method = inside("method").unwrap_or_default();
        let mount = inside("mountpoint").unwrap_or_default();
        let kind = match method.as_str() {
            "efi" => PartitionKind::Efi,
            "swap" => PartitionKind::Swap,
            _ => kind_of_mount(&mount),
        };
        let mut partition = Partition::new(kind, size);
        let file_system = inside("filesystem").as_deref().or(Some(name)).and_then(FileSystem::of_name);
        partition.file_system = file_system.filter(|own| *own != usual(kind));
        partition.label = inside("label").unwrap_or_default();
        if mount != mount_point(&partition) && !matches!(kind, PartitionKind::Efi | PartitionKind::Swap) {
            partition.mount = mount;
        }
        all.push(partition);
    }
    Some(all)
}

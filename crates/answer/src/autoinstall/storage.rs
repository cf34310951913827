//! Disks: the guided layout, or a list of actions.

use crate::{
    disks::{kind_of_mount, mount_point, usual},
    model::{Disk, FileSystem, Model, Partition, PartitionKind, Scheme, Size},
};
use serde_json::{Value, json};

/// `storage` of a model; none when setup asks.
pub(super) fn say(model: &Model) -> Option<Value> {
    let first = model.disk.first()?;
    if model.disk.len() == 1 && first.partition.is_empty() && first.wipe {
        let mut layout = json!({ "name": "direct" });
        if !first.device.is_empty() {
            layout["match"] = json!({ "path": format!("/dev/{}", first.device) });
        }
        return Some(json!({ "layout": layout }));
    }
    let mut config = Vec::new();
    for (number, disk) in model.disk.iter().enumerate() {
        let id = format!("disk{number}");
        let has_efi = disk.partition.iter().any(|own| own.kind == PartitionKind::Efi);
        let mut own = json!({ "type": "disk", "id": id, "path": format!("/dev/{}", disk.device) });
        if let Some(scheme) = disk.scheme {
            own["ptable"] = json!(if scheme == Scheme::Gpt { "gpt" } else { "msdos" });
        }
        if disk.wipe {
            own["wipe"] = json!("superblock-recursive");
        } else {
            own["preserve"] = json!(true);
        }
        if number == 0 && !has_efi {
            own["grub_device"] = json!(true);
        }
        config.push(own);
        for (index, partition) in disk.partition.iter().enumerate() {
            partition_actions(&id, index, partition, &mut config);
        }
    }
    Some(json!({ "config": config }))
}

fn partition_actions(disk: &str, index: usize, partition: &Partition, config: &mut Vec<Value>) {
    let part = format!("{disk}-part{}", index + 1);
    let size = match partition.size {
        Size::Rest => json!(-1),
        Size::Mib(mib) => json!(format!("{mib}M")),
    };
    let mut own = json!({ "type": "partition", "id": part, "device": disk, "size": size });
    match partition.kind {
        PartitionKind::Efi => {
            own["flag"] = json!("boot");
            own["grub_device"] = json!(true);
        }
        PartitionKind::Swap => own["flag"] = json!("swap"),
        _ => {}
    }
    config.push(own);
    let file_system = partition.file_system.unwrap_or(usual(partition.kind));
    let format = format!("{part}-fs");
    let mut own =
        json!({ "type": "format", "id": format, "volume": part, "fstype": file_system.linux_name() });
    if !partition.label.is_empty() {
        own["label"] = json!(partition.label);
    }
    config.push(own);
    let mount = mount_point(partition);
    if partition.kind == PartitionKind::Swap {
        config.push(json!({ "type": "mount", "id": format!("{part}-mount"), "device": format, "path": "" }));
    } else if !mount.is_empty() {
        config
            .push(json!({ "type": "mount", "id": format!("{part}-mount"), "device": format, "path": mount }));
    }
}

/// Takes `storage` into a model; whether all of it was understood.
pub(super) fn read(storage: &Value, model: &mut Model) -> bool {
    if let Some(layout) = storage.get("layout") {
        let path = layout.pointer("/match/path").and_then(Value::as_str).unwrap_or_default();
        let device = path.trim_start_matches("/dev/").to_owned();
        model.disk.push(Disk { device, wipe: true, ..Disk::default() });
        let is_direct = layout.get("name").and_then(Value::as_str) == Some("direct");
        let by_path = layout.get("match").is_none_or(|own| own.get("path").is_some());
        return is_direct && by_path;
    }
    let Some(config) = storage.get("config").and_then(Value::as_array) else { return false };
    let text = |own: &Value, key: &str| own.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
    let is = |own: &&Value, kind: &str| text(own, "type") == kind;
    let known = ["disk", "partition", "format", "mount"];
    let mut all_known = config.iter().all(|own| known.contains(&text(own, "type").as_str()));
    for disk in config.iter().filter(|own| is(own, "disk")) {
        let mut found = Disk {
            device: text(disk, "path").trim_start_matches("/dev/").to_owned(),
            wipe: disk.get("wipe").is_some(),
            scheme: match text(disk, "ptable").as_str() {
                "gpt" => Some(Scheme::Gpt),
                "msdos" => Some(Scheme::Mbr),
                _ => None,
            },
            ..Disk::default()
        };
        all_known &= disk.get("path").is_some();
        let own = config.iter().filter(|own| is(own, "partition") && text(own, "device") == text(disk, "id"));
        for partition in own {
            let size = match partition.get("size") {
                Some(Value::Number(number)) if number.as_i64() == Some(-1) => Size::Rest,
                Some(Value::Number(number)) => Size::Mib(number.as_u64().unwrap_or(0) >> 20),
                Some(Value::String(text)) => match mib(text) {
                    Some(mib) => Size::Mib(mib),
                    None => return false,
                },
                _ => return false,
            };
            let format =
                config.iter().find(|own| is(own, "format") && text(own, "volume") == text(partition, "id"));
            let mount = format.and_then(|format| {
                config.iter().find(|own| is(own, "mount") && text(own, "device") == text(format, "id"))
            });
            let path = mount.map(|own| text(own, "path")).unwrap_or_default();
            let kind = match (text(partition, "flag").as_str(), path.as_str()) {
                ("swap", _) => PartitionKind::Swap,
                (_, mount) => kind_of_mount(mount),
            };
            let mut one = Partition::new(kind, size);
            if let Some(format) = format {
                let file_system = FileSystem::of_name(&text(format, "fstype"));
                one.file_system = file_system.filter(|own| *own != usual(kind));
                one.label = text(format, "label");
            }
            if kind == PartitionKind::Data {
                one.mount = path;
            }
            found.partition.push(one);
        }
        model.disk.push(found);
    }
    all_known
}

/// MiB of a size such as `512M` or `1G`.
fn mib(text: &str) -> Option<u64> {
    let text = text.trim().trim_end_matches(['B', 'b']).trim_end_matches('i');
    let (number, factor) = match text.chars().last()? {
        'K' | 'k' => (&text[..text.len() - 1], 1 << 10),
        'M' | 'm' => (&text[..text.len() - 1], 1 << 20),
        'G' | 'g' => (&text[..text.len() - 1], 1 << 30),
        'T' | 't' => (&text[..text.len() - 1], 1_u64 << 40),
        _ => (text, 1),
    };
    Some(number.parse::<u64>().ok()?.checked_mul(factor)? >> 20)
}

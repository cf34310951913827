//! The way of BIOS: boot catalogue and image, or first block, partition and boot record.

use super::{Attachment, Firmware, Walk, entries};
use crate::{BootEntry, BootImage, Emulation, Media, MediaForm, Platform, disk, eltorito::patch, stick};
use neat_content::{Content, ReadAt, Source, read_vec};
use std::sync::Arc;

pub(super) fn disc(media: &Media) -> Walk {
    let mut walk = Walk::new(Firmware::Bios, Attachment::Disc);
    let Some(catalog) = &media.boot else {
        walk.bad("there is no boot catalogue");
        return walk;
    };
    let Some(entry) = entries(media, Platform::BIOS).find(|entry| entry.bootable) else {
        let all = catalog.entries.len();
        walk.bad(format!("none of the {all} entries in the boot catalogue is for BIOS"));
        return walk;
    };
    walk.claimed = true;
    let (name, content) = match &entry.image {
        BootImage::File(path) => (path.clone(), media.tree.file(path).cloned().unwrap_or_default()),
        BootImage::Hidden(content) => ("a hidden image".into(), content.clone()),
    };
    walk.good(format!("the boot catalogue has an entry for BIOS: {name}, {} bytes", content.len()));
    image(&mut walk, entry, &name, &content);
    loader_files(&mut walk, media, entry, &name);
    walk
}

fn image(walk: &mut Walk, entry: &BootEntry, name: &str, content: &Content) {
    let loaded = u64::from(entry.load_sectors) * 512;
    match entry.emulation.floppy_len() {
        Some(len) => walk.step(
            content.len() >= len,
            format!("it is started as a diskette of {len} bytes"),
            format!("it is started as a diskette of {len} bytes and has only {}", content.len()),
        ),
        None if entry.emulation == Emulation::HardDisk => walk.good("it is started as a hard disk"),
        None => walk.step(
            loaded > 0,
            format!("{loaded} bytes of it are loaded at first"),
            "none of it is loaded: the load size is 0",
        ),
    }
    let first = read_vec(content, 0, content.len().min(512), 512, "boot image").unwrap_or_default();
    walk.step(
        first.iter().any(|byte| *byte != 0),
        "it begins with code",
        format!("{name} begins with nothing but zeros"),
    );
    if entry.emulation == Emulation::None && !entry.patch.boot_info_table && entry.load_sectors == 4 {
        let rest = content.len().saturating_sub(2048);
        if rest > 0 {
            walk.unknown(format!("whether its first 2,048 bytes fetch the other {rest} themselves"));
        }
    }
    if entry.patch.boot_info_table {
        match patch::is_table_right(content, entry.location) {
            Some(true) => walk.good("its boot-info table is right"),
            Some(false) => walk.bad("its boot-info table names another place or length"),
            None => {}
        }
    }
}

/// What known loaders look for beside themselves.
fn loader_files(walk: &mut Walk, media: &Media, entry: &BootEntry, name: &str) {
    let lower = name.to_ascii_lowercase();
    let folder = lower.rsplit_once('/').map_or("", |(folder, _)| folder);
    let has = |path: &str| media.tree.find_ignoring_case(path).is_some();
    if lower.ends_with("isolinux.bin") {
        if !entry.patch.boot_info_table {
            walk.bad("the loader needs a boot-info table, and there is none");
        }
        let beside = |file: &str| if folder.is_empty() { file.into() } else { format!("{folder}/{file}") };
        let places = ["isolinux.cfg", "syslinux.cfg"];
        let folders = [folder, "boot/isolinux", "isolinux", "boot/syslinux", "syslinux", ""];
        let configured = folders.iter().find_map(|folder| {
            let join =
                |file: &&str| if folder.is_empty() { (*file).into() } else { format!("{folder}/{file}") };
            places.iter().map(join).find(|path: &String| has(path))
        });
        match configured {
            Some(path) => walk.good(format!("the loader's own file {path} is there")),
            None => walk.bad("the loader has no isolinux.cfg"),
        }
        let module: String = beside("ldlinux.c32");
        if has(&module) {
            walk.good(format!("the loader's own file {module} is there"));
        } else {
            walk.unknown("whether this version of the loader needs an ldlinux.c32 beside it");
        }
    } else if lower.ends_with("eltorito.img") || lower.contains("grub") {
        match ["boot/grub/grub.cfg", "boot/grub/i386-pc/normal.mod"].iter().find(|path| has(path)) {
            Some(path) => walk.good(format!("the loader's own file {path} is there")),
            None => walk.unknown(
                "the loader is GRUB, and neither its grub.cfg nor its modules are where they usually are",
            ),
        }
    } else if lower.ends_with("etfsboot.com") {
        walk.step(
            has("bootmgr"),
            "the loader's own file bootmgr is there",
            "the loader looks for bootmgr in the root",
        );
    }
    if entry.emulation == Emulation::None {
        walk.unknown("what the boot image does when it runs");
    }
}

pub(super) fn disk(media: &Media, source: &Arc<Source>) -> Walk {
    let mut walk = Walk::new(Firmware::Bios, Attachment::Disk);
    let block = |at: u64| read_vec(&**source, at, 512, 512, "block").unwrap_or_default();
    let first = block(0);
    if first.len() < 512 || first[510..] != [0x55, 0xAA] {
        walk.bad("the first block does not end with 55 AA");
        return walk;
    }
    let has_code = first[..440].iter().any(|byte| *byte != 0);
    if !has_code {
        walk.bad("the first block has no boot code");
        return walk;
    }
    walk.claimed = true;
    let is_own = first[..stick::DISK_CODE.len()] == *stick::DISK_CODE;
    if !is_own {
        walk.good("the first block has boot code");
        walk.unknown("what this boot code looks for");
        return walk;
    }
    walk.good("the first block has Neat Stack's boot code");
    let partitions = disk::read(source, None).ok().flatten().map(|table| table.partitions);
    let active = partitions.iter().flatten().find(|partition| partition.active);
    let Some(start) = active.map(|partition| partition.start) else {
        walk.bad("no partition is marked for BIOS");
        return walk;
    };
    let record = block(start);
    walk.step(
        record.len() == 512 && record[510..] == [0x55, 0xAA],
        format!("the partition at byte {start} is marked for BIOS and has a boot record"),
        format!("the partition at byte {start} has no boot record"),
    );
    if record.get(90..510) != stick::BOOT_RECORD.get(90..510) || media.form != MediaForm::Stick {
        walk.claimed = record.get(90..94) != Some(&[0xCD, 0x18, 0xEB, 0xFE]);
        walk.step(walk.claimed, "the boot record is another program's", "the boot record starts nothing");
        return walk;
    }
    let second = read_vec(&**source, start + 12 * 512, 33, 64, "boot record").unwrap_or_default();
    let name: String = second
        .get(17..33)
        .unwrap_or_default()
        .iter()
        .take_while(|byte| **byte != 0)
        .map(|byte| char::from(*byte))
        .collect();
    walk.step(
        second.get(..4) == Some(b"NSTK"),
        format!("the boot record looks for {name} in the root"),
        "the second part of the boot record is missing",
    );
    let manager = media.tree.find_ignoring_case(&name).and_then(|id| media.tree.node(id).content());
    match manager {
        Some(content) if ReadAt::len(content) > 0 => {
            walk.good(format!("{name} is there, {} bytes", content.len()));
        }
        _ => walk.bad(format!("{name} is not in the root")),
    }
    walk.unknown(format!("what {name} does when it runs"));
    walk
}

//! The way of UEFI: boot catalogue or partitions, FAT, `EFI/BOOT/BOOT*.EFI`.

use super::{Attachment, Firmware, Walk, entries, pe::loader_machine};
use crate::{BootImage, Media, MediaForm, Platform, fat, stick};
use neat_content::{Content, Source, Tree, counted, fold_case};
use std::sync::Arc;

/// Largest FAT image whose files are looked at.
const LARGEST_IMAGE: u64 = 1 << 30;

pub(super) fn disc(media: &Media) -> Walk {
    let mut walk = Walk::new(Firmware::Uefi, Attachment::Disc);
    let Some(catalog) = &media.boot else {
        walk.bad("there is no boot catalogue");
        return walk;
    };
    let Some(entry) = entries(media, Platform::UEFI).find(|entry| entry.bootable) else {
        let all = catalog.entries.len();
        walk.bad(format!("none of the {all} entries in the boot catalogue is for UEFI"));
        return walk;
    };
    walk.claimed = true;
    let (name, content) = match &entry.image {
        BootImage::File(path) => (path.clone(), media.tree.file(path).cloned().unwrap_or_default()),
        BootImage::Hidden(content) => ("a hidden image".into(), content.clone()),
    };
    walk.good(format!("the boot catalogue has an entry for UEFI: {name}, {} bytes", content.len()));
    image(&mut walk, &content, &name, &media.tree);
    walk
}

/// The FAT file system in a boot image or partition.
fn image(walk: &mut Walk, content: &Content, what: &str, disc: &Tree) {
    if content.len() > LARGEST_IMAGE {
        walk.unknown(format!("{what} is too large to be looked into"));
        return;
    }
    match fat::read::read(content) {
        Ok(tree) => {
            walk.good(format!(
                "{what} is a FAT file system with {}",
                counted(tree.counts().files, "file", "files")
            ));
            loaders(walk, &tree);
            configuration(walk, &tree, disc);
        }
        Err(error) => walk.bad(format!("{what} is not a FAT file system that can be read: {error}")),
    }
}

fn loaders(walk: &mut Walk, tree: &Tree) {
    let found = stick::uefi_loaders(tree);
    if found.is_empty() {
        walk.bad("there is no EFI/BOOT/BOOT*.EFI");
        return;
    }
    for path in found {
        let Some(content) = tree.file(&path) else { continue };
        match loader_machine(content) {
            Ok(Ok(machine)) => {
                let own = fold_case(path.rsplit('/').next().unwrap_or_default());
                let expected = machine.loader_name();
                walk.step(
                    expected.is_none_or(|name| name == own),
                    format!("{path} is a UEFI application for {}", machine.name()),
                    format!(
                        "{path} is for {}, whose firmware looks for {}",
                        machine.name(),
                        expected.unwrap_or_default()
                    ),
                );
            }
            Ok(Err(reason)) => walk.bad(format!("{path} is not a UEFI application: {reason}")),
            Err(error) => walk.bad(format!("{path} cannot be read: {error}")),
        }
    }
    walk.unknown("what the loaders do when they run");
}

/// What a loader looks for beside itself, where that is known.
fn configuration(walk: &mut Walk, tree: &Tree, disc: &Tree) {
    let is_grub = stick::uefi_loaders(tree).iter().filter_map(|path| tree.file(path)).any(|loader| {
        let len = loader.len().min(8 << 20);
        let bytes = loader.part(0, len).and_then(|part| part.to_vec(8 << 20, "loader")).unwrap_or_default();
        bytes.windows(10).any(|window| window == b"grub_main\0" || window == b"/boot/grub")
    });
    if is_grub {
        let places = ["boot/grub/grub.cfg", "EFI/BOOT/grub.cfg", "EFI/debian/grub.cfg"];
        let found = places
            .iter()
            .find(|path| disc.find_ignoring_case(path).is_some() || tree.find_ignoring_case(path).is_some());
        match found {
            Some(path) => walk.good(format!("the loader's own file {path} is there")),
            None => walk.unknown("the loader is GRUB, and its grub.cfg is not where it usually is"),
        }
    }
}

/// The loaders that firmware finds, each with its path, in whatever way it gets there.
pub(super) fn loader_files(media: &Media, source: &Arc<Source>) -> Vec<(String, Content)> {
    let mut found: Vec<(String, Content)> = Vec::new();
    let mut add = |tree: &Tree| {
        for path in stick::uefi_loaders(tree) {
            let Some(content) = tree.file(&path) else { continue };
            if !found.iter().any(|(own, other)| *own == path && content.is_same(other)) {
                found.push((path, content.clone()));
            }
        }
    };
    if media.form == MediaForm::Stick {
        add(&media.tree);
        return found;
    }
    let whole = Content::from_source(Arc::clone(source));
    let images = entries(media, Platform::UEFI).map(|entry| match &entry.image {
        BootImage::File(path) => media.tree.file(path).cloned().unwrap_or_default(),
        BootImage::Hidden(content) => content.clone(),
    });
    let table = media.partitions.iter().flat_map(|table| &table.partitions);
    let partitions = table.filter_map(|own| whole.part(own.start, own.len).ok());
    for content in images.chain(partitions).filter(|content| content.len() <= LARGEST_IMAGE) {
        // What is not a FAT file system is said on the way.
        if let Ok(tree) = fat::read::read(&content) {
            add(&tree);
        }
    }
    found
}

pub(super) fn disk(media: &Media, source: &Arc<Source>) -> Walk {
    let mut walk = Walk::new(Firmware::Uefi, Attachment::Disk);
    if media.form == MediaForm::Stick {
        let what = media.partitions.as_ref().map_or("the disk", |_| "a partition");
        walk.good(format!(
            "{what} is a FAT file system with {}",
            counted(media.tree.counts().files, "file", "files")
        ));
        walk.claimed = !stick::uefi_loaders(&media.tree).is_empty();
        loaders(&mut walk, &media.tree);
        configuration(&mut walk, &media.tree, &Tree::default());
        return walk;
    }
    let Some(table) = &media.partitions else {
        walk.bad("there is no partition table");
        return walk;
    };
    let whole = Content::from_source(Arc::clone(source));
    for partition in &table.partitions {
        let Ok(content) = whole.part(partition.start, partition.len) else { continue };
        if fat::read::volume_len(&content).ok().flatten().is_some() {
            walk.claimed = true;
            let what = format!("the partition at byte {}", partition.start);
            walk.good(format!("{what} is of the kind {}", partition.kind));
            image(&mut walk, &content, &what, &media.tree);
            return walk;
        }
    }
    walk.bad("no partition has a FAT file system");
    walk
}

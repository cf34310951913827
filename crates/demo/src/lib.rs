//! The demo data: Quay OS 7, the made-up system of the made-up company Brackwater Ferries.
//!
//! Everything here is generated, the same on every machine: a media that boots on BIOS and UEFI, an answer file, a
//! few site files and a stack file that puts them together.

#![forbid(unsafe_code)]

mod components;
mod hives;
mod older;
mod packs;
mod site;
mod system;
mod updates;
mod vendor;
mod words;

pub use older::program_of_version;
pub use system::Size;

use neat_content::{Content, IfThere, Job, Meta, NodeKind, PendingFile, Result, Timestamp, Tree};
use neat_media::{BootEntry, BootImage, Platform, VolumeIdentity, eltorito::find, master};
use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

/// Boot image for BIOS: 4 KiB, El Torito without emulation. Source: `boot/bios.asm`.
pub const BIOS_IMAGE: &[u8] = include_bytes!("../boot/bios.bin");
/// Boot code for the first block of a disk. Source: `boot/mbr.asm`.
pub const DISK_BOOT_CODE: &[u8] = include_bytes!("../boot/mbr.bin");
/// Boot image of Quay OS 2 for BIOS: 2 KiB, El Torito without emulation. Source: `boot/older.asm`.
pub const BIOS_OLDER: &[u8] = include_bytes!("../boot/older.bin");
/// Application for UEFI on x64. Source: `boot/uefi.asm`.
pub const UEFI_APPLICATION: &[u8] = include_bytes!("../boot/uefi.bin");

/// The disk of the company's reference machine, with the system installed and used. How it was made: `disk/make`.
pub const REFERENCE_DISK: &[u8] = include_bytes!("../disk/reference.vmdk");
/// Name of that disk in the demo folder.
pub const REFERENCE_NAME: &str = "reference.vmdk";

/// Boot manager for sticks, as assembled. Source: `boot/quayboot.asm`.
const BOOT_MANAGER: &[u8] = include_bytes!("../boot/quayboot.bin");

/// Name of the media in the demo folder.
pub const MEDIA_NAME: &str = "quay-os-7.iso";
/// Name of the media of the older generation in the demo folder.
pub const OLDER_MEDIA_NAME: &str = "quay-os-2.iso";
/// Name of the stack file in the demo folder.
pub const STACK_NAME: &str = "bridge.stack.toml";
/// 2 March 2026, 08:00 UTC: the day Quay OS 7 was pressed.
pub const RELEASED: Timestamp = Timestamp::from_seconds(1_772_438_400);
/// Build number of Quay OS 7.
const BUILD: u64 = 7042;

/// The boot manager in the root of the media, made `len` bytes long (at least as long as its code): what it is started
/// with on BIOS from a stick. It checks by a sum that all of it was loaded.
pub fn boot_manager(len: usize) -> Vec<u8> {
    // See `boot/quayboot.asm`: length at byte 4, sum at byte 8 of all that follows.
    let mut bytes = BOOT_MANAGER.to_vec();
    let code_len = bytes.len();
    bytes.extend((code_len..len).map(|at| (at % 251) as u8));
    let sum: u32 = bytes[12..].iter().map(|byte| u32::from(*byte)).sum();
    let len = bytes.len() as u32;
    bytes[4..8].copy_from_slice(&len.to_le_bytes());
    bytes[8..12].copy_from_slice(&sum.to_le_bytes());
    bytes
}

/// What [`write()`] made.
#[derive(Clone, Debug)]
pub struct Demo {
    /// The media.
    pub media: PathBuf,
    /// The stack file.
    pub stack: PathBuf,
}

/// The files of the Quay OS 7 media.
pub fn media_tree(size: Size, job: &Job<'_>) -> Result<Tree> {
    let meta = Meta::at(RELEASED);
    let mut tree = Tree::new(meta);
    let mut put =
        |path: &str, bytes: Vec<u8>| tree.put_file(path, Content::from_bytes(bytes), meta).map(drop);
    put("boot/bios.img", BIOS_IMAGE.to_vec())?;
    put("boot/bcd", hives::boot_store()?)?;
    put("quayboot", boot_manager(0))?;
    put("EFI/BOOT/BOOTX64.EFI", UEFI_APPLICATION.to_vec())?;
    put("readme.txt", words::README.as_bytes().to_vec())?;
    for language in ["de-DE", "en-GB", "nb-NO"] {
        put(&format!("sources/{language}/licence.txt"), words::LICENCE.as_bytes().to_vec())?;
        put(&format!("sources/{language}/setup.lang"), words::prose(&format!("setup-{language}"), 24_000))?;
    }
    put("sources/products.toml", words::PRODUCTS.as_bytes().to_vec())?;
    put("sources/cversion.ini", b"[HostBuild]\r\nMinClient=6500.0\r\n".to_vec())?;
    put("support/charts/Hafenpläne.txt", words::prose("harbour", 9_000))?;
    put("support/charts/航路図.txt", words::prose("route", 7_000))?;
    put(
        "support/manual/A very long title that explains how the ticket kiosk is put into service.txt",
        words::prose("kiosk", 31_000),
    )?;
    put("support/manual/empty-page.txt", Vec::new())?;
    tree.put_file("sources/install.wim", system::install_image(size, job)?, meta)?;
    tree.put_file("sources/boot.wim", system::setup_image(job)?, meta)?;
    Ok(tree)
}

/// How the Quay OS 7 media is mastered.
pub fn media_options(tree: &Tree) -> Result<master::Options> {
    let found = find::find(tree, RELEASED)?;
    // The UEFI image is made here; BIOS loads its image whole.
    let bios =
        BootEntry { load_sectors: 8, ..find::plain(Platform::BIOS, BootImage::File("boot/bios.img".into())) };
    let boot = find::Found { bios: Some(bios), uefi: found.uefi }.into_catalog();
    let volume = VolumeIdentity {
        label: "QUAY_OS_7".into(),
        publisher: "BRACKWATER FERRIES".into(),
        application: "QUAY OS 7 INSTALLATION".into(),
        created: Some(RELEASED),
        modified: Some(RELEASED),
        ..VolumeIdentity::default()
    };
    Ok(master::Options { volume, time: RELEASED, boot, ..master::Options::default() })
}

/// Makes the demo data in `folder`, which is created where it is missing. Files of the demo that are there are
/// written anew.
pub fn write(folder: &Path, size: Size, job: &Job<'_>) -> Result<Demo> {
    let tree = media_tree(size, job)?;
    let media = folder.join(MEDIA_NAME);
    let mut files = site::tree()?;
    packs::put_all(&mut files)?;
    vendor::put_all(&mut files, job)?;
    older::put_packages(&mut files)?;
    updates::put_all(&mut files, folder, job)?;
    files.put_file(REFERENCE_NAME, Content::from_bytes(REFERENCE_DISK), Meta::at(RELEASED))?;
    for step in files.walk() {
        let path = folder.join(&step.path);
        match &files.node(step.id).kind {
            NodeKind::File(content) => write_file(&path, content, job)?,
            _ => std::fs::create_dir_all(&path).map_err(neat_content::Error::io("create", &path))?,
        }
    }
    let options = media_options(&tree)?;
    for (path, tree, options) in
        [(&media, tree, options), (&folder.join(OLDER_MEDIA_NAME), older::tree()?, older::options())]
    {
        let plan = master::Plan::new(&Arc::new(tree), options, job)?;
        let (pending, mut output) = PendingFile::create_output(path, IfThere::Replace, None)?;
        plan.write(&mut output, job)?;
        pending.commit(output.finish()?.0)?;
    }
    Ok(Demo { media, stack: folder.join(STACK_NAME) })
}

fn write_file(path: &Path, content: &Content, job: &Job<'_>) -> Result<()> {
    let (pending, mut output) = PendingFile::create_output(path, IfThere::Replace, None)?;
    output.write_content(content, job)?;
    let file = output.finish()?.0;
    if let Some(time) = RELEASED.to_system_time() {
        file.set_modified(time).map_err(neat_content::Error::io("set the time of", path))?;
    }
    pending.commit(file)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn assembled_bytes_match_their_sources() {
        let boot = Path::new(env!("CARGO_MANIFEST_DIR")).join("boot");
        let all: [(&str, &[u8]); 5] = [
            ("older", BIOS_OLDER),
            ("bios", BIOS_IMAGE),
            ("mbr", DISK_BOOT_CODE),
            ("uefi", UEFI_APPLICATION),
            ("quayboot", BOOT_MANAGER),
        ];
        neat_testing::assert_assembled(&boot, &all);
    }

    #[test]
    fn the_same_bytes_every_time() {
        let (a, b) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let first = write(a.path(), Size::Small, &Job::silent()).unwrap();
        let second = write(b.path(), Size::Small, &Job::silent()).unwrap();
        assert!(std::fs::read(first.media).unwrap() == std::fs::read(second.media).unwrap());
        assert_eq!(std::fs::read(first.stack).unwrap(), std::fs::read(second.stack).unwrap());
    }
}

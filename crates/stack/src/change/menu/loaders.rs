//! The boot loaders of such media, and their configuration.

use super::Menu;
use crate::{change::Editor, recipe::MenuSection, report::Weight};
use neat_content::{Content, Error, Meta, Result, Tree};
use neat_media::{BootEntry, BootImage, Platform, bootmenu::grub_config, eltorito::find::plain, fat};
use std::path::{Path, PathBuf};

/// Where Debian's packages put the BIOS loader and its modules.
const BIOS_LOADER: &str = "/usr/lib/ISOLINUX/isolinux.bin";
const BIOS_MODULES: &str = "/usr/lib/syslinux/modules/bios";
/// Where Debian's package grub-efi-amd64-bin puts a GRUB that is made for discs.
const UEFI_LOADER: &str = "/usr/lib/grub/x86_64-efi/monolithic/gcdx64.efi";
/// Modules beside the BIOS loader; without the first it does not start.
const MODULES: [&str; 4] = ["ldlinux.c32", "libcom32.c32", "libutil.c32", "menu.c32"];

/// The BIOS loader and its modules: names on the media and where they are here.
pub(super) fn bios_files(
    section: &MenuSection,
    editor: &mut Editor,
) -> Result<Option<Vec<(String, PathBuf)>>> {
    let (loader, modules) = match &section.bios_loader {
        Some(folder) => {
            let folder = editor.local(folder);
            (folder.join("isolinux.bin"), folder)
        }
        None => (PathBuf::from(BIOS_LOADER), PathBuf::from(BIOS_MODULES)),
    };
    if !loader.is_file() || !modules.join(MODULES[0]).is_file() {
        if section.bios_loader.is_some() {
            return Err(Error::request(
                format!(
                    "`menu.bios_loader`: {} does not hold isolinux.bin and {}",
                    loader.parent().unwrap_or(Path::new("")).display(),
                    MODULES[0]
                ),
                "name a folder with the loader and its modules",
            ));
        }
        editor.find(
            Weight::Note,
            "the BIOS loader is not installed here, so the media will not start on BIOS".into(),
            "install the packages isolinux and syslinux-common",
        );
        return Ok(None);
    }
    let mut files = vec![("isolinux.bin".to_owned(), loader)];
    let present = MODULES
        .iter()
        .map(|name| ((*name).to_owned(), modules.join(name)))
        .filter(|(_, path)| path.is_file());
    files.extend(present);
    // The menu module needs the two libraries before it in the list.
    if files.len() < MODULES.len() + 1 {
        files.retain(|(name, _)| name == "isolinux.bin" || name == MODULES[0]);
    }
    Ok(Some(files))
}

pub(super) fn uefi(section: &MenuSection, menu: &Menu, editor: &mut Editor) -> Result<Option<BootEntry>> {
    let loader =
        section.uefi_loader.as_ref().map_or_else(|| PathBuf::from(UEFI_LOADER), |path| editor.local(path));
    if !loader.is_file() {
        if section.uefi_loader.is_some() {
            return Err(Error::request(
                format!("`menu.uefi_loader`: there is no file {}", loader.display()),
                "name a .efi file",
            ));
        }
        editor.find(
            Weight::Note,
            "the UEFI loader is not installed here, so the media will not start on UEFI".into(),
            "install the package grub-efi-amd64-bin",
        );
        return Ok(None);
    }
    let content =
        editor.put_local("EFI/BOOT/BOOTX64.EFI", &loader, section.replace, "the boot loader for UEFI")?;
    // GRUB's image for discs finds its disc by this file.
    if editor.tree.find(".disk/info").is_none() {
        editor.put_made(
            ".disk/info",
            Content::from_bytes(format!("{}\n", menu.title).into_bytes()),
            section.replace,
            "by this file GRUB finds its disc",
        )?;
    }
    editor.put_made(
        "boot/grub/grub.cfg",
        Content::from_bytes(grub_config(menu).into_bytes()),
        section.replace,
        "the menu for UEFI",
    )?;
    let time = editor
        .tree
        .find("EFI/BOOT/BOOTX64.EFI")
        .map(|id| editor.tree.node(id).meta.modified)
        .unwrap_or_default();
    let mut tree = Tree::new(Meta::at(time));
    tree.put_file("EFI/BOOT/BOOTX64.EFI", content, Meta::at(time))?;
    let image = fat::write::image(
        &tree,
        &fat::write::Options { label: "UEFI BOOT".into(), time, ..fat::write::Options::default() },
    )?;
    let load_sectors = u16::try_from(image.len().div_ceil(512)).unwrap_or(0);
    Ok(Some(BootEntry { load_sectors, ..plain(Platform::UEFI, BootImage::Hidden(image)) }))
}

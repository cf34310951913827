//! `[menu]`: kernels, RAM disks, boot loaders and their configuration on a media.

use super::{
    Editor,
    answers::{self, Given},
};
use crate::{
    recipe::{AnswerPlace, EntryAnswer, EntrySection, MenuSection, OnTimeoutValue},
    report::Weight,
};
use neat_answer::{AnswersAt, Dialect, Site, WrittenFile, model::Ask};
use neat_content::{Content, Error, Meta, Result, Tree, nearest};
use neat_media::{
    BootCatalog, BootEntry, BootImage, ImagePatch, Platform,
    bootmenu::{Menu, MenuEntry, OnTimeout, cpio::Archive, grub_config, isolinux_config},
    eltorito::find::plain,
    fat,
};
use std::path::{Path, PathBuf};

/// Where Debian's packages put the BIOS loader and its modules.
const BIOS_LOADER: &str = "/usr/lib/ISOLINUX/isolinux.bin";
const BIOS_MODULES: &str = "/usr/lib/syslinux/modules/bios";
/// Where Debian's package grub-efi-amd64-bin puts a GRUB that is made for discs.
const UEFI_LOADER: &str = "/usr/lib/grub/x86_64-efi/monolithic/gcdx64.efi";
/// Modules beside the BIOS loader; without the first it does not start.
const MODULES: [&str; 4] = ["ldlinux.c32", "libcom32.c32", "libutil.c32", "menu.c32"];

/// For whom answers are written, and how a person is asked for passwords.
#[derive(Clone, Copy, Default)]
pub(crate) struct Machine<'a> {
    pub site: Option<&'a Site>,
    pub ask: Option<Ask<'a>>,
    /// Dialects whose answers `[answer]` puts into the media's root.
    pub root: &'a [Dialect],
}

/// Puts everything that `section` needs on the media and gives the boot entries.
pub(crate) fn apply(
    section: &MenuSection,
    stack_title: &str,
    label: &str,
    machine: Machine<'_>,
    editor: &mut Editor,
) -> Result<BootCatalog> {
    let bios = bios_files(section, editor)?;
    let mut menu = Menu {
        title: section.title.clone().unwrap_or_else(|| stack_title.to_owned()),
        timeout_seconds: section.timeout_seconds,
        on_timeout: match section.on_timeout {
            OnTimeoutValue::Disk => OnTimeout::Disk,
            OnTimeoutValue::Default => OnTimeout::Default,
            OnTimeoutValue::Wait => OnTimeout::Wait,
        },
        serial_speed: section.serial_speed,
        menu_module: bios.as_ref().is_some_and(|files| files.iter().any(|(name, _)| name == "menu.c32")),
        ..Menu::default()
    };
    for entry in &section.entry {
        let entry = add_entry(entry, label, section.replace, machine, editor)?;
        menu.entries.push(entry);
    }
    menu.check()?;
    if let Some(default) = &section.default {
        let ids: Vec<&str> = menu.entries.iter().map(|entry| entry.id.as_str()).collect();
        menu.default = ids.iter().position(|id| id == default).ok_or_else(|| {
            let near = nearest(default, ids.iter().copied()).unwrap_or(ids[0]);
            Error::request(
                format!("`menu.default`: there is no entry {default}"),
                format!("did you mean {near}?"),
            )
        })?;
    }
    let mut catalog = BootCatalog::default();
    if let Some(files) = bios {
        for (name, path) in files {
            editor.put_local(
                &format!("isolinux/{name}"),
                &path,
                section.replace,
                "the boot loader for BIOS",
            )?;
        }
        let config = isolinux_config(&menu);
        editor.put_made(
            "isolinux/isolinux.cfg",
            Content::from_bytes(config.into_bytes()),
            section.replace,
            "the menu for BIOS",
        )?;
        catalog.entries.push(BootEntry {
            patch: ImagePatch { boot_info_table: true, block_pointer: false },
            ..plain(Platform::BIOS, BootImage::File("isolinux/isolinux.bin".into()))
        });
    }
    if let Some(entry) = uefi(section, &menu, editor)? {
        catalog.entries.push(entry);
    }
    if catalog.entries.is_empty() {
        return Err(Error::request(
            "no boot loader was found for the [menu]",
            "install the packages isolinux, syslinux-common and grub-efi-amd64-bin, or name `menu.bios_loader` and `menu.uefi_loader`",
        ));
    }
    Ok(catalog)
}

/// The BIOS loader and its modules: names on the media and where they are here.
fn bios_files(section: &MenuSection, editor: &mut Editor) -> Result<Option<Vec<(String, PathBuf)>>> {
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

fn uefi(section: &MenuSection, menu: &Menu, editor: &mut Editor) -> Result<Option<BootEntry>> {
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

fn add_entry(
    section: &EntrySection,
    label: &str,
    replace: bool,
    machine: Machine<'_>,
    editor: &mut Editor,
) -> Result<MenuEntry> {
    let folder = format!("systems/{}", section.id);
    editor.folder(&folder)?;
    let kernel = format!("{folder}/linux");
    let from = editor.local(&section.kernel);
    editor.put_local(&kernel, &from, replace, &format!("the kernel of {}", section.title))?;
    let mut entry = MenuEntry {
        id: section.id.clone(),
        title: section.title.clone(),
        kernel,
        initrds: Vec::new(),
        options: section.options.trim().to_owned(),
    };
    for (number, path) in section.initrd.iter().enumerate() {
        let target = format!("{folder}/initrd{number}.img");
        let from = editor.local(path);
        editor.put_local(&target, &from, replace, &format!("a RAM disk of {}", section.title))?;
        entry.initrds.push(target);
    }
    if let Some(answer) = &section.answer {
        let place = EntryPlace {
            folder: &format!("{folder}/"),
            label,
            replace,
            machine,
            what: format!("the answer file of the entry {}", entry.id),
        };
        let options = add_answer(answer, &place, editor, &mut entry)?;
        entry.options = merge_options(&options, &entry.options);
    }
    Ok(entry)
}

/// Our options before the user's, because what stands after `---` is for the installed system.
fn merge_options(ours: &[String], users: &str) -> String {
    let given: Vec<&str> = users.split(' ').filter(|word| !word.is_empty()).collect();
    let name = |word: &str| word.split_once('=').map_or(word, |(name, _)| name).to_owned();
    let missing = ours.iter().filter(|option| !given.iter().any(|word| name(word) == name(option)));
    missing.map(String::as_str).chain(given.iter().copied()).collect::<Vec<_>>().join(" ")
}

/// What `answer` of a menu entry is put together with.
struct EntryPlace<'a> {
    /// Folder of the entry on the media.
    folder: &'a str,
    /// Label of the media.
    label: &'a str,
    /// Whether boot files that are there may be replaced.
    replace: bool,
    machine: Machine<'a>,
    /// The entry in words, for errors.
    what: String,
}

impl EntryPlace<'_> {
    fn unsupported(&self, dialect: Dialect, place: &str) -> Error {
        Error::request(
            format!("{}: {} files are not read {place}", self.what, dialect.name()),
            "choose another `at`, or put the file on the media's root with [answer]",
        )
    }
}

/// Puts the answers of an entry where its installer finds them; gives what the kernel is told.
fn add_answer(
    answer: &EntryAnswer,
    place: &EntryPlace<'_>,
    editor: &mut Editor,
    entry: &mut MenuEntry,
) -> Result<Vec<String>> {
    let what = &place.what;
    let written = match &answer.file {
        Some(file) => Some(write_answer(answer, file, place.machine, editor)?),
        None if answer.at == AnswerPlace::Address => None,
        None if answer.at == AnswerPlace::Root && of_root(answer, place.machine).is_some() => None,
        None => {
            return Err(Error::request(
                format!("{what} is not named"),
                "write answer = { file = \"…\" }, or at = \"root\" for those of [answer]",
            ));
        }
    };
    let at = match answer.at {
        AnswerPlace::Address => AnswersAt::Address(answer.address.as_deref().ok_or_else(|| {
            Error::request(
                format!("{what} has no address"),
                "write answer = { at = \"address\", address = \"http://…\" }",
            )
        })?),
        AnswerPlace::Initrd => AnswersAt::Initrd,
        AnswerPlace::Root => AnswersAt::Media { folder: "", label: place.label },
        AnswerPlace::Media => AnswersAt::Media { folder: place.folder, label: place.label },
    };
    let dialect = match (&written, at) {
        (Some(written), _) => written.dialect,
        // By address alone nothing shows the kind; the file's usual name does.
        (None, AnswersAt::Address(address)) => Dialect::of_address(address),
        (None, AnswersAt::Media { .. }) => of_root(answer, place.machine).unwrap_or(Dialect::OF_KERNELS),
        (None, _) => Dialect::OF_KERNELS,
    };
    let where_to = match at {
        AnswersAt::Initrd => "from an initial RAM disk",
        AnswersAt::Media { .. } => "beside a kernel",
        AnswersAt::Address(_) => "from an address",
    };
    let kernel = dialect.kernel().ok_or_else(|| place.unsupported(dialect, where_to))?;
    match (at, written) {
        (AnswersAt::Initrd, Some(written)) => {
            let name = kernel.initrd_name.ok_or_else(|| place.unsupported(dialect, where_to))?;
            let mut archive = Archive::default();
            archive.add_file(name, &written.bytes);
            let target = format!("{}answers.img", place.folder);
            let why = "an extra RAM disk with the answers";
            editor.put_made(&target, Content::from_bytes(archive.finish()), place.replace, why)?;
            entry.initrds.push(target);
        }
        (AnswersAt::Media { folder, .. }, Some(written)) => {
            let target = format!("{folder}{}", kernel.file);
            let content = Content::from_bytes(written.bytes);
            editor.put_made(&target, content, place.replace, "answers for the installer")?;
            answers::put_companions(dialect, folder, place.replace, editor)?;
        }
        (AnswersAt::Address(_), _) | (_, None) => {}
    }
    let mut options = kernel.options(&at);
    if let Some(own) = options.iter().find(|own| own.contains(char::is_whitespace)) {
        return Err(Error::request(
            format!("{what}: the kernel would be told {own:?}, and a blank ends an option"),
            "give the media a label without blanks, and the address none",
        ));
    }
    if let Some(source) = &answer.source {
        if source.contains(char::is_whitespace) || source.is_empty() {
            return Err(Error::request(
                format!("{what}: {source:?} is no address of an installation source"),
                "write it without blanks, such as http://…",
            ));
        }
        options.push(kernel.source(source).ok_or_else(|| {
            Error::request(
                format!("{what}: {} has no option for an installation source", dialect.name()),
                "say it in the answers, and take out `source`",
            )
        })?);
    }
    Ok(options)
}

/// The dialect of the answers in the media's root that an entry takes.
fn of_root(answer: &EntryAnswer, machine: Machine<'_>) -> Option<Dialect> {
    let fits = |own: &&Dialect| answer.dialect.is_none_or(|wanted| wanted == **own) && own.kernel().is_some();
    machine.root.iter().find(fits).copied()
}

/// The answers of an entry, checked; what lies beside them is put onto the media.
fn write_answer(
    answer: &EntryAnswer,
    file: &str,
    machine: Machine<'_>,
    editor: &mut Editor,
) -> Result<WrittenFile> {
    let given = answers::open(&editor.local(file), file, &answer.accept)?;
    let usual = match given {
        Given::Model { .. } => Dialect::OF_KERNELS,
        Given::File { .. } => given.usual_dialect(),
    };
    let written = given.speak(answer.dialect.unwrap_or(usual), machine.site, machine.ask)?;
    let mut findings = Vec::new();
    let report = answers::examine(&written, &given, file, None, &mut findings)?;
    if given.is_unmeant(&report) {
        findings.push(answers::unmeant(file, &report));
    }
    editor.findings.extend(findings);
    editor.note_secret(&written.bytes);
    answers::put_side_files(&written.files, editor)?;
    answers::put_notice(file, &[report], machine.site.map(|site| site.name.as_str()), editor)?;
    Ok(written)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn options_of_the_user_win_and_ours_come_first() {
        let ours = ["auto=true".to_owned(), "priority=critical".to_owned()];
        assert_eq!(merge_options(&ours, "priority=low  quiet --- x"), "auto=true priority=low quiet --- x");
        assert_eq!(merge_options(&ours, ""), "auto=true priority=critical");
    }
}

//! `[menu]`: kernels, RAM disks, boot loaders and their configuration on a media.

mod loaders;

use super::{
    Editor,
    answers::{self, Given},
    beside::{self, Beside},
};
use crate::recipe::{AnswerPlace, EntryAnswer, EntrySection, MenuSection, OnTimeoutValue};
use neat_answer::{AnswersAt, Dialect, Site, WrittenFile, model::Ask};
use neat_content::{Content, Error, Result, nearest};
use neat_media::{
    BootCatalog, BootEntry, BootImage, ImagePatch, Platform,
    bootmenu::{Menu, MenuEntry, OnTimeout, Starts, cpio::Archive, isolinux_config},
    eltorito::find::plain,
};

use loaders::{bios_files, uefi};

/// For whom answers are written, and how a person is asked for passwords.
#[derive(Clone, Copy, Default)]
pub(crate) struct Machine<'a> {
    pub site: Option<&'a Site>,
    pub ask: Option<Ask<'a>>,
    /// Dialects whose answers `[answer]` puts into the media's root.
    pub root: &'a [Dialect],
    /// Other setups on the media.
    pub besides: &'a [Beside<'a>],
    /// What the source starts from.
    pub source: &'a [BootEntry],
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
    // Boot images that entries start are in the catalog as well: so what is written into them is written.
    let mut images: Vec<BootEntry> = Vec::new();
    for entry in &section.entry {
        let entry = match (&entry.kernel, &entry.boot_of) {
            (Some(kernel), None) => add_entry(entry, kernel, label, section.replace, machine, editor)?,
            (None, Some(of)) => add_boot_image(entry, of, machine, &mut images, editor)?,
            _ => {
                return Err(Error::request(
                    format!("the menu entry {} starts neither a kernel nor a setup, or both", entry.id),
                    "write `kernel`, or `boot_of` with \"source\" or the folder of a [[beside]]",
                ));
            }
        };
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
    if menu.entries.iter().any(|entry| entry.starts == Starts::Kernel) {
        catalog.entries.extend(uefi(section, &menu, editor)?);
    } else {
        // Nothing of the menu is for UEFI, which starts what it started.
        let own = machine.source.iter().filter(|own| own.platform == Platform::UEFI);
        catalog.entries.extend(own.map(|own| BootEntry { location: None, ..own.clone() }));
    }
    if catalog.entries.is_empty() {
        return Err(Error::request(
            "no boot loader was found for the [menu]",
            "install the packages isolinux, syslinux-common and grub-efi-amd64-bin, or name `menu.bios_loader` and `menu.uefi_loader`",
        ));
    }
    catalog.entries.extend(images);
    Ok(catalog)
}

/// An entry that starts a setup by its own boot image, as BIOS does.
fn add_boot_image(
    section: &EntrySection,
    of: &str,
    machine: Machine<'_>,
    images: &mut Vec<BootEntry>,
    editor: &mut Editor,
) -> Result<MenuEntry> {
    if section.answer.is_some() || !section.initrd.is_empty() || !section.options.is_empty() {
        return Err(Error::request(
            format!(
                "the menu entry {} starts a setup, which takes no kernel's options, RAM disks and answers",
                section.id
            ),
            "take them out; its answers are in [answer], or in `answer` of the [[beside]]",
        ));
    }
    let named = |own: &&Beside<'_>| own.folder.eq_ignore_ascii_case(of);
    let found = match machine.besides.iter().find(named) {
        Some(own) => own.boot_entry(editor)?,
        None if of == "source" => beside::boot_entry(machine.source, "source", editor)?,
        None => {
            let folders: Vec<&str> = machine.besides.iter().map(|own| own.folder.as_str()).collect();
            return Err(Error::request(
                format!("the menu entry {}: there is no setup {of:?} on the media", section.id),
                format!("write one of source, {}", folders.join(", ")),
            ));
        }
    };
    let Some(entry) = found else {
        return Err(Error::request(
            format!("the menu entry {}: BIOS starts nothing of {of}", section.id),
            "take the entry out, or name a media that BIOS starts",
        ));
    };
    let BootImage::File(path) = &entry.image else {
        return Err(Error::internal("a boot image of a menu has no path"));
    };
    let own = MenuEntry {
        id: section.id.clone(),
        title: section.title.clone(),
        starts: Starts::BootImage,
        kernel: path.clone(),
        ..MenuEntry::default()
    };
    images.push(entry);
    Ok(own)
}

fn add_entry(
    section: &EntrySection,
    kernel: &str,
    label: &str,
    replace: bool,
    machine: Machine<'_>,
    editor: &mut Editor,
) -> Result<MenuEntry> {
    let folder = format!("systems/{}", section.id);
    editor.folder(&folder)?;
    let from = editor.local(kernel);
    let kernel = format!("{folder}/linux");
    editor.put_local(&kernel, &from, replace, &format!("the kernel of {}", section.title))?;
    let mut entry = MenuEntry {
        id: section.id.clone(),
        title: section.title.clone(),
        kernel,
        starts: Starts::Kernel,
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

//! What a file or folder is, for saying so when another kind was wanted.

use neat_answer::{Dialect, Model, SiteList};
use neat_content::{Class, Content, Error, ReadAt, Result, Source, damage_apart};
use neat_depot::Index;
use neat_image::{ImageFile, is_image_file, open_path};
use neat_media::{Media, read};
use neat_package::parse_devices;
use neat_service::{Catalogue, Layout};
use neat_stack::{LEDGER_KIND, StackFile};
use std::path::Path;

/// Largest text that is looked into, in bytes.
const LARGEST_TEXT: u64 = 4 << 20;

/// A kind of input.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Disc,
    Stick,
    MachineDisk,
    Image,
    Hive,
    Registration,
    Driver,
    Archive,
    Stack,
    Ledger,
    Catalogue,
    Layout,
    Sites,
    Devices,
    Answers,
    Model,
    Depot,
    UpdateFolder,
}

impl Kind {
    /// What it is, with its article.
    pub(super) const fn word(self) -> &'static str {
        match self {
            Self::Disc => "an ISO file",
            Self::Stick => "the image of a stick",
            Self::MachineDisk => "a machine's disk",
            Self::Image => "an image file",
            Self::Hive => "a registry hive",
            Self::Registration => "a registration text",
            Self::Driver => "a driver information file",
            Self::Archive => "an archive",
            Self::Stack => "a stack file",
            Self::Ledger => "the ledger of a build",
            Self::Catalogue => "a catalogue",
            Self::Layout => "a layout",
            Self::Sites => "a site list",
            Self::Devices => "a list of devices",
            Self::Answers => "an answer file",
            Self::Model => "answers in the neutral form",
            Self::Depot => "the index of a depot",
            Self::UpdateFolder => "a folder of updates",
        }
    }

    /// What can be done with it.
    const fn advice(self) -> &'static str {
        match self {
            Self::Disc | Self::Stick => {
                "`neatstack look` it; name the image file on it with --image, or `take` it out"
            }
            Self::MachineDisk => {
                "`neatstack look` it; `files`, `take`, `inventory` and `compare` read its partitions, `capture` makes an edition of its system"
            }
            Self::Image => {
                "`neatstack editions` lists what it holds; `neatstack files --edition` looks into one"
            }
            Self::Hive | Self::Registration => "`neatstack look` it, or name it where hives are compared",
            Self::Driver | Self::Archive => "`neatstack drivers` or `neatstack look` it",
            Self::Stack => "`neatstack plan` it, `neatstack build` it",
            Self::Ledger => "`neatstack look` it, or name it with `neatstack check MEDIA --ledger`",
            Self::Catalogue => "name it in `catalogues` of a stack file, or with --catalogue",
            Self::Layout => "name it in `layouts` of a stack file, or with --layout",
            Self::Sites => "name it in `[[variant]] sites` of a stack file",
            Self::Devices => "name it with `neatstack drivers FOLDER --for`",
            Self::Answers => "`neatstack answer check` it, or name it in `[answer] file` of a stack file",
            Self::Model => "`neatstack answer write` makes an answer file of it",
            Self::Depot => "`neatstack depot search --depot FOLDER`",
            Self::UpdateFolder => "name it in `[[update]] from` of a stack file",
        }
    }

    /// What lies at `path`; nothing for what is not known.
    ///
    /// # Errors
    /// `Io` when it cannot be read.
    pub(super) fn of(path: &Path) -> Result<Option<Self>> {
        if path.is_dir() {
            return Ok(is_update_folder(path).then_some(Self::UpdateFolder));
        }
        let source = Source::open(path)?;
        if damage_apart(read::is_disc(&source))?.unwrap_or(false) {
            return Ok(Some(Self::Disc));
        }
        let content = Content::from_source(source.clone());
        if is_image_file(&content) {
            return Ok(Some(Self::Image));
        }
        let mut first = [0; 4];
        if source.len() >= 4 {
            source.read_exact_at(0, &mut first)?;
        }
        if neat_registry::is_hive(&first) {
            return Ok(Some(Self::Hive));
        }
        if first == *b"MSCF" || first == *b"PK\x03\x04" || first == [0x28, 0xB5, 0x2F, 0xFD] {
            return Ok(Some(Self::Archive));
        }
        if damage_apart(neat_machine::MachineDisk::is_at(path))?.unwrap_or(false) {
            return Ok(Some(Self::MachineDisk));
        }
        if damage_apart(read::is_stick(&source))?.unwrap_or(false) {
            return Ok(Some(Self::Stick));
        }
        if source.len() > LARGEST_TEXT {
            return Ok(None);
        }
        let bytes = content.to_vec(LARGEST_TEXT, "file")?;
        Ok(Self::of_text(path, &bytes))
    }

    fn of_text(path: &Path, bytes: &[u8]) -> Option<Self> {
        let name = path.file_name().map(|name| name.to_string_lossy().to_lowercase()).unwrap_or_default();
        if neat_registry::RegText::is_one(bytes) {
            return Some(Self::Registration);
        }
        if name.ends_with(".inf") {
            return Some(Self::Driver);
        }
        let text = std::str::from_utf8(bytes).ok().filter(|text| !text.contains('\0'));
        if let Some(text) = text {
            let is_json = text.trim_start().starts_with('{');
            if is_json && text.contains(LEDGER_KIND) {
                return Some(Self::Ledger);
            }
            if is_json && Index::parse(text).is_ok() {
                return Some(Self::Depot);
            }
            if name.ends_with(".stack.toml") || StackFile::parse(text).is_ok() {
                return Some(Self::Stack);
            }
            if Layout::parse(text).is_ok() {
                return Some(Self::Layout);
            }
            if Catalogue::parse(text).is_ok() {
                return Some(Self::Catalogue);
            }
            if name.ends_with(".answer.toml") || Model::is_model(text) {
                return Some(Self::Model);
            }
            if name.ends_with(".csv") && SiteList::parse(text).is_ok() {
                return Some(Self::Sites);
            }
        }
        let content = Content::from_bytes(bytes);
        if Dialect::of_content(&content).is_some() {
            return Some(Self::Answers);
        }
        text.and_then(|text| parse_devices(text).ok())
            .filter(|devices| !devices.is_empty())
            .map(|_| Self::Devices)
    }
}

/// Whether a folder holds update packages and nothing that a media has.
fn is_update_folder(path: &Path) -> bool {
    let names: Vec<String> = std::fs::read_dir(path)
        .map(|entries| {
            entries.flatten().map(|entry| entry.file_name().to_string_lossy().to_lowercase()).collect()
        })
        .unwrap_or_default();
    !names.is_empty()
        && names
            .iter()
            .all(|name| [neat_package::UPDATE_ENDING, ".msu"].iter().any(|ending| name.ends_with(ending)))
}

/// Says of an input that is something else what it is: that is no damage.
pub(super) fn explain(error: Error, path: &Path, wanted: &str) -> Error {
    if !matches!(
        error.class(),
        Class::Corrupt | Class::Unsupported | Class::LimitExceeded | Class::BadRequest
    ) {
        return error;
    }
    let own = match wanted {
        "a media" => &[Kind::Disc, Kind::Stick][..],
        "an image file" => &[Kind::Image],
        "a stack file" => &[Kind::Stack],
        _ => &[],
    };
    match Kind::of(path) {
        Ok(Some(kind)) if !own.contains(&kind) => Error::request(
            format!("{} is {}, and {wanted} is wanted", path.display(), kind.word()),
            kind.advice(),
        ),
        _ => error,
    }
}

/// Opens a media.
pub(super) fn media(path: &Path) -> Result<Media> {
    let opened = read::open(path).map_err(|error| explain(error, path, "a media"))?;
    if path.is_dir() && is_update_folder(path) {
        return Err(explain(Error::request("", ""), path, "a media"));
    }
    Ok(opened)
}

/// Opens an image file.
pub(super) fn image(path: &Path) -> Result<ImageFile> {
    open_path(path).map_err(|error| explain(error, path, "an image file"))
}

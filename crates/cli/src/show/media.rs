//! What `look` says of a media, for people and for programs.

use super::{
    Sheet, count, heading_line,
    image::{editions, insides},
    note,
    older::OlderView,
    size, style, time,
};
use neat_answer::answer_files;
use neat_content::{Content, ReadAt};
use neat_media::{
    BootEntry, BootImage, Emulation, Media, MediaForm, TreeKind, fat, stick::uefi_loaders, touchup::History,
};
use neat_older::OlderSetup;
use neat_stack::{EditionInside, EditionSummary};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

/// JSON form of `master`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct MasteredView {
    pub iso: String,
    pub size: u64,
    /// Bytes that equal files share.
    pub shared: u64,
    pub sha256: Option<String>,
    pub notes: Vec<String>,
}

/// What `take` copied.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct TakenView {
    pub path: String,
    pub to: String,
    pub size: u64,
}

/// JSON form of `unpack`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct UnpackedView {
    pub dir: String,
    pub files: u64,
    pub folders: u64,
    pub bytes: u64,
}

/// JSON form of `look` at a media.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct MediaView {
    kind: &'static str,
    path: String,
    form: MediaForm,
    size: u64,
    digest: Option<String>,
    label: String,
    publisher: String,
    application: String,
    created: Option<i64>,
    file_systems: Vec<FileSystemView>,
    files: u64,
    folders: u64,
    links: u64,
    content_size: u64,
    boot: Vec<BootView>,
    boot_catalog_id: String,
    partition_table: Option<TableView>,
    /// Of a stick, those in its file system.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    uefi_loaders: Vec<String>,
    answer_files: Vec<AnswerView>,
    image_files: Vec<MediaImageView>,
    /// What the media allows setup to do, in words.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    restrictions: Vec<String>,
    /// The systems of a media of the generation before image files.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    older_setups: Vec<OlderView>,
    /// The stores of its boot managers.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    boot_stores: Vec<neat_stack::MediaBootStore>,
    #[serde(skip_serializing_if = "Option::is_none")]
    touchups: Option<TouchupsView>,
    #[serde(skip_serializing_if = "Option::is_none")]
    known: Option<KnownView>,
    warnings: Vec<String>,
}

/// How often the media was touched up.
#[derive(Debug, Serialize, JsonSchema)]
struct TouchupsView {
    count: usize,
    hidden: Vec<String>,
    unfinished: bool,
}

/// Whether the media is one that a list of digests knows.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct KnownView {
    /// The list.
    pub list: String,
    /// Files that the list knows.
    pub files: usize,
    /// Whether the media is one of them.
    pub original: bool,
    /// Its name there.
    pub name: Option<String>,
    /// Digests of the media.
    pub digests: Vec<String>,
    /// Whether the list has the media's name with another digest.
    pub same_name: bool,
}

#[derive(Debug, Serialize, JsonSchema)]
struct FileSystemView {
    name: &'static str,
    revision: Option<String>,
    read_from: bool,
}

#[derive(Debug, Serialize, JsonSchema)]
struct BootView {
    platform: String,
    platform_id: u8,
    bootable: bool,
    emulation: Emulation,
    load_segment: u16,
    load_sectors: u16,
    sector: Option<u32>,
    image: Option<String>,
    image_size: u64,
    boot_info_table: bool,
    block_pointer: bool,
    loaders: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct TableView {
    form: &'static str,
    boot_code: bool,
    partitions: Vec<PartitionView>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct PartitionView {
    kind: String,
    name: String,
    start: u64,
    size: u64,
    active: bool,
}

#[derive(Debug, Serialize, JsonSchema)]
struct AnswerView {
    path: String,
    dialect: &'static str,
}

/// An image file on a media.
#[derive(Debug, Serialize, JsonSchema)]
struct MediaImageView {
    path: String,
    role: &'static str,
    size: u64,
    parts: usize,
    method: &'static str,
    solid: bool,
    editions: Vec<EditionSummary>,
    inside: Vec<EditionInside>,
}

impl MediaImageView {
    /// The image files where media have them. One that cannot be read is a warning: the rest of the media may be sound.
    fn all(media: &Media, warnings: &mut Vec<String>) -> Vec<Self> {
        let places = [
            (neat_stack::install_image_path(&media.tree), "systems"),
            (neat_stack::setup_image_path(&media.tree), "setup environment"),
        ];
        let mut views = Vec::new();
        for (path, role) in places.into_iter().filter_map(|(path, role)| Some((path?, role))) {
            let view = neat_stack::open_image(&media.tree, &path).and_then(|image| {
                warnings.extend(image.warnings().iter().map(|warning| format!("{path}: {warning}")));
                Ok(Self {
                    path: path.clone(),
                    role,
                    size: image.len(),
                    parts: image.parts().len(),
                    method: image.header().compression.map_or("none", |(method, _)| method.name()),
                    solid: image.solid_count() > 0,
                    editions: neat_stack::edition_summaries_quickly(&image)?,
                    inside: neat_stack::edition_insides(&image)?,
                })
            });
            match view {
                Ok(view) => views.push(view),
                Err(error) => warnings.push(format!("{path} cannot be read: {error}")),
            }
        }
        views
    }

    fn words(&self) -> String {
        let parts = if self.parts > 1 { format!(" in {} parts", self.parts) } else { String::new() };
        let solid = if self.solid { ", solid" } else { "" };
        format!("{}, {}{parts}, {}{solid}", self.path, size(self.size), self.method)
    }
}

impl MediaView {
    /// Gathers what is shown of `media`, read from `path`.
    pub(crate) fn new(media: &Media, path: &Path, digest: Option<String>) -> Self {
        let counts = media.tree.counts();
        let entries = media.boot.iter().flat_map(|catalog| &catalog.entries);
        let mut warnings = media.warnings.clone();
        let image_files = MediaImageView::all(media, &mut warnings);
        Self {
            kind: "media",
            path: path.display().to_string(),
            form: media.form,
            size: media.size,
            digest,
            label: media.volume.label.clone(),
            publisher: media.volume.publisher.clone(),
            application: media.volume.application.clone(),
            created: media.volume.created.map(|time| time.seconds),
            file_systems: if media.form == MediaForm::Folder { Vec::new() } else { file_systems(media) },
            files: counts.files,
            folders: counts.folders,
            links: counts.links,
            content_size: counts.bytes,
            boot: entries.map(|entry| BootView::new(entry, media)).collect(),
            boot_catalog_id: media.boot.as_ref().map(|catalog| catalog.id.clone()).unwrap_or_default(),
            partition_table: media.partitions.as_ref().map(|table| TableView {
                form: if table.gpt { "gpt" } else { "mbr" },
                boot_code: table.boot_code.is_some(),
                partitions: table
                    .partitions
                    .iter()
                    .map(|p| PartitionView {
                        kind: p.kind.clone(),
                        name: p.name.clone(),
                        start: p.start,
                        size: p.len,
                        active: p.active,
                    })
                    .collect(),
            }),
            uefi_loaders: if media.form == MediaForm::Stick { uefi_loaders(&media.tree) } else { Vec::new() },
            restrictions: neat_stack::restrictions(&media.tree),
            older_setups: Vec::new(),
            boot_stores: neat_stack::boot_stores(&media.tree),
            answer_files: answer_files(&media.tree)
                .into_iter()
                .map(|(path, dialect)| AnswerView { path, dialect: dialect.name() })
                .collect(),
            image_files,
            touchups: None,
            known: None,
            warnings,
        }
    }

    /// Adds what a list of digests says.
    pub(crate) fn set_known(&mut self, known: KnownView) {
        self.known = Some(known);
    }

    /// Adds what was done to the media since it was made.
    pub(crate) fn set_history(&mut self, history: &History) {
        if history.unfinished {
            let path = &self.path;
            self.warnings
                .push(format!("a touch-up was cut off: `neatstack touchup {path} undo` puts back what was"));
        }
        if history.unfinished || !history.touchups.is_empty() {
            self.touchups = Some(TouchupsView {
                count: history.touchups.len(),
                hidden: history.hidden.clone(),
                unfinished: history.unfinished,
            });
        }
    }

    /// The same for a person.
    /// Adds the systems of a media of the older generation.
    pub(crate) fn set_older(&mut self, setups: Vec<OlderSetup>) {
        self.older_setups = setups.into_iter().map(OlderView::of).collect();
    }

    pub(crate) fn text(&self, created: Option<String>) -> String {
        let mut sheet = Sheet::default();
        sheet.row("label", if self.label.is_empty() { "(none)" } else { &self.label });
        let names: Vec<String> = self.file_systems.iter().map(FileSystemView::words).collect();
        sheet.row_if("file systems", &names.join(", "));
        let links = if self.links > 0 {
            format!(" and {}", count(self.links, "link", "links"))
        } else {
            String::new()
        };
        sheet.row(
            "holds",
            format!(
                "{} in {}{links}, {}",
                count(self.files, "file", "files"),
                count(self.folders + 1, "folder", "folders"),
                size(self.content_size)
            ),
        );
        sheet.row_if("publisher", &self.publisher);
        sheet.row_if("application", &self.application);
        sheet.row_if("made", &created.unwrap_or_default());
        sheet.row_if("digest", self.digest.as_deref().unwrap_or_default());
        if let Some(known) = &self.known {
            sheet.row("original", known.words());
        }
        if let Some(touchups) = self.touchups.as_ref().filter(|touchups| touchups.count > 0) {
            let hidden = match touchups.hidden.as_slice() {
                [] => String::new(),
                hidden => format!("; hidden: {}", hidden.join(", ")),
            };
            let times = count(touchups.count as u64, "time", "times");
            sheet.row("touched up", format!("{times}{hidden}"));
        }
        if self.boot.is_empty() && self.form != MediaForm::Stick {
            sheet.row("boot from disc", "no");
        }
        for (number, entry) in self.boot.iter().enumerate() {
            sheet.row(if number == 0 { "boot from disc" } else { "" }, entry.words());
        }
        if let Some(table) = &self.partition_table {
            let code = if table.boot_code { "boot code for BIOS" } else { "no boot code for BIOS" };
            sheet.row("boot from disk", format!("{}, {code}", table.form.to_uppercase()));
            for p in &table.partitions {
                let name = if p.name.is_empty() { String::new() } else { format!(" “{}”", p.name) };
                sheet.row(
                    "",
                    format!(
                        "{}{name}, {} at {}{}",
                        p.kind,
                        size(p.size),
                        size(p.start),
                        if p.active { ", active" } else { "" }
                    ),
                );
            }
        } else if self.form == MediaForm::Disc {
            sheet.row("boot from disk", "no");
        }
        for (number, loader) in self.uefi_loaders.iter().enumerate() {
            sheet.row(if number == 0 { "UEFI loaders" } else { "" }, loader);
        }
        let said: Vec<&str> = self.answer_files.iter().map(|own| own.path.as_str()).collect();
        self.older_setups.iter().for_each(|own| own.rows(&said, &mut sheet));
        if self.answer_files.is_empty() && self.older_setups.iter().all(OlderView::has_no_answers) {
            sheet.row("answer file", "none where setup looks");
        }
        for (number, answer) in self.answer_files.iter().enumerate() {
            sheet.row(
                if number == 0 { "answer file" } else { "" },
                format!("{} ({})", answer.path, answer.dialect),
            );
        }
        super::plan::restrictions(&self.restrictions, &mut sheet);
        for store in &self.boot_stores {
            let wait = store.facts.timeout_seconds.map_or(String::new(), |own| format!(", waits {own} s"));
            let entries = count(store.facts.entries.len() as u64, "entry", "entries");
            sheet.row("boot store", format!("{}: {entries}{wait}", store.path));
            for own in &store.facts.entries {
                let parts = [
                    own.title.clone(),
                    if own.image.is_empty() { own.loader.clone() } else { own.image.replace('\\', "/") },
                    if own.default { "started when nobody chooses".into() } else { String::new() },
                    if own.test_signing { "takes what is signed for tests".into() } else { String::new() },
                ];
                let parts: Vec<String> = parts.into_iter().filter(|part| !part.is_empty()).collect();
                sheet.row("", format!("  {}", parts.join(", ")));
            }
        }
        let form = match self.form {
            MediaForm::Disc => format!("ISO file, {}", size(self.size)),
            MediaForm::Stick => format!("stick, {}", size(self.size)),
            MediaForm::Folder => "folder".into(),
        };
        let mut text = heading_line(&self.path, &form) + &sheet.text();
        for image in &self.image_files {
            text.push('\n');
            text.push_str(&heading_line(image.role, &image.words()));
            text.push_str(&editions(&image.editions));
            text.push_str(&insides(&image.inside));
        }
        for warning in &self.warnings {
            text.push_str(&note(warning));
        }
        text
    }
}

impl KnownView {
    fn words(&self) -> String {
        let files = count(self.files as u64, "file", "files");
        match (self.original, &self.name, self.same_name) {
            (true, Some(name), _) if !name.is_empty() => format!("yes, it is {name} of {}", self.list),
            (true, ..) => format!("yes, {} has its digest", self.list),
            (false, _, true) => {
                format!(
                    "{}no{:#}: {} has this name with another digest; it is damaged or changed",
                    style::BAD,
                    style::BAD,
                    self.list
                )
            }
            (false, ..) => {
                format!("{}no{:#}: not among the {files} of {}", style::CARE, style::CARE, self.list)
            }
        }
    }
}

/// The time for [`MediaView::text`].
pub(crate) fn created(media: &Media) -> Option<String> {
    media.volume.created.map(time)
}

fn file_systems(media: &Media) -> Vec<FileSystemView> {
    let trees = &media.trees;
    let revision = trees.udf.map(|revision| format!("{:x}.{:02x}", revision >> 8, revision & 0xFF));
    let all = [
        (TreeKind::Udf, trees.udf.is_some()),
        (TreeKind::Joliet, trees.joliet),
        (TreeKind::RockRidge, trees.rock_ridge && trees.iso9660),
        (TreeKind::Iso9660, trees.iso9660),
        (TreeKind::Fat, media.form == MediaForm::Stick),
    ];
    all.into_iter()
        .filter(|(_, there)| *there)
        .map(|(kind, _)| FileSystemView {
            name: kind.name(),
            revision: if kind == TreeKind::Udf { revision.clone() } else { None },
            read_from: kind == trees.chosen,
        })
        .collect()
}

impl FileSystemView {
    fn words(&self) -> String {
        let revision = self.revision.as_ref().map(|revision| format!(" {revision}")).unwrap_or_default();
        format!("{}{revision}{}", self.name, if self.read_from { " (read)" } else { "" })
    }
}

impl BootView {
    fn new(entry: &BootEntry, media: &Media) -> Self {
        let (path, content) = match &entry.image {
            BootImage::File(path) => (Some(path.clone()), media.tree.file(path).cloned().unwrap_or_default()),
            BootImage::Hidden(content) => (None, content.clone()),
        };
        Self {
            platform: entry.platform.name().into(),
            platform_id: entry.platform.0,
            bootable: entry.bootable,
            emulation: entry.emulation,
            load_segment: entry.load_segment,
            load_sectors: entry.load_sectors,
            sector: entry.location,
            image: path,
            image_size: content.len(),
            boot_info_table: entry.patch.boot_info_table,
            block_pointer: entry.patch.block_pointer,
            loaders: loaders(&content),
        }
    }

    fn words(&self) -> String {
        let image = self.image.as_deref().unwrap_or("hidden image");
        let mut parts = vec![format!("{}: {image}, {}", self.platform, size(self.image_size))];
        match self.emulation {
            Emulation::None => {}
            Emulation::Floppy1200 => parts.push("as a 1.2 MB diskette".into()),
            Emulation::Floppy1440 => parts.push("as a 1.44 MB diskette".into()),
            Emulation::Floppy2880 => parts.push("as a 2.88 MB diskette".into()),
            Emulation::HardDisk => parts.push("as a hard disk".into()),
        }
        if self.platform_id == 0 {
            parts.push(format!("loads {}", count(self.load_sectors.into(), "sector", "sectors")));
        }
        if self.load_segment != 0 {
            parts.push(format!("to segment {:X}", self.load_segment));
        }
        if self.boot_info_table {
            parts.push("boot-info table".into());
        }
        if !self.bootable {
            parts.push("marked as not bootable".into());
        }
        if !self.loaders.is_empty() {
            parts.push(format!("holds {}", self.loaders.join(", ")));
        }
        parts.join(", ")
    }
}

/// Loaders with the names that UEFI starts, if the image is a FAT file system.
fn loaders(image: &Content) -> Vec<String> {
    const LARGEST: u64 = 512 << 20;
    if ReadAt::len(image) > LARGEST || !matches!(fat::read::volume_len(image), Ok(Some(_))) {
        return Vec::new();
    }
    let Ok(tree) = fat::read::read(image) else { return Vec::new() };
    let found = tree.walk().filter(|step| {
        let path = step.path.to_ascii_lowercase();
        path.starts_with("efi/boot/boot") && path.ends_with(".efi")
    });
    found.map(|step| step.path).collect()
}

//! The media record: what a folder of files cannot say of the media it came from.

use crate::{
    BootCatalog, BootCode, BootEntry, BootImage, Emulation, ImagePatch, Media, PartitionTable, Platform,
    TreeKind, TreesFound, VolumeIdentity,
};
use neat_content::{Content, Error, Result, Timestamp, Tree, check_name};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeMap, path::Path};

/// Folder of the record in the root of an unpacked media.
pub const RECORD_FOLDER: &str = ".neatstack";
/// File of the record in [`RECORD_FOLDER`].
pub const RECORD_NAME: &str = "media.toml";
/// Version of the record that this program writes. It also reads the first one, which has no modes.
const VERSION: u32 = 2;

/// Labels, times and boot entries of an unpacked media, as TOML.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MediaRecord {
    version: u32,
    label: String,
    #[serde(default)]
    system: String,
    #[serde(default)]
    volume_set: String,
    #[serde(default)]
    publisher: String,
    #[serde(default)]
    preparer: String,
    #[serde(default)]
    application: String,
    created: Option<String>,
    modified: Option<String>,
    root_modified: Option<String>,
    /// Whether the ISO 9660 tree had Rock Ridge attributes.
    #[serde(default)]
    rock_ridge: bool,
    /// Whether there was a Joliet tree.
    joliet: bool,
    /// Whether there was a UDF tree.
    udf: bool,
    /// Boot code of the first block, below [`RECORD_FOLDER`]; present when the media started as a disk.
    boot_code: Option<String>,
    /// See [`crate::BootCode::pointer_skip`].
    boot_code_skip: Option<u64>,
    /// Whether the media carried a partition table.
    #[serde(default)]
    hybrid: bool,
    /// Whether any file of the media could be written by somebody; unpacked files always can.
    #[serde(default)]
    writable: bool,
    /// Permission bits that the media has, whatever this machine gave to the unpacked files; absent in version 1.
    modes: Option<RecordedModes>,
    /// Whether only its owner may read the media.
    #[serde(default, skip_serializing_if = "is_no")]
    private: bool,
    /// Paths that listings should leave out.
    #[serde(default)]
    hidden: Vec<String>,
    #[serde(default)]
    catalog_id: String,
    catalog_path: Option<String>,
    #[serde(default)]
    boot: Vec<RecordedEntry>,
}

/// Permission bits, in decimal: those that most files and folders have, and the others with their paths. What is absent
/// had none.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct RecordedModes {
    files: Option<u16>,
    folders: Option<u16>,
    root: Option<u16>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    other: Vec<OtherMode>,
}

#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct OtherMode {
    mode: Option<u16>,
    paths: Vec<String>,
}

impl RecordedModes {
    fn of(tree: &Tree) -> Self {
        let mut counts: [BTreeMap<Option<u16>, usize>; 2] = Default::default();
        let is_folder = |id| usize::from(tree.node(id).folder().is_some());
        for step in tree.walk() {
            *counts[is_folder(step.id)].entry(tree.node(step.id).meta.mode).or_default() += 1;
        }
        let usual = counts
            .map(|counts| counts.into_iter().max_by_key(|(_, count)| *count).and_then(|(mode, _)| mode));
        let mut other: BTreeMap<Option<u16>, Vec<String>> = BTreeMap::new();
        for step in tree.walk() {
            let mode = tree.node(step.id).meta.mode;
            if mode != usual[is_folder(step.id)] {
                other.entry(mode).or_default().push(step.path);
            }
        }
        let other = other.into_iter().map(|(mode, paths)| OtherMode { mode, paths }).collect();
        Self { files: usual[0], folders: usual[1], root: tree.node(Tree::ROOT).meta.mode, other }
    }

    fn apply(&self, tree: &mut Tree) {
        tree.node_mut(Tree::ROOT).meta.mode = self.root;
        let ids: Vec<_> = tree.walk().map(|step| step.id).collect();
        for id in ids {
            let usual = if tree.node(id).folder().is_some() { self.folders } else { self.files };
            tree.node_mut(id).meta.mode = usual;
        }
        for OtherMode { mode, paths } in &self.other {
            for path in paths {
                if let Some(id) = tree.find(path) {
                    tree.node_mut(id).meta.mode = *mode;
                }
            }
        }
    }
}

#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct RecordedEntry {
    platform: u8,
    #[serde(default = "yes")]
    bootable: bool,
    emulation: Emulation,
    #[serde(default)]
    load_segment: u16,
    #[serde(default)]
    system_type: u8,
    load_sectors: u16,
    #[serde(default)]
    boot_info_table: bool,
    #[serde(default)]
    block_pointer: bool,
    image: RecordedImage,
}

/// Where a recorded boot image is.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum RecordedImage {
    /// A file of the media.
    File(String),
    /// A file below [`RECORD_FOLDER`].
    Kept(String),
}

/// Permission bits for writing.
const WRITE_BITS: u16 = 0o222;

const fn yes() -> bool {
    true
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde calls it with a reference")]
const fn is_no(value: &bool) -> bool {
    !*value
}

fn write_time(time: Timestamp) -> String {
    jiff::Timestamp::new(time.seconds, time.nanoseconds as i32)
        .map(|time| time.to_string())
        .unwrap_or_default()
}

fn read_time(text: Option<&String>) -> Option<Timestamp> {
    let time: jiff::Timestamp = text?.parse().ok()?;
    Some(Timestamp { seconds: time.as_second(), nanoseconds: time.subsec_nanosecond().max(0) as u32 })
}

impl MediaRecord {
    /// The record of `media`; hidden boot images still have to be given a place with `set_image`.
    pub(crate) fn of(media: &Media) -> Self {
        let volume = &media.volume;
        let hidden = media
            .tree
            .walk()
            .filter(|step| media.tree.node(step.id).meta.hidden)
            .map(|step| step.path)
            .collect();
        let mut modes = media.tree.walk().filter_map(|step| media.tree.node(step.id).meta.mode);
        let writable = modes.any(|mode| mode & WRITE_BITS != 0);
        let entries = media.boot.iter().flat_map(|catalog| &catalog.entries);
        Self {
            version: VERSION,
            label: volume.label.clone(),
            system: volume.system.clone(),
            volume_set: volume.volume_set.clone(),
            publisher: volume.publisher.clone(),
            preparer: volume.preparer.clone(),
            application: volume.application.clone(),
            created: volume.created.map(write_time),
            modified: volume.modified.map(write_time),
            root_modified: Some(write_time(media.tree.node(Tree::ROOT).meta.modified)),
            rock_ridge: media.trees.rock_ridge,
            // A disc with UDF alone gets everything when it is made again: we always write ISO 9660.
            joliet: media.trees.joliet || !media.trees.iso9660,
            udf: media.trees.udf.is_some(),
            boot_code: None,
            boot_code_skip: None,
            hybrid: media.partitions.is_some(),
            writable,
            private: media.private,
            modes: Some(RecordedModes::of(&media.tree)),
            hidden,
            catalog_id: media.boot.as_ref().map(|catalog| catalog.id.clone()).unwrap_or_default(),
            catalog_path: media.boot.as_ref().and_then(|catalog| catalog.catalog_path.clone()),
            boot: entries.map(RecordedEntry::of).collect(),
        }
    }

    pub(crate) fn set_image(&mut self, number: usize, image: RecordedImage) {
        if let Some(entry) = self.boot.get_mut(number) {
            entry.image = image;
        }
    }

    pub(crate) fn to_text(&self) -> Result<String> {
        let body = toml::to_string_pretty(self)
            .map_err(|error| Error::internal(format!("the media record cannot be written: {error}")))?;
        Ok(format!(
            "# What the files alone do not say of the media they came from; mastering the folder reads it.\n{body}"
        ))
    }

    /// Reads a record.
    ///
    /// # Errors
    /// `Corrupt` for what is no record, `Unsupported` for newer ones.
    pub fn parse(text: &str) -> Result<Self> {
        let hint = "repair the file, or remove it to master the folder as it is";
        let record: Self = toml::from_str(text).map_err(|error| Error::request(error.to_string(), hint))?;
        if !(1..=VERSION).contains(&record.version) {
            return Err(Error::request(
                format!(
                    "the media record has version {}, and this program reads 1 and {VERSION}",
                    record.version
                ),
                hint,
            ));
        }
        Ok(record)
    }

    pub(crate) fn identity(&self) -> VolumeIdentity {
        VolumeIdentity {
            label: self.label.clone(),
            system: self.system.clone(),
            volume_set: self.volume_set.clone(),
            publisher: self.publisher.clone(),
            preparer: self.preparer.clone(),
            application: self.application.clone(),
            created: read_time(self.created.as_ref()),
            modified: read_time(self.modified.as_ref()),
        }
    }

    /// Whether only its owner may read the media.
    pub(crate) const fn private(&self) -> bool {
        self.private
    }

    /// The trees that an equal media has.
    pub(crate) fn trees(&self) -> TreesFound {
        TreesFound {
            iso9660: true,
            joliet: self.joliet,
            rock_ridge: self.rock_ridge,
            udf: self.udf.then_some(0x0102),
            chosen: TreeKind::Folder,
        }
    }

    pub(crate) fn root_time(&self) -> Option<Timestamp> {
        read_time(self.root_modified.as_ref())
    }

    /// Gives the files back what their modes were and which were hidden.
    pub(crate) fn apply_attributes(&self, tree: &mut Tree) {
        if let Some(modes) = &self.modes {
            modes.apply(tree);
        } else if !self.writable {
            let ids: Vec<_> = tree.walk().map(|step| step.id).chain([Tree::ROOT]).collect();
            for id in ids {
                let meta = &mut tree.node_mut(id).meta;
                meta.mode = meta.mode.map(|mode| mode & !WRITE_BITS);
            }
        }
        for path in &self.hidden {
            if let Some(id) = tree.find(path) {
                tree.node_mut(id).meta.hidden = true;
            }
        }
    }

    /// The boot catalog, its kept images opened in `folder`.
    pub(crate) fn catalog(&self, folder: &Path) -> Result<BootCatalog> {
        let entries = self.boot.iter().map(|entry| entry.open(folder)).collect::<Result<_>>()?;
        Ok(BootCatalog { entries, id: self.catalog_id.clone(), catalog_path: self.catalog_path.clone() })
    }

    pub(crate) fn set_boot_code(&mut self, name: &str, pointer_skip: Option<u64>) {
        self.boot_code = Some(name.into());
        self.boot_code_skip = pointer_skip;
    }

    /// That the media was a disk too, with its boot code from `folder`. Which partitions there were depends on what
    /// is mastered and is not kept.
    pub(crate) fn partitions(&self, folder: &Path) -> Result<Option<PartitionTable>> {
        if !self.hybrid {
            return Ok(None);
        }
        let bytes =
            self.boot_code.as_ref().map(|name| kept(folder, name)?.to_vec(512, "boot code")).transpose()?;
        let boot_code = bytes.map(|bytes| BootCode { bytes, pointer_skip: self.boot_code_skip });
        Ok(Some(PartitionTable { gpt: true, boot_code, partitions: Vec::new() }))
    }
}

/// A file below the record's folder; a record may come from anywhere, so a path that leaves the folder is refused.
fn kept(folder: &Path, name: &str) -> Result<Content> {
    if name.split('/').any(|part| check_name(part).is_err()) {
        return Err(Error::request(
            format!("the media record names the file {name:?} outside its folder"),
            "repair or remove the record",
        ));
    }
    let mut path = folder.to_owned();
    for part in name.split('/') {
        path.push(part);
        refuse_link(&path)?;
    }
    Content::from_path(&path)
}

/// A record may come from anywhere; a link in it could lead to any file of this machine.
///
/// # Errors
/// `Request` for a symbolic link.
pub(crate) fn refuse_link(path: &Path) -> Result<()> {
    if !path.is_symlink() {
        return Ok(());
    }
    Err(Error::request(
        format!("{} is a symbolic link, and a media record has none", path.display()),
        "put the file itself there, or remove the record to master the folder as it is",
    ))
}

impl RecordedEntry {
    fn of(entry: &BootEntry) -> Self {
        Self {
            platform: entry.platform.0,
            bootable: entry.bootable,
            emulation: entry.emulation,
            load_segment: entry.load_segment,
            system_type: entry.system_type,
            load_sectors: entry.load_sectors,
            boot_info_table: entry.patch.boot_info_table,
            block_pointer: entry.patch.block_pointer,
            image: match &entry.image {
                BootImage::File(path) => RecordedImage::File(path.clone()),
                BootImage::Hidden(_) => RecordedImage::Kept(String::new()),
            },
        }
    }

    fn open(&self, folder: &Path) -> Result<BootEntry> {
        let image = match &self.image {
            RecordedImage::File(path) => BootImage::File(path.clone()),
            RecordedImage::Kept(name) => BootImage::Hidden(kept(folder, name)?),
        };
        Ok(BootEntry {
            platform: Platform(self.platform),
            bootable: self.bootable,
            emulation: self.emulation,
            load_segment: self.load_segment,
            system_type: self.system_type,
            load_sectors: self.load_sectors,
            image,
            location: None,
            patch: ImagePatch { boot_info_table: self.boot_info_table, block_pointer: self.block_pointer },
        })
    }
}

//! A folder of this machine as a media, and a media into a folder.

use crate::{
    BootCatalog, BootImage, Limits, Media, MediaRecord, RECORD_FOLDER, RECORD_NAME,
    record::{RecordedImage, refuse_link},
    system::{MetadataExt, PermissionsExt, symlink},
};
use neat_content::{
    Advice, Content, Error, Event, Folder, Job, Meta, NodeId, NodeKind, Output, PendingFolder, Result,
    Source, Timestamp, Tree, sync_folder,
};
use std::{
    fs::{self, File},
    path::{Path, PathBuf},
};

/// Largest record that is read, in bytes.
const MAX_RECORD_LEN: u64 = 4 << 20;
/// Where hidden boot images are kept, below [`RECORD_FOLDER`].
const IMAGES_FOLDER: &str = "boot";
/// Where boot code of the first block is kept, below [`RECORD_FOLDER`].
const BOOT_CODE_NAME: &str = "boot-code.bin";

/// Opens a folder. What [`unpack`] recorded of the media it came from is taken up again.
///
/// # Errors
/// `Io`, and `Corrupt` for a record that cannot be read or is a link.
pub fn open(path: &Path) -> Result<Media> {
    open_with(path, &Limits::default())
}

/// As [`open`], with limits of the caller's.
///
/// # Errors
/// As [`open`]; `BadRequest` for a folder with more entries than the limits allow.
pub fn open_with(path: &Path, limits: &Limits) -> Result<Media> {
    let (mut tree, mut warnings) = read_tree_with(path, limits)?;
    let record_folder = path.join(RECORD_FOLDER);
    let record_path = record_folder.join(RECORD_NAME);
    let mut media = Media::default();
    refuse_link(&record_folder)?;
    refuse_link(&record_path)?;
    if record_path.is_file() {
        let text = Content::from_path(&record_path)?.to_vec(MAX_RECORD_LEN, "media record")?;
        let record = MediaRecord::parse(&String::from_utf8_lossy(&text))
            .map_err(|error| error.within(record_path.display()))?;
        record.apply_attributes(&mut tree);
        media.trees = record.trees();
        media.volume = record.identity();
        media.private = record.private();
        media.partitions = record.partitions(&record_folder)?;
        if let Some(time) = record.root_time() {
            tree.node_mut(Tree::ROOT).meta.modified = time;
        }
        media.boot = Some(record.catalog(&record_folder)?).filter(|catalog| !catalog.entries.is_empty());
        if let Some(catalog) = &media.boot {
            warnings.extend(missing_images(catalog, &tree));
        }
    }
    media.tree = tree;
    media.warnings = warnings;
    Ok(media)
}

fn missing_images<'a>(catalog: &'a BootCatalog, tree: &'a Tree) -> impl Iterator<Item = String> + 'a {
    catalog.entries.iter().filter_map(|entry| match &entry.image {
        BootImage::File(path) if tree.file(path).is_none() => {
            Some(format!("the boot image {path} is no longer there"))
        }
        _ => None,
    })
}

/// The files of a folder without its media record. Files are opened when their bytes are wanted; symbolic links
/// stay links and are not followed.
///
/// # Errors
/// `Io`, and `LimitExceeded` for folders that are too deep.
pub fn read_tree(path: &Path) -> Result<(Tree, Vec<String>)> {
    read_tree_with(path, &Limits::default())
}

fn read_tree_with(path: &Path, limits: &Limits) -> Result<(Tree, Vec<String>)> {
    let metadata = fs::metadata(path).map_err(Error::io("examine", path))?;
    if !metadata.is_dir() {
        return Err(Error::request(format!("{} is not a folder", path.display()), "name a folder"));
    }
    let mut tree = Tree::new(meta_of(&metadata));
    let mut warnings = Vec::new();
    let mut pending: Vec<(NodeId, PathBuf)> = vec![(Tree::ROOT, path.to_owned())];
    while let Some((parent, folder)) = pending.pop() {
        for entry in fs::read_dir(&folder).map_err(Error::io("list", &folder))? {
            let entry = entry.map_err(Error::io("list", &folder))?;
            let full = entry.path();
            let Ok(name) = entry.file_name().into_string() else {
                return Err(Error::request(
                    format!("the name of {} is not UTF-8, and no media can hold it", full.display()),
                    "rename the file",
                ));
            };
            if parent == Tree::ROOT && name == RECORD_FOLDER {
                continue;
            }
            if tree.capacity() > limits.entries {
                return Err(Error::request(
                    format!("{} holds more than {} entries", path.display(), limits.entries),
                    "take a smaller folder",
                ));
            }
            let metadata = entry.metadata().map_err(Error::io("examine", &full))?;
            let meta = meta_of(&metadata);
            if metadata.is_dir() {
                let node = tree.add(parent, &name, meta, NodeKind::Folder(Folder::default()))?;
                pending.push((node, full));
            } else if metadata.is_symlink() {
                let target = fs::read_link(&full).map_err(Error::io("read the link", &full))?;
                tree.add(parent, &name, meta, NodeKind::Link(target.to_string_lossy().into_owned()))?;
            } else if metadata.is_file() {
                let content = Content::from_source(Source::opened_on_use(&full, &metadata));
                tree.add(parent, &name, meta, NodeKind::File(content))?;
            } else {
                warnings.push(format!("{} is neither file, folder nor link and is left out", full.display()));
            }
        }
    }
    Ok((tree, warnings))
}

fn meta_of(metadata: &fs::Metadata) -> Meta {
    Meta {
        modified: Timestamp::from_metadata(metadata),
        mode: Some((metadata.mode() & 0o7777) as u16),
        hidden: false,
    }
}

/// Writes the whole media into the new or empty folder `target`, with a record from which an equal media can be
/// mastered. The folder appears under its name, or gets its files, only when all is written.
///
/// # Errors
/// `Refused` when something is there; `Io`, `Cancelled`, and those of reading.
pub fn unpack(media: &Media, target: &Path, job: &Job<'_>) -> Result<()> {
    let pending = PendingFolder::create(target)?;
    if media.private {
        pending.make_private()?;
    }
    unpack_into(media, pending.path(), job)?;
    pending.commit()
}

/// Writes the folder `start` of a tree as the new folder `target`, for its owner alone if it is `private`; see
/// [`write_tree`].
///
/// # Errors
/// As [`unpack`].
pub fn write_new(tree: &Tree, start: NodeId, target: &Path, private: bool, job: &Job<'_>) -> Result<()> {
    let pending = PendingFolder::create(target)?;
    if private {
        pending.make_private()?;
    }
    write_tree(tree, start, pending.path(), job)?;
    pending.commit()
}

fn unpack_into(media: &Media, target: &Path, job: &Job<'_>) -> Result<()> {
    let record_folder = target.join(RECORD_FOLDER);
    if media.tree.child(Tree::ROOT, RECORD_FOLDER).is_some() {
        return Err(Error::request(
            format!("the media has a folder {RECORD_FOLDER} of its own"),
            Advice::TakeFiles,
        ));
    }
    write_tree(&media.tree, Tree::ROOT, target, job)?;
    fs::create_dir(&record_folder).map_err(Error::io("create", &record_folder))?;
    let mut record = MediaRecord::of(media);
    for (number, entry) in media.boot.iter().flat_map(|catalog| &catalog.entries).enumerate() {
        if let BootImage::Hidden(content) = &entry.image {
            let name = format!(
                "{IMAGES_FOLDER}/{number}-{}.img",
                entry.platform.name().to_lowercase().replace(' ', "-")
            );
            write_file(content, &record_folder.join(&name), job)?;
            record.set_image(number, RecordedImage::Kept(name));
        }
    }
    if let Some(code) = media.partitions.as_ref().and_then(|table| table.boot_code.as_ref()) {
        write_file(&Content::from_bytes(code.bytes.clone()), &record_folder.join(BOOT_CODE_NAME), job)?;
        record.set_boot_code(BOOT_CODE_NAME, code.pointer_skip);
    }
    write_file(&Content::from_bytes(record.to_text()?.into_bytes()), &record_folder.join(RECORD_NAME), job)?;
    sync_folder(target)
}

/// Writes what is below `start` into the existing folder `target`, with modes and times. Names were checked when the
/// tree was made, and no link is followed, so nothing lands outside.
///
/// # Errors
/// `Io`, `Cancelled`, and what reading the content gives.
pub fn write_tree(tree: &Tree, start: NodeId, target: &Path, job: &Job<'_>) -> Result<()> {
    let total = tree.walk_from(start).filter_map(|step| tree.node(step.id).content().map(Content::len)).sum();
    job.event(Event::StepStarted { step: "writing the files", total_bytes: Some(total) });
    let mut folders = Vec::new();
    for step in tree.walk_from(start) {
        job.check()?;
        let path = target.join(&step.path);
        let node = tree.node(step.id);
        match &node.kind {
            NodeKind::Folder(_) => {
                fs::create_dir(&path).map_err(Error::io("create", &path))?;
                folders.push((path, node.meta));
            }
            NodeKind::Link(link) => symlink(link, &path).map_err(Error::io("create the link", &path))?,
            NodeKind::File(content) => {
                let file = write_file(content, &path, job)?;
                finish(&file, node.meta, 0o600, &path)?;
            }
        }
    }
    // A folder's own time changes with every file put into it, so it comes last, deepest first.
    for (path, meta) in folders.iter().rev() {
        let folder = File::open(path).map_err(Error::io("open", path))?;
        finish(&folder, *meta, 0o700, path)?;
    }
    job.event(Event::StepFinished);
    Ok(())
}

fn write_file(content: &Content, path: &Path, job: &Job<'_>) -> Result<File> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder).map_err(Error::io("create", folder))?;
    }
    let file = File::options().write(true).create_new(true).open(path).map_err(Error::io("create", path))?;
    let mut output = Output::new(file, path, None);
    output.write_content(content, job)?;
    Ok(output.finish()?.0)
}

fn finish(file: &File, meta: Meta, least_mode: u32, path: &Path) -> Result<()> {
    // The owner can always write: a folder that cannot be changed or removed again helps nobody. What else
    // the media says is kept where it says anything.
    if let Some(mode) = meta.mode {
        let mode = u32::from(mode & 0o777) | least_mode;
        file.set_permissions(fs::Permissions::from_mode(mode)).map_err(Error::io("set the mode of", path))?;
    }
    match meta.modified.to_system_time() {
        Some(time) => file.set_modified(time).map_err(Error::io("set the time of", path)),
        None => Ok(()),
    }
}

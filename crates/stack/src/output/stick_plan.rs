//! From a media to a stick: which of two layouts, splitting what is too large, ids.

use crate::{
    change::{default_boot, fit_fat32},
    recipe::StickForm,
};
use neat_content::{Content, Error, Job, NodeId, Result, Source, Timestamp, Tree};
use neat_media::{
    BootCatalog, BootCode, BootImage, Media, MediaForm, Platform, fat, master,
    stick::{Options, Scheme, StickPlan, StickUpdate, UpdateOptions, plan_update, uefi_loaders},
};
use std::path::Path;

/// What a stick should be like.
#[derive(Clone, Debug, Default)]
pub struct StickWish<'a> {
    /// How the files lie on it.
    pub form: StickForm,
    /// How it is partitioned.
    pub scheme: Scheme,
    /// Bytes; without it just large enough.
    pub len: Option<u64>,
    /// Label; without it the media's.
    pub label: Option<&'a str>,
    /// The boot manager that BIOS starts, by its name in the root.
    pub manager: Option<&'a str>,
    /// What ids are made from; without it from what is on the stick.
    pub seed: Option<[u8; 32]>,
    /// First block for BIOS, for the disc form.
    pub boot_code: Option<Vec<u8>>,
    /// What times there are where a file has none.
    pub time: Timestamp,
    /// Files that come first, in this order.
    pub order: &'a [NodeId],
}

/// Where Debian's isolinux-common puts the first block for discs that also start as disks.
const DISC_CODE: &str = "/usr/lib/ISOLINUX/isohdpfx.bin";

/// Lays out a stick with what is on `media`, which came from the file at `path` if that is given.
///
/// # Errors
/// `Request` for what cannot be on such a stick.
pub fn plan_stick(
    media: Media,
    path: Option<&Path>,
    wish: &StickWish<'_>,
    job: &Job<'_>,
) -> Result<StickPlan> {
    let form = match wish.form {
        StickForm::Auto if wants_disc(&media) => StickForm::Disc,
        StickForm::Auto => StickForm::Fat32,
        other => other,
    };
    if form == StickForm::Disc { as_disc(media, path, wish, job) } else { as_fat32(media, wish, job) }
}

/// Whether BIOS starts the media by a loader that reads discs, and not by a boot manager that reads FAT.
fn wants_disc(media: &Media) -> bool {
    let Some(catalog) = &media.boot else { return false };
    let is_loader = |image: &BootImage| match image {
        BootImage::File(path) => {
            let path = path.to_ascii_lowercase();
            path.ends_with("isolinux.bin") || path.ends_with("eltorito.img")
        }
        BootImage::Hidden(_) => false,
    };
    let mut bios = catalog.entries.iter().filter(|entry| entry.platform == Platform::BIOS);
    bios.any(|entry| entry.patch.boot_info_table || is_loader(&entry.image))
}

fn as_fat32(media: Media, wish: &StickWish<'_>, job: &Job<'_>) -> Result<StickPlan> {
    let mut tree = media.tree;
    let split = fit_fat32(&mut tree, job)?;
    let from_image = add_uefi_files(&mut tree, media.boot.as_ref())?;
    let label = wish.label.unwrap_or(&media.volume.label);
    let options = |seed| Options {
        scheme: wish.scheme,
        len: wish.len,
        label: label.to_owned(),
        time: wish.time,
        seed,
        manager: wish.manager.map(str::to_owned),
    };
    let seed = wish.seed.unwrap_or_else(|| seed_of(&tree, label, wish.len));
    let mut plan = StickPlan::new(&tree, wish.order, &options(seed))?;
    plan.notes.extend(from_image);
    if !label.is_empty() && !label.eq_ignore_ascii_case(&plan.label) {
        plan.notes.push(format!(
            "the stick's label is {:?} and not {label:?}: FAT holds 11 capitals, digits, blanks, - and _",
            plan.label
        ));
    }
    if let Some((path, parts)) = split {
        plan.notes.push(split_note(&path, parts));
    }
    Ok(plan)
}

/// Puts the files of a media's UEFI image beside the others where only that has loaders: a disc's image is a file system
/// of its own, and a stick has one for everything.
fn add_uefi_files(tree: &mut Tree, boot: Option<&BootCatalog>) -> Result<Option<String>> {
    let mut entries = boot.iter().flat_map(|catalog| &catalog.entries);
    let entry = entries.find(|entry| entry.platform == Platform::UEFI);
    let Some(entry) = entry.filter(|_| uefi_loaders(tree).is_empty()) else { return Ok(None) };
    let image = match &entry.image {
        BootImage::File(path) => tree.file(path).cloned().unwrap_or_default(),
        BootImage::Hidden(content) => content.clone(),
    };
    if !matches!(fat::read::volume_len(&image), Ok(Some(_))) {
        return Ok(None);
    }
    let inside = fat::read::read(&image)?;
    for step in inside.walk() {
        let node = inside.node(step.id);
        if let (Some(content), None) = (node.content(), tree.find_ignoring_case(&step.path)) {
            tree.put_file(&step.path, content.clone(), node.meta)?;
        }
    }
    Ok(Some("the files of the media's UEFI image lie beside the others".into()))
}

fn as_disc(media: Media, path: Option<&Path>, wish: &StickWish<'_>, job: &Job<'_>) -> Result<StickPlan> {
    if wish.manager.is_some() {
        return Err(Error::request(
            "a boot manager is started from FAT32, and this stick would be a disc",
            "give --form fat32 too",
        ));
    }
    let own_code = media.partitions.as_ref().and_then(|table| table.boot_code.clone());
    let is_hybrid = media.partitions.is_some() && wish.boot_code.is_none() && media.form != MediaForm::Folder;
    let mut plan = if let Some(path) = path.filter(|path| is_hybrid && !path.is_dir()) {
        // It starts as a disk as it is.
        let source = Source::open(path)?;
        let extents: Vec<master::Extent> = media
            .tree
            .walk()
            .filter_map(|step| {
                let content = media.tree.node(step.id).content()?;
                Some((step.id, content.offset_in(&source)?, content.len()))
            })
            .collect();
        let disc = Content::from_source(source);
        StickPlan::of_disc(media.tree, &media.volume.label, &disc, &extents)?
    } else {
        let from_file = wish.boot_code.clone().map(BootCode::from_file);
        let found = || {
            let content = Content::from_path(Path::new(DISC_CODE)).ok()?;
            content.to_vec(512, "boot code").ok().map(BootCode::from_file)
        };
        let boot_code = from_file.or(own_code).or_else(found);
        let has_code = boot_code.is_some();
        let mut volume = media.volume.clone();
        if let Some(label) = wish.label {
            label.clone_into(&mut volume.label);
        }
        let label = volume.label.clone();
        let boot = default_boot(&media.tree, media.boot.clone(), wish.time)?;
        let tree = std::sync::Arc::new(media.tree);
        let options = master::Options {
            volume,
            time: wish.time,
            rock_ridge: true,
            boot,
            hybrid: Some(master::Hybrid { boot_code }),
            ..master::Options::default()
        };
        let disc = master::Plan::new(&tree, options, job)?;
        let (content, extents) = disc.to_content(&std::env::temp_dir(), job)?;
        let mut plan = StickPlan::of_disc((*tree).clone(), &label, &content, &extents)?;
        plan.notes.extend(disc.notes().iter().cloned());
        if !has_code {
            plan.notes.push(format!(
                "there is no boot code for BIOS, so it starts only on UEFI: give --boot-code, or install what has {DISC_CODE}"
            ));
        }
        plan
    };
    plan.notes
        .insert(0, "its BIOS loader reads discs, so the stick is a disc that also starts as a disk".into());
    if let Some(len) = wish.len
        && len < plan.len
    {
        return Err(Error::request(
            format!("a stick of {len} bytes is too small: {} are needed", plan.len),
            "use a larger size",
        ));
    }
    Ok(plan)
}

/// Works out what has to be written to the stick in `stick` so that it holds what is on `media`. Also whether, and into
/// how many parts, an image file is split.
///
/// # Errors
/// `Request` for what cannot be on such a stick.
pub fn plan_stick_update(
    media: Media,
    stick: &Path,
    options: UpdateOptions,
    job: &Job<'_>,
) -> Result<StickUpdate> {
    let mut tree = media.tree;
    let split = fit_fat32(&mut tree, job)?;
    let from_image = add_uefi_files(&mut tree, media.boot.as_ref())?;
    let mut plan = plan_update(&Source::open(stick)?, &tree, options, job)
        .map_err(|error| error.within(stick.display()))?;
    plan.notes.extend(from_image);
    plan.notes.extend(split.map(|(path, parts)| split_note(&path, parts)));
    Ok(plan)
}

fn split_note(path: &str, parts: usize) -> String {
    format!("{path} is split into {parts} parts, as FAT32 holds files below 4 GiB")
}

/// Ids from what is on the stick: its names, sizes and times.
fn seed_of(tree: &Tree, label: &str, len: Option<u64>) -> [u8; 32] {
    let mut text = format!("{label}\n{len:?}\n");
    for step in tree.walk() {
        let node = tree.node(step.id);
        let size = node.content().map_or(0, Content::len);
        text += &format!("{} {size} {}\n", step.path, node.meta.modified.seconds);
    }
    *blake3::hash(text.as_bytes()).as_bytes()
}

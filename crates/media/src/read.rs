//! Opening a media, whatever it is.

use crate::{
    Limits, Media, MediaForm, Platform, TreeKind, TreesFound, VolumeIdentity, disk, eltorito, folder,
    iso9660, stick, udf,
};
use neat_content::{Error, ReadAt, Result, Source, damage_apart};
use std::{path::Path, sync::Arc};

/// A UDF tree with fewer files than this is compared with the ISO 9660 tree: one of the two may only hold a note
/// that the other is to be used.
const STUB_FILES: u64 = 8;

/// Opens the media at `path`: an ISO file (or any file with its file systems), a stick or its image, or a folder.
///
/// # Errors
/// `Io`, `Corrupt` with field and offset, `Unsupported`, and `Mismatch` for what is no media.
pub fn open(path: &Path) -> Result<Media> {
    open_with(path, &Limits::default())
}

/// As [`open`], with limits of the caller's.
///
/// # Errors
/// As [`open`]; `LimitExceeded` for a media with more than the limits allow.
pub fn open_with(path: &Path, limits: &Limits) -> Result<Media> {
    if path.is_dir() {
        return folder::open_with(path, limits);
    }
    let source = Source::open(path)?;
    open_source(&source, limits).map_err(|error| error.within(path.display()))
}

/// Whether the file begins like a disc: the cheap test that decides what a file is.
///
/// # Errors
/// `Io`.
pub fn is_disc(source: &Arc<Source>) -> Result<bool> {
    let descriptors = iso9660::read::read_descriptors(source)?;
    Ok(descriptors.primary.is_some() || udf::volume::is_announced(source)?)
}

/// Whether the file is a stick's image: the cheap test that decides what a file is.
///
/// # Errors
/// `Io`.
pub fn is_stick(source: &Arc<Source>) -> Result<bool> {
    Ok(stick::read::volume_extent(source)?.is_some())
}

fn open_source(source: &Arc<Source>, limits: &Limits) -> Result<Media> {
    let descriptors = iso9660::read::read_descriptors(source)?;
    let announced = udf::volume::is_announced(source)?;
    if descriptors.primary.is_none() && !announced {
        if let Some(media) = stick::read::open(source, limits)? {
            return Ok(media);
        }
        return Err(Error::bad_field(
            "VolumeDescriptor",
            "standard_identifier",
            16 * 2048 + 1,
            "CD001, a UDF recognition sequence or a FAT file system",
            "neither",
        ));
    }
    let mut warnings = Vec::new();
    let volume = match announced.then(|| damage_apart(udf::read::read(source, limits))).transpose()? {
        None => None,
        Some(Ok(volume)) => Some(volume),
        // A bridge whose UDF side is damaged may still be read from the other; a plain UDF disc may not.
        Some(Err(error)) if descriptors.primary.is_none() => return Err(error),
        Some(Err(error)) => {
            warnings.push(format!("the UDF tree cannot be read ({error}); the ISO 9660 side is used"));
            None
        }
    };
    let udf_is_rich = volume.as_ref().is_some_and(|volume| volume.tree.counts().files >= STUB_FILES);
    let mut found = TreesFound {
        iso9660: descriptors.primary.is_some(),
        joliet: descriptors.joliet.is_some(),
        rock_ridge: false,
        udf: volume.as_ref().map(|volume| volume.revision),
        chosen: TreeKind::Udf,
    };
    let mut iso = None;
    if let Some(primary) = &descriptors.primary {
        found.rock_ridge = iso9660::read::has_rock_ridge(source, primary)?;
        if !udf_is_rich {
            iso = Some(read_iso(source, primary, descriptors.joliet.as_ref(), found.rock_ridge, limits)?);
        }
    }
    let mut identity = descriptors.primary.as_ref().map(iso9660::read::identity).unwrap_or_default();
    let tree = choose(volume, iso, &mut found, &mut identity, &mut warnings)?;
    if let Some(joliet) = descriptors.joliet.as_ref().filter(|_| identity.label.is_empty()) {
        identity.label = iso9660::read::joliet_label(joliet);
    }
    let boot = match descriptors.boot_catalog {
        Some((sector, at)) => Some(eltorito::read::read(source, sector, at, &tree)?),
        None => None,
    };
    let entries = boot.iter().flat_map(|catalog| &catalog.entries);
    let bios_image =
        entries.filter(|entry| entry.platform == Platform::BIOS).find_map(|entry| entry.location);
    let partitions = damage_apart(disk::read(source, bios_image))?.unwrap_or_else(|error| {
        warnings.push(format!("the partition table is not used: {error}"));
        None
    });
    Ok(Media {
        form: MediaForm::Disc,
        tree,
        volume: identity,
        trees: found,
        boot,
        partitions,
        size: source.len(),
        warnings,
        private: source.is_private(),
    })
}

fn read_iso(
    source: &Arc<Source>,
    primary: &iso9660::layout::VolumeDescriptor,
    joliet: Option<&iso9660::layout::VolumeDescriptor>,
    rock_ridge: bool,
    limits: &Limits,
) -> Result<iso9660::read::ReadTree> {
    match joliet {
        // Rock Ridge holds the names as they were; Joliet is better than what ISO 9660 makes of them.
        Some(joliet) if !rock_ridge => iso9660::read::read_tree(source, joliet, TreeKind::Joliet, limits),
        _ => iso9660::read::read_tree(source, primary, TreeKind::Iso9660, limits),
    }
}

/// The tree with more files, UDF where they have equally many.
fn choose(
    volume: Option<udf::read::ReadVolume>,
    iso: Option<iso9660::read::ReadTree>,
    found: &mut TreesFound,
    identity: &mut VolumeIdentity,
    warnings: &mut Vec<String>,
) -> Result<neat_content::Tree> {
    let iso = iso.filter(|iso| {
        volume.as_ref().is_none_or(|volume| iso.tree.counts().files > volume.tree.counts().files)
    });
    match (volume, iso) {
        (_, Some(iso)) => {
            found.chosen = iso.kind;
            warnings.extend(iso.warnings);
            Ok(iso.tree)
        }
        (Some(volume), None) => {
            if !volume.label.is_empty() {
                identity.label = volume.label;
            }
            warnings.extend(volume.warnings);
            Ok(volume.tree)
        }
        (None, None) => {
            Err(Error::bad_field("VolumeDescriptor", "root", 16 * 2048, "a tree that can be read", "none"))
        }
    }
}

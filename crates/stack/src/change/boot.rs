//! Boot entries of a media that keeps its own way of starting.

use neat_content::{Error, Result, Timestamp, Tree};
use neat_media::{BootCatalog, BootImage, Platform, eltorito::find};

/// The catalog that `tree` is mastered with: the one it came with, completed by images that are where media keep
/// them; `None` when there is nothing to start.
pub fn default_boot(tree: &Tree, own: Option<BootCatalog>, time: Timestamp) -> Result<Option<BootCatalog>> {
    let own = own.filter(|catalog| !catalog.entries.is_empty());
    let Some(mut catalog) = own else {
        return Ok(find::find(tree, time)?.into_catalog());
    };
    for entry in &catalog.entries {
        if let BootImage::File(path) = &entry.image
            && tree.file(path).is_none()
        {
            return Err(Error::request(
                format!("the media boots from {path}, which is no longer on it"),
                "put the file back, or name another boot image",
            ));
        }
    }
    // A media that only starts on BIOS and carries a UEFI loader gains an image for it.
    if !catalog.entries.iter().any(|entry| entry.platform == Platform::UEFI) {
        catalog.entries.extend(find::find(tree, time)?.uefi);
    }
    Ok(Some(catalog))
}

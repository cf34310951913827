//! Whether a disk may be erased.

use crate::disks::{BLOCK_LEN, Disk};
use neat_content::{Advice, Error, Hint, Result};
use std::path::Path;

/// What a person said about the disk.
#[derive(Clone, Copy, Debug, Default)]
pub struct Consent<'a> {
    /// The serial number, or the model where it has none, that was given for erasing.
    pub named: Option<&'a str>,
    /// Whether a disk that cannot be taken out may be erased too.
    pub fixed: bool,
}

/// What a disk is called when it is to be erased: its serial number, or its model where it has none.
pub fn erase_word(disk: &Disk) -> &str {
    if disk.serial.is_empty() { &disk.model } else { &disk.serial }
}

/// Checks everything but the consent itself: whether anybody may ask for this disk.
///
/// # Errors
/// `Refused`, with the reason.
pub fn check_use(disk: &Disk, fixed: bool) -> Result<()> {
    let name = disk.path.display();
    let refuse = |message: String, hint: Hint| Err(Error::refused(message, hint));
    if disk.system {
        return refuse(
            format!("{name} is the disk that this system runs on"),
            "name another disk; this one is never erased".into(),
        );
    }
    if let Some(place) = disk.mounted.first() {
        return refuse(format!("{name} is mounted at {place}"), "unmount it first".into());
    }
    if let Some(user) = disk.used_by.first() {
        return refuse(format!("{name} is in use by {user}"), "stop what uses it first".into());
    }
    if disk.read_only {
        return refuse(format!("{name} cannot be written"), "move its lock, or use another stick".into());
    }
    check_blocks(&disk.path, disk.block_len)?;
    if !disk.removable && !fixed {
        return refuse(format!("{name} is not a disk that can be taken out"), Advice::FixedDisk.into());
    }
    Ok(())
}

/// Checks that blocks have the one size that sticks of ours have; by what sysfs says, and again by the open device.
pub(crate) fn check_blocks(path: &Path, block_len: u64) -> Result<()> {
    if block_len == BLOCK_LEN {
        return Ok(());
    }
    Err(Error::refused(
        format!(
            "{} has blocks of {block_len} bytes, and a stick that every firmware starts has blocks of {BLOCK_LEN}",
            path.display()
        ),
        "use another stick",
    ))
}

/// Checks that the disk may be erased and that this very disk was named.
///
/// # Errors
/// `Refused`, with the reason and what to say.
pub fn check(disk: &Disk, consent: Consent<'_>) -> Result<()> {
    check_use(disk, consent.fixed)?;
    check_named(disk, consent.named, |word| {
        Error::refused(
            format!(
                "everything on {} ({}, {} MiB) would be erased",
                disk.path.display(),
                disk.model,
                disk.size >> 20
            ),
            Advice::EraseWord(word.to_owned()),
        )
    })
}

/// Checks the consent to changing files on a disk.
///
/// # Errors
/// `Refused`, with the word that is wanted.
pub fn check_change(disk: &Disk, named: Option<&str>) -> Result<()> {
    check_named(disk, named, |word| {
        Error::refused(
            format!(
                "files on {} ({}, {} MiB) would be changed",
                disk.path.display(),
                disk.model,
                disk.size >> 20
            ),
            format!("give --yes-change {word} if that is meant, or --dry-run to see what would be"),
        )
    })
}

fn check_named(disk: &Disk, named: Option<&str>, missing: impl Fn(&str) -> Error) -> Result<()> {
    let word = erase_word(disk);
    let name = disk.path.display();
    if word.is_empty() {
        return Err(Error::refused(
            format!("{name} has neither a serial number nor a model to name it by"),
            "write an image file and copy it there with a program of your choice",
        ));
    }
    match named {
        Some(named) if named == word => Ok(()),
        Some(named) => Err(Error::refused(format!("{name} is {word}, not {named}"), Advice::ListDevices)),
        None => Err(missing(word)),
    }
}

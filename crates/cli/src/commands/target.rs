//! Where a stick is written: an image file, a device, or a simulated one.

use crate::args::DeviceArgs;
use neat_content::{Error, Result, is_device_path};
use neat_device::{
    Device,
    block::BlockDevice,
    disks::{self, Disk},
    simulated::{self, Simulated},
};
use std::{
    os::unix::fs::FileTypeExt,
    path::{Path, PathBuf},
};

/// Where a stick goes.
pub(super) enum Target {
    Image,
    Device(Box<Disk>),
}

impl Target {
    /// What `to` is.
    pub(super) fn of(to: &Path, args: &DeviceArgs) -> Result<Self> {
        if let Some(folder) = &args.simulated {
            let disk = disks::simulated(folder)?.into_iter().find(|disk| disk.path == to);
            return disk.map(|disk| Self::Device(Box::new(disk))).ok_or_else(|| {
                Error::request(
                    format!("no device {} is described in {}", to.display(), folder.display()),
                    "`neatstack stick --list --simulated DIR` shows which there are",
                )
            });
        }
        let is_device = std::fs::metadata(to).is_ok_and(|found| found.file_type().is_block_device());
        if !is_device {
            if is_device_path(to) {
                return Err(Error::request(
                    format!("{} is not a disk, nor a place for files", to.display()),
                    "`neatstack stick --list` shows which there are",
                ));
            }
            return Ok(Self::Image);
        }
        let path = to.canonicalize().map_err(Error::io("follow", to))?;
        let disk = disks::list(&disks::Places::default())?.into_iter().find(|disk| disk.path == path);
        disk.map(|disk| Self::Device(Box::new(disk))).ok_or_else(|| {
            Error::refused(
                format!("{} is a part of a disk or something made of disks", to.display()),
                "name the whole disk, as `neatstack stick --list` shows it",
            )
        })
    }
}

/// Opens a device whose erasing or changing is agreed.
pub(super) fn open(disk: &Disk, args: &DeviceArgs) -> Result<Box<dyn Device>> {
    Ok(match &args.simulated {
        Some(folder) => Box::new(Simulated::open(folder, &disk.path.to_string_lossy())?),
        None => Box::new(BlockDevice::open(&disk.path)?),
    })
}

/// Where the bytes of a device are.
pub(super) fn bytes_of(disk: &Disk, args: &DeviceArgs) -> PathBuf {
    match &args.simulated {
        Some(folder) => simulated::bytes_path(folder, &disk.path.to_string_lossy()),
        None => disk.path.clone(),
    }
}

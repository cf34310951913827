//! Finding boot images where media usually keep them.

use crate::{BootCatalog, BootEntry, BootImage, Emulation, ImagePatch, Platform, fat};
use neat_content::{Error, Meta, Result, Timestamp, Tree};

/// How a loader wants to be started.
struct Place {
    path: &'static str,
    /// Sectors of 512 bytes; 0 stands for the whole image.
    load_sectors: u16,
    patch: ImagePatch,
}

const PLAIN: ImagePatch = ImagePatch { boot_info_table: false, block_pointer: false };
const TABLE: ImagePatch = ImagePatch { boot_info_table: true, block_pointer: false };
const TABLE_AND_POINTER: ImagePatch = ImagePatch { boot_info_table: true, block_pointer: true };

/// Where BIOS images are, in the order of preference.
const BIOS_PLACES: [Place; 6] = [
    Place { path: "boot/etfsboot.com", load_sectors: 8, patch: PLAIN },
    Place { path: "boot/bios.img", load_sectors: 0, patch: PLAIN },
    Place { path: "isolinux/isolinux.bin", load_sectors: 4, patch: TABLE },
    Place { path: "boot/isolinux/isolinux.bin", load_sectors: 4, patch: TABLE },
    Place { path: "isolinux.bin", load_sectors: 4, patch: TABLE },
    Place { path: "boot/grub/i386-pc/eltorito.img", load_sectors: 4, patch: TABLE_AND_POINTER },
];

/// Where UEFI images are; `*` stands for any one folder.
const UEFI_PLACES: [&str; 5] =
    ["efi/*/boot/efisys.bin", "boot/uefi.img", "boot/grub/efi.img", "efi/boot/efiboot.img", "efi.img"];

/// Where boot images are looked for, for people: of BIOS, then of UEFI.
pub fn places() -> [String; 2] {
    let bios: Vec<&str> = BIOS_PLACES.iter().map(|place| place.path).collect();
    [bios.join(", "), format!("EFI/BOOT/BOOTX64.EFI, {}", UEFI_PLACES.join(", "))]
}

/// Images found in a tree.
#[derive(Clone, Debug, Default)]
pub struct Found {
    /// The BIOS image's path and how it is started.
    pub bios: Option<BootEntry>,
    /// The UEFI image, or one made here.
    pub uefi: Option<BootEntry>,
}

impl Found {
    /// The entries in the order they belong into a catalog.
    pub fn into_catalog(self) -> Option<BootCatalog> {
        let entries: Vec<_> = self.bios.into_iter().chain(self.uefi).collect();
        (!entries.is_empty()).then(|| BootCatalog { entries, ..BootCatalog::default() })
    }
}

/// Looks for boot images. A UEFI image is made from `EFI/BOOT/BOOT*.EFI` when there is none; `time` stands in its
/// directories.
///
/// # Errors
/// `Io`, and `BadRequest` for loaders that no FAT file system holds.
pub fn find(tree: &Tree, time: Timestamp) -> Result<Found> {
    let bios = BIOS_PLACES.iter().find_map(|place| {
        let id = tree.find_ignoring_case(place.path)?;
        let len = tree.node(id).content().filter(|content| !content.is_empty())?.len();
        let load_sectors = if place.load_sectors == 0 { sectors(len) } else { place.load_sectors };
        Some(BootEntry {
            load_sectors,
            patch: place.patch,
            ..plain(Platform::BIOS, BootImage::File(tree.path(id)))
        })
    });
    let uefi = match UEFI_PLACES.iter().find_map(|place| find_pattern(tree, place)) {
        Some(path) => Some(uefi_entry(tree, &path)?),
        None => make_uefi_image(tree, time)?,
    };
    Ok(Found { bios, uefi })
}

/// A no-emulation entry with nothing special about it.
pub fn plain(platform: Platform, image: BootImage) -> BootEntry {
    BootEntry {
        platform,
        bootable: true,
        emulation: Emulation::None,
        load_segment: 0,
        system_type: 0,
        load_sectors: 4,
        image,
        location: None,
        patch: ImagePatch::default(),
    }
}

/// How the BIOS image at `path` is usually started, known by its name; else loaded whole.
///
/// # Errors
/// `BadRequest` when there is no such file; `Io`.
pub fn bios_entry(tree: &Tree, path: &str) -> Result<BootEntry> {
    let len = image_len(tree, path)?;
    let name = |path: &str| path.rsplit('/').next().unwrap_or_default().to_ascii_lowercase();
    let place = BIOS_PLACES.iter().find(|place| name(place.path) == name(path));
    let (load_sectors, patch) = place.map_or((0, PLAIN), |place| (place.load_sectors, place.patch));
    let load_sectors = if load_sectors == 0 { sectors(len) } else { load_sectors };
    Ok(BootEntry { load_sectors, patch, ..plain(Platform::BIOS, BootImage::File(path.to_owned())) })
}

/// An entry for the UEFI image at `path`.
///
/// # Errors
/// `BadRequest` when there is no such file; `Io`.
pub fn uefi_entry(tree: &Tree, path: &str) -> Result<BootEntry> {
    let load_sectors = sectors(image_len(tree, path)?);
    Ok(BootEntry { load_sectors, ..plain(Platform::UEFI, BootImage::File(path.to_owned())) })
}

fn image_len(tree: &Tree, path: &str) -> Result<u64> {
    tree.file(path).map(neat_content::Content::len).ok_or_else(|| {
        Error::request(
            format!("there is no boot image {path} on the media"),
            "give the path of a file that is on the media",
        )
    })
}

/// Blocks of 512 bytes; 0, which firmware takes as "to the end", when 16 bits cannot hold them.
pub(crate) fn sectors(len: u64) -> u16 {
    u16::try_from(len.div_ceil(512)).unwrap_or(0)
}

fn find_pattern(tree: &Tree, pattern: &str) -> Option<String> {
    let is_file = |path: &str| tree.file(path).is_some_and(|content| !content.is_empty());
    let Some((front, back)) = pattern.split_once("/*/") else {
        let id = tree.find_ignoring_case(pattern)?;
        return is_file(pattern).then(|| tree.path(id));
    };
    let folder = tree.find_ignoring_case(front)?;
    tree.node(folder).folder()?.children().find_map(|child| {
        let path = format!("{}/{back}", tree.path(child));
        is_file(&path).then(|| tree.find_ignoring_case(&path).map(|id| tree.path(id)))?
    })
}

fn make_uefi_image(tree: &Tree, time: Timestamp) -> Result<Option<BootEntry>> {
    let Some(folder) = tree.find_ignoring_case("efi/boot") else { return Ok(None) };
    let mut loaders = Tree::new(Meta::at(time));
    let children = tree.node(folder).folder().into_iter().flat_map(neat_content::Folder::children);
    for child in children {
        let node = tree.node(child);
        let name = node.name().to_ascii_uppercase();
        // The removable-media names of the UEFI specification (3.5.1.1).
        if let Some(content) = node.content()
            && name.starts_with("BOOT")
            && name.ends_with(".EFI")
        {
            loaders.put_file(&format!("EFI/BOOT/{name}"), content.clone(), Meta::at(time))?;
        }
    }
    if loaders.counts().files == 0 {
        return Ok(None);
    }
    let image = fat::write::image(
        &loaders,
        &fat::write::Options { label: "UEFI BOOT".into(), time, ..Default::default() },
    )?;
    let load_sectors = sectors(image.len());
    Ok(Some(BootEntry { load_sectors, ..plain(Platform::UEFI, BootImage::Hidden(image)) }))
}

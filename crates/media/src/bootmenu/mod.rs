//! Menus of media that boot kernels, in the forms that boot loaders read.

pub mod cpio;
mod grub;
mod isolinux;

pub use grub::grub_config;
pub use isolinux::isolinux_config;

use neat_content::{Error, Result};

/// What happens when nobody chooses.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OnTimeout {
    /// The next boot device is started, so that a machine left alone is not installed again.
    #[default]
    Disk,
    /// The default entry is started.
    Default,
    /// The menu waits for ever.
    Wait,
}

/// A menu.
#[derive(Clone, Debug, Default)]
pub struct Menu {
    /// Shown above the entries.
    pub title: String,
    /// What can be chosen.
    pub entries: Vec<MenuEntry>,
    /// Number of the entry that is highlighted first.
    pub default: usize,
    /// How long the menu waits, in seconds.
    pub timeout_seconds: u32,
    /// What happens then.
    pub on_timeout: OnTimeout,
    /// Speed of the first serial port in bits per second, when the menu shall show there too.
    pub serial_speed: Option<u32>,
    /// Whether the graphical shell of the BIOS loader's menu module is on the media.
    pub menu_module: bool,
}

/// What an entry starts.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Starts {
    /// A kernel.
    #[default]
    Kernel,
    /// A boot image, as BIOS starts it from a disc. UEFI has none.
    BootImage,
}

/// One entry of a menu.
#[derive(Clone, Debug, Default)]
pub struct MenuEntry {
    /// Short name: lower-case letters, digits and `_`.
    pub id: String,
    /// What a person reads.
    pub title: String,
    /// What it starts.
    pub starts: Starts,
    /// Path of the kernel, or of the boot image, on the media, from its root, without a leading `/`.
    pub kernel: String,
    /// Paths of the initial RAM disks, in order.
    pub initrds: Vec<String>,
    /// The kernel's command line.
    pub options: String,
}

/// Label of the entry that starts the next boot device.
const DISK_ID: &str = "disk";
const DISK_TITLE: &str = "Start from the hard disk";

impl Menu {
    /// Checks what no loader could read: an empty menu, names and paths that need quoting, line ends.
    ///
    /// # Errors
    /// `BadRequest` for each of them, with the entry.
    pub fn check(&self) -> Result<()> {
        let hint = "change it in the [menu] section";
        if self.entries.is_empty() {
            return Err(Error::request(
                "a menu needs at least one entry",
                "add a [[menu.entry]] with a title and a kernel",
            ));
        }
        for (number, entry) in self.entries.iter().enumerate() {
            let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
            if entry.id.is_empty()
                || entry.id.len() > 24
                || !entry.id.chars().all(plain)
                || entry.id == DISK_ID
            {
                return Err(Error::request(
                    format!("{:?} cannot be the id of a menu entry", entry.id),
                    "use 1 to 24 lower-case letters, digits and _, and not `disk`",
                ));
            }
            if self.entries[..number].iter().any(|other| other.id == entry.id) {
                return Err(Error::request(format!("two menu entries have the id {}", entry.id), hint));
            }
            let path_ok =
                |path: &String| path.chars().all(|c| c.is_ascii_graphic() && !"'\"\\,$;".contains(c));
            if let Some(path) =
                std::iter::once(&entry.kernel).chain(&entry.initrds).find(|path| !path_ok(path))
            {
                return Err(Error::request(
                    format!("boot loaders cannot read the path {path:?}"),
                    "use ASCII letters, digits, - _ . / only",
                ));
            }
        }
        let lines = self.entries.iter().flat_map(|entry| [&entry.title, &entry.options]).chain([&self.title]);
        if let Some(text) = lines.into_iter().find(|text| text.chars().any(char::is_control)) {
            return Err(Error::request(format!("{text:?} holds a line end or control character"), hint));
        }
        Ok(())
    }
}

#[cfg(test)]
pub(crate) fn sample() -> Menu {
    Menu {
        title: "Quay tools".into(),
        entries: vec![
            MenuEntry {
                id: "a".into(),
                title: "It's A".into(),
                kernel: "systems/a/linux".into(),
                initrds: vec!["systems/a/i1".into(), "systems/a/i2".into()],
                options: "quiet url=http://x/y?a=1;b $x".into(),
                ..MenuEntry::default()
            },
            MenuEntry {
                id: "b".into(),
                title: "B".into(),
                kernel: "systems/b/linux".into(),
                ..MenuEntry::default()
            },
        ],
        timeout_seconds: 5,
        ..Menu::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_loaders_cannot_read_is_refused() {
        assert!(sample().check().is_ok());
        let bad = |change: &dyn Fn(&mut Menu)| {
            let mut menu = sample();
            change(&mut menu);
            menu.check().is_err()
        };
        assert!(bad(&|menu| menu.entries.clear()));
        assert!(bad(&|menu| menu.entries[0].id = "disk".into()));
        assert!(bad(&|menu| menu.entries[1].id = "a".into()));
        assert!(bad(&|menu| menu.entries[1].id = "A-b".into()));
        assert!(bad(&|menu| menu.entries[0].kernel = "a b".into()));
        assert!(bad(&|menu| menu.entries[0].title = "a\nLABEL evil".into()));
        assert!(bad(&|menu| menu.entries[0].options = "a\n}".into()));
    }
}

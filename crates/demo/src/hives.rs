//! The registry of Quay OS 7.

use crate::{
    BUILD, RELEASED,
    components::{APPS, DRIVERS, FONTS, PACKAGES, TASKS, full_name, record_name},
};
use neat_content::{Error, Result};
use neat_image::Times;
use neat_registry::{Hive, KeyId, ValueKind, text_data, texts_data};

/// Owner and group are the system, and everybody may read: revision 1, self-relative, a list of two entries.
const DESCRIPTOR: [u8; 92] = [
    1, 0, 4, 0x80, 68, 0, 0, 0, 80, 0, 0, 0, 0, 0, 0, 0, 20, 0, 0, 0, // header, and where the parts lie
    2, 0, 48, 0, 2, 0, 0, 0, // the list: 48 bytes, two entries
    0, 2, 20, 0, 0x3F, 0, 0x0F, 0, 1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0, // the system: everything
    0, 2, 20, 0, 0x19, 0, 2, 0, 1, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, // everybody: reading
    1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0, // owner: the system
    1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0, // group: the system
];

type Service = (&'static str, &'static str, u32, u32, &'static str, &'static [&'static str], &'static str);

/// A service: name, title, type, start, group, what it needs, file.
const SERVICES: [Service; 10] = [
    ("QuayDisk", "Quay disk driver", 1, 0, "Boot Bus", &[], "System32\\windlass.lib"),
    ("QuayNet", "Quay network driver", 1, 1, "Network", &[], "System32\\dock.lib"),
    ("HarbourRadio", "Harbour radio", 0x10, 2, "Network", &["QuayNet"], "%SystemRoot%\\System32\\radio.lib"),
    ("PrintSpool", "Print spooler", 0x10, 2, "Spooler", &["QuayNet"], "%SystemRoot%\\System32\\spooler.lib"),
    ("FaxDispatch", "Fax dispatch", 0x20, 3, "", &["PrintSpool"], "%SystemRoot%\\System32\\dock.lib -k fax"),
    ("TicketLedger", "Ticket ledger", 0x10, 2, "", &["QuayNet"], "%SystemRoot%\\System32\\ledger.lib"),
    ("WinchMonitor", "Winch monitor", 0x10, 2, "", &["HarbourRadio"], "%SystemRoot%\\System32\\winch.lib"),
    ("UsageReport", "Usage report", 0x20, 2, "", &["QuayNet"], "%SystemRoot%\\System32\\dock.lib -k usage"),
    ("ClockKeeper", "Clock keeper", 0x20, 3, "", &[], "%SystemRoot%\\System32\\dock.lib -k clock"),
    (
        "ShareFolders",
        "Shared folders",
        0x20,
        2,
        "",
        &["QuayNet"],
        "%SystemRoot%\\System32\\dock.lib -k share",
    ),
];

struct Maker {
    hive: Hive,
}

impl Maker {
    fn new(root: &str) -> Self {
        Self { hive: Hive::new(5, root, &DESCRIPTOR, Times::from_timestamp(RELEASED)) }
    }

    fn key(&mut self, path: &str) -> Result<KeyId> {
        self.hive.create(path).map_err(failed)
    }

    fn set(&mut self, path: &str, name: &str, kind: ValueKind, data: &[u8]) -> Result<()> {
        let key = self.key(path)?;
        self.hive.set(key, name, kind, data).map(drop).map_err(failed)
    }

    fn text(&mut self, path: &str, name: &str, text: &str) -> Result<()> {
        self.set(path, name, ValueKind::TEXT, &text_data(text))
    }

    fn number(&mut self, path: &str, name: &str, number: u32) -> Result<()> {
        self.set(path, name, ValueKind::NUMBER, &number.to_le_bytes())
    }
}

fn failed(error: neat_registry::BadName) -> Error {
    Error::internal(format!("the demo's registry: {error}"))
}

/// A file and its bytes.
type HiveFile = (&'static str, Vec<u8>);

/// The hives of an edition.
pub(crate) fn of_edition(word: &str, apps: &[&str]) -> Result<Vec<HiveFile>> {
    let mut user = Maker::new("NTUSER");
    user.text("Control Panel\\Desktop", "WallPaper", "C:\\Quay\\Web\\Wallpaper\\Coast\\dawn.img")?;
    user.set("Control Panel\\Desktop", "PreferredUILanguages", ValueKind::TEXTS, &texts_data(&["en-GB"]))?;
    user.text("Control Panel\\International", "LocaleName", "en-GB")?;
    user.text("Keyboard Layout\\Preload", "1", "00000809")?;
    user.number("Software\\Brackwater\\Files", "HideEndings", 1)?;
    user.number("Software\\Brackwater\\Files", "ShowHidden", 0)?;
    user.number("Software\\Brackwater\\Desktop", "Tips", 1)?;
    Ok(vec![
        ("Quay/System32/config/SOFTWARE", software(word, apps)?.write()?),
        ("Quay/System32/config/SYSTEM", system()?.write()?),
        ("Quay/System32/config/DEFAULT", system_user()?.write()?),
        ("Users/Default/NTUSER.DAT", user.hive.write()?),
    ])
}

/// The hives of the setup environment.
pub(crate) fn of_setup() -> Result<Vec<HiveFile>> {
    let mut software = Maker::new("SOFTWARE");
    software.set(
        "Microsoft\\Windows\\CurrentVersion",
        "DevicePath",
        ValueKind::EXPANDED,
        &text_data("%SystemRoot%\\inf"),
    )?;
    Ok(vec![
        ("Quay/System32/config/SOFTWARE", software.hive.write()?),
        ("Quay/System32/config/SYSTEM", system()?.write()?),
        ("Quay/System32/config/DEFAULT", system_user()?.write()?),
    ])
}

/// The account that the system itself has.
fn system_user() -> Result<Hive> {
    let mut user = Maker::new("DEFAULT");
    user.text("Control Panel\\International", "LocaleName", "en-GB")?;
    user.set("Control Panel\\Desktop", "PreferredUILanguages", ValueKind::TEXTS, &texts_data(&["en-GB"]))?;
    user.text("Keyboard Layout\\Preload", "1", "00000809")?;
    Ok(user.hive)
}

/// The store of a boot manager that finds its entries in one. The demo's own boot code has one entry and reads none.
pub(crate) fn boot_store() -> Result<Vec<u8>> {
    const MANAGER: &str = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
    const SETUP: &str = "{0c51b9e0-2f6d-4a53-9d1c-7a6e00000001}";
    let mut store = Maker::new("BootStore");
    store.text("Description", "KeyName", "BCD00000000")?;
    for (id, kind) in [(MANAGER, 0x1010_0002), (SETUP, 0x1020_0003)] {
        store.number(&format!("Objects\\{id}\\Description"), "Type", kind)?;
    }
    let mut element = |id: &str, element: &str, kind: ValueKind, data: &[u8]| {
        store.set(&format!("Objects\\{id}\\Elements\\{element}"), "Element", kind, data)
    };
    element(MANAGER, "24000001", ValueKind::TEXTS, &texts_data(&[SETUP]))?;
    element(MANAGER, "23000003", ValueKind::TEXT, &text_data(SETUP))?;
    element(MANAGER, "25000004", ValueKind::BINARY, &30_u64.to_le_bytes())?;
    element(SETUP, "12000004", ValueKind::TEXT, &text_data("Quay OS 7 Setup"))?;
    element(SETUP, "12000002", ValueKind::TEXT, &text_data("\\quay\\system32\\kernel.lib"))?;
    // A device: bytes of some meaning around the path of the image file.
    let mut device = vec![0; 33];
    device.extend(text_data("\\sources\\boot.wim"));
    element(SETUP, "11000001", ValueKind::BINARY, &device)?;
    element(SETUP, "21000001", ValueKind::BINARY, &device)?;
    store.hive.write()
}

fn software(word: &str, apps: &[&str]) -> Result<Hive> {
    let mut hive = Maker::new("SOFTWARE");
    let version = "Microsoft\\Windows NT\\CurrentVersion";
    hive.text(version, "ProductName", "Quay OS 7")?;
    hive.text(version, "EditionID", word)?;
    hive.text(version, "CurrentBuild", &BUILD.to_string())?;
    hive.number(version, "CurrentMajorVersionNumber", 7)?;
    hive.number(version, "CurrentMinorVersionNumber", 0)?;
    hive.text(version, "InstallationType", "Client")?;
    let current = "Microsoft\\Windows\\CurrentVersion";
    hive.set(current, "DevicePath", ValueKind::EXPANDED, &text_data("%SystemRoot%\\inf"))?;
    hive.key(&format!("{current}\\RunOnce"))?;
    for (app, ..) in APPS.iter().filter(|(name, ..)| apps.contains(name)) {
        let key = format!("{current}\\Appx\\AppxAllUserStore\\Applications\\{}", full_name(app));
        let path = format!("%ProgramFiles%\\WindowsApps\\{}\\AppxManifest.xml", full_name(app));
        hive.text(&key, "Path", &path)?;
    }
    for (name, _, _, _, feature, _) in PACKAGES {
        let key = format!("{current}\\Component Based Servicing\\Packages\\{}", record_name(name));
        hive.number(&key, "CurrentState", 0x70)?;
        if let Some(on) = feature {
            hive.number(&format!("{key}\\Updates"), name, if on { 7 } else { 4 })?;
        }
    }
    for (path, number) in TASKS {
        let cache = "Microsoft\\Windows NT\\CurrentVersion\\Schedule\\TaskCache";
        let id = format!("{{00000000-0000-4000-8000-{number:012}}}");
        let path = path.replace('/', "\\");
        hive.text(&format!("{cache}\\Tree\\{path}"), "Id", &id)?;
        hive.text(&format!("{cache}\\Tasks\\{id}"), "Path", &format!("\\{path}"))?;
        hive.key(&format!("{cache}\\Plain\\{id}"))?;
    }
    for (file, name) in FONTS {
        hive.text("Microsoft\\Windows NT\\CurrentVersion\\Fonts", name, file)?;
    }
    hive.text("Brackwater\\Console", "Greeting", "Welcome aboard")?;
    hive.number("Brackwater\\Console", "SendUsage", 1)?;
    Ok(hive.hive)
}

fn system() -> Result<Hive> {
    let mut hive = Maker::new("SYSTEM");
    for (name, number) in [("Current", 1), ("Default", 1), ("Failed", 0), ("LastKnownGood", 1)] {
        hive.number("Select", name, number)?;
    }
    let set = "ControlSet001";
    hive.text(&format!("{set}\\Control\\Nls\\Language"), "Default", "0809")?;
    let environment = format!("{set}\\Control\\Session Manager\\Environment");
    hive.text(&environment, "PROCESSOR_ARCHITECTURE", "AMD64")?;
    for language in ["de-DE", "en-GB", "nb-NO"] {
        hive.number(&format!("{set}\\Control\\MUI\\UILanguages\\{language}"), "Type", 0x91)?;
    }
    for (name, title, kind, start, group, needs, file) in SERVICES {
        let key = format!("{set}\\Services\\{name}");
        hive.text(&key, "DisplayName", title)?;
        hive.number(&key, "Type", kind)?;
        hive.number(&key, "Start", start)?;
        hive.number(&key, "ErrorControl", 1)?;
        hive.set(&key, "ImagePath", ValueKind::EXPANDED, &text_data(file))?;
        if !group.is_empty() {
            hive.text(&key, "Group", group)?;
        }
        if !needs.is_empty() {
            hive.set(&key, "DependOnService", ValueKind::TEXTS, &texts_data(needs))?;
        }
    }
    for (name, ..) in DRIVERS {
        hive.text(&format!("DriverDatabase\\DriverInfFiles\\{name}.inf"), "", &format!("{name}.inf"))?;
    }
    Ok(hive.hive)
}

//! What an edition of Quay OS 7 is made of, as files.

use crate::{RELEASED, words};
use neat_content::{Content, Meta, Result, Tree};

/// An app: name, title, what it needs, KiB.
pub(crate) const APPS: [(&str, &str, &[&str], usize); 11] = [
    ("card-games", "Card games", &["shared-ui"], 140),
    ("card-reader", "Card reader", &[], 90),
    ("chart-viewer", "Chart viewer", &["shared-ui", "tide-data"], 170),
    ("gauge-wall", "Gauge wall", &["shared-ui"], 120),
    ("news-stand", "News stand", &["shared-ui"], 80),
    ("radar-overlay", "Radar overlay", &["chart-viewer"], 130),
    ("shared-ui", "Shared user interface", &[], 60),
    ("ticket-desk", "Ticket desk", &["shared-ui", "card-reader"], 150),
    ("tide-data", "Tide data", &[], 110),
    ("tide-tables", "Tide tables", &["tide-data"], 70),
    ("weather-board", "Weather board", &["shared-ui"], 90),
];

type Package = (&'static str, &'static str, &'static str, &'static str, Option<bool>, usize);

/// An optional feature or package: name, title, description, parent, whether it is a feature that is on, KiB.
pub(crate) const PACKAGES: [Package; 8] = [
    ("directory-play", "Directory play", "Plays sound to visitors of a folder", "", Some(true), 40),
    ("fax-send", "Sending fax", "Sends fax messages over the harbour line", "printing", Some(true), 60),
    ("fax-receive", "Receiving fax", "Receives fax messages", "fax-send", Some(true), 50),
    ("printing", "Printing", "Prints tickets and lists", "printing-base", Some(true), 90),
    ("remote-hands", "Remote hands", "Lets the harbour office steer a console", "", Some(true), 70),
    ("telex", "Telex", "For the islands that still have it", "", Some(false), 30),
    ("printing-base", "Printing, base", "What everything that prints stands on", "", None, 20),
    ("sound-base", "Sound, base", "What everything that sounds stands on", "", None, 20),
];

/// A driver in the store: name, class, title, hardware id.
pub(crate) const DRIVERS: [(&str, &str, &str, &str); 3] = [
    ("quay-ide", "HDC", "Quay IDE controller", "PCI\\CC_0101"),
    ("quay-serial", "Ports", "Quay serial port", "ACPI\\PNP0501"),
    ("quay-vga", "Display", "Quay picture adapter", "PCI\\CC_0300"),
];

/// Scheduled tasks: path, and a number of its own.
pub(crate) const TASKS: [(&str, u8); 6] = [
    ("Brackwater/Count tickets", 1),
    ("Brackwater/Send log book", 2),
    ("Harbour/Ask for weather", 3),
    ("Harbour/Report usage", 4),
    ("System/Check disk", 5),
    ("System/Set clock", 6),
];

/// Fonts: file and name.
pub(crate) const FONTS: [(&str, &str); 6] = [
    ("harbour.fnt", "Harbour"),
    ("harbour-bold.fnt", "Harbour Bold"),
    ("harbour-wide.fnt", "Harbour Wide"),
    ("log-book.fnt", "Log Book"),
    ("signal-flags.fnt", "Signal Flags"),
    ("ticket-mono.fnt", "Ticket Mono"),
];

/// The full name of an app's folder and registration.
pub(crate) fn full_name(app: &str) -> String {
    format!("{app}_7.0.1.0_x64__bw7ferry")
}

/// The record's name of a package.
pub(crate) fn record_name(package: &str) -> String {
    format!("{package}~bw7ferry~amd64~~7.0.7042.0")
}

/// Puts everything that has files of its own.
pub(crate) fn put_all(tree: &mut Tree, apps: &[&str], factor: usize) -> Result<()> {
    for (name, title, needs, kib) in APPS.iter().filter(|(name, ..)| apps.contains(name)) {
        let folder = format!("Program Files/WindowsApps/{}", full_name(name));
        let needs: String = needs
            .iter()
            .map(|need| format!("    <PackageDependency Name=\"{need}\" MinVersion=\"7.0.0.0\" />\r\n"))
            .collect();
        let manifest = format!(
            "<?xml version=\"1.0\" encoding=\"utf-8\"?>\r\n<Package xmlns=\"urn:schemas-brackwater:app\">\r\n  <Identity Name=\"{name}\" Publisher=\"CN=Brackwater Ferries\" Version=\"7.0.1.0\" ProcessorArchitecture=\"x64\" />\r\n  <Properties>\r\n    <DisplayName>{title}</DisplayName>\r\n  </Properties>\r\n  <Dependencies>\r\n{needs}  </Dependencies>\r\n</Package>\r\n"
        );
        put(tree, &format!("{folder}/AppxManifest.xml"), manifest.into_bytes())?;
        let seed =
            name.bytes().fold(7, |seed: u64, byte| seed.wrapping_mul(31).wrapping_add(u64::from(byte)));
        put(tree, &format!("{folder}/{name}.app"), words::program(seed, kib * 1024 * factor))?;
        put(tree, &format!("{folder}/manual.txt"), words::prose(name, 20_000))?;
    }
    for (n, (name, title, about, parent, feature, kib)) in PACKAGES.iter().enumerate() {
        let parent = if parent.is_empty() {
            String::new()
        } else {
            format!("    <parent><assemblyIdentity name=\"{parent}\" /></parent>\r\n")
        };
        let update = match feature {
            Some(_) => format!("    <update name=\"{name}\" displayName=\"{title}\" />\r\n"),
            None => String::new(),
        };
        let record = format!(
            "<?xml version=\"1.0\" encoding=\"utf-8\"?>\r\n<assembly xmlns=\"urn:schemas-brackwater:package\" displayName=\"{title}\" description=\"{about}\">\r\n  <assemblyIdentity name=\"{name}\" version=\"7.0.7042.0\" processorArchitecture=\"amd64\" language=\"neutral\" />\r\n  <package identifier=\"{name}\" releaseType=\"Feature Pack\">\r\n{parent}{update}    <customInformation>\r\n      <file name=\"$(runtime.system32)\\{name}.lib\" />\r\n    </customInformation>\r\n  </package>\r\n</assembly>\r\n"
        );
        let base = format!("Quay/servicing/Packages/{}", record_name(name));
        put(tree, &format!("{base}.mum"), record.into_bytes())?;
        put(tree, &format!("{base}.cat"), words::noise(n as u64 + 900, 700))?;
        put(tree, &format!("Quay/System32/{name}.lib"), words::program(n as u64 + 300, kib * 1024 * factor))?;
    }
    for (n, (name, class, title, id)) in DRIVERS.into_iter().enumerate() {
        let inf = driver_inf(name, class, title, id);
        let folder = format!("Quay/System32/DriverStore/FileRepository/{name}.inf_amd64_0123456789abcdef");
        put(tree, &format!("{folder}/{name}.inf"), inf.clone().into_bytes())?;
        put(tree, &format!("{folder}/{name}.sys"), words::program(n as u64 + 40, 30_000))?;
        put(tree, &format!("Quay/INF/{name}.inf"), inf.into_bytes())?;
    }
    for (path, number) in TASKS {
        let task = format!(
            "<?xml version=\"1.0\" encoding=\"utf-8\"?>\r\n<Task xmlns=\"urn:schemas-brackwater:task\">\r\n  <Actions><Exec><Command>dock.lib</Command><Arguments>{number}</Arguments></Exec></Actions>\r\n</Task>\r\n"
        );
        put(tree, &format!("Quay/System32/Tasks/{path}"), task.into_bytes())?;
    }
    for (n, (file, _)) in FONTS.iter().enumerate() {
        put(tree, &format!("Quay/Fonts/{file}"), words::noise(n as u64 + 400, 24_000))?;
    }
    for language in ["de-DE", "en-GB", "nb-NO"] {
        put(
            tree,
            &format!("Quay/System32/{language}/messages.txt"),
            words::prose(language, 60_000 * factor),
        )?;
        put(
            tree,
            &format!("Quay/System32/{language}/help.txt"),
            words::prose(&format!("help-{language}"), 30_000),
        )?;
    }
    for (n, name) in ["lighthouse", "rain-on-deck"].into_iter().enumerate() {
        put(tree, &format!("Quay/System32/{name}.scr"), words::program(n as u64 + 70, 45_000))?;
    }
    for (n, name) in ["Coast/dawn.img", "Coast/noon.img", "Harbour/night.img"].iter().enumerate() {
        put(tree, &format!("Quay/Web/Wallpaper/{name}"), words::noise(n as u64 + 77, 60_000 * factor))?;
    }
    Ok(())
}

/// The INF file of a driver with one device.
pub(crate) fn driver_inf(name: &str, class: &str, title: &str, id: &str) -> String {
    format!(
        "; {title}\r\n[Version]\r\nSignature = \"$WINDOWS NT$\"\r\nClass = {class}\r\nClassGuid = {{4d36e96a-0000-4000-8000-{:012}}}\r\nProvider = %maker%\r\nDriverVer = 03/02/2026, 7.0.7042.0\r\n\r\n[Manufacturer]\r\n%maker% = Models, NTamd64\r\n\r\n[Models.NTamd64]\r\n%title% = Install, {id}\r\n\r\n[Install.NTamd64]\r\nCopyFiles = @{name}.sys\r\n\r\n[SourceDisksNames]\r\n1 = %title%\r\n\r\n[SourceDisksFiles]\r\n{name}.sys = 1\r\n\r\n[Strings]\r\nmaker = \"Brackwater Ferries\"\r\ntitle = \"{title}\"\r\n",
        class.len() * 1_000_003
    )
}

/// A file of the system with these bytes.
pub(crate) fn put(tree: &mut Tree, path: &str, bytes: Vec<u8>) -> Result<()> {
    tree.put_file(path, Content::from_bytes(bytes), Meta::at(RELEASED)).map(drop)
}

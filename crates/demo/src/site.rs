//! What the technician of Brackwater Ferries brings: an answer file, site files and the stack file.

use crate::{DISK_BOOT_CODE, MEDIA_NAME, RELEASED, STACK_NAME};
use neat_content::{Content, Encoding, Meta, Result, Tree};

const STACK: &str = r#"# The bridge consoles of Brackwater Ferries.
# `neatstack plan bridge.stack.toml` shows what this does, `neatstack build bridge.stack.toml` does it.
title = "Bridge console"
# What is known of components besides what an edition tells by itself; settings and profiles.
catalogues = ["quay.catalogue.toml"]

[source]
media = "@MEDIA@"
# Consoles on the bridge need one of the three editions.
editions = ["Quay OS 7 Bridge"]

# All packages of a folder: sorted, older and replaced ones skipped. One is for another architecture.
[[update]]
from = "updates/"
optional = true

# Storage and network drivers, also for setup itself, so that it sees the disk.
[[driver]]
from = "drivers/keelson-s4"
into = ["system", "setup"]

# Everything else that this model has a device for; one pack lacks a file, and the media is built without it.
[[driver]]
from = "drivers/"
devices = "bridge-console.devices.txt"
optional = true

[remove]
profile = "lean"
components = ["feature/fax*", "screensaver/*"]
keep = ["app/chart-viewer"]

[settings]
use = ["show-file-endings"]
registry = ["site.reg"]
services = { "PrintSpool" = "manual" }
features = { "directory-play" = false, "telex" = true }
wallpaper = "site-files/wallpaper.bmp"

[settings.company]
name = "Brackwater Ferries"
phone = "Bridge 100"
hours = "When the ferry sails"

[settings.languages]
interface = "da-DK"
region = "da-DK"
keyboards = ["00000406", "00000809"]

# The telephone list on the disk of every console, and the charts on the media.
[[place]]
from = "site-files/telephone-list.txt"
to = "system:/Brackwater/"

[[place]]
from = "site-files/"
to = "media:/brackwater"

[[app]]
installer = "apps/chartview.exe"
arguments = "/quiet"

[[app]]
installer = "setup.cmd"
files = "apps/moorings"
when = "first-sign-in"

# Setup finds this in the root of the media and asks nothing.
[answer]
file = "bridge-answers.xml"

[media]
label = "BRIDGE_7"
iso = "out/bridge.iso"
publisher = "BRACKWATER FERRIES"
# The same file starts from a disc and, written to a stick, as a disk.
hybrid = true
boot_code = "boot-code.bin"
"#;

const CATALOGUE: &str = r#"# Components, settings and profiles of Quay OS 7.
format = 1
name = "Quay OS 7"
products = ["Quay OS"]

[[component]]
id = "app/chart-viewer"
description = "Shows charts, with the position from the harbour radio"
group = "Navigation"
needs = ["service/harbourradio"]

[[component]]
id = "app/radar-overlay"
description = "Lays the radar's picture over the charts"
group = "Navigation"

[[component]]
id = "app/card-games"
description = "For quiet nights in the harbour"
group = "Leisure"

[[component]]
id = "app/news-stand"
group = "Leisure"

[[component]]
id = "app/shared-ui"
description = "What windows of apps are made of"
caution = "Most apps stop without it"

[[component]]
id = "service/usagereport"
description = "Tells the harbour office how the console is used"
needs = ["task/harbour-report-usage"]

[[component]]
id = "service/quaynet"
required = "the console is nothing without the network"

[[component]]
id = "feature/remote-hands"
caution = "The harbour office cannot help from afar without it"

[[component]]
id = "other/edition-note"
title = "Note about the edition"
files = ["{root}/Config"]

[[setting]]
id = "show-file-endings"
title = "Show the endings of file names"
value = [{ key = 'HKEY_CURRENT_USER\Software\Brackwater\Files', name = "HideEndings", value = 0 }]

[[setting]]
id = "show-hidden-files"
title = "Show hidden files"
value = [{ key = 'HKEY_CURRENT_USER\Software\Brackwater\Files', name = "ShowHidden", value = 1 }]

[[setting]]
id = "no-usage-report"
title = "Do not report how the console is used"
value = [{ key = 'HKEY_LOCAL_MACHINE\SOFTWARE\Brackwater\Console', name = "SendUsage", value = 0 }]

[profile.lean]
title = "Lean"
description = "Without leisure and reports"
remove = ["app/card-games", "app/news-stand", "service/usagereport", "task/harbour-report-usage"]
settings = ["no-usage-report"]

[profile.quiet]
title = "Quiet"
description = "Without sound and tips"
remove = ["feature/directory-play", "package/sound-base"]

[profile.bare]
title = "Bare"
description = "Nothing but what the console needs to sail"
remove = ["app/*", "feature/*", "screensaver/*", "wallpaper/*", "font/*"]
keep = ["app/chart-viewer", "font/harbour"]
"#;

const REGISTRY: &str = "Windows Registry Editor Version 5.00\r\n\r\n\
[HKEY_LOCAL_MACHINE\\SOFTWARE\\Brackwater\\Console]\r\n\"Greeting\"=\"Welcome to the bridge\"\r\n\"Volume\"=dword:00000003\r\n\r\n\
[HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\Services\\ClockKeeper]\r\n\"Start\"=dword:00000002\r\n\r\n\
[HKEY_CURRENT_USER\\Software\\Brackwater\\Desktop]\r\n\"Tips\"=-\r\n";

const ANSWERS: &str = r#"<?xml version="1.0" encoding="utf-8"?>
<unattend xmlns="urn:schemas-brackwater:unattend">
  <settings pass="setup">
    <component name="Quay-Setup" processorArchitecture="amd64">
      <DiskConfiguration>
        <Disk>
          <DiskID>0</DiskID>
          <WillWipeDisk>true</WillWipeDisk>
        </Disk>
      </DiskConfiguration>
      <ComputerName>BRIDGE-01</ComputerName>
      <TimeZone>Europe/London</TimeZone>
    </component>
  </settings>
</unattend>
"#;

/// The files, by their path in the demo folder.
pub(crate) fn tree() -> Result<Tree> {
    let meta = Meta::at(RELEASED);
    let mut tree = Tree::new(meta);
    let mut put = |path: &str, bytes: &[u8]| tree.put_file(path, Content::from_bytes(bytes), meta).map(drop);
    put(STACK_NAME, STACK.replace("@MEDIA@", MEDIA_NAME).as_bytes())?;
    put("quay.catalogue.toml", CATALOGUE.as_bytes())?;
    put("site.reg", &Encoding::Utf16Le.encode(REGISTRY))?;
    put("bridge-answers.xml", ANSWERS.as_bytes())?;
    put("boot-code.bin", DISK_BOOT_CODE)?;
    put("site-files/telephone-list.txt", b"Bridge 100\r\nEngine room 200\r\nHarbour office 300\r\n")?;
    put("site-files/charts/approach.txt", &crate::words::prose("approach", 12_000))?;
    put("site-files/wallpaper.bmp", &bitmap())?;
    Ok(tree)
}

/// A small picture: a flag of two colours.
fn bitmap() -> Vec<u8> {
    const SIDE: u32 = 64;
    let data_len = SIDE * SIDE * 3;
    let mut bytes = b"BM".to_vec();
    for word in [54 + data_len, 0, 54, 40, SIDE, SIDE, 1 | 24 << 16, 0, data_len, 2835, 2835, 0, 0] {
        bytes.extend(word.to_le_bytes());
    }
    for row in 0..SIDE {
        for _ in 0..SIDE {
            bytes.extend(if row < SIDE / 2 { [0x8B, 0x3A, 0x0E] } else { [0xF4, 0xEF, 0xE6] });
        }
    }
    bytes
}

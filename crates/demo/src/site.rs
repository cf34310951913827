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

# What setup asks, answered once in our own form; it is written as setup reads it, into the root of the media.
[answer]
file = "bridge.answer.toml"
dialects = ["unattend"]

[media]
label = "BRIDGE_7"
iso = "out/bridge.iso"
publisher = "BRACKWATER FERRIES"
# The same file starts from a disc and, written to a stick, as a disk.
hybrid = true
boot_code = "boot-code.bin"
"#;

const DECK: &str = r#"# A spare console that stands on deck: an ISO file and a stick, from the same pass.
title = "Deck console"

[source]
media = "@MEDIA@"
editions = ["Quay OS 7 Bridge"]

[answer]
file = "bridge.answer.toml"
dialects = ["unattend"]

[media]
label = "DECK_7"
iso = "out/deck.iso"
stick = { image = "out/deck.img", scheme = "gpt" }
# With QEMU on the machine, both are started before they get their names.
# trial = ["bios", "uefi"]
"#;

const OFFICE: &str = r#"# The harbour office: a vendor's packages, which setup and the installed system put in themselves.
title = "Harbour office"

[source]
media = "@MEDIA@"
editions = ["Quay OS 7 Bridge"]

# `neatstack look vendor/qb900115-x64.msu` shows what a package is and what it goes into.
[[update]]
from = "vendor/"

# Into the system as always, and where setup itself finds it before it looks for a disk.
[[driver]]
from = "drivers/keelson-s4"
through = ["edition", "answers"]

[settings.features]
telex = true
semaphore = { on = true, through = "answers" }
remote-hands = { on = false, through = "setup-end" }

[answer.model]
format = 1
[answer.model.software]
configuration_set = true

[media]
label = "OFFICE_7"
iso = "out/office.iso"
"#;

const PURSER: &str = r#"# The purser's old machine: a media of the generation before image files, with its service pack.
title = "Purser"

[source]
media = "@OLDER@"

# The service pack replaces what is older on the media; setup runs the fix when it ends.
[[update]]
from = "older/"

# The ticket printer's driver goes with the system; the disk's is loaded in setup's text phase, too.
[[driver]]
from = "older/printer"

[[driver]]
from = "older/mast"
into = ["system", "setup"]

[answer]
file = "purser.answer.toml"

[media]
label = "PURSER_2"
iso = "out/purser.iso"
compression = "max"
"#;

const BOTH: &str = r#"# One disc for the bridge and for the purser's old machine: setups of two generations, each with its own answers.
title = "Bridge and purser"

[source]
media = "@MEDIA@"
editions = ["Quay OS 7 Bridge"]

[answer]
file = "bridge.answer.toml"

[[beside]]
media = "@OLDER@"
answer = "purser.answer.toml"

# On BIOS the menu starts each by its own boot image; UEFI starts the newer one.
[menu]
timeout_seconds = 60
on_timeout = "disk"

[[menu.entry]]
id = "bridge"
title = "Quay OS 7, bridge console"
boot_of = "source"

[[menu.entry]]
id = "purser"
title = "Quay OS 2, purser's machine"
boot_of = "I386"

[media]
label = "BRIDGE_AND_PURSER"
iso = "out/both.iso"
"#;

const PURSER_ANSWERS: &str = r#"# The purser's old machine. Setup of that generation reads passwords only as they are: this disc stays in the safe.
format = 1
title = "Purser's machine"
accept = ["plain-password"]

[language]
system = "nb-NO"
user = "nb-NO"
keyboards = ["nb-NO"]
time_zone = "Europe/Oslo"

[system]
licence = "accept"

[machine]
name = "PURSER-1"
owner = "The purser"
organisation = "Brackwater Ferries"

[administrator]
password = { file = "purser-password.txt" }

[[account]]
name = "purser"
groups = ["users"]
password = { file = "purser-password.txt" }

[display]
width = 1024
height = 768

[[command]]
stage = "system-installed"
run = 'net.exe time /setsntp:192.0.2.1'
description = "The clock of the ship"
"#;

const BENCH: &str = r#"# A disc for the work bench: the setup environment alone, with a start of its own.
title = "Work bench"

[source]
media = "@MEDIA@"
only = "setup-environment"

[environment]
start = ['type X:\brackwater\telephone-list.txt']
scratch = "512MiB"
keyboards = ["00000414"]
language = "nb-NO"

[[driver]]
from = "drivers/keelson-s4"
into = ["setup"]

[[place]]
from = "site-files/telephone-list.txt"
to = "setup:/brackwater/"

[[leave_out]]
paths = ["setup:/Setup"]              # what installs a system

[boot_store]
titles = { "Quay OS 7 Setup" = "Brackwater work bench" }
timeout_seconds = 5

[media]
label = "BENCH_7"
iso = "out/bench.iso"
stick = { image = "out/bench.img", scheme = "gpt" }
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

/// The answers of a bridge console in the neutral form.
const ANSWERS: &str = r#"# What setup asks of a bridge console. `neatstack answer check bridge.answer.toml` says what it erases.
format = 1
title = "Bridge console"
# Consoles have one disk, and everything on it goes.
erases = "yes"
architectures = ["x64"]
# Some consoles are older than the newest checks.
waive = ["security-chip", "processor"]
prevent_encryption = true

[language]
setup = "en-GB"
interface = "da-DK"
system = "da-DK"
user = "da-DK"
keyboards = ["da-DK", "en-GB"]
time_zone = "Europe/Copenhagen"

[system]
edition = "Quay OS 7 Bridge"
key = { none = true }
licence = "accept"

[machine]
name = "BRIDGE-{serial}"
owner = "Bridge"
organisation = "Brackwater Ferries"

[[disk]]
number = 0
wipe = true
scheme = "gpt"
only_disk = true
at_least = "60GB"
partition = [
  { kind = "efi", size = "300MiB", label = "EFI" },
  { kind = "reserved", size = "16MiB" },
  { kind = "system", size = "rest", label = "Console", letter = "C" },
]

[administrator]
enabled = false

[[account]]
name = "helm"
full_name = "The helm"
groups = ["users"]
password = { file = "helm-password.txt" }
password_never_expires = true
automatic_sign_ins = 1

[network]
needed = false
place = "work"

[first_start]
skip = ["registration", "wireless", "local-account"]
offline_account = true
privacy = "decline"

[power]
sleep_minutes = 0
screen_minutes = 0
hibernation = false

[[registry]]
key = 'HKLM\SOFTWARE\Brackwater\Console'
name = "Deck"
value = "Bridge"

[[command]]
stage = "first-sign-in"
run = 'cmd.exe /c "C:\Brackwater\telephone-list.txt"'
description = "Show the telephone list once"
wait = true
"#;

/// Last year's file, as somebody left it: with faults that `answer check` finds.
const LAST_YEAR: &str = r#"<?xml version="1.0" encoding="utf-8"?>
<!-- Bridge consoles, the year before. Ask the harbour office before changing anything. -->
<unattend xmlns="urn:schemas-microsoft-com:unattend" xmlns:wcm="http://schemas.microsoft.com/WMIConfig/2002/State">
  <settings pass="windowsPE">
    <component name="Microsoft-Windows-Setup" processorArchitecture="amd64" publicKeyToken="31bf3856ad364e35" language="neutral" versionScope="nonSxS">
      <DiskConfiguration>
        <Disk wcm:action="add">
          <DiskID>0</DiskID>
          <WillWipeDisk>true</WillWipeDisk>
        </Disk>
      </DiskConfiguration>
      <ImageInstall>
        <OSImage>
          <InstallFrom>
            <MetaData wcm:action="add">
              <Key>/IMAGE/NAME</Key>
              <Value>Quay OS 7 Brigde</Value>
            </MetaData>
          </InstallFrom>
        </OSImage>
      </ImageInstall>
      <UserData>
        <AcceptEula>true</AcceptEula>
      </UserData>
    </component>
  </settings>
  <settings pass="specialize">
    <component name="Microsoft-Windows-Shell-Setup" processorArchitecture="x86" publicKeyToken="31bf3856ad364e35" language="neutral" versionScope="nonSxS">
      <ComputerName>BRIDGE-CONSOLE-NO-1</ComputerName>
      <TimeZone>Romance Standart Time</TimeZone>
    </component>
  </settings>
  <settings pass="oobeSystem">
    <component name="Microsoft-Windows-Shell-Setup" processorArchitecture="amd64" publicKeyToken="31bf3856ad364e35" language="neutral" versionScope="nonSxS">
      <UserAccounts>
        <LocalAccounts>
          <LocalAccount wcm:action="add">
            <Name>helm</Name>
            <Group>Users</Group>
            <Password>
              <Value>fairwind</Value>
              <PlainText>true</PlainText>
            </Password>
          </LocalAccount>
        </LocalAccounts>
      </UserAccounts>
      <FirstLogonCommands>
        <SynchronousCommand wcm:action="add">
          <Order>1</Order>
          <CommandLine>cmd.exe /c echo ready</CommandLine>
        </SynchronousCommand>
        <SynchronousCommand wcm:action="add">
          <Order>1</Order>
          <CommandLine>%configsetroot%\tools\charts.cmd</CommandLine>
        </SynchronousCommand>
      </FirstLogonCommands>
    </component>
  </settings>
</unattend>
"#;

/// A stack file for many machines.
const FLEET: &str = r#"# A media for each ticket kiosk: the same system, its own name and quay.
title = "Ticket kiosks"

[source]
media = "@MEDIA@"
editions = ["Quay OS 7 Kiosk"]

[answer]
dialects = ["unattend"]

[answer.model]
title = "Ticket kiosk"
erases = "yes"

[answer.model.language]
setup = "en-GB"
system = "en-GB"
user = "en-GB"
keyboards = ["en-GB"]
time_zone = "Europe/London"

[answer.model.system]
edition = "Quay OS 7 Kiosk"
licence = "accept"

[answer.model.machine]
name = "{name}"
organisation = "Brackwater Ferries, {quay}"

[[answer.model.disk]]
number = 0
wipe = true

# Every row is a machine; {column} stands for its cells in names and answers.
[[variant]]
sites = "machines.csv"

[media]
label = "{name}"
iso = "out/{name}.iso"
"#;

const MACHINES: &str = "name,serial,quay\nKIOSK-01,BF7001,North quay\nKIOSK-02,BF7002,North quay\nKIOSK-03,BF7003,\"Old harbour, east\"\n";

/// The files, by their path in the demo folder.
/// Simulated devices, for `neatstack stick --simulated sticks`.
/// Writers to rehearse with, each with a disc in it.
const WRITERS: [(&str, &str); 3] = [
    (
        "lantern",
        "# A sound writer with an empty disc.\nmaker = \"LANTERN\"\nmodel = \"DW-12 Deck\"\nserial = \"LW12-0001\"\n\n\
         [disc]\nkind = \"dvd+r\"\nblocks = 2_295_104\nstate = \"empty\"\nspeeds = [22_160, 11_080, 5_540]\n",
    ),
    (
        "beacon",
        "# A disc that can be written again, and is full.\nmaker = \"BEACON\"\nmodel = \"CW-52\"\nserial = \"BN16-0007\"\n\n\
         [disc]\nkind = \"cd-rw\"\nblocks = 359_849\nstate = \"written\"\nused = 340_000\nspeeds = [1_764, 706]\n",
    ),
    (
        "worn",
        "# Its laser is tired: one place cannot be written any more.\nmaker = \"LANTERN\"\nmodel = \"DW-04 Deck\"\nserial = \"LW04-0310\"\n\
         faults = [{ write-error = 200 }]\n\n[disc]\nkind = \"dvd-r\"\nblocks = 2_298_496\nstate = \"empty\"\n",
    ),
];

const STICKS: [(&str, &str); 5] = [
    (
        "blue",
        "# A sound stick.\nmodel = \"Ferrous Pocket 8\"\nserial = \"FP8-20260302\"\nsize = 8_004_304_896\n",
    ),
    (
        "forged",
        "# It says 64 GB, and has 4.\nmodel = \"Ferrous Pocket 64\"\nserial = \"FP64-00000001\"\nsize = 64_004_304_896\nfaults = [{ wraps-at = 4_004_304_896 }]\n",
    ),
    (
        "worn",
        "# One place cannot be written any more.\nmodel = \"Ferrous Pocket 8\"\nserial = \"FP8-20190714\"\nsize = 8_004_304_896\nfaults = [{ write-error = 11_000_000 }]\n",
    ),
    (
        "charts",
        "# In use.\nmodel = \"Lanyard Card\"\nserial = \"LC-4711\"\nsize = 15_931_539_456\nmounted = [\"/media/charts\"]\n",
    ),
    (
        "console",
        "# The disk that the console runs on.\nmodel = \"Keel SSD 256\"\nserial = \"KS-77\"\nsize = 256_060_514_304\nremovable = false\nsystem = true\nmounted = [\"/\"]\n",
    ),
];

pub(crate) fn tree() -> Result<Tree> {
    let meta = Meta::at(RELEASED);
    let mut tree = Tree::new(meta);
    let mut put = |path: &str, bytes: &[u8]| tree.put_file(path, Content::from_bytes(bytes), meta).map(drop);
    put(STACK_NAME, STACK.replace("@MEDIA@", MEDIA_NAME).as_bytes())?;
    put("quay.catalogue.toml", CATALOGUE.as_bytes())?;
    put("site.reg", &Encoding::Utf16Le.encode(REGISTRY))?;
    put("bridge.answer.toml", ANSWERS.as_bytes())?;
    put("helm-password.txt", b"made up for the demo\n")?;
    put("purser-password.txt", b"made up too\n")?;
    put("bridge-answers.xml", LAST_YEAR.as_bytes())?;
    put("fleet.stack.toml", FLEET.replace("@MEDIA@", MEDIA_NAME).as_bytes())?;
    put("deck.stack.toml", DECK.replace("@MEDIA@", MEDIA_NAME).as_bytes())?;
    put("office.stack.toml", OFFICE.replace("@MEDIA@", MEDIA_NAME).as_bytes())?;
    put("purser.stack.toml", PURSER.replace("@OLDER@", crate::OLDER_MEDIA_NAME).as_bytes())?;
    put("purser.answer.toml", PURSER_ANSWERS.as_bytes())?;
    let both = BOTH.replace("@MEDIA@", MEDIA_NAME).replace("@OLDER@", crate::OLDER_MEDIA_NAME);
    put("both.stack.toml", both.as_bytes())?;
    put("bench.stack.toml", BENCH.replace("@MEDIA@", MEDIA_NAME).as_bytes())?;
    put("machines.csv", MACHINES.as_bytes())?;
    put("boot-code.bin", DISK_BOOT_CODE)?;
    put("site-files/telephone-list.txt", b"Bridge 100\r\nEngine room 200\r\nHarbour office 300\r\n")?;
    put("site-files/charts/approach.txt", &crate::words::prose("approach", 12_000))?;
    put("site-files/wallpaper.bmp", &bitmap())?;
    for (name, text) in WRITERS {
        put(&format!("writers/{name}.writer.toml"), text.as_bytes())?;
    }
    for (name, text) in STICKS {
        put(&format!("sticks/{name}.device.toml"), text.as_bytes())?;
    }
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

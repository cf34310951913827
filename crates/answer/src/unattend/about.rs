//! Where setup looks for the file, how it is known, and what chooses among several.

use super::Unattend;
use crate::{
    Vault,
    face::{About, Chooser, Face, Rules, Saying},
    model::{Architecture, Command, Model, Stage},
};

pub(super) const ABOUT: About = About {
    places: &["autounattend.xml", "unattend.xml", "sources/unattend.xml"],
    companions: &[],
    kernel: None,
    rules: Rules { short_names: true, rest_is_last: true, four_on_mbr: true, iana_zones: false },
    likeness,
    looks_secret,
    is_long: super::tasks::script::is_long,
    chooser,
};

/// The batch file asks the firmware's tables for the serial number, by what the setup environment has, cleans it as names of
/// files are cleaned ([`crate::serial_name`]), and starts setup with the answers for it.
const BATCH: &str = "@echo off\r\n\
rem Starts setup with the answers of this machine, by its serial number. Without answers setup asks.\r\n\
setlocal\r\n\
set \"raw=\"\r\n\
set \"serial=\"\r\n\
set \"way=\"\r\n\
for /f \"skip=1 delims=\" %%s in ('wmic bios get serialnumber 2^>nul') do if not defined raw set \"raw=%%s\"\r\n\
if defined raw set \"way=wmic\"\r\n\
if not defined raw for /f \"delims=\" %%s in ('cscript //nologo \"%~dp0serial.vbs\" 2^>nul') do if not defined raw set \"raw=%%s\"\r\n\
if defined raw if not defined way set \"way=cscript\"\r\n\
if not defined raw for /f \"delims=\" %%s in ('powershell -NoProfile -Command \"(Get-WmiObject Win32_BIOS).SerialNumber\" 2^>nul') do if not defined raw set \"raw=%%s\"\r\n\
if defined raw if not defined way set \"way=powershell\"\r\n\
:next\r\n\
if not defined raw goto found\r\n\
set \"c=%raw:~0,1%\"\r\n\
set \"raw=%raw:~1%\"\r\n\
for %%c in (A B C D E F G H I J K L M N O P Q R S T U V W X Y Z 0 1 2 3 4 5 6 7 8 9 -) do if /i \"%c%\"==\"%%c\" set \"serial=%serial%%%c\"\r\n\
goto next\r\n\
:found\r\n\
>>\"%TEMP%\\neatstack-choose.log\" echo the serial number is %serial%, asked by %way%.\r\n\
if not defined serial goto end\r\n\
if not exist \"%~dp0sites\\%serial%.xml\" goto end\r\n\
start /wait X:\\setup.exe /unattend:\"%~dp0sites\\%serial%.xml\"\r\n\
wpeutil reboot\r\n\
:end\r\n";

/// Prints the serial number.
const SERIAL_SCRIPT: &str = "for each b in getobject(\"winmgmts:root\\cimv2\").instancesof(\"win32_bios\")\r\n\
wscript.echo b.serialnumber\r\n\
next\r\n";

fn likeness(text: &str) -> u8 {
    if text.contains("<unattend") || text.contains(":unattend") { 4 } else { 0 }
}

/// A file that starts the batch, wherever the media is.
fn chooser() -> Option<Chooser> {
    let run = "cmd.exe /c for %d in (C D E F G H I J K L M N O P Q R S T U V W X Y Z) do @if exist %d:\\neatstack\\choose.cmd call %d:\\neatstack\\choose.cmd";
    let mut model = Model { architectures: vec![Architecture::X64, Architecture::X86], ..Model::default() };
    let description = "Start setup with the answers of this machine".to_owned();
    model.command.push(Command { description, ..Command::new(Stage::SetupStart, run) });
    let saying = Saying { model: &model, secrets: &Vault::new(), origin: None };
    let written = Unattend.write(&saying).ok()?;
    let files = [
        (ABOUT.places[0], written.text.as_str()),
        ("neatstack/choose.cmd", BATCH),
        ("neatstack/serial.vbs", SERIAL_SCRIPT),
    ];
    Some(Chooser::new(".xml", &files))
}

/// Elements whose names speak of passwords or keys and that have a text; `true` and `false` only say how it is stored.
fn looks_secret(lower: &str) -> bool {
    const NAMES: [&str; 4] = ["password", "keymaterial", "credential", "secret"];
    let mut rest = lower;
    while let Some(at) = rest.find('<') {
        rest = &rest[at + 1..];
        let Some(end) = rest.find('>') else { return false };
        let name: String = rest[..end].chars().take_while(|c| !c.is_whitespace() && *c != '/').collect();
        rest = &rest[end + 1..];
        if name.starts_with('?') || name.starts_with('!') || !NAMES.iter().any(|word| name.contains(word)) {
            continue;
        }
        let inside = rest.split(&format!("</{name}")).next().unwrap_or(rest);
        let mut texts = inside.split('<').enumerate().map(|(number, piece)| {
            // Behind the first one a piece begins with the rest of a tag.
            if number == 0 { piece } else { piece.split_once('>').map_or("", |(_, text)| text) }
        });
        if texts.any(|text| !matches!(text.trim(), "" | "true" | "false")) {
            return true;
        }
    }
    false
}

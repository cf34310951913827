//! One media for many machines: what runs first and takes the answers of the machine that it runs on.

use crate::{
    Dialect, SideFile, Vault,
    face::Saying,
    model::{Architecture, Command, Model, Stage},
};

/// What chooses among the answers on a media, which lie in a folder by serial number.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Chooser {
    /// Folder of the answers on the media.
    pub folder: &'static str,
    /// Ending of their names.
    pub ending: &'static str,
    /// The files that choose.
    pub files: Vec<SideFile>,
}

/// Where answers lie that are chosen by serial number.
pub(crate) const FOLDER: &str = "neatstack/sites";
/// The machine's serial number, without what no file name has.
const SERIAL: &str = "$(tr -cd 'A-Za-z0-9._-' </sys/class/dmi/id/product_serial)";

/// The batch file asks the firmware's tables for the serial number and starts setup with the answers for it.
const BATCH: &str = "@echo off\r\n\
rem Starts setup with the answers of this machine, by its serial number. Without answers setup asks.\r\n\
set serial=\r\n\
for /f \"skip=1 tokens=1\" %%s in ('wmic bios get serialnumber') do if not defined serial set serial=%%s\r\n\
if not defined serial goto end\r\n\
if not exist \"%~dp0sites\\%serial%.xml\" goto end\r\n\
start /wait X:\\setup.exe /unattend:\"%~dp0sites\\%serial%.xml\"\r\n\
wpeutil reboot\r\n\
:end\r\n";

/// The chooser of a dialect.
pub fn chooser(dialect: Dialect) -> Option<Chooser> {
    let file = |path: &str, text: String| SideFile { path: path.into(), bytes: text.into_bytes() };
    let (ending, files) = match dialect {
        Dialect::Preseed => {
            let text = format!(
                "# Takes the answers of this machine by its serial number; without them the installer asks.\n\
                 d-i preseed/include_command string s={SERIAL}; [ -e /cdrom/{FOLDER}/$s.cfg ] && echo {FOLDER}/$s.cfg || true\n"
            );
            (".cfg", vec![file(dialect.place(), text)])
        }
        Dialect::Kickstart => {
            let text = format!(
                "# Takes the answers of this machine by its serial number; without them the installation stops.\n\
                 %include /tmp/neatstack-site.ks\n\
                 %pre --erroronfail\n\
                 cp \"/run/install/repo/{FOLDER}/{SERIAL}.ks\" /tmp/neatstack-site.ks\n\
                 %end\n"
            );
            (".ks", vec![file(dialect.place(), text)])
        }
        Dialect::Autoinstall => {
            let text = format!(
                "#cloud-config\n\
                 # Takes the answers of this machine by its serial number; without them the installer asks.\n\
                 autoinstall:\n  version: 1\n  interactive-sections:\n    - \"*\"\n  early-commands:\n    \
                 - s={SERIAL}; if [ -e /cdrom/{FOLDER}/$s.yaml ]; then cp /cdrom/{FOLDER}/$s.yaml /autoinstall.yaml; fi\n"
            );
            (".yaml", vec![file(dialect.place(), text)])
        }
        Dialect::Unattend => {
            let run = "cmd.exe /c for %d in (C D E F G H I J K L M N O P Q R S T U V W X Y Z) do @if exist %d:\\neatstack\\choose.cmd call %d:\\neatstack\\choose.cmd";
            let mut model =
                Model { architectures: vec![Architecture::X64, Architecture::X86], ..Model::default() };
            let description = "Start setup with the answers of this machine".to_owned();
            model.command.push(Command { description, ..Command::new(Stage::SetupStart, run) });
            let saying = Saying { model: &model, secrets: &Vault::new(), origin: None };
            let written = dialect.face().write(&saying).ok()?;
            (".xml", vec![file(dialect.place(), written.text), file("neatstack/choose.cmd", BATCH.into())])
        }
    };
    Some(Chooser { folder: FOLDER, ending, files })
}

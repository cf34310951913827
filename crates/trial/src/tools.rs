//! What this machine has for running virtual machines.

use crate::Firmware;
use neat_content::{Advice, Error, Result};
use std::{
    fs::File,
    path::{Path, PathBuf},
    process::Command,
};

const PROGRAM: &str = "qemu-system-x86_64";
/// Where distributions put UEFI firmware for x64: code, and variables where they are apart.
const UEFI_PLACES: [(&str, &str); 7] = [
    ("/usr/share/OVMF/OVMF_CODE_4M.fd", "/usr/share/OVMF/OVMF_VARS_4M.fd"),
    ("/usr/share/OVMF/OVMF_CODE.fd", "/usr/share/OVMF/OVMF_VARS.fd"),
    ("/usr/share/edk2/ovmf/OVMF_CODE.fd", "/usr/share/edk2/ovmf/OVMF_VARS.fd"),
    ("/usr/share/edk2/x64/OVMF_CODE.4m.fd", "/usr/share/edk2/x64/OVMF_VARS.4m.fd"),
    ("/usr/share/edk2-ovmf/x64/OVMF_CODE.fd", "/usr/share/edk2-ovmf/x64/OVMF_VARS.fd"),
    ("/usr/share/qemu/ovmf-x86_64-code.bin", "/usr/share/qemu/ovmf-x86_64-vars.bin"),
    ("/usr/share/qemu/edk2-x86_64-code.fd", "/usr/share/qemu/edk2-i386-vars.fd"),
];

/// The virtual-machine program and firmware of this machine.
#[derive(Clone, Debug)]
pub struct Tools {
    /// The program.
    pub program: PathBuf,
    /// What it says of its version.
    pub version: String,
    /// UEFI firmware: code and an empty set of variables.
    pub uefi: Option<(PathBuf, PathBuf)>,
    /// Whether the processor runs guests by itself.
    pub accelerated: bool,
}

impl Tools {
    /// Looks on the path and where distributions put firmware.
    ///
    /// # Errors
    /// `Request` with the names of packages when there is no program.
    pub fn find() -> Result<Self> {
        let path = std::env::var_os("PATH").unwrap_or_default();
        let program =
            std::env::split_paths(&path).map(|folder| folder.join(PROGRAM)).find(|path| path.is_file());
        let program = program
            .ok_or_else(|| Error::request(format!("{PROGRAM} is not on the path"), Advice::InstallTrial))?;
        let output =
            Command::new(&program).arg("--version").output().map_err(Error::io("start", &program))?;
        let text = String::from_utf8_lossy(&output.stdout);
        let version = text.lines().next().unwrap_or_default().to_owned();
        let uefi = UEFI_PLACES
            .iter()
            .map(|(code, vars)| (PathBuf::from(code), PathBuf::from(vars)))
            .find(|(code, vars)| code.is_file() && vars.is_file());
        Ok(Self { program, version, uefi, accelerated: is_accelerated() })
    }

    /// Whether a firmware is there; SeaBIOS comes with the program.
    pub(crate) fn check(&self, firmware: Firmware) -> Result<()> {
        if firmware == Firmware::Uefi && self.uefi.is_none() {
            return Err(Error::request(
                "there is no UEFI firmware for virtual machines here",
                Advice::InstallTrial,
            ));
        }
        Ok(())
    }
}

/// The kernel's device alone says nothing: without the processor's help it runs no guest.
fn is_accelerated() -> bool {
    let flags = std::fs::read_to_string("/proc/cpuinfo").unwrap_or_default();
    flags.split_whitespace().any(|flag| flag == "vmx" || flag == "svm")
        && File::options().read(true).write(true).open(Path::new("/dev/kvm")).is_ok()
}

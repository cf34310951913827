//! Arguments of `drivers`.

use clap::Args;
use std::path::PathBuf;

/// Say what drivers serve, and which of a machine's devices are still without one
#[derive(Debug, Args)]
#[command(after_help = "\
DEVICES is a list of hardware ids, one in each line, the output of `lspci -nn` or `lsusb`, or JSON of the form \
{\"devices\": [{\"name\": \"…\", \"ids\": [\"PCI\\\\VEN_8086&DEV_100E\"]}]}. Nothing is run: archives in programs are found \
by their signatures.

Examples:
  neatstack drivers drivers/
  neatstack drivers drivers/ more.cab --for bridge-console.devices.txt --arch x64
  neatstack drivers drivers/ --root drivers-authority.pem")]
pub(crate) struct DriversArgs {
    /// Folders, cabinets, zip files or self-extracting programs
    #[arg(required = true, value_name = "FOLDER")]
    pub folders: Vec<PathBuf>,
    /// The devices of a machine
    #[arg(long = "for", value_name = "DEVICES")]
    pub devices: Option<PathBuf>,
    /// Architecture of the system: x86, x64 or arm64
    #[arg(long, value_name = "ARCH", default_value = "x64")]
    pub arch: String,
    /// Version of the system, such as 10.0.19041; without it drivers of all versions count
    #[arg(long, value_name = "VERSION")]
    pub system: Option<String>,
    /// Certificates of the authorities that are trusted (DER or PEM); without them signatures are checked, and nobody is
    /// trusted
    #[arg(long, value_name = "FILE")]
    pub root: Option<PathBuf>,
}

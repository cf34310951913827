//! Arguments of the commands that look into editions and at what goes into them.

use super::{InsideArgs, parse_size};
use clap::{Args, Subcommand, ValueEnum};
use std::path::PathBuf;

/// Say what is in an edition: components by category, with sizes and what needs what
#[derive(Debug, Args)]
#[command(after_help = "\
Sizes are those of what nothing else in the edition uses; the second one is what would go from the image file when all \
its editions lose the component. A ! marks what cannot be put back after installation.

Examples:
  neatstack inventory quay-os-7.iso --edition \"Quay OS 7 Bridge\" --catalogue quay.catalogue.toml
  neatstack inventory install.wim --edition 2 --category app --least 100KiB
  neatstack inventory install.wim --edition 2 --match \"feature/fax*\" --json")]
pub(crate) struct InventoryArgs {
    /// An ISO file, a folder or an image file
    pub path: PathBuf,
    #[command(flatten)]
    pub inside: InsideArgs,
    /// A catalogue that says more of components; may be given several times
    #[arg(long, value_name = "FILE")]
    pub catalogue: Vec<PathBuf>,
    /// A layout that says where the edition keeps its parts
    #[arg(long, value_name = "FILE")]
    pub layout: Vec<PathBuf>,
    /// Only this category, such as app or feature; may be given several times
    #[arg(long, value_name = "CATEGORY", help_heading = "Which components")]
    pub category: Vec<String>,
    /// Only ids that fit a pattern with * and ?
    #[arg(long = "match", value_name = "PATTERN", help_heading = "Which components")]
    pub pattern: Option<String>,
    /// Only components of at least this size, such as 500KiB or 2MiB
    #[arg(long, value_name = "SIZE", value_parser = parse_size, help_heading = "Which components")]
    pub least: Option<u64>,
}

/// Say what drivers serve, and which of a machine's devices are still without one
#[derive(Debug, Args)]
#[command(after_help = "\
DEVICES is a list of hardware ids, one in each line, the output of `lspci -nn` or `lsusb`, or JSON of the form \
{\"devices\": [{\"name\": \"…\", \"ids\": [\"PCI\\\\VEN_8086&DEV_100E\"]}]}. Nothing is run: archives in programs are found \
by their signatures.

Examples:
  neatstack drivers drivers/
  neatstack drivers drivers/ more.cab --for bridge-console.devices.txt --arch x64")]
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
}

/// Make an update package
#[derive(Debug, Args)]
pub(crate) struct UpdateArgs {
    #[command(subcommand)]
    pub action: UpdateAction,
}

/// What is done with an update package.
#[derive(Debug, Subcommand)]
pub(crate) enum UpdateAction {
    /// Make a package from a folder
    #[command(after_help = "\
With an update.toml in it, FOLDER is an unpacked package: its files lie below files/ by their paths in the edition. \
Without one, FOLDER holds the files themselves, and --id and --version say what the update is. What update.toml may \
hold: `neatstack schema update`.

Examples:
  neatstack update new radio-fix/ -o radio-fix.update.tar.zst
  neatstack update new files/ --id radio-fix --version 7.0.7092 --arch x64 -o radio-fix.update.tar.zst")]
    New(UpdateNewArgs),
}

/// A new update package.
#[derive(Debug, Args)]
pub(crate) struct UpdateNewArgs {
    /// The folder
    pub folder: PathBuf,
    /// The package to write
    #[arg(short, long, value_name = "OUT")]
    pub output: PathBuf,
    /// Overwrite the package if it is there
    #[arg(long)]
    pub replace: bool,
    /// Id: lower-case letters, digits, '-' and '.'
    #[arg(long, value_name = "ID", help_heading = "Without update.toml")]
    pub id: Option<String>,
    /// Version
    #[arg(long, value_name = "VERSION", help_heading = "Without update.toml")]
    pub version: Option<String>,
    /// Title
    #[arg(long, value_name = "TEXT", help_heading = "Without update.toml")]
    pub title: Option<String>,
    /// Architecture: x86, x64 or arm64
    #[arg(long, value_name = "ARCH", help_heading = "Without update.toml")]
    pub arch: Option<String>,
}

/// Say what differs between two media, image files, editions or registry hives
#[derive(Debug, Args)]
#[command(after_help = "\
Image files are compared edition by edition, their registries value by value: the difference is registration text.

Examples:
  neatstack compare quay-os-7.iso out/bridge.iso
  neatstack compare before.wim after.wim --edition \"Quay OS 7 Bridge\"
  neatstack compare SOFTWARE.before SOFTWARE.after")]
pub(crate) struct CompareArgs {
    /// The first
    pub before: PathBuf,
    /// The second
    pub after: PathBuf,
    /// Only this edition
    #[arg(long, value_name = "EDITION")]
    pub edition: Option<String>,
}

/// Print the JSON Schema of one of our own forms
#[derive(Debug, Args)]
#[command(after_help = "Example:\n  neatstack schema stack > stack.schema.json")]
pub(crate) struct SchemaArgs {
    /// Which form
    pub form: SchemaForm,
}

/// Forms of our own.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum SchemaForm {
    /// The stack file
    Stack,
    /// Catalogues
    Catalogue,
    /// Layouts
    Layout,
    /// The manifest of an update package
    Update,
    /// Answers in the neutral form
    Answer,
    /// The index of a depot
    Depot,
}

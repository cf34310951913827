//! Arguments of the commands for finished media.

use clap::{Args, Subcommand};
use std::path::PathBuf;

/// Change a finished ISO file in place, and take it back
#[derive(Debug, Args)]
#[command(after_help = "\
The same change is made in every tree that the disc has (ISO 9660, Rock Ridge, Joliet, UDF). Boot entries, boot-info \
tables and partition tables are kept right. Only new bytes and a few sectors are written; what was there before is kept \
inside the file, so that `undo` gives it back byte for byte. A run that is cut off leaves the old disc or the new one.

Examples:
  neatstack touchup quay.iso put autounattend.xml
  neatstack touchup quay.iso put my.cfg=sources/product.cfg tools/=support/tools
  neatstack touchup quay.iso hide sources/ei.cfg
  neatstack touchup quay.iso list
  neatstack touchup quay.iso undo")]
pub(crate) struct TouchupArgs {
    /// The ISO file, from whatever program
    pub iso: PathBuf,
    #[command(subcommand)]
    pub action: TouchupAction,
    /// Leave the ISO file as it is and change a copy of it
    #[arg(long, value_name = "OUT.iso", global = true, help_heading = "Output")]
    pub copy_to: Option<PathBuf>,
    /// Overwrite the copy if it is there
    #[arg(long, global = true, requires = "copy_to", help_heading = "Output")]
    pub replace: bool,
    /// Let others read the copy although it holds a password or key
    #[arg(long, global = true, requires = "copy_to", help_heading = "Output")]
    pub readable: bool,
    /// Print the SHA-256 of the file afterwards, which reads all of it
    #[arg(long, global = true, help_heading = "Output")]
    pub digest: bool,
}

/// What to do with the ISO file.
#[derive(Debug, Subcommand)]
pub(crate) enum TouchupAction {
    /// Put files in: new ones, or other bytes for those that are there
    #[command(after_help = "\
A name that is on the disc in another case is that file. Folders on the way are made.

Example:
  neatstack touchup quay.iso put autounattend.xml my.cfg=sources/product.cfg")]
    Put {
        /// A file or folder, and its path on the disc; without one its own name in the root
        #[arg(required = true, value_name = "FILE[=PATH]")]
        files: Vec<String>,
    },
    /// Take files or folders out of the directories; their bytes stay
    #[command(after_help = "Example:\n  neatstack touchup quay.iso hide sources/ei.cfg")]
    Hide {
        /// Paths on the disc, in any case
        #[arg(required = true, value_name = "PATH")]
        paths: Vec<String>,
    },
    /// Bring back what `hide` took out
    #[command(after_help = "Example:\n  neatstack touchup quay.iso show sources/ei.cfg")]
    Show {
        /// Paths on the disc, in any case
        #[arg(required = true, value_name = "PATH")]
        paths: Vec<String>,
    },
    /// Take back the latest touch-up, byte for byte
    #[command(after_help = "Example:\n  neatstack touchup quay.iso undo --all")]
    Undo {
        /// How many
        #[arg(value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u16).range(1..))]
        count: u16,
        /// All of them
        #[arg(long, conflicts_with = "count")]
        all: bool,
    },
    /// List what was done to the disc and what is hidden on it
    #[command(after_help = "Example:\n  neatstack touchup quay.iso list")]
    List,
}

/// Keep media and updates in a depot, and fetch them from one
#[derive(Debug, Args)]
#[command(after_help = "\
A depot is a folder of media and updates with an index, depot.json. Stack files take from it what they call \
`depot:ID`, such as `media = \"depot:quay-os-7/x64/en-GB\"`.

Examples:
  neatstack depot index store/
  neatstack depot serve store/
  neatstack depot search quay --language en-GB
  neatstack depot fetch quay-os-7/x64/en-GB --to media/")]
pub(crate) struct DepotArgs {
    #[command(subcommand)]
    pub action: DepotAction,
}

/// What to do with a depot.
#[derive(Debug, Subcommand)]
pub(crate) enum DepotAction {
    /// Describe what is in a folder: make its depot.json, or make it again
    #[command(after_help = "\
What a person wrote into the index about a file that is still the same stays.

Example:
  neatstack depot index store/ --title \"Brackwater Ferries\"")]
    Index {
        /// The folder
        folder: PathBuf,
        /// What a person calls the depot
        #[arg(long, value_name = "TEXT")]
        title: Option<String>,
    },
    /// Make a pair of keys to sign depots and update packages with
    #[command(after_help = "\
NAME.pub is for everybody: its second line goes into `signed_by` of stack files, or behind `#key=` of a depot's address. \
NAME.key signs, has no password and is for you alone.

Example:
  neatstack depot key brackwater")]
    Key {
        /// What the two files are called, without an ending
        name: PathBuf,
    },
    /// Sign a depot's index, or update packages: a file NAME.minisig beside each
    #[command(after_help = "Example:\n  neatstack depot sign store/ --key brackwater.key")]
    Sign {
        /// Folders of depots, or files
        #[arg(required = true)]
        paths: Vec<PathBuf>,
        /// The secret key
        #[arg(long, value_name = "NAME.key")]
        key: PathBuf,
    },
    /// Offer a depot over HTTP until stopped
    #[command(after_help = "Example:\n  neatstack depot serve store/ --port 8470")]
    Serve {
        /// The folder with depot.json
        folder: PathBuf,
        /// The port; 0 stands for any that is free
        #[arg(long, value_name = "N", default_value_t = 8470)]
        port: u16,
        /// The address to listen at; other machines reach only one that is not the loopback address
        #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1")]
        address: std::net::IpAddr,
    },
    /// List what a depot has, the newest first
    #[command(after_help = "Example:\n  neatstack depot search quay bridge --architecture x64")]
    Search {
        /// Words that must all be there, in any case
        words: Vec<String>,
        /// Only this architecture
        #[arg(long, value_name = "NAME")]
        architecture: Option<String>,
        /// Only this language
        #[arg(long, value_name = "TAG")]
        language: Option<String>,
        /// Only this sort
        #[arg(long, value_name = "KIND")]
        kind: Option<DepotKind>,
        #[command(flatten)]
        depot: DepotWhere,
    },
    /// Fetch a file; a run that was cut off is gone on with
    #[command(after_help = "\
Nothing appears under the file's name until its digest is right. What came over of a fetch that was cut off lies in a \
hidden file beside it.

Example:
  neatstack depot fetch quay-os-7/x64/en-GB --to media/")]
    Fetch {
        /// The id, with @VERSION for another than the newest
        id: String,
        /// The folder it goes into
        #[arg(long, value_name = "DIR", conflicts_with = "output")]
        to: Option<PathBuf>,
        /// The file to write, in the place of its own name
        #[arg(short, long, value_name = "FILE")]
        output: Option<PathBuf>,
        /// Overwrite the file if it is there
        #[arg(long)]
        replace: bool,
        #[command(flatten)]
        depot: DepotWhere,
    },
}

/// Which depot.
#[derive(Debug, Args)]
#[command(next_help_heading = "The depot")]
pub(crate) struct DepotWhere {
    /// An http:// address or a folder; without it $NEATSTACK_DEPOT, or the loopback address
    #[arg(long = "depot", value_name = "WHERE")]
    pub location: Option<String>,
    /// Seconds that an answer may take, and each connection before it is begun anew
    #[arg(long, value_name = "SECONDS", default_value_t = 30, value_parser = clap::value_parser!(u64).range(1..=86_400))]
    pub patience: u64,
}

/// Sort of file in a depot.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum DepotKind {
    /// Installation media
    Media,
    /// Updates
    Update,
}

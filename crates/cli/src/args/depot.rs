//! Arguments of `depot`.

use super::{answer::AcceptArgs, common::DepotWhere};
use clap::{Args, Subcommand};
use std::path::PathBuf;

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

/// Answers that are given out.
#[derive(Debug, Args)]
pub(crate) struct OfferArgs {
    /// A model (*.answer.toml) or an answer file, given out under /answers/ for the machine that asks
    #[arg(long, value_name = "MODEL")]
    pub answers: Option<PathBuf>,
    /// The site list with the machines that may ask
    #[arg(long, value_name = "CSV", requires = "answers")]
    pub sites: Option<PathBuf>,
    /// Give out answers that have passwords or hashes of them to whoever asks
    #[arg(long, requires = "answers")]
    pub secrets: bool,
    #[command(flatten)]
    pub accept: AcceptArgs,
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
    #[command(after_help = "\
With --answers it gives out answer files, too, under /answers/: FILE is a dialect's usual name (preseed.cfg, ks.cfg, \
user-data, autoinst.xml), MACHINE a name or serial number of the site list. Without MACHINE the column `address` tells \
who asks; without a site list everybody gets the same.

Examples:
  neatstack depot serve store/ --port 8470
  neatstack depot serve store/ --address 192.0.2.9 --answers lab.answer.toml --sites machines.csv --secrets
                               http://192.0.2.9:8470/answers/LAB-01/preseed.cfg")]
    Serve {
        /// The folder with depot.json
        folder: PathBuf,
        /// The port; 0 stands for any that is free
        #[arg(long, value_name = "N", default_value_t = 8470)]
        port: u16,
        /// The address to listen at; other machines reach only one that is not the loopback address
        #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1")]
        address: std::net::IpAddr,
        #[command(flatten)]
        answers: OfferArgs,
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

/// Sort of file in a depot.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum DepotKind {
    /// Installation media
    Media,
    /// Updates
    Update,
}

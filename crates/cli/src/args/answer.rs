//! Arguments of `answer`.

use clap::{Args, Subcommand, ValueEnum, builder::PossibleValue};
use neat_answer::{Dialect, Gravity, Topic, model::Stage};
use std::{path::PathBuf, sync::LazyLock};

/// Answer files: start one, read one into the neutral form, write a dialect, check one, change its commands
#[derive(Debug, Args)]
pub(crate) struct AnswerArgs {
    #[command(subcommand)]
    pub action: AnswerAction,
}

/// What is done with answers.
#[derive(Debug, Subcommand)]
pub(crate) enum AnswerAction {
    /// Print a commented starting point
    #[command(
        after_help = "On a terminal it asks for what is not given.\n\nExample:\n  neatstack answer new --language da-DK --time-zone Europe/Copenhagen --machine \"BRIDGE-{serial}\" --account helm -o bridge.answer.toml"
    )]
    New(NewArgs),
    /// Read an answer file of any dialect into the neutral form
    #[command(
        after_help = "The neutral form remembers the file: written again in the same dialect, everything that was not changed stays as it was. Passwords are never printed; they are taken from the file when it is written.\n\nExample:\n  neatstack answer read autounattend.xml -o bridge.answer.toml"
    )]
    Read(ReadArgs),
    /// Write the neutral form, or another answer file, in a dialect
    #[command(
        after_help = "Examples:\n  neatstack answer write bridge.answer.toml --dialect unattend -o autounattend.xml\n  neatstack answer write lab.answer.toml --dialect preseed --sites machines.csv -o answers/"
    )]
    Write(WriteArgs),
    /// Put a command in at a stage; the others are numbered anew
    #[command(
        after_help = "Example:\n  neatstack answer insert autounattend.xml --stage first-sign-in --command \"cmd.exe /c D:\\\\tools\\\\first.cmd\" --at 1"
    )]
    Insert(InsertArgs),
    /// Move a command of a stage to another number
    #[command(
        after_help = "Example:\n  neatstack answer move autounattend.xml --stage first-sign-in --from 3 --to 1"
    )]
    Move(MoveArgs),
    /// Take a command of a stage out
    #[command(
        after_help = "Example:\n  neatstack answer remove autounattend.xml --stage first-sign-in --number 2"
    )]
    Remove(RemoveArgs),
    /// Say what is wrong with answers, and what they erase
    #[command(
        after_help = "Exit codes: 0 clean, or accepted · 1 something was found · 4 it erases, and nobody said in the model that this is meant (erases = \"yes\").\n\nExamples:\n  neatstack answer check autounattend.xml --media quay-os-7.iso\n  neatstack answer check bridge.answer.toml --dialect unattend"
    )]
    Check(CheckArgs),
}

/// What a starting point may know.
#[derive(Debug, Args)]
pub(crate) struct NewArgs {
    /// Language of setup and system, such as da-DK
    #[arg(long, value_name = "TAG")]
    pub language: Option<String>,
    /// Time zone by its IANA name
    #[arg(long, value_name = "ZONE")]
    pub time_zone: Option<String>,
    /// Name of the edition, or `ask`
    #[arg(long, value_name = "NAME")]
    pub edition: Option<String>,
    /// Name of the machine, {serial} and {random:4} filled in by itself
    #[arg(long, value_name = "NAME")]
    pub machine: Option<String>,
    /// Name of the first account
    #[arg(long, value_name = "NAME")]
    pub account: Option<String>,
    /// A site list whose columns the name of the machine may have in braces, such as {name}
    #[arg(long, value_name = "CSV")]
    pub sites: Option<PathBuf>,
    #[command(flatten)]
    pub output: OutputArgs,
}

/// Where a text goes.
#[derive(Debug, Args)]
pub(crate) struct OutputArgs {
    /// The file to write; without it the text is printed
    #[arg(short, long, value_name = "OUT")]
    pub output: Option<PathBuf>,
    /// Overwrite it if it is there
    #[arg(long, requires = "output")]
    pub replace: bool,
}

/// Reading.
#[derive(Debug, Args)]
pub(crate) struct ReadArgs {
    /// The answer file
    pub file: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
}

/// Writing.
#[derive(Debug, Args)]
pub(crate) struct WriteArgs {
    /// A model (*.answer.toml), or an answer file of another dialect
    pub model: PathBuf,
    /// The dialect
    #[arg(long, value_name = "DIALECT")]
    pub dialect: DialectName,
    /// The file to write, or with --sites the folder; without it the text is printed
    #[arg(short, long, value_name = "OUT")]
    pub output: Option<PathBuf>,
    /// Overwrite what is there
    #[arg(long, requires = "output")]
    pub replace: bool,
    /// A site list: an answer file for each of its machines
    #[arg(long, value_name = "CSV", requires = "output")]
    pub sites: Option<PathBuf>,
    #[command(flatten)]
    pub accept: AcceptArgs,
}

/// What may be wrong.
#[derive(Debug, Args)]
pub(crate) struct AcceptArgs {
    /// Go on although this was found; may be given several times
    #[arg(long, value_name = "TOPIC")]
    pub accept: Vec<TopicName>,
}

impl AcceptArgs {
    pub(crate) fn topics(&self) -> Vec<Topic> {
        self.accept.iter().map(|own| own.0).collect()
    }
}

/// A command that goes in.
#[derive(Debug, Args)]
pub(crate) struct InsertArgs {
    /// An answer file of any dialect, or a model
    pub file: PathBuf,
    /// The stage
    #[arg(long, value_name = "STAGE")]
    pub stage: StageName,
    /// The command line
    #[arg(long, value_name = "TEXT")]
    pub command: String,
    /// What it is for
    #[arg(long, value_name = "TEXT", default_value = "")]
    pub description: String,
    /// Its number at the stage, from 1; without it the last
    #[arg(long, value_name = "N")]
    pub at: Option<usize>,
    /// Do not wait for its end
    #[arg(long)]
    pub no_wait: bool,
    /// Keep its window out of sight
    #[arg(long)]
    pub hidden: bool,
    /// Run it in the setup environment, beside the installed system (installers of Linux)
    #[arg(long)]
    pub outside: bool,
    #[command(flatten)]
    pub into: IntoArgs,
}

/// Where a changed file goes.
#[derive(Debug, Args)]
pub(crate) struct IntoArgs {
    /// Write another file instead of changing this one
    #[arg(short, long, value_name = "OUT")]
    pub output: Option<PathBuf>,
}

/// A command that moves.
#[derive(Debug, Args)]
pub(crate) struct MoveArgs {
    /// An answer file of any dialect, or a model
    pub file: PathBuf,
    /// The stage
    #[arg(long, value_name = "STAGE")]
    pub stage: StageName,
    /// Its number
    #[arg(long, value_name = "N")]
    pub from: usize,
    /// The number that it gets
    #[arg(long, value_name = "N")]
    pub to: usize,
    #[command(flatten)]
    pub into: IntoArgs,
}

/// A command that goes.
#[derive(Debug, Args)]
pub(crate) struct RemoveArgs {
    /// An answer file of any dialect, or a model
    pub file: PathBuf,
    /// The stage
    #[arg(long, value_name = "STAGE")]
    pub stage: StageName,
    /// Its number
    #[arg(long, value_name = "N")]
    pub number: usize,
    #[command(flatten)]
    pub into: IntoArgs,
}

/// A check.
#[derive(Debug, Args)]
pub(crate) struct CheckArgs {
    /// An answer file of any dialect, a model, or a media that holds answer files
    pub file: PathBuf,
    /// The media that it is for: an ISO file or a folder
    #[arg(long, value_name = "MEDIA")]
    pub media: Option<PathBuf>,
    /// Check a model as it is said in this dialect, too; may be given several times
    #[arg(long, value_name = "DIALECT")]
    pub dialect: Vec<DialectName>,
    /// The site list whose columns the answers name in braces, such as {name}
    #[arg(long, value_name = "CSV")]
    pub sites: Option<PathBuf>,
    #[command(flatten)]
    pub accept: AcceptArgs,
}

/// A topic of findings that can be accepted, by its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct TopicName(pub Topic);

static TOPICS: LazyLock<Vec<TopicName>> =
    LazyLock::new(|| Topic::all().filter(|own| own.gravity() == Gravity::Problem).map(TopicName).collect());

impl ValueEnum for TopicName {
    fn value_variants<'a>() -> &'a [Self] {
        &TOPICS
    }

    fn to_possible_value(&self) -> Option<PossibleValue> {
        Some(PossibleValue::new(self.0.name()).help(self.0.about()))
    }
}

/// A dialect, by its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct DialectName(pub Dialect);

impl DialectName {
    const ALL: [Self; Dialect::ALL.len()] = {
        let mut all = [Self(Dialect::OF_MODELS); Dialect::ALL.len()];
        let mut number = 0;
        while number < all.len() {
            all[number] = Self(Dialect::ALL[number]);
            number += 1;
        }
        all
    };
}

impl ValueEnum for DialectName {
    fn value_variants<'a>() -> &'a [Self] {
        &Self::ALL
    }

    fn to_possible_value(&self) -> Option<PossibleValue> {
        Some(PossibleValue::new(self.0.name()).help(self.0.description()))
    }
}

/// A stage of setup.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum StageName {
    /// The setup environment is up, nothing was written yet
    SetupStart,
    /// The system is on the disk and becomes this machine's own
    SystemInstalled,
    /// The installed system starts first, before anybody signs in
    FirstStart,
    /// Somebody signs in first
    FirstSignIn,
    /// Somebody signs in, each time
    EverySignIn,
    /// A reference machine is made ready to be captured
    Generalize,
    /// A reference machine is being set up, before sign-in
    AuditSystem,
    /// A reference machine is being set up, after sign-in
    AuditUser,
}

impl From<StageName> for Stage {
    fn from(name: StageName) -> Self {
        match name {
            StageName::SetupStart => Self::SetupStart,
            StageName::SystemInstalled => Self::SystemInstalled,
            StageName::FirstStart => Self::FirstStart,
            StageName::FirstSignIn => Self::FirstSignIn,
            StageName::EverySignIn => Self::EverySignIn,
            StageName::Generalize => Self::Generalize,
            StageName::AuditSystem => Self::AuditSystem,
            StageName::AuditUser => Self::AuditUser,
        }
    }
}

//! The command line, a file for each command. Parsed arguments only record; the commands check and touch the disk.

mod answer;
mod arrange;
mod build;
mod capture;
mod check;
mod common;
mod compare;
mod config;
mod demo;
mod depot;
mod disc;
mod draft;
mod drivers;
mod editions;
mod files;
mod inventory;
mod join;
mod look;
mod manual;
mod master;
mod pick;
mod plan;
mod repack;
mod report;
mod schema;
mod split;
mod stick;
mod take;
mod touchup;
mod trial;
mod unpack;
mod update;

pub(crate) use answer::{
    AnswerAction, AnswerArgs, CheckArgs, InsertArgs, IntoArgs, MoveArgs, NewArgs, OutputArgs, ReadArgs,
    RemoveArgs, WriteArgs,
};
pub(crate) use arrange::{command, parse, plain_command};
pub(crate) use build::BuildArgs;
pub(crate) use capture::CaptureArgs;
pub(crate) use check::CheckAllArgs;
pub(crate) use common::{
    CompressionArgs, DepotWhere, Digest, ImageOutput, InsideArgs, LevelName, MethodName, SolidArgs,
};
pub(crate) use compare::CompareArgs;
pub(crate) use config::ConfigArgs;
pub(crate) use demo::{DemoArgs, DemoSize};
pub(crate) use depot::{DepotAction, DepotArgs, DepotKind, OfferArgs};
pub(crate) use disc::{DiscAction, DiscArgs, DiscEraseArgs, WriterArgs};
pub(crate) use draft::{DraftArgs, DraftForm};
pub(crate) use drivers::DriversArgs;
pub(crate) use editions::{EditionsAction, EditionsArgs};
pub(crate) use files::FilesArgs;
pub(crate) use inventory::InventoryArgs;
pub(crate) use join::JoinArgs;
pub(crate) use look::LookArgs;
pub(crate) use manual::ManualArgs;
pub(crate) use master::{BootArgs, EmulationKind, JolietLimit, MasterArgs};
pub(crate) use pick::PickArgs;
pub(crate) use plan::PlanArgs;
pub(crate) use repack::RepackArgs;
pub(crate) use report::ReportArgs;
pub(crate) use schema::{ReadForm, SchemaArgs, SchemaForm};
pub(crate) use split::SplitArgs;
pub(crate) use stick::{DeviceArgs, FormName, SchemeName, StickAction, StickArgs, StickUpdateArgs};
pub(crate) use take::TakeArgs;
pub(crate) use touchup::{TouchupAction, TouchupArgs};
pub(crate) use trial::{AttachedName, FirmwareName, TrialArgs};
pub(crate) use unpack::UnpackArgs;
pub(crate) use update::{UpdateAction, UpdateArgs, UpdateNewArgs};

use clap::{Args, Parser, Subcommand, ValueEnum};

/// Service installation images: look at media, change what is on them, write bootable ones
#[derive(Debug, Parser)]
#[command(name = "neatstack", version, max_term_width = 100)]
pub(crate) struct Cli {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

const FIRST_STEPS: &str = "\
First steps:
  neatstack demo                     make demo data and run the whole example on it
  neatstack look vendor.iso          what is it, how does it boot, what is on it?
  neatstack draft vendor.iso -o my.stack.toml
  neatstack plan my.stack.toml       what would a build do?
  neatstack build my.stack.toml      do it
  neatstack trial out/vendor.iso     start it, and see how far it gets

Exit codes: 0 done · 1 the work failed · 2 wrong usage · 3 the input is damaged or not what it says · \
4 refused for safety · 70 a fault of the program · 130 stopped";

/// Options of every command.
#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Output")]
pub(crate) struct Global {
    /// Print one JSON document on standard output
    #[arg(long, global = true)]
    pub json: bool,
    /// Print nothing but results, errors and dangers
    #[arg(long, short, global = true)]
    pub quiet: bool,
    /// Print how long each step took
    #[arg(short, long, global = true)]
    pub verbose: bool,
    /// Threads that compress and check; 0 stands for as many as there are cores
    #[arg(long, value_name = "N", default_value_t = 0, global = true, help_heading = "Work")]
    pub threads: usize,
    /// Use colours
    #[arg(long, value_name = "WHEN", default_value = "auto", global = true)]
    pub color: ColorWhen,
}

/// When colours are used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ColorWhen {
    /// On a terminal
    Auto,
    /// Also in files and pipes
    Always,
    /// Nowhere
    Never,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Look(LookArgs),
    Check(CheckAllArgs),
    Files(FilesArgs),
    Take(TakeArgs),
    Unpack(UnpackArgs),
    Master(MasterArgs),
    Editions(EditionsArgs),
    Capture(CaptureArgs),
    Repack(RepackArgs),
    Split(SplitArgs),
    Join(JoinArgs),
    Inventory(InventoryArgs),
    Drivers(DriversArgs),
    Update(UpdateArgs),
    Compare(CompareArgs),
    Answer(AnswerArgs),
    Touchup(TouchupArgs),
    Stick(StickArgs),
    Disc(DiscArgs),
    Trial(TrialArgs),
    Depot(DepotArgs),
    Draft(DraftArgs),
    Pick(PickArgs),
    Plan(PlanArgs),
    Build(BuildArgs),
    Report(ReportArgs),
    Schema(SchemaArgs),
    Manual(ManualArgs),
    Config(ConfigArgs),
    Demo(DemoArgs),
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn the_definition_is_sound() {
        Cli::command().debug_assert();
    }

    /// The terminal's width decides where a paragraph breaks.
    #[test]
    fn paragraphs_of_help_are_one_line_each() {
        fn check(command: &clap::Command) {
            let help = command.get_after_help().map(ToString::to_string).unwrap_or_default();
            for paragraph in help.split("\n\n") {
                let mut lines = paragraph.lines();
                let title = lines.next().is_some_and(|first| first.ends_with(':'));
                assert!(
                    lines.all(|line| title && line.starts_with("  ")),
                    "{}: {paragraph}",
                    command.get_name()
                );
            }
            command.get_subcommands().for_each(check);
        }
        check(&Cli::command());
    }

    #[test]
    fn command_lines_that_must_parse_and_that_must_not() {
        let parses = |line: &str| Cli::try_parse_from(line.split(' ')).is_ok();
        let sound = [
            "neatstack look a.iso",
            "neatstack --json look a.iso --digest sha256",
            "neatstack files a.iso --digest sha1 --json",
            "neatstack take a.iso x y --to d",
            "neatstack unpack a.iso d",
            "neatstack master d -o a.iso --label X --bios b --uefi u --load-sectors 8 --load-segment 0x7c0 --emulation hard-disk --boot-info-table --hybrid",
            "neatstack master d -o a.iso --udf off --joliet 103 --rock-ridge on",
            "neatstack build s.toml --dry-run -q",
            "neatstack demo",
            "neatstack editions a.wim",
            "neatstack editions a.wim keep 1 2 -o b.wim",
            "neatstack editions a.wim rename 1 --name x -o b.wim --replace",
            "neatstack repack a.wim -o b.wim --level max --method lzx --chunk 32KiB --threads 2",
            "neatstack split a.wim --limit 3800MiB -o a.swm",
            "neatstack files a.iso --edition 1 --image sources/boot.wim",
            "neatstack capture d -o a.wim --name x --leave-out *.tmp",
            "neatstack answer new --language da-DK -o a.answer.toml",
            "neatstack answer read a.xml --json",
            "neatstack answer write a.answer.toml --dialect preseed --sites m.csv -o out",
            "neatstack answer insert a.xml --stage first-sign-in --command x --at 2 --hidden",
            "neatstack answer move a.xml --stage setup-start --from 1 --to 2",
            "neatstack answer remove a.xml --stage setup-start --number 1",
            "neatstack answer check a.xml --media a.iso",
            "neatstack build s.toml --only LAB-01 --only LAB-02",
            "neatstack check a.iso --ledger a.ledger.json",
            "neatstack join a.swm a2.swm -o b.wim --verify",
            "neatstack inventory a.iso --edition 1 --category app",
            "neatstack drivers d e.cab --for devices.txt --system 10.0.19041",
            "neatstack update new d -o a.update.tar.zst",
            "neatstack compare a.iso b.iso --edition 1",
            "neatstack touchup a.iso put x y=z",
            "neatstack touchup a.iso undo",
            "neatstack stick a.iso --to /dev/sdq --yes-erase X1 --size 8GB",
            "neatstack stick --list",
            "neatstack disc a.iso --to /dev/sr7 --yes-erase X1 --speed 8",
            "neatstack disc --list",
            "neatstack disc erase --simulated w.writer.toml --whole --yes-erase X1",
            "neatstack trial a.iso --firmware bios --memory 512M",
            "neatstack depot serve d --address 0.0.0.0 --port 80",
            "neatstack draft a.iso --plain --edition 1 --updates u --drivers d --devices l --answer a --sites s --form both",
            "neatstack pick s.toml --remove app/x --put-back app/y --profile lean --dry-run",
            "neatstack plan s.toml --fetch",
            "neatstack report a.iso -o a.html --edition 1 --replace",
            "neatstack schema stack",
            "neatstack manual d --replace",
            "neatstack config",
        ];
        for line in sound {
            assert!(parses(line), "{line}");
        }
        for command in Cli::command().get_subcommands() {
            let name = command.get_name();
            assert!(sound.iter().any(|line| line.split(' ').any(|word| word == name)), "no line has {name}");
        }
        for line in [
            "neatstack",
            "neatstack look",
            "neatstack take a.iso --to d",
            "neatstack take a.iso x",
            "neatstack master d",
            "neatstack master d -o a.iso --load-segment zz",
            "neatstack build s.toml --color blue",
            "neatstack editions a.wim keep -o b.wim",
            "neatstack editions a.wim keep 1",
            "neatstack repack a.wim -o b.wim --chunk 32KiX",
            "neatstack files a.iso --image sources/boot.wim",
            "neatstack answer",
            "neatstack answer write a.answer.toml --dialect xml",
            "neatstack answer write a.answer.toml --dialect preseed --sites m.csv",
            "neatstack answer insert a.xml --stage later --command x",
        ] {
            assert!(!parses(line), "{line}");
        }
    }
}

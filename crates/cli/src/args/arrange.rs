//! How help is arranged: commands in the order of work, what every command shares once, examples first.

use super::{Cli, FIRST_STEPS};
use crate::show;
use clap::{Command, CommandFactory, FromArgMatches};

/// The commands in the order in which people use them.
const GROUPS: [(&str, &[&str]); 5] = [
    ("Know the source", &["look", "check", "files", "take", "unpack", "inventory", "drivers", "compare"]),
    (
        "Change image files and media",
        &["editions", "capture", "repack", "split", "join", "update", "touchup"],
    ),
    ("Answer what setup asks", &["answer"]),
    ("Plan, make and try", &["draft", "pick", "plan", "build", "report", "master", "stick", "disc", "trial"]),
    ("Many and later", &["depot", "schema", "manual", "config", "demo"]),
];

/// What every command has; said here, and hidden in the help of each.
const SHARED: [(&str, &str); 5] = [
    ("--json", "Print one JSON document on standard output"),
    ("-q, --quiet", "Print nothing but results, errors and dangers"),
    ("-v, --verbose", "Print how long each step took"),
    ("--threads <N>", "Threads that compress and check; without it as many as there are cores"),
    ("--color <WHEN>", "Use colours: auto (on a terminal), always or never"),
];

/// Where a hanging text begins in lists of help.
const COLUMN: usize = 18;
/// Columns of help where there is no terminal.
const WIDTH: usize = 100;

/// Parses the command line.
///
/// # Errors
/// What the parser says, which may be the help that was asked for.
pub(crate) fn parse() -> Result<Cli, clap::Error> {
    let width = show::terminal_width().unwrap_or(WIDTH).min(WIDTH);
    let matches = command(width).try_get_matches()?;
    Cli::from_arg_matches(&matches)
}

/// The commands as they are defined, for pages that arrange them themselves.
pub(crate) fn plain_command() -> Command {
    Cli::command()
}

/// The commands with their help, arranged for lines of this width.
pub(crate) fn command(width: usize) -> Command {
    let command = Cli::command().term_width(width);
    let listed = listed(&command, width);
    let shared = SHARED.map(|(name, about)| hanging(name, about, width)).concat();
    let named = |id: &str| matches!(id, "json" | "quiet" | "verbose" | "threads" | "color");
    let command = command
        .mut_args(|arg| if named(arg.get_id().as_str()) { arg.hide(true) } else { arg })
        .mut_subcommands(arranged)
        .before_help(listed)
        .after_help(format!("Options of every command:\n{shared}\n{FIRST_STEPS}"));
    command.help_template(
        "{about-with-newline}\n{usage-heading} {usage}\n\n{before-help}Options:\n{options}{after-help}",
    )
}

fn listed(command: &Command, width: usize) -> String {
    let about = |name: &str| {
        let own = command.find_subcommand(name).and_then(Command::get_about);
        own.map(ToString::to_string).unwrap_or_default()
    };
    let mut text = String::new();
    for (title, names) in GROUPS {
        text.push_str(&format!("{title}:\n"));
        names.iter().for_each(|name| text.push_str(&hanging(name, &about(name), width)));
        text.push('\n');
    }
    text.trim_end().to_owned()
}

/// A line of a list, its text wrapped under itself.
fn hanging(name: &str, about: &str, width: usize) -> String {
    format!("  {name:0$}{1}\n", COLUMN - 2, show::wrap(about, COLUMN, width))
}

/// The example, which says most, stands before the usage.
fn arranged(command: Command) -> Command {
    let after = command.get_after_help().map(ToString::to_string).unwrap_or_default();
    let (examples, rest): (Vec<&str>, Vec<&str>) =
        after.split("\n\n").filter(|part| !part.is_empty()).partition(|part| part.starts_with("Example"));
    let mut rest: Vec<String> = rest.into_iter().map(str::to_owned).collect();
    if !command.has_subcommands() {
        rest.push(
            "`neatstack --help` says what every command has: --json, --quiet, --verbose, --threads, --color."
                .into(),
        );
    }
    command
        .before_help(examples.join("\n\n"))
        .after_help(rest.join("\n\n"))
        .mut_subcommands(arranged)
        .help_template("{about-with-newline}\n{before-help}{usage-heading} {usage}\n\n{all-args}{after-help}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_command_and_every_shared_option_is_listed_once() {
        let command = Cli::command();
        let mut listed: Vec<&str> = GROUPS.iter().flat_map(|(_, names)| names.iter().copied()).collect();
        let mut there: Vec<&str> = command.get_subcommands().map(Command::get_name).collect();
        listed.sort_unstable();
        there.sort_unstable();
        assert_eq!(listed, there);
        let globals: Vec<String> = command
            .get_arguments()
            .filter(|arg| arg.is_global_set())
            .filter_map(|arg| arg.get_long().map(|long| format!("--{long}")))
            .collect();
        assert_eq!(globals.len(), SHARED.len());
        for global in globals {
            assert!(SHARED.iter().any(|(name, _)| name.contains(&global)), "{global}");
        }
    }

    #[test]
    fn help_fits_the_width_and_begins_with_an_example() {
        for width in [60, 80, 100] {
            let mut command = command(width);
            command.build();
            let own = command.render_help().to_string();
            assert!(own.contains("Know the source:") && own.contains("Options of every command:"), "{own}");
            let plan = command.find_subcommand_mut("plan").unwrap().render_help().to_string();
            let (example, usage) = (plan.find("Example").unwrap(), plan.find("Usage:").unwrap());
            assert!(example < usage && !plan.contains("--threads <N>"), "{plan}");
            // Examples are command lines, which are not broken.
            let lists = own.split("First steps:").next().unwrap();
            assert!(lists.lines().all(|line| line.chars().count() <= width), "{width}: {own}");
        }
    }
}

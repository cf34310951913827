//! Completing in shells: commands and options by themselves, editions and components by the media named before.

use crate::{args, commands};
use clap::Command;
use clap_complete::{ArgValueCompleter, CompleteEnv, CompletionCandidate};
use std::{
    ffi::{OsStr, OsString},
    path::{Path, PathBuf},
    sync::atomic::{AtomicBool, Ordering},
};

/// The variable by which a shell asks; its value names the shell.
pub(crate) const VARIABLE: &str = "NEATSTACK_COMPLETE";
/// Shells whose completions are written, with the place of the file in a folder of shared data.
pub(crate) const SHELLS: [(&str, &str); 3] = [
    ("bash", "bash-completion/completions/neatstack"),
    ("zsh", "zsh/vendor-completions/_neatstack"),
    ("fish", "fish/vendor_completions.d/neatstack.fish"),
];
/// How many candidates are offered.
const OFFERED: usize = 500;

/// Whether that shell asks; the variable is gone when candidates are looked for.
static IS_BASH: AtomicBool = AtomicBool::new(false);

/// Answers a shell that asks, and ends the program then.
pub(crate) fn answer_shell() {
    if let Some(shell) = std::env::var_os(VARIABLE) {
        IS_BASH.store(shell == "bash", Ordering::Relaxed);
        env().complete();
    }
}

fn env() -> CompleteEnv<'static, fn() -> Command> {
    CompleteEnv::with_factory(command as fn() -> Command)
        .var(VARIABLE)
        .bin("neatstack")
        .completer("neatstack")
}

/// What a shell has to know to ask.
pub(crate) fn registration(shell: &str) -> std::io::Result<Vec<u8>> {
    let shells = clap_complete::env::Shells::builtins();
    let completer = shells.completer(shell).ok_or(std::io::ErrorKind::NotFound)?;
    let mut text = Vec::new();
    completer.write_registration(VARIABLE, "neatstack", "neatstack", "neatstack", &mut text)?;
    if shell == "zsh" {
        text = called_at_once(text)?;
    }
    Ok(text)
}

/// The file for Zsh as a file in its path must be: it is read when it is wanted for the first time, as the body of a
/// function of its own name, and has to answer then as well. What the library writes is for reading it beforehand.
fn called_at_once(text: Vec<u8>) -> std::io::Result<Vec<u8>> {
    let text = String::from_utf8(text).map_err(std::io::Error::other)?;
    let last = text.trim_end().lines().last().unwrap_or_default();
    let mut words = last.split(' ');
    let (Some("compdef"), Some(function)) = (words.next(), words.next()) else {
        return Err(std::io::Error::other("the completions for Zsh end otherwise than they did"));
    };
    let body = text.trim_end().strip_suffix(last).unwrap_or_default();
    Ok(format!(
        "{body}if [ \"${{funcstack[1]}}\" = _neatstack ]; then\n    {function} \"$@\"\nelse\n    {last}\nfi\n"
    )
    .into_bytes())
}

/// The commands, with what can be completed from a media.
fn command() -> Command {
    with_media(args::command(100), "")
}

fn with_media(command: Command, name: &str) -> Command {
    let name = format!("{name} {}", command.get_name());
    let own = name.clone();
    let command = command.mut_args(move |arg| {
        // `editions IMAGE keep …` names them without an option.
        let id = arg.get_id().as_str();
        let edition = id == "edition" || (own.contains(" editions ") && id == "which");
        let component =
            matches!(id, "remove" | "put_back") || (own.ends_with(" inventory") && id == "pattern");
        match (edition, component) {
            (true, _) => arg.add(ArgValueCompleter::new(|current: &OsStr| offered(current, editions()))),
            (_, true) => arg.add(ArgValueCompleter::new(|current: &OsStr| offered(current, components()))),
            _ => arg,
        }
    });
    command.mut_subcommands(move |below| with_media(below, &name))
}

/// Those that begin with what was typed, in any case.
fn offered(current: &OsStr, all: Vec<String>) -> Vec<CompletionCandidate> {
    // This shell takes what is offered as it is; the others mask blanks themselves.
    let is_bare = IS_BASH.load(Ordering::Relaxed);
    let masked = |own: String| if is_bare { own.replace(' ', "\\ ") } else { own };
    let typed = current.to_string_lossy().replace("\\ ", " ").to_lowercase();
    let fits = |own: &String| own.to_lowercase().starts_with(&typed) && !own.chars().any(char::is_control);
    all.into_iter().filter(fits).take(OFFERED).map(masked).map(CompletionCandidate::new).collect()
}

/// The words of the command line that is being completed.
fn words() -> Vec<OsString> {
    std::env::args_os().skip_while(|word| word != "--").skip(2).collect()
}

/// What was named before and is there: the last is the nearest.
fn named() -> Vec<PathBuf> {
    let paths = words().into_iter().map(PathBuf::from).filter(|path| path.exists());
    paths.collect()
}

/// The edition that was named with an option.
fn edition() -> Option<String> {
    let words = words();
    let at = words.iter().position(|word| word == "--edition")?;
    Some(words.get(at + 1)?.to_string_lossy().into_owned())
}

fn editions() -> Vec<String> {
    named().iter().find_map(|path| commands::editions_at(path)).unwrap_or_default()
}

fn components() -> Vec<String> {
    let edition = edition();
    let of = |path: &PathBuf| commands::components_at(Path::new(path), edition.as_deref());
    named().iter().find_map(of).unwrap_or_default()
}

//! Errors for people, and the exit codes.

use crate::{
    advice,
    show::build::ErrorView,
    show::{outside, style, wrapped},
};
use neat_content::{Class, Error};
use std::{
    io::{ErrorKind, Write},
    process::ExitCode,
};

/// The one place where a kind of trouble becomes an exit code.
pub(crate) const fn code(class: Class) -> u8 {
    match class {
        Class::Io => 1,
        Class::BadRequest => 2,
        Class::Corrupt | Class::Unsupported | Class::LimitExceeded => 3,
        Class::Unsafe => 4,
        Class::Internal => 70,
        Class::Cancelled => 130,
    }
}

/// Says what went wrong and what to do about it, on standard error; with `json` as one JSON document there.
pub(crate) fn report(error: &Error, json: bool) -> ExitCode {
    if is_closed_pipe(error) {
        // Whoever read our output has what they wanted.
        return ExitCode::SUCCESS;
    }
    let (message, hint, code) = (error.to_string(), error.hint(), code(error.class()));
    let hint = advice::words(&hint);
    if json {
        let document = ErrorView { error: message, hint: hint.into(), exit_code: code };
        complain_json(&document);
        return ExitCode::from(code);
    }
    let heading = if error.class() == Class::Unsafe { "refused" } else { "error" };
    let message = wrapped(&outside::shortened(&message), heading.len() + 2);
    complain(&format!("{}{heading}:{:#} {message}", style::BAD, style::BAD));
    if !hint.is_empty() {
        complain(&format!("  {}what to do:{:#} {}", style::GOOD, style::GOOD, wrapped(&hint, 14)));
    }
    ExitCode::from(code)
}

/// What the argument parser has to say: help and versions on standard output, what is wrong on standard error. What was
/// typed is shown in it, and may come from a pattern that matched any name.
pub(crate) fn usage(error: &clap::Error) -> ExitCode {
    let text = error.render();
    let code = if error.use_stderr() { 2 } else { 0 };
    let is_hostile = std::env::args_os()
        .any(|argument| outside::line(&argument.to_string_lossy()) != argument.to_string_lossy());
    if error.use_stderr() && wants_json() {
        complain_json(&usage_view(&text.to_string(), code));
    } else if error.use_stderr() {
        let text = if is_hostile { outside::shown(&text.to_string()) } else { text.ansi().to_string() };
        let _ = write!(anstream::stderr(), "{text}");
    } else {
        let _ = write!(anstream::stdout(), "{}", text.ansi());
    }
    ExitCode::from(code)
}

/// Whether what cannot be parsed asks for JSON all the same.
fn wants_json() -> bool {
    std::env::args_os().skip(1).take_while(|argument| argument != "--").any(|argument| argument == "--json")
}

/// What is wrong with a command line: what the parser says first is the error, the rest what to do.
fn usage_view(text: &str, exit_code: u8) -> ErrorView {
    let text = text.trim_end().strip_prefix("error: ").unwrap_or(text);
    let (error, rest) = text.split_once("\n\n").unwrap_or((text, ""));
    let line = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
    ErrorView { error: line(error), hint: line(rest), exit_code }
}

fn complain_json(document: &ErrorView) {
    let text = serde_json::to_string(document).unwrap_or_default();
    complain_raw(&outside::json(&text));
}

/// Says something on standard error, when somebody is there to hear it: a log that is full or closed stops no work.
pub(crate) fn complain(text: &str) {
    complain_raw(&outside::shown(text));
}

fn complain_raw(text: &str) {
    let _ = writeln!(anstream::stderr(), "{text}");
}

fn is_closed_pipe(error: &Error) -> bool {
    matches!(error, Error::Io { source, .. } if source.kind() == ErrorKind::BrokenPipe)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_class_has_its_code() {
        let all = [
            (Class::Io, 1),
            (Class::BadRequest, 2),
            (Class::Corrupt, 3),
            (Class::Unsupported, 3),
            (Class::LimitExceeded, 3),
            (Class::Unsafe, 4),
            (Class::Internal, 70),
            (Class::Cancelled, 130),
        ];
        for (class, expected) in all {
            assert_eq!(code(class), expected);
        }
    }
}

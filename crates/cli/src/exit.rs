//! Errors for people, and the exit codes.

use crate::show::{style, wrapped};
use anstream::eprintln;
use neat_content::{Class, Error};
use std::{io::ErrorKind, process::ExitCode};

/// The one place where a kind of trouble becomes an exit code.
pub(crate) const fn code(class: Class) -> u8 {
    match class {
        Class::Io => 1,
        Class::BadRequest => 2,
        Class::Corrupt | Class::Unsupported | Class::LimitExceeded => 3,
        Class::Unsafe => 4,
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
    if json {
        eprintln!("{}", serde_json::json!({ "error": message, "hint": hint, "exit_code": code }));
        return ExitCode::from(code);
    }
    let heading = if error.class() == Class::Unsafe { "refused" } else { "error" };
    let message = wrapped(&message, heading.len() + 2);
    eprintln!("{}{heading}:{:#} {message}", style::BAD, style::BAD);
    if !hint.is_empty() {
        eprintln!("  {}what to do:{:#} {}", style::GOOD, style::GOOD, wrapped(&hint, 14));
    }
    ExitCode::from(code)
}

fn is_closed_pipe(error: &Error) -> bool {
    matches!(error, Error::Io { source, .. } if source.kind() == ErrorKind::BrokenPipe)
}

//! `neatstack`: services installation images from the command line.
//!
//! Results go to standard output, everything else to standard error. This crate parses arguments, shows things and
//! turns errors into exit codes; the work is done by the crates below it.

#![deny(unsafe_code)]

mod advice;
mod args;
mod commands;
mod complete;
mod config;
mod context;
#[cfg(test)]
mod docs;
mod documents;
mod exit;
mod memory;
mod screen;
mod show;

use neat_content::Error;
use std::{
    process::ExitCode,
    sync::{Mutex, PoisonError},
};

fn main() -> ExitCode {
    // A fault of ours is said like every other error, and once; threads hand theirs to whoever waits for them.
    static FAULT: Mutex<String> = Mutex::new(String::new());
    let fault = || FAULT.lock().unwrap_or_else(PoisonError::into_inner);
    complete::answer_shell();
    memory::give_back_large_blocks();
    std::panic::set_hook(Box::new(move |panic| *fault() = panic.to_string()));
    std::panic::catch_unwind(run).unwrap_or_else(|_| {
        let is_json = std::env::args_os().any(|argument| argument == "--json");
        exit::report(&Error::internal(fault().clone()), is_json)
    })
}

fn run() -> ExitCode {
    let cli = match args::parse() {
        Ok(cli) => cli,
        Err(error) => return exit::usage(&error),
    };
    let context = match context::Context::new(&cli.global) {
        Ok(context) => context,
        Err(error) => return exit::report(&error, cli.global.json),
    };
    match commands::run(cli.command, &context) {
        Ok(code) => code,
        Err(error) => {
            context.clear_progress();
            exit::report(&error, cli.global.json)
        }
    }
}

//! `neatstack`: services installation images from the command line.
//!
//! Results go to standard output, everything else to standard error. This crate parses arguments, shows things and
//! turns errors into exit codes; the work is done by the crates below it.

#![forbid(unsafe_code)]

mod args;
mod commands;
mod context;
mod exit;
mod show;

use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
    let cli = args::Cli::parse();
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

//! Asking on the terminal.

use neat_content::{Error, Result};
use std::{
    io::{BufRead, IsTerminal, Write},
    path::Path,
};

/// Asks on the terminal, where there is one.
pub(super) fn ask_for(what: &str, usual: &str) -> Result<String> {
    let fault = Error::io("read from", Path::new("the terminal"));
    let mut out = std::io::stderr();
    write!(out, "{what} [{usual}]: ")
        .and_then(|()| out.flush())
        .map_err(Error::io("write to", Path::new("the terminal")))?;
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line).map_err(fault)?;
    Ok(line.trim().to_owned())
}

/// Asks for a secret; what is typed is not shown.
pub(in crate::commands) fn ask_secret(field: &str) -> Result<String> {
    let fault = || Error::io("ask on", Path::new("the terminal"));
    if !std::io::stdin().is_terminal() {
        return Err(Error::request(
            format!("`{field}` is to be asked for, and there is no terminal"),
            "run it on a terminal, or take the secret from a file or the environment",
        ));
    }
    let mut terminal = std::fs::File::options().read(true).write(true).open("/dev/tty").map_err(fault())?;
    write!(terminal, "{field} (not shown): ").map_err(fault())?;
    let hidden = HiddenInput::start(&terminal)?;
    let mut line = String::new();
    std::io::BufReader::new(&terminal).read_line(&mut line).map_err(fault())?;
    drop(hidden);
    writeln!(terminal).map_err(fault())?;
    Ok(line.trim_end_matches(['\n', '\r']).to_owned())
}

/// While it lives, what is typed is not shown.
struct HiddenInput<'a> {
    terminal: &'a std::fs::File,
    before: rustix::termios::Termios,
}

impl<'a> HiddenInput<'a> {
    fn start(terminal: &'a std::fs::File) -> Result<Self> {
        let failed = |error: rustix::io::Errno| Error::io("change", Path::new("the terminal"))(error.into());
        let before = rustix::termios::tcgetattr(terminal).map_err(failed)?;
        let mut hidden = before.clone();
        hidden.local_modes -= rustix::termios::LocalModes::ECHO;
        rustix::termios::tcsetattr(terminal, rustix::termios::OptionalActions::Flush, &hidden)
            .map_err(failed)?;
        Ok(Self { terminal, before })
    }
}

impl Drop for HiddenInput<'_> {
    fn drop(&mut self) {
        // Nothing more can be done if the terminal does not take its own settings back.
        let _ =
            rustix::termios::tcsetattr(self.terminal, rustix::termios::OptionalActions::Flush, &self.before);
    }
}

//! The machine's control socket: QMP, one JSON document a line.

use neat_content::{Error, Result};
use serde_json::{Value, json};
use std::{
    io::{BufRead, BufReader, Write},
    os::unix::net::UnixStream,
    path::{Path, PathBuf},
    time::{Duration, Instant},
};

/// How long an answer may take, in a machine that is busy.
const PATIENCE: Duration = Duration::from_secs(30);

/// A connection that is ready for commands.
pub(crate) struct Monitor {
    stream: UnixStream,
    reader: BufReader<UnixStream>,
    path: PathBuf,
    /// Names of events that came.
    pub events: Vec<String>,
}

impl Monitor {
    /// Connects to a machine that has just been started.
    pub(crate) fn connect(path: &Path, is_alive: &mut dyn FnMut() -> bool) -> Result<Self> {
        let end = Instant::now() + PATIENCE;
        let stream = loop {
            match UnixStream::connect(path) {
                Ok(stream) => break stream,
                Err(error) if Instant::now() > end || !is_alive() => {
                    return Err(Error::io("connect to", path)(error));
                }
                Err(_) => std::thread::sleep(Duration::from_millis(50)),
            }
        };
        let failed = |error| Error::io("connect to", path)(error);
        stream.set_read_timeout(Some(PATIENCE)).map_err(failed)?;
        let reader = BufReader::new(stream.try_clone().map_err(Error::io("connect to", path))?);
        let mut monitor = Self { stream, reader, path: path.to_owned(), events: Vec::new() };
        monitor.line()?;
        monitor.command("qmp_capabilities", &json!({}))?;
        Ok(monitor)
    }

    fn line(&mut self) -> Result<Value> {
        let mut line = String::new();
        let read = self.reader.read_line(&mut line).map_err(Error::io("read from", &self.path))?;
        if read == 0 {
            return Err(Error::io("read from", &self.path)(std::io::ErrorKind::UnexpectedEof.into()));
        }
        Ok(serde_json::from_str(&line).unwrap_or(Value::Null))
    }

    /// Gives a command and waits for its result.
    pub(crate) fn command(&mut self, name: &str, arguments: &Value) -> Result<Value> {
        let text = json!({ "execute": name, "arguments": arguments }).to_string();
        writeln!(self.stream, "{text}").map_err(Error::io("write to", &self.path))?;
        loop {
            let mut line = self.line()?;
            if let Some(event) = line["event"].as_str() {
                self.events.push(event.to_owned());
            } else if !line["return"].is_null() {
                return Ok(line["return"].take());
            } else if !line["error"].is_null() {
                let message = line["error"]["desc"].as_str().unwrap_or("unknown error").to_owned();
                return Err(Error::request(
                    format!("the virtual machine refuses {name}: {message}"),
                    "try a newer version of the virtual-machine program",
                ));
            }
        }
    }
}

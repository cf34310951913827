//! A writer that is not there: for tests, and for rehearsing what cannot be taken back.
//!
//! It answers at the level of commands, by the rules of the standard and not by those of whoever writes: what comes in a wrong
//! order, at a wrong place or in a wrong form is refused with the sense that a writer has for it.

mod answers;
mod medium;

use crate::{Answer, Data, DiscKind, DiscState, PacketDevice, Sense, commands};
use medium::Medium;
use neat_content::{Error, Result};
use serde::{Deserialize, Serialize};
use std::{
    ffi::OsString,
    fs::{self, File},
    io,
    path::{Path, PathBuf},
    time::Duration,
};

/// What is wrong with a writer or its disc. Places are blocks of 2,048 bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Fault {
    /// Data come too slowly at this block: fatal without protection against empty buffers.
    RunsEmpty(u32),
    /// Writing this block fails.
    WriteError(u32),
    /// Reading this block fails.
    ReadError(u32),
    /// This block reads as something else than what was written.
    WrongRead(u32),
    /// After so many blocks written the disc is taken out.
    TakenOut(u32),
    /// Every so many writes the buffer is full, and the write is to be sent again.
    BufferFull(u32),
    /// What takes long is answered so many times with "at work".
    Works(u32),
    /// It does not know protection against empty buffers.
    NoProtection(bool),
    /// It does not calibrate when it is told.
    NoCalibration(bool),
    /// It knows what it wrote only after the disc was stopped and started.
    WantsRestart(bool),
}

/// What a simulated writer says of itself, and what lies in it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Description {
    /// Maker, at most 8 letters.
    pub maker: String,
    /// Model, at most 16 letters.
    pub model: String,
    /// Serial number.
    #[serde(default)]
    pub serial: String,
    /// The disc in it.
    pub disc: Option<DiscDescription>,
    /// What is wrong.
    #[serde(default)]
    pub faults: Vec<Fault>,
}

/// A disc.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DiscDescription {
    /// Kind.
    pub kind: DiscKind,
    /// Blocks of 2,048 bytes that it can hold.
    pub blocks: u32,
    /// What is on it.
    pub state: DiscState,
    /// Blocks that are written.
    #[serde(default)]
    pub used: u32,
    /// Speeds of writing, in kilobytes a second.
    #[serde(default)]
    pub speeds: Vec<u32>,
}

/// A simulated writer. The bytes of its disc are in a file, mostly holes.
#[derive(Debug)]
pub struct SimulatedWriter {
    name: String,
    description: Description,
    medium: Option<Medium>,
    file: File,
    /// Where its state is kept; nowhere in tests.
    kept: Option<PathBuf>,
    /// Commands that came, with what matters of them; equal ones that follow each other are one.
    log: Vec<String>,
    /// How often it is still at work.
    working: u32,
    writes: u32,
    is_held: bool,
    is_out: bool,
    /// It has something to tell before anything else.
    tells: bool,
    wants_restart: bool,
}

/// `INQUIRY` is answered whatever there is to tell (SPC-4, 5.9).
const INQUIRY: u8 = 0x12;

/// What stands beside the file that describes a writer.
fn beside(path: &Path, ending: &str) -> PathBuf {
    let mut name: OsString = path.as_os_str().to_owned();
    name.push(ending);
    name.into()
}

/// Reads the description of a writer.
fn describe(path: &Path) -> Result<Description> {
    let text = fs::read_to_string(path).map_err(Error::io("read", path))?;
    toml::from_str(&text).map_err(|error| {
        let message = format!("{}: {}", path.display(), neat_content::plain_toml(error.message()));
        Error::request(
            message,
            "it says maker, model, serial, [disc] with kind, blocks and state, and may say faults",
        )
    })
}

impl SimulatedWriter {
    /// A writer whose disc has its bytes in `file`.
    #[must_use]
    pub fn new(description: Description, name: &str, file: File) -> Self {
        let medium = description.disc.as_ref().map(Medium::new);
        Self {
            name: name.to_owned(),
            description,
            medium,
            file,
            kept: None,
            log: Vec::new(),
            working: 0,
            writes: 0,
            is_held: false,
            is_out: false,
            tells: true,
            wants_restart: false,
        }
    }

    /// The writer that a file describes. The bytes of its disc, what became of it, and the commands that came are in files
    /// beside it, whose names go on with `.bytes`, `.state` and `.commands`.
    ///
    /// # Errors
    /// `Io`; `Request` for a file that describes none.
    pub fn open(path: &Path) -> Result<Self> {
        let mut description = describe(path)?;
        let state = beside(path, ".state");
        if state.exists() {
            description.disc = describe(&state)?.disc;
        }
        let bytes = beside(path, ".bytes");
        let file = File::options()
            .read(true)
            .write(true)
            .create(true)
            .truncate(false)
            .open(&bytes)
            .map_err(Error::io("open", &bytes))?;
        let mut own = Self::new(description, &path.display().to_string(), file);
        own.kept = Some(path.to_owned());
        Ok(own)
    }

    /// The commands that came: names with what matters of them; those that read or write, one after another, as one.
    #[must_use]
    pub fn log(&self) -> &[String] {
        &self.log
    }

    fn fault(&self, find: impl Fn(&Fault) -> Option<u32>) -> Option<u32> {
        self.description.faults.iter().find_map(find)
    }

    fn has(&self, fault: Fault) -> bool {
        self.description.faults.contains(&fault)
    }

    /// Begins something that takes long.
    fn begin(&mut self) {
        self.working =
            self.fault(|own| if let Fault::Works(count) = own { Some(*count) } else { None }).unwrap_or(1);
    }

    fn note(&mut self, command: &[u8]) {
        let word = |at: usize| {
            command.get(at..at + 4).map_or(0, |own| u32::from_be_bytes([own[0], own[1], own[2], own[3]]))
        };
        let name = commands::name(command);
        let line = match command.first() {
            Some(0x2A | 0x28) => {
                let (start, count) = (word(2), u32::from(command[7]) << 8 | u32::from(command[8]));
                if let Some(last) = self.log.last_mut()
                    && let Some((front, end)) = last.rsplit_once("..")
                    && front.starts_with(name)
                    && let Ok(end) = end.parse::<u32>()
                    && (end == start || end == start + count)
                {
                    *last = format!("{front}..{}", start + count);
                    return;
                }
                format!("{name} {start}..{}", start + count)
            }
            Some(0x53) => format!("{name} {}", word(5)),
            Some(0x5B) => format!("{name} {}", command[2]),
            Some(0xA1) => format!("{name} {}", command[1] & 7),
            Some(0x1B | 0x1E) => format!("{name} {}", command[4]),
            _ => name.to_owned(),
        };
        if self.log.last() != Some(&line) {
            self.log.push(line);
        }
    }

    /// Keeps what became of the disc.
    fn keep(&mut self) {
        let Some(path) = &self.kept else { return };
        let mut description = self.description.clone();
        if let (Some(disc), Some(medium)) = (&mut description.disc, &self.medium) {
            medium.describe(disc);
        }
        // A rehearsal that cannot be kept is one all the same.
        if let Ok(text) = toml::to_string(&description) {
            let _ = fs::write(beside(path, ".state"), text);
        }
        let _ = fs::write(beside(path, ".commands"), self.log.join("\n") + "\n");
    }
}

impl Drop for SimulatedWriter {
    fn drop(&mut self) {
        self.keep();
    }
}

impl PacketDevice for SimulatedWriter {
    fn name(&self) -> String {
        self.name.clone()
    }

    fn send(&mut self, command: &[u8], data: Data<'_>, _limit: Duration) -> io::Result<Answer> {
        self.note(command);
        if self.tells && command.first() != Some(&INQUIRY) {
            self.tells = false;
            return Ok(Answer::Check(Sense::new(6, 0x29, 0)));
        }
        self.answer(command, data).map(|answer| match answer {
            Ok(len) => Answer::Good(len),
            Err(sense) => Answer::Check(sense),
        })
    }

    fn pause(&mut self, _time: Duration) {}
}

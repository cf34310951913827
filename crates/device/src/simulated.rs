//! Devices that are not there: for tests, and for rehearsing what cannot be taken back.

use crate::Device;
use neat_content::{Error, Result};
use serde::{Deserialize, Serialize};
use std::{
    fs::File,
    io,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
};

/// What is wrong with a device. Positions are bytes from its start.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Fault {
    /// Each write takes at most this many bytes.
    ShortWrites(u64),
    /// Writing over this position fails.
    WriteError(u64),
    /// Reading over this position fails.
    ReadError(u64),
    /// This position reads as something else than what was written.
    WrongRead(u64),
    /// Writes from this position on are said to be done and are not.
    DropsWrites(u64),
    /// After so many bytes written it is gone.
    Disappears(u64),
    /// It has only so many bytes; beyond them it begins again at its start.
    WrapsAt(u64),
}

/// What a simulated device says of itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Description {
    /// Maker and model.
    pub model: String,
    /// Serial number.
    pub serial: String,
    /// Bytes that it says it has.
    pub size: u64,
    /// Whether it can be taken out.
    #[serde(default = "yes")]
    pub removable: bool,
    /// Where it is mounted.
    #[serde(default)]
    pub mounted: Vec<String>,
    /// Whether the system runs from it.
    #[serde(default)]
    pub system: bool,
    /// What is wrong with it.
    #[serde(default)]
    pub faults: Vec<Fault>,
}

const fn yes() -> bool {
    true
}

/// A simulated device. Its bytes are in a file, mostly holes.
#[derive(Debug)]
pub struct Simulated {
    /// What it says of itself.
    pub description: Description,
    name: String,
    file: File,
    written: u64,
}

impl Simulated {
    /// A device whose bytes are in `file`.
    pub fn new(description: Description, name: &str, file: File) -> Self {
        Self { description, name: name.to_owned(), file, written: 0 }
    }

    /// The device that the file `NAME.device.toml` of a folder describes; its bytes are in `NAME.bytes` beside it.
    pub fn open(folder: &Path, name: &str) -> Result<Self> {
        let description = describe(&folder.join(format!("{name}{ENDING}")))?;
        let path = folder.join(format!("{name}.bytes"));
        let file = File::options()
            .read(true)
            .write(true)
            .create(true)
            .truncate(false)
            .open(&path)
            .map_err(Error::io("open", &path))?;
        Ok(Self::new(description, name, file))
    }

    fn fault(&self, find: impl Fn(&Fault) -> Option<u64>) -> Option<u64> {
        self.description.faults.iter().find_map(find)
    }

    /// As strict as a disk that is used past the kernel's copies.
    fn check_blocks(&self, offset: u64, len: usize) -> io::Result<()> {
        let is_whole = [offset, len as u64].iter().all(|number| number.is_multiple_of(self.block_len()));
        if is_whole { Ok(()) } else { Err(io::ErrorKind::InvalidInput.into()) }
    }

    fn is_gone(&self) -> bool {
        self.fault(|fault| if let Fault::Disappears(after) = fault { Some(*after) } else { None })
            .is_some_and(|after| self.written >= after)
    }

    /// Where a position lies in truth.
    fn place(&self, offset: u64) -> u64 {
        let real = self.fault(|fault| if let Fault::WrapsAt(len) = fault { Some(*len) } else { None });
        real.map_or(offset, |real| offset % real.max(1))
    }

    fn gone() -> io::Error {
        io::Error::other("the device is no longer there")
    }

    /// Calls `each` with pieces that lie together in truth: position, start and end in the buffer.
    fn pieces(&self, offset: u64, len: usize) -> Vec<(u64, usize, usize)> {
        let mut pieces: Vec<(u64, usize, usize)> = Vec::new();
        let step = 512;
        for start in (0..len).step_by(step) {
            let end = (start + step).min(len);
            let place = self.place(offset + start as u64);
            match pieces.last_mut() {
                Some(last) if last.0 + (last.2 - last.1) as u64 == place => last.2 = end,
                _ => pieces.push((place, start, end)),
            }
        }
        pieces
    }
}

/// How the file that describes a simulated device ends.
pub const ENDING: &str = ".device.toml";

/// The names of the devices that a folder describes, sorted.
pub fn names(folder: &Path) -> Result<Vec<String>> {
    let entries = std::fs::read_dir(folder).map_err(Error::io("read the folder", folder))?;
    let mut names: Vec<String> = entries
        .flatten()
        .filter_map(|entry| entry.file_name().into_string().ok()?.strip_suffix(ENDING).map(str::to_owned))
        .collect();
    names.sort();
    Ok(names)
}

/// Reads the file that describes a device.
pub fn describe(path: &Path) -> Result<Description> {
    let text = std::fs::read_to_string(path).map_err(Error::io("read", path))?;
    toml::from_str(&text).map_err(|error| {
        let message = format!("{}: {}", path.display(), neat_content::plain_toml(error.message()));
        Error::request(message, "it says model, serial, size, and may say removable, mounted, system, faults")
    })
}

/// Where the bytes of the device called `name` are.
pub fn bytes_path(folder: &Path, name: &str) -> PathBuf {
    folder.join(format!("{name}.bytes"))
}

impl Device for Simulated {
    fn name(&self) -> String {
        self.name.clone()
    }

    fn len(&self) -> u64 {
        self.description.size
    }

    fn block_len(&self) -> u64 {
        512
    }

    fn read_at(&mut self, offset: u64, buffer: &mut [u8]) -> io::Result<usize> {
        if self.is_gone() {
            return Err(Self::gone());
        }
        self.check_blocks(offset, buffer.len())?;
        let range = offset..offset + buffer.len() as u64;
        let at = |find: fn(&Fault) -> Option<u64>| self.fault(find).filter(|at| range.contains(at));
        if at(|fault| if let Fault::ReadError(at) = fault { Some(*at) } else { None }).is_some() {
            return Err(io::Error::other("input/output error"));
        }
        for (place, start, end) in self.pieces(offset, buffer.len()) {
            let mut done = start;
            while done < end {
                match self.file.read_at(&mut buffer[done..end], place + (done - start) as u64)? {
                    // What was never written is zero.
                    0 => {
                        buffer[done..end].fill(0);
                        done = end;
                    }
                    read => done += read,
                }
            }
        }
        if let Some(at) = at(|fault| if let Fault::WrongRead(at) = fault { Some(*at) } else { None }) {
            buffer[(at - offset) as usize] ^= 0x10;
        }
        Ok(buffer.len())
    }

    fn write_at(&mut self, offset: u64, bytes: &[u8]) -> io::Result<usize> {
        if self.is_gone() {
            return Err(Self::gone());
        }
        self.check_blocks(offset, bytes.len())?;
        let mut len = bytes.len() as u64;
        for fault in &self.description.faults {
            match fault {
                Fault::ShortWrites(most) => len = len.min(*most),
                Fault::WriteError(at) if (offset..offset + len).contains(at) => {
                    return Err(io::Error::other("input/output error"));
                }
                Fault::Disappears(after) => len = len.min(after - self.written),
                _ => {}
            }
        }
        let dropped = self.fault(|fault| if let Fault::DropsWrites(at) = fault { Some(*at) } else { None });
        for (place, start, end) in self.pieces(offset, len as usize) {
            let kept = dropped
                .map_or(end, |from| end.min(start + from.saturating_sub(offset + start as u64) as usize));
            if kept > start {
                self.file.write_all_at(&bytes[start..kept], place)?;
            }
        }
        self.written += len;
        Ok(len as usize)
    }

    fn flush(&mut self) -> io::Result<()> {
        if self.is_gone() { Err(Self::gone()) } else { Ok(()) }
    }
}

//! A writer that answers in types: single commands and what they say.

use crate::{Answer, Data, DiscKind, PacketDevice, Sense, commands};
use neat_content::{Error, Result};
use std::{path::Path, time::Duration};

/// How long a command that only asks may take.
const SHORT: Duration = Duration::from_secs(30);
/// How long one that moves data may take.
const LONG: Duration = Duration::from_secs(120);
/// How often a device that has something to tell is asked again.
const TELLINGS: u32 = 5;
/// Between two questions whether it is ready.
const STEP: Duration = Duration::from_millis(500);
/// Between two tries of a write whose buffer was full.
const FULL: Duration = Duration::from_millis(20);
/// Tries of such a write: a minute.
const FULL_TRIES: u32 = 3000;

/// Type of devices with discs (SPC-4, table 141).
const DISCS: u8 = 5;
/// The feature that says the serial number (MMC-5, 5.3.33).
const SERIAL: u16 = 0x0108;

/// What a writer says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Identity {
    /// Maker and model.
    pub model: String,
    /// Serial number; empty where it has none.
    pub serial: String,
    /// Revision of its program.
    pub revision: String,
}

/// A writer.
pub struct Unit<'a> {
    device: &'a mut dyn PacketDevice,
}

/// A text of the device in one line: letters and signs of ASCII.
fn text(bytes: &[u8]) -> String {
    let is_shown = |c: &char| c.is_ascii_graphic() || *c == ' ';
    let clean: String = bytes.iter().map(|byte| char::from(*byte)).filter(is_shown).collect();
    clean.split_whitespace().collect::<Vec<_>>().join(" ")
}

pub(crate) fn be16(bytes: &[u8], at: usize) -> u16 {
    bytes.get(at..at + 2).map_or(0, |own| u16::from_be_bytes([own[0], own[1]]))
}

pub(crate) fn be32(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).map_or(0, |own| u32::from_be_bytes([own[0], own[1], own[2], own[3]]))
}

impl<'a> Unit<'a> {
    /// A writer on a device.
    pub fn new(device: &'a mut dyn PacketDevice) -> Self {
        Self { device }
    }

    /// What a person calls it.
    pub fn name(&self) -> String {
        self.device.name()
    }

    /// Sends a command; what it has to tell of changes is heard and the command sent again.
    fn send(&mut self, command: &[u8], mut data: Data<'_>, limit: Duration) -> Result<Answer> {
        let name = self.device.name();
        for _ in 0..TELLINGS {
            let again = match &mut data {
                Data::None => Data::None,
                Data::In(bytes) => Data::In(bytes),
                Data::Out(bytes) => Data::Out(bytes),
            };
            let answer = self
                .device
                .send(command, again, limit)
                .map_err(Error::io("send a command to", Path::new(&name)))?;
            match answer {
                Answer::Check(sense) if sense.is_attention() => {}
                answer => return Ok(answer),
            }
        }
        Err(self.refused(command, Sense::new(6, 0x28, 0)))
    }

    /// The error of a command that was not done.
    pub(crate) fn refused(&self, command: &[u8], sense: Sense) -> Error {
        let hint = match (sense.key, sense.code) {
            (2, 0x3A) => "put a disc in, and close it",
            (3, _) => "try another disc, and a slower speed: --speed",
            (4, _) => "switch the writer off and on; it may be faulty",
            _ => "try again; if it stays so, the writer does not suit this disc",
        };
        Error::failed(format!("{}: {}: {sense}", self.device.name(), commands::name(command)), hint)
    }

    /// Sends a command that has to be done.
    pub(crate) fn run(&mut self, command: &[u8], data: Data<'_>) -> Result<usize> {
        match self.send(command, data, LONG)? {
            Answer::Good(len) => Ok(len),
            Answer::Check(sense) => Err(self.refused(command, sense)),
        }
    }

    /// Sends a command that may be refused: whether it was done.
    pub(crate) fn try_run(&mut self, command: &[u8], data: Data<'_>) -> Result<Option<usize>> {
        Ok(match self.send(command, data, SHORT)? {
            Answer::Good(len) => Some(len),
            Answer::Check(_) => None,
        })
    }

    /// Asks for at most `N` bytes; what did not come is zero, and nothing is said where the command is refused.
    pub(crate) fn ask<const N: usize>(&mut self, command: &[u8]) -> Result<Option<([u8; N], usize)>> {
        let mut bytes = [0; N];
        let len = self.try_run(command, Data::In(&mut bytes))?;
        Ok(len.map(|len| (bytes, len.min(N))))
    }

    /// Who made it.
    ///
    /// # Errors
    /// What the system refuses; `Failed` for a device that is no writer.
    pub fn identity(&mut self) -> Result<Identity> {
        let mut bytes = [0; 36];
        self.run(&commands::inquiry(None, 36), Data::In(&mut bytes))?;
        if bytes[0] & 0x1F != DISCS {
            return Err(Error::request(
                format!("{} is no drive for discs", self.device.name()),
                "`neatstack disc --list` shows those that are here",
            ));
        }
        let mut identity = Identity {
            model: format!("{} {}", text(&bytes[8..16]), text(&bytes[16..32])).trim().to_owned(),
            serial: String::new(),
            revision: text(&bytes[32..36]),
        };
        if let Some((bytes, len)) = self.ask::<64>(&commands::get_configuration(SERIAL, 64))?
            && len > 12
            && be16(&bytes, 8) == SERIAL
        {
            let end = (12 + usize::from(bytes[11])).min(len);
            identity.serial = text(&bytes[12..end]);
        }
        if identity.serial.is_empty()
            && let Some((bytes, len)) = self.ask::<64>(&commands::inquiry(Some(0x80), 64))?
            && len > 4
            && bytes[1] == 0x80
        {
            let end = (4 + usize::from(bytes[3])).min(len);
            identity.serial = text(&bytes[4..end]);
        }
        Ok(identity)
    }

    /// The kind of the disc in it.
    pub(crate) fn profile(&mut self) -> Result<Option<u16>> {
        Ok(self
            .ask::<8>(&commands::get_configuration(0, 8))?
            .map(|(bytes, _)| be16(&bytes, 6))
            .filter(|own| *own != 0))
    }

    /// The kind of the disc, where it is known here.
    pub(crate) fn kind(&mut self) -> Result<Option<DiscKind>> {
        Ok(self.profile()?.and_then(DiscKind::of_profile))
    }

    /// Waits until it is ready, for at most `limit`, and says how far it is, of 65,536. False if there is no disc. What was
    /// begun cannot be taken back, and is waited for even when somebody wants to stop.
    pub(crate) fn wait(&mut self, limit: Duration, told: &mut dyn FnMut(u16)) -> Result<bool> {
        let command = commands::test_unit_ready();
        let mut waited = Duration::ZERO;
        loop {
            match self.send(&command, Data::None, SHORT)? {
                Answer::Good(_) => return Ok(true),
                Answer::Check(sense) if sense.is_empty() => return Ok(false),
                Answer::Check(sense) if sense.is_busy() && waited < limit => {
                    sense.progress.into_iter().for_each(&mut *told);
                    self.device.pause(STEP);
                    waited += STEP;
                }
                Answer::Check(sense) => return Err(self.refused(&command, sense)),
            }
        }
    }

    /// Writes blocks; while its buffer is full it is asked again.
    pub(crate) fn write(&mut self, block: u32, bytes: &[u8]) -> Result<()> {
        let command = commands::write_blocks(block, (bytes.len() as u64 / crate::BLOCK) as u16);
        for _ in 0..FULL_TRIES {
            match self.send(&command, Data::Out(bytes), LONG)? {
                Answer::Good(_) => return Ok(()),
                Answer::Check(sense) if sense.is_busy() => self.device.pause(FULL),
                Answer::Check(sense) => {
                    let error = self.refused(&command, sense);
                    return Err(Error::failed(format!("block {block}: {error}"), error.hint()));
                }
            }
        }
        Err(self.refused(&command, Sense::new(2, 4, 8)))
    }

    /// Reads blocks.
    pub(crate) fn read(&mut self, block: u32, buffer: &mut [u8]) -> Result<()> {
        let wanted = buffer.len();
        let command = commands::read_blocks(block, (wanted as u64 / crate::BLOCK) as u16);
        let read = self.run(&command, Data::In(buffer)).map_err(|error| {
            let hint = error.hint();
            Error::failed(format!("block {block}: {error}"), hint)
        })?;
        if read < wanted {
            return Err(Error::failed(
                format!("{}: {read} bytes came of {wanted} at block {block}", self.device.name()),
                "read it again; the disc or the drive may be faulty",
            ));
        }
        Ok(())
    }
}

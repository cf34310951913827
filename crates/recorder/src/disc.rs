//! What lies in a writer.

use crate::{BLOCK, DiscKind, Unit, commands, kind::Way, unit::be32};
use neat_content::Result;
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// How long a writer may take until it knows the disc that was put in.
const INSERTED: Duration = Duration::from_secs(90);

/// What is on a disc.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum DiscState {
    /// Nothing.
    Empty,
    /// Nothing, and it has to be formatted before it can be written.
    Unformatted,
    /// Something, and more could be added.
    Appendable,
    /// Something.
    Written,
}

/// A disc in a writer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Disc {
    /// Kind; nothing where it is one that is not known here.
    pub kind: Option<DiscKind>,
    /// What is on it.
    pub state: DiscState,
    /// Whether it can be written again.
    pub rewritable: bool,
    /// Bytes that it can hold from its beginning; nothing where that is not said.
    pub capacity: Option<u64>,
    /// Bytes that are on it; nothing where that is not said.
    pub used: Option<u64>,
    /// Speeds of writing that it can be given, in kilobytes a second, the fastest first.
    pub speeds: Vec<u32>,
}

/// A descriptor of `READ FORMAT CAPACITIES`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Format {
    pub blocks: u32,
    /// Type of a format that is offered.
    pub kind: u8,
    pub parameter: u32,
}

/// The current descriptor and those that are offered.
pub(crate) struct Formats {
    /// 1: not formatted; 2: formatted; 3: no disc, or not known.
    pub state: u8,
    pub blocks: u32,
    pub offered: Vec<Format>,
}

/// A disc's information (MMC-5, 6.22.3).
pub(crate) struct Information {
    /// 0 empty, 1 incomplete, 2 complete, 3 other.
    pub status: u8,
    pub is_erasable: bool,
    pub last_track: u16,
}

impl Unit<'_> {
    pub(crate) fn information(&mut self) -> Result<Option<Information>> {
        let answer = self.ask::<34>(&commands::read_disc_information(34))?.filter(|(_, len)| *len >= 12);
        Ok(answer.map(|(bytes, _)| Information {
            status: bytes[2] & 3,
            is_erasable: bytes[2] & 0x10 != 0,
            last_track: u16::from_be_bytes([bytes[11], bytes[6]]),
        }))
    }

    /// The next address that can be written, and how many blocks are free from there.
    pub(crate) fn room(&mut self, kind: DiscKind, information: &Information) -> Result<Option<(u32, u32)>> {
        // What grows has a track already; else it is the one that is not there yet.
        let track = match kind.way() {
            Way::Growing => u32::from(information.last_track.max(1)),
            _ => 0xFF,
        };
        let answer = self.ask::<40>(&commands::read_track_information(track, 40))?;
        Ok(answer.filter(|(_, len)| *len >= 20).map(|(bytes, _)| {
            /// The next address is valid.
            const VALID: u8 = 1;
            let next = if bytes[7] & VALID != 0 { be32(&bytes, 12) } else { be32(&bytes, 8) };
            (next, be32(&bytes, 16))
        }))
    }

    pub(crate) fn formats(&mut self) -> Result<Option<Formats>> {
        let answer = self.ask::<252>(&commands::read_format_capacities(252))?.filter(|(_, len)| *len >= 12);
        Ok(answer.map(|(bytes, len)| {
            let end = (4 + usize::from(bytes[3])).min(len);
            let offered = bytes.get(12..end).unwrap_or_default().chunks_exact(8);
            let format = |own: &[u8]| Format {
                blocks: be32(own, 0),
                kind: own[4] >> 2,
                parameter: be32(own, 4) & 0xFF_FFFF,
            };
            Formats { state: bytes[8] & 3, blocks: be32(&bytes, 4), offered: offered.map(format).collect() }
        }))
    }

    fn speeds(&mut self) -> Result<Vec<u32>> {
        const MOST: usize = 32;
        let Some((bytes, len)) = self.ask::<{ 8 + 16 * MOST }>(&commands::get_write_speeds(MOST as u16))?
        else {
            return Ok(Vec::new());
        };
        let rows = bytes.get(8..len).unwrap_or_default().chunks_exact(16);
        let mut speeds: Vec<u32> = rows.map(|row| be32(row, 12)).filter(|own| *own > 0).collect();
        speeds.sort_unstable_by(|a, b| b.cmp(a));
        speeds.dedup();
        Ok(speeds)
    }
}

impl Disc {
    /// Looks at the disc in a writer; nothing if there is none. Writes nothing.
    ///
    /// # Errors
    /// What the system refuses, and what the writer says of a disc that it cannot use.
    pub fn in_writer(unit: &mut Unit<'_>) -> Result<Option<Self>> {
        if !unit.wait(INSERTED, &mut |_| ())? {
            return Ok(None);
        }
        let kind = unit.kind()?;
        let information = unit.information()?;
        let mut disc = Self {
            kind,
            state: DiscState::Written,
            rewritable: kind.is_some_and(DiscKind::is_rewritable),
            capacity: None,
            used: None,
            speeds: unit.speeds()?,
        };
        let mut bytes = [0; 8];
        let capacity = unit.try_run(&commands::read_capacity(), crate::Data::In(&mut bytes))?;
        disc.used = capacity.filter(|len| *len >= 8).map(|_| (u64::from(be32(&bytes, 0)) + 1) * BLOCK);
        let (Some(kind), Some(information)) = (kind, information) else { return Ok(Some(disc)) };
        disc.rewritable &= information.is_erasable || kind.way() == Way::Anywhere;
        match kind.way() {
            Way::Never => {}
            Way::Anywhere => {
                if let Some(formats) = unit.formats()? {
                    let is_formatted = formats.state == 2;
                    let blocks = formats.offered.iter().map(|own| own.blocks).chain([formats.blocks]);
                    disc.capacity = blocks.max().map(|own| u64::from(own) * BLOCK);
                    disc.state = if is_formatted { DiscState::Written } else { DiscState::Unformatted };
                }
                // What says of itself that it is empty has never been written, formatted or not.
                if information.status == 0 && disc.state == DiscState::Written {
                    disc.state = DiscState::Empty;
                }
            }
            _ => {
                disc.state = match information.status {
                    0 => DiscState::Empty,
                    1 => DiscState::Appendable,
                    _ => DiscState::Written,
                };
                if disc.state == DiscState::Empty {
                    disc.used = Some(0);
                    disc.capacity =
                        unit.room(kind, &information)?.map(|(_, blocks)| u64::from(blocks) * BLOCK);
                } else if let Some(formats) = unit.formats()?.filter(|_| disc.rewritable) {
                    disc.capacity = formats.offered.iter().map(|own| u64::from(own.blocks) * BLOCK).max();
                }
            }
        }
        Ok(Some(disc))
    }

    /// In words.
    pub fn words(&self) -> String {
        let kind = self.kind.map_or("a disc of another kind", DiscKind::label);
        let state = match self.state {
            DiscState::Empty => "empty",
            DiscState::Unformatted => "not formatted",
            DiscState::Appendable => "with room for more",
            DiscState::Written => "written",
        };
        let rewritable = if self.rewritable { ", can be written again" } else { "" };
        format!("{kind}, {state}{rewritable}")
    }
}

//! What a simulated writer answers to each command.

use super::{
    Fault, SimulatedWriter,
    medium::{BAD_FIELD, BAD_LIST, BAD_ORDER, OUT_OF_RANGE, PAGE},
};
use crate::{Data, DiscState, Sense, kind::Way};
use std::{io, os::unix::fs::FileExt};

const BLOCK: u64 = crate::BLOCK;
const NO_DISC: Sense = Sense::new(2, 0x3A, 0);
const AT_WORK: Sense = Sense::new(2, 4, 7);
const BUFFER_FULL: Sense = Sense::new(2, 4, 8);
const UNKNOWN: Sense = Sense::new(5, 0x20, 0);

/// Protection against empty buffers.
const BUFE: u8 = 0x40;

type Said = Result<usize, Sense>;

/// Gives as much of an answer as was asked for.
fn give(data: Data<'_>, answer: &[u8]) -> Said {
    let Data::In(buffer) = data else { return Err(BAD_FIELD) };
    let len = buffer.len().min(answer.len());
    buffer[..len].copy_from_slice(&answer[..len]);
    Ok(len)
}

fn sent<'a>(data: &Data<'a>) -> Result<&'a [u8], Sense> {
    if let Data::Out(bytes) = data { Ok(bytes) } else { Err(BAD_LIST) }
}

fn padded(text: &str, len: usize) -> Vec<u8> {
    let mut bytes: Vec<u8> = text.bytes().take(len).collect();
    bytes.resize(len, b' ');
    bytes
}

impl SimulatedWriter {
    pub(super) fn answer(&mut self, command: &[u8], data: Data<'_>) -> io::Result<Said> {
        let word = |at: usize| {
            command.get(at..at + 4).map_or(0, |own| u32::from_be_bytes([own[0], own[1], own[2], own[3]]))
        };
        let half = |at: usize| command.get(at..at + 2).map_or(0, |own| u16::from_be_bytes([own[0], own[1]]));
        let code = command.first().copied().unwrap_or(0xFF);
        // Who it is, it says with or without a disc, at work or not.
        match code {
            0x12 => return Ok(self.inquiry(command, data)),
            0x46 => return Ok(self.configuration(half(2), data)),
            _ => {}
        }
        if self.is_out || self.medium.is_none() {
            return Ok(Err(NO_DISC));
        }
        if self.working > 0 {
            if code == 0 {
                self.working -= 1;
            }
            let progress = u16::MAX / (self.working as u16 + 2);
            return Ok(Err(Sense { progress: Some(progress), ..AT_WORK }));
        }
        Ok(match code {
            // The speed is taken as it comes.
            0x00 | 0xBB => Ok(0),
            0x04 => {
                let done = sent(&data).and_then(|list| self.disc(|disc| disc.format(list)));
                self.long(done)
            }
            0x1B => self.start_stop(command[4]),
            0x1E => {
                self.is_held = command[4] & 1 != 0;
                Ok(0)
            }
            0x23 => give(data, &self.formats()),
            0x25 => self.capacity(data),
            0x28 => return self.read(word(2), u32::from(half(7)), data),
            0x2A => return self.write(word(2), u32::from(half(7)), &data),
            0x35 => {
                let done = self.disc(|disc| {
                    disc.synchronize();
                    Ok(())
                });
                self.long(done)
            }
            0x51 => give(data, &self.information()),
            0x52 => self.track(word(2), data),
            0x53 => self.disc(|disc| disc.reserve(word(5))).map(|()| 0),
            0x54 => {
                if self.has(Fault::NoCalibration(true)) {
                    Err(UNKNOWN)
                } else {
                    Ok(0)
                }
            }
            0x55 => sent(&data).and_then(|list| self.select(list)),
            0x5A => self.sense_page(data),
            0x5B => {
                let done = self.disc(|disc| disc.close(command[2] & 7, half(4)));
                if done.is_ok() && self.has(Fault::WantsRestart(true)) {
                    self.wants_restart = true;
                }
                self.long(done)
            }
            0xA1 => {
                let done = self.disc(super::Medium::blank);
                self.long(done)
            }
            0xAC => give(data, &self.speeds()),
            0xB6 => sent(&data).and_then(|list| if list.len() == 28 { Ok(0) } else { Err(BAD_LIST) }),
            _ => Err(UNKNOWN),
        })
    }

    fn disc<T>(&mut self, what: impl FnOnce(&mut super::Medium) -> Result<T, Sense>) -> Result<T, Sense> {
        self.medium.as_mut().ok_or(NO_DISC).and_then(what)
    }

    /// Something that goes on after its answer.
    fn long(&mut self, done: Result<(), Sense>) -> Said {
        if done.is_ok() {
            self.begin();
            self.keep();
        }
        done.map(|()| 0)
    }

    fn inquiry(&self, command: &[u8], data: Data<'_>) -> Said {
        if command[1] & 1 == 0 {
            // Type 5, removable, SPC-3, 31 more bytes.
            let mut answer = vec![0x05, 0x80, 0x05, 0x32, 31, 0, 0, 0];
            answer.extend(padded(&self.description.maker, 8));
            answer.extend(padded(&self.description.model, 16));
            answer.extend(padded("1.00", 4));
            return give(data, &answer);
        }
        if command[2] != 0x80 || self.description.serial.is_empty() {
            return Err(BAD_FIELD);
        }
        let serial = self.description.serial.as_bytes();
        let mut answer = vec![0x05, 0x80, 0, serial.len() as u8];
        answer.extend_from_slice(serial);
        give(data, &answer)
    }

    fn configuration(&self, feature: u16, data: Data<'_>) -> Said {
        let profile = self.medium.as_ref().filter(|_| !self.is_out).map_or(0, |own| own.kind.profile());
        let mut answer = vec![0; 8];
        answer[6..8].copy_from_slice(&profile.to_be_bytes());
        let serial = self.description.serial.as_bytes();
        if feature == 0x0108 && !serial.is_empty() {
            answer.extend([0x01, 0x08, 0x03, serial.len() as u8]);
            answer.extend_from_slice(serial);
        }
        let len = (answer.len() - 4) as u32;
        answer[..4].copy_from_slice(&len.to_be_bytes());
        give(data, &answer)
    }

    fn information(&self) -> [u8; 34] {
        let mut answer = [0; 34];
        let Some(disc) = &self.medium else { return answer };
        let status = match disc.state {
            _ if disc.kind.way() == Way::Anywhere && disc.next > 0 => 3,
            _ if disc.is_track_open => 1,
            DiscState::Empty | DiscState::Unformatted => 0,
            DiscState::Appendable => 1,
            DiscState::Written => 2,
        };
        answer[1] = 32;
        answer[2] = status | u8::from(disc.kind.is_rewritable()) << 4;
        // First track, sessions, first and last track of the last one.
        (answer[3], answer[4], answer[5], answer[6]) = (1, 1, 1, 1);
        answer
    }

    fn track(&self, number: u32, data: Data<'_>) -> Said {
        let Some(disc) = &self.medium else { return Err(NO_DISC) };
        if !matches!(number, 1 | 0xFF) || disc.state == DiscState::Written {
            return Err(BAD_FIELD);
        }
        let mut answer = [0; 36];
        answer[1] = 34;
        (answer[2], answer[3]) = (1, 1);
        answer[7] = 1;
        answer[12..16].copy_from_slice(&disc.next.to_be_bytes());
        let end = disc.reserved.unwrap_or(disc.blocks);
        answer[16..20].copy_from_slice(&(end - disc.next).to_be_bytes());
        give(data, &answer)
    }

    fn formats(&self) -> Vec<u8> {
        let Some(disc) = &self.medium else { return Vec::new() };
        let is_plain = disc.kind.way() == Way::Anywhere;
        let state = if is_plain && disc.state == DiscState::Unformatted
            || !is_plain && disc.state == DiscState::Empty
        {
            1
        } else {
            2
        };
        let mut answer = vec![0, 0, 0, 16];
        answer.extend(disc.blocks.to_be_bytes());
        answer.extend([state, 0, 8, 0]);
        let kind = if disc.kind == crate::DiscKind::DvdPlusRw { 0x26 } else { 0x00 };
        answer.extend(disc.blocks.to_be_bytes());
        answer.extend([kind << 2, 0, 8, 0]);
        answer
    }

    fn capacity(&self, data: Data<'_>) -> Said {
        let Some(disc) = &self.medium else { return Err(NO_DISC) };
        // What can be written anywhere has all its blocks from the beginning.
        let blocks = if disc.kind.way() == Way::Anywhere { disc.blocks } else { disc.next };
        let mut answer = [0; 8];
        answer[..4].copy_from_slice(&blocks.saturating_sub(1).to_be_bytes());
        answer[4..].copy_from_slice(&(BLOCK as u32).to_be_bytes());
        give(data, &answer)
    }

    fn speeds(&self) -> Vec<u8> {
        let Some(disc) = &self.medium else { return Vec::new() };
        let mut answer = ((4 + 16 * disc.speeds.len()) as u32).to_be_bytes().to_vec();
        answer.extend([0; 4]);
        for speed in &disc.speeds {
            answer.extend([0; 4]);
            answer.extend(disc.blocks.saturating_sub(1).to_be_bytes());
            answer.extend(speed.to_be_bytes());
            answer.extend(speed.to_be_bytes());
        }
        answer
    }

    fn sense_page(&self, data: Data<'_>) -> Said {
        let Some(disc) = &self.medium else { return Err(NO_DISC) };
        let mut answer = vec![0; 8];
        answer[1] = (6 + PAGE) as u8;
        answer.extend(disc.page);
        give(data, &answer)
    }

    fn select(&mut self, list: &[u8]) -> Said {
        let page = list.get(8..8 + PAGE).filter(|page| page[0] == 5 && page[1] == 0x32).ok_or(BAD_LIST)?;
        if page[2] & BUFE != 0 && self.has(Fault::NoProtection(true)) {
            return Err(BAD_LIST);
        }
        self.disc(|disc| {
            if disc.is_track_open {
                return Err(BAD_ORDER);
            }
            disc.page.copy_from_slice(page);
            Ok(0)
        })
    }

    fn start_stop(&mut self, how: u8) -> Said {
        /// It takes the disc out or in.
        const LOAD: u8 = 2;
        if how & LOAD == 0 {
            self.wants_restart &= how & 1 == 0;
            return Ok(0);
        }
        if self.is_held {
            return Err(Sense::new(5, 0x53, 2));
        }
        self.is_out = how & 1 == 0;
        Ok(0)
    }

    fn write(&mut self, start: u32, count: u32, data: &Data<'_>) -> io::Result<Said> {
        let bytes = match sent(data) {
            Ok(bytes) if bytes.len() as u64 == u64::from(count) * BLOCK => bytes,
            _ => return Ok(Err(BAD_FIELD)),
        };
        self.writes += 1;
        let every = self.fault(|own| if let Fault::BufferFull(every) = own { Some(*every) } else { None });
        if every.is_some_and(|every| self.writes.is_multiple_of(every.max(2))) {
            return Ok(Err(BUFFER_FULL));
        }
        if let Err(sense) = self.disc(|disc| disc.may_write(start, count)) {
            return Ok(Err(sense));
        }
        let inside = |at: &u32| (start..start + count).contains(at);
        let at = |find: fn(&Fault) -> Option<u32>| self.fault(find).filter(inside);
        if at(|own| if let Fault::WriteError(at) = own { Some(*at) } else { None }).is_some() {
            return Ok(Err(Sense::new(3, 0x0C, 0)));
        }
        let is_protected = self.medium.as_ref().is_some_and(|disc| {
            // Only what is written in one go can run empty.
            !matches!(disc.kind.way(), Way::TrackAtOnce | Way::DiscAtOnce) || disc.page[2] & 0x40 != 0
        });
        if at(|own| if let Fault::RunsEmpty(at) = own { Some(*at) } else { None }).is_some() && !is_protected
        {
            return Ok(Err(Sense::new(3, 0x0C, 9)));
        }
        let gone = at(|own| if let Fault::TakenOut(at) = own { Some(*at) } else { None });
        if gone.is_some() {
            self.is_out = true;
            return Ok(Err(NO_DISC));
        }
        self.file.write_all_at(bytes, u64::from(start) * BLOCK)?;
        Ok(Ok(bytes.len()))
    }

    fn read(&mut self, start: u32, count: u32, data: Data<'_>) -> io::Result<Said> {
        let Data::In(buffer) = data else { return Ok(Err(BAD_FIELD)) };
        let Some(disc) = &self.medium else { return Ok(Err(NO_DISC)) };
        let there = if disc.kind.way() == Way::Anywhere { disc.blocks } else { disc.next };
        // The last two blocks of a CD's track are no data.
        let there = if disc.kind.way() == Way::TrackAtOnce { there.saturating_sub(2) } else { there };
        if self.wants_restart || disc.is_track_open || start + count > there {
            return Ok(Err(OUT_OF_RANGE));
        }
        let inside = |at: &u32| (start..start + count).contains(at);
        let at = |find: fn(&Fault) -> Option<u32>| self.fault(find).filter(inside);
        if at(|own| if let Fault::ReadError(at) = own { Some(*at) } else { None }).is_some() {
            return Ok(Err(Sense::new(3, 0x11, 5)));
        }
        let mut done = 0;
        while done < buffer.len() {
            match self.file.read_at(&mut buffer[done..], u64::from(start) * BLOCK + done as u64)? {
                // What was never written is zero.
                0 => {
                    buffer[done..].fill(0);
                    done = buffer.len();
                }
                read => done += read,
            }
        }
        if let Some(at) = at(|own| if let Fault::WrongRead(at) = own { Some(*at) } else { None }) {
            buffer[(u64::from(at - start) * BLOCK) as usize] ^= 0x10;
        }
        Ok(Ok(buffer.len()))
    }
}

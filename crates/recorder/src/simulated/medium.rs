//! The disc in a simulated writer: what may be done to it next.

use super::DiscDescription;
use crate::{DiscKind, DiscState, Sense, kind::Way};

/// Refusals (MMC-5, annex F).
pub(super) const OUT_OF_RANGE: Sense = Sense::new(5, 0x21, 0);
pub(super) const NOT_NEXT: Sense = Sense::new(5, 0x21, 2);
pub(super) const BAD_FIELD: Sense = Sense::new(5, 0x24, 0);
pub(super) const BAD_LIST: Sense = Sense::new(5, 0x26, 0);
pub(super) const BAD_ORDER: Sense = Sense::new(5, 0x2C, 0);
pub(super) const BAD_DISC: Sense = Sense::new(5, 0x30, 5);
pub(super) const BAD_MODE: Sense = Sense::new(5, 0x64, 0);
pub(super) const OPEN_TRACK: Sense = Sense::new(5, 0x72, 3);
pub(super) const NOT_FORMATTED: Sense = Sense::new(3, 0x31, 0);

/// Bytes of the page of write parameters, with its head.
pub(super) const PAGE: usize = 2 + 0x32;

/// A disc.
#[derive(Clone, Debug)]
pub(super) struct Medium {
    pub kind: DiscKind,
    pub blocks: u32,
    pub state: DiscState,
    /// The next block, or how many are written.
    pub next: u32,
    /// Blocks that are reserved.
    pub reserved: Option<u32>,
    /// Whether a track was begun and not closed.
    pub is_track_open: bool,
    /// Whether something is in the buffer that is not on the disc.
    pub is_dirty: bool,
    /// The page of write parameters.
    pub page: [u8; PAGE],
    pub speeds: Vec<u32>,
}

impl Medium {
    pub fn new(disc: &DiscDescription) -> Self {
        let mut page = [0; PAGE];
        (page[0], page[1]) = (0x05, 0x32);
        // What a writer begins with: packets, and another session to come.
        (page[3], page[4]) = (0xC5, 0x08);
        Self {
            kind: disc.kind,
            blocks: disc.blocks,
            state: disc.state,
            next: disc.used,
            reserved: None,
            is_track_open: false,
            is_dirty: false,
            page,
            speeds: disc.speeds.clone(),
        }
    }

    /// Puts what became of it into its description.
    pub fn describe(&self, disc: &mut DiscDescription) {
        disc.kind = self.kind;
        disc.state = if self.is_track_open { DiscState::Appendable } else { self.state };
        disc.used = self.next;
    }

    fn way(&self) -> Way {
        self.kind.way()
    }

    /// Whether blocks may be written there now.
    pub fn may_write(&mut self, start: u32, count: u32) -> Result<(), Sense> {
        let end = start.checked_add(count).filter(|end| *end <= self.blocks).ok_or(OUT_OF_RANGE)?;
        let write_type = self.page[2] & 0x0F;
        match self.way() {
            Way::Never => return Err(BAD_DISC),
            Way::Anywhere => {
                if self.state == DiscState::Unformatted {
                    return Err(NOT_FORMATTED);
                }
                self.next = self.next.max(end);
                self.state = DiscState::Written;
                self.is_dirty = true;
                return Ok(());
            }
            Way::TrackAtOnce => {
                // A track at once, of data, in blocks of mode 1.
                if write_type != 1 || self.page[3] & 0x0F != 4 || self.page[4] & 0x0F != 8 {
                    return Err(BAD_MODE);
                }
            }
            Way::DiscAtOnce => {
                if write_type == 2 && self.reserved.is_none() {
                    return Err(BAD_ORDER);
                }
                if !matches!(write_type, 0 | 2) || self.page[4] & 0x0F != 8 {
                    return Err(BAD_MODE);
                }
                if self.reserved.is_some_and(|blocks| end > blocks) {
                    return Err(OUT_OF_RANGE);
                }
            }
            Way::Growing => {}
        }
        if self.state == DiscState::Written {
            return Err(BAD_DISC);
        }
        if start != self.next {
            return Err(NOT_NEXT);
        }
        self.next = end;
        self.is_track_open = true;
        self.is_dirty = true;
        Ok(())
    }

    pub fn reserve(&mut self, blocks: u32) -> Result<(), Sense> {
        let is_wanted = self.way() == Way::DiscAtOnce && self.page[2] & 0x0F == 2;
        if !is_wanted || self.state != DiscState::Empty || self.is_track_open {
            return Err(BAD_ORDER);
        }
        if blocks == 0 || blocks > self.blocks || !u64::from(blocks).is_multiple_of(self.kind.unit()) {
            return Err(BAD_FIELD);
        }
        self.reserved = Some(blocks);
        Ok(())
    }

    /// What is in the buffer goes onto the disc; one that was reserved in its whole length is complete with its last block.
    pub fn synchronize(&mut self) {
        self.is_dirty = false;
        if self.reserved.is_some_and(|blocks| blocks == self.next) {
            self.is_track_open = false;
            self.reserved = None;
            self.state = DiscState::Written;
        }
    }

    pub fn close(&mut self, function: u8, track: u16) -> Result<(), Sense> {
        if self.is_dirty {
            return Err(BAD_ORDER);
        }
        match (function, self.way()) {
            (1, Way::TrackAtOnce | Way::Growing | Way::DiscAtOnce) => {
                if track != 1 || !self.is_track_open {
                    return Err(BAD_FIELD);
                }
                self.is_track_open = false;
                self.state = DiscState::Appendable;
                Ok(())
            }
            (2, Way::TrackAtOnce | Way::DiscAtOnce) | (2 | 6, Way::Growing) => {
                if self.is_track_open {
                    return Err(OPEN_TRACK);
                }
                // No session comes after one that says so; what grows stays open until all of it is closed.
                let is_last = match self.way() {
                    Way::Growing => function == 6,
                    _ => self.page[3] & 0xC0 == 0,
                };
                self.state = if is_last { DiscState::Written } else { DiscState::Appendable };
                Ok(())
            }
            (2, Way::Anywhere) if self.kind == DiscKind::DvdPlusRw => Ok(()),
            _ => Err(BAD_FIELD),
        }
    }

    pub fn blank(&mut self) -> Result<(), Sense> {
        if !self.kind.is_blanked() {
            return Err(BAD_DISC);
        }
        // One that was overwritten is one that is written from beginning to end afterwards.
        if self.kind == DiscKind::DvdRwOver {
            self.kind = DiscKind::DvdRw;
        }
        self.state = DiscState::Empty;
        self.next = 0;
        self.reserved = None;
        self.is_track_open = false;
        Ok(())
    }

    pub fn format(&mut self, list: &[u8]) -> Result<(), Sense> {
        if self.way() != Way::Anywhere {
            return Err(BAD_DISC);
        }
        let wanted = if self.kind == DiscKind::DvdPlusRw { 0x26 } else { 0x00 };
        let blocks = list.get(4..8).map(|own| u32::from_be_bytes([own[0], own[1], own[2], own[3]]));
        // Immediately, one descriptor, of the kind and size that is offered.
        let is_one = list.len() == 12 && list[1] & 0x02 != 0 && list[3] == 8 && list[8] >> 2 == wanted;
        if !is_one || blocks != Some(self.blocks) {
            return Err(BAD_LIST);
        }
        self.state = DiscState::Empty;
        self.next = 0;
        Ok(())
    }
}

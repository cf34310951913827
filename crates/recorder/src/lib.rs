//! Disc writers: which there are, what lies in them, erasing it, writing a disc and reading it back.
//!
//! The commands are those of the published MMC standard (INCITS 430, MMC-5) and of SPC and SBC, which it builds on. Whatever
//! takes them is a [`PacketDevice`]: a writer of this machine through the kernel's generic SCSI interface
//! ([`kernel::KernelWriter`]), or one that is not there ([`simulated::SimulatedWriter`]), which answers as the standard says
//! and with whatever faults a test or a rehearsal wants.
//!
//! [`writers::list`] finds the writers of a machine, [`Disc::in_writer`] says what lies in one, [`write::disc`] writes.

#![warn(clippy::missing_errors_doc)]
#![deny(unsafe_code)]

/// The crate whose types stand in the signatures here.
pub use neat_content;

pub mod commands;
pub mod disc;
pub mod erase;
pub mod guard;
pub mod kernel;
pub mod kind;
mod plan;
mod sense;
pub mod simulated;
mod unit;
pub mod write;
pub mod writers;

pub use disc::{Disc, DiscState};
pub use kind::DiscKind;
pub use sense::Sense;
pub use unit::Unit;

use std::{io, time::Duration};

/// Bytes of a block of data on every disc.
pub const BLOCK: u64 = 2048;

/// The data of a command, and which way they go.
#[derive(Debug)]
pub enum Data<'a> {
    /// There are none.
    None,
    /// From the device.
    In(&'a mut [u8]),
    /// To the device.
    Out(&'a [u8]),
}

/// What a device answers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answer {
    /// It was done; so many bytes came.
    Good(usize),
    /// It was not, and this is why.
    Check(Sense),
}

/// Something that takes commands of the standard.
pub trait PacketDevice {
    /// What a person calls it.
    fn name(&self) -> String;

    /// Sends a command and waits for its end, for at most `limit`.
    ///
    /// # Errors
    /// What the system refuses; what the device refuses is [`Answer::Check`].
    fn send(&mut self, command: &[u8], data: Data<'_>, limit: Duration) -> io::Result<Answer>;

    /// Waits until a device that is busy may be asked again.
    fn pause(&mut self, time: Duration) {
        std::thread::sleep(time);
    }
}

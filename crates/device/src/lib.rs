//! Sticks as devices: which there are, whether one may be erased, writing it and reading it back.
//!
//! [`disks::list`] finds the disks of a machine and [`guard::check`] says whether one may be erased. [`write::stick`]
//! writes a planned stick to anything that is a [`Device`]: a [`block::BlockDevice`] of this machine, or a
//! [`simulated::Simulated`] one with whatever faults a test or a rehearsal wants. The partition table is written last, so
//! that a stick which was not finished does not look like one.

pub mod block;
mod buffer;
pub mod disks;
pub mod file;
pub mod guard;
mod reread;
pub mod simulated;
pub mod update;
pub mod write;

use std::io;

/// Something that can be written like a disk. Positions and lengths are multiples of [`Device::block_len`].
pub trait Device {
    /// What a person calls it.
    fn name(&self) -> String;

    /// Bytes that it says it has.
    fn len(&self) -> u64;

    /// Whether it has none.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Bytes of a block.
    fn block_len(&self) -> u64;

    /// Reads at `offset`, from the medium and not from a copy in memory. Gives how many bytes were read.
    fn read_at(&mut self, offset: u64, buffer: &mut [u8]) -> io::Result<usize>;

    /// Writes at `offset`. Gives how many bytes were written.
    fn write_at(&mut self, offset: u64, bytes: &[u8]) -> io::Result<usize>;

    /// Waits until all that was written is on the medium.
    fn flush(&mut self) -> io::Result<()>;

    /// Has the system read the partition table again.
    fn announce(&mut self) -> io::Result<()> {
        Ok(())
    }
}

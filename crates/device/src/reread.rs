//! Having the kernel read a partition table again.
//!
//! Until it does, the partitions that it offers to mount are those of the table that was there before, over files that
//! are no longer there. The only way to ask is a request to the driver (`BLKRRPART`, linux/fs.h), for which no crate of
//! ours has a safe function.

use rustix::{
    io::Result,
    ioctl::{NoArg, Opcode, ioctl, opcode},
};
use std::fs::File;

/// `_IO(0x12, 95)`.
const READ_TABLE_AGAIN: Opcode = opcode::none(0x12, 95);

/// Asks for it. The kernel refuses when somebody uses a partition, and users who may not administer disks.
#[allow(unsafe_code, reason = "a request without argument, which cannot touch our memory")]
pub(crate) fn partition_table(disk: &File) -> Result<()> {
    // SAFETY: the request takes no argument, so the kernel neither reads nor writes memory of this process, whatever
    // kind of file this is.
    unsafe { ioctl(disk, NoArg::<READ_TABLE_AGAIN>::new()) }
}

//! What goes onto a disc, and whether it fits.

use crate::{BLOCK, Disc, DiscKind, DiscState, kind::Way};
use neat_content::{Error, Result};

/// Blocks of zeros behind the data of a CD. Reading ahead stumbles over the last two blocks of a track, which are no data
/// (MMC-5, 4.2.3.6.3), and systems read ahead by up to 150 blocks.
const BEHIND: u64 = 150;

/// How a disc will be written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Plan {
    pub kind: DiscKind,
    /// Blocks of the image.
    pub data: u64,
    /// All blocks that are written; behind the data they are zeros.
    pub blocks: u64,
}

impl Plan {
    /// Lays out `len` bytes for a disc that was erased where it has to be.
    pub fn new(len: u64, disc: &Disc, name: &str) -> Result<Self> {
        let Some(kind) = disc.kind.filter(|own| own.way() != Way::Never) else {
            return Err(Error::refused(
                format!("{name}: its disc ({}) cannot be written", disc.words()),
                "put in one that can be",
            ));
        };
        if len == 0 {
            return Err(Error::request("there is nothing to write: the image is empty", "name an ISO file"));
        }
        let data = len.div_ceil(BLOCK);
        let behind = if kind.way() == Way::TrackAtOnce { BEHIND } else { 0 };
        let plan = Self { kind, data, blocks: (data + behind).next_multiple_of(kind.unit()) };
        if plan.blocks > u64::from(u32::MAX) {
            return Err(Error::request("no disc is as large as the image", "write a smaller one"));
        }
        if let Some(capacity) = disc.capacity
            && plan.blocks * BLOCK > capacity
        {
            let missing = (plan.blocks * BLOCK - capacity).div_ceil(1 << 20);
            return Err(Error::refused(
                format!("{name}: the {} in it is too small by {missing} MiB", kind.label()),
                "put in a larger one, or take something out of the media",
            ));
        }
        Ok(plan)
    }
}

/// Whether a disc has to be erased before it can be written from its beginning.
pub(crate) fn needs_erasing(disc: &Disc) -> bool {
    let is_used = matches!(disc.state, DiscState::Appendable | DiscState::Written);
    disc.kind.is_some_and(DiscKind::is_blanked) && is_used
}

/// Whether something on a disc is lost when it is written.
pub(crate) fn loses(disc: &Disc) -> bool {
    matches!(disc.state, DiscState::Appendable | DiscState::Written)
}

//! Erasing discs that can be written again.

use crate::{Data, Disc, DiscKind, Unit, commands};
use neat_content::{Error, Event, Job, Result};
use std::time::Duration;

/// How long erasing may take: a BD-RE is formatted for hours where all of it is.
const LIMIT: Duration = Duration::from_secs(4 * 3600);

/// Format types (MMC-5, 6.5.4.2).
const FULL: u8 = 0x00;
const DVD_PLUS_RW: u8 = 0x26;

/// Erases the disc: quickly what says what is on it, or all of it where the disc is one that is blanked. Those that are
/// written anywhere are formatted if they are not.
///
/// # Errors
/// `Refused` for a disc that is written once; what the writer says.
pub fn disc(unit: &mut Unit<'_>, disc: &Disc, whole: bool, job: &Job<'_>) -> Result<()> {
    let name = unit.name();
    let Some(kind) = disc.kind.filter(|_| disc.rewritable) else {
        return Err(Error::refused(
            format!("{name}: its disc ({}) cannot be erased", disc.words()),
            "put in one that can be written again",
        ));
    };
    if kind.is_blanked() {
        unit.run(&commands::blank(whole), Data::None)?;
        return finish(unit, "erasing the disc", job);
    }
    format(unit, kind, job)
}

/// Formats a disc that is written anywhere.
pub(crate) fn format(unit: &mut Unit<'_>, kind: DiscKind, job: &Job<'_>) -> Result<()> {
    let name = unit.name();
    let wanted = if kind == DiscKind::DvdPlusRw { DVD_PLUS_RW } else { FULL };
    let formats = unit.formats()?;
    let offered = formats.iter().flat_map(|own| &own.offered).find(|own| own.kind == wanted);
    let Some(format) = offered else {
        return Err(Error::failed(
            format!("{name} offers no format for this {}", kind.label()),
            "try another disc",
        ));
    };
    let (command, parameters) = commands::format_unit(format.blocks, format.kind, format.parameter);
    unit.run(&command, Data::Out(&parameters))?;
    finish(unit, "formatting the disc", job)
}

/// Waits for the end of what was begun.
pub(crate) fn finish(unit: &mut Unit<'_>, step: &str, job: &Job<'_>) -> Result<()> {
    // Progress comes in parts of 65,536.
    job.event(Event::StepStarted { step, total_bytes: Some(1 << 16) });
    let mut last = 0;
    let is_there = unit.wait(LIMIT, &mut |progress| {
        job.event(Event::BytesDone(u64::from(progress.saturating_sub(last))));
        last = last.max(progress);
    })?;
    job.event(Event::StepFinished);
    if is_there {
        Ok(())
    } else {
        Err(unit.refused(&commands::test_unit_ready(), crate::Sense::new(2, 0x3A, 0)))
    }
}

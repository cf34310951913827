//! Writing a disc, and reading it back.
//!
//! The order of commands is that of the standard for each kind of disc (MMC-5, annexes on writing):
//!
//! - CD-R, CD-RW: write parameters for a track at once, calibration, the blocks, the cache, the track, the session.
//! - DVD-R, DVD-RW: write parameters for a disc at once, a track reserved in its whole length, the blocks, the cache.
//! - DVD+R, BD-R: the blocks from the next address, the cache, the track, the disc.
//! - DVD+RW, DVD-RAM, BD-RE: formatted if it is not; the blocks, the cache. A DVD+RW ends its formatting.

use crate::{
    BLOCK, Data, Disc, DiscKind, DiscState, Unit,
    commands::{self, Close},
    erase, guard,
    kind::Way,
    plan::{Plan, needs_erasing},
};
use neat_content::{Content, Error, Event, Job, ReadAt, Result, SourceSet};
use std::{sync::mpsc::sync_channel, thread};

/// Blocks of a command that writes or reads.
const BLOCKS: u64 = 32;
/// Commands that are read ahead: 16 MiB, which bridges a source that stops for a second.
const AHEAD: usize = 256;

/// How a disc is written.
#[derive(Clone, Copy, Debug)]
pub struct Options {
    /// Whether it is read back and compared.
    pub verify: bool,
    /// How many times as fast as the slowest speed of its kind; without it the fastest.
    pub speed: Option<f64>,
    /// Whether it is put out when everything is done.
    pub eject: bool,
}

impl Default for Options {
    fn default() -> Self {
        Self { verify: true, speed: None, eject: true }
    }
}

/// What was done.
#[derive(Clone, Debug, PartialEq)]
pub struct Outcome {
    /// Kind of the disc.
    pub kind: DiscKind,
    /// Whether something was erased first.
    pub erased: bool,
    /// Bytes of the image.
    pub written: u64,
    /// Bytes of zeros behind it.
    pub behind: u64,
    /// Bytes read back and found right; 0 without verifying.
    pub compared: u64,
    /// Kilobytes in a second that the writer was told, if it was told any.
    pub speed: Option<u32>,
}

/// Writes an image to the disc in a writer, from its beginning. What is on a disc that can be written again is lost; consent is
/// for [`guard::check`].
///
/// # Errors
/// `Refused` before anything is done, when there is no disc or it does not fit. Else what the writer says, with the block; a
/// disc that is written once is spoilt then.
pub fn disc(unit: &mut Unit<'_>, image: &Content, options: Options, job: &Job<'_>) -> Result<Outcome> {
    let name = unit.name();
    let there = Disc::in_writer(unit)?;
    guard::check_use(&name, there.as_ref())?;
    let Some(mut disc) = there else { return Err(Error::internal("a disc that is gone was checked")) };
    Plan::new(image.len(), &disc, &name)?;
    let erased = needs_erasing(&disc) || disc.state == DiscState::Written;
    if needs_erasing(&disc) {
        erase::disc(unit, &disc, false, job)?;
        disc = again(unit, &name)?;
    }
    if let (DiscState::Unformatted, Some(kind)) = (disc.state, disc.kind) {
        erase::format(unit, kind, job)?;
        disc = again(unit, &name)?;
    }
    let plan = Plan::new(image.len(), &disc, &name)?;
    unit.run(&commands::prevent_removal(true), Data::None)?;
    let done = write_and_compare(unit, image, &plan, &disc, options, job);
    // Whatever happened, the disc can be taken out.
    let let_go = unit.run(&commands::prevent_removal(false), Data::None);
    let (compared, speed) = done.map_err(|error| spoilt(error, plan.kind))?;
    let_go?;
    if options.eject {
        unit.run(&commands::eject(), Data::None)?;
    }
    Ok(Outcome {
        kind: plan.kind,
        erased,
        written: image.len(),
        behind: plan.blocks * BLOCK - image.len(),
        compared,
        speed,
    })
}

fn again(unit: &mut Unit<'_>, name: &str) -> Result<Disc> {
    Disc::in_writer(unit)?.ok_or_else(|| {
        Error::failed(format!("{name} has no disc in it any more"), "put it back, and try again")
    })
}

/// Says of a disc that is written once what became of it.
fn spoilt(error: Error, kind: DiscKind) -> Error {
    if kind.is_rewritable() || matches!(error, Error::Cancelled) {
        return error;
    }
    let hint = error.hint().to_string();
    Error::failed(error.to_string(), format!("{hint}; this {} cannot be used again", kind.label()))
}

fn write_and_compare(
    unit: &mut Unit<'_>,
    image: &Content,
    plan: &Plan,
    disc: &Disc,
    options: Options,
    job: &Job<'_>,
) -> Result<(u64, Option<u32>)> {
    let speed = options.speed.map(|times| set_speed(unit, plan, disc, times)).transpose()?;
    let way = plan.kind.way();
    if matches!(way, Way::TrackAtOnce | Way::DiscAtOnce) {
        set_parameters(unit, plan.kind)?;
        // Those that calibrate by themselves do not know it.
        unit.try_run(&commands::send_opc(), Data::None)?;
    }
    if way == Way::DiscAtOnce {
        unit.run(&commands::reserve_track(plan.blocks as u32), Data::None)?;
    }
    let information = unit.information()?;
    let start = match (way, &information) {
        (Way::Anywhere, _) | (_, None) => 0,
        (_, Some(information)) => unit.room(plan.kind, information)?.map_or(0, |(next, _)| next),
    };
    write_blocks(unit, image, plan, start, job)?;
    unit.run(&commands::synchronize_cache(), Data::None)?;
    erase::finish(unit, "emptying the writer's buffer", job)?;
    let track = information.map_or(1, |own| own.last_track.max(1));
    let closes: &[Close] = match way {
        Way::TrackAtOnce => &[Close::Track(track), Close::Session],
        Way::Growing => &[Close::Track(track), Close::Disc],
        Way::Anywhere if plan.kind == DiscKind::DvdPlusRw => &[Close::Session],
        // One that was reserved in its whole length is closed with its last block.
        _ => &[],
    };
    for what in closes {
        unit.run(&commands::close(*what), Data::None)?;
        erase::finish(unit, "closing the disc", job)?;
    }
    let mut sources = SourceSet::default();
    sources.add(image);
    sources.check_unchanged()?;
    let compared = if options.verify { compare(unit, image, plan, start, job)? } else { 0 };
    Ok((compared, speed))
}

/// The page of write parameters (MMC-5, 7.5).
fn set_parameters(unit: &mut Unit<'_>, kind: DiscKind) -> Result<()> {
    /// Buffers that run empty spoil nothing.
    const BUFE: u8 = 0x40;
    const HEADER: usize = 8;
    const PAGE: u8 = 5;
    /// Length of the page in every version of the standard: what more there is stays as the writer has it.
    const LEN: usize = 0x32;
    let command = commands::mode_sense_write((HEADER + 2 + 0x3E) as u16);
    let answer = unit.ask::<{ HEADER + 2 + 0x3E }>(&command)?;
    let found = answer.filter(|(bytes, len)| *len >= HEADER + 2 + LEN && bytes[HEADER] & 0x3F == PAGE);
    let Some((bytes, len)) = found else {
        return Err(unit.refused(&command, crate::Sense::new(5, 0x24, 0)));
    };
    let page_len = (2 + usize::from(bytes[HEADER + 1])).min(len - HEADER);
    let mut list = vec![0; HEADER];
    list.extend_from_slice(&bytes[HEADER..HEADER + page_len]);
    let is_cd = kind.way() == Way::TrackAtOnce;
    let page = &mut list[HEADER..];
    page[0] = PAGE;
    // A track, or the whole disc at once.
    page[2] = BUFE | if is_cd { 1 } else { 2 };
    // No session comes after this one; data, written without interruption.
    page[3] = if is_cd { 4 } else { 5 };
    // Blocks of 2,048 bytes in mode 1.
    page[4] = 8;
    page[5] = 0;
    page[8] = 0;
    let select = commands::mode_select(list.len() as u16);
    if unit.try_run(&select, Data::Out(&list))?.is_none() {
        // Old writers know no protection against empty buffers.
        list[HEADER + 2] &= !BUFE;
        unit.run(&select, Data::Out(&list))?;
    }
    Ok(())
}

/// Tells the writer how fast to write; gives kilobytes in a second.
fn set_speed(unit: &mut Unit<'_>, plan: &Plan, disc: &Disc, times: f64) -> Result<u32> {
    if !(times > 0.0 && times < 1000.0) {
        return Err(Error::request(format!("{times} is no speed"), "say it as a number of times, such as 8"));
    }
    // A little more, as writers round what they say.
    let wanted = (plan.kind.single_speed() * times * 1.02) as u32;
    let known = disc.speeds.iter().copied().filter(|own| *own <= wanted).max();
    let speed = known.or(disc.speeds.iter().copied().min()).unwrap_or(wanted);
    if plan.kind.way() == Way::TrackAtOnce {
        unit.run(&commands::set_cd_speed(speed.min(0xFFFF) as u16), Data::None)?;
    } else {
        let (command, descriptor) = commands::set_streaming(plan.blocks as u32, speed);
        unit.run(&command, Data::Out(&descriptor))?;
    }
    Ok(speed)
}

/// The bytes of blocks of the image; behind its end zeros.
fn fill(image: &Content, block: u64, buffer: &mut [u8]) -> Result<()> {
    let start = block * BLOCK;
    let there = image.len().saturating_sub(start).min(buffer.len() as u64) as usize;
    buffer[there..].fill(0);
    if there == 0 { Ok(()) } else { image.read_exact_at(start, &mut buffer[..there]) }
}

fn write_blocks(unit: &mut Unit<'_>, image: &Content, plan: &Plan, start: u32, job: &Job<'_>) -> Result<()> {
    job.event(Event::StepStarted { step: "writing the disc", total_bytes: Some(plan.blocks * BLOCK) });
    let (sender, receiver) = sync_channel::<Result<Vec<u8>>>(AHEAD);
    thread::scope(|scope| {
        // Reading ahead: a writer that waits for data loses time, and an old one the disc.
        scope.spawn(move || {
            for block in (0..plan.blocks).step_by(BLOCKS as usize) {
                let mut buffer = vec![0; ((plan.blocks - block).min(BLOCKS) * BLOCK) as usize];
                let own = fill(image, block, &mut buffer).map(|()| buffer);
                // Nobody takes it any more after a fault.
                if sender.send(own).is_err() {
                    return;
                }
            }
        });
        let mut block = 0;
        for bytes in receiver {
            let bytes = bytes?;
            job.check()?;
            unit.write(start + block as u32, &bytes)?;
            block += bytes.len() as u64 / BLOCK;
            job.event(Event::BytesDone(bytes.len() as u64));
        }
        Ok(())
    })?;
    job.event(Event::StepFinished);
    Ok(())
}

/// Reads the image back from the disc; gives how many bytes of it were compared.
fn compare(unit: &mut Unit<'_>, image: &Content, plan: &Plan, start: u32, job: &Job<'_>) -> Result<u64> {
    job.event(Event::StepStarted { step: "reading it back", total_bytes: Some(image.len()) });
    let mut found = vec![0; (BLOCKS * BLOCK) as usize];
    let mut wanted = found.clone();
    for block in (0..plan.data).step_by(BLOCKS as usize) {
        job.check()?;
        let len = ((plan.data - block).min(BLOCKS) * BLOCK) as usize;
        fill(image, block, &mut wanted[..len])?;
        let first = unit.read(start + block as u32, &mut found[..len]);
        if block == 0 && first.is_err() {
            // Many know what was written only after the disc was stopped and started.
            unit.run(&commands::turn(false), Data::None)?;
            unit.run(&commands::turn(true), Data::None)?;
            erase::finish(unit, "looking at the disc anew", job)?;
            unit.read(start, &mut found[..len])?;
        } else {
            first?;
        }
        if let Some(at) = (0..len).find(|at| found[*at] != wanted[*at]) {
            let byte = block * BLOCK + at as u64;
            return Err(Error::failed(
                format!("{}: the disc has other bytes than the image from byte {byte} on", unit.name()),
                "write another disc, more slowly: --speed",
            ));
        }
        job.event(Event::BytesDone(len as u64));
    }
    job.event(Event::StepFinished);
    Ok(image.len())
}

//! Writing a stick to a device, and reading it back.
//!
//! 1. The beginning and the end are wiped, so that nothing old looks like a stick.
//! 2. Marks are written and looked for: a device that lies about its size or does not keep what is written is found out
//!    before gigabytes are written.
//! 3. Everything but the partition table, in large aligned blocks from the start to the end. Flushed.
//! 4. All of that is read back and compared by digest, each file on its own.
//! 5. The partition table, flushed, read back. From here on it is a stick, and the system is told.

use crate::{Device, buffer::Buffer};
use neat_content::{Error, Event, Job, Result, SourceSet};
use neat_media::{
    fat::volume::Part,
    stick::{ALIGNMENT, SlotKind, StickPlan},
};
use std::{
    hash::{BuildHasher, Hasher, RandomState},
    sync::mpsc::{channel, sync_channel},
    thread,
};

/// Bytes written and read at a time.
const WINDOW: u64 = 4 << 20;
/// Bytes of a mark; as much as the largest block of any disk.
const MARK_LEN: usize = 4096;
/// Each so many bytes of a mark say for themselves where they belong.
const MARK_BLOCK: usize = 512;
/// Bytes of the run of marks at the end.
const RUN_LEN: u64 = 16 << 20;

/// How a stick is written.
#[derive(Clone, Copy, Debug)]
pub struct Options {
    /// Whether it is read back and compared.
    pub verify: bool,
}

impl Default for Options {
    fn default() -> Self {
        Self { verify: true }
    }
}

/// What was done.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Outcome {
    /// Bytes written.
    pub written: u64,
    /// Bytes read back and found right; 0 without verifying.
    pub compared: u64,
    /// Files among them.
    pub files: u64,
    /// Whether the system knows the new partitions.
    pub announced: bool,
}

/// What a part of a slot was when it was written.
struct Check {
    slot: u32,
    offset: u64,
    len: u32,
    digest: [u8; 32],
}

/// Writes `plan` to `device`.
///
/// # Errors
/// `Refused` when the device is too small, nothing is written then. Else every error names the place, and the device
/// has no partition table.
pub fn stick(device: &mut dyn Device, plan: &StickPlan, options: Options, job: &Job<'_>) -> Result<Outcome> {
    if plan.len > device.len() {
        let missing = (plan.len - device.len()).div_ceil(1 << 20);
        return Err(Error::refused(
            format!("{} is too small by {missing} MiB", device.name()),
            "use a larger stick, or take something out",
        ));
    }
    wipe(device)?;
    probe(device, job)?;
    let (checks, written) = write_slots(device, plan, job)?;
    flush(device)?;
    let mut outcome = Outcome { written, compared: 0, files: 0, announced: false };
    if options.verify {
        compare(device, plan, &checks, &mut outcome, job)?;
    }
    let mut sources = SourceSet::default();
    plan.slots.iter().for_each(|slot| sources.add(&slot.content));
    // Without its partition table the stick does not look finished.
    sources.check_unchanged()?;
    write_table(device, plan, options.verify, &mut outcome)?;
    outcome.announced = device.announce().is_ok();
    Ok(outcome)
}

/// An operation at `offset` that failed, in the words of whoever looks for the place.
fn failed(
    device: &dyn Device,
    action: &str,
    place: &str,
    offset: u64,
) -> impl FnOnce(std::io::Error) -> Error + use<> {
    let what = format!("{place}: cannot {action} byte {offset} of {}", device.name());
    move |error| {
        Error::failed(
            format!("{what}: {error}"),
            "the stick is faulty or was pulled out: try again, then with another one",
        )
    }
}

/// Writes all of `bytes`, however little the device takes at a time.
pub(crate) fn write_all(device: &mut dyn Device, place: &str, offset: u64, bytes: &[u8]) -> Result<()> {
    let mut done = 0;
    while done < bytes.len() {
        let at = offset + done as u64;
        let written = device.write_at(at, &bytes[done..]).map_err(failed(device, "write to", place, at))?;
        if written == 0 {
            return Err(failed(device, "write to", place, at)(std::io::ErrorKind::WriteZero.into()));
        }
        done += written;
    }
    Ok(())
}

pub(crate) fn read_all(device: &mut dyn Device, place: &str, offset: u64, buffer: &mut [u8]) -> Result<()> {
    let mut done = 0;
    while done < buffer.len() {
        let at = offset + done as u64;
        let read = device.read_at(at, &mut buffer[done..]).map_err(failed(device, "read back", place, at))?;
        if read == 0 {
            return Err(failed(device, "read back", place, at)(std::io::ErrorKind::UnexpectedEof.into()));
        }
        done += read;
    }
    Ok(())
}

pub(crate) fn flush(device: &mut dyn Device) -> Result<()> {
    let name = device.name();
    device.flush().map_err(|error| {
        Error::failed(
            format!("cannot bring everything onto {name}: {error}"),
            "the stick is faulty or was pulled out: try again, then with another one",
        )
    })
}

/// Zeros where partition tables lie: the beginning, and the end for the backup of a GPT.
fn wipe(device: &mut dyn Device) -> Result<()> {
    let zeros = Buffer::new(ALIGNMENT as usize);
    let end = (device.len() / device.block_len() * device.block_len()).saturating_sub(ALIGNMENT);
    write_all(device, "the old partition table", 0, zeros.as_slice())?;
    write_all(device, "the end of the device", end, zeros.as_slice())?;
    flush(device)
}

/// Finds out whether the device has the bytes that it says it has.
///
/// A forgery begins again at its start behind its true size, whatever that is. So a long run of marks goes to the end, and
/// then every stretch of that length is looked into: wherever the run lands, it is seen. Single marks at powers of two
/// find what is not kept.
fn probe(device: &mut dyn Device, job: &Job<'_>) -> Result<()> {
    let len = device.len() / MARK_LEN as u64 * MARK_LEN as u64;
    let nonce = RandomState::new().build_hasher().finish();
    let run = RUN_LEN.min(len / 4 / MARK_LEN as u64 * MARK_LEN as u64);
    let run_start = len - run;
    let powers: Vec<u64> =
        (20..63).map(|power| 1 << power).filter(|place| place + (MARK_LEN as u64) <= run_start).collect();
    let own_name = "a mark to test the size";
    let mut buffer = Buffer::new(MARK_LEN);
    for place in powers.iter().copied().chain((run_start..len).step_by(MARK_LEN)) {
        mark(&mut buffer, nonce, place);
        write_all(device, own_name, place, buffer.as_slice())?;
    }
    flush(device)?;
    // Where a mark lies that belongs elsewhere.
    let strayed = |buffer: &Buffer, place: u64| {
        let blocks = buffer.as_slice().chunks_exact(MARK_BLOCK).zip((place..).step_by(MARK_BLOCK));
        blocks.filter_map(|(block, at)| Some((at, marked(block, nonce)?))).find(|(at, said)| at != said)
    };
    for place in (0..run_start).step_by(run.max(MARK_LEN as u64) as usize) {
        job.check()?;
        read_all(device, own_name, place, buffer.as_mut_slice())?;
        if let Some((at, said)) = strayed(&buffer, place) {
            return Err(forged(device, said, at));
        }
    }
    let mut wanted = Buffer::new(MARK_LEN);
    for place in powers.into_iter().chain((run_start..len).step_by(MARK_LEN)) {
        read_all(device, own_name, place, buffer.as_mut_slice())?;
        mark(&mut wanted, nonce, place);
        if buffer.as_slice() == wanted.as_slice() {
            continue;
        }
        if let Some((at, said)) = strayed(&buffer, place) {
            return Err(forged(device, said, at));
        }
        let found = format!("{} does not keep what is written at byte {place}", device.name());
        return Err(faulty(found));
    }
    Ok(())
}

/// Fills a mark: every block says where it belongs.
fn mark(buffer: &mut Buffer, nonce: u64, place: u64) {
    for (block, at) in buffer.as_mut_slice().chunks_exact_mut(MARK_BLOCK).zip((place..).step_by(MARK_BLOCK)) {
        for word in block.chunks_exact_mut(16) {
            word[..8].copy_from_slice(&nonce.to_le_bytes());
            word[8..].copy_from_slice(&at.to_le_bytes());
        }
    }
}

/// Where a block says that it belongs, if it is part of a mark.
fn marked(block: &[u8], nonce: u64) -> Option<u64> {
    let (first, rest) = block.split_first_chunk::<8>()?;
    let place = rest.first_chunk::<8>()?;
    (u64::from_le_bytes(*first) == nonce).then(|| u64::from_le_bytes(*place))
}

fn forged(device: &dyn Device, written: u64, found: u64) -> Error {
    faulty(format!(
        "{} lies about its size: it says {} bytes, and what is written at byte {written} lands at byte {found}",
        device.name(),
        device.len()
    ))
}

fn faulty(found: String) -> Error {
    Error::failed(found, "the stick is faulty or a forgery: use another one")
}

/// A window of the device that is being put together.
struct Window {
    buffer: Buffer,
    start: u64,
    used: bool,
    /// What the bytes at its beginning belong to, for errors.
    place: String,
    written: u64,
}

impl Window {
    fn write(&mut self, device: &mut dyn Device, len: u64) -> Result<()> {
        if std::mem::take(&mut self.used) {
            let end = (self.start + WINDOW).min(len);
            let bytes = &self.buffer.as_slice()[..(end - self.start) as usize];
            write_all(device, &self.place, self.start, bytes)?;
            self.written += bytes.len() as u64;
            self.buffer.as_mut_slice().fill(0);
        }
        Ok(())
    }
}

fn write_slots(device: &mut dyn Device, plan: &StickPlan, job: &Job<'_>) -> Result<(Vec<Check>, u64)> {
    job.event(Event::StepStarted { step: "writing the stick", total_bytes: Some(plan.content_len()) });
    let len = device.len() / device.block_len() * device.block_len();
    let mut window = Window {
        buffer: Buffer::new(WINDOW as usize),
        start: 0,
        used: false,
        place: String::new(),
        written: 0,
    };
    let mut checks = Vec::new();
    for (number, slot) in plan.slots.iter().enumerate() {
        if slot.kind == SlotKind::Table {
            continue;
        }
        job.check()?;
        let name = slot.name(&plan.tree);
        let mut at = slot.offset;
        slot.content.for_each_block(WINDOW as usize, job, &mut |block| {
            let mut rest = block;
            while !rest.is_empty() {
                let start = at / WINDOW * WINDOW;
                if start != window.start {
                    window.write(device, len)?;
                    job.check()?;
                    window.start = start;
                }
                if !window.used {
                    window.place.clone_from(&name);
                }
                let inside = (at - start) as usize;
                let (now, later) = rest.split_at(rest.len().min(WINDOW as usize - inside));
                window.buffer.as_mut_slice()[inside..inside + now.len()].copy_from_slice(now);
                window.used = true;
                checks.push(Check {
                    slot: number as u32,
                    offset: at,
                    len: now.len() as u32,
                    digest: *blake3::hash(now).as_bytes(),
                });
                at += now.len() as u64;
                rest = later;
            }
            job.event(Event::BytesDone(block.len() as u64));
            Ok(())
        })?;
    }
    window.write(device, len)?;
    job.event(Event::StepFinished);
    Ok((checks, window.written))
}

/// Reads everything back, window by window. Another thread digests a window while the next one is read, so that this
/// goes as fast as the device.
fn compare(
    device: &mut dyn Device,
    plan: &StickPlan,
    checks: &[Check],
    outcome: &mut Outcome,
    job: &Job<'_>,
) -> Result<()> {
    let total = checks.iter().map(|check| u64::from(check.len)).sum();
    job.event(Event::StepStarted { step: "reading it back", total_bytes: Some(total) });
    let len = device.len() / device.block_len() * device.block_len();
    let block = device.block_len();
    let name = |check: &Check| plan.slots[check.slot as usize].name(&plan.tree);
    let wrong = thread::scope(|scope| {
        let (send_full, full) = sync_channel::<(Buffer, u64, &[Check])>(1);
        let (send_empty, empty) = channel();
        for _ in 0..3 {
            let _ = send_empty.send(Buffer::new(WINDOW as usize));
        }
        let digesting = scope.spawn(move || {
            for (buffer, start, group) in full {
                let is_wrong = |check: &&Check| {
                    let inside = (check.offset - start) as usize;
                    let bytes = &buffer.as_slice()[inside..inside + check.len as usize];
                    blake3::hash(bytes) != check.digest
                };
                if let Some(check) = group.iter().find(is_wrong) {
                    return Some(check);
                }
                let _ = send_empty.send(buffer);
            }
            None
        });
        for group in checks.chunk_by(|a, b| a.offset / WINDOW == b.offset / WINDOW) {
            job.check()?;
            let Some((first, last)) = group.first().zip(group.last()) else { continue };
            let start = first.offset / block * block;
            let end = (last.offset + u64::from(last.len)).next_multiple_of(block).min(len);
            // Nobody at the other end: it has found what is wrong.
            let Ok(mut buffer) = empty.recv() else { break };
            read_all(device, &name(first), start, &mut buffer.as_mut_slice()[..(end - start) as usize])?;
            let bytes: u64 = group.iter().map(|check| u64::from(check.len)).sum();
            if send_full.send((buffer, start, group)).is_err() {
                break;
            }
            outcome.compared += bytes;
            job.event(Event::BytesDone(bytes));
        }
        drop(send_full);
        digesting.join().map_err(|_| Error::internal("the thread that compares gave up"))
    })?;
    if let Some(check) = wrong {
        return Err(differs(device, &name(check), check.offset, u64::from(check.len)));
    }
    let is_file = |slot: &&neat_media::stick::Slot| matches!(slot.kind, SlotKind::Volume(Part::File(_)));
    outcome.files = plan.slots.iter().filter(is_file).count() as u64;
    job.event(Event::StepFinished);
    Ok(())
}

pub(crate) fn differs(device: &dyn Device, place: &str, offset: u64, len: u64) -> Error {
    Error::failed(
        format!(
            "{place}: what is read back between byte {offset} and byte {} of {} is not what was written",
            offset + len,
            device.name()
        ),
        "the stick is faulty: use another one",
    )
}

fn write_table(device: &mut dyn Device, plan: &StickPlan, verify: bool, outcome: &mut Outcome) -> Result<()> {
    const PLACE: &str = "the partition table";
    for slot in plan.slots.iter().filter(|slot| slot.kind == SlotKind::Table) {
        let bytes = slot.content.to_vec(ALIGNMENT, PLACE)?;
        let len = bytes.len().next_multiple_of(device.block_len() as usize);
        let mut buffer = Buffer::new(len);
        buffer.as_mut_slice()[..bytes.len()].copy_from_slice(&bytes);
        write_all(device, PLACE, slot.offset, buffer.as_slice())?;
        flush(device)?;
        outcome.written += len as u64;
        if !verify {
            continue;
        }
        let mut back = Buffer::new(len);
        read_all(device, PLACE, slot.offset, back.as_mut_slice())?;
        if back.as_slice() != buffer.as_slice() {
            // What cannot be read back right is not left looking right either.
            let zeros = Buffer::new(len);
            let _ = write_all(device, PLACE, slot.offset, zeros.as_slice());
            let _ = flush(device);
            return Err(differs(device, PLACE, slot.offset, len as u64));
        }
        outcome.compared += len as u64;
    }
    Ok(())
}
